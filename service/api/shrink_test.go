package api_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image/png"
	"maps"
	"math"
	"strconv"
	"strings"
	"testing"

	"missivum/core/check"
	"missivum/core/fix"
	"missivum/core/shrink"
	"missivum/service/api"
	"missivum/service/drawing"
)

func TestFitGivesTheSettingsThatMakeItFit(t *testing.T) {
	r := loaded(t)
	var detail api.TemplateDetail
	r.want(200, "GET", "/api/v1/templates/harbour", "", &detail)
	var tight api.Shrunk
	r.want(200, "POST", "/api/v1/templates/harbour/shrink", `{"client":"source-webmail","target":2500}`, &tight)
	if tight.Before <= 2500 || !tight.Compact || !strings.Contains(tight.Settings, "compact: true") ||
		strings.Contains(detail.Settings, "compact: true") {
		t.Errorf("%+v", tight.Result)
	}
	var report struct {
		Budgets []struct {
			Client, Measure string
			Value           int
		}
	}
	r.want(200, "POST", "/api/v1/templates/harbour/check", `{"clients":["source-webmail"],"settings":`+
		strconv.Quote(tight.Settings)+`}`, &report)
	if len(report.Budgets) == 0 || report.Budgets[0].Value != tight.After {
		t.Errorf("with the settings %+v, said were %d", report.Budgets, tight.After)
	}
	for body, says := range map[string]string{
		`{"client":"nonesuch"}`:                      "there is no client profile",
		`{"client":"wordproc-desktop"}`:              "has no limit of characters",
		`{"client":"capped-webmail","target":-1}`:    "number of characters",
		`{"client":"capped-webmail","targets":2000}`: "targets",
	} {
		if answer := r.do("POST", "/api/v1/templates/harbour/shrink", body); answer.Code != 422 || !strings.Contains(answer.Body.String(), says) {
			t.Errorf("%s: %d %s", body, answer.Code, answer.Body)
		}
	}
}

func TestSpaceIsThatOfThePerson(t *testing.T) {
	r := loaded(t)
	var marks, hers shrink.Space
	r.want(200, "POST", "/api/v1/templates/harbour/space", `{"client":"source-webmail"}`, &marks)
	r.want(200, "POST", "/api/v1/templates/harbour/space",
		`{"client":"source-webmail","variant":"reply","person":"maren.lind@brackwater.example"}`, &hers)
	if marks.Person != "" || hers.Person != "maren.lind@brackwater.example" || hers.Variant != "reply" || hers.Units == 0 ||
		hers.Units >= marks.Units {
		t.Errorf("%d and %d units, %s", marks.Units, hers.Units, hers.Person)
	}
	for body, says := range map[string]string{
		`{"client":"source-webmail","person":"maren.lint@brackwater.example"}`: "there is maren.lind@",
		`{"client":"source-webmail","variant":"none"}`:                         "none",
		`{"client":"nonesuch"}`:                                                "there is no client profile",
	} {
		if answer := r.do("POST", "/api/v1/templates/harbour/space", body); answer.Code != 422 || !strings.Contains(answer.Body.String(), says) {
			t.Errorf("%s: %d %s", body, answer.Code, answer.Body)
		}
	}
	empty := newRig(t)
	empty.want(201, "POST", "/api/v1/templates/begun/new", `{"starter":"columns"}`, nil)
	empty.want(200, "POST", "/api/v1/templates/begun/space", `{"client":"source-webmail"}`, &marks)
	if answer := empty.do("POST", "/api/v1/templates/begun/space",
		`{"client":"source-webmail","person":"bo@brackwater.example"}`); answer.Code != 422 {
		t.Errorf("%d %s", answer.Code, answer.Body)
	}
}

// needsChromium skips a test where no browser is installed.
func needsChromium(t *testing.T) {
	t.Helper()
	if _, err := drawing.Chromium(); err != nil {
		t.Skip(err)
	}
}

func TestPasteIsMeasuredBesideThePredictedOne(t *testing.T) {
	needsChromium(t)
	r := loaded(t)
	for _, body := range []string{`{}`, `{"variant":"reply","person":"maren.lind@brackwater.example"}`} {
		var pasted api.Pasted
		r.want(200, "POST", "/api/v1/templates/harbour/paste", body, &pasted)
		if pasted.Measured < 500 || math.Abs(float64(pasted.Predicted-pasted.Measured)) > 0.02*float64(pasted.Measured) ||
			pasted.InGecko < 500 {
			t.Errorf("%s: %+v", body, pasted)
		}
	}
	r.want(422, "POST", "/api/v1/templates/harbour/paste", `{"person":"nobody@brackwater.example"}`, nil)
}

