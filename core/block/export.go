package block

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/template"
)

// Loss is one thing that a host's placeholders cannot do.
type Loss struct {
	Kind    string   `json:"kind"` // blank, list, modifier, stand-by, field, language
	Field   string   `json:"field"`
	Line    int      `json:"line"` // in the template's source; 0 when it stands at no single place
	Column  int      `json:"column"`
	Message string   `json:"message"`
	People  int      `json:"people"`  // for how many people it shows
	Who     []string `json:"who"`     // all of them, by mail address
	Counted bool     `json:"counted"` // false when no directory was given
}

// Exported is a template as a host's block.
type Exported struct {
	Dialect    string `json:"dialect"`
	Block      string `json:"block"`
	Characters int    `json:"characters"` // UTF-16 units
	Limit      int    `json:"limit"`      // 0 is none
	Losses     []Loss `json:"losses"`
}

// Export writes a compiled fragment with the dialect's placeholders. What a placeholder cannot do is
// listed, and with a directory for which people it would show. doc is the document that the program was
// compiled from. Fields that the dialect does not know are field.Errors: a block with them must not go out.
func Export(program *field.Program, doc *markup.Document, d *Dialect, people *person.Directory) (Exported, error) {
	x := exporter{program: program, doc: doc, dialect: d, people: people}
	x.run()
	out := Exported{Dialect: d.ID, Block: x.block.String(), Limit: d.Limit, Losses: x.counted()}
	out.Characters = client.Units(out.Block)
	sort.SliceStable(out.Losses, func(i, j int) bool {
		a, b := out.Losses[i], out.Losses[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	if len(x.unknown) > 0 {
		return out, x.unknown
	}
	return out, nil
}

type exporter struct {
	program *field.Program
	doc     *markup.Document
	dialect *Dialect
	people  *person.Directory
	block   strings.Builder
	losses  []openLoss
	anybody *field.Filler
	seen    map[string]bool
	unknown field.Errors // fields that the dialect does not know
}

func (x *exporter) run() {
	x.seen = map[string]bool{}
	table := x.program.Table
	x.anybody = field.NewFiller(table)
	x.anybody.SetAnybody()
	x.program.Visit(x.anybody, func(s *field.Step, text string) {
		switch s.Kind {
		case field.StepValue:
			x.value(&table.Exprs[s.Index], s.Index, s.Escape)
			return
		case field.StepNeeds:
			x.condition(&table.Conditions[s.Index], s.Index)
		case field.StepEach:
			x.list(&table.Lists[s.Index], s.Index)
		}
		x.block.WriteString(text)
	})
}

// list notes that what is repeated for each entry of a field is left out.
func (x *exporter) list(l *field.List, index int) {
	if l.Field != "" {
		x.lose(Loss{Kind: "list", Field: l.Field,
			Message: fmt.Sprintf("What is repeated for each entry of %s is left out for everybody.", l.Field)}, l.Span,
			func(f *field.Filler, _ *person.Person) bool { return len(f.Entries(index)) > 0 })
	}
}

// openLoss is a loss before it is known for whom it shows.
type openLoss struct {
	Loss
	affects func(*field.Filler, *person.Person) bool
}

// lose notes a loss once; affects says for a person whether it shows.
func (x *exporter) lose(l Loss, span markup.Span, affects func(*field.Filler, *person.Person) bool) {
	key := l.Kind + "\n" + l.Message
	if x.seen[key] {
		return
	}
	x.seen[key] = true
	if span.Len() > 0 {
		place := x.doc.Place(span.Start)
		l.Line, l.Column = place.Line, place.Column
	}
	x.losses = append(x.losses, openLoss{l, affects})
}

// counted gives the losses with the people for whom they show. Each person is filled once for all of them; what nobody
// would notice is left out. Without a directory all are given, uncounted.
func (x *exporter) counted() []Loss {
	var out []Loss
	if x.people != nil {
		filler := field.NewFiller(x.program.Table)
		for i := range x.people.People {
			p := &x.people.People[i]
			filler.Set(p)
			for k := range x.losses {
				if l := &x.losses[k]; l.affects(filler, p) {
					l.People++
					l.Who = append(l.Who, x.people.Get(p, "mail"))
				}
			}
		}
	}
	for _, l := range x.losses {
		l.Counted = x.people != nil
		if !l.Counted || l.People > 0 {
			out = append(out, l.Loss)
		}
	}
	return out
}

func (x *exporter) condition(c *field.Condition, index int) {
	ofList := func(l field.List) bool { return l.Span == c.Span }
	if slices.ContainsFunc(x.program.Table.Lists, ofList) {
		return // reported as the list's
	}
	names := strings.Join(c.Fields, " and ")
	if c.Any {
		names = strings.Join(c.Fields, " or ")
	}
	if names == "" {
		return // a link around a number that is not certain: reported with the modifier dial
	}
	l := Loss{Kind: "blank", Field: names}
	if c.Unless {
		l.Message = fmt.Sprintf("What stands only without %s is left out for everybody.", names)
		x.lose(l, c.Span, func(f *field.Filler, _ *person.Person) bool { return f.Holds(index) })
		return
	}
	l.Message = fmt.Sprintf("The piece that needs %s stays when it is blank: label, separator or empty line.", names)
	x.lose(l, c.Span, func(f *field.Filler, _ *person.Person) bool { return !f.Holds(index) })
}

func (x *exporter) value(e *field.Expr, index int, escape field.Escape) {
	if len(e.Fields) == 0 {
		x.text(e, index, escape)
		return
	}
	first := e.Fields[0]
	name, ok := x.dialect.Names[first.Name]
	if !ok {
		x.unknown = append(x.unknown, field.Error{Place: x.doc.Place(e.Span.Start), End: e.Span.End, Message: fmt.Sprintf(
			"The dialect %s has no name for the field %s; take the field out, or choose a dialect that has it.", x.dialect.ID, first.Name)})
		return
	}
	x.block.WriteString(x.dialect.Open + name + x.dialect.Close)
	if len(e.Fields) > 1 {
		x.lose(Loss{Kind: "field", Field: e.Field,
			Message: fmt.Sprintf("Only %s is asked for; nothing takes its place when it is blank.", first.Name)}, e.Span,
			func(_ *field.Filler, p *person.Person) bool {
				return person.IsBlank(p.At(first.Index)) && e.Raw(p) != ""
			})
	}
	for _, m := range e.Modifiers {
		if m.Name == "or" {
			x.lose(Loss{Kind: "stand-by", Field: e.Field,
				Message: fmt.Sprintf("The fallback text %q for a blank %s is lost.", m.Argument, e.Field)}, e.Span,
				func(_ *field.Filler, p *person.Person) bool { return e.Raw(p) == "" })
			continue
		}
		x.lose(Loss{Kind: "modifier", Field: e.Field,
			Message: fmt.Sprintf("The modifier %s of %s is lost; the directory's own spelling is shown.", m.Name, e.Field)}, e.Span,
			func(f *field.Filler, p *person.Person) bool {
				raw := person.Clean(e.Raw(p))
				return raw != "" && raw != f.Value(index)
			})
	}
}

// text writes what does not come from a field: a text in quotes, a constant, or a text by language, of
// which a host can have only one.
func (x *exporter) text(e *field.Expr, index int, escape field.Escape) {
	common := x.anybody.Value(index)
	x.block.Write(field.AppendEscaped(nil, common, escape))
	if e.Texts != nil {
		x.lose(Loss{Kind: "language", Field: e.Text, Message: fmt.Sprintf("%s is %q in every language.", e.Text, common)}, e.Span,
			func(f *field.Filler, _ *person.Person) bool { return f.Value(index) != common })
	}
}

// ExportTemplate compiles a template's fragment for a variant and exports it. schema is the
// directory's; people may be nil.
func ExportTemplate(t *template.Template, schema *person.Schema, variant string, day time.Time, d *Dialect,
	people *person.Directory) (Exported, error) {
	prepared, err := compose.Prepare(t, schema, day, compose.Delivered(t, compose.Fragment, compose.Beside))
	if err != nil {
		return Exported{}, err
	}
	program, err := prepared.FragmentProgram(prepared.Outgoing(), prepared.NewTable(), variant)
	if err != nil {
		return Exported{}, err
	}
	exported, err := Export(program, prepared.Doc, d, people)
	if err != nil {
		return Exported{}, err
	}
	return exported, nil
}
