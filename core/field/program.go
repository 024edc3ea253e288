package field

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/markup"
	"missivum/core/person"
)

// StepKind says what a Step does.
type StepKind uint8

// The kinds of step.
const (
	StepLiteral StepKind = iota // append Text
	StepValue                   // append a value, escaped
	StepNeeds                   // jump to Jump unless Condition holds
	StepJoin                    // begin joined pieces at a level
	StepBetween                 // append Text if an earlier piece of the level is there
	stepMark                    // a note to the sink about layout; nothing in HTML
	StepEach                    // begin a list's first entry, or jump to Jump when it has none
	stepAgain                   // go back to Jump while the list has entries
	stepEntry                   // append an expression of the list's entry, escaped
	stepFilled                  // jump to Jump when an expression of the list's entry gives nothing
	StepGrid                    // fit a table's cells to each other, or jump to Jump when no row is left
	StepRow                     // jump to Jump when the row has lost its cells
	StepColumns                 // append a cell's colspan
	StepRows                    // append a cell's rowspan
)

// Step is one operation of a compiled template.
type Step struct {
	Kind   StepKind
	Escape Escape
	Mark   Mark
	Output int // StepValue: the escaped value in the Table
	Index  int // of the expression, condition or list in the Table, of the grid in the program; joins: level
	Level  int // StepEach, StepAgain, StepEntry: how deep the loops are nested; rows and cells: their number in the grid
	Jump   int // the step to go on with
	Text   string
}

// Mark is a sign for the sink of Filler.Run; text forms use it for line breaks and links.
type Mark int

// Condition decides whether an element stays.
type Condition struct {
	Fields  []string
	Columns []int
	Any     bool // one blank field is enough to fail, unless Any
	Unless  bool // stays only when none has a value
	Span    markup.Span

	filled int // holds while an expression of the table gives something: its number plus one; 0 for a condition on fields
}

// holds reports whether the element stays for the person, with the values of the table's expressions.
func (c *Condition) holds(p *person.Person, values []string) bool {
	if c.filled > 0 {
		return p.Names || values[c.filled-1] != ""
	}
	if c.Unless {
		for _, column := range c.Columns {
			if !person.IsBlank(p.At(column)) {
				return false
			}
		}
		return true
	}
	for _, column := range c.Columns {
		if blank := person.IsBlank(p.At(column)); blank != c.Any {
			return c.Any
		}
	}
	return !c.Any
}

// Table holds the distinct expressions and conditions of one template, shared by its forms, so that
// each is worked out once per person.
type Table struct {
	Exprs      []Expr
	Conditions []Condition
	Lists      []List

	outputs  []output
	programs int // how many there are

	country, language int
	defaultCountry    string
	fallback          []string // languages for those who have none
}

// NewTable makes an empty table for a directory's schema. defaultCountry (two letters) is for people
// whose field c is blank.
func NewTable(schema *person.Schema, defaultCountry string) *Table {
	t := &Table{defaultCountry: defaultCountry, fallback: schema.Languages()}
	t.country, _, _ = schema.Column("c")
	t.language, _, _ = schema.Column("preferredLanguage")
	return t
}

// output is an expression's value, escaped for a kind of place: worked out once per person, however often
// and in however many forms it is shown.
type output struct {
	expr   int
	escape Escape
}

// addOutput takes an output into the table, once however often it is shown.
func (t *Table) addOutput(o output) int {
	if i := slices.Index(t.outputs, o); i >= 0 {
		return i
	}
	t.outputs = append(t.outputs, o)
	return len(t.outputs) - 1
}

// addExpr takes an expression into the table, once.
func (t *Table) addExpr(e Expr) int {
	for i := range t.Exprs {
		if t.Exprs[i].Text == e.Text && slices.EqualFunc(t.Exprs[i].Modifiers, e.Modifiers, sameModifier) {
			return i
		}
	}
	t.Exprs = append(t.Exprs, e)
	return len(t.Exprs) - 1
}

// sameModifier reports whether two modifiers do the same.
func sameModifier(a, b Modifier) bool { return a.kind == b.kind && a.Argument == b.Argument }

