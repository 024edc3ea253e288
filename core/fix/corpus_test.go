package fix

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/person"
	"missivum/demo"
)

// TestFixesOnTheCorpus makes all fixes, the costly ones too, in every signature of the corpus of the checks: nothing that breaks comes
// with them, and unless one of them is meant to, none changes what anybody's signature says, where its links lead and which
// pictures it shows.
func TestFixesOnTheCorpus(t *testing.T) {
	list, err := demo.Signatures()
	if err != nil {
		t.Fatal(err)
	}
	signatures, made, refused := 0, 0, 0
	for _, s := range list {
		name := s.Name
		in := input(t, bare(t, s.Source))
		before, err := check.Findings(t.Context(), in)
		if err != nil {
			t.Fatal(err)
		}
		var ids []string
		for _, f := range before.Findings {
			if f.Fix != nil && !slices.Contains(ids, f.Check) {
				ids = append(ids, f.Check)
			}
		}
		signatures++
		for _, o := range append([]Options{{At: -1}}, each(ids)...) {
			r, err := Run(context.Background(), in, o)
			if err != nil {
				t.Errorf("%s, %v: %v", name, o.Checks, err)
				continue
			}
			made, refused = made+len(r.Done), refused+len(r.Refused)
			if breaking(r.Findings) > breaking(before.Findings) {
				t.Errorf("%s, %v: %d findings break, and it was %d\n%s", name, o.Checks, breaking(r.Findings), breaking(before.Findings), r.Source)
			}
			held(t, name, in, r)
			fitToRead(t, name, s.Source, r)
			noMoreThanNeeded(t, name, in, r)
		}
	}
	t.Logf("%d signatures, %d fixes made, %d refused", signatures, made, refused)
}

// The signs of a source that is not fit to read.
var (
	letterReference = regexp.MustCompile(`&#(x[0-9a-fA-F]+|[0-9]+);?`)
	manyEndTags     = regexp.MustCompile(`(</[a-z0-9]+>\s*){9,}`)
)

// mostAdded is how many characters one fix may add to a source: a table of one cell, a link with its colour, or a sheet for
// fonts that were lost.
const mostAdded = 400

// fitToRead holds a fixed source against what was written: no letters as numbers, no run of end tags, no ends of lines
// of another kind, and not much more than the fixes need.
func fitToRead(t *testing.T, name, source string, r Result) {
	t.Helper()
	meant := slices.ContainsFunc(r.Done, func(d Done) bool { return slices.Contains(changesText, d.Check) })
	if !meant && len(letterReference.FindAllString(r.Source, -1)) > len(letterReference.FindAllString(source, -1)) {
		t.Errorf("%s: signs became numbers:\n%s", name, r.Source)
	}
	if manyEndTags.MatchString(r.Source) && !manyEndTags.MatchString(source) {
		t.Errorf("%s: a run of end tags:\n%s", name, r.Source)
	}
	if strings.Contains(r.Source, "\r") != strings.Contains(source, "\r") {
		t.Errorf("%s: the ends of lines are of another kind", name)
	}
	if grown := len(r.Source) - len(source); grown > mostAdded*len(r.Done) {
		t.Errorf("%s: %d fixes add %d characters:\n%s", name, len(r.Done), grown, r.Source)
	}
}

// Fixes that change a text, by what they leave as it is.
var (
	// for somebody with a value in every field: everything
	forBlanks = []string{"blank-field", "often-blank", "label-left"}
	// every letter and digit, for everybody, perhaps at another place
	sameLetters = []string{"stray-end-tag", "nested-link", "table-content", "invisible-characters", "attribute-quotes"}
)

// noMoreThanNeeded holds fixes that change texts against what they must leave.
func noMoreThanNeeded(t *testing.T, name string, in check.Input, r Result) {
	t.Helper()
	others := func(list []string) bool {
		return slices.ContainsFunc(r.Done, func(d Done) bool { return slices.Contains(changesText, d.Check) && !slices.Contains(list, d.Check) })
	}
	full := in.People.Find("maren.lind@brackwater.example")
	in.People = &person.Directory{Schema: in.People.Schema, People: []person.Person{*full}}
	w := work{in: in}
	had, err := w.shows(in.Template)
	if err != nil {
		return
	}
	has, err := w.shows(r.Template)
	if err != nil {
		t.Errorf("%s: %v", name, err)
		return
	}
	for i := range had {
		switch {
		case !others(forBlanks) && had[i].text != has[i].text:
			t.Errorf("%s: somebody with every field has another text: %s\n%s", name, difference(had[i].text, has[i].text), r.Source)
		case !others(sameLetters) && letters(had[i].text) != letters(has[i].text):
			t.Errorf("%s: letters came or went: %s\n%s", name, difference(had[i].text, has[i].text), r.Source)
		}
	}
}

// letters are the letters and digits of a text, sorted.
func letters(text string) string {
	list := []rune(strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return r
		}
		return -1
	}, text))
	slices.Sort(list)
	return string(list)
}

// each is a run for the fixes of each check alone.
func each(ids []string) (list []Options) {
	for _, id := range ids {
		list = append(list, Options{Checks: []string{id}, At: -1})
	}
	return list
}

func breaking(list []check.Finding) (n int) {
	for _, f := range list {
		if f.Severity == client.Breaks {
			n++
		}
	}
	return n
}

// held holds what is shown after fixes against what was shown before.
func held(t *testing.T, name string, in check.Input, r Result) {
	t.Helper()
	w := work{in: in}
	had, err := w.shows(in.Template)
	if err != nil {
		return
	}
	has, err := w.shows(r.Template)
	if err != nil || len(has) != len(had) {
		t.Errorf("%s: %d shown, and it was %d: %v", name, len(has), len(had), err)
		return
	}
	meant := func(list []string) bool {
		return slices.ContainsFunc(r.Done, func(d Done) bool { return slices.Contains(list, d.Check) })
	}
	for i := range had {
		if had[i].text != has[i].text && !meant(changesText) {
			t.Errorf("%s: the text changed: %s\n%s", name, difference(had[i].text, has[i].text), r.Source)
			return
		}
		if !slices.Equal(had[i].links, has[i].links) && !meant(changesLinks) {
			t.Errorf("%s: links changed: %v, and it was %v", name, has[i].links, had[i].links)
			return
		}
		if !slices.Equal(had[i].pictures, has[i].pictures) && !meant(changesPictures) {
			t.Errorf("%s: pictures changed: %v, and it was %v", name, has[i].pictures, had[i].pictures)
			return
		}
	}
}
