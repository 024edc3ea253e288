package check

import (
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"missivum/core/client"
	"missivum/core/markup"
	"missivum/core/problem"
)

// Verdict says in how many clients a template is safe: nothing breaks there and no limit is exceeded.
type Verdict struct {
	Safe   int      `json:"safe"`
	Of     int      `json:"of"`
	Markup int      `json:"markup"` // of them, how many show markup
	Decide []string `json:"decide"` // the clients in which something breaks or is refused
}

// String is the verdict as one sentence.
func (v Verdict) String() string {
	if len(v.Decide) == 0 {
		return fmt.Sprintf("Safe in all %d clients.", v.Of)
	}
	need := "need"
	if len(v.Decide) == 1 {
		need = "needs"
	}
	named := v.Decide
	if len(named) > 4 {
		named = append(slices.Clone(named[:3]), fmt.Sprintf("%d more", len(v.Decide)-3))
	}
	return fmt.Sprintf("Safe in %d of %d clients; %s %s a decision.", v.Safe, v.Of, listed(named), need)
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
	return v
}

// State is what becomes of a construct in a client.
type State string

// The states.
const (
	StaysKept    State = "kept"
	GetsChanged  State = "changed"
	GetsLost     State = "lost"
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
	case GetsLost:
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

// Survival makes the map of a template.
func Survival(in Input) (_ *Map, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	r, prepared, err := find(in)
	if err != nil {
		return nil, err
	}
	if prepared == nil {
		for _, f := range r.Findings {
			if f.Check == LanguageID {
				return nil, fmt.Errorf("the template has a mistake in line %d: %s", f.Line, f.Message)
			}
		}
		return nil, errors.New("the template has mistakes")
	}
	p := &Pass{Input: in, Doc: prepared.Doc, Source: prepared.Source, Prepared: prepared}
	m := &Map{Clients: client.IDs(in.Profiles), Rows: []Row{}, Verdict: verdict(in.Profiles, r)}
	rows := map[causeKey]*Row{}
	var order []causeKey
	at := func(key causeKey, span markup.Span, what, check string) *Row {
		if rows[key] == nil {
			place := p.Doc.Place(span.Start)
			row := &Row{What: what, Check: check, Line: place.Line, Column: place.Column, Offset: span.Start, End: span.End, Cells: make([]Cell, len(in.Profiles))}
			for i, profile := range in.Profiles {
				row.Cells[i].State = StaysKept
				if profile.Form != "html" {
					row.Cells[i].State = IsNotOfMarks
				}
			}
			rows[key] = row
			order = append(order, key)
		}
		return rows[key]
	}
	elements := map[causeKey]map[int]bool{}
	for i, profile := range in.Profiles {
		if profile.Form != "html" {
			continue
		}
		_, events := client.Simulate(profile, p.Doc, client.Render)
		for _, e := range events {
			if e.Behaviour.Severity == "" {
				continue
			}
			key := causeKey{e.Behaviour.Check, e.Span.Start, e.What}
			row := at(key, e.Span, e.What, e.Behaviour.Check)
			row.Cells[i].worsen(stateOf(e.Behaviour.Does), e.Behaviour.Severity, e.Behaviour.Says, e.Behaviour.Basis)
			if elements[key] == nil {
				elements[key] = map[int]bool{}
				row.Element = e.Node.Open.Start
			}
			elements[key][e.Node.Open.Start] = true
			row.Count = len(elements[key])
		}
	}
	p.pictureRows(at)
	for _, key := range order {
		rows[key].Harm = harm(in.Profiles, rows[key].Cells)
		m.Rows = append(m.Rows, *rows[key])
	}
	sort.SliceStable(m.Rows, func(i, j int) bool {
		if m.Rows[i].Harm != m.Rows[j].Harm {
			return m.Rows[i].Harm > m.Rows[j].Harm
		}
		return m.Rows[i].Offset < m.Rows[j].Offset
	})
	return m, nil
}

// pictureRows adds a row for each picture: how it arrives in each client by the way that it goes.
func (p *Pass) pictureRows(at func(causeKey, markup.Span, string, string) *Row) {
	for _, img := range p.Doc.Root.Elements("img") {
		src, _ := img.Attr("src")
		way := "hosted"
		switch client.SchemeOf(src) {
		case "data":
			continue // what becomes of it is a behaviour of its own
		case "cid", client.RelativeAddress, client.WordAddress:
			way = "carried"
		}
		name := src
		if shown := p.Prepared.PictureOf(img); shown != nil {
			name = shown.File
		}
		row := at(causeKey{"picture", img.Open.Start, name}, img.Open, "the picture "+shorten(name), "")
		row.Count, row.Element = 1, img.Open.Start
		for i, profile := range p.Profiles {
			if profile.Pictures == nil || profile.Form != "html" {
				continue
			}
			if local(strings.TrimSpace(src)) {
				row.Cells[i] = Cell{State: GetsLost, Severity: client.Breaks, Says: "it lies on a disk that the reader does not have"}
				continue
			}
			for _, w := range profile.Pictures.Ways() {
				if w.Way != way {
					continue
				}
				state, severity := map[string]State{client.Blocked: GetsChanged, client.Attached: GetsChanged, client.Lost: GetsLost}[w.As], client.Note
				if w.As == client.Lost {
					severity = client.Breaks
				}
				if state != "" {
					row.Cells[i].worsen(state, severity, w.Says, w.Basis)
				}
			}
		}
	}
}

// worsen notes what becomes of the construct, if it is worse than what is noted.
func (c *Cell) worsen(state State, severity client.Severity, says string, basis client.Basis) {
	if c.Severity == "" || severity.Worse(c.Severity) {
		*c = Cell{state, severity, says, basis}
	}
}

func stateOf(does client.Action) State {
	switch does {
	case client.Dropped, client.Ignored:
		return GetsLost
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
