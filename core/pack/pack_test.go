package pack

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"hash/crc32"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/compose"
	"missivum/core/filename"
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
	return Input{Template: tmpl, Schema: d.Schema, People: Everybody(d), Day: day, Spool: spool}, d
}

// spool keeps what grows with a package in memory.
func spool() (Spool, error) { return &memory{}, nil }

type memory struct{ bytes.Buffer }

func (m *memory) Close() error                   { return nil }
func (m *memory) Seek(int64, int) (int64, error) { return 0, nil } // it is read from where it begins

func written(t testing.TB, in Input) []byte {
	t.Helper()
	var b bytes.Buffer
	if _, err := Write(context.Background(), &b, in); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func open(t testing.TB, data []byte) (map[string][]byte, manifest) {
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
	var m manifest
	if err := json.Unmarshal(files[manifestFile], &m); err != nil {
		t.Fatalf("the manifest: %v", err)
	}
	return files, m
}

func TestPackage(t *testing.T) {
	in, d := input(t)
	files, m := open(t, written(t, in))
	if m.People != 80 || m.Format != format || m.Template.Name != "harbour" || m.Template.Version != in.Template.Version() ||
		m.Day != "2026-11-23" {
		t.Errorf("manifest: %+v", m.Template)
	}
	if want := 80 * (2*7 + 2); len(m.Files) != want || len(files) != want+1 {
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
		if n := perPerson[d.Get(&d.People[i], "mail")]; n != 16 {
			t.Errorf("person %d has %d files", i, n)
		}
	}
	s, err := compose.Compile(compose.Source{Template: in.Template, Schema: in.Schema, Day: day, Variants: []string{"new"}})
	if err != nil {
		t.Fatal(err)
	}
	if got, want := files["bo@brackwater.example/harbour-new.fragment.html"],
		s.Fill("new", compose.Fragment, d.Find("bo@brackwater.example")); !bytes.Equal(got, want) {
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
	for _, mail := range []string{"../../etc@x.example", `a\b:c*?"<>|@x.example`, "a_b_c______@x.example", "..",
		"A@x.example", "a@x.example.", "\x00\x1f"} {
		d.People = append(d.People, person.Person{Values: []string{mail, "x"}})
	}
	files, m := open(t, written(t, Input{Template: tmpl, Schema: d.Schema, People: Everybody(d), Day: day, Spool: spool}))
	if len(m.Files) != len(d.People)*2*7 {
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

func TestDirectoryBeyondFourGigabytes(t *testing.T) {
	kept, err := spool()
	if err != nil {
		t.Fatal(err)
	}
	var tail bytes.Buffer
	z := newZipWriter(&tail, kept)
	const before = 5 << 30 // as if that much had been written
	z.at = before
	content := "signature"
	for _, name := range []string{"ä/a.txt", "b.txt"} {
		e := zipEntry{name, methodStore, crc32.ChecksumIEEE([]byte(content)), int64(len(content)), int64(len(content))}
		if err := z.add(e, strings.NewReader(content)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.finish(); err != nil {
		t.Fatal(err)
	}
	if err := z.add(zipEntry{"short", methodStore, 0, 9, 9}, strings.NewReader("x")); err == nil {
		t.Error("a file shorter than announced is taken")
	}
	r, err := zip.NewReader(behind{tail.Bytes(), before}, before+int64(tail.Len()))
	if err != nil {
		t.Fatal(err)
	}
	for i, name := range []string{"ä/a.txt", "b.txt"} {
		f, err := r.File[i].Open()
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(f); err != nil || string(got) != content || r.File[i].Name != name {
			t.Errorf("%s: %q, %v", r.File[i].Name, got, err)
		}
	}
}

// behind reads data as if it stood behind a hole.
type behind struct {
	data   []byte
	before int64
}

func (b behind) ReadAt(p []byte, at int64) (int, error) {
	if hole := b.before - at; hole > 0 {
		n := min(hole, int64(len(p)))
		clear(p[:n])
		rest, err := b.ReadAt(p[n:], at+n)
		return int(n) + rest, err
	}
	if len(p) == 0 {
		return 0, nil
	}
	return bytes.NewReader(b.data).ReadAt(p, at-b.before)
}

// BenchmarkWrite packs generated people, both variants in all forms with pictures and manifest.
// parse-anew/pack is how much longer it takes to compile the template for each person; pack/plain-zip is
// the time against archive/zip writing the same files from memory, with the same compression on one core.
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
	b.ReportMetric(once*float64(len(d.People))/plainZip(b, written(b, in)), "pack/plain-zip")
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

// plainZip is how many seconds archive/zip takes to write a package's files.
func plainZip(b *testing.B, data []byte) float64 {
	files, _ := open(b, data)
	names := slices.Sorted(maps.Keys(files))
	began := time.Now()
	z := zip.NewWriter(io.Discard)
	compressor, err := flate.NewWriter(io.Discard, flate.BestSpeed)
	if err != nil {
		b.Fatal(err)
	}
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { // one after the other
		compressor.Reset(w)
		return compressor, nil
	})
	for _, name := range names {
		method := zip.Deflate
		if strings.HasSuffix(name, ".png") {
			method = zip.Store
		}
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: method})
		if err != nil {
			b.Fatal(err)
		}
		if _, err := w.Write(files[name]); err != nil {
			b.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		b.Fatal(err)
	}
	return time.Since(began).Seconds()
}

// TestFolderNames: every file system takes them, and two people never share one.
func TestFolderNames(t *testing.T) {
	var names filename.Unique
	long := strings.Repeat("ä", 80) + "@brackwater.example"
	for _, c := range []struct{ mail, want string }{
		{"Bo@Brackwater.example", "bo@brackwater.example"}, {"bo@brackwater.example", "bo@brackwater.example_2"},
		{"a/b:c@x.example", "a_b_c@x.example"},
		{"", "_"}, {"...", "__2"}, {"con.fused@x.example", "_con.fused@x.example"}, {"LPT1", "_lpt1"}, {"lpt@x.example", "lpt@x.example"},
		{long, strings.Repeat("ä", 50)}, {long + "2", strings.Repeat("ä", 50) + "_2"}, {"trailing. ", "trailing"},
	} {
		if got := names.Take(filename.Safe(strings.ToLower(c.mail))); got != c.want || len(got) > filename.Longest+10 {
			t.Errorf("%q: %q, want %q", c.mail, got, c.want)
		}
	}
}

// What should be known before a package is given out is said; a variant or form named twice is packed once.
func TestNotesAndNothingTwice(t *testing.T) {
	schema := person.NewSchema("mail", "cn")
	today := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct{ source, settings, want string }{
		{`<p>{{ cn }}</p>`, "", "The variant reply is the same as new"},
		{`<p>{{ cn }}</p><p data-in="new">x</p>`, "", ""},
		{`<p>{{ cn }}</p><p data-in="new" data-slot="fair">x</p>`, "slots: {fair: {until: 2026-12-24}}",
			"The dated piece fair ends on 2026-12-24."},
		{`<p>{{ cn }}</p><p data-in="new">x</p>`, "slots: {past: {until: 2026-01-01}, open: {from: 2026-01-01}}", ""},
	} {
		tmpl, err := template.New("x", template.Parts{Source: c.source, Settings: c.settings})
		if err != nil {
			t.Fatal(err)
		}
		notes, err := Notes(tmpl, schema, today, []string{"new", "reply", "new"})
		if err != nil || !strings.HasPrefix(strings.Join(notes, "\n"), c.want) || c.want == "" && len(notes) > 0 {
			t.Errorf("%s: %q, %v", c.source, notes, err)
		}
		people := &person.Directory{Schema: schema, People: []person.Person{{Values: []string{"a@brackwater.example", "Ada"}}}}
		var b bytes.Buffer
		r, err := Write(t.Context(), &b, Input{Template: tmpl, Schema: schema, People: Everybody(people), Day: today, Spool: spool,
			Variants: []string{"new", "new"}, Forms: []compose.Form{compose.Text, compose.Text}})
		if err != nil || r.Files != 1 {
			t.Errorf("%d files, %v", r.Files, err)
		}
	}
	if _, err := template.New("x", template.Parts{Settings: "variants: [new, reply, new]"}); err == nil {
		t.Error("a variant named twice is taken")
	}
}