// Add adds the expression that stands between double braces, and gives its number for Filler.Value.
func (t *Table) Add(text string, schema *person.Schema) (int, error) {
	e, problems := parseExpr(text, schema)
	if len(problems) > 0 {
		return 0, fmt.Errorf("{{ %s }}: %s", text, problems[0].message)
	}
	return t.addExpr(e), nil
}

// addCondition takes a condition into the table, once.
func (t *Table) addCondition(c Condition) int {
	for i, have := range t.Conditions {
		if have.Any == c.Any && have.Unless == c.Unless && have.filled == c.filled &&
			slices.Equal(have.Columns, c.Columns) && slices.Equal(have.Fields, c.Fields) {
			return i
		}
	}
	t.Conditions = append(t.Conditions, c)
	return len(t.Conditions) - 1
}

// Program is one form of a template, compiled.
type Program struct {
	Table  *Table
	Steps  []Step
	Grids  []Grid
	number int // among the programs of the table
	levels int // of joins
	loops  int // of lists
}

// Builder makes a Program step by step.
type Builder struct {
	program *Program
	literal strings.Builder
	level   int
	loop    int
}

// NewBuilder starts a program whose values stand in the table.
func NewBuilder(table *Table) *Builder {
	table.programs++
	return &Builder{program: &Program{Table: table, number: table.programs - 1}}
}

// Literal appends ready text.
func (b *Builder) Literal(s string) { b.literal.WriteString(s) }

// Value appends a field.
func (b *Builder) Value(e Expr, escape Escape) {
	if e.Part != entryNone {
		if e.Dialled && escape == EscapePart {
			escape = escapeAttr
		}
		b.step(Step{Kind: stepEntry, Escape: escape, Index: b.program.Table.addExpr(e), Level: b.loop - 1})
		return
	}
	if escape == EscapePart && e.encoded() { // not twice
		escape = escapeAttr
	} else if escape == EscapePlainPart && e.encoded() {
		escape = EscapeNone
	}
	if e.Dialled && escape == EscapePart { // digits and ;ext=
		escape = escapeAttr
	} else if e.Dialled && escape == EscapePlainPart {
		escape = EscapeNone
	}
	index := b.program.Table.addExpr(e)
	b.step(Step{Kind: StepValue, Escape: escape, Index: index, Output: b.program.Table.addOutput(output{index, escape})})
}

// Mark appends a sign for the sink.
func (b *Builder) Mark(m Mark) { b.step(Step{Kind: stepMark, Mark: m}) }

// Needs begins what stays only under a condition; the answer is to be given to End.
func (b *Builder) Needs(c Condition) int {
	b.step(Step{Kind: StepNeeds, Index: b.program.Table.addCondition(c)})
	return len(b.program.Steps) - 1
}

// End closes what Needs began.
func (b *Builder) End(needs int) {
	b.flush()
	b.program.Steps[needs].Jump = len(b.program.Steps)
}

// each begins what is repeated for each entry of a list; the answer is to be given to Again.
func (b *Builder) each(l List) int {
	b.step(Step{Kind: StepEach, Index: b.addList(l), Level: b.loop})
	b.loop++
	b.program.loops = max(b.program.loops, b.loop)
	return len(b.program.Steps) - 1
}

// again closes what Each began.
func (b *Builder) again(each int) {
	b.loop--
	b.step(Step{Kind: stepAgain, Level: b.loop, Jump: each + 1})
	b.program.Steps[each].Jump = len(b.program.Steps)
}

// addList takes a list into the table, once.
func (b *Builder) addList(l List) int {
	t := b.program.Table
	same := func(have List) bool { return have.Field == l.Field && have.Constant == l.Constant }
	if i := slices.IndexFunc(t.Lists, same); i >= 0 {
		return i
	}
	t.Lists = append(t.Lists, l)
	return len(t.Lists) - 1
}

// join begins a row of pieces that are joined by a separator; EndJoin closes it.
func (b *Builder) join() {
	b.step(Step{Kind: StepJoin, Index: b.level})
	b.level++
	b.program.levels = max(b.program.levels, b.level)
}

// between stands at the head of each piece.
func (b *Builder) between(separator string) {
	b.step(Step{Kind: StepBetween, Index: b.level - 1, Text: separator})
}

// endJoin closes Join.
func (b *Builder) endJoin() { b.level-- }

