package api_test

import (
	"bytes"
	"image/png"
	"math"
	"strconv"
	"strings"
	"testing"

	"missivum/core/fit"
	"missivum/service/api"
	"missivum/service/drawing"
)

func TestFitGivesTheSettingsThatMakeItFit(t *testing.T) {
	r := loaded(t)
	var detail api.TemplateDetail
	r.want(200, "GET", "/api/v1/templates/harbour", "", &detail)
	var tight api.Fitted
	r.want(200, "POST", "/api/v1/templates/harbour/fit", `{"client":"source-webmail","target":2500}`, &tight)
	if tight.Before <= 2500 || !tight.Compact || !strings.Contains(tight.Settings, "compact: true") || strings.Contains(detail.Settings, "compact: true") {
		t.Errorf("%+v", tight.Result)
	}
	var report struct {
		Budgets []struct {
			Client, Measure string
			Value           int
		}
	}
	r.want(200, "POST", "/api/v1/templates/harbour/check", `{"clients":["source-webmail"],"settings":`+strconv.Quote(tight.Settings)+`}`, &report)
	if len(report.Budgets) == 0 || report.Budgets[0].Value != tight.After {
		t.Errorf("with the settings %+v, said were %d", report.Budgets, tight.After)
	}
	for body, says := range map[string]string{
		`{"client":"nonesuch"}`:                      "there is no client profile",
		`{"client":"wordproc-desktop"}`:              "has no limit of characters",
		`{"client":"capped-webmail","target":-1}`:    "number of characters",
		`{"client":"capped-webmail","targets":2000}`: "targets",
	} {
		if answer := r.do("POST", "/api/v1/templates/harbour/fit", body); answer.Code != 422 || !strings.Contains(answer.Body.String(), says) {
			t.Errorf("%s: %d %s", body, answer.Code, answer.Body)
		}
	}
}

func TestRoomIsThatOfThePerson(t *testing.T) {
	r := loaded(t)
	var marks, hers fit.Space
	r.want(200, "POST", "/api/v1/templates/harbour/room", `{"client":"source-webmail"}`, &marks)
	r.want(200, "POST", "/api/v1/templates/harbour/room", `{"client":"source-webmail","variant":"reply","person":"maren.lind@brackwater.example"}`, &hers)
	if marks.Person != "" || hers.Person != "maren.lind@brackwater.example" || hers.Variant != "reply" || hers.Units == 0 || hers.Units >= marks.Units {
		t.Errorf("%d and %d units, %s", marks.Units, hers.Units, hers.Person)
	}
	for body, says := range map[string]string{
		`{"client":"source-webmail","person":"maren.lint@brackwater.example"}`: "there is maren.lind@",
		`{"client":"source-webmail","variant":"none"}`:                         "none",
		`{"client":"nonesuch"}`:                                                "there is no client profile",
	} {
		if answer := r.do("POST", "/api/v1/templates/harbour/room", body); answer.Code != 422 || !strings.Contains(answer.Body.String(), says) {
			t.Errorf("%s: %d %s", body, answer.Code, answer.Body)
		}
	}
	empty := newRig(t)
	empty.want(201, "POST", "/api/v1/templates/begun/start", `{"starter":"columns"}`, nil)
	empty.want(200, "POST", "/api/v1/templates/begun/room", `{"client":"source-webmail"}`, &marks)
	if answer := empty.do("POST", "/api/v1/templates/begun/room", `{"client":"source-webmail","person":"bo@brackwater.example"}`); answer.Code != 422 {
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
		if pasted.Measured < 500 || math.Abs(float64(pasted.Predicted-pasted.Measured)) > 0.02*float64(pasted.Measured) {
			t.Errorf("%s: %+v", body, pasted)
		}
	}
	r.want(422, "POST", "/api/v1/templates/harbour/paste", `{"person":"nobody@brackwater.example"}`, nil)
}

func TestSheetIsAPageOrAPicture(t *testing.T) {
	r := loaded(t)
	page := r.want(200, "POST", "/api/v1/templates/regatta/sheet", `{"form":"html","views":["light"],"clients":["capped-webmail","gecko-desktop"],"people":["bo@brackwater.example"]}`, nil)
	if text := page.Body.String(); !strings.Contains(text, "Regatta: contact sheet") || strings.Contains(text, "washing-webmail") || !strings.Contains(page.Header().Get("Content-Disposition"), "regatta-sheet.html") {
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
	picture := r.want(200, "POST", "/api/v1/templates/harbour/sheet", `{"form":"png","clients":["capped-webmail"],"views":["light","dark"]}`, nil)
	if img, err := png.Decode(bytes.NewReader(picture.Body.Bytes())); err != nil || img.Bounds().Dx() != 240+2*540 {
		t.Errorf("%v", err)
	}
}
