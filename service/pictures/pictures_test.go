package pictures

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/template"
	"missivum/demo"
	"missivum/demo/drawing"
	"missivum/service/access"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

// acting is a context in which the owner acts.
func acting() context.Context { return access.With(context.Background(), access.Loopback()) }

// service is a store of pictures with the demo's people and templates.
func service(t *testing.T) *Pictures {
	t.Helper()
	ctx := acting()
	folder := t.TempDir()
	st, err := store.Open(ctx, filepath.Join(folder, "x.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.DiscardHandler)
	staff, host, queue := &people.People{Store: st}, &hosting.Hosting{Store: st, Log: log}, &jobs.Jobs{Store: st, Log: log, Now: time.Now}
	p := &Pictures{
		Store: st, Jobs: queue, People: staff, Hosting: host,
		Templates: &templates.Templates{Store: st, People: staff, Hosting: host, Now: time.Now},
		Folder:    filepath.Join(folder, "photos"), Now: time.Now, Log: log,
	}
	if err := os.MkdirAll(p.Folder, 0o750); err != nil {
		t.Fatal(err)
	}
	half := filepath.Join(p.Folder, ".part-1") // of a service that was killed
	if err := os.WriteFile(half, []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(p.Start(), queue.Start(ctx)); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(half); !os.IsNotExist(err) {
		t.Errorf("what was half written is still there: %v", err)
	}
	t.Cleanup(func() {
		queue.End()
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	csv, err := demo.PeopleCSV()
	if err != nil {
		t.Fatal(err)
	}
	plan, err := staff.PlanFile(ctx, people.File{Body: bytes.NewReader(csv),
		Columns: map[string]string{"callSign": "callSign", "hireDate": "hireDate"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := staff.Apply(ctx, plan.Run.ID, false); err != nil {
		t.Fatal(err)
	}
	list, err := demo.Templates()
	if err != nil {
		t.Fatal(err)
	}
	for _, tmpl := range list {
		if _, err := p.Templates.Save(ctx, tmpl.Name, template.Whole(tmpl.Parts()), templates.Edit{}); err != nil {
			t.Fatal(err)
		}
	}
	return p
}

func original(t *testing.T, file string) []byte {
	t.Helper()
	files, err := demo.Pictures()
	if err != nil {
		t.Fatal(err)
	}
	return files[file]
}

func portrait(t *testing.T, seed uint64, width, height int) []byte {
	t.Helper()
	data, err := drawing.PortraitJPEG(seed, width, height)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

func TestVersionsUsesAndWhatTheLatestChanges(t *testing.T) {
	ctx := acting()
	p := service(t)
	if _, err := p.Put(ctx, "maren", portrait(t, 1, 300, 400), "maren.jpg", "first"); err != nil {
		t.Fatal(err)
	}
	if err := p.PutAlts(ctx, "maren", map[string]string{"en": "Maren Lind", "sv": "Maren"}); err != nil {
		t.Fatal(err)
	}
	saved, err := p.Use(ctx, "maren", UseRequest{Template: "harbour", Name: "face", Recipe: picture.Recipe{Width: 60, Height: 60}})
	if err != nil {
		t.Fatal(err)
	}
	used := saved.Picture("face")
	if saved.Number != 2 || used == nil || used.From != "maren" || used.Version != 1 || used.Alt != "Maren Lind" ||
		used.Width != 120 || !strings.Contains(saved.SettingsText, "banner: {from: 2026-10-01") {
		t.Fatalf("%+v\n%s", used, saved.SettingsText)
	}
	again, err := p.Put(ctx, "maren", portrait(t, 1, 300, 400), "maren.jpg", "the same")
	if err != nil || len(again.Versions) != 1 {
		t.Errorf("the same file is a new version: %+v, %v", again.Versions, err)
	}
	r, err := p.Put(ctx, "maren", portrait(t, 2, 400, 400), "new.jpg", "second")
	if err != nil || r.Latest().Number != 2 || len(r.Uses) != 1 {
		t.Fatalf("%+v, %v", r, err)
	}
	said, err := p.Changes(ctx, "maren", "harbour", "face")
	if err != nil {
		t.Fatal(err)
	}
	changes := strings.Join(said, "\n")
	for _, want := range []string{"version 2 in place of 1", "300 x 400 px became 400 x 400 px", "weight: ", "look: a difference of 0."} {
		if !strings.Contains(changes, want) {
			t.Errorf("the change does not say %q: %s", want, changes)
		}
	}
	if now, err := p.Templates.Get(ctx, "harbour", 0); err != nil || now.Picture("face").Version != 1 {
		t.Errorf("the template changed by itself: %v", err)
	}
	taken, err := p.Take(ctx, "maren", UseRequest{Template: "harbour"})
	if err != nil || taken.Number != 3 || taken.Picture("face").Version != 2 || taken.Picture("face").Width != 120 {
		t.Fatalf("%+v, %v", taken.Picture("face"), err)
	}
	for _, data := range [][]byte{used.Data, taken.Picture("face").Data} { // what was sent before is still hosted
		if have, _, err := p.Hosting.Get(ctx, picture.KeyOf(data)); err != nil || !bytes.Equal(have, data) {
			t.Errorf("%s is not hosted: %v", picture.KeyOf(data), err)
		}
	}
	list, err := p.List(ctx)
	if err != nil || len(list) != 1 || len(list[0].Uses) != 1 {
		t.Errorf("%+v, %v", list, err)
	}
}

func TestHosting(t *testing.T) {
	ctx := acting()
	p := service(t)
	if err := p.Hosting.PutSettings(ctx, hosting.Settings{Address: "https://pictures.brackwater.example/"}); err != nil {
		t.Fatal(err)
	}
	parts := template.Parts{Source: `<p>{{ cn }}</p><img data-picture="logo" width="44">`,
		Settings: "pictures: {files: {logo: {file: logo.png, alt: x}}}", Pictures: map[string][]byte{}}
	made, err := picture.Fit(original(t, "ferry.svg"), picture.Recipe{Width: 44})
	if err != nil {
		t.Fatal(err)
	}
	parts.Pictures["logo.png"] = made.Data
	if _, err := p.Templates.Save(ctx, "crew", template.Whole(parts), templates.Edit{}); err != nil {
		t.Fatal(err)
	}
	stored, err := p.Templates.Get(ctx, "crew", 0)
	if err != nil {
		t.Fatal(err)
	}
	address, naming := stored.Hosting()
	key := stored.Pictures[0].HostedName(naming)
	if address != "https://pictures.brackwater.example/" || key != picture.KeyOf(made.Data) {
		t.Errorf("%s%s", address, key)
	}
	ask := func(method, path string, headers ...string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, path, nil)
		for i := 0; i+1 < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		w := httptest.NewRecorder()
		p.Hosting.ServeHTTP(w, r)
		if w.Header().Get("Set-Cookie") != "" {
			t.Errorf("%s sets a cookie", path)
		}
		return w
	}
	w := ask("GET", "/"+key)
	if w.Code != 200 || !bytes.Equal(w.Body.Bytes(), made.Data) || w.Header().Get("Content-Type") != "image/png" ||
		w.Header().Get("Cache-Control") != "public, max-age=31536000, immutable" {
		t.Errorf("%d %v", w.Code, w.Header())
	}
	if w := ask("GET", "/"+key, "If-None-Match", w.Header().Get("ETag")); w.Code != 304 || w.Body.Len() > 0 {
		t.Errorf("by its tag: %d", w.Code)
	}
	if w := ask("GET", "/"+key, "If-Modified-Since", time.Now().Add(time.Hour).UTC().Format(http.TimeFormat)); w.Code != 304 {
		t.Errorf("by its time: %d", w.Code)
	}
	if w := ask("GET", "/"+key, "Range", "bytes=0-7"); w.Code != 206 || w.Body.String() != "\x89PNG\r\n\x1a\n" {
		t.Errorf("a range: %d %q", w.Code, w.Body)
	}
	if w := ask("HEAD", "/"+key); w.Code != 200 || w.Body.Len() > 0 || w.Header().Get("Content-Length") != fmt.Sprint(len(made.Data)) {
		t.Errorf("HEAD: %d %v", w.Code, w.Header())
	}
	for path, code := range map[string]int{"/": 404, "/x": 404, "/../" + key: 404, "/" + strings.ToUpper(key): 404, "/" + key + "/": 404} {
		if w := ask("GET", path); w.Code != code {
			t.Errorf("%s: %d", path, w.Code)
		}
	}
	if w := ask("PUT", "/"+key); w.Code != 405 {
		t.Errorf("PUT: %d", w.Code)
	}
}

func TestTheTreeIsKeptAndRestored(t *testing.T) {
	ctx := acting()
	p := service(t)
	p.Hosting.Tree = filepath.Join(t.TempDir(), "tree")
	host := httptest.NewServer(http.FileServer(http.Dir(p.Hosting.Tree)))
	defer host.Close()
	p.Allow = loopback
	if err := p.Hosting.PutSettings(ctx, hosting.Settings{Address: host.URL + "/"}); err != nil {
		t.Fatal(err)
	}
	made, err := picture.Fit(original(t, "ferry.svg"), picture.Recipe{Width: 44})
	if err != nil {
		t.Fatal(err)
	}
	parts := template.Parts{Source: `<p>{{ cn }}</p><img data-picture="logo" width="44">`,
		Settings: "pictures: {files: {logo: {file: logo.png, alt: x}}}", Pictures: map[string][]byte{"logo.png": made.Data}}
	if _, err := p.Templates.Save(ctx, "crew", template.Whole(parts), templates.Edit{}); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(p.Hosting.Tree, picture.KeyOf(made.Data))
	check := func() Checked {
		t.Helper()
		list, err := p.CheckTemplate(ctx, "crew", 0)
		if err != nil || len(list) != 1 {
			t.Fatalf("%+v, %v", list, err)
		}
		return list[0]
	}
	if c := check(); c.Broken() || c.Restored || c.Facts == nil || c.Facts.Width != 88 {
		t.Errorf("%+v", c)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if c := check(); !c.Broken() || !c.Restored {
		t.Errorf("a missing one: %+v", c)
	}
	if have, err := os.ReadFile(file); err != nil || !bytes.Equal(have, made.Data) {
		t.Errorf("it was not restored: %v", err)
	}
	if c := check(); c.Broken() {
		t.Errorf("after it was restored: %+v", c)
	}
	if list, err := p.Checks(ctx); err != nil || len(list) != 1 || list[0].Template != "crew" {
		t.Errorf("%+v, %v", list, err)
	}
}

// TestTheScheduleChecksEverything: with hours set, addresses are asked without anybody pressing anything.
func TestTheScheduleChecksEverything(t *testing.T) {
	p := service(t)
	ctx, stop := context.WithCancel(acting())
	defer stop()
	ended := make(chan struct{})
	go func() { defer close(ended); p.Watch(ctx, 5*time.Millisecond) }()
	time.Sleep(50 * time.Millisecond)
	if list, err := p.Checks(ctx); err != nil || len(list) > 0 {
		t.Errorf("asked without leave: %+v, %v", list, err)
	}
	if err := p.Hosting.PutSettings(ctx, hosting.Settings{Hours: 1}); err != nil {
		t.Fatal(err)
	}
	found := 0
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end) && found < 3; time.Sleep(20 * time.Millisecond) {
		list, err := p.Checks(ctx)
		if err != nil {
			t.Fatal(err)
		}
		found = len(list)
	}
	if found < 3 {
		t.Errorf("%d addresses were asked", found)
	}
	stop()
	<-ended
}

func TestPhotosOfAnArchive(t *testing.T) {
	ctx := acting()
	p := service(t)
	if err := p.Hosting.PutSettings(ctx, hosting.Settings{Address: "https://pictures.brackwater.example/"}); err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, data := range map[string][]byte{
		"photos/maren.lind@brackwater.example.jpg": portrait(t, 1, 120, 160), "bo@brackwater.example.png": original(t, "anchor.png"),
		"broken@brackwater.example.jpg": []byte("\xff\xd8\xff"), "readme.txt": []byte("x"),
		"stranger@elsewhere.example.jpg": portrait(t, 3, 90, 90),
	} {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write(data); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	run := func() PhotoState {
		t.Helper()
		if _, err := p.StartPhotos(ctx, bytes.NewReader(b.Bytes()), picture.Recipe{Width: 24, Height: 24, Shape: picture.Round}); err != nil {
			t.Fatal(err)
		}
		first, err := p.Photos(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if err := p.Jobs.Wait(ctx, first.ID); err != nil {
			t.Fatal(err)
		}
		s, err := p.Photos(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	if s := run(); s.State != "ready" || s.Fitted != 3 || s.Total != 4 || len(s.Refused) != 1 ||
		s.Refused[0].Mail != "broken@brackwater.example" ||
		s.Hosted != 2 || !slices.Equal(s.Unknown, []string{"stranger@elsewhere.example"}) {
		t.Errorf("%+v", s)
	}
	if left, err := filepath.Glob(filepath.Join(p.Folder, "waiting-*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
	if s := run(); s.Fitted != 0 || s.Kept != 3 {
		t.Errorf("the second time: %+v", s)
	}
	d, _, err := p.People.Directory(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if len(d.People) != 80 {
		t.Errorf("%d people: a photo made somebody", len(d.People))
	}
	address := d.Get(d.Find("maren.lind@brackwater.example"), "photoAddress")
	key, ok := strings.CutPrefix(address, "https://pictures.brackwater.example/")
	if data, _, err := p.Hosting.Get(ctx, key); !ok || err != nil || len(data) == 0 {
		t.Errorf("%q: %v", address, err)
	}
	made, err := Fitted(p.Folder)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := p.Hosting.Get(ctx, made["stranger@elsewhere.example"].Key); !problem.Is(err, problem.NotFound) {
		t.Errorf("the photo of somebody who is not in the directory is public: %v", err)
	}
	if err := p.RemovePhoto(ctx, "maren.lind@brackwater.example"); err != nil {
		t.Fatal(err)
	}
	if d, _, err = p.People.Directory(ctx); err != nil || d.Get(d.Find("maren.lind@brackwater.example"), "photoAddress") != "" {
		t.Errorf("the address of a photo that was taken back is still there: %v", err)
	}
	if _, _, err := p.Hosting.Get(ctx, key); !problem.Is(err, problem.NotFound) {
		t.Errorf("a photo that was taken back is still public: %v", err)
	}
	for _, mail := range []string{"maren.lind@brackwater.example", "nobody@brackwater.example"} {
		if err := p.RemovePhoto(ctx, mail); !problem.Is(err, problem.NotFound) {
			t.Errorf("%s: %v", mail, err)
		}
	}
	if d.Get(d.Find("agnes.saltby@brackwater.example"), "photoAddress") != "" && d.Find("agnes.saltby@brackwater.example") != nil {
		t.Error("somebody without a photo has an address")
	}
}

func TestPhotosInLDIF(t *testing.T) {
	photo := "dn: cn=Bo\nmail: bo@brackwater.example\njpegPhoto:: /9j/4AAQ\n\n"
	list, bad, err := PhotosInLDIF(strings.NewReader(photo + "dn: cn=Nobody\nmail: no@brackwater.example\n\n"))
	if err != nil || len(bad) > 0 || len(list) != 1 || list[0].Mail != "bo@brackwater.example" {
		t.Fatalf("%+v, %v, %v", list, bad, err)
	}
	if data, err := list[0].Read(); err != nil || string(data) != "\xff\xd8\xff\xe0\x00\x10" {
		t.Errorf("%q, %v", data, err)
	}
	hostile := "dn: cn=Bo\nmail: bo@brackwater.example\njpegPhoto:< file:///etc/passwd\n\n"
	list, bad, err = PhotosInLDIF(strings.NewReader(hostile + photo))
	if err != nil || len(list) != 1 || len(bad) != 1 || !strings.Contains(bad[0].Error(), "jpegphoto is to be read from an address") {
		t.Errorf("a file of this machine is read: %d photos, %v, %v", len(list), bad, err)
	}
}

func FuzzPhotosInLDIF(f *testing.F) {
	f.Add("dn: cn=Bo\nmail: bo@brackwater.example\njpegPhoto:: /9j/4AAQ\n\n")
	f.Add("version: 1\ndn:: Y249Qm8=\nmail:bo@brackwater.example\n")
	f.Fuzz(func(t *testing.T, text string) {
		list, _, err := PhotosInLDIF(strings.NewReader(text))
		if err != nil {
			return
		}
		for _, p := range list {
			if data, err := p.Read(); err != nil || len(data) == 0 || p.Mail == "" {
				t.Fatalf("%q: %q, %v", p.Mail, data, err)
			}
		}
	})
}

func TestNamesOfFiles(t *testing.T) {
	for file, want := range map[string]string{
		"Maren.Lind@brackwater.example.JPG": "Maren.Lind@brackwater.example",
		"bo@brackwater.example.webp":        "bo@brackwater.example", "bo.jpg": "", "a/b@x.example.jpg": "",
		"bo@brackwater.example": "", ".x@y.example.png": "",
	} {
		if mail, ok := mailOf(file); ok != (want != "") || ok && mail != want {
			t.Errorf("%s: %q, %v", file, mail, ok)
		}
	}
}

// TestTheCheckOfAllAddressesGoesOnBehindABadTemplate: one that cannot be read and one that cannot be filled end the
// check of no other.
func TestTheCheckOfAllAddressesGoesOnBehindABadTemplate(t *testing.T) {
	p, ctx := service(t), acting()
	err := p.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.SaveTemplate(store.TemplateVersion{Template: "a-deep-one", Source: strings.Repeat("<div>", 500)}, 0)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Templates.Save(ctx, "b-misspelt", template.Whole(template.Parts{Source: "{{ nmae }}"}), templates.Edit{}); err != nil {
		t.Fatal(err)
	}
	if err := p.checkAll(ctx); err != nil {
		t.Fatal(err)
	}
	if list, err := p.Checks(ctx); err != nil || len(list) < 3 {
		t.Errorf("%d addresses were asked, %v", len(list), err)
	}
}

// TestPhotosGoOnAfterARestart: an archive that was being fitted when the service ended is fitted when it starts again.
func TestPhotosGoOnAfterARestart(t *testing.T) {
	p, ctx := service(t), acting()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i, mail := range []string{"maren.lind@brackwater.example", "bo@brackwater.example"} {
		w, err := z.Create(mail + ".jpg")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write(portrait(t, uint64(i), 90, 90)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(p.archive("left"), b.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	err := p.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.AddJob(store.Job{ID: "left", Kind: photosKind, Total: 2, Unit: "photos", Input: `{"width":24,"height":24}`})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	again := &jobs.Jobs{Store: p.Store, Log: p.Log, Now: time.Now}
	p.Jobs = again
	if err := errors.Join(p.Start(), again.Start(ctx)); err != nil {
		t.Fatal(err)
	}
	defer again.End()
	if err := again.Wait(ctx, "left"); err != nil {
		t.Fatal(err)
	}
	if s, err := p.Photos(ctx); err != nil || s.ID != "left" || s.State != "ready" || s.Fitted != 2 || s.Hosted != 2 {
		t.Errorf("%+v, %v", s, err)
	}
	if _, err := os.Stat(p.archive("left")); !os.IsNotExist(err) {
		t.Errorf("the archive is still there: %v", err)
	}
}
