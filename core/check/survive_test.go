package check

import (
	"image/color"
	"math"
	"slices"
	"strings"
	"testing"

	"missivum/core/client"
	"missivum/core/edit"
	"missivum/demo"
)

// found are the findings of one check in a source that is judged as a folder's template.
func found(t *testing.T, id, source string, profiles ...*client.Profile) []Finding {
	t.Helper()
	tmpl := bare(t, source)
	tmpl.Bare = false
	in := Input{Template: tmpl, People: directory(t)}
	if len(profiles) > 0 {
		in.Profiles = profiles
	}
	return findingsOf(run(t, in), id)
}

func TestAcceptance(t *testing.T) {
	small := `<p style="margin: 0; font-size: 7px">x</p>`
	for _, c := range []struct {
		name, source   string
		left, accepted int
		reported       string // what the comment itself is reported for
	}{
		{"the element behind it", "<!-- accepted: small-text: why -->\n" + small, 0, 1, ""},
		{"its own line", small + ` <!-- accepted: small-text: why -->`, 0, 1, ""},
		{"all in the element behind it", "<!-- accepted: small-text: why -->\n<div>\n" + small + "\n" +
			strings.Replace(small, "7px", "8px", 1) + "</div>", 0, 2, ""},
		{"not the element after that", "<!-- accepted: small-text: why -->\n" + small + "\n" + strings.Replace(small, "7px", "8px", 1), 1, 1, ""},
		{"several checks", "<!-- accepted: line-height-rule, small-text: why -->\n" +
			`<p style="margin: 0; font-size: 7px; line-height: 9px">x</p>`, 0, 1, ""},
		{"in a style sheet", "<style>\n.a { font-size: 7px } /* accepted: small-text: why */\n</style><p " +
			"style=\"margin: 0\" class=\"a\">x</p>", 0, 1, ""},
		{"without a reason", "<!-- accepted: small-text -->\n" + small, 1, 0, "gives no reason"},
		{"of a check that there is not", "<!-- accepted: tiny-text: why -->\n" + small, 1, 0, `no check "tiny-text"`},
		{"of another check", "<!-- accepted: contrast: why -->\n" + small, 1, 0, "Nothing is found here any more"},
	} {
		tmpl := bare(t, c.source)
		tmpl.Bare = false
		r := run(t, Input{Template: tmpl, People: directory(t)})
		accepted := 0
		for _, f := range r.Accepted {
			if f.Check == "small-text" {
				accepted++
			}
			if f.Accepted != "why" {
				t.Errorf("%s: the reason is %q", c.name, f.Accepted)
			}
		}
		reported := ""
		for _, f := range findingsOf(r, "acceptance") {
			reported += f.Message
		}
		if left := len(findingsOf(r, "small-text")); left != c.left || accepted != c.accepted ||
			!strings.Contains(reported, c.reported) || (reported == "") != (c.reported == "") {
			t.Errorf("%s: %d left, %d accepted, reported %q", c.name, left, accepted, reported)
		}
	}
}

func TestContrasts(t *testing.T) {
	if got := contrast(color.RGBA{255, 255, 255, 255}, color.RGBA{A: 255}); math.Abs(got-21) > 1e-9 {
		t.Errorf("white on black: %v", got)
	}
	for _, c := range []struct {
		source string
		want   int
	}{
		{`<p style="margin: 0; color: #767676">x</p>`, 0},                  // 4.54 to 1
		{`<p style="margin: 0; color: #777777">x</p>`, 1},                  // 4.48 to 1
		{`<p style="margin: 0; color: #777777; font-size: 24px">x</p>`, 0}, // large
		{`<p style="margin: 0; color: #777777; font-size: 19px; font-weight: bold">x</p>`, 0},
		{`<div style="background: #333333"><p style="margin: 0; color: #777777">x</p></div>`, 1},
		{`<table role="presentation" cellpadding="0" cellspacing="0" bgcolor="#000000"><tr><td style="color: #ffffff">x</td></tr></table>`,
			0},
		{`<p style="margin: 0; color: #dddddd">|</p>`, 0}, // a separator
		{`<p style="margin: 0; color: #aaaaaa">x</p><p style="margin: 0; color: #aaaaaa">y</p>`,
			1}, // once for a pair of colours
	} {
		source, want := c.source, c.want
		if got := found(t, "contrast", source); len(got) != want {
			t.Errorf("%s: %+v, want %d", source, got, want)
		}
	}
	f := found(t, "contrast", `<p style="margin: 0; color: #aaaaaa">x</p>`)[0]
	if f.Fix == nil || f.Fix.Safe {
		t.Fatalf("%+v", f)
	}
	after, err := edit.Apply(`<p style="margin: 0; color: #aaaaaa">x</p>`, f.Fix.Edits)
	if err != nil || len(found(t, "contrast", after)) != 0 || after == `<p style="margin: 0; color: #000000">x</p>` {
		t.Errorf("%s, %v", after, err)
	}
}

func TestDarkContrastAsksOnlyClientsThatRecolour(t *testing.T) {
	source := `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="background-color: #ffcc00; ` +
		`color: #14181a">Fares</td></tr></table>`
	if got := found(t, "contrast-dark", source, client.Find("gecko-desktop")); len(got) > 0 {
		t.Errorf("%+v", got)
	}
	got := found(t, "contrast-dark", source)
	if len(got) != 1 || slices.Contains(got[0].Clients, "gecko-desktop") || !slices.Contains(got[0].Clients, "webview-desktop") {
		t.Errorf("%+v", got)
	}
}

