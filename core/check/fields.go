package check

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/person"
)

// fieldChecks look at the fields and at the people behind them.
var fieldChecks = []*Check{
	{
		ID: "telephone-number", Title: "Telephone number that cannot be read",
		Why: "A number with words, or two in one field, cannot be written the common way, and what a telephone would dial " +
			"is not certain. It is shown as the directory has it, and the link around it is left out.",
		Remedy:  "Correct the number in the directory, or show the field without phone and dial.",
		Failing: `<p data-needs="telephoneNumber">{{ telephoneNumber | phone }}</p>`,
		Passing: `<p data-needs="telephoneNumber">{{ telephoneNumber }}</p>`,
		Run:     telephoneNumbers,
	},
	{
		ID: "name-blank", Title: "Signature without a name",
		Why:     "A signature says who writes. Where the field with the name is blank, it is the organisation's card with nobody on it.",
		Remedy:  "Map the column that holds the name, or compose the name of the fields that hold its parts: {{ givenName }} {{ sn }}.",
		Failing: `<p>{{ displayName }}</p>`,
		Passing: `<p>{{ cn }}</p>`,
		Run:     nameBlank,
	},
	{
		ID: "date-value", Title: "Day that cannot be read",
		Why:     "What is no day cannot be written in the person's language and is shown as the directory has it.",
		Remedy:  "Correct the day in the directory (2027-03-14 or 20270314093000Z), or show the field without date.",
		Failing: `<p data-needs="title">Since {{ title | date 'long' }}</p>`,
		Passing: `<p data-needs="hireDate">Since {{ hireDate | date 'long' }}</p>`,
		Run:     dateValues,
	},
	{
		ID: "often-blank", Title: "Field that nearly everybody lacks",
		Why: "A field that is blank for nearly everybody is often one that was spelt or mapped wrongly, and the " +
			"signature was judged by the few who have it.",
		Remedy: "Look at how the directory's columns are mapped. If it is meant so, set oftenBlank in " +
			"template.yaml to the share in percent that is expected.",
		Failing: `<p>Fax {{ facsimileTelephoneNumber | or '01632 960199' }}</p>`,
		Passing: `<p>{{ cn }}</p>`,
		Run:     oftenBlank,
	},
	{
		ID: "blank-field", Title: "Label or separator left beside a blank field",
		Why:     "A field that is blank for some people takes only itself away: the label, the separator, the line or the link around it stays.",
		Remedy:  "Put data-needs with the field's name on the element that holds field and label.",
		Failing: `<p>Mobile: {{ mobile | phone }}</p>`,
		Passing: `<p data-needs="mobile">Mobile: {{ mobile | phone }}</p>`,
		Run:     blankField,
	},
}

// telephoneNumbers finds people whose telephone number cannot be understood where it is shown or dialled
// as one.
func telephoneNumbers(p *Pass) {
	if p.People == nil {
		return
	}
	country, _, _ := p.People.Schema.Column("c")
	p.misread((*field.Expr).Telephone, func(e *field.Expr, someone *person.Person) bool {
		return !p.Numbers.Dialable(e.Raw(someone), someone.At(country), p.Template.Settings.Country)
	}, "is not certainly one telephone number for %s; it is shown as written, without a link.")
}

// dateValues finds what the check date-value reports: day that cannot be read.
func dateValues(p *Pass) {
	if p.People == nil {
		return
	}
	p.misread((*field.Expr).Day, func(e *field.Expr, someone *person.Person) bool {
		value := person.Clean(e.Raw(someone))
		_, ok := field.ParseDay(value)
		return value != "" && !ok
	}, "cannot be read as a day for %s; it is shown as written.")
}

// misread reports each field that is meant to be of a kind and is not for some people.
func (p *Pass) misread(kind func(*field.Expr) bool, wrong func(*field.Expr, *person.Person) bool, message string) {
	reported := map[string]bool{}
	for _, e := range p.Fields.Exprs(p.Doc.Root) {
		if reported[e.Field] || !kind(e) {
			continue
		}
		reported[e.Field] = true
		if who := p.whose(func(someone *person.Person) bool { return wrong(e, someone) }); len(who) > 0 {
			p.Report(Finding{
				Span:     e.Span,
				Severity: client.Degrades,
				Message:  e.Field + " " + fmt.Sprintf(message, p.named(who)),
				People:   who,
			})
		}
	}
}

