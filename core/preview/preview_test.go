package preview

import (
	"strings"
	"testing"
	"time"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func fromSource(t *testing.T, source, settings string) *template.Template {
	t.Helper()
	tmpl, err := template.New("x", template.Parts{Source: source, Settings: settings})
	if err != nil {
		t.Fatal(err)
	}
	return tmpl
}

// preparedFor makes a template with one picture, for a directory of one person.
func preparedFor(t *testing.T, source, settings string, address func(*template.Template) compose.Addresser) (*Preview, *person.Person) {
	t.Helper()
	tmpl, err := template.New("x", template.Parts{Source: source, Settings: settings,
		Pictures: map[string][]byte{"dot.gif": []byte("GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff" +
			"!\xf9\x04\x00\x00\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;")}})
	if err != nil {
		t.Fatal(err)
	}
	schema := person.NewSchema("mail", "cn", "mobile")
	p, err := compose.Prepare(tmpl, schema, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), address(tmpl))
	if err != nil {
		t.Fatal(err)
	}
	return Of(p), &person.Person{Values: []string{"ann@brackwater.example", "Ann & Bo", ""}}
}

const onePicture = "pictures:\n  files:\n    dot: {file: dot.gif, alt: Dot}\n"

func TestPicturesAreSimulatedAtOneAddressAndShownAtAnother(t *testing.T) {
	p, who := preparedFor(t, `<p style="margin: 0">{{ cn }} <img data-picture="dot" width="9" height="9"></p>`, onePicture, compose.Reached)
	if src, _ := p.Doc.Root.Elements("img")[0].Attr("src"); src != "https://pictures.invalid/dot.gif" {
		t.Errorf("without a hosting address it is reached at %s", src)
	}
	p.ShowAt = compose.Below("/preview/")
	for id, want := range map[string]string{"washing-webmail": `src="/preview/dot.gif"`, "wordproc-desktop": `src="/preview/dot.gif"`} {
		kept, err := p.Kept(client.Find(id), client.Render, "", who)
		if err != nil || !strings.Contains(kept.Body, want) || !strings.Contains(kept.Body, "Ann &amp; Bo") {
			t.Errorf("%s: %s, %v", id, kept.Body, err)
		}
	}
	// before it is drawn it stands at the address that readers meet
	kept, err := p.Kept(client.Find("source-webmail"), client.Receive, "", who)
	if err != nil || !strings.Contains(kept.Body, "https://pictures.invalid/dot.gif") {
		t.Errorf("%s, %v", kept.Body, err)
	}
	seen, err := p.Seen(client.Find("washing-webmail"), client.Render, journey.View{Blocked: true}, "", who)
	if err != nil || strings.Contains(seen.Body, "<img") || !strings.Contains(seen.Body, ">Dot</span>") {
		t.Errorf("blocked: %s, %v", seen.Body, err)
	}
	if shown, err := p.Shown("", who); err != nil || !strings.Contains(shown, `src="/preview/dot.gif"`) {
		t.Errorf("%s, %v", shown, err)
	}
}

func TestHostedPicturesAreReachedWhereTheyAreHosted(t *testing.T) {
	p, _ := preparedFor(t, `<img data-picture="dot">`,
		strings.Replace(onePicture, "pictures:\n", "pictures:\n  address: https://pictures.brackwater.example/x/\n", 1), compose.Reached)
	if src, _ := p.Doc.Root.Elements("img")[0].Attr("src"); src != "https://pictures.brackwater.example/x/dot.gif" {
		t.Error(src)
	}
}

func TestWhatClientsOfTextGet(t *testing.T) {
	p, who := preparedFor(t, `<p>{{ cn }}</p>`, "", compose.Reached)
	for id, want := range map[string]string{"text-reader": "-- \nAnn & Bo", "rich-text-desktop": `{\rtf1`} {
		kept, err := p.Kept(client.Find(id), client.Render, p.Template.Variants()[0], who)
		if err != nil || !strings.HasPrefix(kept.Body, want) {
			t.Errorf("%s: %.60q, %v", id, kept.Body, err)
		}
		names, err := p.Kept(client.Find(id), client.Render, p.Template.Variants()[0], nil)
		if err != nil || !strings.Contains(names.Body, "cn") {
			t.Errorf("%s without a person: %.60q, %v", id, names.Body, err)
		}
	}
}

func TestCompactIsWhatGoesOutAndNotWhatIsPrepared(t *testing.T) {
	source := "<table cellpadding=\"0\">\n  <tr>\n    <td style=\"padding: 0px; color: #112233\">  {{ cn }}  </td>\n  </tr>\n</table>\n"
	for settings, want := range map[string]string{
		"": "<table cellpadding=\"0\">\n  <tr>\n    <td style=\"padding: 0px; color: #112233\">  Ann " +
			"&amp; Bo  </td>\n  </tr>\n</table>",
		"compact: true": `<table cellpadding="0"><tr><td style="padding:0;color:#123">Ann &amp; Bo</td></tr></table>`,
		"compact: false": "<table cellpadding=\"0\">\n  <tr>\n    <td style=\"padding: 0px; color: #112233\">  Ann " +
			"&amp; Bo  </td>\n  </tr>\n</table>",
	} {
		p, who := preparedFor(t, source, settings, compose.Reached)
		before := p.Doc.Render()
		if shown, err := p.Shown("", who); err != nil || shown != want {
			t.Errorf("%q: %s, %v", settings, shown, err)
		}
		if p.Doc.Render() != before {
			t.Errorf("%q: the prepared document was changed", settings)
		}
		s, err := compose.Compile(compose.Source{Template: p.Template, Schema: p.Schema, Day: day,
			Variants: p.Template.Variants()[:1]}, compose.Fragment)
		if err != nil {
			t.Fatal(err)
		}
		if got := string(s.Fill(p.Template.Variants()[0], compose.Fragment, who)); got != want {
			t.Errorf("%q: the fragment is %s", settings, got)
		}
	}
}