func TestSheetIsAPageOrAPicture(t *testing.T) {
	r := loaded(t)
	page := r.want(200, "POST", "/api/v1/templates/regatta/sheet",
		`{"form":"html","views":["light"],"clients":["capped-webmail","gecko-desktop"],"people":["bo@brackwater.example"]}`, nil)
	if text := page.Body.String(); !strings.Contains(text, "Regatta: contact sheet") ||
		strings.Contains(text, "washing-webmail") || !strings.Contains(page.Header().Get("Content-Disposition"), "regatta-sheet.html") {
		t.Errorf("%v\n%.300s", page.Header(), text)
	}
	for body, says := range map[string]string{
		`{"form":"pdf"}`:                                                   "png or html",
		`{"form":"html","views":["dusk"]}`:                                 "light, dark or blocked",
		`{"form":"html","people":["x@brackwater.example"]}`:                "nobody with the mail address",
		`{"form":"html","clients":["nonesuch"]}`:                           "nonesuch",
		`{"form":"html","variant":"none"}`:                                 "none",
		`{"form":"html","clients":["gecko-desktop"],"secondOpinion":true}`: "wordproc-desktop",
	} {
		if answer := r.do("POST", "/api/v1/templates/regatta/sheet", body); answer.Code != 422 || !strings.Contains(answer.Body.String(), says) {
			t.Errorf("%s: %d %s", body, answer.Code, answer.Body)
		}
	}
	needsChromium(t)
	picture := r.want(200, "POST", "/api/v1/templates/harbour/sheet",
		`{"form":"png","clients":["capped-webmail"],"views":["light","dark"]}`, nil)
	if img, err := png.Decode(bytes.NewReader(picture.Body.Bytes())); err != nil || img.Bounds().Dx() != 240+2*540 {
		t.Errorf("%v", err)
	}
}

// TestDraftsHavePictures: pictures that are not saved yet are looked at, checked, and stored with the next version.
func TestDraftsHavePictures(t *testing.T) {
	r := loaded(t)
	var fixed fix.Result
	r.want(200, "POST", "/api/v1/templates/regatta/fix", `{"checks":["picture-format","picture-dark"]}`, &fixed)
	if len(fixed.Pictures) != 2 || len(fixed.Pictures["pennant.png"]) == 0 {
		t.Fatalf("%d pictures", len(fixed.Pictures))
	}
	draft := map[string]any{"source": fixed.Source, "settings": fixed.Settings, "pictures": fixed.Pictures}
	asked := func(more map[string]any) string {
		t.Helper()
		all := maps.Clone(draft)
		maps.Copy(all, more)
		text, err := json.Marshal(all)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	var look api.Look
	r.want(200, "POST", "/api/v1/templates/regatta/look", asked(map[string]any{"person": "bo@brackwater.example"}), &look)
	if strings.Count(look.Body, `src="data:image/png;base64,`) != 2 ||
		!strings.Contains(look.Body, `src="/api/v1/templates/regatta/pictures/`) {
		t.Error(look.Body)
	}
	var report check.Report
	r.want(200, "POST", "/api/v1/templates/regatta/check", asked(nil), &report)
	for _, f := range report.Findings {
		if f.Check == "picture-format" || f.Check == "picture-dark" {
			t.Errorf("found in the draft: %s", f.Message)
		}
	}
	var detail api.TemplateDetail
	r.want(200, "GET", "/api/v1/templates/regatta", "", &detail)
	if detail.Number != 1 {
		t.Errorf("version %d was saved by looking", detail.Number)
	}
	r.want(200, "PUT", "/api/v1/templates/regatta", asked(map[string]any{"base": 1, "note": "Fixed"}), &detail)
	if text := fmt.Sprint(detail.Pictures); detail.Number != 2 || !strings.Contains(text, "pennant.png") ||
		!strings.Contains(text, "strip.png") {
		t.Errorf("version %d: %s", detail.Number, text)
	}
	if stored := r.want(200, "GET", "/api/v1/templates/regatta/pictures/pennant.png", "",
		nil); !bytes.Equal(stored.Body.Bytes(), fixed.Pictures["pennant.png"]) {
		t.Error("another picture was stored")
	}
	outside := `{"source":"<p>x</p>","settings":"","base":2,"pictures":{"../x.png":"` +
		base64.StdEncoding.EncodeToString(fixed.Pictures["pennant.png"]) + `"}}`
	if answer := r.do("PUT", "/api/v1/templates/regatta", outside); answer.Code != 422 ||
		!strings.Contains(answer.Body.String(), "name of a picture") {
		t.Errorf("%d %s", answer.Code, answer.Body)
	}
	if answer := r.do("POST", "/api/v1/templates/regatta/check", `{"pictures":{"x.png":"AAAA"}}`); answer.Code != 422 {
		t.Errorf("%d %s", answer.Code, answer.Body)
	}
}

func TestFixLeavesOutWhatIsExcepted(t *testing.T) {
	r := loaded(t)
	var all, some fix.Result
	r.want(200, "POST", "/api/v1/templates/regatta/fix", `{}`, &all)
	r.want(200, "POST", "/api/v1/templates/regatta/fix", `{"except":["picture-border","language"]}`, &some)
	for _, d := range some.Done {
		if d.Check == "picture-border" || d.Check == "language" {
			t.Errorf("fixed: %+v", d)
		}
	}
	if len(some.Done) >= len(all.Done) || strings.Contains(some.Source, `lang="en"`) {
		t.Errorf("%d and %d fixes", len(all.Done), len(some.Done))
	}
}