// Program ends the building.
func (b *Builder) Program() *Program {
	b.flush()
	return b.program
}

// step adds a step behind the literal bytes before it.
func (b *Builder) step(s Step) {
	b.flush()
	b.program.Steps = append(b.program.Steps, s)
}

// flush ends a run of literal bytes.
func (b *Builder) flush() {
	if b.literal.Len() > 0 {
		b.program.Steps = append(b.program.Steps, Step{Kind: StepLiteral, Text: b.literal.String()})
		b.literal.Reset()
	}
}

// MarksDepend reports whether any mark is given to some people only.
func (p *Program) MarksDepend() bool {
	for i, s := range p.Steps {
		if s.Kind != StepNeeds && s.Kind != StepEach && s.Kind != stepFilled {
			continue
		}
		for _, inside := range p.Steps[i:s.Jump] {
			if inside.Kind == stepMark {
				return true
			}
		}
	}
	return false
}

// Trim takes white space away from the program's beginning and end, as far as it is literal.
func (p *Program) Trim() {
	if n := len(p.Steps); n > 0 {
		if first := &p.Steps[0]; first.Kind == StepLiteral {
			first.Text = strings.TrimLeft(first.Text, " \t\r\n")
		}
		if last := &p.Steps[n-1]; last.Kind == StepLiteral {
			last.Text = strings.TrimRight(last.Text, " \t\r\n")
		}
	}
}

// Filler holds one person's values for all programs of a table. It is reused from person to person
// and is not for use by several goroutines at once.
type Filler struct {
	table   *Table
	values  []string
	escaped []byte   // the outputs, one behind the other
	outputs [][]byte // each of them
	holds   []bool
	lists   [][]string
	mask    uint64             // which conditions hold, the first as the lowest bit
	plans   []map[uint64]*plan // of each program, by which conditions hold
	joined  []bool
	loops   []loop
	grids   []settledGrid
	env     env
}

// NewFiller makes a filler for the programs of a table.
func NewFiller(t *Table) *Filler { return &Filler{table: t} }

// UseNumbers lets the filler look for telephone numbers among those that were read elsewhere, and keep its own there.
func (f *Filler) UseNumbers(n *Numbers) { f.env.numbers = n }

// Set works out every expression and condition of the table for a person.
func (f *Filler) Set(p *person.Person) {
	t := f.table
	f.env.home = t.defaultCountry
	f.env.Country = countryCode(p.At(t.country), t.defaultCountry)
	f.env.Language = p.At(t.language)
	for i := 0; f.env.Language == "" && i < len(t.fallback); i++ {
		f.env.Language = t.fallback[i]
	}
	f.values = f.values[:0]
	for i := range t.Exprs {
		f.values = append(f.values, t.Exprs[i].value(p, &f.env))
	}
	f.escaped, f.outputs = f.escaped[:0], f.outputs[:0]
	for _, o := range t.outputs {
		from := len(f.escaped)
		f.escaped = AppendEscaped(f.escaped, f.values[o.expr], o.escape)
		f.outputs = append(f.outputs, f.escaped[from:]) // stays what it is when f.escaped moves
	}
	f.holds = f.holds[:0]
	for i := range t.Conditions {
		f.holds = append(f.holds, t.Conditions[i].holds(p, f.values))
	}
	f.remember()
	f.lists = f.lists[:0]
	for i := range t.Lists {
		f.lists = append(f.lists, t.Lists[i].entries(p))
	}
}

// SetAnybody sets nobody in particular: all values are blank, and yet every condition that asks for a value
// holds. Forms that cannot depend on the person are made so.
func (f *Filler) SetAnybody() {
	f.Set(&person.Person{})
	for i := range f.holds {
		f.holds[i] = !f.table.Conditions[i].Unless
	}
	f.remember()
}

// remember notes which conditions hold, for finding a plan.
func (f *Filler) remember() {
	f.mask = 0
	for i, holds := range f.holds {
		if holds && i < maxPlanned {
			f.mask |= 1 << i
		}
	}
}

// Value is what an expression of the table gives for the person set.
func (f *Filler) Value(index int) string { return f.values[index] }

// Entries are the entries of a list of the table for the person set.
func (f *Filler) Entries(index int) []string { return f.lists[index] }

