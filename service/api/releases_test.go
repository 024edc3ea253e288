package api_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/desk"
	"missivum/core/kit"
	"missivum/core/release"
	"missivum/core/source"
	made "missivum/demo/people"
	"missivum/service/access"
	"missivum/service/api"
	"missivum/service/desks"
	"missivum/service/releases"
	"missivum/service/store"
)

// released is a rig with the demo organisation, assignments and audiences; its own API is given too.
func released(t testing.TB) (*rig, *api.API) {
	var a *api.API
	r := demoRig(t, func(of *api.API) { a = of })
	r.want(200, "PUT", "/api/v1/audiences/crew", `{"title":"Crew","condition":{"none":[{"field":"callSign","blank":true}]}}`, nil)
	r.want(200, "PUT", "/api/v1/assignments",
		`{"lines":[{"situation":"reply","template":"harbour","variant":"reply"},{"template":"harbour"}],"situations":[]}`, nil)
	return r, a
}

// later moves the clock of what desks are answered with.
func later(a *api.API, by time.Duration) {
	now := a.Desks.Now().Add(by)
	a.Desks.Now = func() time.Time { return now }
}

// as sends a request as somebody.
func (r *rig) as(who string, status int, method, path, body string, into any) string {
	r.t.Helper()
	answer := r.do(method, path, body, api.ActingAs, who, "Content-Type", "application/json")
	if answer.Code != status {
		r.t.Fatalf("%s: %s %s: %d, want %d: %s", who, method, path, answer.Code, status, answer.Body)
	}
	if into != nil {
		if err := json.Unmarshal(answer.Body.Bytes(), into); err != nil {
			r.t.Fatal(err)
		}
	}
	return answer.Body.String()
}

// make makes a release and waits until it is checked.
func (r *rig) release(title string) api.Release {
	r.t.Helper()
	var rel api.Release
	r.as("Maren", 202, "POST", "/api/v1/releases", fmt.Sprintf(`{"title":%q,"base":"brackwater"}`, title), &rel)
	for until := time.Now().Add(2 * time.Minute); rel.State == release.Draft; {
		if rel.Job.State == "failed" || time.Now().After(until) {
			r.t.Fatalf("the release is not checked: %s %s", rel.Job.State, rel.Job.Message)
		}
		time.Sleep(50 * time.Millisecond)
		r.want(200, "GET", fmt.Sprintf("/api/v1/releases/%d", rel.ID), "", &rel)
	}
	return rel
}

// out makes a release, approves it and sends it out.
func (r *rig) out(title, waves string) api.Release {
	r.t.Helper()
	rel := r.release(title)
	r.as("Bo", 200, "POST", fmt.Sprintf("/api/v1/releases/%d/approve", rel.ID), `{"says":"known"}`, nil)
	r.as("Bo", 200, "POST", fmt.Sprintf("/api/v1/releases/%d/send", rel.ID), `{"waves":[`+waves+`]}`, &rel)
	return rel
}

// deskKey makes a key of the scope desk.
func (r *rig) deskKey() string {
	r.t.Helper()
	var key api.Key
	r.want(201, "POST", "/api/v1/keys", `{"name":"desks","scopes":["desk"],"source":""}`, &key)
	return key.Secret
}

// longSilence is longer than a desk may be silent.
const longSilence = 15 * 24 * time.Hour

const (
	crew   = "maren.lind@brackwater.example"
	ashore = "bo@brackwater.example"
)

