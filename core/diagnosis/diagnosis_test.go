package diagnosis

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/message"
	"missivum/core/personal"
	"missivum/core/proof"
	"missivum/demo"
)

const maren = "maren.lind@brackwater.example"

// signatures are Maren's two signatures of the demo, with the whole markup of the first and its logo.
func signatures(t testing.TB) (in Input, html string, logo []byte) {
	t.Helper()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	tm, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	in.Owner = proof.Owner{Mail: maren, Name: "Maren Lind"}
	in.Colleague = func(mail string) bool { return mail != maren && people.Find(mail) != nil }
	for _, variant := range tm.Variants()[:2] {
		w, err := personal.Input{Template: tm, Schema: people.Schema, Day: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Variant: variant,
			Person: people.Find(maren)}.Wanted(variant, "1", false)
		if err != nil {
			t.Fatal(err)
		}
		in.Wanted = append(in.Wanted, w)
	}
	return in, in.Wanted[0].HTML, tm.Picture("logo").Data
}

// mail writes a message: header lines, then a body.
func mail(headers, body string) string {
	return strings.ReplaceAll(
		"From: Maren Lind <"+maren+">\nTo: pilot@harbour.example\nSubject: Berth 4\nDate: Mon, 23 Nov 2026 10:00:00 +0000\n"+
			"Message-ID: <1@brackwater.example>\nMIME-Version: 1.0\n"+headers+"\n\n"+body,
		"\n",
		"\r\n",
	)
}

const page = "Content-Type: text/html; charset=utf-8"

