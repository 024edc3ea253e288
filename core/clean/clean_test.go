package clean

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestClean(t *testing.T) {
	for _, c := range []struct{ name, source, want, changes string }{
		{"indents", "<table><tr><td>a</td></tr></table><p>b <b>c</b>\n d</p>",
			"<table>\n  <tr>\n    <td>a</td>\n  </tr>\n</table>\n<p>b <b>c</b> d</p>\n", ""},
		{"classes without a rule", `<style>.a{color:red}</style><p class="a b"><i class=c>x</i></p>`,
			"<style>.a{color:red}</style>\n<p class=\"a b\"><i>x</i></p>\n", "classes without a rule 1"},
		{"declarations of a word processor",
			`<p style="mso-fareast-language:EN;color:red;mso-line-height-rule:exactly">x</p>`,
			"<p style=\"color: red; mso-line-height-rule: exactly\">x</p>\n", "declarations of a word processor 1"},
		{"namespaced tags", "<p>a<o:p></o:p><st1:place w:st=on>b</st1:place></p>", "<p>ab</p>\n", "namespaced tags 2"},
		{"islands", "<!--[if gte mso 9]><xml><o:x>1</o:x></xml><![endif]--><xml>y</xml><!--StartFragment--><p>a</p><!-- c -->",
			"<p>a</p>\n<!-- c -->\n", "conditional islands with settings only 1, islands of data 1, marks of a copy 1"},
		{"said twice", `<p style="color:red;color:blue;margin:0;margin:0">a</p>`,
			"<p style=\"color: blue; margin: 0\">a</p>\n", "declarations said twice 2"},
		{"stand-by values stay", `<p style="color:red;color:rgba(0,0,0,.5)">a</p>`, "<p style=\"color:red;color:rgba(0,0,0,.5)\">a</p>\n", ""},
		{"empty and needless", `<div><div><p><span></span><b></b><span>a</span></p></div></div>`, "<p>a</p>\n",
			"needless blocks 2, empty elements 2, elements around nothing special 1"},
		{"empty that holds a line open stays", `<p><span style="font-size:30px"></span>a</p>`,
			"<p><span style=\"font-size:30px\"></span>a</p>\n", ""},
		{"neighbours", `<p><b>a</b><b>b</b><span style="color:red">c</span><span style="color:red">d</span></p>`,
			"<p><b>ab</b><span style=\"color:red\">cd</span></p>\n", "neighbours that look the same 2"},
		{"spans in spans", `<p><span style="color:red"><span style="color:blue; font-size:9px">a</span></span></p>`,
			"<p><span style=\"color: blue; font-size: 9px\">a</span></p>\n", "spans in spans 1"},
		{"rules about elements stay true",
			`<style>span { color: red } div > p { margin: 0 }</style><div><p><span>a</span></p></div>`,
			"<style>span { color: red } div > p { margin: 0 }</style>\n<div>\n  <p><span>a</span></p>\n</div>\n", ""},
		{"rules that reach nothing",
			"<style>.a { color: red }\n.b { color: blue } @media print { .c { color: red } }</style><p class=b>x</p>",
			"<style>\n.b { color: blue } @media print { .c { color: red } }\n</style>\n<p class=\"b\">x</p>\n", "rules that reach nothing 1"},
		{"wrong nesting", "<b>a<i>b</b>c</i>", "<b>a<i>b</i></b><i>c</i>\n", "wrong nesting written as browsers read it 1"},
		{"fields stay as written", "<p data-needs=\"cn\"><span>{{ cn  |  or  'a  b' }}</span></p>",
			"<p data-needs=\"cn\">{{ cn  |  or  'a  b' }}</p>\n", "elements around nothing special 1"},
		{"attributes of the language stay", `<p><span data-needs="cn">{{ cn }}</span><span data-join=" | "></span></p>`,
			"<p><span data-needs=\"cn\">{{ cn }}</span><span data-join=\" | \"></span></p>\n", ""},
		{"preformatted", "<pre>a\n  b</pre>", "<pre>a\n  b</pre>\n", ""},
		{"styles of a sheet count behind it",
			"<style>.a { white-space: pre }\n.b { display: inline-block }</style><div class=a> x  y</div><p class=b>a</p> <p class=b>b</p>",
			"<style>.a { white-space: pre }\n.b { display: inline-block }\n</style>\n<div class=\"a\"> x  " +
				"y</div>\n<p class=\"b\">a</p> <p class=\"b\">b</p>\n", ""},
		{"drawn in the line", `<div style="display:inline-block">a</div> <div style="display:inline-block">b</div>`,
			"<div style=\"display:inline-block\">a</div> <div style=\"display:inline-block\">b</div>\n", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := Clean(c.source, Options{JoinText: true})
			if err != nil {
				t.Fatal(err)
			}
			if r.Source != c.want {
				t.Errorf("got\n%s\nwant\n%s", r.Source, c.want)
			}
			var changes []string
			for _, change := range r.Changes {
				changes = append(changes, change.What+" "+string(rune('0'+change.Count)))
			}
			if got := strings.Join(changes, ", "); got != c.changes {
				t.Errorf("changes %q, want %q", got, c.changes)
			}
			if r.Before != len(c.source) || r.After != len(r.Source) {
				t.Errorf("%d and %d bytes", r.Before, r.After)
			}
		})
	}
}

