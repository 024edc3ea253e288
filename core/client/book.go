package client

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"missivum/core/problem"
	"missivum/core/schema"
)

// Book is the profiles of an organisation: those that come with the program, as it overrides them, and its own,
// sorted by id.
type Book []*Profile

// Find returns the profile with an id, or nil.
func (b Book) Find(id string) *Profile {
	for _, p := range b {
		if p.ID == id {
			return p
		}
	}
	return nil
}

// Select returns the profiles with the ids; for no id all that are not switched off.
func (b Book) Select(ids []string) (_ []*Profile, err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	var list []*Profile
	if len(ids) == 0 {
		for _, p := range b {
			if !p.Off {
				list = append(list, p)
			}
		}
		return list, nil
	}
	for _, id := range ids {
		p := b.Find(id)
		if p == nil {
			return nil, fmt.Errorf("there is no client profile %q; there are %s", id, strings.Join(IDs(b), ", "))
		}
		list = append(list, p)
	}
	return list, nil
}

// With adds profiles to the book from files, by their name. One with the id of another takes its place; one that
// is based on another may stand before or behind it. All faults are reported at once, each with its file.
func (b Book) With(files map[string][]byte) (Book, error) {
	book, unreadable := b.WithReadable(files)
	if len(unreadable) == 0 {
		return book, nil
	}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(unreadable)) {
		errs = append(errs, inFile(name, unreadable[name]))
	}
	return nil, errors.Join(errs...)
}

// WithReadable is With, but leaves files that cannot be read out and gives why, by name.
func (b Book) WithReadable(files map[string][]byte) (Book, map[string]error) {
	book := slices.Clone(b)
	left := slices.Sorted(maps.Keys(files))
	unreadable := map[string]error{}
	for before := len(left) + 1; len(left) > 0 && len(left) < before; {
		before = len(left)
		var waiting []string
		clear(unreadable)
		for _, name := range left {
			p, err := book.Parse(files[name])
			if err != nil {
				waiting = append(waiting, name)
				unreadable[name] = err
				continue
			}
			book = book.put(p)
		}
		left = waiting
	}
	sort.Slice(book, func(i, j int) bool { return book[i].ID < book[j].ID })
	return book, unreadable
}

func inFile(name string, err error) error {
	var errs []error
	for _, line := range strings.Split(err.Error(), "\n") {
		errs = append(errs, errors.New(name+": "+line))
	}
	return errors.Join(errs...)
}

// put adds a profile or puts it in the place of the one with its id.
func (b Book) put(p *Profile) Book {
	for i := range b {
		if b[i].ID == p.ID {
			b[i] = p
			return b
		}
	}
	return append(b, p)
}

// overridden lays the members of a file over those of the profile that it is based on: plain members and objects
// by name, limits by what they measure, behaviours by id; those in "without" go.
func overridden(base *Profile, own map[string]any) (any, error) {
	form, ok := schema.Plain(base).(map[string]any)
	if !ok {
		return nil, fmt.Errorf("the profile %s cannot be read", base.ID)
	}
	delete(form, "off")
	for name, value := range own {
		switch name {
		case "limits":
			form[name] = merged(form[name], value, "measure")
		case "behaviours":
			form[name] = merged(form[name], value, "id")
		case "without":
		default:
			form[name] = over(form[name], value)
		}
	}
	for _, id := range listOf(own["without"]) {
		form["behaviours"] = slices.DeleteFunc(listOf(form["behaviours"]), func(b any) bool { return memberOf(b, "id") == id })
	}
	return form, nil
}

// over lays objects over each other member by member; anything else replaces what was there.
func over(below, above any) any {
	a, isObject := above.(map[string]any)
	b, wasObject := below.(map[string]any)
	if !isObject || !wasObject {
		return above
	}
	all := maps.Clone(b)
	for name, value := range a {
		all[name] = over(b[name], value)
	}
	return all
}

func merged(below, above any, key string) any {
	list := slices.Clone(listOf(below))
	for _, entry := range listOf(above) {
		at := slices.IndexFunc(list, func(b any) bool { return memberOf(b, key) == memberOf(entry, key) })
		if at >= 0 {
			list[at] = entry
		} else {
			list = append(list, entry)
		}
	}
	return list
}

func listOf(v any) []any {
	list, _ := v.([]any)
	return list
}

func memberOf(v any, name string) any {
	object, _ := v.(map[string]any)
	return object[name]
}

// Parse reads a profile that stands on its own or is based on a shipped one.
func Parse(data []byte) (*Profile, error) { return Book(Shipped()).Parse(data) }
