package check

import (
	"missivum/core/client"
	"missivum/core/edit"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/picture"
)

// Fix puts a finding right by edits of the source. Every byte outside them stays as it is.
type Fix struct {
	Title string      `json:"title"` // what it does, as an instruction
	Edits []edit.Edit `json:"edits"` // in the order of the source, none over another
	Safe  bool        `json:"safe"`  // no client shows less after it than before
	Costs string      `json:"costs"` // where it is not safe: what is lost by it
	// Pictures are files that it makes.
	Pictures []Redraw `json:"pictures,omitempty"`
}

// Target is what a fix is for: a place that one or several profiles do something to.
type Target struct {
	journey.Subject
	Nodes     []*markup.Node // of the source as written
	Span      markup.Span
	Behaviour *client.Behaviour
}

// First is the first node.
func (t Target) First() *markup.Node { return t.Nodes[0] }

// Edit begins the edits of a fix.
func (p *Pass) Edit() *edit.Editor { return edit.New(p.Source) }

// fixOf gives the fix that the edits make, or nil.
func fixOf(h *edit.Editor, title string) *Fix {
	edits, ok := h.Edits()
	if !ok {
		return nil
	}
	return &Fix{Title: title, Edits: edits, Safe: true}
}

// costlyFix is fixOf for one that is not safe.
func costlyFix(h *edit.Editor, title, costs string) *Fix {
	m := fixOf(h, title)
	if m != nil {
		m.Safe, m.Costs = false, costs
	}
	return m
}

// Redraw is a picture file that a fix makes: from one of the template's pictures by a recipe, or from bytes that
// stood in the source. A file of that name is replaced.
type Redraw struct {
	File   string          `json:"file"`             // below the picture folder
	Name   string          `json:"name,omitempty"`   // for data-picture, where settings come to name another file or a new one
	Alt    string          `json:"alt,omitempty"`    // with Name
	From   string          `json:"from,omitempty"`   // the template's file that it is made from
	Recipe *picture.Recipe `json:"recipe,omitempty"` // nil: as it is
	Data   []byte          `json:"-"`                // without From
}

// redrawn gives the fix that makes a picture, with the edits that there may be.
func redrawn(h *edit.Editor, title string, r Redraw) *Fix {
	var m *Fix
	if h.Empty() {
		m = &Fix{Title: title, Edits: []edit.Edit{}, Safe: true}
	} else if m = fixOf(h, title); m == nil {
		return nil
	}
	m.Pictures = []Redraw{r}
	return m
}

// SourceNode finds the element of the source as written that a node of the prepared document came from; nil when it came
// from none.
func (p *Pass) SourceNode(n *markup.Node) *markup.Node {
	if p.written == nil {
		p.written = map[int]*markup.Node{}
		for _, e := range p.Source.Root.Elements() {
			p.written[e.Open.Start] = e
		}
	}
	if n.Open.Len() == 0 {
		return nil
	}
	return p.written[n.Open.Start]
}

// PreparedNode finds the element of the prepared document that came from one of the source; nil when it is gone.
func (p *Pass) PreparedNode(written *markup.Node) *markup.Node {
	if p.prepared == nil {
		p.prepared = map[int]*markup.Node{}
		for _, e := range p.Doc.Root.Elements() {
			p.prepared[e.Open.Start] = e
		}
	}
	return p.prepared[written.Open.Start]
}
