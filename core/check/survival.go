package check

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"missivum/core/client"
	"missivum/core/markup"
)

// Verdict says in how many clients a template is safe: nothing breaks there and no limit is exceeded.
type Verdict struct {
	Safe   int      `json:"safe"`
	Of     int      `json:"of"`
	Markup int      `json:"markup"` // of them, how many show markup
	Decide []string `json:"decide"` // the clients in which something breaks or is refused
	Short  string   `json:"short"`  // "Safe in 2 of 13 clients"
	Says   string   `json:"says"`   // one sentence: Short, and which clients need a decision
}

// SafeMeans says what the word means, for whoever reads a verdict.
const SafeMeans = "Safe: nothing breaks there, and no limit is exceeded."

// String is the verdict as one sentence.
func (v Verdict) String() string {
	v.say()
	return v.Says
}

// say puts the verdict into words.
func (v *Verdict) say() {
	v.Short = fmt.Sprintf("Safe in %d of %d clients", v.Safe, v.Of)
	if len(v.Decide) == 0 {
		v.Short = fmt.Sprintf("Safe in all %d clients", v.Of)
		if v.Of == 1 {
			v.Short = "Safe in the 1 client"
		}
		v.Says = v.Short + "."
		return
	}
	need := "need"
	if len(v.Decide) == 1 {
		need = "needs"
	}
	named := v.Decide
	if len(named) > 4 {
		named = append(slices.Clone(named[:3]), fmt.Sprintf("%d more", len(v.Decide)-3))
	}
	v.Says = fmt.Sprintf("%s; %s %s a decision.", v.Short, listed(named), need)
}