func TestAReleaseFromDraftToWithdrawn(t *testing.T) {
	r, a := released(t)
	rel := r.release("Winter")
	if rel.State != release.Checked || rel.MadeBy != "Maren" || len(rel.Examined) != 1 || rel.Examined[0].People != 80 ||
		len(rel.Differences) != 1 ||
		len(rel.Digest) != 64 || rel.Templates[0].Number != 1 {
		t.Fatalf("%+v", rel)
	}
	if sheet := r.do("GET", "/api/v1/releases/1/sheets/harbour", ""); sheet.Code != 200 ||
		!strings.HasPrefix(sheet.Header().Get("Content-Type"), "image/png") {
		t.Errorf("the contact sheet: %d %s", sheet.Code, sheet.Header())
	}
	r.as("Bo", 409, "POST", "/api/v1/releases/1/send", `{"waves":[]}`, nil)
	if said := r.as("Maren", 422, "POST", "/api/v1/releases/1/approve", `{"says":"x"}`, nil); !strings.Contains(said,
		"somebody else has to approve") {
		t.Error(said)
	}
	r.want(200, "PUT", "/api/v1/releases/settings", `{"oneMayDoBoth":true}`, nil)
	r.as("Maren", 200, "POST", "/api/v1/releases/1/approve", `{"says":"known"}`, &rel)
	if rel.State != release.Approved || rel.ApprovedBy != "Maren" || rel.Approval != "known" {
		t.Errorf("%+v", rel)
	}
	for _, wrong := range []string{`{"audience":"nobody","share":0}`, `{"audience":"","share":101}`,
		strings.TrimSuffix(strings.Repeat(`{"audience":"","share":0},`, 51), ",")} {
		r.as("Bo", 422, "POST", "/api/v1/releases/1/send", `{"waves":[`+wrong+`]}`, nil)
	}
	r.as("Bo", 200, "POST", "/api/v1/releases/1/send", `{"waves":[{"audience":"crew","share":50},{"audience":"","share":0}]}`, &rel)
	if len(rel.Waves) != 2 || rel.Waves[0].Opened.IsZero() || !rel.Waves[1].Opened.IsZero() || rel.Waves[0].People != 17 ||
		rel.Waves[1].People != 63 {
		t.Errorf("waves %+v", rel.Waves)
	}
	r.as("Bo", 409, "DELETE", "/api/v1/releases/1", "", nil)
	r.as("Bo", 409, "POST", "/api/v1/releases/1/approve", `{"says":""}`, nil)

	key := r.deskKey()
	ask := func(person string) int {
		return r.do("GET", "/api/v1/desk/kit?client=gecko-desktop&person="+person, "", "Authorization", "Bearer "+key).Code
	}
	if ask(crew) != 200 || ask(ashore) != 404 || ask("nobody@brackwater.example") != 404 {
		t.Errorf("the first wave: crew %d, ashore %d", ask(crew), ask(ashore))
	}
	step := func() {
		t.Helper()
		if err := a.Desks.Step(access.With(context.Background(), access.Itself("waves"))); err != nil {
			t.Fatal(err)
		}
	}
	step()
	r.want(200, "GET", "/api/v1/releases/1", "", &rel)
	if !rel.Waves[1].Opened.IsZero() {
		t.Error("the second wave began though nobody reported")
	}
	r.as("Bo", 200, "POST", "/api/v1/releases/1/pause", "", nil)
	var people struct {
		People []struct{ Mail string }
	}
	members := r.do("GET", "/api/v1/audiences/crew/people?limit=100", "")
	if err := json.Unmarshal(members.Body.Bytes(), &people); err != nil || len(people.People) != 17 {
		t.Fatalf("the crew: %s, %v", members.Body, err)
	}
	for i, p := range people.People[:9] {
		r.report(key, fmt.Sprint("desk", i), p.Mail, "current")
	}
	step()
	r.want(200, "GET", "/api/v1/releases/1", "", &rel)
	if rel.Waves[0].Good != 9 || !rel.Waves[1].Opened.IsZero() {
		t.Errorf("paused: %+v", rel.Waves)
	}
	r.as("Bo", 200, "POST", "/api/v1/releases/1/resume", "", nil)
	step()
	r.want(200, "GET", "/api/v1/releases/1", "", &rel)
	if rel.Waves[1].Opened.IsZero() || ask(ashore) != 200 {
		t.Errorf("9 of 17 reported well, and the next wave waits: %+v", rel.Waves)
	}
	r.as("Bo", 409, "POST", "/api/v1/releases/1/widen", "", nil)
	var samples []api.Sample
	r.want(200, "GET", "/api/v1/releases/1/waves/1/samples", "", &samples)
	if len(samples) == 0 || samples[len(samples)-1].Good != 9 || samples[len(samples)-1].Silent != 8 {
		t.Errorf("samples %+v", samples)
	}
	r.as("Bo", 200, "POST", "/api/v1/releases/1/withdraw", "", &rel)
	if rel.State != release.Withdrawn || rel.WithdrawnBy != "Bo" || ask(crew) != 410 || ask(ashore) != 410 {
		t.Errorf("withdrawn by %s: %d", rel.WithdrawnBy, ask(crew))
	}
	r.as("Bo", 409, "DELETE", "/api/v1/releases/1", "", nil)
	rel = r.release("Another")
	if rel.Before != 0 || rel.ID != 2 {
		t.Errorf("%+v", rel)
	}
	r.as("Bo", 204, "DELETE", "/api/v1/releases/2", "", nil)
	r.as("Bo", 404, "GET", "/api/v1/releases/2", "", nil)
}

