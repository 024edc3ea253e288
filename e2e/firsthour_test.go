package e2e

import (
	"archive/zip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"golang.org/x/net/html"
	"golang.org/x/text/encoding/charmap"
)

// messy are telephone numbers as a personnel export has them, with what a telephone dials; empty for those that are not
// certain, which have no link.
var messy = []struct{ written, dialled string }{
	{"040 66969-1%02d", "+4940669691%02d"},
	{"040/669691%02d", "+4940669691%02d"},
	{"+49 40 669691%02d", "+49406696 91%02d"},
	{"+49 (0)40 669691%02d", "+49406696 91%02d"},
	{"0049 40 669691%02d", "+49406696 91%02d"},
	{"(040) 66 96 91 %02d", "+49406696 91%02d"},
	{"040 669691%02d Zentrale", ""},
	{"040/669691%02d u. 040/66969121", ""},
	{"669691%02d", ""},
	{"App. 0%02d", ""},
	{"040 669691%02d (privat)", ""},
	{"", ""},
	{"n/a", ""},
	{"040 669691%02d / 121", ""},
	{"040.669691%02d", "+49406696 91%02d"},
}

// crew are 300 people with every kind of mess in their values.
func crew() (csv string, dialled, names map[string]string) {
	first := []string{"Jörg", "Käthe", "Søren", "Zoë", "Ana-Sofía", "O'Brian", "Åse", "Élodie", "Max", "Ñusta"}
	last := []string{"Groß", "Müller-Lüdenscheidt", "van der Meer", "D'Angelo", "Öztürk", "Ilk & Sohn", "Überall", "Çelik", "Tide", "<Nacht>"}
	var b strings.Builder
	b.WriteString("Personal-Nr.;Nachname;Vorname;E-Mail;Funktion;Abteilung;Telefon geschäftlich;Handy;Straße;PLZ;Ort;Land;Gehalt;Notizen\r\n")
	dialled, names = map[string]string{}, map[string]string{}
	for i := range 300 {
		mail := fmt.Sprintf("p%03d@brackwater.example", i)
		number := messy[i%len(messy)]
		written, dials := number.written, number.dialled
		if strings.Contains(written, "%") {
			written = fmt.Sprintf(written, i%100)
		}
		if dials != "" {
			dials = strings.ReplaceAll(fmt.Sprintf(dials, i%100), " ", "")
		}
		title := []string{"Leiter Fähren", "", "Köchin; Küche", "  Matrose  ", "\"Chef\" Technik"}[i%5]
		given, family := first[i%10], last[i/10%10]
		quoted := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
		fmt.Fprintf(&b, "%d;%s;%s;%s;%s;Küche & Service;%s;;Am Kai %d;20457;Hamburg;Deutschland;4%d00;geheim %d\r\n", 1000+i,
			quoted(family), given, mail,
			quoted(title), written, i, i%9, i)
		dialled[mail], names[mail] = dials, given+" "+family
	}
	return b.String(), dialled, names
}

// TestTheFirstHour: a messy export and a signature made by hand become files for everybody, with the commands of the
// README alone, and no value in them is wrong.
func TestTheFirstHour(t *testing.T) {
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	csv, dialled, names := crew()
	encoded, err := charmap.Windows1252.NewEncoder().String(csv)
	if err != nil {
		t.Fatal(err)
	}
	signature, err := charmap.Windows1252.NewEncoder().String(`<html><head><meta charset="windows-1252"></head>` +
		`<body><p><b>Jörg Groß</b><br>Leiter Fähren</p>` +
		`<p>Küche &amp; Service</p><p>Tel. <a href="tel:+4940669691 00">+49 40 66969100</a></p>` +
		`<p><a href="mailto:p000@brackwater.example">p000@brackwater.example</a></p><p>Brackwater Ferries – Fähren für alle</p></body></html>`)
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"crew.csv": encoded, "joerg.html": signature} {
		if err := os.WriteFile(at(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	expect := func(status int, says string, args ...string) string {
		t.Helper()
		code, out, errs := command(t, args...)
		if code != status || !strings.Contains(out+errs, says) {
			t.Fatalf("%s: exit %d, want %d with %q\n%s\n%s", strings.Join(args, " "), code, status, says, out, errs)
		}
		return out + errs
	}
	said := expect(0, "windows-1252", "people", "columns", at("crew.csv"), "-o", at("crew.mapping.yaml"))
	if !strings.Contains(said, "Gehalt") || !strings.Contains(said, "left out") {
		t.Errorf("columns:\n%s", said)
	}
	said = expect(0, "values found", "new", "--signature", at("joerg.html"), "--people", at("crew.csv"), "--person", "p000@brackwater.example",
		"-o", at("crew"))
	if strings.Contains(said, "stays for everybody") {
		t.Errorf("something of the person is left:\n%s", said)
	}
	checked := expect(0, "is not certainly one telephone number", "check", at("crew"), "--people", at("crew.csv"), "--format", "json")
	if !strings.Contains(checked, `"p006@brackwater.example"`) || strings.Contains(checked, "geheim") {
		t.Error("who has an uncertain number is not all in the report, or what was not mapped is")
	}
	expect(0, "300 people", "pack", at("crew"), "--people", at("crew.csv"), "--form", "html,text", "--variant", "new", "-o", at("crew.zip"))
	archive, err := zip.OpenReader(at("crew.zip"))
	if err != nil {
		t.Fatal(err)
	}
	defer archive.Close()
	pages := 0
	for _, f := range archive.File {
		mail, file, _ := strings.Cut(f.Name, "/")
		if !strings.HasSuffix(file, ".html") {
			continue
		}
		pages++
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		page, err := io.ReadAll(r)
		r.Close()
		if err != nil {
			t.Fatal(err)
		}
		root, err := html.Parse(strings.NewReader(string(page)))
		if err != nil {
			t.Fatal(err)
		}
		text, links := shown(root)
		if !strings.Contains(text, names[mail]) || !strings.Contains(text, mail) ||
			!strings.Contains(text, "Brackwater Ferries – Fähren für alle") ||
			!strings.Contains(text, "Küche & Service") {
			t.Errorf("%s reads %q", mail, text)
		}
		dials := ""
		for _, link := range links {
			if number, ok := strings.CutPrefix(link, "tel:"); ok {
				dials += number
			} else if link != "mailto:"+mail {
				t.Errorf("%s links to %s", mail, link)
			}
		}
		if dials != dialled[mail] {
			t.Errorf("%s dials %q, want %q: %s", mail, dials, dialled[mail], text)
		}
		if wrong := regexp.MustCompile(`geheim|\{\{|\x{fffd}|Ã|p000@brackwater\.example`).FindString(strings.ReplaceAll(text,
			mail, "")); wrong != "" {
			t.Errorf("%s holds %q: %s", mail, wrong, text)
		}
	}
	if pages != 300 {
		t.Errorf("%d pages", pages)
	}
}

// shown are the words of a page in their order, and where its links lead.
func shown(n *html.Node) (text string, links []string) {
	var words []string
	var visit func(*html.Node)
	visit = func(n *html.Node) {
		if n.Type == html.TextNode && n.Parent.Data != "title" && n.Parent.Data != "style" {
			words = append(words, strings.Fields(n.Data)...)
		}
		for _, a := range n.Attr {
			if a.Key == "href" {
				links = append(links, a.Val)
			}
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			visit(c)
		}
	}
	visit(n)
	return strings.Join(words, " "), slices.Clip(links)
}