// listed joins names with commas and "and".
func listed(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// verdict judges a report.
func verdict(profiles []*client.Profile, r *Report) Verdict {
	broken := map[string]bool{}
	for _, f := range r.Findings {
		if f.Severity == client.Breaks {
			for _, id := range f.Clients {
				broken[id] = true
			}
		}
	}
	for _, b := range r.Budgets {
		if b.Exceeded() && b.Severity == client.Breaks {
			broken[b.Client] = true
		}
	}
	v := Verdict{Of: len(profiles), Decide: []string{}}
	for _, p := range profiles {
		if p.Form == "html" {
			v.Markup++
		}
		if broken[p.ID] {
			v.Decide = append(v.Decide, p.ID)
		}
	}
	v.Safe = v.Of - len(v.Decide)
	v.say()
	return v
}

// State is what becomes of a construct in a client.
type State string

// The states.
const (
	StaysKept    State = "kept"
	GetsChanged  State = "changed"
	GetsDropped  State = "dropped"
	GetsRefused  State = "refused"
	IsNotOfMarks State = "no markup" // the client shows text or rich text
)

// Sign is the state as one sign, so that colour is never alone.
func (s State) Sign() string {
	switch s {
	case StaysKept:
		return "="
	case GetsChanged:
		return "~"
	case GetsDropped:
		return "x"
	case GetsRefused:
		return "!"
	}
	return " "
}

// Map is the survival map: the template's constructs down, the profiles across.
type Map struct {
	Clients []string `json:"clients"`
	Rows    []Row    `json:"rows"` // the most harmful first
	Verdict Verdict  `json:"verdict"`
}

// Row is one construct.
type Row struct {
	What   string `json:"what"`
	Check  string `json:"check,omitempty"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Offset int    `json:"offset"`
	End    int    `json:"end"`
	// Element is where the first element begins that has it; a rule of a sheet reaches elements elsewhere.
	Element int     `json:"element"`
	Count   int     `json:"count"` // on how many elements
	Harm    float64 `json:"harm"`  // severity weighted by the readers' shares, 0 to 100
	Cells   []Cell  `json:"cells"` // one for each client
}

// Cell says what becomes of a construct in one client.
type Cell struct {
	State    State           `json:"state"`
	Severity client.Severity `json:"severity,omitempty"`
	Says     string          `json:"says,omitempty"`
	Basis    client.Basis    `json:"basis,omitempty"`
}

// Survival makes the map of a template. A template with mistakes has none.
func Survival(ctx context.Context, in Input) (*Map, error) {
	p, err := newPass(ctx, in)
	if err != nil {
		return nil, err
	}
	r, err := p.run()
	if err != nil {
		return nil, err
	}
	if len(p.mistakes) > 0 {
		return nil, p.mistakes
	}
	m := &Map{Clients: client.IDs(in.Profiles), Rows: p.rows(), Verdict: verdict(in.Profiles, r)}
	for i := range m.Rows {
		m.Rows[i].Harm = harm(in.Profiles, m.Rows[i].Cells)
	}
	sort.SliceStable(m.Rows, func(i, j int) bool {
		if m.Rows[i].Harm != m.Rows[j].Harm {
			return m.Rows[i].Harm > m.Rows[j].Harm
		}
		return m.Rows[i].Offset < m.Rows[j].Offset
	})
	return m, nil
}

// rows are the causes that somebody would see, and the pictures.
func (p *Pass) rows() []Row {
	rows := []Row{}
	for _, c := range p.causes {
		row := p.newRow(c.first.Span, c.subject.String(), c.check)
		row.Element, row.Count = c.first.Node.Open.Start, len(c.elements)
		seen := false
		for _, in := range c.in {
			for _, e := range in.events {
				if b := e.Behaviour; b.Severity != "" {
					row.Cells[in.profile].worsen(stateOf(b.Does), b.Severity, b.Says, b.Basis)
					seen = true
				}
			}
		}
		if seen {
			rows = append(rows, row)
		}
	}
	return append(rows, p.pictureRows()...)
}

// newRow is a row in which everything is kept.
func (p *Pass) newRow(span markup.Span, what, check string) Row {
	place := p.Doc.Place(span.Start)
	row := Row{What: what, Check: check, Line: place.Line, Column: place.Column, Offset: span.Start, End: span.End,
		Cells: make([]Cell, len(p.Profiles))}
	for i, profile := range p.Profiles {
		row.Cells[i].State = StaysKept
		if profile.Form != "html" {
			row.Cells[i].State = IsNotOfMarks
		}
	}
	return row
}

// pictureRows are a row for each picture: how it arrives in each client by the way that it goes.
func (p *Pass) pictureRows() []Row {
	var rows []Row
	for _, img := range p.Doc.Root.Elements("img") {
		src, _ := img.Attr("src")
		way := "hosted"
		switch markup.SchemeOf(src) {
		case "data":
			continue // what becomes of it is a behaviour of its own
		case "cid", markup.RelativeAddress, markup.WordAddress:
			way = "carried"
		}
		name := src
		if shown := p.Prepared.PictureOf(img); shown != nil {
			name = shown.File
		}
		row := p.newRow(img.Open, "the picture "+shorten(name), "")
		row.Count, row.Element = 1, img.Open.Start
		for i, profile := range p.Profiles {
			if profile.Pictures == nil || profile.Form != "html" {
				continue
			}
			if local(strings.TrimSpace(src)) {
				row.Cells[i] = Cell{State: GetsDropped, Severity: client.Breaks, Says: "it lies on a disk that the reader does not have"}
				continue
			}
			for _, w := range profile.Pictures.Ways() {
				if w.Way != way {
					continue
				}
				state, severity := map[string]State{client.Blocked: GetsChanged, client.Attached: GetsChanged,
					client.PictureDropped: GetsDropped}[w.As], client.Note
				if w.As == client.PictureDropped {
					severity = client.Breaks
				}
				if state != "" {
					row.Cells[i].worsen(state, severity, w.Says, w.Basis)
				}
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// worsen notes what becomes of the construct, if it is worse than what is noted.
func (c *Cell) worsen(state State, severity client.Severity, says string, basis client.Basis) {
	if c.Severity == "" || severity.Worse(c.Severity) {
		*c = Cell{state, severity, says, basis}
	}
}

// stateOf is what a behaviour makes of a construct, as the map shows it.
func stateOf(does client.Action) State {
	switch does {
	case client.Dropped, client.Ignored:
		return GetsDropped
	case client.Refused:
		return GetsRefused
	}
	return GetsChanged
}

// harm is how much the readers see of it: 100 when it breaks for all of them. Without shares each client counts the
// same.
func harm(profiles []*client.Profile, cells []Cell) float64 {
	weight := map[client.Severity]float64{client.Breaks: 100, client.Degrades: 30, client.Note: 5}
	total, sum := 0.0, 0.0
	for i, p := range profiles {
		share := shareOf(profiles, p)
		total += share
		sum += share * weight[cells[i].Severity]
	}
	if total == 0 {
		return 0
	}
	return sum / total
}

// shareOf is a client's share of the readers. Where shares are given, one without counts nothing.
func shareOf(profiles []*client.Profile, p *client.Profile) float64 {
	if slices.ContainsFunc(profiles, func(p *client.Profile) bool { return p.Share > 0 }) {
		return p.Share
	}
	return 1
}
