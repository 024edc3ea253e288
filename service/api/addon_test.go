package api_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/addon"
	service "missivum/service/addon"
	"missivum/service/api"
	"missivum/service/desks"
	"missivum/service/personal"
)

// onSite are settings with one site.
const onSite = `{"name":"Brackwater","keyDays":30,"sites":[{"id":"crew-webmail","title":"Crew webmail",
	"matches":["https://mail.brackwater.example/*"],"client":"capped-webmail","place":"above",
	"compose":[{"field":"#body","account":"#from","quotation":".quote"}]}]}`

// addOnKey makes a key for somebody.
func (r *rig) addOnKey(person string) service.Key {
	r.t.Helper()
	var keys []service.Key
	r.want(201, "POST", "/api/v1/add-on/keys", fmt.Sprintf(`{"people":[%q]}`, person), &keys)
	return keys[0]
}

// byAddOn asks as an add-on.
func (r *rig) byAddOn(key, method, path, body string, headers ...string) (code int, said, etag string) {
	r.t.Helper()
	answer := r.do(method, "/api/v1/add-on"+path, body, append(headers, "Authorization", "Bearer "+key)...)
	return answer.Code, answer.Body.String(), answer.Header().Get("ETag")
}

func TestTheAddOnGetsItsPersonsSignatures(t *testing.T) {
	r, a := released(t)
	r.want(200, "PUT", "/api/v1/add-on/settings", onSite, nil)
	key := r.addOnKey(crew)
	if code, said, _ := r.byAddOn(key.Key, "GET", "/current", ""); code != 404 {
		t.Errorf("without a release: %d %s", code, said)
	}
	r.out("Winter", "")
	code, said, etag := r.byAddOn(key.Key, "GET", "/current", "")
	var got addon.Answer
	if err := json.Unmarshal([]byte(said), &got); err != nil || code != 200 {
		t.Fatalf("%d %s", code, said)
	}
	if got.Person != crew || got.Release != "1" || len(got.Sites) != 1 || len(got.Signatures) != 2 ||
		got.Ends != key.Ends.Format(time.DateOnly) {
		t.Errorf("%+v", got)
	}
	for _, s := range got.Signatures {
		if s.Site != "crew-webmail" || !strings.Contains(s.HTML, "Maren Lind") || !strings.Contains(s.Text, "Maren Lind") ||
			strings.Contains(s.HTML, "<html") {
			t.Errorf("%+v", s)
		}
	}
	// what is copied on the page is what the add-on places
	visitor := &visitor{r: r}
	token, _ := r.token(crew)
	visitor.open(token)
	var page personal.Prepared
	visitor.want(200, "POST", "/signature", `{"client":"capped-webmail","situation":"new"}`, &page)
	at := slices.IndexFunc(got.Signatures, func(s addon.Signature) bool { return s.Situation == "new" })
	if got.Signatures[at].HTML != page.Whole.HTML {
		t.Error("the add-on and the page differ")
	}
	// what it has is not sent again; another release is
	if code, said, _ := r.byAddOn(key.Key, "GET", "/current", "", "If-None-Match", etag); code != 304 || said != "" {
		t.Errorf("what it has: %d %s", code, said)
	}
	r.out("Spring", "")
	if code, said, _ := r.byAddOn(key.Key, "GET", "/current", "", "If-None-Match", etag); code != 200 ||
		!strings.Contains(said, `"release":"2"`) {
		t.Errorf("after another release: %d %s", code, said)
	}
	// it can do nothing else, and nobody else can do it
	for _, path := range []string{"/api/v1/people", "/api/v1/personal", "/api/v1/add-on/keys", "/api/v1/add-on", "/api/v1/releases",
		"/api/v1/desk/kit?person=" + crew + "&client=capped-webmail"} {
		if answer := r.do("GET", path, "", "Authorization", "Bearer "+key.Key); answer.Code != 403 {
			t.Errorf("%s: %d %s", path, answer.Code, answer.Body)
		}
	}
	if answer := r.do("GET", "/api/v1/add-on/current", ""); answer.Code != 401 || !strings.Contains(answer.Body.String(), "browser add-on") {
		t.Errorf("without a key: %d %s", answer.Code, answer.Body)
	}
	// a key that ended, was revoked, or whose person left, is one answer
	r.want(204, "DELETE", fmt.Sprintf("/api/v1/add-on/keys/%d", key.ID), "", nil)
	code, revoked, _ := r.byAddOn(key.Key, "GET", "/current", "")
	if code != 401 {
		t.Errorf("revoked: %d %s", code, revoked)
	}
	other := r.addOnKey(crew)
	start := a.Now()
	a.Now = func() time.Time { return start.Add(31 * 24 * time.Hour) }
	if code, said, _ := r.byAddOn(other.Key, "GET", "/current", ""); code != 401 {
		t.Errorf("ended: %d %s", code, said)
	}
}