// report reports one place of a desk, with the kit that it gets now.
func (r *rig) report(key, id, person, proof string) {
	r.t.Helper()
	k, list := r.kit(key, person, "gecko-desktop")
	report := desk.Report{Desk: id, Host: id, System: "linux", Version: "1",
		Places: []desk.Reported{{Place: "rudder", Folder: "/home/x", Client: "gecko-desktop",
			Person: list.Person, Release: k.Release, Kit: kit.Digest([]byte(k.List)), Proof: "current", At: time.Now()}}}
	report.Places[0].Proof = "current"
	text, err := json.Marshal(report)
	if err != nil {
		r.t.Fatal(err)
	}
	text = bytes.Replace(text, []byte(`"proof":"current"`), []byte(`"proof":"`+proof+`"`), 1)
	if answer := r.do("POST", "/api/v1/desk/report", string(text), "Authorization", "Bearer "+key, "Content-Type",
		"application/json"); answer.Code != 204 {
		r.t.Fatalf("the report: %d %s", answer.Code, answer.Body)
	}
}

// kit asks for a kit and checks its signature.
func (r *rig) kit(key, person, client string) (desks.Kit, kit.List) {
	r.t.Helper()
	answer := r.do("GET", "/api/v1/desk/kit?client="+client+"&person="+person, "", "Authorization", "Bearer "+key)
	var k desks.Kit
	if err := json.Unmarshal(answer.Body.Bytes(), &k); err != nil || answer.Code != 200 {
		r.t.Fatalf("%d %s", answer.Code, answer.Body)
	}
	trusted, err := kit.ReadTrusted(r.do("GET", "/api/v1/desk/trust", "").Body.Bytes())
	if err != nil {
		r.t.Fatal(err)
	}
	list, err := trusted.Open([]byte(k.List), []byte(k.Signature))
	if err != nil || answer.Header().Get("ETag") != `"`+kit.Digest([]byte(k.List))+`"` {
		r.t.Fatalf("%v, %s", err, answer.Header())
	}
	return k, list
}

