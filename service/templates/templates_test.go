package templates

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"

	"missivum/core/problem"
	"missivum/demo"
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
