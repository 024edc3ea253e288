package check

import (
	"context"
	"fmt"
	"slices"
	"sort"

	"missivum/core/block"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/person"
)

// figure is what is counted of one program's output, once for each person however many limits there are of it.
type figure struct {
	program *field.Program
	person  int // whose figures they are; from 1
	units   int
	bytes   int
	buffer  []byte
}

// of takes the figure of one more person into account.
func (g *figure) of(f *field.Filler, person int) *figure {
	if g.person != person {
		g.buffer = g.program.Append(g.buffer[:0], f)
		g.person, g.units, g.bytes = person, client.Units(g.buffer), len(g.buffer)
	}
	return g
}

// gauge is one thing to measure: the program whose output is counted, and for which budget.
type gauge struct {
	budget  Budget
	variant string
	count   func(f *field.Filler, person int) int // person from 1
	fixed   bool                                  // the same for everybody
}

// measure works out every limit of every profile for each variant and the worst person.
func measure(ctx context.Context, prepared *compose.Prepared, in Input) ([]Budget, error) {
	m := measuring{prepared: prepared, table: prepared.NewTable(), forms: map[string]*figure{}}
	var gauges []*gauge
	for _, variant := range in.Template.Variants() {
		for _, profile := range in.Profiles {
			if ctx.Err() != nil {
				return nil, fmt.Errorf("measuring stopped: %w", ctx.Err())
			}
			made, err := m.gauges(profile, variant)
			if err != nil {
				return nil, err
			}
			gauges = append(gauges, made...)
		}
	}
	best := map[*gauge]int{}
	who := map[*gauge]string{}
	figures := map[*gauge][]int{}
	people := in.People
	if people == nil || len(people.People) == 0 {
		people = &person.Directory{Schema: prepared.Schema, People: []person.Person{*compose.FieldNames(prepared.Schema)}}
	}
	filler := field.NewFiller(m.table)
	filler.UseNumbers(in.Numbers)
	mail, _, _ := people.Schema.Column("mail")
	for i := range people.People {
		if ctx.Err() != nil {
			return nil, fmt.Errorf("measuring stopped after %d of %d people: %w", i, len(people.People), ctx.Err())
		}
		if i%256 == 0 && in.Progress != nil {
			in.Progress(i)
		}
		filler.Set(&people.People[i])
		for _, g := range gauges {
			if g.fixed && i > 0 {
				continue
			}
			n := g.count(filler, i+1)
			figures[g] = append(figures[g], n)
			if i == 0 || n > best[g] {
				best[g] = n
				who[g] = people.People[i].At(mail)
			}
		}
	}
	sample := max(0, people.Index(in.Template.Settings.Sample))
	for _, g := range gauges {
		g.budget.Sample = figures[g][0]
		if !g.fixed {
			g.budget.Sample = figures[g][sample]
		}
		g.spread(figures[g], len(people.People))
	}
	return worst(gauges, best, who, in.People != nil), nil
}

// spread notes the least figure and the middle one, and for how many people the limit is exceeded.
func (g *gauge) spread(figures []int, people int) {
	slices.Sort(figures)
	g.budget.Least, g.budget.Median = figures[0], figures[len(figures)/2]
	g.budget.Over = len(figures) - sort.SearchInts(figures, g.budget.Limit+1)
	if g.fixed && g.budget.Over > 0 {
		g.budget.Over = people
	}
}

// Budgets measures the limits of the profiles, with the first steps of package compact taken, as many as compacting.
// change may alter the prepared document before; nil for not.
func Budgets(ctx context.Context, in Input, compacting int, change func(*markup.Document)) ([]Budget, error) {
	prepared, err := in.Prepare()
	if err != nil {
		return nil, err
	}
	if change != nil {
		change(prepared.Doc)
	}
	prepared.Compacting = compacting
	return measure(ctx, prepared, in)
}

// worst keeps the variant with the largest figure for each limit.
func worst(gauges []*gauge, best map[*gauge]int, who map[*gauge]string, named bool) []Budget {
	list := []Budget{}
	index := map[string]int{}
	for _, g := range gauges {
		b := g.budget
		b.Value, b.Variant = best[g], g.variant
		if named && !g.fixed {
			b.Person = who[g]
		}
		key := b.Client + "\n" + string(b.Measure)
		if i, ok := index[key]; !ok {
			index[key] = len(list)
			list = append(list, b)
		} else if b.Value > list[i].Value {
			list[i] = b
		}
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].Share() > list[j].Share() })
	return list
}

// measuring compiles what is measured. What several profiles store alike is compiled and filled once.
type measuring struct {
	prepared *compose.Prepared
	table    *field.Table
	forms    map[string]*figure // by variant and markup
}

// gauges are the measures of a profile's limits in a variant, ready to take people.
func (m *measuring) gauges(profile *client.Profile, variant string) ([]*gauge, error) {
	var list []*gauge
	for _, limit := range profile.Limits {
		g := &gauge{variant: variant, budget: Budget{
			Client: profile.ID, Measure: limit.Measure, Limit: limit.Max, Unit: limit.Measure.Unit(),
			Severity: limit.Severity, Basis: limit.Basis, Says: limit.Says,
		}}
		var err error
		switch limit.Measure {
		case client.PictureBytes:
			weight, fixed := m.prepared.PictureWeight(m.table, variant)
			g.count, g.fixed = func(f *field.Filler, _ int) int { return weight(f) }, fixed
		case client.Columns:
			g.count, err = m.columns(variant)
		case client.Characters, client.Bytes:
			g.count, g.fixed, err = m.stored(profile, limit.Measure, variant)
		}
		if err != nil {
			return nil, err
		}
		list = append(list, g)
	}
	return list, nil
}

// stored counts the markup that the client stores after it was installed.
func (m *measuring) stored(profile *client.Profile, measure client.Measure, variant string) (func(*field.Filler, int) int, bool, error) {
	doc, _ := journey.Simulate(profile, m.prepared.Outgoing(), client.Install)
	if profile.Pasted() {
		journey.Paste(doc)
	}
	if dialect := block.Find(profile.Install.Dialect); dialect != nil {
		// the block is the same for everybody: nobody's values are needed
		program, err := m.prepared.FragmentProgram(doc, m.prepared.NewTable(), variant)
		if err != nil {
			return nil, false, err
		}
		exported, _ := block.Export(program, doc, dialect, nil) // a field the host lacks is reported when a block is asked for
		n := exported.Characters
		return func(*field.Filler, int) int { return n }, true, nil
	}
	key := variant + "\n" + doc.Render()
	if m.forms[key] == nil {
		program, err := m.prepared.FragmentProgram(doc, m.table, variant)
		if err != nil {
			return nil, false, err
		}
		m.forms[key] = &figure{program: program}
	}
	form := m.forms[key]
	return func(f *field.Filler, person int) int {
		if measure == client.Bytes {
			return form.of(f, person).bytes
		}
		return form.of(f, person).units
	}, false, nil
}

// columns measures the longest line of the text form.
func (m *measuring) columns(variant string) (func(*field.Filler, int) int, error) {
	text, err := m.prepared.TextProgram(m.table, variant)
	if err != nil {
		return nil, err
	}
	var buffer []byte
	return func(f *field.Filler, _ int) int {
		buffer = text.Append(buffer[:0], f)
		return compose.LongestLine(buffer)
	}, nil
}
