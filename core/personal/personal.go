// Package personal prepares what one person puts into one mail client: the signature exactly as it is copied, in its shorter form
// too, how long it will be after the paste in each engine, what that engine is known to spoil, and how the client will show it.
// Start with Prepare.
package personal

import (
	"fmt"
	"slices"
	"time"

	"missivum/core/client"
	"missivum/core/compact"
	"missivum/core/compose"
	"missivum/core/journey"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/problem"
	"missivum/core/proof"
	"missivum/core/style"
	"missivum/core/template"
)

// Input is whose signature for which client.
type Input struct {
	Template *template.Template
	Schema   *person.Schema
	Day      time.Time
	Variant  string
	Person   *person.Person
	Client   *client.Profile
}

// Form is the signature as it is copied: the whole one, or the shorter one.
type Form struct {
	HTML   string  `json:"html"`   // fragment: exactly this goes onto the clipboard
	Pastes []Paste `json:"pastes"` // for each engine; none for clients into which nothing is pasted
}

// Paste is what becomes of a form in the paste.
type Paste struct {
	Engine     journey.Engine     `json:"engine"`
	Characters int                `json:"characters"` // UTF-16 units of what the client stores
	Spoils     []proof.Difference `json:"spoils"`     // what the engine is known to change that people see
	Basis      client.Basis       `json:"basis"`
}

// Signature is one person's signature for one client.
type Signature struct {
	Text    string `json:"text"`    // the text form, without its separator line
	Whole   Form   `json:"whole"`   // as it was written
	Shorter Form   `json:"shorter"` // with what can be left out without being seen
	Limit   int    `json:"limit"`   // characters that the client's box holds; 0 for no limit
	Light   string `json:"light"`   // page: as the client will show it
	Dark    string `json:"dark"`    // page: the same in dark mode
	AsText  bool   `json:"asText"`  // the client shows text: Light and Dark are text
}

// Prepare prepares a signature. The pictures of the looks are written into them; those of the forms are where readers meet them.
func Prepare(in Input) (s Signature, err error) {
	prepared, err := compose.Prepare(in.Template, in.Schema, in.Day, compose.Reached(in.Template))
	if err != nil {
		return s, err
	}
	for _, l := range in.Client.Limits {
		if l.Measure == client.Characters && (s.Limit == 0 || l.Max < s.Limit) {
			s.Limit = l.Max
		}
	}
	compiled, err := in.Compile()
	if err != nil {
		return s, err
	}
	var fragment string
	fragment, s.Text = Fill(compiled, in.Variant, in.Person)
	if s.Whole, err = in.form(prepared, fragment); err != nil {
		return s, err
	}
	short, err := compose.Prepare(in.Template, in.Schema, in.Day, compose.Reached(in.Template))
	if err != nil {
		return s, err
	}
	short.Compacting = compact.All()
	shorter, err := preview.Of(short).Shown(in.Variant, in.Person)
	if err != nil {
		return s, err
	}
	if s.Shorter, err = in.form(short, shorter); err != nil {
		return s, err
	}
	return s, in.look(prepared, &s)
}

// Compile compiles the forms that people put into their programs. Person and Client are not needed for it.
func (in Input) Compile() (*compose.Signature, error) {
	return compose.Compile(compose.Source{Template: in.Template, Schema: in.Schema, Day: in.Day, Variants: []string{in.Variant}},
		compose.Fragment, compose.Text)
}

// Fill fills compiled forms for one person: the fragment, and the text without its separator line.
func Fill(compiled *compose.Signature, variant string, who *person.Person) (html, text string) {
	f := compiled.NewFiller()
	f.Set(who)
	return string(compiled.Append(nil, variant, compose.Fragment, f)), compiled.FillText(variant, f)
}

// form is a fragment with what becomes of it in the paste.
func (in Input) form(prepared *compose.Prepared, fragment string) (f Form, err error) {
	f = Form{HTML: fragment, Pastes: []Paste{}}
	if !in.Client.Pasted() {
		return f, nil
	}
	stored := map[journey.Engine]string{}
	for _, engine := range journey.Engines() {
		if stored[engine], err = preview.Of(prepared).Stored(in.Client, engine, in.Variant, in.Person); err != nil {
			return f, err
		}
	}
	for _, engine := range journey.Engines() {
		spoils, err := spoilt(fragment, engine, stored)
		if err != nil {
			return f, err
		}
		f.Pastes = append(f.Pastes, Paste{Engine: engine, Characters: client.Units(stored[engine]), Spoils: spoils, Basis: client.Measured})
	}
	return f, nil
}