// TestPastingKeepsConditions: a span that the browser takes away still goes with its field.
func TestPastingKeepsConditions(t *testing.T) {
	p, who := preparedFor(t, `<p style="margin: 0">{{ cn }}<span data-needs="mobile">, M {{ mobile }}</span></p><p style="margin: 0">x</p>`,
		"", compose.Reached)
	kept, err := p.Kept(client.Find("capped-webmail"), client.Install, "", who)
	if err != nil || kept.Body != `<p style="margin: 0px;">Ann &amp; Bo</p><p style="margin: 0px;">x</p>` {
		t.Errorf("%s, %v", kept.Body, err)
	}
	who.Values[2] = "07700 900142"
	if kept, err = p.Kept(client.Find("capped-webmail"), client.Install, "", who); err != nil ||
		!strings.HasPrefix(kept.Body, `<p style="margin: 0px;">Ann &amp; Bo, M 07700 900142</p>`) {
		t.Errorf("%s, %v", kept.Body, err)
	}
}

// TestPasted: what is pasted is one variant of one person's signature, in the browser's spelling, before any client takes
// something away; with nobody, the template's own marks are in it.
func TestPasted(t *testing.T) {
	tmpl := fromSource(t, `<style>.n { color: #123 }</style><table><tr data-in="new"><td class="n" `+
		`data-needs="mobile">{{ cn }}, {{ mobile }}</td></tr><tr data-in="reply"><td>{{ mail }}</td></tr></table><p `+
		`style="position: relative">x</p>`, "")
	people := &person.Directory{Schema: person.NewSchema("cn", "mail", "mobile"),
		People: []person.Person{{Values: []string{"Bo", "bo@brackwater.example", "1"}}, {Values: []string{"Li", "li@brackwater.example", ""}}}}
	prepared, err := compose.Prepare(tmpl, people.Schema, time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), compose.Beside)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		variant string
		who     *person.Person
		want    string
	}{
		{"new", &people.People[0],
			`<table><tbody><tr><td style="color: rgb(17, 34, 51);">Bo, 1</td></tr></tbody></table><p style="position: relative;">x</p>`},
		{"reply", &people.People[0], `<table><tbody><tr><td>bo@brackwater.example</td></tr></tbody></table><p style="position: relative;">x</p>`},
	} {
		got, err := Of(prepared).Pasted(c.variant, c.who)
		if err != nil || got != c.want {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.variant, err, got, c.want)
		}
	}
	if got, err := Of(prepared).Pasted("new", &people.People[1]); err != nil || strings.Contains(got, "Li") {
		t.Errorf("a piece whose field is blank: %v\n%s", err, got)
	}
	if got, err := Of(prepared).Pasted("", nil); err != nil || !strings.Contains(got, "{{ cn }}") || !strings.Contains(got, "{{ mail }}") {
		t.Errorf("nobody: %v\n%s", err, got)
	}
}

func TestKept(t *testing.T) {
	tmpl, err := demo.Template("regatta")
	if err != nil {
		t.Fatal(err)
	}
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	prepared, err := compose.Prepare(tmpl, d.Schema, day, compose.Hosted(tmpl))
	if err != nil {
		t.Fatal(err)
	}
	p, who := Of(prepared), d.Find("bo@brackwater.example")
	text, err := p.Kept(client.Find("text-reader"), client.Render, "new", who)
	if err != nil || text.Form != compose.Text || !strings.HasPrefix(text.Body, compose.SeparatorLine) {
		t.Errorf("text reader: %+v, %v", text, err)
	}
	kept, err := p.Kept(client.Find("capped-webmail"), client.Render, "new", who)
	if err != nil || strings.Contains(kept.Body, "position") || strings.Contains(kept.Body, "{{") || len(kept.Log) == 0 {
		t.Errorf("capped webmail: %+v, %v", kept, err)
	}
	marked, err := p.Kept(client.Find("capped-webmail"), client.Install, "", nil)
	if err != nil || !strings.Contains(marked.Body, "{{ cn }}") || !strings.Contains(marked.Body, "position: relative") {
		t.Errorf("without a person: %s, %v", marked.Body, err)
	}
}

func TestLooksSayWhereTheyCameFrom(t *testing.T) {
	source := "<table><tr><td>{{ cn }}</td></tr></table>\n<p>b"
	tmpl := fromSource(t, source, "")
	schema := person.NewSchema("mail", "cn")
	who := &person.Person{Values: []string{"x@brackwater.example", "x"}}
	prepared, err := compose.Prepare(tmpl, schema, day, compose.Beside)
	if err != nil {
		t.Fatal(err)
	}
	p := Of(prepared)
	p.MarkSource = true
	body, err := p.Shown("new", who)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := markup.Parse(body)
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{"table": "0:41", "tr": "7:33", "td": "11:28", "p": "42:46"}
	for _, n := range doc.Root.Elements() {
		if got, _ := n.Attr(field.AttrSource); got != want[n.Name] {
			t.Errorf("%s came from %q, want %q", n.Name, got, want[n.Name])
		}
	}
	p.MarkSource = false
	if body, err := p.Shown("new", who); err != nil || strings.Contains(body, field.AttrSource) {
		t.Errorf("said without being asked: %s %v", body, err)
	}
}
