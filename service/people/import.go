package people

import (
	"context"
	"io"

	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/store"
)

// Imported is the name of the source of files that are imported by hand without another one being named.
const Imported = "import"

// File is a file that is imported.
type File struct {
	Source   string // name of the source; Imported when blank
	Body     io.Reader
	Mapping  *source.Mapping   // nil for that of the source
	Columns  map[string]string // fields for columns, over those of the mapping
	Replace  bool              // people who are not in the file are gone
	Progress func(read int)
}

// Import is a plan for a file, with what its columns were taken for.
type Import struct {
	Run     store.Run
	Columns []source.Column
	Note    string // what should be known of the file's character set; may be blank
}

// PlanFile works out what taking a file in would change.
func (p *People) PlanFile(ctx context.Context, f File) (out Import, err error) {
	if f.Source == "" {
		f.Source = Imported
	}
	mapping, fields, rules, err := p.forReading(ctx, f.Source)
	if err != nil {
		return out, err
	}
	if f.Mapping != nil {
		mapping = *f.Mapping
	}
	mapping = mapping.With(f.Columns)
	reader, err := source.Open(f.Body, source.Reading{Mapping: mapping, Known: fields, NoMail: rules.match() != "mail"})
	if err != nil {
		return out, problem.As(problem.Refused, err)
	}
	out.Run, err = p.Plan(ctx, Incoming{Source: f.Source, Kind: "import", Reader: reader, Whole: f.Replace,
		Partly: reader.Table(), Progress: f.Progress})
	out.Columns, out.Note = reader.Columns(), reader.Note()
	return out, err
}

// ForReading gives how a source that is asked is read.
func (p *People) ForReading(ctx context.Context, name string) (source.Reading, error) {
	mapping, fields, rules, err := p.forReading(ctx, name)
	return source.Reading{Mapping: mapping, Known: fields, NoMail: rules.match() != "mail"}, err
}

// forReading gives what is needed to read a source: its mapping, the fields that the directory has, and its rules.
func (p *People) forReading(ctx context.Context, name string) (m source.Mapping, fields []string, rules Rules, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		s, err := tx.Source(name)
		if err != nil {
			return err
		}
		if s.Mapping != "" {
			if m, err = source.ReadMapping([]byte(s.Mapping), nil); err != nil {
				return err
			}
		}
		if rules, err = rulesIn(tx); err != nil {
			return err
		}
		fields, _, err = tx.Fields()
		return err
	})
	return m, fields, rules, err
}
