package compose

import (
	"bytes"
	"fmt"
	"html"
	"html/template"
	"reflect"
	"strings"
	"testing"
	"time"

	"missivum/core/field"
	"missivum/core/person"
)

// BenchmarkFill fills the demo template's fragment for its people, compiled once. In the same run:
// parse-anew/fill is how much longer it takes to compile it for each person; with the values worked out
// before, html-template/append is how much longer html/template takes to execute an equivalent template, and
// append/copy how much longer filling takes than appending the finished bytes.
func BenchmarkFill(b *testing.B) {
	tmpl, d := demoParts(b, "harbour")
	s := compile(b, tmpl, d.Schema, "new")
	filler := s.NewFiller()
	var buffer []byte
	n := 0
	b.ReportAllocs()
	for b.Loop() {
		filler.Set(&d.People[n%len(d.People)])
		buffer = s.Append(buffer[:0], "new", Fragment, filler)
		n++
	}
	once := b.Elapsed().Seconds() / float64(n)
	b.ReportMetric(1/once, "people/s")
	const sample = 100
	anew := perPerson(sample, d, func(p *person.Person) {
		buffer = append(buffer[:0], compile(b, tmpl, d.Schema, "new").Fill("new", Fragment, p)...)
	})
	b.ReportMetric(anew/once, "parse-anew/fill")
}

// BenchmarkAppend is BenchmarkFill without working out the values, which is done once for all forms.
func BenchmarkAppend(b *testing.B) {
	tmpl, d := demoParts(b, "harbour")
	s := compile(b, tmpl, d.Schema, "new")
	program := s.forms[formKey{"new", Fragment}].(*field.Program)
	var fillers []*field.Filler
	var finished [][]byte
	var equivalent []any
	standard, data := equivalentTemplate(b, program)
	for i := range d.People {
		f := s.NewFiller()
		f.Set(&d.People[i])
		fillers = append(fillers, f)
		finished = append(finished, s.Append(nil, "new", Fragment, f))
		equivalent = append(equivalent, data(f))
		sameText(b, standard, equivalent[i], finished[i])
	}
	buffer := make([]byte, 0, 64<<10)
	n := 0
	b.ReportAllocs()
	for b.Loop() {
		buffer = s.Append(buffer[:0], "new", Fragment, fillers[n%len(fillers)])
		n++
	}
	// the ratios are of the best of many short rounds, taken in turn: the machine is shared
	i := 0
	next := func() int { i++; return i % len(finished) }
	var out bytes.Buffer
	best := map[string]float64{}
	for range 40 {
		for name, do := range map[string]func(){
			"append": func() { buffer = s.Append(buffer[:0], "new", Fragment, fillers[next()]) },
			"copy":   func() { buffer = append(buffer[:0], finished[next()]...) },
			"html-template": func() {
				out.Reset()
				if err := standard.Execute(&out, equivalent[next()]); err != nil {
					b.Fatal(err)
				}
			},
		} {
			took := perPerson(160, d, func(*person.Person) { do() })
			if have, ok := best[name]; !ok || took < have {
				best[name] = took
			}
		}
	}
	b.ReportMetric(1/best["append"], "people/s")
	b.ReportMetric(best["append"]/best["copy"], "append/copy")
	b.ReportMetric(best["html-template"]/best["append"], "html-template/append")
}

// perPerson is how many seconds something takes for one person.
func perPerson(count int, d *person.Directory, do func(*person.Person)) float64 {
	began := time.Now()
	for i := range count {
		do(&d.People[i%len(d.People)])
	}
	return time.Since(began).Seconds() / float64(count)
}