func TestCausesAreFound(t *testing.T) {
	in, html, logo := signatures(t)
	hello := "<p>Good morning, berth 4 is free.</p>"
	picture := base64.StdEncoding.EncodeToString(logo)
	related := func(markup, disposition, id string) string {
		return mail(`Content-Type: multipart/related; boundary="b"`, "--b\n"+page+"\n\n"+markup+"\n--b\nContent-Type: image/png; name=logo.png\n"+
			"Content-Transfer-Encoding: base64\nContent-Disposition: "+disposition+"\n"+id+"\n"+picture+"\n--b--\n")
	}
	carried := strings.Replace(html, "https://pictures.brackwater.example/harbour/logo.png", "cid:logo@brackwater.example", 1)
	quoted := hello + `<div>On Mon, 23 Nov 2026 at 09:12, Tom Pilot &lt;pilot@harbour.example&gt; wrote:<br></div>` +
		`<blockquote type="cite"><p>Thank you.</p>` +
		"<blockquote>" + html + "</blockquote></blockquote>"
	for name, c := range map[string]struct {
		mail string
		want []ID // beside pictures-remote
	}{
		"as it should be":         {mail(page, hello+html), nil},
		"composed as text":        {mail("Content-Type: text/plain\nUser-Agent: Quay 3.1", "Good morning\n"), []ID{Composed, Missing}},
		"text with its signature": {mail("Content-Type: text/plain; charset=utf-8", "Good morning\n\n-- \n"+in.Wanted[0].Text), []ID{Composed}},
		"converted by a gateway": {mail("Content-Type: text/plain; charset=utf-8\nX-Converted-To-Plain-Text: from text/html by gw",
			"Good morning\n\n"+in.Wanted[0].Text), []ID{Converted}},
		"through a list": {mail("Content-Type: text/plain\nList-Id: <pilots.harbour.example>", "Good morning\n"),
			[]ID{Converted, Missing}},
		"traces of markup": {mail("Content-Type: text/plain", "Good morning\n\n[image: Brackwater Ferries]\nMaren\n"),
			[]ID{Converted, Missing}},
		"no signature":      {mail(page, hello), []ID{Missing}},
		"none in the reply": {mail(page+"\nIn-Reply-To: <0@harbour.example>", quoted), []ID{Missing}},
		"twice":             {mail(page, hello+html+html), []ID{TwoMechanisms}},
		"twice, by a rule":  {mail(page+"\n"+message.StampField+": x", hello+html+html), []ID{TwoMechanisms}},
		"cut off":           {mail(page, hello+html[:len(html)*6/10]), []ID{CutOff}},
		"underlined": {mail(page, hello+strings.ReplaceAll(html, "text-decoration: none", "text-decoration: underline")),
			[]ID{Changed}},
		"somebody else's": {mail(page, hello+strings.NewReplacer("Maren Lind", "Bo", maren, "bo@brackwater.example").Replace(html)),
			[]ID{Another}},
		"carried":                 {related(hello+carried, "inline", "Content-ID: <logo@brackwater.example>\n"), nil},
		"carried part taken away": {mail(page, hello+carried), []ID{PictureGone}},
		"attached": {related(hello+html, "attachment; filename=logo.png", "Content-ID: <logo@brackwater.example>\n"),
			[]ID{Attached}},
		"pictures left of a page": {mail(`Content-Type: multipart/mixed; boundary="b"`,
			"--b\nContent-Type: text/plain\n\nGood morning\n--b\nContent-Type: image/png; name=logo.png\n"+
				"Content-Transfer-Encoding: base64\n\n"+picture+"\n--b--\n"), []ID{Composed, Missing, Attached}},
		"a wrong size": {related(hello+strings.Replace(carried, `width="88" height="88"`, `width="700" height="700"`, 1),
			"inline", "Content-ID: <logo@brackwater.example>\n"), []ID{Changed, PictureSize}},
		"on the own disk": {mail(page, hello+strings.Replace(html, "https://pictures.brackwater.example/harbour/logo.png",
			"file:///C:/logo.png", 1)), []ID{Changed, PictureLocal}},
		"written into the markup": {mail(page, hello+strings.Replace(html, "https://pictures.brackwater.example/harbour/logo.png",
			"data:image/png;base64,"+picture[:40], 1)), []ID{PictureInline}},
		"an address without answer": {mail(page, hello+strings.Replace(html, "harbour/logo.png", "gone/logo.png", 1)), []ID{AddressDead}},
		"signed": {mail(`Content-Type: multipart/signed; protocol="application/pkcs7-signature"; micalg=sha-256; boundary="b"`,
			"--b\nContent-Type: text/plain\n\nGood morning\n--b\nContent-Type: application/pkcs7-signature\n\nx\n--b--\n"),
			[]ID{Closed, Missing}},
		"an automatic answer": {mail("Content-Type: text/plain\nAuto-Submitted: auto-replied", "I am at sea.\n"), []ID{Automatic, Missing}},
		"the host's container": {mail(`Content-Type: multipart/mixed; boundary="b"`,
			"--b\nContent-Type: text/plain\n\nGood morning\n--b\nContent-Type: application/ms-tnef\n\nx\n--b--\n"),
			[]ID{OwnContainer, Composed, Missing}},
		"long": {mail(page, hello+html+"<p>"+strings.Repeat("tide ", 25_000)+"</p>"), []ID{Clipped}},
	} {
		t.Run(name, func(t *testing.T) {
			in.Ask = func(address string) (bool, string) { return !strings.Contains(address, "/gone/"), "404 Not Found" }
			r, err := Diagnose(message.Read([]byte(c.mail)), in)
			if err != nil {
				t.Fatal(err)
			}
			var got []ID
			for _, cause := range r.Causes {
				if cause.ID != PictureRemote && !slices.Contains(got, cause.ID) {
					got = append(got, cause.ID)
				}
				if cause.Says == "" || cause.Step == "" {
					t.Errorf("%+v says too little", cause)
				}
			}
			want := slices.Clone(c.want)
			slices.Sort(want)
			slices.Sort(got)
			if !slices.Equal(got, want) {
				t.Errorf("%v, want %v\n%+v", got, want, r.Causes)
			}
		})
	}
	if _, err := Diagnose(message.Read([]byte("no message at all")), in); err == nil {
		t.Error("what is no message is not refused")
	}
}

// The demo's messages of every kind are looked at without anything being wrong with the program.
func TestTheDemoMessages(t *testing.T) {
	in, _, _ := signatures(t)
	files, err := filepath.Glob("../../demo/messages/*.eml")
	if err != nil || len(files) < 10 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if r, err := Diagnose(message.Read(raw), in); err != nil || len(r.Causes) == 0 {
			t.Errorf("%s: %v, %v", file, r.Causes, err)
		}
	}
}

func FuzzDiagnose(f *testing.F) {
	in, html, _ := signatures(f)
	f.Add([]byte(mail(page, html)))
	f.Add([]byte(mail("Content-Type: text/plain", "Good morning")))
	f.Add([]byte("From: x\r\nContent-Type: multipart/related; boundary=b\r\n\r\n--b\r\n\r\n<img src=cid:x width=9999>"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		r, err := Diagnose(message.Read(raw), in)
		if err == nil && r.Owner != maren {
			t.Error(r.Owner)
		}
	})
}