// What a desk gets: only what is new, and where the person changed, another; a desk of somebody else's key gets nothing.
func TestWhatADeskIsAnswered(t *testing.T) {
	r, a := released(t)
	r.out("Winter", "")
	key := r.deskKey()
	k, list := r.kit(key, crew, "wordproc-desktop")
	if k.Release != "1" || list.Use["new"] != "brackwater-new" || list.Person != crew || len(list.Files) != 8 {
		t.Errorf("%+v", list)
	}
	address := "/api/v1/desk/kit?client=wordproc-desktop&person=" + crew
	tag := `"` + kit.Digest([]byte(k.List)) + `"`
	if same := r.do("GET", address, "", "Authorization", "Bearer "+key, "If-None-Match", tag); same.Code != 304 || same.Body.Len() != 0 {
		t.Errorf("asked again: %d %s", same.Code, same.Body)
	}
	for _, f := range list.Files {
		path := "/api/v1/desk/files/" + f.File + "?client=wordproc-desktop&person=" + crew
		answer := r.do("GET", path, "", "Authorization", "Bearer "+key)
		if err := f.Check(answer.Body.Bytes()); err != nil {
			t.Error(err)
		}
		if same := r.do("GET", path, "", "Authorization", "Bearer "+key, "If-None-Match", answer.Header().Get("ETag")); same.Code != 304 {
			t.Errorf("%s again: %d", f.File, same.Code)
		}
	}
	r.report(key, "desk1", crew, "current")
	standing := func(want string) desks.Row {
		t.Helper()
		var m desks.Matrix
		r.want(200, "GET", "/api/v1/desks?search="+crew, "", &m)
		if len(m.Rows) != 1 || string(m.Rows[0].Standing) != want || m.Desks != 1 || m.Release != 1 && want != "older" {
			t.Fatalf("%+v, want %s", m, want)
		}
		return m.Rows[0]
	}
	if row := standing("current"); row.Wave != 1 || row.Next != "" || row.Cells[0].Host != "desk1" {
		t.Errorf("%+v", row)
	}
	packed := list // a kit out of a package names its release, and is as current
	packed.Release = "1"
	_, gecko := r.kit(key, crew, "gecko-desktop")
	gecko.Release = "1"
	for name, digest := range map[string]string{"current": kit.Digest(gecko.JSON()), "stale": kit.Digest(packed.JSON())} {
		text := fmt.Sprintf(`{"desk":"desk1","host":"h","system":"linux","version":"1","places":[{"place":"rudder",`+
			`"folder":"/x","client":"gecko-desktop",`+
			`"person":%q,"release":"1","kit":%q,"proof":"current","detail":"","at":"2026-11-23T12:00:00Z"}]}`, crew, digest)
		if answer := r.do("POST", "/api/v1/desk/report", text, "Authorization", "Bearer "+key, "Content-Type",
			"application/json"); answer.Code != 204 {
			t.Fatalf("%d %s", answer.Code, answer.Body)
		}
		standing(name)
	}
	r.report(key, "desk1", crew, "current")
	r.want(200, "POST", "/api/v1/people/import?apply=true", "mail,title\n"+crew+",Admiral\n", nil)
	later(a, 2*time.Second) // people count after a second
	if row := standing("stale"); !strings.Contains(row.Next, "next round") {
		t.Errorf("%+v", row)
	}
	if changed := r.do("GET", address, "", "Authorization", "Bearer "+key, "If-None-Match", tag); changed.Code != 200 {
		t.Errorf("after the person changed: %d", changed.Code)
	}
	for _, proof := range []string{"altered", "missing"} {
		r.report(key, "desk1", crew, proof)
		standing(proof)
	}
	r.report(key, "desk2", crew, "current")
	var m desks.Matrix
	r.want(200, "GET", "/api/v1/desks?search="+crew, "", &m)
	if c := m.Rows[0].Cells; len(c) != 1 || c[0].Standing != "missing" || c[0].Desks != 2 || m.Counts["missing"] != 1 {
		t.Errorf("the worst of two desks: %+v", c)
	}
	r.want(204, "DELETE", "/api/v1/desks/desk2", "", nil)
	answer := r.do("GET", "/api/v1/desks?standing=missing", "", "Accept", "text/csv")
	rows, err := csv.NewReader(answer.Body).ReadAll()
	if err != nil || len(rows) != 2 || rows[1][0] != crew || rows[1][5] != "desk" || rows[1][6] != "missing" {
		t.Errorf("%q, %v", rows, err)
	}
	r.report(key, "desk1", crew, "current")
	later(a, longSilence)
	standing("silent")
	later(a, -longSilence)
	r.out("Spring", "")
	standing("older")

	for name, c := range map[string]struct {
		method, path, auth, body string
		status                   int
	}{
		"no key":         {"GET", address, "", "", 401},
		"unknown key":    {"GET", address, "Bearer missivum-x", "", 401},
		"unknown client": {"GET", "/api/v1/desk/kit?client=fax&person=" + crew, "Bearer " + key, "", 404},
		"a pasted way":   {"GET", "/api/v1/desk/kit?client=append-rule&person=" + crew, "Bearer " + key, "", 422},
		"unknown file":   {"GET", "/api/v1/desk/files/x/y?client=wordproc-desktop&person=" + crew, "Bearer " + key, "", 404},
		"wrong proof":    {"POST", "/api/v1/desk/report", "Bearer " + key, `{"desk":"a","places":[{"proof":"fine"}]}`, 422},
		"nameless desk":  {"POST", "/api/v1/desk/report", "Bearer " + key, `{"desk":""}`, 422},
		"too large":      {"POST", "/api/v1/desk/report", "Bearer " + key, `{"desk":"` + strings.Repeat("a", 300<<10) + `"}`, 413},
		"no such wave":   {"GET", "/api/v1/releases/1/waves/x/samples", "", "", 404},
		"no such number": {"GET", "/api/v1/releases/x", "", "", 404},
	} {
		if answer := r.do(c.method, c.path, c.body, "Authorization", c.auth, "Content-Type", "application/json"); answer.Code != c.status {
			t.Errorf("%s: %d, want %d: %s", name, answer.Code, c.status, answer.Body)
		}
	}
	var scim api.Key
	r.want(201, "POST", "/api/v1/keys", `{"name":"identity","scopes":["directory"],"source":"identity"}`, &scim)
	if answer := r.do("GET", address, "", "Authorization", "Bearer "+scim.Secret); answer.Code != 403 {
		t.Errorf("a key of another scope: %d", answer.Code)
	}
}

