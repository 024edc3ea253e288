// Package sheet makes the contact sheet: one page that shows a signature as every chosen client shows it to chosen
// people, light, dark and with pictures blocked, with a ring around what breaks. The page stands by itself: it can be
// rendered, printed and passed on. Start with Make and Sheet.HTML.
package sheet

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/passive"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/problem"
	"missivum/core/style"
	signature "missivum/core/template"
)

// View is a column of the sheet.
type View string

// The views.
const (
	Light   View = "light"
	Dark    View = "dark"
	blocked View = "blocked" // pictures blocked, in light
)

// views lists the views that there are.
var views = []View{Light, Dark, blocked}

// CheckViews is an error for a view that there is not.
func CheckViews(list []View) (err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	for _, v := range list {
		if !slices.Contains(views, v) {
			return fmt.Errorf("the view %q is not known; it is light, dark or blocked", v)
		}
	}
	return nil
}

// Input is what a sheet shows.
type Input struct {
	Template *signature.Template
	People   *person.Directory
	Chosen   []int // of People.People
	Profiles []*client.Profile
	Views    []View
	Variant  string // empty: the template's first
	Day      time.Time
}

// Cell is one drawing.
type Cell struct {
	View       View
	Width      int // px at which the client shows it
	Zoom       int // percent, where the client scales what is too wide for it
	Body       template.HTML
	Text       string // for clients that show text
	Background string
	Ink        string
	Same       string       // why there is nothing to draw: it looks as in light
	Picture    template.URL // a drawing made elsewhere, as a data address
}

// Line is one client for one person.
type Line struct {
	ID, Title string
	Breaks    []string // what breaks there or is over its limit
	Cells     []Cell
	Note      string
}

// Sitter is one person with a line for each client.
type Sitter struct {
	Name, Mail string
	Lines      []Line
}

// Sheet is a contact sheet.
type Sheet struct {
	Title, Version, Variant, Day, Verdict string
	Views                                 []View
	Sitters                               []Sitter
	Map                                   *check.Map
}

// Make simulates everything that the sheet shows. Errors are those of the template's language.
func Make(ctx context.Context, in Input, report *check.Report) (*Sheet, error) {
	t := in.Template
	if in.Variant == "" {
		in.Variant = t.Variants()[0]
	}
	prepared, err := compose.Prepare(t, in.People.Schema, in.Day, compose.Reached(t))
	if err != nil {
		return nil, err
	}
	shown := preview.Preview{Prepared: prepared, ShowAt: compose.Data, MarkSource: true}
	s := &Sheet{
		Title: t.Title(), Version: t.Version(), Variant: in.Variant, Day: in.Day.Format("2 January 2006"),
		Verdict: report.Verdict.String(), Views: in.Views,
	}
	if s.Map, err = check.Survival(ctx, check.Input{Template: t, People: in.People, Profiles: in.Profiles, Day: in.Day}); err != nil {
		return nil, err
	}
	for _, i := range in.Chosen {
		who := &in.People.People[i]
		sitter := Sitter{Name: in.People.Get(who, "cn"), Mail: in.People.Get(who, "mail")}
		for _, profile := range in.Profiles {
			line, err := rendered(&shown, profile, in, who, report)
			if err != nil {
				return nil, err
			}
			sitter.Lines = append(sitter.Lines, line)
		}
		s.Sitters = append(s.Sitters, sitter)
	}
	return s, nil
}

// hardOnSheet is how many hard cases stand on a sheet when nobody is named.
const hardOnSheet = 1

// Choose gives the people who stand on a sheet, by their place in the directory: those with the mail addresses, or, when
// none is given, the template's sample person and the hardest case. An address that nobody has, or a directory without
// people, is an error.
func Choose(t *signature.Template, people *person.Directory, mails []string) (_ []int, err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	if len(people.People) == 0 {
		return nil, errors.New("there is nobody in the directory")
	}
	var chosen []int
	for _, mail := range mails {
		i, err := people.Named(mail)
		if err != nil {
			return nil, err
		}
		chosen = append(chosen, i)
	}
	if len(mails) > 0 {
		return chosen, nil
	}
	chosen = append(chosen, max(0, people.Index(t.Settings.Sample)))
	for _, h := range person.HardCases(people, t.Settings.Country) {
		if len(chosen) <= hardOnSheet && h.Index != chosen[0] {
			chosen = append(chosen, h.Index)
		}
	}
	return chosen, nil
}