// holds reports whether a condition of the table holds for the person set.
func (f *Filler) Holds(index int) bool { return f.holds[index] }

// value works an expression out for one person.
func (e *Expr) value(p *person.Person, env *env) string {
	value := e.Literal
	switch {
	case len(e.Fields) > 0:
		value = e.Raw(p)
		if len(e.Modifiers) == 0 || !e.Modifiers[0].kind.raw {
			value = person.Clean(value)
		}
	case e.Texts == nil: // a constant is the organisation's, wherever the person works
		country := env.Country
		env.Country = env.home
		value = e.modified(value, env)
		env.Country = country
		return value
	default:
		value = e.Texts.In(env.Language)
		if value == "" {
			value = e.Texts.In(e.Fallback...)
		}
	}
	return e.modified(value, env)
}

// modified runs a value through the modifiers.
func (e *Expr) modified(value string, env *env) string {
	for _, m := range e.Modifiers {
		if value == "" && m.Name != "or" {
			continue
		}
		value = m.kind.apply(env, value, m.Argument)
	}
	return value
}

// Sink takes a program's output piece by piece.
type Sink interface {
	Text(s string)
	Mark(m Mark)
}

// Run gives the program's output for the person set in f to a sink. Append is the same for bytes, without
// a call for each step: filling markup is the path that must be fast.
func (p *Program) Run(f *Filler, sink Sink) {
	p.Visit(f, func(s *Step, text string) {
		if s.Kind == stepMark {
			sink.Mark(s.Mark)
		} else if text != "" {
			sink.Text(text)
		}
	})
}

// Visit goes through the steps that are done for the person set in f, with what each appends, escaped.
func (p *Program) Visit(f *Filler, visit func(s *Step, text string)) {
	f.begin(p)
	for i := 0; i < len(p.Steps); i++ {
		s := &p.Steps[i]
		next, text := i, ""
		switch s.Kind {
		case StepLiteral:
			text = s.Text
		case stepMark:
		case StepValue:
			text = string(f.outputs[s.Output])
		case stepEntry:
			text = string(AppendEscaped(nil, f.entry(s), s.Escape))
		default:
			next, text = f.control(p, s, i)
		}
		visit(s, text)
		i = next
	}
}

// begin makes room for the state of a program's joins, loops and grids.
func (f *Filler) begin(p *Program) {
	for len(f.joined) < p.levels {
		f.joined = append(f.joined, false)
	}
	for len(f.loops) < p.loops {
		f.loops = append(f.loops, loop{})
	}
	for len(f.grids) < len(p.Grids) {
		f.grids = append(f.grids, settledGrid{})
	}
}

// entry works out an expression of the entry at which its loop stands.
func (f *Filler) entry(s *Step) string {
	e := &f.table.Exprs[s.Index]
	return e.modified(e.Part.of(f.loops[s.Level].entry()), &f.env)
}

// control does a step that decides what comes next. It gives the number of the step just done, or of the
// one before that to jump to, and what is to be appended.
func (f *Filler) control(p *Program, s *Step, at int) (next int, text string) {
	jump := false
	switch s.Kind {
	case StepNeeds:
		jump = !f.holds[s.Index]
	case stepFilled:
		jump = f.entry(s) == ""
	case StepJoin:
		f.joined[s.Index] = false
	case StepBetween:
		if f.joined[s.Index] {
			text = s.Text
		}
		f.joined[s.Index] = true
	case StepEach:
		f.loops[s.Level] = loop{entries: f.lists[s.Index]}
		jump = len(f.lists[s.Index]) == 0
	case stepAgain:
		l := &f.loops[s.Level]
		l.at++
		jump = l.at < len(l.entries)
	case StepGrid:
		p.Grids[s.Index].settle(f, &f.grids[s.Index])
		jump = f.grids[s.Index].gone()
	case StepRow:
		jump = f.grids[s.Index].count[s.Level] == 0
	case StepColumns:
		text = span("colspan", f.grids[s.Index].cols[s.Level])
	case StepRows:
		text = span("rowspan", f.grids[s.Index].rows[s.Level])
	}
	if jump {
		at = s.Jump - 1
	}
	return at, text
}