// What a release freezes stays: later versions of templates, assignments and audiences are not in it.
func TestWhatIsFrozenStays(t *testing.T) {
	r, a := released(t)
	r.out("Winter", "")
	key := r.deskKey()
	before, _ := r.kit(key, crew, "gecko-desktop")
	r.want(200, "PUT", "/api/v1/templates/harbour", `{"source":"<p>{{ cn }} of another version</p>","base":1,"note":"x"}`, nil)
	r.want(200, "PUT", "/api/v1/assignments", `{"lines":[{"template":""}],"situations":[]}`, nil)
	r.want(204, "DELETE", "/api/v1/audiences/crew", "", nil)
	if after, _ := r.kit(key, crew, "gecko-desktop"); after.List != before.List {
		t.Error("a release that is out was changed")
	}
	err := a.Store.Write(access.With(context.Background(), access.Loopback()), func(tx *store.Tx) error { return tx.RemoveRelease(1) })
	if err == nil {
		t.Error("a release that is out was deleted")
	}
	r.want(200, "PUT", "/api/v1/assignments", `{"lines":[{"template":"harbour"}],"situations":[]}`, nil)
	rel := r.release("Spring")
	kinds := map[string]bool{}
	for _, d := range rel.Differences {
		kinds[d.Kind] = true
		if d.Kind == "template" && !strings.Contains(d.Detail, "+<p>{{ cn }} of another version</p>") {
			t.Errorf("%+v", d)
		}
	}
	if !kinds["look"] || !kinds["template"] || !kinds["assignment"] || !kinds["audience"] || !kinds["size"] || rel.Before != 1 {
		t.Errorf("differences of the kinds %v, before %d", kinds, rel.Before)
	}
}

// With frozen people a change in the directory reaches no desk.
func TestFrozenPeople(t *testing.T) {
	r, a := released(t)
	var rel api.Release
	r.as("Maren", 202, "POST", "/api/v1/releases", `{"title":"Frozen","base":"brackwater","frozenPeople":true}`, &rel)
	for rel.State == release.Draft {
		time.Sleep(50 * time.Millisecond)
		r.want(200, "GET", "/api/v1/releases/1", "", &rel)
	}
	r.as("Bo", 200, "POST", "/api/v1/releases/1/approve", `{"says":"known"}`, nil)
	r.as("Bo", 200, "POST", "/api/v1/releases/1/send", `{"waves":[]}`, nil)
	key := r.deskKey()
	before, _ := r.kit(key, crew, "text-reader")
	r.want(200, "POST", "/api/v1/people/import?apply=true", "mail,title\n"+crew+",Admiral\n", nil)
	later(a, 2*time.Second)
	if after, _ := r.kit(key, crew, "text-reader"); after.List != before.List || !rel.FrozenPeople {
		t.Error("the person is not frozen")
	}
}

