package field

import (
	"strconv"
	"strings"
	"testing"
	"time"
)

func TestEntries(t *testing.T) {
	for _, c := range []struct{ name, value, want string }{
		{"one", "https://a.example/", "https://a.example/"},
		{"lines", "a\nb\r\nc\n", "a|b|c"},
		{"semicolons with a space", "a; b;\tc", "a|b|c"},
		{"a semicolon in an address", "https://a.example/?x=1;y=2; b", "https://a.example/?x=1;y=2|b"},
		{"several in one address", "a;b;c; d;e", "a;b;c|d;e"},
		{"a semicolon at the end", "a;", "a"},
		{"blank ones", " ; ;\n\n; a", "a"},
		{"nothing", "", ""},
		{"white space in an entry", "https://a.example/   Two   words", "https://a.example/ Two words"},
	} {
		if got := strings.Join(entries(c.value), "|"); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestPartsOfAnEntry(t *testing.T) {
	for entry, want := range map[string][3]string{
		"https://a.example/ Tide tables": {"https://a.example/ Tide tables", "https://a.example/", "Tide tables"},
		"https://a.example/":             {"https://a.example/", "https://a.example/", "https://a.example/"},
		"Crew":                           {"Crew", "Crew", "Crew"},
	} {
		if got := [3]string{entryWhole.of(entry), entryAddress.of(entry), entryLabel.of(entry)}; got != want {
			t.Errorf("%q: %q, want %q", entry, got, want)
		}
	}
}

func FuzzEntries(f *testing.F) {
	f.Add("a; b\nc;d")
	f.Add(";;; ;\x00;\u2028")
	f.Fuzz(func(t *testing.T, value string) {
		for _, entry := range entries(value) {
			if strings.TrimSpace(entry) == "" || strings.Contains(entry, "\n") {
				t.Fatalf("%q has the entry %q", value, entry)
			}
		}
	})
}

func TestDays(t *testing.T) {
	day := time.Date(2027, 3, 4, 0, 0, 0, 0, time.UTC)
	for value, ok := range map[string]bool{
		"2027-03-04": true, "2027-03-04T09:30:00Z": true, "2027-03-04T09:30:00+02:00": true, "20270304": true,
		"20270304093000Z": true, "20270304093000.0Z": true, "202703040930Z": true,
		"20270304093000+0200": true, "4 March 2027": false, "2027-13-04": false, "": false, "04/03/2027": false,
	} {
		got, read := ParseDay(value)
		if read != ok || read && got.Format(time.DateOnly) != day.Format(time.DateOnly) {
			t.Errorf("%q: %v %v", value, got, read)
		}
	}
}

func TestDatesByLanguage(t *testing.T) {
	for _, c := range []struct{ language, style, want string }{
		{"en", "long", "4 March 2027"}, {"en-US", "long", "March 4, 2027"}, {"en-AU", "long", "4 March 2027"},
		{"sv", "long", "4 mars 2027"}, {"de-CH", "long", "4. März 2027"},
		{"fr", "full", "jeudi 4 mars 2027"}, {"ja", "long", "2027年3月4日"}, {"uk", "long", "4 березня 2027 р."},
		{"xx", "long", "4 March 2027"}, {"", "short", "04/03/2027"},
		{"nb-NO", "EEEE d. MMMM y", "torsdag 4. mars 2027"}, {"el", "dd/MM/yy", "04/03/27"},
	} {
		if got := formatDate(&env{Language: c.language}, "2027-03-04", c.style); got != c.want {
			t.Errorf("%s %s: %q, want %q", c.language, c.style, got, c.want)
		}
	}
	for pattern, ok := range map[string]bool{"long": true, "d.M.y": true, "y": true, "dd/MM/yyyy": true, "YYYY": false,
		"hh:mm": false, "D": false, "...": false, "": false, "MMMMM": false} {
		if err := acceptDatePattern(pattern); (err == nil) != ok {
			t.Errorf("the pattern %q: %v", pattern, err)
		}
	}
}

func TestAnybodyHasEverything(t *testing.T) {
	table := NewTable(schema, "GB")
	program, err := CompileHTML(source(t,
		`<p data-needs="mobile">a</p><p data-unless="mobile">b</p><p data-each="labeledURI">{{ entry }}</p><i `+
			`data-each="org.links">{{ entry.label }}</i>`),
		table, "new")
	if err != nil {
		t.Fatal(err)
	}
	f := NewFiller(table)
	f.SetAnybody()
	if got := string(program.Append(nil, f)); got != `<p>a</p><i>Tides</i><i>https://b.example/</i>` {
		t.Errorf("%s", got)
	}
}

// TestPlansAgreeWithTheSteps: filling by a plan gives what the steps give, for every pattern of blanks.
func TestPlansAgreeWithTheSteps(t *testing.T) {
	html := `<table><tr><td data-needs="cn">{{ cn }}</td><td>{{ sn | upper }}</td></tr><tr data-unless="ou"><td ` +
		`colspan="2" data-join=" | "><b>{{ ou }}</b><i>{{ title }}</i></td></tr></table><a href="tel:{{ mobile | ` +
		`dial }}" data-needs="mobile or cn">{{ mobile | phone | or 'x' }}</a>`
	table := NewTable(schema, "GB")
	program, err := CompileHTML(source(t, html), table, "new")
	if err != nil {
		t.Fatal(err)
	}
	fields := []string{"cn", "sn", "ou", "title", "mobile"}
	f := NewFiller(table)
	for round := range 2 { // the second time from the plans made in the first
		for mask := range 1 << len(fields) {
			p := somebody()
			for i, name := range fields {
				if mask>>i&1 == 1 {
					column, _, _ := schema.Column(name)
					p.Values[column] = "07700 90014" + string(rune('0'+round)) + "<"
				}
			}
			f.Set(p)
			var steps strings.Builder
			program.Visit(f, func(_ *Step, text string) { steps.WriteString(text) })
			if got := string(program.Append([]byte("before"), f)); got != "before"+steps.String() {
				t.Fatalf("mask %b: the plan gives\n%s\nthe steps\n%s", mask, got, steps.String())
			}
		}
	}
}

// TestNumbersAreReadOnce: what was read is remembered with the country in which it was read, up to a limit.
func TestNumbersAreReadOnce(t *testing.T) {
	var n Numbers
	first, ok := n.parse("01632 960100", "GB")
	if again, _ := n.parse("01632 960100", "GB"); !ok || again != first {
		t.Error("it was read twice")
	}
	if _, ok := n.parse("01632 960100", "US"); ok {
		t.Error("the country makes no difference")
	}
	if _, ok := n.parse("no number", "GB"); ok || len(n.read) != 3 {
		t.Errorf("%d are remembered", len(n.read))
	}
	for i := range mostNumbers {
		n.read[numberKey{"x", strconv.Itoa(i)}] = readNumber{}
	}
	if _, ok := n.parse("01632 960101", "GB"); !ok || len(n.read) != 1 {
		t.Errorf("%d are remembered", len(n.read))
	}
	for _, c := range []struct {
		value, country string
		want           bool
	}{{"", "", true}, {"  ", "GB", true}, {"+44 1632 960100", "", true}, {"01632 960100", "gb", true},
		{"01632 960100", "nowhere", true}, {"ask", "GB", false}} {
		if got := n.Dialable(c.value, c.country, "GB"); got != c.want {
			t.Errorf("%q in %q: %v", c.value, c.country, got)
		}
	}
}
