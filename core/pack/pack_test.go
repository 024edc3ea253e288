package pack

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/template"
	"missivum/demo"
	"missivum/demo/people"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func input(t testing.TB) (Input, *person.Directory) {
	t.Helper()
	tmpl, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	return Input{Template: tmpl, Schema: d.Schema, People: Everybody(d), Day: day}, d
}

func written(t *testing.T, in Input) []byte {
	t.Helper()
	var b bytes.Buffer
	if _, err := Write(context.Background(), &b, in); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func open(t *testing.T, data []byte) (map[string][]byte, Manifest) {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	files := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		content, err := io.ReadAll(r)
		if err != nil {
			t.Fatalf("%s: %v", f.Name, err)
		}
		if _, twice := files[f.Name]; twice {
			t.Errorf("%s stands twice in the package", f.Name)
		}
		files[f.Name] = content
	}
	var m Manifest
	if err := json.Unmarshal(files[ManifestFile], &m); err != nil {
		t.Fatalf("the manifest: %v", err)
	}
	return files, m
}

func TestPackage(t *testing.T) {
	in, d := input(t)
	files, m := open(t, written(t, in))
	if m.People != 80 || m.Format != Format || m.Template.Name != "harbour" || m.Template.Version != in.Template.Version() || m.Day != "2026-11-23" {
		t.Errorf("manifest: %+v", m.Template)
	}
	if want := 80 * (2*3 + 2); len(m.Files) != want || len(files) != want+1 {
		t.Errorf("%d files in the manifest and %d in the package, want %d and one more", len(m.Files), len(files), want)
	}
	perPerson := map[string]int{}
	for _, e := range m.Files {
		sum := sha256.Sum256(files[e.File])
		if e.Bytes != len(files[e.File]) || e.SHA256 != hex.EncodeToString(sum[:]) || e.TemplateVersion != m.Template.Version {
			t.Errorf("the manifest is wrong about %s: %+v", e.File, e)
		}
		if !strings.HasPrefix(e.File, e.Person+"/") {
			t.Errorf("%s is said to belong to %s", e.File, e.Person)
		}
		perPerson[e.Person]++
	}
	for i := range d.People {
		if n := perPerson[d.Get(&d.People[i], "mail")]; n != 8 {
			t.Errorf("person %d has %d files", i, n)
		}
	}
	s, err := compose.Compile(in.Template, in.Schema, day, "new")
	if err != nil {
		t.Fatal(err)
	}
	if got, want := files["bo@brackwater.example/harbour-new.fragment.html"], s.Fill("new", compose.Fragment, d.Find("bo@brackwater.example")); !bytes.Equal(got, want) {
		t.Errorf("a packed fragment\n%s\nis not the filled one\n%s", got, want)
	}
}

func TestSameInputSameBytes(t *testing.T) {
	in, _ := input(t)
	first, second := written(t, in), written(t, in)
	if !bytes.Equal(first, second) {
		t.Error("two packages of one input differ")
	}
	in.Variants = []string{"reply"}
	if bytes.Equal(first, written(t, in)) {
		t.Error("another input gave the same package")
	}
}

func TestFoldersAreSafeAndDifferent(t *testing.T) {
	tmpl, err := template.New("x", template.Parts{Source: "<p>{{ cn }}</p>"})
	if err != nil {
		t.Fatal(err)
	}
	d := &person.Directory{Schema: person.NewSchema("mail", "cn")}
	for _, mail := range []string{"../../etc@x.example", `a\b:c*?"<>|@x.example`, "a_b_c______@x.example", "..", "A@x.example", "a@x.example.", "\x00\x1f"} {
		d.People = append(d.People, person.Person{Values: []string{mail, "x"}})
	}
	files, m := open(t, written(t, Input{Template: tmpl, Schema: d.Schema, People: Everybody(d), Day: day}))
	if len(m.Files) != len(d.People)*6 {
		t.Errorf("%d files", len(m.Files))
	}
	for name := range files {
		for _, part := range strings.Split(name, "/") {
			if part == ".." || part == "." || part == "" || strings.ContainsAny(part, `\:*?"<>|`+"\x00\x1f") {
				t.Errorf("the path %q is not safe", name)
			}
		}
	}
}

func TestWhatIsStoppedIsNoPackage(t *testing.T) {
	in, _ := input(t)
	ctx, cancel := context.WithCancel(context.Background())
	in.Progress = func(done int) {
		if done == 40 {
			cancel()
		}
	}
	var b bytes.Buffer
	if _, err := Write(ctx, &b, in); !errors.Is(err, context.Canceled) || !strings.Contains(err.Error(), "after 40 people") {
		t.Errorf("%v", err)
	}
	if _, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len())); err == nil {
		t.Error("half a package can be opened")
	}
	in, d := input(t)
	in.People = func(yield func(*person.Person, error) bool) {
		_ = yield(&d.People[0], nil) && yield(nil, errors.New("the disk is gone"))
	}
	if _, err := Write(context.Background(), &b, in); err == nil || !strings.Contains(err.Error(), "after 1 people: the disk is gone") {
		t.Errorf("%v", err)
	}
}

func TestATemplateWithMistakesIsNotPacked(t *testing.T) {
	tmpl, err := template.New("x", template.Parts{Source: "<p>{{ nonsense }}</p>"})
	if err != nil {
		t.Fatal(err)
	}
	in, _ := input(t)
	in.Template = tmpl
	var b bytes.Buffer
	if _, err := Write(context.Background(), &b, in); err == nil || b.Len() > 0 {
		t.Errorf("%v, %d bytes", err, b.Len())
	}
}

// BenchmarkWrite packs generated people, both variants in all forms with pictures and manifest.
// parse-anew/pack is how much longer it takes to compile the template for each person.
func BenchmarkWrite(b *testing.B) {
	in, _ := input(b)
	d := people.Generate(1000, 7)
	in.Schema, in.People = d.Schema, Everybody(d)
	n := 0
	for b.Loop() {
		if _, err := Write(context.Background(), io.Discard, in); err != nil {
			b.Fatal(err)
		}
		n += len(d.People)
	}
	once := b.Elapsed().Seconds() / float64(n)
	b.ReportMetric(1/once, "people/s")
	const sample = 100
	began := time.Now()
	for i := range sample {
		one := &person.Directory{Schema: d.Schema, People: d.People[i : i+1]}
		in.People = Everybody(one)
		if _, err := Write(context.Background(), io.Discard, in); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(time.Since(began).Seconds()/sample/once, "parse-anew/pack")
}