func TestSurvivalRowsAndVerdict(t *testing.T) {
	tmpl, err := demo.Template("regatta")
	if err != nil {
		t.Fatal(err)
	}
	half := *client.Find("wordproc-desktop")
	half.Share = 50
	rest := *client.Find("gecko-desktop")
	rest.Share = 50
	in := Input{Template: tmpl, People: directory(t), Profiles: []*client.Profile{&half, &rest, client.Find("text-reader")}, Day: day}
	m, err := Survival(t.Context(), in)
	if err != nil {
		t.Fatal(err)
	}
	rows := map[string]Row{}
	for i, r := range m.Rows {
		rows[r.What] = r
		if i > 0 && r.Harm > m.Rows[i-1].Harm || r.Line == 0 || len(r.Cells) != 3 || r.Cells[2].State != IsNotOfMarks {
			t.Errorf("%+v", r)
		}
	}
	if r := rows["display: flex"]; r.Cells[0].State != GetsDropped || r.Cells[1].State != StaysKept || r.Harm != 50 ||
		r.Check != "flex-layout" || r.Cells[0].Basis == "" {
		t.Errorf("%+v", r)
	}
	if r := rows["border-radius: 50%"]; r.Harm != 15 {
		t.Errorf("it degrades for half of the readers: %+v", r)
	}
	if r := rows["the picture logo.png"]; r.Cells[0].State != GetsChanged || r.Cells[0].Severity != client.Note {
		t.Errorf("a hosted picture is blocked at first: %+v", r)
	}
	if got := m.Verdict.String(); got != "Safe in 1 of 3 clients; wordproc-desktop and gecko-desktop need a decision." {
		t.Error(got)
	}
	for v, want := range map[*Verdict]string{
		{Safe: 3, Of: 3}:                                          "Safe in all 3 clients.",
		{Safe: 2, Of: 3, Decide: []string{"a"}}:                   "Safe in 2 of 3 clients; a needs a decision.",
		{Safe: 0, Of: 5, Decide: strings.Split("a b c d e", " ")}: "Safe in 0 of 5 clients; a, b, c and 2 more need a decision.",
	} {
		if v.String() != want {
			t.Errorf("%q, want %q", v, want)
		}
	}
	if _, err := Survival(t.Context(), Input{Template: bare(t, `<p>{{ nmae }}</p>`), People: directory(t), Profiles: client.Shipped(),
		Day: day}); err == nil || !strings.Contains(err.Error(), "nmae") {
		t.Errorf("a template with a mistake: %v", err)
	}
}

// TestCausesAreToldOnce: one declaration, however many elements and clients it reaches, is one finding.
func TestCausesAreToldOnce(t *testing.T) {
	got := found(t, "effect-property", `<style>.a { transform: rotate(1deg) }</style><div class="a">x</div><div class="a">y</div>`)
	if len(got) != 1 || !strings.Contains(got[0].Message, "on 2 elements") || len(got[0].Clients) < 2 {
		t.Errorf("%+v", got)
	}
	if got[0].Basis != client.Assumed { // the weakest of the statements
		t.Errorf("basis %s", got[0].Basis)
	}
}

func TestPlaceholdersOfOtherSystems(t *testing.T) {
	for text, want := range map[string]string{
		"%%cn%%": "cn", "[[cn]]": "cn", "{cn}": "cn", "${cn}": "cn", "##cn##": "cn", "%TITLE%": "title", "{First Name}": "-",
		"[[nobody knows]]": "",
		"{{ cn }}":         "-", "100 % of 5 %": "-", "{ cn }": "-", "a {b c}": "-",
	} {
		got := found(t, "foreign-placeholder", `<div>`+text+`</div>`)
		switch {
		case want == "-":
			if len(got) > 0 {
				t.Errorf("%s: %+v", text, got)
			}
		case len(got) != 1:
			t.Errorf("%s: %d findings", text, len(got))
		case want != "" && (got[0].Fix == nil || got[0].Fix.Edits[0].Text != "{{ "+want+" }}"), want == "" && got[0].Fix != nil:
			t.Errorf("%s: %+v", text, got[0].Fix)
		}
	}
}

func TestSpreadOfBudgets(t *testing.T) {
	tmpl := bare(t, `<b>{{ cn }}</b><i>x</i>`)
	p := &client.Profile{ID: "x", Title: "X", Form: "html", Install: client.Installation{Way: "file"},
		Limits: []client.Limit{{Measure: client.Characters, Max: 25, Severity: client.Breaks, Says: "x", Basis: client.Assumed}}}
	r := run(t, Input{Template: tmpl, People: directory(t), Profiles: []*client.Profile{p}})
	b := r.Budgets[0]
	if b.Least >= b.Median || b.Median >= b.Value || b.Over == 0 || b.Over >= 80 || b.Least < 17 {
		t.Errorf("%+v", b)
	}
	if len(r.Verdict.Decide) != 1 {
		t.Errorf("%+v", r.Verdict)
	}
}