func rendered(prepared *preview.Preview, profile *client.Profile, in Input, who *person.Person, report *check.Report) (Line, error) {
	line := Line{ID: profile.ID, Title: profile.Title, Breaks: breaks(profile.ID, report)}
	rings := rings(profile.ID, report, prepared.Source)
	widest := widestRow(prepared.Doc)
	for _, view := range in.Views {
		v := journey.View{Dark: view == Dark, Blocked: view == blocked}
		kept, err := prepared.Seen(profile, client.Render, v, in.Variant, who)
		if err != nil {
			return line, err
		}
		background, ink := journey.Background(profile, v)
		cell := Cell{View: view, Width: min(max(profile.Width, 320), 620), Zoom: 100, Background: style.Hex(background), Ink: style.Hex(ink)}
		switch {
		case kept.Form == compose.RTF:
			cell.Same = "Shows the rich text form; missivum fill --form rtf writes it."
		case kept.Form == compose.Text && view != Light:
			cell.Same = "Text only."
		case kept.Form == compose.Text:
			cell.Text, cell.Width = kept.Body, textWidth
		case view == Dark && profile.Dark == nil && profile.Form == "html":
			cell.Same = "Colours stay as they are in light."
		case view == blocked && (profile.Pictures == nil || profile.Pictures.Hosted.As == client.Shown):
			cell.Same = "Pictures are shown at once."
		case kept.Form == compose.HTML:
			body, err := passive.Sealed(kept.Body)
			if err != nil {
				return line, err
			}
			cell.Body = template.HTML(rings + body) //nolint:gosec // nothing in it runs, loads or ends what is around it
		}
		if room := cell.Width - 2*padding; profile.Width > 0 && profile.Width < phone && widest > room {
			cell.Zoom = 100 * room / widest
		}
		line.Cells = append(line.Cells, cell)
	}
	return line, nil
}

// Sizes in px: the room around a drawing, that of 78 columns of text, and below which width a client is a telephone,
// which scales what is too wide.
const (
	padding   = 14
	textWidth = 680
	phone     = 500
)

// widestRow is the width in px that the markup asks for: of a picture, a table, or the cells of a row together.
func widestRow(doc *markup.Document) int {
	widest := 0
	for _, n := range doc.Root.Elements("img", "table", "td", "th", "div") {
		widest = max(widest, n.Pixels("width"))
	}
	for _, row := range doc.Root.Elements("tr") {
		sum := 0
		for _, c := range row.Children {
			if c.Is("td", "th") {
				px := c.Pixels("width")
				if box, ok := style.Box(c, "padding", 16); ok && px == 0 {
					px = int(box.Left + box.Right)
				}
				sum += px
			}
		}
		widest = max(widest, sum)
	}
	return widest
}

// breaks names what breaks in a client.
func breaks(id string, report *check.Report) []string {
	var list []string
	for _, f := range report.Findings {
		if f.Severity == client.Breaks && slices.Contains(f.Clients, id) {
			list = append(list, fmt.Sprintf("line %d, %s", f.Line, f.Check))
		}
	}
	for _, b := range report.Budgets {
		if b.Client == id && b.Exceeded() && b.Severity == client.Breaks {
			list = append(list, fmt.Sprintf("%d of %d %s", b.Value, b.Limit, b.Unit))
		}
	}
	return list
}

// rings is a style sheet that renders a ring around each element in which something breaks.
func rings(id string, report *check.Report, source *markup.Document) string {
	var b strings.Builder
	for _, f := range report.Findings {
		if f.Severity != client.Breaks || !slices.Contains(f.Clients, id) {
			continue
		}
		start := -1
		for _, n := range source.Root.Elements() {
			if n.Open.Start <= f.Offset && f.Offset < max(n.Open.End, n.Open.Start+1) {
				start = n.Open.Start
			}
		}
		if start < 0 { // inside an element's text
			for _, n := range source.Root.Elements() {
				if n.Open.Start <= f.Offset && f.Offset < n.Close.Start {
					start = n.Open.Start
				}
			}
		}
		if start >= 0 {
			fmt.Fprintf(&b, "[%s^=\"%d:\"]{outline:3px dashed #d2322d!important;outline-offset:2px}", field.AttrSource, start)
		}
	}
	return "<style>" + b.String() + "</style>"
}

//go:embed page.html
var pageText string

var page = template.Must(template.New("sheet").Parse(pageText))

// HTML is the sheet as a page: no script, nothing loaded, each drawing apart from the others, A4 across in print.
func (s *Sheet) HTML() (string, error) {
	var b strings.Builder
	if err := page.Execute(&b, s); err != nil {
		return "", fmt.Errorf("writing the contact sheet: %w", err)
	}
	return b.String(), nil
}

// SecondOpinion adds another program's drawing, a picture as a data address, to a client's line of the first person.
func (s *Sheet) SecondOpinion(id, by, address string) {
	for i := range s.Sitters[:min(1, len(s.Sitters))] {
		for k, line := range s.Sitters[i].Lines {
			if line.ID != id {
				continue
			}
			cells := []Cell{{View: Light, Picture: template.URL(address), Background: "#ffffff",
				Ink: "#000000"}} //nolint:gosec // made by the caller
			for range s.Views[1:] {
				cells = append(cells, Cell{Same: "Rendered in light only."})
			}
			added := Line{ID: line.ID, Title: "A second opinion", Note: "Rendered by " + by +
				", another word processor: not this client's own engine.", Cells: cells}
			s.Sitters[i].Lines = slices.Insert(s.Sitters[i].Lines, k+1, added)
			return
		}
	}
}