func TestGuessesOfAddOnKeys(t *testing.T) {
	r, a := released(t)
	r.want(200, "PUT", "/api/v1/add-on/settings", onSite, nil)
	r.out("Winter", "")
	key := r.addOnKey(crew).Key
	token, _ := r.token(crew)
	minutes := 0
	start := a.Now()
	a.Now = func() time.Time { minutes++; return start.Add(time.Duration(minutes) * time.Minute) }
	prefix := "missivum-add-on-"
	guesses := []string{prefix, key + "A", key[:len(key)-1], prefix + token, prefix + strings.Repeat("A", len(key)-len(prefix)), prefix + key,
		prefix + strings.Repeat("é", 40), prefix + strings.Repeat("A", 100_000)}
	for i := len(prefix); i < len(key)-1; i += 3 {
		changed := []byte(key)
		if changed[i] == 'A' {
			changed[i] = 'B'
		} else {
			changed[i] = 'A'
		}
		guesses = append(guesses, string(changed))
	}
	for _, guess := range guesses {
		if code, said, _ := r.byAddOn(guess, "GET", "/current", ""); code != 401 {
			t.Errorf("%.60q: %d %.200s", guess, code, said)
		}
	}
	if code, said, _ := r.byAddOn(key, "GET", "/current", ""); code != 200 {
		t.Errorf("the right one: %d %s", code, said)
	}
	visitor := &visitor{r: r}
	if code := visitor.open(strings.TrimPrefix(key, prefix)); code == 200 {
		t.Error("a key opens the page of a person")
	}
}

func TestWhatTheAddOnSaysIsProof(t *testing.T) {
	r, _ := released(t)
	r.want(200, "PUT", "/api/v1/add-on/settings", onSite, nil)
	r.out("Winter", "")
	key := r.addOnKey(crew).Key
	next := ""
	cell := func() (list []desks.Cell) {
		var m desks.Matrix
		r.want(200, "GET", "/api/v1/desks?search="+crew, "", &m)
		next = m.Rows[0].Next
		return m.Rows[0].Cells
	}
	report := func(outcome, situation, release string) string {
		return fmt.Sprintf(`{"version":"1.0.1","reports":[{"site":"crew-webmail","situation":%q,"outcome":%q,"release":%q}]}`, situation,
			outcome, release)
	}
	for _, c := range []struct {
		outcome string
		want    desks.Standing
		next    string
	}{{"placed", desks.Good, ""}, {"there", desks.Good, ""}, {"site-signature", desks.Altered, "delete the signature in the settings"},
		{"other-add-on", desks.Altered, "switch off the other add-on"}, {"field-unknown", desks.Missing, "record the compose field"},
		{"returned-by-site", desks.Missing, "look at the compose field"}, {"placed", desks.Good, ""}} {
		if code, said, _ := r.byAddOn(key, "POST", "/state", report(c.outcome, "new", "1")); code != 204 {
			t.Fatalf("%s: %d %s", c.outcome, code, said)
		}
		cells := cell()
		if len(cells) != 1 || cells[0].Way != desks.ByAddOn || cells[0].Standing != c.want || cells[0].Client != "capped-webmail" ||
			c.want != desks.Good && cells[0].Detail != c.outcome || !strings.Contains(next, c.next) || c.next == "" && next != "" {
			t.Errorf("%s: %+v, next %q", c.outcome, cells, next)
		}
	}
	r.out("Spring", "") // in which nothing differs for this person
	if cells := cell(); cells[0].Standing != desks.Good {
		t.Errorf("after another release: %+v", cells)
	}
	if code, said, _ := r.byAddOn(key, "POST", "/state", report("placed", "new", "0")); code != 204 || cell()[0].Standing != desks.Older {
		t.Errorf("of a release before: %d %s %+v", code, said, cell())
	}
	var keys []api.AddOnKey
	r.want(200, "GET", "/api/v1/add-on/keys?search=maren", "", &keys)
	if len(keys) != 1 || keys[0].Version != "1.0.1" || keys[0].Used.IsZero() {
		t.Errorf("%+v", keys)
	}
	for name, body := range map[string]string{
		"another outcome":   report("read the mail", "new", "1"),
		"another situation": report("placed", "always", "1"),
		"a long release":    report("placed", "new", strings.Repeat("1", 30)),
		"a long version":    `{"version":"` + strings.Repeat("1", 30) + `","reports":[]}`,
		"too many": `{"version":"1","reports":[` +
			strings.Repeat(`{"site":"x","situation":"new","outcome":"placed","release":"1"},`, 60) + `{}]}`,
		"more than is said": `{"version":"1","reports":[],"subject":"x"}`,
	} {
		if code, said, _ := r.byAddOn(key, "POST", "/state", body); code < 400 || code >= 500 {
			t.Errorf("%s: %d %s", name, code, said)
		}
	}
	if code, said, _ := r.byAddOn(key, "POST", "/state",
		strings.Replace(report("placed", "new", "1"), "crew-webmail", "gone", 1)); code != 204 {
		t.Errorf("a site that was taken away: %d %s", code, said)
	}
}

