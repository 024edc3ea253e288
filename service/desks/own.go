package desks

import (
	"context"
	"fmt"
	"time"

	"missivum/core/kit"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/release"
	"missivum/core/template"
	"missivum/service/store"
)

// Own is what a person has of a release.
type Own struct {
	Release   string // its number, as a text
	Title     string
	Base      string    // base name of files; blank for that of each template
	Day       time.Time // for which dated pieces are decided
	Templates map[string]*template.Template
	Schema    *person.Schema
	Person    *person.Person
	Choices   []kit.Choice // what the person gets in each situation
}

// Own gives what a person has of the newest release that reaches them. The error is of the kind NotFound where none does, and Gone
// where one did that was withdrawn.
func (d *Desks) Own(ctx context.Context, mail string) (Own, error) {
	v, err := d.look(ctx)
	if err != nil {
		return Own{}, err
	}
	o, at := v.reaching(mail)
	switch {
	case o != nil:
		return o.own(at), nil
	case v.gone:
		return Own{}, Withdrawn
	}
	return Own{}, problem.New(problem.NotFound, "No release reaches %s.", mail)
}

func (o *one) own(at int) Own {
	p := &o.Directory.People[at]
	return Own{Release: o.name, Title: o.Title, Base: o.Frozen.Base, Day: o.day, Templates: o.Templates, Schema: o.Directory.Schema, Person: p,
		Choices: o.Live.Choices(p)}
}

// Choice is what the person gets in a situation. The error is of the kind NotFound where that is no signature.
func (o Own) Choice(situation string) (kit.Choice, error) {
	for _, c := range o.Choices {
		if c.Situation == situation && c.Template != "" {
			return c, nil
		}
	}
	return kit.Choice{}, problem.New(problem.NotFound, "There is no signature for %s.", situation).In("situation")
}

// Get is one of the person's values, as the release has them; blank for a field that it has not.
func (o Own) Get(field string) string {
	if column, _, known := o.Schema.Column(field); known {
		return o.Person.At(column)
	}
	return ""
}

// Before gives what a person had of releases before the one that reaches them, the newest first and at most so many. Releases
// that were withdrawn count too: what was placed of them may be there still. Those that never reached the person do not.
func (d *Desks) Before(ctx context.Context, mail string, most int) (list []Own, err error) {
	v, err := d.look(ctx)
	if err != nil {
		return nil, err
	}
	present := ""
	if o, _ := v.reaching(mail); o != nil {
		present = o.name
	}
	err = d.Store.Read(ctx, func(tx *store.Tx) error {
		all, err := tx.Releases()
		if err != nil {
			return err
		}
		for _, record := range all {
			if len(list) == most {
				return nil
			}
			if record.State != release.Out && record.State != release.Withdrawn || fmt.Sprint(record.ID) == present {
				continue
			}
			w, err := d.Releases.WholeIn(tx, record)
			if err != nil {
				return err
			}
			o := newOne(w, d.Now())
			if at, there := o.byMail[fold(mail)]; there && o.Live.Reaches(&o.Directory.People[at]) {
				list = append(list, o.own(at))
			}
		}
		return nil
	})
	return list, err
}

// Known reports whether somebody with a mail address is in the directory now.
func (d *Desks) Known(ctx context.Context, mail string) (bool, error) {
	directory, _, err := d.People.Directory(ctx)
	if err != nil {
		return false, err
	}
	return directory.Find(mail) != nil, nil
}

// Reaches says which release reaches a person; false for none.
func (d *Desks) Reaches(ctx context.Context, mail string) (release string, reached bool, err error) {
	v, err := d.look(ctx)
	if err != nil {
		return "", false, err
	}
	o, _ := v.reaching(mail)
	if o == nil {
		return "", false, nil
	}
	return o.name, true, nil
}
