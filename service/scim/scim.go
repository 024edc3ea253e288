// Package scim keeps what an identity system pushes in by SCIM 2.0 (RFC 7644): its resources as it sees them, and what they
// say of people, which goes into the directory. Start with SCIM.
package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"missivum/core/problem"
	core "missivum/core/scim"
	"missivum/core/source"
	"missivum/service/people"
	"missivum/service/store"
)

// SCIM keeps resources, for each source by itself.
type SCIM struct {
	Store  *store.Store
	People *people.People
}

// Stored is a resource as it is kept.
type Stored struct {
	ID       string
	Kind     core.Kind
	Resource core.Resource
	Groups   []Ref // the groups that a person is in
	Version  int
	Created  time.Time
	Changed  time.Time
}

// Ref names another resource.
type Ref struct{ ID, Display string }

// ETag is the version of a resource as an entity tag (RFC 7644, 3.14).
func (s Stored) ETag() string { return fmt.Sprintf(`W/"%d"`, s.Version) }

// ErrVersion says that a resource is not the one that was expected any more.
var ErrVersion = errors.New("the resource was changed since")

// opened makes a stored record a resource.
func opened(tx *store.Tx, src int64, kind core.Kind, r store.SCIMResource) (Stored, error) {
	out := Stored{ID: r.ID, Kind: kind, Version: r.Version, Created: r.Created, Changed: r.Changed}
	if err := json.Unmarshal([]byte(r.Resource), &out.Resource); err != nil {
		return out, err
	}
	if kind.Name != core.Users.Name {
		return out, nil
	}
	groups, err := groupsOf(tx, src, r.ID)
	out.Groups = groups
	return out, err
}

// groupsOf lists the groups that a person is in, also by groups in groups.
func groupsOf(tx *store.Tx, src int64, id string) (list []Ref, err error) {
	seen := map[string]bool{}
	var add func(member string) error
	add = func(member string) error {
		ids, err := tx.SCIMGroupsOf(src, member)
		if err != nil {
			return err
		}
		for _, group := range ids {
			if seen[group] {
				continue
			}
			seen[group] = true
			r, err := tx.SCIM(src, core.Groups.Name, group)
			if problem.Is(err, problem.NotFound) {
				continue
			}
			if err != nil {
				return err
			}
			var resource core.Resource
			if err := json.Unmarshal([]byte(r.Resource), &resource); err != nil {
				return err
			}
			display, _ := resource["displayName"].(string)
			list = append(list, Ref{group, display})
			if err := add(group); err != nil {
				return err
			}
		}
		return nil
	}
	err = add(id)
	slices.SortFunc(list, func(a, b Ref) int { return strings.Compare(a.Display, b.Display) })
	return list, err
}

// nameOf is by which name a resource is found, folded.
func nameOf(kind core.Kind, r core.Resource) string {
	name := "displayName"
	if kind.Name == core.Users.Name {
		name = "userName"
	}
	text, _ := r[name].(string)
	return strings.ToLower(text)
}

// find finds a resource of a source. expected is the entity tag that it must have, weak or not; blank for any.
func find(tx *store.Tx, name string, kind core.Kind, id, expected string) (src store.Source, r store.SCIMResource, err error) {
	if src, err = tx.Source(name); err != nil {
		return src, r, err
	}
	if r, err = tx.SCIM(src.ID, kind.Name, id); err != nil {
		return src, r, err
	}
	tag := Stored{Version: r.Version}.ETag()
	if expected != "" && expected != "*" && strings.TrimPrefix(expected, "W/") != strings.TrimPrefix(tag, "W/") {
		err = ErrVersion
	}
	return src, r, err
}

// Get reads a resource of a source.
func (s *SCIM) Get(ctx context.Context, name string, kind core.Kind, id string) (out Stored, err error) {
	err = s.Store.Read(ctx, func(tx *store.Tx) error {
		src, r, err := find(tx, name, kind, id, "")
		if err != nil {
			return err
		}
		out, err = opened(tx, src.ID, kind, r)
		return err
	})
	return out, err
}

// List reads the resources of a source that a filter lets through: count of them from start, which is counted from 1, and how
// many there are.
func (s *SCIM) List(ctx context.Context, name string, kind core.Kind, filter *core.Filter, start, count int) (list []Stored,
	total int, err error) {
	err = s.Store.Read(ctx, func(tx *store.Tx) error {
		src, err := tx.Source(name)
		if err != nil {
			return err
		}
		var found []store.SCIMResource
		err = tx.SCIMNamed(src.ID, kind.Name, filter.Name(), func(r store.SCIMResource) error {
			var resource core.Resource
			if err := json.Unmarshal([]byte(r.Resource), &resource); err != nil {
				return err
			}
			resource["id"] = r.ID
			resource["meta"] = map[string]any{"resourceType": kind.Name, "created": r.Created.Format(time.RFC3339),
				"lastModified": r.Changed.Format(time.RFC3339)}
			if !filter.Holds(resource) {
				return nil
			}
			if total++; total >= start && len(found) < count {
				found = append(found, r)
			}
			return nil
		})
		if err != nil {
			return err
		}
		for _, r := range found {
			one, err := opened(tx, src.ID, kind, r)
			if err != nil {
				return err
			}
			list = append(list, one)
		}
		return nil
	})
	return list, total, err
}

