// Package messages keeps what gateways did with messages, for a time that the organisation chooses, and finds it again; and which
// gateways there are. No content of a message is kept. Start with Messages.
package messages

import (
	"context"
	"io"
	"log/slog"
	"time"

	"missivum/core/problem"
	"missivum/core/rule"
	"missivum/service/jobs"
	"missivum/service/store"
)

// Messages keeps records of messages.
type Messages struct {
	Store *store.Store
	Now   func() time.Time
	Log   *slog.Logger
}

// Settings is for how long records are kept.
type Settings struct {
	Days int `json:"days"` // from 1 to MaxDays
}

// Limits of what is kept and found.
const (
	DefaultDays = 30
	MaxDays     = 400
	MaxList     = 200 // records in one answer
)

const settingName = "messages"

// Settings says for how long records are kept.
func (m *Messages) Settings(ctx context.Context) (s Settings, err error) {
	s.Days = DefaultDays
	err = m.Store.Read(ctx, func(tx *store.Tx) error { return tx.Setting(settingName, &s) })
	return s, err
}

// PutSettings says for how long records are kept. Older ones are removed within the hour.
func (m *Messages) PutSettings(ctx context.Context, s Settings) error {
	if s.Days < 1 || s.Days > MaxDays {
		return problem.New(problem.Invalid, "Records are kept for 1 to %d days.", MaxDays).In("days")
	}
	return m.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutSetting(settingName, s) })
}

// Take keeps a gateway's report. One that arrives twice is kept once.
func (m *Messages) Take(ctx context.Context, r rule.GatewayReport) error {
	if r.Gateway == "" || len(r.Gateway) > 200 {
		return problem.New(problem.Invalid, "A gateway's name has 1 to 200 characters.").In("gateway")
	}
	if len(r.Records) > rule.MaxRecords {
		return problem.New(problem.TooLarge, "A report holds at most %d records.", rule.MaxRecords)
	}
	for _, one := range r.Records {
		if one.Key == "" || one.Time.IsZero() {
			return problem.New(problem.Invalid, "A record needs a key and a time.").In("records")
		}
	}
	return m.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddMessages(r.Gateway, r.Records); err != nil {
			return err
		}
		return tx.PutGateway(r)
	})
}

// Found is records that were looked for.
type Found struct {
	Messages []store.MessageRecord `json:"messages"`
	More     bool                  `json:"more"` // there are more behind the last one
}

// Find lists records, the latest first.
func (m *Messages) Find(ctx context.Context, f store.MessageFilter, limit int) (found Found, err error) {
	if limit < 1 || limit > MaxList {
		limit = MaxList
	}
	err = m.Store.Read(ctx, func(tx *store.Tx) error {
		found.Messages, err = tx.Messages(f, limit+1)
		return err
	})
	if found.Messages == nil {
		found.Messages = []store.MessageRecord{}
	}
	if len(found.Messages) > limit {
		found.Messages, found.More = found.Messages[:limit], true
	}
	return found, err
}

// Get returns a record.
func (m *Messages) Get(ctx context.Context, id int64) (record store.MessageRecord, err error) {
	err = m.Store.Read(ctx, func(tx *store.Tx) error {
		record, err = tx.Message(id)
		return err
	})
	return record, err
}

// Count counts records by outcome.
func (m *Messages) Count(ctx context.Context, f store.MessageFilter) (c store.MessageCounts, err error) {
	err = m.Store.Read(ctx, func(tx *store.Tx) error {
		c, err = tx.CountMessages(f)
		return err
	})
	return c, err
}

// Gateways lists the gateways that reported, the latest first.
func (m *Messages) Gateways(ctx context.Context) (list []store.Gateway, err error) {
	err = m.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.Gateways()
		return err
	})
	if list == nil {
		list = []store.Gateway{}
	}
	return list, err
}

// Figures writes the figures of the gateways that reported within the last hour, as OpenMetrics text.
func (m *Messages) Figures(ctx context.Context, w io.Writer) error {
	list, err := m.Gateways(ctx)
	if err != nil {
		return err
	}
	var reports []rule.GatewayReport
	for _, g := range list {
		if m.Now().Sub(g.Seen) < time.Hour {
			reports = append(reports, g.GatewayReport)
		}
	}
	rule.Figures(w, reports...)
	return nil
}

// Watch removes what is older than it is kept, every so often, until the context ends.
func (m *Messages) Watch(ctx context.Context, every time.Duration) {
	jobs.Every(ctx, every, m.Log, "messages", m.drop)
}

// drop removes what is older than it is kept.
func (m *Messages) drop(ctx context.Context) error {
	s, err := m.Settings(ctx)
	if err != nil {
		return err
	}
	for more := true; more && err == nil; {
		err = m.Store.Write(ctx, func(tx *store.Tx) error {
			more, err = tx.DropMessages(m.Now().AddDate(0, 0, -s.Days))
			return err
		})
	}
	return err
}
