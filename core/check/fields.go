package check

import (
	"fmt"

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
