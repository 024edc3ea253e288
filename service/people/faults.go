package people

import (
	"context"
	"fmt"
	"maps"

	"missivum/core/fault"
	"missivum/core/person"
	"missivum/core/source"
	"missivum/service/store"
)

// Faults are the faults of the directory as it is now.
type Faults struct {
	Revision int
	People   int
	List     []fault.Fault
}

// Faults finds what is wrong in the directory. needs are the required fields, lines the lengths of lines, and named is
// what they are called, so that the answer is kept until they, the directory or a lookup change.
func (p *People) Faults(ctx context.Context, needs []fault.Need, lines []fault.Line, named string) (out Faults, err error) {
	var d *person.Directory
	var mappings []source.Mapping
	key := ""
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		if d, out.Revision, err = p.DirectoryIn(tx); err != nil {
			return err
		}
		list, err := tx.Sources()
		if err != nil {
			return err
		}
		for _, s := range list {
			key += s.Mapping
			if s.Mapping == "" {
				continue
			}
			m, err := source.ReadMapping([]byte(s.Mapping), nil)
			if err != nil {
				return err
			}
			mappings = append(mappings, m)
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	out.People = len(d.People)
	key = fmt.Sprintf("%d %s %s", out.Revision, named, key)
	p.faulty.Lock()
	defer p.faulty.Unlock()
	if p.faultsOf == key {
		out.List = p.faults
		return out, nil
	}
	if out.List, err = fault.Find(ctx, d, fault.Options{Needs: needs, Longest: lines, Unknown: unknownCodes(d, mappings)}); err != nil {
		return out, err
	}
	p.faultsOf, p.faults = key, out.List
	return out, nil
}

// unknownCodes gives the codes of a person that no lookup of any mapping knows; nil where there are no lookups.
func unknownCodes(d *person.Directory, mappings []source.Mapping) func(*person.Person) map[string]string {
	var all []func(func(string) string) map[string]string
	for _, m := range mappings {
		if unknown := m.Unknown(); unknown != nil {
			all = append(all, unknown)
		}
	}
	if len(all) == 0 {
		return nil
	}
	return func(p *person.Person) map[string]string {
		codes := map[string]string{}
		for _, unknown := range all {
			maps.Copy(codes, unknown(func(field string) string { return d.Get(p, field) }))
		}
		return codes
	}
}
