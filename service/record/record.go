// Package record reads and prunes the record of who did what. Entries are written by the store, in the same unit of work as
// the change itself. Start with Record.
package record

import (
	"context"
	"log/slog"
	"time"

	"missivum/core/problem"
	"missivum/service/jobs"
	"missivum/service/store"
)

// settingName is under which name the settings are stored.
const settingName = "record"

// leastDays is for how many days entries are kept at least.
const leastDays = 30

// Settings say for how long entries are kept.
type Settings struct {
	Days int `json:"days"` // 0 for ever
}

// Record is the record of who did what.
type Record struct {
	Store *store.Store
	Now   func() time.Time
	Log   *slog.Logger
}

// part is how many entries are read at once.
const part = 500

// Each gives the entries that a filter lets through, newest first: those behind an entry, 0 for all, and at most so many, 0 for
// all.
func (r *Record) Each(ctx context.Context, f store.RecordFilter, before int64, most int, each func(store.Entry) error) error {
	for given := 0; most == 0 || given < most; {
		size := part
		if most > 0 {
			size = min(size, most-given)
		}
		var list []store.Entry
		err := r.Store.Read(ctx, func(tx *store.Tx) (err error) {
			list, err = tx.Entries(f, before, size)
			return err
		})
		if err != nil {
			return err
		}
		for _, e := range list {
			if err := each(e); err != nil {
				return err
			}
			before = e.ID
		}
		if given += len(list); len(list) < size {
			return nil
		}
	}
	return nil
}

// Words lists the kinds of things and the actions that the record has.
func (r *Record) Words(ctx context.Context) (objects, actions []string, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		objects, actions, err = tx.RecordWords()
		return err
	})
	return objects, actions, err
}

// Check says whether the record is whole, and with the number and link of an entry that were kept elsewhere, whether it still
// holds that entry.
func (r *Record) Check(ctx context.Context, number int64, link []byte) (checked store.Checked, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		checked, err = tx.CheckRecord(number, link)
		return err
	})
	return checked, err
}

// Settings gives the settings.
func (r *Record) Settings(ctx context.Context) (s Settings, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error { return tx.Setting(settingName, &s) })
	return s, err
}

// PutSettings stores the settings.
func (r *Record) PutSettings(ctx context.Context, s Settings) error {
	if s.Days != 0 && s.Days < leastDays {
		return problem.New(problem.Invalid, "Entries are kept for at least %d days; 0 keeps them for ever.", leastDays).In("days")
	}
	return r.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutSetting(settingName, s) })
}

// Prune removes the entries that are older than the settings say.
func (r *Record) Prune(ctx context.Context) error {
	s, err := r.Settings(ctx)
	if err != nil || s.Days == 0 {
		return err
	}
	return r.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.PruneRecord(r.Now().AddDate(0, 0, -s.Days))
		return err
	})
}

// Watch prunes again and again until the context ends.
func (r *Record) Watch(ctx context.Context, interval time.Duration) {
	jobs.Every(ctx, interval, r.Log, "record", r.Prune)
}
