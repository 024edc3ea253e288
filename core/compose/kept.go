package compose

import (
	"fmt"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
)

// Kept is a signature as a client has it at some stage.
type Kept struct {
	Form Form           // Text for clients that show text
	Body string         // markup, or text
	Log  []client.Event // what happened on the way
}

// Kept gives the signature of one person as a client keeps it up to and including a stage; at
// client.Render, as it shows it. A nil person leaves the template's own marks in markup, and shows the
// field names in text. An empty variant shows the elements of all variants.
func (p *Prepared) Kept(profile *client.Profile, stage client.Stage, variant string, who *person.Person) (Kept, error) {
	return p.Seen(profile, stage, client.View{}, variant, who)
}

// Pasted is what is predicted to stand in an editable element after one person's signature was copied from a browser
// and pasted there, before a client changes anything.
func (p *Prepared) Pasted(variant string, who *person.Person) (string, error) {
	anywhere := &client.Profile{Form: "html", Install: client.Installation{Way: "paste-rendered"}}
	kept, err := p.Kept(anywhere, client.Install, variant, who)
	return kept.Body, err
}

// Seen is Kept with a view: in dark mode, or with pictures blocked.
func (p *Prepared) Seen(profile *client.Profile, stage client.Stage, view client.View, variant string, who *person.Person) (Kept, error) {
	switch profile.Form {
	case "text":
		return keptText(p, Text, p.TextProgram, variant, who)
	case "rtf":
		return keptText(p, RTF, p.RTFProgram, variant, who)
	}
	doc, log := client.SimulateIn(view, profile, p.Outgoing(), stage)
	if profile.Pasted() {
		client.Paste(doc)
	}
	if stage == client.Render {
		profile.Show(doc, view)
		p.showPictures(doc)
	}
	kept := Kept{Form: HTML, Log: log}
	if who == nil {
		doc.Fragment()
		kept.Body = doc.Render()
		return kept, nil
	}
	var err error
	kept.Body, err = p.fillFragment(doc, variant, who)
	return kept, err
}

// keptText is what a client gets that shows text or rich text.
func keptText[P appender](p *Prepared, form Form, compile func(*field.Table, string) (P, error), variant string, who *person.Person) (Kept, error) {
	table := p.NewTable()
	filler := field.NewFiller(table)
	program, err := compile(table, variant)
	if err != nil {
		return Kept{}, err
	}
	if who == nil {
		who = FieldNames(p.Schema)
	}
	filler.Set(who)
	return Kept{Form: form, Body: string(program.Append(nil, filler))}, nil
}

// Shown gives the signature as written, filled for one person: the fragment with the pictures at the
// addresses that the document was prepared with.
func (p *Prepared) Shown(variant string, who *person.Person) (string, error) {
	doc := p.Outgoing()
	p.showPictures(doc)
	return p.fillFragment(doc, variant, who)
}

// showPictures gives each of the template's pictures that is still there the address under which it is shown.
func (p *Prepared) showPictures(doc *markup.Document) {
	if p.ShowAt == nil {
		return
	}
	for _, n := range doc.Root.Elements("img") {
		src, _ := n.Attr("src")
		picture := p.PictureOf(n)
		if scheme := client.SchemeOf(src); picture != nil && (scheme == "https" || scheme == "http" || scheme == "cid") {
			n.SetAttr("src", p.ShowAt(picture))
		}
	}
}

// SourceAttribute holds, in markup to look at, which bytes of the source an element came from: start, colon,
// end.
const SourceAttribute = "data-source-bytes"

// markSource tells on every element where it came from.
func markSource(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		if n.Open.Len() > 0 {
			n.SetAttr(SourceAttribute, fmt.Sprintf("%d:%d", n.Open.Start, lastByte(n)))
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

func (p *Prepared) fillFragment(doc *markup.Document, variant string, who *person.Person) (string, error) {
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

// FieldNames is a person whose values are the names of the fields, to look at a template with.
func FieldNames(schema *person.Schema) *person.Person {
	return &person.Person{Values: schema.Names()}
}