// oftenBlankShare is from how many percent of the people on a blank field is reported, unless the template
// says otherwise.
const oftenBlankShare = 95

// oftenBlank finds what the check often-blank reports: field that nearly everybody lacks.
func oftenBlank(p *Pass) {
	if p.People == nil || len(p.People.People) == 0 {
		return
	}
	share := oftenBlankShare
	if p.Template.Settings.OftenBlank > 0 {
		share = p.Template.Settings.OftenBlank
	}
	reported := map[string]bool{}
	for _, e := range p.Fields.Exprs(p.Doc.Root) {
		if len(e.Fields) == 0 || reported[e.Field] {
			continue
		}
		reported[e.Field] = true
		who := p.whose(func(someone *person.Person) bool { return e.Raw(someone) == "" })
		if 100*len(who) >= share*len(p.People.People) {
			p.Report(Finding{
				Span:     e.Span,
				Severity: client.Note,
				Message:  fmt.Sprintf("%s is blank for %s; %d %% or more is unusual.", e.Field, p.named(who), share),
				People:   who,
			})
		}
	}
}

// nameFields hold a person's name or a part of it.
var nameFields = []string{"cn", "displayName", "givenName", "sn"}

// names are the expressions of the template that show a name.
func (p *Pass) names() []*field.Expr {
	var list []*field.Expr
	for _, e := range p.Fields.Exprs(p.Doc.Root) {
		if slices.ContainsFunc(e.Fields, func(c field.Column) bool { return slices.Contains(nameFields, c.Name) }) {
			list = append(list, e)
		}
	}
	return list
}

// nameBlank finds people for whom no name is shown, in a template that shows one.
func nameBlank(p *Pass) {
	names := p.names()
	if p.People == nil || len(names) == 0 {
		return
	}
	who := p.whose(func(someone *person.Person) bool {
		return !slices.ContainsFunc(names, func(e *field.Expr) bool { return e.Raw(someone) != "" })
	})
	if len(who) == 0 {
		return
	}
	severity := client.Degrades
	if 2*len(who) > len(p.People.People) {
		severity = client.Breaks
	}
	p.Report(Finding{
		Span:     names[0].Span,
		Severity: severity,
		People:   who,
		Fix:      p.composedName(names[0]),
		Message:  fmt.Sprintf("No name is shown for %s: %s is blank.", p.named(who), names[0].Field),
	})
}

// composedName shows a name in the place of one that is blank: another field that holds it, or first and last name.
func (p *Pass) composedName(shown *field.Expr) *Fix {
	blank := func(someone *person.Person) bool { return shown.Raw(someone) == "" }
	total := len(p.whose(blank))
	helps := func(fields ...string) bool {
		helped := p.whose(func(someone *person.Person) bool {
			return blank(someone) && !slices.ContainsFunc(fields, func(f string) bool { return person.IsBlank(p.People.Get(someone, f)) })
		})
		return 2*len(helped) > total
	}
	_, modifiers, found := strings.Cut(shown.Text, "|")
	if found {
		modifiers = " |" + strings.TrimRight(modifiers, " ")
	}
	h := p.Edit()
	for _, other := range []string{"cn", "displayName"} {
		if !slices.ContainsFunc(shown.Fields, func(c field.Column) bool { return c.Name == other }) && helps(other) {
			h.Replace(shown.Span, fmt.Sprintf("{{ %s or %s%s }}", strings.TrimSpace(shown.Field), other, modifiers))
			return fixOf(h, "Show "+other+" where "+shown.Field+" is blank")
		}
	}
	if helps("givenName", "sn") && total == len(p.People.People) {
		h.Replace(shown.Span, fmt.Sprintf("{{ givenName%s }} {{ sn%s }}", modifiers, modifiers))
		return fixOf(h, "Compose the name of givenName and sn")
	}
	return nil
}
