// Package dialects keeps the organisation's own dialects: how its mail hosts write placeholders. Start with Dialects.
package dialects

import (
	"context"
	"maps"
	"slices"

	"missivum/core/block"
	"missivum/core/problem"
	"missivum/service/store"
)

// settingName is under which name the dialects are stored.
const settingName = "dialects"

// mostOwn is how many dialects an organisation can have.
const mostOwn = 50

// Dialects keeps dialects.
type Dialects struct{ Store *store.Store }

// ownIn reads the organisation's own documents, by id.
func ownIn(tx *store.Tx) (map[string]string, error) {
	documents := map[string]string{}
	return documents, tx.Setting(settingName, &documents)
}

// List lists the organisation's own dialects and then the shipped ones. own are the ids of the former.
func (d *Dialects) List(ctx context.Context) (list []*block.Dialect, own []string, err error) {
	err = d.Store.Read(ctx, func(tx *store.Tx) error {
		documents, err := ownIn(tx)
		if err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(documents)) {
			if one, err := block.Parse([]byte(documents[id])); err == nil { // one of before a rule of today hides no other
				list, own = append(list, one), append(own, id)
			}
		}
		return nil
	})
	return append(list, block.Dialects()...), own, err
}

// Find gives a dialect. The error is a problem of the kind Invalid.
func (d *Dialects) Find(ctx context.Context, id string) (*block.Dialect, error) {
	list, _, err := d.List(ctx)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(list, func(one *block.Dialect) bool { return one.ID == id }); i >= 0 {
		return list[i], nil
	}
	return nil, problem.New(problem.Invalid, "There is no dialect %q.", id).In("dialect")
}

// beginning is a document to begin a dialect with.
const beginning = `# How your mail host writes placeholders. The marks stand around each name; names are
# the host's own for the fields of the directory. A field that is not here is refused.
id: our-host
title: Our mail host
open: "[["
close: "]]"
limit: 5000
names:
  cn: Display name
  title: Job title
  telephoneNumber: Phone
  mobile: Mobile phone
  mail: Email
`

// Document gives a dialect's document to be edited, or one to begin with; own says which.
func (d *Dialects) Document(ctx context.Context, id string) (document string, own bool, err error) {
	err = d.Store.Read(ctx, func(tx *store.Tx) error {
		documents, err := ownIn(tx)
		document, own = documents[id]
		return err
	})
	if !own {
		document = beginning
	}
	return document, own, err
}

// Put stores a dialect of the organisation's own.
func (d *Dialects) Put(ctx context.Context, id, document string) (*block.Dialect, error) {
	one, err := block.Parse([]byte(document))
	if err != nil {
		return nil, problem.New(problem.Refused, "The dialect is refused: %s", err.Error())
	}
	if one.ID != id || block.Find(id) != nil {
		return nil, problem.New(problem.Refused, "The dialect is refused: its id must be %q, and not that of an example.", id)
	}
	return one, d.Store.Write(ctx, func(tx *store.Tx) error {
		documents, err := ownIn(tx)
		if err != nil {
			return err
		}
		documents[id] = document
		if len(documents) > mostOwn {
			return problem.New(problem.TooLarge, "There are %d dialects already.", mostOwn)
		}
		return tx.PutSetting(settingName, documents)
	})
}

// Remove removes a dialect of the organisation's own.
func (d *Dialects) Remove(ctx context.Context, id string) error {
	return d.Store.Write(ctx, func(tx *store.Tx) error {
		documents, err := ownIn(tx)
		if err != nil {
			return err
		}
		if _, there := documents[id]; !there {
			return problem.Missing("dialect of your own", id)
		}
		delete(documents, id)
		return tx.PutSetting(settingName, documents)
	})
}