// spoilt is what people see of what an engine does to a fragment and another one does not.
func spoilt(fragment string, engine journey.Engine, stored map[journey.Engine]string) ([]proof.Difference, error) {
	w := proof.Wanted{HTML: fragment}
	for other, body := range stored {
		if other != engine {
			w.Expected = append(w.Expected, body)
		}
	}
	v, err := proof.Judge(proof.Input{Wanted: []proof.Wanted{w}, Shown: proof.Shown{HTML: stored[engine]}})
	if problem.Is(err, problem.TooLarge) {
		return []proof.Difference{}, nil // nothing can be said of a signature above the limits
	}
	list := []proof.Difference{}
	for _, d := range v.Differences {
		if !d.Usual && !d.Kind.Harmless() {
			list = append(list, d)
		}
	}
	return list, err
}

// look shows the signature as the client does.
func (in Input) look(prepared *compose.Prepared, s *Signature) error {
	p := preview.Of(prepared)
	p.ShowAt = compose.Data
	for _, view := range []struct {
		dark bool
		into *string
	}{{false, &s.Light}, {true, &s.Dark}} {
		kept, err := p.Seen(in.Client, client.Render, journey.View{Dark: view.dark}, in.Variant, in.Person)
		if err != nil {
			return fmt.Errorf("showing it: %w", err)
		}
		*view.into, s.AsText = kept.Body, kept.Form == compose.Text
		if kept.Form == compose.RTF { // shown as what is in it
			hosted, err := p.Shown(in.Variant, in.Person)
			if err != nil {
				return err
			}
			*view.into = hosted
		}
	}
	return nil
}

// Backgrounds are the colours of a client's page behind the signature, light and dark, for the looks; as #rrggbb.
func Backgrounds(p *client.Profile) (light, dark string) {
	l, _ := journey.Background(p, journey.View{})
	d, _ := journey.Background(p, journey.View{Dark: true})
	return style.Hex(l), style.Hex(d)
}

// Wanted is the signature as core/proof holds it against what is shown.
func (in Input) Wanted(situation, release string, older bool) (w proof.Wanted, err error) {
	w = proof.Wanted{Situation: situation, Release: release, Older: older}
	compiled, err := in.Compile()
	if err != nil {
		return w, err
	}
	w.HTML, w.Text = Fill(compiled, in.Variant, in.Person)
	if in.Client == nil || in.Client.Form != "html" {
		return w, nil
	}
	prepared, err := compose.Prepare(in.Template, in.Schema, in.Day, compose.Reached(in.Template))
	if err != nil {
		return w, err
	}
	if in.Client.Pasted() {
		for _, engine := range journey.Engines() {
			stored, err := preview.Of(prepared).Stored(in.Client, engine, in.Variant, in.Person)
			if err != nil {
				return w, err
			}
			w.Expected = append(w.Expected, stored)
		}
	}
	for _, stage := range []client.Stage{client.Install, client.Receive, client.Render} {
		kept, err := preview.Of(prepared).Kept(in.Client, stage, in.Variant, in.Person)
		if err != nil {
			return w, err
		}
		if !slices.Contains(w.Expected, kept.Body) {
			w.Expected = append(w.Expected, kept.Body)
		}
	}
	return w, nil
}

// Fields lists the fields that a template uses, as they are written in it.
func Fields(t *template.Template, schema *person.Schema, day time.Time) ([]string, error) {
	prepared, err := compose.Prepare(t, schema, day, compose.Reached(t))
	if err != nil {
		return nil, err
	}
	var list []string
	for _, e := range prepared.FieldSource().Exprs(prepared.Doc.Root) {
		for _, column := range e.Fields {
			if !slices.Contains(list, column.Name) {
				list = append(list, column.Name)
			}
		}
	}
	return list, nil
}
