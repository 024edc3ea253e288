package proof

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/journey"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// sample is a person's signature in one variant, as it was prepared and as a webmail with a box to paste into stores it.
type sample struct {
	name           string
	owner          Owner
	wanted, before []Wanted
	stored         string
	prepared       *compose.Prepared
	person         *person.Person
	people         *person.Directory
}

// all are what the service would hold against a paste.
func (s *sample) all() []Wanted { return append(slices.Clone(s.wanted), s.before...) }

func (s *sample) judge(t testing.TB, shown Shown) Verdict {
	t.Helper()
	v, err := Judge(Input{Owner: s.owner, Wanted: s.all(), Shown: shown, Colleague: func(mail string) bool {
		return s.people != nil && mail != s.owner.Mail && s.people.Find(mail) != nil
	}})
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// samples are the demo's signatures of several people, also in other scripts.
func samples(t testing.TB) []*sample {
	t.Helper()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	templates, err := demo.Templates()
	if err != nil {
		t.Fatal(err)
	}
	var list []*sample
	for _, tm := range templates {
		for _, mail := range []string{"maren.lind@brackwater.example", "salma.albahri@brackwater.example", "tobias.falk@brackwater.example"} {
			who := people.Find(mail)
			if who == nil {
				who = &people.People[len(list)]
			}
			list = append(list, sampleOf(t, tm, people, who))
		}
	}
	return list
}

// corpus are the signatures that were written by hand in many styles, with their mistakes.
func corpus(t testing.TB) (list []*sample) {
	t.Helper()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	signatures, err := demo.Signatures()
	if err != nil {
		t.Fatal(err)
	}
	for i, s := range signatures {
		tm, err := template.New(fmt.Sprintf("%s-%d", s.Style, i), template.Parts{Source: s.Source})
		if err != nil {
			continue // some hold mistakes for which there is no signature
		}
		list = append(list, sampleOf(t, tm, people, &people.People[i%len(people.People)]))
	}
	if len(list) < 100 {
		t.Fatalf("%d signatures", len(list))
	}
	if os.Getenv("MISSIVUM_SOAK") == "" { // every sixth
		few := list[:0]
		for i, s := range list {
			if i%6 == 0 {
				few = append(few, s)
			}
		}
		return few
	}
	return list
}

func sampleOf(t testing.TB, tm *template.Template, people *person.Directory, who *person.Person) *sample {
	t.Helper()
	prepared, err := compose.Prepare(tm, people.Schema, day, compose.Reached(tm))
	if err != nil {
		t.Fatal(err)
	}
	s := &sample{prepared: prepared, person: who, people: people, owner: Owner{people.Get(who, "mail"), people.Get(who, "cn")}}
	s.name = tm.Name + " of " + s.owner.Mail
	of := func(who *person.Person, release string, older bool) (list []Wanted) {
		compiled, err := compose.Compile(compose.Source{Template: tm, Schema: people.Schema, Day: day}, compose.Fragment, compose.Text)
		if err != nil {
			t.Fatal(err)
		}
		for _, variant := range tm.Variants() {
			list = append(list, Wanted{Situation: variant, Release: release, Older: older,
				HTML: string(compiled.Fill(variant, compose.Fragment, who)), Text: string(compiled.Fill(variant, compose.Text, who))})
		}
		return list
	}
	s.wanted = of(who, "2", false)
	before := *who
	before.Values = slices.Clone(who.Values)
	title, _, _ := people.Schema.Column("title")
	before.Values[title] = "Deckhand of former days"
	s.before = of(&before, "1", true)
	s.stored = s.through(t, "capped-webmail", client.Install, journey.View{})
	s.wanted[0].Expected = []string{s.stored}
	return s
}

// through is the first variant after stages of a client.
func (s *sample) through(t testing.TB, id string, stage client.Stage, view journey.View) string {
	t.Helper()
	kept, err := preview.Of(s.prepared).Seen(client.Find(id), stage, view, s.wanted[0].Situation, s.person)
	if err != nil {
		t.Fatal(err)
	}
	return kept.Body
}

// replaced is a text in which an expression was replaced everywhere; the test of it fails where it changes nothing.
func replaced(expression, by string) func(string) string {
	re := regexp.MustCompile(expression)
	return func(s string) string { return re.ReplaceAllString(s, by) }
}

// once is replaced for the first place only.
func once(expression, by string) func(string) string {
	re := regexp.MustCompile(expression)
	return func(s string) string {
		at := re.FindStringSubmatchIndex(s)
		if at == nil {
			return s
		}
		return s[:at[0]] + string(re.ExpandString(nil, by, s, at)) + s[at[1]:]
	}
}

// alterations are what people and programs do to a signature, each with the kinds that are to be named.
var alterations = []struct {
	name  string
	do    func(string) string
	kinds []Kind
	state State
}{
	{"links are underlined", replaced(`text-decoration: ?none`, "text-decoration: underline"), []Kind{LinkUnderline}, Altered},
	{"links lose their declaration", replaced(`text-decoration: ?none;?`, ""), []Kind{LinkUnderline}, Altered},
	{"links are blue", replaced(`(<a [^>]*>)(<span [^>]*>)?`, `$1<span style="color: #1155cc">`), []Kind{LinkColour}, Altered},
	{"links are blue and underlined", replaced(`(<a [^>]*>)(<span [^>]*>)?`, `$1<span style="color: blue; text-decoration: underline">`),
		[]Kind{LinkColour, LinkUnderline}, Altered},
	{"the font is the program's", replaced(`font-family: ?[^;"]*`, "font-family: Calibri"), []Kind{Font}, Altered},
	{"the font is gone", replaced(`font-family: ?[^;"]*;?`, ""), []Kind{Font}, Altered},
	{"letters are larger", replaced(`font-size: ?\d+px`, "font-size: 19px"), []Kind{Size}, Altered},
	{"letters in the program's size", replaced(`font-size: ?\d+px;?`, ""), []Kind{Size}, Altered},
	{"text is black", replaced(`([^-])color: ?(?:rgb\([^)]*\)|#[0-9a-f]+|[a-z]+)`, "${1}color: black"), []Kind{Colour}, Altered},
	{"no bold any more", replaced(`font-weight: ?(bold|[67]00)`, "font-weight: 400"), []Kind{Weight}, Altered},
	{
		"everything bold",
		func(s string) string { return replaced(`font-weight: ?\d+`, "font-weight: 700")("<b>" + s + "</b>") },
		[]Kind{Weight},
		Altered,
	},
	{"a picture is gone", once(`<img[^>]*>`, ""), []Kind{PictureLost}, Altered},
	{"a picture without address", once(`(<img[^>]*)src="[^"]*"`, "$1"), []Kind{PictureLost}, Altered},
	{"all pictures gone", replaced(`<img[^>]*>`, ""), []Kind{PictureLost}, Altered},
	{"a picture on the own disk", once(`(<img[^>]*)src="[^"]*"`, `${1}src="file:///C:/Users/maren/logo.png"`), []Kind{PictureLocal}, Altered},
	{"pictures in their true size", func(s string) string {
		return replaced(
			`(<img[^>]*)(?: height="\d+")`,
			"$1",
		)(
			replaced(`(<img[^>]*)(?: width="\d+")`, "$1")(replaced(`(<img[^>]*style="[^"]*?)\b(width|height): ?[^;"]*;?`, "$1")(s)),
		)
	}, []Kind{PictureSize}, Altered},
	{
		"a picture blown up",
		once(`(<img[^>]*)width="\d+"([^>]*height=")\d+("[^>]*)style="[^"]*"`, `${1}width="640"${2}640$3`),
		[]Kind{PictureSize},
		Altered,
	},
	{
		"another picture",
		once(`(<img[^>]*)src="[^"]*"`, `${1}src="https://elsewhere.example/cat.png" alt="A cat"`),
		[]Kind{PictureOther},
		Altered,
	},
	{"links gone", replaced(`</?a\b[^>]*>`, ""), []Kind{LinkLost}, Altered},
	{"a link leads elsewhere", once(`href="https?:[^"]*"`, `href="https://elsewhere.example/"`), []Kind{LinkChanged}, Altered},
	{"a telephone link to another number", once(`href="tel:[^"]*"`, `href="tel:+15550100"`), []Kind{LinkChanged}, Altered},
	{"pasted as text", toText, []Kind{TextOnly}, Altered},
	{"pasted as text into paragraphs", func(s string) string {
		return "<div>" + strings.ReplaceAll(strings.TrimSpace(toText(s)), "\n", "</div><div>") + "</div>"
	}, []Kind{TextOnly}, Altered},
	{"pasted twice", func(s string) string { return s + "<br>" + s }, []Kind{Doubled}, Altered},
	{"pasted three times", func(s string) string { return s + s + s }, []Kind{Doubled}, Altered},
	{"source in a rendered box", func(s string) string {
		return "<div>" + strings.NewReplacer("<", "&lt;", ">", "&gt;").Replace(s) + "</div>"
	},
		[]Kind{RawSource}, Altered},
	{"cut in the middle", func(s string) string { return s[:len(s)*55/100] }, []Kind{CutOff}, Incomplete},
	{"a name typed anew", once(`Maren|Salma|Tobias|سلمى`, "Kaptajn"), []Kind{WordsChanged}, Altered},
	{"a sentence below it", func(s string) string { return s + "<div>Sent from the bridge with cold hands</div>" }, nil, Right},
	{"a sentence in it", once(`</td>`, ` Sent with cold hands</td>`), []Kind{WordsAdded}, Altered},
	{"the mail address deleted", once(`(<a [^>]*mailto:[^>]*>)(<span[^>]*>)?[^<]*`, "$1$2"), []Kind{PartMissing}, Incomplete},
	{"the table taken apart", func(s string) string {
		return replaced(`<(/?)(?:table|tbody|tr|td)\b`, "<${1}div")(s)
	}, []Kind{LayoutLost}, Altered},
}

// shows reports whether there is in a signature what an alteration of some kinds changes, so that people see it.
func shows(t *testing.T, kinds []Kind, stored, changed string) bool {
	t.Helper()
	pieces, err := readPage(stored)
	if err != nil {
		t.Fatal(err)
	}
	after, err := readPage(changed)
	if err != nil {
		t.Fatal(err)
	}
	has := func(is func(p piece) bool) bool { return slices.ContainsFunc(pieces, is) }
	first := regexp.MustCompile(`<img[^>]*>`).FindString(stored)
	for _, k := range kinds {
		ok := true
		switch k {
		case LinkUnderline:
			ok = regexp.MustCompile(`text-decoration: ?none`).MatchString(stored)
		case LinkColour, LinkLost: // with a colour of its own inside it stays as it is
			ok = has(func(p piece) bool { return p.picture == nil && p.link != "" }) && !strings.Contains(stored, "<font")
		case LinkChanged:
			ok = !regexp.MustCompile(`^[^:]*:?[^"]*"[^>]*><i></i>`).MatchString(stored[strings.Index(stored, `href="http`)+1:])
		case Colour:
			ok = has(func(p piece) bool { return p.firm.colour && p.link == "" && p.picture == nil && p.looks.colour.R > 20 })
		case PictureLost, PictureSize, PictureLocal, PictureOther: // a picture of 1 px is none, and one that is not on the web may lie anywhere
			ok = regexp.MustCompile(`src="https?:`).MatchString(first) && !regexp.MustCompile(`(width|height)="1"`).MatchString(first) &&
				len(pieces) > 1
		case LayoutLost:
			ok = has(func(p piece) bool { return p.column > 0 && p.column%7 > 0 })
		case CutOff:
			ok = len(after) > 0 && after[0].word == pieces[0].word
		case Weight, TextOnly:
			ok = has(func(p piece) bool { return p.picture == nil && !p.looks.bold })
		}
		if !ok {
			return false
		}
	}
	return true
}

// toText is what a page says as text, without markup.
func toText(s string) string {
	s = regexp.MustCompile(`(?i)</tr>|<br[^>]*>|</div>|</p>`).ReplaceAllString(s, "\n")
	s = regexp.MustCompile(`<[^>]*>`).ReplaceAllString(s, " ")
	s = strings.NewReplacer("&nbsp;", " ", "&amp;", "&", "&#39;", "'").Replace(s)
	return regexp.MustCompile(`[ \t]+`).ReplaceAllString(s, " ")
}

func TestAlterationsAreNamed(t *testing.T) {
	own := samples(t)
	if right, all := named(t, own); right*100 < all*95 || all < 200 {
		t.Errorf("%d of %d alterations are named right", right, all)
	}
	whole := slices.DeleteFunc(corpus(t), func(s *sample) bool { return !strings.HasPrefix(s.name, "whole") })
	if right, all := named(t, whole); right*100 < all*95 {
		t.Errorf("%d of %d alterations of the corpus are named right", right, all)
	}
}

// named counts how many alterations of signatures are named right.
func named(t *testing.T, list []*sample) (right, all int) {
	t.Helper()
	for _, s := range list {
		for _, a := range alterations {
			changed := a.do(s.stored)
			if changed == s.stored || !shows(t, a.kinds, s.stored, changed) {
				continue // this signature has nothing of the kind
			}
			all++
			shown := Shown{HTML: changed}
			if a.name == "pasted as text" {
				shown = Shown{Text: changed}
			}
			v := s.judge(t, shown)
			kinds := v.Kinds()
			ok := v.State == a.state && len(kinds) >= len(a.kinds) && len(kinds) <= len(a.kinds)+1 && (a.kinds != nil || len(kinds) == 0)
			for _, k := range a.kinds {
				ok = ok && slices.Contains(kinds, k)
			}
			if ok {
				right++
				continue
			}
			t.Logf("%s, %s: %s %v (%.2f found), want %s %v\n%+v", s.name, a.name, v.State, kinds, v.Share, a.state, a.kinds, v.Differences)
		}
	}
	t.Logf("%d of %d alterations named right, %d ways on %d signatures", right, all, len(alterations), len(list))
	return right, all
}

// harmless are rewritings that change nothing that people see or use.
var harmless = map[string]func(string) string{
	"as it is":                  func(s string) string { return s },
	"classes with a prefix":     replaced(`<(td|table|span|a) `, `<$1 class="x_missivum x_m_1" `),
	"spans around everything":   replaced(`>([^<]+)<`, `><span><span>$1</span></span><`),
	"font elements":             replaced(`>([^<\s][^<]*)<`, `><font>$1</font><`),
	"line breaks in the markup": replaced(`><`, ">\n<"),
	"no-break spaces":           replaced(`(>[^<]*\pL) (\pL)`, "$1&nbsp;$2"),
	"hexadecimal colours":       replaced(`rgb\(11, 93, 110\)`, "#0b5d6e"),
	"important":                 replaced(`(color: ?[^;"]*)`, "$1 !important"),
	"a wrapper with its own font": func(s string) string {
		return `<div style="font-family: Arial; font-size: 13px; color: #222">` + s + "</div>"
	},
	"a white box around it":         func(s string) string { return `<div dir="ltr" style="background: #fff">` + s + "<br></div>" },
	"an element named signature":    func(s string) string { return `<div class="signature" data-smart="x">` + "-- <br>" + s + "</div>" },
	"pictures through a cache":      replaced(`src="(https[^"]*)"`, `src="https://cache.example/proxy/abc=s0-d#$1"`),
	"pictures carried":              replaced(`src="https[^"]*"`, `src="cid:part1.abc@brackwater.example"`),
	"pictures inside":               replaced(`src="https[^"]*"`, `src="data:image/png;base64,iVBORw0KGgo="`),
	"links through a guard":         replaced(`href="(https[^"]*)"`, `href="https://guard.example/?url=$1&amp;data=05"`),
	"links with a target":           replaced(`<a `, `<a target="_blank" rel="noopener" data-saferedirect="x" `),
	"telephone numbers with spaces": replaced(`href="tel:\+(\d\d)(\d\d)`, `href="tel:+$1 $2`),
	"empty paragraphs around":       func(s string) string { return "<p>&nbsp;</p>" + s + "<p><br></p>" },
	"a conversation around": func(s string) string {
		return "<p>Good morning, the pilot boards at nine. Please confirm the berth with the harbour office before then.</p>" + s +
			"<blockquote>Which berth is it, and who meets the pilot?</blockquote>"
	},
	"a table around the whole message": func(s string) string {
		return "<table><tr><td><p>Good morning, the pilot boards at nine.</p>" + s +
			"<blockquote>Which berth is it, and who meets the pilot?</blockquote></td></tr></table>"
	},
	"marks of direction":      replaced(`>([^<\s][^<]*)<`, ">\u200e$1<"),
	"soft hyphens":            replaced(`harbour`, "har\u00adbour"),
	"capital tags":            strings.NewReplacer("<td", "<TD", "</td", "</TD", "<table", "<TABLE", "</table", "</TABLE").Replace,
	"heights on rows":         replaced(`<tr`, `<tr height="0"`),
	"a counting picture":      func(s string) string { return s + `<img src="https://count.example/1.gif" width="1" height="1">` },
	"comments":                replaced(`<td`, "<!-- cell --><td"),
	"a style sheet before it": func(s string) string { return "<style>.unused { color: red } </style>" + s },
	"decorations written out": replaced(`text-decoration: ?none`, "text-decoration: none solid rgb(11, 93, 110); text-decoration-line: none"),
	"sizes by style":          replaced(`(<img[^>]*?)width="(\d+)" height="(\d+)"`, `${1}style="width: ${2}px; height: ${3}px"`),
	"numbers as links": func(s string) string {
		return replaced(`(Marine radio )([A-Z0-9]+)`, `$1<a href="tel:112">$2</a>`)(s)
	},
	"a mark of its own": func(s string) string { return `<div class="missivum-signature">` + s + `</div>` },
	"one line":          replaced(`\s+`, " "),
}

func TestHarmlessRewritingIsNoAlteration(t *testing.T) {
	count, wrong := 0, 0
	own := samples(t)
	for i, s := range append(own, corpus(t)...) {
		for name, do := range harmless {
			for what, given := range map[string]string{"stored": s.stored, "prepared": s.wanted[0].HTML} {
				if v := s.judge(t, Shown{HTML: do(given)}); v.State != Right || v.Situation != s.wanted[0].Situation {
					t.Logf("%s, %s of what was %s: %s, %v, %+v", s.name, name, what, v.State, v.Kinds(), v.Differences)
					if wrong++; i < len(own) {
						t.Errorf("an alteration is seen where there is none")
					}
				}
				count++
			}
		}
	}
	// signatures whose markup is broken can be rewritten into something else by the ways above
	if t.Logf("%d rewritings, %d called an alteration", count, wrong); wrong*500 > count {
		t.Errorf("%d of %d harmless rewritings are called alterations", wrong, count)
	}
}

// What a client does to every signature is nothing that its user can change.
func TestWhatTheClientDoesToEverySignatureIsUsual(t *testing.T) {
	count, wrong := 0, 0
	for _, s := range append(samples(t), corpus(t)...) {
		for _, p := range client.Shipped() {
			if p.Form != "html" {
				continue
			}
			for _, stage := range client.Stages {
				s.wanted[0].Expected = []string{s.through(t, p.ID, client.Receive, journey.View{}), s.through(t, p.ID, client.Render, journey.View{})}
				shown := s.through(t, p.ID, stage, journey.View{})
				v := s.judge(t, Shown{HTML: shown})
				if v.State != Right {
					wrong++
					t.Logf("%s after %s of %s: %s, %v, %+v", s.name, stage, p.ID, v.State, v.Kinds(), v.Differences)
				}
				count++
			}
		}
	}
	if t.Logf("%d simulated, %d called an alteration", count, wrong); wrong*200 > count {
		t.Errorf("%d of %d are called alterations", wrong, count)
	}
}

// What a browser made of broken markup, and of white space that it does not show, is no alteration.
func TestWhatABrowserMakesOfIt(t *testing.T) {
	const words = `<p style="color: #0b3c49">Maren Lind, Head of Timetables, Brackwater Ferries</p>`
	for prepared, shown := range map[string]string{
		`<table>Kind regards<tr><td>Harbour office</td></tr><div>Tide Quay</div></table>`: `Kind regards<div>Tide Quay</div>` +
			`<table><tbody><tr><td>Harbour office</td></tr></tbody></table>`,
		`<div style="display: flex"> <a href="/a">Fares</a> <a href="/b">Ports</a> </div>`: `<div style="display: flex"><a href="/a">Fares</a>` +
			`<a href="/b">Ports</a></div>`,
		`<a href="/a">Fares <a href="/b">Ports</a></a>`:  `<a href="/a">Fares </a><a href="/b">Ports</a>`,
		`<img alt="Flag" width="24" height="16"> Ports`:  `<img alt="Flag" width="24" height="16"> Ports`,
		`<span style="display: block">Fares</span>Ports`: `<div>Fares</div>Ports`,
	} {
		in := Input{Wanted: []Wanted{{HTML: words + prepared}}, Shown: Shown{HTML: words + shown}}
		if v, err := Judge(in); err != nil || v.State != Right || len(v.Differences) > 0 {
			t.Errorf("%s\nas %s\nis %s, %+v, %v", prepared, shown, v.State, v.Differences, err)
		}
	}
}

func TestWhoseAndFromWhen(t *testing.T) {
	list := samples(t)
	for i, s := range list {
		if v := s.judge(t, Shown{HTML: s.before[0].HTML}); s.before[0].HTML != s.wanted[0].HTML && (v.State != Older || v.Release != "1") {
			t.Errorf("%s: the one before is %s of release %s, %+v", s.name, v.State, v.Release, v.Differences)
		}
		other := list[(i/3)*3+(i+1)%3]
		if v := s.judge(t, Shown{HTML: other.stored}); v.State != Another {
			t.Errorf("%s: that of %s is %s, %+v", s.name, other.name, v.State, v.Differences)
		}
		if v := s.judge(t, Shown{Text: s.wanted[0].Text}); v.State != Altered || !slices.Equal(v.Kinds(), []Kind{TextOnly}) {
			t.Errorf("%s: its text form is %s, %v, %+v", s.name, v.State, v.Kinds(), v.Differences)
		}
		for _, nothing := range []string{"", "<p>Good morning, and thank you for the pilot's report of yesterday.</p>",
			"<p>-- <br>Some other</p>"} {
			if v := s.judge(t, Shown{HTML: nothing}); v.State != None {
				t.Errorf("%s: %q is %s", s.name, nothing, v.State)
			}
		}
	}
}

// Whatever is pasted is answered in a time that grows with its size.
func TestHostilePastes(t *testing.T) {
	s := samples(t)[0]
	fonts := strings.Builder{}
	for i := range 95 {
		fmt.Fprintf(&fonts, "<font id=%d><p>", i)
	}
	for name, shown := range map[string]string{
		"unclosed":    fonts.String() + strings.Repeat("</p><p>Maren", 900),
		"deep":        strings.Repeat("<div>", 100_000),
		"many copies": strings.Repeat(s.stored, 40),
		"one word":    "<p>" + strings.Repeat("Maren ", 30_000) + "</p>",
		"two words":   "<p>" + strings.Repeat("Maren Lind ", 20_000) + "</p>",
		"long word":   "<p>" + strings.Repeat("M", 200_000) + "</p>",
		"attributes":  "<p " + strings.Repeat(`a="b" `, 50_000) + ">x</p>",
		"broken":      strings.Repeat("<table><td><a href='", 5_000),
		"not text":    string([]byte{0xff, 0xfe, 0, '<', 'b', 0x80}),
	} {
		began := time.Now()
		v, err := Judge(Input{Owner: s.owner, Wanted: s.all(), Shown: Shown{HTML: shown}})
		if (err != nil) != (v.State == Unread) {
			t.Errorf("%s: %s, %v", name, v.State, err)
		}
		t.Logf("%s: %s in %v", name, v.State, time.Since(began).Round(time.Millisecond))
	}
	if _, err := Judge(Input{Shown: Shown{Text: strings.Repeat("x", MaxShown+1)}}); err == nil {
		t.Error("too much is not refused")
	}
}

func FuzzJudge(f *testing.F) {
	s := samples(f)[0]
	f.Add(s.stored, "")
	f.Add("", s.wanted[0].Text)
	f.Add("<style>a{color:red}</style><a href='%zz'>Maren Lind</a>", "")
	f.Fuzz(func(t *testing.T, html, text string) {
		v, err := Judge(Input{Owner: s.owner, Wanted: s.all(), Shown: Shown{html, text}})
		if err == nil && (v.State == "" || v.Share < 0 || v.Share > 1) {
			t.Errorf("%+v", v)
		}
	})
}

func TestEveryKindSaysWhatToDo(t *testing.T) {
	for _, k := range Sorts() {
		if k.Title == "" || k.By == "" || k.Do == "" {
			t.Errorf("%+v", k)
		}
	}
}

// BenchmarkJudge checks what was stored of the demo's signature; BenchmarkRead reads it alone, to compare with.
func BenchmarkJudge(b *testing.B) {
	s := samples(b)[0]
	for b.Loop() {
		if _, err := Judge(Input{Owner: s.owner, Wanted: s.all(), Shown: Shown{HTML: s.stored}}); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkRead(b *testing.B) {
	s := samples(b)[0]
	for b.Loop() {
		if _, err := readPage(s.stored); err != nil {
			b.Fatal(err)
		}
	}
}
