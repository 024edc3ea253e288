package templates

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"missivum/core/compose"
	"missivum/core/markup"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/template"
	"missivum/demo"
	demopeople "missivum/demo/people"
	"missivum/service/access"
	"missivum/service/clients"
	"missivum/service/hosting"
	"missivum/service/people"
	"missivum/service/store"
)

func archive(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, content := range files {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(content)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestArchivesGoRound(t *testing.T) {
	all, err := demo.Templates()
	if err != nil {
		t.Fatal(err)
	}
	texts := 0
	for _, tmpl := range all {
		var b bytes.Buffer
		if err := WriteArchive(&b, tmpl); err != nil {
			t.Fatal(err)
		}
		back, err := ReadArchive(tmpl.Name, b.Bytes())
		if err != nil || back.Version() != tmpl.Version() || len(back.Texts) != len(tmpl.Texts) {
			t.Errorf("%s: %v", tmpl.Name, err)
		}
		texts += len(tmpl.Texts)
	}
	if texts == 0 {
		t.Error("no template has a text form by hand")
	}
}

func TestHostileArchivesAreRefused(t *testing.T) {
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"not a zip":       {[]byte("<html>"), "not a zip"},
		"nothing in it":   {archive(t, nil), "template.html"},
		"a way out":       {archive(t, map[string]string{"template.html": "x", "../evil": "x"}), "no part of a template"},
		"a way out, deep": {archive(t, map[string]string{"template.html": "x", "pictures/../../evil": "x"}), "no part of a template"},
		"a program":       {archive(t, map[string]string{"template.html": "x", "run.sh": "x"}), "no part of a template"},
		"a folder deeper": {archive(t, map[string]string{"template.html": "x", "pictures/a/b.png": "x"}), "no part of a template"},
		"no picture":      {archive(t, map[string]string{"template.html": "x", "pictures/a.png": "<svg>"}), "broken"},
		"a bomb":          {archive(t, map[string]string{"template.html": strings.Repeat("x", maxArchive+1)}), "unpacks to more than"},
		"wrong settings":  {archive(t, map[string]string{"template.html": "x", "template.yaml": "titel: x"}), "titel"},
	} {
		if _, err := ReadArchive("x", c.data); kind(err) == "" || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

// kind is that of a problem; empty for any other error, and for none.
func kind(err error) problem.Kind {
	if e, ok := problem.Of(err); ok {
		return e.Kind
	}
	return ""
}

func FuzzReadArchive(f *testing.F) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create("template.html")
	if err != nil {
		f.Fatal(err)
	}
	w.Write([]byte("<p>{{ cn }}</p>"))
	z.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		if tmpl, err := ReadArchive("x", data); err == nil && tmpl == nil {
			t.Fatal("neither a template nor an error")
		}
	})
}

