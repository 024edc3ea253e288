// Package preview shows a signature as somebody meets it: as written, as a client keeps it at some stage of its way, or
// as its reader sees it in dark mode or with pictures blocked. A prepared template goes in, markup for a browser or text
// comes out, with what happened on the way. Start with Of.
package preview

import (
	"fmt"
	"time"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/template"
)

// Preview shows a prepared template.
type Preview struct {
	*compose.Prepared
	// ShowAt, when it is set, gives the addresses under which the template's pictures are shown, in the place of those
	// that clients were given.
	ShowAt compose.Addresser
	// MarkSource says on every element where it came from, in field.AttrSource.
	MarkSource bool
}

// Of shows a prepared template with the addresses that it was prepared with.
func Of(p *compose.Prepared) *Preview { return &Preview{Prepared: p} }

// Kept is a signature as a client has it at some stage.
type Kept struct {
	Form compose.Form    // Text for clients that show text
	Body string          // markup, or text
	Log  []journey.Event // what happened on the way
}

// Kept gives the signature of one person as a client keeps it up to and including a stage; at
// client.Render, as it shows it. A nil person leaves the template's own marks in markup, and shows the
// field names in text. An empty variant shows the elements of all variants.
func (p *Preview) Kept(profile *client.Profile, stage client.Stage, variant string, who *person.Person) (Kept, error) {
	return p.Seen(profile, stage, journey.View{}, variant, who)
}

// Pasted is what is predicted to stand in an editable element after one person's signature was copied from a browser
// and pasted there, before a client changes anything.
func (p *Preview) Pasted(variant string, who *person.Person) (string, error) {
	anywhere := &client.Profile{Form: "html", Install: client.Installation{Way: "paste-rendered"}}
	kept, err := p.Kept(anywhere, client.Install, variant, who)
	return kept.Body, err
}

// PastedInGecko is Pasted for a browser with the Gecko engine.
func (p *Preview) PastedInGecko(variant string, who *person.Person) (string, error) {
	doc := p.Outgoing()
	journey.PasteInGecko(doc)
	return p.fillFragment(doc, variant, who)
}

// Stored is what a client into which a rendered copy is pasted stores of one person's signature, when a page put the markup onto the
// clipboard letter by letter and a browser of an engine pasted it.
func (p *Preview) Stored(profile *client.Profile, engine journey.Engine, variant string, who *person.Person) (string, error) {
	outgoing, _ := journey.Simulate(profile, p.Outgoing(), client.Install)
	copied, err := p.fillFragment(outgoing, variant, who)
	if err != nil {
		return "", err
	}
	return journey.PasteGiven(engine, copied)
}

// Copy is one person's signature on its way through the clipboard.
type Copy struct {
	Shown   string // what is copied: as a browser shows it
	Pasted  string // what is predicted to stand where it was pasted, before a client changes anything
	InGecko string // the same in a browser with the Gecko engine
}

// Paste predicts what becomes of one person's signature in the paste. Pictures are at the addresses that readers meet.
func Paste(t *template.Template, schema *person.Schema, day time.Time, variant string, who *person.Person) (Copy, error) {
	var c Copy
	prepared, err := compose.Prepare(t, schema, day, compose.Reached(t))
	if err != nil {
		return c, err
	}
	p := Of(prepared)
	if c.Shown, err = p.Shown(variant, who); err != nil {
		return c, err
	}
	if c.Pasted, err = p.Pasted(variant, who); err != nil {
		return c, err
	}
	c.InGecko, err = p.PastedInGecko(variant, who)
	return c, err
}

// Seen is Kept with a view: in dark mode, or with pictures blocked.
func (p *Preview) Seen(profile *client.Profile, stage client.Stage, view journey.View, variant string, who *person.Person) (Kept, error) {
	switch profile.Form {
	case "text":
		return keptText(p, compose.Text, p.TextProgram, variant, who)
	case "rtf":
		return keptText(p, compose.RTF, p.RichText, variant, who)
	}
	doc, log := journey.SimulateIn(view, profile, p.Outgoing(), stage)
	if profile.Pasted() {
		journey.Paste(doc)
	}
	if stage == client.Render {
		journey.Show(profile, doc, view)
		p.showPictures(doc)
	}
	kept := Kept{Form: compose.HTML, Log: log}
	if who == nil {
		doc.Fragment()
		kept.Body = doc.Render()
		return kept, nil
	}
	var err error
	kept.Body, err = p.fillFragment(doc, variant, who)
	return kept, err
}

// program is a compiled form.
type program interface {
	Append(dst []byte, f *field.Filler) []byte
}

// keptText is what a client gets that shows text or rich text.
func keptText[P program](p *Preview, form compose.Form, compile func(*field.Table, string) (P, error), variant string,
	who *person.Person) (Kept, error) {
	table := p.NewTable()
	filler := field.NewFiller(table)
	made, err := compile(table, variant)
	if err != nil {
		return Kept{}, err
	}
	if who == nil {
		who = compose.FieldNames(p.Schema)
	}
	filler.Set(who)
	return Kept{Form: form, Body: string(made.Append(nil, filler))}, nil
}

// Shown gives the signature as written, filled for one person: the fragment with the pictures at the
// addresses that the document was prepared with.
func (p *Preview) Shown(variant string, who *person.Person) (string, error) {
	doc := p.Outgoing()
	p.showPictures(doc)
	return p.fillFragment(doc, variant, who)
}

// showPictures gives each of the template's pictures that is still there the address under which it is shown.
func (p *Preview) showPictures(doc *markup.Document) {
	if p.ShowAt == nil {
		return
	}
	for _, n := range doc.Root.Elements("img") {
		src, _ := n.Attr("src")
		picture := p.PictureOf(n)
		if scheme := markup.SchemeOf(src); picture != nil && (scheme == "https" || scheme == "http" || scheme == "cid") {
			n.SetAttr("src", p.ShowAt(picture))
		}
	}
}

// markSource says on every element where it came from.
func markSource(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		if n.Open.Len() > 0 {
			n.SetAttr(field.AttrSource, fmt.Sprintf("%d:%d", n.Open.Start, lastByte(n)))
		}
	}
}

// lastByte is where an element ends in the source.
func lastByte(n *markup.Node) int {
	end := max(n.Open.End, n.Close.End)
	for _, c := range n.Children {
		end = max(end, lastByte(c))
	}
	return end
}

func (p *Preview) fillFragment(doc *markup.Document, variant string, who *person.Person) (string, error) {
	if p.MarkSource {
		markSource(doc)
	}
	table := p.NewTable()
	program, err := p.FragmentProgram(doc, table, variant)
	if err != nil {
		return "", err
	}
	filler := field.NewFiller(table)
	filler.Set(who)
	return string(program.Append(nil, filler)), nil
}
