package sources

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/source"
)

// Limits of a preview.
const (
	previewRead  = 2_000 // people who are looked at
	previewShown = 5
)

// Preview is what a source gives with a mapping.
type Preview struct {
	Columns []source.Column
	Note    string
	Fields  []string
	People  []PreviewPerson
	Read    int
}

// PreviewPerson is one of the people who are shown, and why.
type PreviewPerson struct {
	Values  []string
	Reasons []string
}

// Preview asks a source and shows what a mapping makes of five people, those first who strain a signature most.
// Nothing is stored.
func (s *Sources) Preview(ctx context.Context, name, mapping string) (out Preview, err error) {
	src, err := s.Get(ctx, name)
	if err != nil {
		return out, err
	}
	how, err := s.People.ForReading(ctx, name)
	if err != nil {
		return out, err
	}
	if mapping != "" {
		if how.Mapping, err = source.ReadMapping([]byte(mapping), nil); err != nil {
			return out, err
		}
	}
	how.NoMail = true
	in, _, err := s.open(ctx, src, reading{how: how})
	if in.Close != nil {
		defer in.Close()
	}
	if err != nil {
		return out, err
	}
	reader, ok := in.Reader.(*source.Reader)
	if !ok {
		return out, errors.New("this source has no columns")
	}
	d := &person.Directory{Schema: reader.Schema()}
	for out.Read < previewRead {
		e, err := reader.Next()
		var row source.RowError
		if errors.Is(err, io.EOF) {
			break
		}
		if errors.As(err, &row) {
			continue
		}
		if err != nil {
			return out, problem.As(problem.Refused, err)
		}
		out.Read++
		d.People = append(d.People, e.Person)
	}
	out.Columns, out.Note, out.Fields = reader.Columns(), reader.Note(), reader.Fields()
	if unseen := reader.Unseen(); len(unseen) > 0 && out.Read > 0 {
		out.Note = strings.TrimSpace(fmt.Sprintf("%s None of the %d people who were looked at has %s.", out.Note, out.Read,
			strings.Join(unseen, ", ")))
	}
	var places []int
	for _, field := range out.Fields {
		column, _, _ := d.Schema.Column(field)
		places = append(places, column)
	}
	show := func(i int, reasons []string) {
		values := make([]string, len(places))
		for c, column := range places {
			values[c] = d.People[i].At(column)
		}
		out.People = append(out.People, PreviewPerson{values, reasons})
	}
	shown := map[int]bool{}
	for _, h := range person.HardCases(d, "") {
		if len(out.People) < previewShown && !shown[h.Index] {
			shown[h.Index] = true
			show(h.Index, h.Reasons)
		}
	}
	for i := range d.People {
		if len(out.People) < previewShown && !shown[i] {
			show(i, []string{})
		}
	}
	return out, nil
}