// equivalentTemplate writes a program as a template of html/template over a struct with a field for each
// value and each condition, and gives a function that makes that struct.
func equivalentTemplate(b *testing.B, p *field.Program) (*template.Template, func(*field.Filler) any) {
	b.Helper()
	var text strings.Builder
	ends := map[int]int{}
	joins := []int{}
	for i, s := range p.Steps {
		text.WriteString(strings.Repeat("{{end}}", ends[i]))
		switch s.Kind {
		case field.StepLiteral:
			text.WriteString(s.Text)
		case field.StepValue:
			fmt.Fprintf(&text, "{{.V%d}}", s.Index)
		case field.StepNeeds:
			fmt.Fprintf(&text, "{{if .H%d}}", s.Index)
			ends[s.Jump]++
		case field.StepBetween:
			fmt.Fprintf(&text, "{{if .J%d}}%s{{end}}", len(joins), s.Text)
			joins = append(joins, i)
		case field.StepJoin, field.StepGrid, field.StepRow, field.StepColumns, field.StepRows:
		default:
			b.Fatalf("step %d of kind %d has no equivalent here", i, s.Kind)
		}
	}
	text.WriteString(strings.Repeat("{{end}}", ends[len(p.Steps)]))
	var fields []reflect.StructField
	for i := range p.Table.Exprs {
		fields = append(fields, reflect.StructField{Name: fmt.Sprintf("V%d", i), Type: reflect.TypeFor[string]()})
	}
	for i := range p.Table.Conditions {
		fields = append(fields, reflect.StructField{Name: fmt.Sprintf("H%d", i), Type: reflect.TypeFor[bool]()})
	}
	for i := range joins {
		fields = append(fields, reflect.StructField{Name: fmt.Sprintf("J%d", i), Type: reflect.TypeFor[bool]()})
	}
	kind := reflect.StructOf(fields)
	parsed, err := template.New("harbour").Parse(text.String())
	if err != nil {
		b.Fatal(err)
	}
	return parsed, func(f *field.Filler) any {
		v := reflect.New(kind).Elem()
		for i := range p.Table.Exprs {
			v.FieldByName(fmt.Sprintf("V%d", i)).SetString(f.Value(i))
		}
		for i := range p.Table.Conditions {
			v.FieldByName(fmt.Sprintf("H%d", i)).SetBool(f.Holds(i))
		}
		between := map[string]bool{}
		p.Visit(f, func(s *field.Step, text string) {
			if s.Kind == field.StepBetween {
				between[fmt.Sprintf("%p", s)] = text != ""
			}
		})
		for i, step := range joins {
			v.FieldByName(fmt.Sprintf("J%d", i)).SetBool(between[fmt.Sprintf("%p", &p.Steps[step])])
		}
		return v.Interface()
	}
}

// sameText makes sure that the templates are equivalent: their output is the same but for how signs are
// escaped.
func sameText(b *testing.B, standard *template.Template, data any, want []byte) {
	b.Helper()
	var out bytes.Buffer
	if err := standard.Execute(&out, data); err != nil {
		b.Fatal(err)
	}
	plain := func(s string) string { return strings.ReplaceAll(html.UnescapeString(s), "%2b", "+") }
	if got := plain(out.String()); got != plain(string(want)) {
		b.Fatalf("html/template gives another text\n%s\n%s", got, plain(string(want)))
	}
}

// BenchmarkCompile compiles the demo template's fragment alone, as the mail gateway needs it. In the same run,
// all/one is how much longer all forms and variants take.
func BenchmarkCompile(b *testing.B) {
	tmpl, d := demoParts(b, "harbour")
	day := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	one := Source{Template: tmpl, Schema: d.Schema, Day: day, Variants: []string{"new"}}
	n := 0
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Compile(one, Fragment); err != nil {
			b.Fatal(err)
		}
		n++
	}
	once := b.Elapsed().Seconds() / float64(n)
	all := perPerson(20, d, func(*person.Person) {
		if _, err := Compile(Source{Template: tmpl, Schema: d.Schema, Day: day}); err != nil {
			b.Fatal(err)
		}
	})
	b.ReportMetric(all/once, "all/one")
	allOfOne := perPerson(20, d, func(*person.Person) {
		if _, err := Compile(one); err != nil {
			b.Fatal(err)
		}
	})
	b.ReportMetric(allOfOne/once, "all-forms-of-one-variant/one")
}