func TestReleasesThatMakeNoSense(t *testing.T) {
	r, _ := released(t)
	for name, body := range map[string]string{"no title": `{"title":" "}`, "long title": `{"title":"` + strings.Repeat("a", 201) + `"}`,
		"wrong base": `{"title":"x","base":"a/b"}`, "device": `{"title":"x","base":"con"}`} {
		if answer := r.do("POST", "/api/v1/releases", body, "Content-Type", "application/json"); answer.Code != 422 {
			t.Errorf("%s: %d %s", name, answer.Code, answer.Body)
		}
	}
	r.want(200, "PUT", "/api/v1/assignments", `{"lines":[{"template":""}],"situations":[]}`, nil)
	if answer := r.do("POST", "/api/v1/releases", `{"title":"x"}`, "Content-Type", "application/json"); answer.Code != 422 ||
		!strings.Contains(answer.Body.String(), "nothing to release") {
		t.Errorf("nobody gets anything: %d %s", answer.Code, answer.Body)
	}
	for _, who := range []string{"%00", strings.Repeat("a", 101), "%20a"} {
		if answer := r.do("GET", "/api/v1/releases", "", api.ActingAs, who); answer.Code != 422 {
			t.Errorf("acting as %q: %d", who, answer.Code)
		}
	}
}

// BenchmarkDeskAsks compares 20,000 desks of 20,000 people, 500 at a time, that ask whether something is new with a handler that
// answers 304 and does nothing else: the ratio is reported, and what the first question of each costs.
func BenchmarkDeskAsks(b *testing.B) {
	gin.SetMode(gin.ReleaseMode)
	const desks = 20_000
	r, _ := released(b)
	var csv bytes.Buffer
	if err := source.WriteCSV(&csv, made.Generate(desks, 5)); err != nil {
		b.Fatal(err)
	}
	r.want(200, "POST", "/api/v1/people/import?apply=true&confirm=true", csv.String(), nil)
	r.out("Winter", "")
	key := r.deskKey()
	var mails []string
	column := mailColumn(b)
	for _, p := range made.Generate(desks, 5).People {
		mails = append(mails, p.At(column))
	}
	tags := make([]string, len(mails))
	nothing := gin.New()
	nothing.GET("/api/v1/desk/kit", func(c *gin.Context) { c.Status(http.StatusNotModified) })
	took := func(h http.Handler, wanted int) time.Duration {
		server := httptest.NewServer(h)
		defer server.Close()
		client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 500}}
		one := func(i int) {
			q, err := http.NewRequest(http.MethodGet, server.URL+"/api/v1/desk/kit?client=text-reader&person="+url.QueryEscape(mails[i]), nil)
			if err != nil {
				b.Error(err)
				return
			}
			q.Header.Set("Authorization", "Bearer "+key)
			if tags[i] != "" {
				q.Header.Set("If-None-Match", tags[i])
			}
			answer, err := client.Do(q)
			if err != nil {
				b.Error(err)
				return
			}
			answer.Body.Close()
			if answer.StatusCode != wanted {
				b.Errorf("%s: %d, want %d", mails[i], answer.StatusCode, wanted)
			}
			if tag := answer.Header.Get("ETag"); tag != "" {
				tags[i] = tag
			}
		}
		var group sync.WaitGroup
		work := make(chan int)
		for range 500 {
			group.Go(func() {
				for i := range work {
					one(i)
				}
			})
		}
		began := time.Now()
		for i := range mails {
			work <- i
		}
		close(work)
		group.Wait()
		return time.Since(began)
	}
	first := took(r.handler, http.StatusOK)
	took(r.handler, http.StatusNotModified) // connections and memory are warm
	took(nothing, http.StatusNotModified)
	for b.Loop() {
		asked, idle := took(r.handler, http.StatusNotModified), took(nothing, http.StatusNotModified)
		b.ReportMetric(float64(asked)/float64(idle), "times-304")
		b.ReportMetric(float64(asked.Microseconds())/float64(len(mails)), "us/ask")
		b.ReportMetric(float64(first.Microseconds())/float64(len(mails)), "us/first-kit")
	}
}