func TestTrackingGoesOnRequestOnly(t *testing.T) {
	source := `<a href="https://www.brackwater.example/x?utm_source=a&amp;id=3&amp;xclid=b#top">x</a><img ` +
		`src="https://count.brackwater.example/o.gif" width="1" height="1">`
	r, err := Clean(source, Options{})
	if err != nil || !strings.Contains(r.Source, "utm_source") || len(r.Left) != 2 || r.Left[0].Line != 1 ||
		!strings.Contains(r.Left[0].Why, "https://www.brackwater.example/x?id=3#top") {
		t.Errorf("%+v, %v", r, err)
	}
	r, err = Clean(source, Options{Tracking: true})
	if err != nil || !strings.Contains(r.Source, `href="https://www.brackwater.example/x?id=3#top"`) || len(r.Left) != 1 {
		t.Errorf("%+v, %v", r, err)
	}
}

func TestTagsBetweenLettersGoOnRequestOnly(t *testing.T) {
	r, err := Clean("<p>a<span>b</span><b>c</b><b>d</b><i></i>e</p>", Options{})
	if err != nil || r.Source != "<p>a<span>b</span><b>c</b><b>d</b>e</p>\n" || len(r.Left) != 1 ||
		!strings.Contains(r.Left[0].What, "needless tags in running text: 1") {
		t.Errorf("%+v, %v", r, err)
	}
}

func TestIndentingAloneDropsNothing(t *testing.T) {
	r, err := Clean("<div class=x><p><span>a</span><!-- c --></div>", Options{IndentOnly: true})
	if err != nil || r.Source != "<div class=\"x\">\n  <p><span>a</span><!-- c --></p>\n</div>\n" || len(r.Changes) != 0 {
		t.Errorf("%q %+v %v", r.Source, r.Changes, err)
	}
}

func TestCleaningTwiceChangesNothingMore(t *testing.T) {
	files, err := filepath.Glob("testdata/messy/*.html")
	if err != nil || len(files) < 25 {
		t.Fatalf("%d messy pages, %v", len(files), err)
	}
	for _, file := range files {
		source, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		once, err := Clean(string(source), Options{Tracking: true})
		if err != nil {
			t.Fatal(err)
		}
		twice, err := Clean(once.Source, Options{Tracking: true})
		if err != nil {
			t.Fatal(err)
		}
		if once.Source != twice.Source || len(twice.Changes) > 0 {
			t.Errorf("%s: a second time changes %v:\n%s\n%s", file, twice.Changes, once.Source, twice.Source)
		}
	}
}

func FuzzClean(f *testing.F) {
	f.Add(`<div class=x><span style="color:red;color:blue"><span></span></span></div>`)
	f.Add(`<!--[if mso]><xml><![endif]--><style>.a{}</style><pre> x</pre><b><i></b></i>`)
	f.Fuzz(func(t *testing.T, source string) {
		if len(source) > 4000 {
			return
		}
		if r, err := Clean(source, Options{Tracking: true}); err == nil && r.After != len(r.Source) {
			t.Fatal("the size is wrong")
		}
	})
}