func TestPackagesOfTheAddOn(t *testing.T) {
	r, _ := released(t)
	var before, after, same service.Overview
	r.want(200, "PUT", "/api/v1/add-on/settings", onSite, &before)
	r.want(200, "GET", "/api/v1/add-on", "", &same)
	r.want(200, "PUT", "/api/v1/add-on/settings", strings.Replace(onSite, "mail.brackwater", "post.brackwater", 1), &after)
	if before.Version == after.Version || same.Version != before.Version || len(before.ID) != 32 || before.ID != after.ID {
		t.Errorf("%+v %+v %+v", before, same, after)
	}
	var policy map[string]any
	r.want(200, "GET", "/api/v1/add-on/policy?engine=chromium&key=k", "", &policy)
	if _, ok := policy["3rdparty"]; !ok {
		t.Errorf("%v", policy)
	}
	r.want(422, "GET", "/api/v1/add-on/policy?engine=other", "", nil)
	for form, begins := range map[string]string{"zip": "PK", "xpi": "PK", "crx": "Cr24"} {
		answer := r.do("GET", "/api/v1/add-on/add-on."+form, "")
		if answer.Code != 200 || !strings.HasPrefix(answer.Body.String(), begins) ||
			!strings.Contains(answer.Header().Get("Content-Disposition"), "add-on-"+after.Version+"."+form) {
			t.Errorf("%s: %d %v", form, answer.Code, answer.Header())
		}
	}
	data := r.do("GET", "/api/v1/add-on/add-on.zip", "").Body.Bytes()
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	manifest, err := archive.Open("manifest.json")
	if err != nil {
		t.Fatal(err)
	}
	defer manifest.Close()
	var m struct{ Version, Name string }
	if err := json.NewDecoder(manifest).Decode(&m); err != nil || m.Version != after.Version || m.Name != "Signatures Brackwater" {
		t.Errorf("%+v %v", m, err)
	}
	for name, settings := range map[string]string{
		"every site":         strings.Replace(onSite, "https://mail.brackwater.example/*", "https://*/*", 1),
		"another client":     strings.Replace(onSite, "capped-webmail", "none", 1),
		"no days":            strings.Replace(onSite, `"keyDays":30`, `"keyDays":0`, 1),
		"a long name":        strings.Replace(onSite, `"name":"Brackwater"`, `"name":"`+strings.Repeat("x", 61)+`"`, 1),
		"a selector of ours": strings.Replace(onSite, ".quote", "p:contains(x)", 1),
	} {
		answer := r.do("PUT", "/api/v1/add-on/settings", settings)
		if answer.Code != 422 {
			t.Errorf("%s: %d %s", name, answer.Code, answer.Body)
		}
	}
}

// People make keys for their own browsers, from the device that opened their link first.
func TestOnesOwnAddOnKey(t *testing.T) {
	r, _ := released(t)
	r.want(200, "PUT", "/api/v1/add-on/settings", onSite, nil)
	r.out("Winter", "")
	token, _ := r.token(crew)
	mine, guest := &visitor{r: r}, &visitor{r: r}
	mine.open(token)
	guest.open(token)
	var own api.OwnAddOn
	mine.want(200, "GET", "/add-on", "", &own)
	if len(own.Sites) != 1 || own.Sites[0] != "Crew webmail" || own.Version == "" {
		t.Errorf("%+v", own)
	}
	guest.want(403, "POST", "/add-on", "{}", nil)
	var first service.Key
	mine.want(201, "POST", "/add-on", "{}", &first)
	if code, said, _ := r.byAddOn(first.Key, "GET", "/current", ""); code != 200 || !strings.Contains(said, crew) {
		t.Errorf("%d %s", code, said)
	}
	for range 10 { // the oldest ends for the eleventh
		mine.want(201, "POST", "/add-on", "{}", nil)
	}
	if code, _, _ := r.byAddOn(first.Key, "GET", "/current", ""); code != 401 {
		t.Errorf("the first of eleven keys: %d", code)
	}
	r.want(404, "POST", "/api/v1/add-on/keys", `{"people":["nobody@brackwater.example"]}`, nil)
	r.want(422, "POST", "/api/v1/add-on/keys", `{"people":[]}`, nil)
}

// BenchmarkAddOnAsks is one question of an add-on whether something is new, answered by 304, beside its first answer.
func BenchmarkAddOnAsks(b *testing.B) {
	r, _ := released(b)
	r.want(200, "PUT", "/api/v1/add-on/settings", onSite, nil)
	r.out("Winter", "")
	key := r.addOnKey(crew).Key
	_, _, etag := r.byAddOn(key, "GET", "/current", "")
	for b.Loop() {
		if code, said, _ := r.byAddOn(key, "GET", "/current", "", "If-None-Match", etag); code != 304 {
			b.Fatalf("%d %s", code, said)
		}
	}
}