// mailColumn is where people that are made have their mail address.
func mailColumn(b *testing.B) int {
	column, _, ok := made.Generate(1, 5).Schema.Column("mail")
	if !ok {
		b.Fatal("they have none")
	}
	return column
}

// Kits of a release as a package: for an audience, for one person, of a template; each list is signed.
func TestPackagesOfKits(t *testing.T) {
	r, _ := released(t)
	r.release("Winter")
	made := func(body string) map[string][]byte {
		t.Helper()
		var p api.PackageInfo
		r.want(202, "POST", "/api/v1/packages", body, &p)
		for p.State == "waiting" || p.State == "running" {
			time.Sleep(20 * time.Millisecond)
			r.want(200, "GET", "/api/v1/packages/"+p.ID, "", &p)
		}
		data := r.do("GET", "/api/v1/packages/"+p.ID+"/file", "").Body.Bytes()
		z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			t.Fatalf("%s %s: %v", p.State, p.Message, err)
		}
		files := map[string][]byte{}
		for _, f := range z.File {
			in, err := f.Open()
			if err != nil {
				t.Fatal(err)
			}
			if files[f.Name], err = io.ReadAll(in); err != nil {
				t.Fatal(err)
			}
		}
		return files
	}
	trusted, err := kit.ReadTrusted(r.do("GET", "/api/v1/desk/trust", "").Body.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	lists := func(files map[string][]byte) (list []kit.List) {
		t.Helper()
		for name, data := range files {
			if folder, is := strings.CutSuffix(name, "/"+kit.ListFile); is {
				l, err := trusted.Open(data, files[folder+"/"+kit.SignFile])
				if err != nil {
					t.Fatal(err)
				}
				for _, f := range l.Files {
					if err := f.Check(files[folder+"/"+f.File]); err != nil {
						t.Error(err)
					}
				}
				list = append(list, l)
			}
		}
		return list
	}
	crewOnly := made(`{"release":1,"client":"wordproc-desktop","audience":"crew"}`)
	if l := lists(crewOnly); len(l) != 17 || l[0].Release != "1" || l[0].Use["new"] != "brackwater-new" {
		t.Errorf("%d kits of the crew", len(l))
	}
	if page := string(crewOnly["index.html"]); !strings.Contains(page, "Of release 1.") ||
		!strings.Contains(page, "17 people") || !strings.Contains(page, "Close the mail client") ||
		strings.Count(string(crewOnly["people.csv"]), "\n") < 17*8 {
		t.Error("the index page or the table says too little")
	}
	one := made(`{"release":1,"way":"page-file","person":"` + strings.ToUpper(crew) + `"}`)
	if l := lists(one); len(l) != 1 || l[0].Person != crew {
		t.Errorf("%d kits for one person", len(l))
	}
	if l := lists(made(`{"release":1,"way":"picture-and-link","person":"` + crew + `"}`)); len(l) != 1 || len(l[0].Files) != 3 {
		t.Errorf("one picture: %+v", l)
	}
	if l := lists(made(`{"template":"harbour","way":"paste-source","base":"own"}`)); len(l) != 80 ||
		l[0].Files[0].File != "own.fragment.html" {
		t.Errorf("%d kits of a template", len(l))
	}
	for name, body := range map[string]string{"unknown way": `{"release":1,"way":"fly"}`, "unknown client": `{"release":1,"client":"fax"}`,
		"another way": `{"release":1,"client":"gecko-desktop","way":"file-set"}`, "no way": `{"release":1}`,
		"unknown audience":      `{"release":1,"way":"file-set","audience":"x"}`,
		"a template's audience": `{"template":"harbour","way":"file-set","audience":"crew"}`,
		"nobody":                `{"release":1,"way":"file-set","person":"x@y.example"}`,
		"the host's way":        `{"release":1,"client":"append-rule"}`} {
		if answer := r.do("POST", "/api/v1/packages", body, "Content-Type", "application/json"); answer.Code != 422 {
			t.Errorf("%s: %d %s", name, answer.Code, answer.Body)
		}
	}
}