// Create stores a new resource.
func (s *SCIM) Create(ctx context.Context, name string, kind core.Kind, in map[string]any) (out Stored, err error) {
	resource, err := kind.Clean(in)
	if err != nil {
		return out, err
	}
	id, err := uuid.NewV7() // later ones sort behind earlier ones (RFC 9562, 5.7)
	if err != nil {
		return out, err
	}
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		r := store.SCIMResource{ID: id.String(), Kind: kind.Name, Created: tx.At()}
		out, err = s.put(tx, name, kind, r, resource)
		return err
	})
	return out, err
}

// Change stores a resource as change makes it of the one that is there. expected is the entity tag that it must have; blank
// for any.
func (s *SCIM) Change(ctx context.Context, name string, kind core.Kind, id, expected string,
	change func(core.Resource) (core.Resource, error)) (out Stored, err error) {
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		src, r, err := find(tx, name, kind, id, expected)
		if err != nil {
			return err
		}
		before, err := opened(tx, src.ID, kind, r)
		if err != nil {
			return err
		}
		after, err := change(before.Resource)
		if err != nil {
			return err
		}
		text, err := json.Marshal(after)
		if err != nil {
			return err
		}
		if string(text) == r.Resource { // nothing changed: neither does its version
			out = before
			return nil
		}
		out, err = s.put(tx, name, kind, r, after)
		return err
	})
	return out, err
}

// put stores a resource, and what it says of people.
func (s *SCIM) put(tx *store.Tx, name string, kind core.Kind, r store.SCIMResource, resource core.Resource) (out Stored, err error) {
	src, err := tx.Source(name)
	if err != nil {
		return out, err
	}
	text, err := json.Marshal(resource)
	if err != nil {
		return out, err
	}
	r.Resource, r.Name, r.Changed = string(text), nameOf(kind, resource), tx.At()
	r.Version++
	if err := tx.PutSCIM(src.ID, r); err != nil {
		return out, err
	}
	concerned := []string{r.ID}
	if kind.Name == core.Groups.Name {
		if concerned, err = s.members(tx, src.ID, r.ID, resource); err != nil {
			return out, err
		}
	}
	if err := s.push(tx, src, concerned); err != nil {
		return out, err
	}
	return opened(tx, src.ID, kind, r)
}

// members stores the members of a group, and lists everybody who was or is one of them.
func (s *SCIM) members(tx *store.Tx, src int64, id string, resource core.Resource) ([]string, error) {
	before, err := tx.SCIMMembers(src, id)
	if err != nil {
		return nil, err
	}
	var now []string
	list, _ := resource["members"].([]any)
	for _, one := range list {
		if parts, ok := one.(map[string]any); ok {
			if value, _ := parts["value"].(string); value != "" {
				now = append(now, value)
			}
		}
	}
	if err := tx.PutSCIMMembers(src, id, now); err != nil {
		return nil, err
	}
	all := slices.Concat(before, now)
	slices.Sort(all)
	return s.within(tx, src, slices.Compact(all), map[string]bool{})
}

// within replaces groups by their members.
func (s *SCIM) within(tx *store.Tx, src int64, ids []string, seen map[string]bool) (all []string, err error) {
	for _, id := range ids {
		if seen[id] {
			continue
		}
		seen[id] = true
		all = append(all, id)
		inner, err := tx.SCIMMembers(src, id)
		if err != nil {
			return nil, err
		}
		more, err := s.within(tx, src, inner, seen)
		if err != nil {
			return nil, err
		}
		all = append(all, more...)
	}
	return all, nil
}

// push brings what users say into the directory. Ids that are none of users are passed over.
func (s *SCIM) push(tx *store.Tx, src store.Source, ids []string) error {
	var list []people.Pushed
	for _, id := range ids {
		r, err := tx.SCIM(src.ID, core.Users.Name, id)
		if problem.Is(err, problem.NotFound) {
			continue
		}
		if err != nil {
			return err
		}
		one, err := opened(tx, src.ID, core.Users, r)
		if err != nil {
			return err
		}
		var groups []string
		for _, g := range one.Groups {
			groups = append(groups, g.Display)
		}
		slices.Sort(groups)
		list = append(list, people.Pushed{Key: id, Record: one.Resource.Record(slices.Compact(groups)), Gone: !one.Resource.Active()})
	}
	return s.People.PushIn(tx, src.Name, list)
}

// Remove removes a resource. A person is then gone, as in any other source.
func (s *SCIM) Remove(ctx context.Context, name string, kind core.Kind, id, expected string) error {
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		src, r, err := find(tx, name, kind, id, expected)
		if err != nil {
			return err
		}
		members, err := tx.SCIMMembers(src.ID, id)
		if err != nil {
			return err
		}
		if members, err = s.within(tx, src.ID, members, map[string]bool{}); err != nil {
			return err
		}
		if err := tx.RemoveSCIM(src.ID, r); err != nil {
			return err
		}
		if kind.Name == core.Groups.Name {
			return s.push(tx, src, members)
		}
		return s.People.PushIn(tx, src.Name, []people.Pushed{{Key: id, Record: source.Record{}, Gone: true}})
	})
}