func open(t *testing.T) *Templates {
	t.Helper()
	st, err := store.Open(context.Background(), filepath.Join(t.TempDir(), "x.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	log := slog.New(slog.DiscardHandler)
	return &Templates{Store: st, People: &people.People{Store: st}, Clients: &clients.Clients{Store: st, Log: log},
		Hosting: &hosting.Hosting{Store: st, Log: log}, Now: time.Now}
}

var acting = access.With(context.Background(), access.Loopback())

// TestAnUnreadableTemplateHidesNoOther: such as one that was stored before its nesting was limited; saving one is
// refused with the line and the limit.
func TestAnUnreadableTemplateHidesNoOther(t *testing.T) {
	s := open(t)
	deep := "<p>\n" + strings.Repeat("<div>", 500)
	_, err := s.Save(acting, "deep", template.Whole(template.Parts{Source: deep}), Edit{})
	if kind(err) != problem.Refused || !strings.Contains(err.Error(), "line 2") ||
		!strings.Contains(err.Error(), strconv.Itoa(markup.MaxDepth)) {
		t.Errorf("%v", err)
	}
	if p, ok := problem.Of(err); !ok || len(p.Places) != 1 || p.Places[0].Line != 2 {
		t.Errorf("%+v", p)
	}
	for _, name := range []string{"a", "z"} {
		if _, err := s.Save(acting, name, template.Whole(template.Parts{Source: "<p>{{ mail }}</p>"}), Edit{}); err != nil {
			t.Fatal(err)
		}
	}
	err = s.Store.Write(acting, func(tx *store.Tx) error {
		_, err := tx.SaveTemplate(store.TemplateVersion{Template: "deep", Source: deep}, 0)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	list, err := s.List(acting)
	if err != nil || len(list) != 3 || list[0].Err != nil || list[1].Name != "deep" ||
		kind(list[1].Err) != problem.Refused || list[2].Err != nil {
		t.Fatalf("%+v, %v", list, err)
	}
	if _, err := s.State(acting, list[0].Stored); err != nil {
		t.Errorf("the others cannot be checked: %v", err)
	}
	if _, err := s.Get(acting, "deep", 0); kind(err) != problem.Refused {
		t.Errorf("%v", err)
	}
}

// TestSavesBuildOnTheVersionTheyNameAndOnNoOther: what a draft leaves out is its base's, and a conflict stores and
// hosts nothing.
func TestSavesBuildOnTheVersionTheyNameAndOnNoOther(t *testing.T) {
	s := open(t)
	harbour, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	logo, banner := harbour.Picture("logo").Data, harbour.Picture("banner").Data
	first, err := s.Save(acting, "crew", template.Whole(template.Parts{Source: "<p>one</p>", Settings: "title: Crew",
		Pictures: map[string][]byte{"logo.png": logo}}), Edit{Note: "first"})
	if err != nil || first.Number != 1 || first.Author != "owner" {
		t.Fatalf("%+v, %v", first, err)
	}
	two := "<p>two</p>"
	second, err := s.Save(acting, "crew", template.Draft{Source: &two}, Edit{Base: 1})
	if err != nil || second.Source != two || second.SettingsText != "title: Crew" || len(second.Pictures) != 1 {
		t.Fatalf("%+v, %v", second, err)
	}
	if _, err := s.Save(acting, "crew", template.Draft{Pictures: map[string][]byte{"banner.png": banner}},
		Edit{Base: 1}); kind(err) != problem.Conflict {
		t.Errorf("%v", err)
	}
	for data, want := range map[string]bool{string(logo): true, string(banner): false} {
		_, _, err := s.Hosting.Get(acting, picture.KeyOf([]byte(data)))
		if (err == nil) != want {
			t.Errorf("hosted %v, want %v: %v", err == nil, want, err)
		}
	}
	if _, err := s.Save(acting, "Crew", template.Draft{Source: &two}, Edit{}); kind(err) != problem.Invalid {
		t.Errorf("a name that cannot be: %v", err)
	}
	drafted, err := s.Subject(acting, "crew", template.Draft{Source: &two})
	if err != nil || drafted.SettingsText != "title: Crew" {
		t.Errorf("%+v, %v", drafted, err)
	}
}

// TestCompiledTemplatesAreKept: what was compiled is used again for the same content, directory and day, not for
// another, and what is kept stays within its limit.
func TestCompiledTemplatesAreKept(t *testing.T) {
	made := func(source string, picture []byte) *template.Template {
		tmpl, err := template.New("kept", template.Parts{Source: source})
		if err != nil {
			t.Fatal(err)
		}
		tmpl.Pictures = []template.Picture{{File: "logo.png", Data: picture}}
		return tmpl
	}
	schema, day := demopeople.Generate(1, 1).Schema, time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	all := &Templates{}
	compile := func(tmpl *template.Template, revision int, day time.Time, form compose.Form) *compose.Signature {
		s, err := all.Compiled(tmpl, schema, revision, day, "new", form)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	first := compile(made("<p>{{ cn }}</p>", nil), 1, day, compose.Fragment)
	if compile(made("<p>{{ cn }}</p>", nil), 1, day.Add(time.Hour), compose.Fragment) != first {
		t.Error("the same template was compiled twice")
	}
	for what, other := range map[string]*compose.Signature{
		"another source":   compile(made("<p>{{ mail }}</p>", nil), 1, day, compose.Fragment),
		"another revision": compile(made("<p>{{ cn }}</p>", nil), 2, day, compose.Fragment),
		"another day":      compile(made("<p>{{ cn }}</p>", nil), 1, day.AddDate(0, 0, 1), compose.Fragment),
		"another form":     compile(made("<p>{{ cn }}</p>", nil), 1, day, compose.Text),
	} {
		if other == first {
			t.Errorf("%s is answered with the first", what)
		}
	}
	if _, err := all.Compiled(made("<p>{{ nobody.knows }}</p>", nil), schema, 1, day, "new", compose.Fragment); err == nil {
		t.Error("a template with a mistake is compiled")
	}
	for n := range 40 {
		compile(made(fmt.Sprintf("<p>%d</p>", n), make([]byte, 4<<20)), 1, day, compose.Fragment)
		if all.compiled.weight > mostCompiled {
			t.Fatalf("%d bytes are kept after %d", all.compiled.weight, n)
		}
	}
	if n := all.compiled.known.Len(); n < 2 || n > 16 {
		t.Errorf("%d are kept", n)
	}
}

// An archive whose header says anything of its sizes is held against the limit without being unpacked beyond it.
func TestArchiveLimitCannotOverflow(t *testing.T) {
	patched := func(size uint64, times int) []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for i := range times {
			header := &zip.FileHeader{Name: fmt.Sprintf("pictures/%d.png", i), Method: zip.Deflate, UncompressedSize64: size, CompressedSize64: 2}
			w, err := z.CreateRaw(header)
			if err != nil {
				t.Fatal(err)
			}
			w.Write([]byte{3, 0}) // an empty block of deflate
		}
		z.Close()
		return b.Bytes()
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	for _, c := range []struct {
		size  uint64
		times int
		says  string
	}{
		{1<<63 + 1<<20, 2, "more than 64 MB"},
		{1<<64 - 1, 3, "more than 64 MB"},
		{40 << 20, 2, "more than 64 MB"},
		{1, 101, "more than 100 pictures"},
	} {
		if _, err := ReadArchive("x", patched(c.size, c.times)); err == nil || !strings.Contains(err.Error(), c.says) ||
			kind(err) != problem.TooLarge {
			t.Errorf("%d times %d bytes: %v", c.times, c.size, err)
		}
	}
	// the sizes are lies: each entry unpacks to far more
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := range 90 {
		w, _ := z.Create(fmt.Sprintf("pictures/%d.png", i))
		w.Write(make([]byte, 4<<20-1))
	}
	z.Close()
	if _, err := ReadArchive("x", b.Bytes()); err == nil {
		t.Error("90 pictures of 4 MB are accepted")
	}
	runtime.ReadMemStats(&after)
	if mb := (after.TotalAlloc - before.TotalAlloc) >> 20; mb > 400 {
		t.Errorf("%d MB were allocated", mb)
	}
}