func TestDialectsOfTheOrganisation(t *testing.T) {
	r := loaded(t)
	document := `id: quay-host\ntitle: Ours\nopen: \"[[\"\nclose: \"]]\"\nlimit: 5000\nnames: {cn: Name, title: ` +
		`Job, ou: Unit, telephoneNumber: Phone, mobile: Mobile, ` +
		`mail: Mail, street: Street, postalCode: Code, l: City, co: Country, callSign: Custom}\n`
	var list []api.Dialect
	r.want(200, "GET", "/api/v1/dialects", "", &list)
	shipped := len(list)
	var begun api.ClientDocument
	r.want(200, "GET", "/api/v1/dialects/quay-host/document", "", &begun)
	if begun.Own || !strings.Contains(begun.Document, "names:") {
		t.Errorf("%+v", begun)
	}
	for name, body := range map[string]string{"not YAML": `{"document":"[","own":true}`, "another id": `{"document":"` +
		strings.Replace(document, "quay-host", "x", 1) + `","own":true}`} {
		if answer := r.do("PUT", "/api/v1/dialects/quay-host/document", body, "Content-Type", "application/json"); answer.Code != 422 {
			t.Errorf("%s: %d %s", name, answer.Code, answer.Body)
		}
	}
	r.want(422, "PUT", "/api/v1/dialects/brace/document", `{"document":"`+strings.Replace(document, "quay-host", "brace", 1)+
		`","own":true}`, nil)
	r.want(200, "PUT", "/api/v1/dialects/quay-host/document", `{"document":"`+document+`","own":true}`, nil)
	r.want(200, "GET", "/api/v1/dialects", "", &list)
	if len(list) != shipped+1 || !list[0].Own || list[0].ID != "quay-host" {
		t.Errorf("%+v", list[0])
	}
	answer := r.do("POST", "/api/v1/templates/harbour/rule-sheet", `{"dialect":"quay-host","for":"Crew","except":"never"}`,
		"Content-Type", "application/json")
	if page := answer.Body.String(); answer.Code != 200 || !strings.Contains(page, "in <b>Crew</b>") ||
		!strings.Contains(page, "the harbour company") {
		t.Errorf("the sheet: %d %.200s", answer.Code, page)
	}
	if answer := r.do("POST", "/api/v1/templates/harbour/block", `{"dialect":"quay-host"}`, "Content-Type",
		"application/json"); !strings.Contains(answer.Body.String(), "[[Name]]") {
		t.Errorf("the block: %s", answer.Body)
	}
	r.want(204, "DELETE", "/api/v1/dialects/quay-host/document", "", nil)
	r.want(404, "DELETE", "/api/v1/dialects/quay-host/document", "", nil)
	r.want(422, "POST", "/api/v1/templates/harbour/block", `{"dialect":"quay-host"}`, nil)
}

// A dated piece that ends soon is reminded of, with the ways that go on showing it.
func TestEndingsAreRemindedOf(t *testing.T) {
	r, _ := released(t)
	var endings []releases.Ending
	r.out("Winter", "")
	r.want(200, "GET", "/api/v1/releases/endings", "", &endings)
	if len(endings) != 0 {
		t.Errorf("nothing ends soon: %+v", endings)
	}
	settings := `title: Harbour\nvariants: [new, reply]\nfields: [callSign]\npictures:\n  address: ` +
		`https://pictures.brackwater.example/harbour/\n  files:\n    logo: {file: logo.png}\n` +
		`    banner: {file: banner.png}\nslots:\n  banner: {until: 2026-12-01}\n`
	r.want(200, "PUT", "/api/v1/templates/harbour", `{"settings":"`+settings+`","base":1,"note":"x"}`, nil)
	r.out("Spring", "")
	r.want(200, "GET", "/api/v1/releases/endings", "", &endings)
	if len(endings) != 1 || endings[0].Until != "2026-12-01" || endings[0].Days != 9 || endings[0].Release != 2 ||
		len(endings[0].Stays) != 3 || len(endings[0].Goes) != 1 {
		t.Errorf("%+v", endings)
	}
}
