package check

import (
	"context"
	"fmt"
	"slices"
	"sort"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/rule"
)

// gauge is one thing to measure: the program whose output is counted, and for which budget.
type gauge struct {
	budget  Budget
	variant string
	count   func(f *field.Filler) int
	fixed   bool // the same for everybody
}

// measure works out every limit of every profile for each variant and the worst person.
func measure(ctx context.Context, prepared *compose.Prepared, in Input) ([]Budget, error) {
	table := prepared.NewTable()
	var gauges []*gauge
	for _, variant := range in.Template.Variants() {
		for _, profile := range in.Profiles {
			made, err := gaugesOf(prepared, table, profile, variant)
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
	filler := field.NewFiller(table)
	mail, _, _ := people.Schema.Column("mail")
	for i := range people.People {
		if i%256 == 0 && ctx.Err() != nil {
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
			n := g.count(filler)
			figures[g] = append(figures[g], n)
			if i == 0 || n > best[g] {
				best[g] = n
				who[g] = people.People[i].At(mail)
			}
		}
	}
	for _, g := range gauges {
		g.spread(figures[g], len(people.People))
	}
	return worst(gauges, best, who, in.People != nil), nil
}

// spread notes the least figure and the middle one, and for how many people the limit is burst.
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
	schema := person.NewSchema()
	if in.People != nil {
		schema = in.People.Schema
	}
	prepared, err := compose.Prepare(in.Template, schema, in.Day, compose.Travelling(in.Template, compose.Fragment, compose.Beside))
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
	return list
}

func gaugesOf(prepared *compose.Prepared, table *field.Table, profile *client.Profile, variant string) ([]*gauge, error) {
	var list []*gauge
	for _, limit := range profile.Limits {
		g := &gauge{variant: variant, budget: Budget{
			Client: profile.ID, Measure: limit.Measure, Limit: limit.Max, Unit: limit.Measure.Unit(),
			Severity: limit.Severity, Basis: limit.Basis, Says: limit.Says,
		}}
		var err error
		switch limit.Measure {
		case client.PictureBytes:
			g.count, g.fixed = prepared.PictureWeight(table, variant)
		case client.Columns:
			g.count, err = columns(prepared, table, variant)
		case client.Characters, client.Bytes:
			g.count, g.fixed, err = stored(prepared, table, profile, limit.Measure, variant)
		}
		if err != nil {
			return nil, err
		}
		list = append(list, g)
	}
	return list, nil
}

// stored counts the markup that the client stores after it was installed.
func stored(prepared *compose.Prepared, table *field.Table, profile *client.Profile, measure client.Measure, variant string) (func(*field.Filler) int, bool, error) {
	doc, _ := client.Simulate(profile, prepared.Outgoing(), client.Install)
	if profile.Pasted() {
		client.Paste(doc)
	}
	dialect := rule.Find(profile.Install.Dialect)
	if dialect != nil {
		table = prepared.NewTable() // the block is the same for everybody: nobody's values are needed
	}
	program, err := prepared.FragmentProgram(doc, table, variant)
	if err != nil {
		return nil, false, err
	}
	if dialect != nil {
		n := rule.Export(program, doc, dialect, nil).Characters
		return func(*field.Filler) int { return n }, true, nil
	}
	var buffer []byte
	return func(f *field.Filler) int {
		buffer = program.Append(buffer[:0], f)
		if measure == client.Bytes {
			return len(buffer)
		}
		return client.Units(buffer)
	}, false, nil
}

func columns(prepared *compose.Prepared, table *field.Table, variant string) (func(*field.Filler) int, error) {
	text, err := prepared.TextProgram(table, variant)
	if err != nil {
		return nil, err
	}
	var buffer []byte
	return func(f *field.Filler) int {
		buffer = text.Append(buffer[:0], f)
		return compose.LongestLine(buffer)
	}, nil
}
