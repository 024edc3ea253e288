package api_test

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/mail"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/kit"
	"missivum/core/proof"
	"missivum/service/access"
	"missivum/service/api"
	"missivum/service/desks"
	"missivum/service/personal"
	"missivum/service/store"
)

// visitor is somebody who opens personal links.
type visitor struct {
	r      *rig
	cookie string // as the browser keeps it; blank before
}

// open opens a link, and gives the status.
func (v *visitor) open(token string) int {
	v.r.t.Helper()
	var headers []string
	if v.cookie != "" {
		headers = []string{"Cookie", v.cookie}
	}
	answer := v.r.do("POST", "/api/v1/personal/open", fmt.Sprintf(`{"token":%q}`, token), headers...)
	for _, c := range answer.Result().Cookies() {
		if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Path != "/api/v1/personal" {
			v.r.t.Errorf("the cookie is %v", c)
		}
		v.cookie = c.Name + "=" + c.Value
	}
	return answer.Code
}

// want sends a request, wants a status and reads the answer.
func (v *visitor) want(status int, method, path, body string, into any) string {
	v.r.t.Helper()
	answer := v.r.do(method, "/api/v1/personal"+path, body, "Cookie", v.cookie)
	if answer.Code != status {
		v.r.t.Fatalf("%s %s: %d, want %d: %s", method, path, answer.Code, status, answer.Body)
	}
	if into != nil {
		if err := json.Unmarshal(answer.Body.Bytes(), into); err != nil {
			v.r.t.Fatal(err)
		}
	}
	return answer.Body.String()
}

// token makes a link for somebody and gives its end.
func (r *rig) token(person string) (token string, link api.PersonalLink) {
	r.t.Helper()
	r.want(201, "POST", "/api/v1/personal/links", fmt.Sprintf(`{"person":%q}`, person), &link)
	before, token, ok := strings.Cut(link.Address, "#")
	if !ok || before != "https://signatures.brackwater.example/your-signature" || len(token) < 60 {
		r.t.Fatalf("the link is %s", link.Address)
	}
	return token, link
}

func TestLinksOpenOnePageEach(t *testing.T) {
	r, a := released(t)
	r.out("Winter", "")
	token, _ := r.token(crew)
	mine := &visitor{r: r}
	if code := mine.open(token); code != 200 {
		t.Fatalf("opening: %d", code)
	}
	var o personal.Overview
	mine.want(200, "GET", "", "", &o)
	if o.Person != crew || o.Name != "Maren Lind" || !o.Changes || len(o.Uses) < 2 || !o.Uses[0].Signature || len(o.Programs) < 8 ||
		o.Release != "1" {
		t.Errorf("%+v", o)
	}
	first := mine.cookie
	if code := mine.open(token); code != 200 || mine.cookie != first {
		t.Errorf("the same device again: %d", code)
	}
	// another device may look and copy, and change nothing
	other := &visitor{r: r}
	if code := other.open(token); code != 200 || other.cookie == first {
		t.Fatalf("another device: %d", code)
	}
	other.want(200, "GET", "", "", &o)
	if o.Changes {
		t.Error("another device may change things")
	}
	other.want(200, "POST", "/signature", `{"client":"capped-webmail","situation":"new"}`, nil)
	for _, c := range [][3]string{{"PUT", "/choice", `{"client":"capped-webmail","language":"de"}`}, {"GET", "/details", ""},
		{"PUT", "/details", `{"values":{"title":"Captain"}}`}, {"POST", "/details/wrong", `{"field":"title","note":"x"}`},
		{"POST", "/check", `{"client":"capped-webmail","html":"<p>x</p>"}`},
		{"POST", "/signature", `{"client":"capped-webmail","situation":"new","draft":{"title":"Captain"}}`}} {
		if said := other.want(403, c[0], c[1], c[2], nil); !strings.Contains(said, "first opened on another device") {
			t.Errorf("%s %s: %s", c[0], c[1], said)
		}
	}
	// nothing but the page is reached
	for _, path := range []string{"/api/v1/people", "/api/v1/personal/links", "/api/v1/personal/settings", "/api/v1/session",
		"/api/v1/releases"} {
		if answer := r.do("GET", path, "", "Cookie", mine.cookie, "X-Forwarded-For", "192.0.2.1"); answer.Code == 200 {
			t.Errorf("%s is answered by a link's cookie", path)
		}
	}
	// guesses: every letter changed, cut, made longer, of another service, another's number
	for i := range len(token) {
		changed := []byte(token)
		if changed[i]++; changed[i] == 'Z'+1 || changed[i] == 'z'+1 || changed[i] == '9'+1 {
			changed[i] = 'A'
		}
		guess := &visitor{r: r}
		if code := guess.open(string(changed)); code == 200 && i < len(token)-1 || guess.cookie != "" && i < len(token)-1 {
			t.Fatalf("letter %d changed: %d", i, code)
		}
	}
	if code := (&visitor{r: r}).open("x"); code != 429 {
		t.Errorf("after so many guesses from one address: %d", code)
	}
	hours := 0
	start := a.Now()
	a.Now = func() time.Time { hours++; return start.Add(time.Duration(hours) * time.Minute) } // time goes by between tries
	for _, guess := range []string{"", "x", token[:40], token + "A", token + token, strings.Repeat("A", len(token)), strings.Repeat("%", 80)} {
		nobody := &visitor{r: r}
		if code := nobody.open(guess); code != 401 || nobody.cookie != "" {
			t.Errorf("%q: %d", guess, code)
		}
	}
	for _, kept := range []string{"", "x", "..", "AAAAAAAAAAE.own." + strings.Repeat("A", 22), "AAAAAAAAAAE.guest." + strings.Repeat("A", 22),
		strings.Replace(first, ".own.", ".guest.", 1)[len("missivum-personal="):], strings.Repeat("A", 100_000)} {
		if answer := r.do("GET", "/api/v1/personal", "", "Cookie", "missivum-personal="+kept); answer.Code == 200 {
			t.Errorf("the cookie %.40q opens the page", kept)
		}
	}
	// another's link gives another's page
	theirs := &visitor{r: r}
	theirToken, theirLink := r.token(ashore)
	theirs.open(theirToken)
	if theirs.want(200, "GET", "", "", &o); o.Person != ashore {
		t.Errorf("another's link gives %s", o.Person)
	}
	// a new link ends the one before, and what devices keep of it; revoking and time end links too
	newer, _ := r.token(crew)
	mine.want(404, "GET", "", "", nil)
	if code := (&visitor{r: r}).open(token); code != 401 {
		t.Errorf("a link that was replaced: %d", code)
	}
	mine.cookie = ""
	if code := mine.open(newer); code != 200 {
		t.Errorf("the newer one: %d", code)
	}
	r.want(204, "DELETE", fmt.Sprintf("/api/v1/personal/links/%d", theirLink.ID), "", nil)
	theirs.want(404, "GET", "", "", nil)
	now := a.Now()
	a.Now = func() time.Time { return now.Add(31 * 24 * time.Hour) }
	mine.want(404, "GET", "", "", nil)
	if code := (&visitor{r: r}).open(newer); code != 401 {
		t.Errorf("after its end: %d", code)
	}
}

// Whoever has left reaches nothing any more.
func TestALinkOfSomebodyWhoLeft(t *testing.T) {
	r, _ := released(t)
	r.out("Winter", "")
	token, _ := r.token(crew)
	v := &visitor{r: r}
	v.open(token)
	v.want(200, "GET", "", "", nil)
	var plan api.ImportPlan
	r.want(200, "POST", "/api/v1/people/import?apply=true&replace=true", "mail,cn\nbo@brackwater.example,Bo\n", &plan)
	r.want(200, "POST", fmt.Sprintf("/api/v1/runs/%d/apply?confirm=true", plan.Run.ID), "", nil)
	v.want(404, "GET", "", "", nil)
	if code := (&visitor{r: r}).open(token); code != 401 {
		t.Errorf("opening it: %d", code)
	}
	r.want(404, "POST", "/api/v1/personal/links", fmt.Sprintf(`{"person":%q}`, crew), nil)
}

func TestCopyingAndChecking(t *testing.T) {
	r, a := released(t)
	r.out("Winter", "")
	token, _ := r.token(crew)
	v := &visitor{r: r}
	v.open(token)
	v.want(200, "PUT", "/choice", `{"client":"capped-webmail","language":"sv"}`, nil)
	for _, wrong := range []string{`{"client":"none","language":"sv"}`, `{"client":"","language":"xx"}`} {
		if code := r.do("PUT", "/api/v1/personal/choice", wrong, "Cookie", v.cookie).Code; code != 404 && code != 422 {
			t.Errorf("%s: %d", wrong, code)
		}
	}
	var s personal.Prepared
	v.want(200, "POST", "/signature", `{"client":"capped-webmail","situation":"new"}`, &s)
	if s.Limit != 10000 || len(s.Whole.Pastes) != 2 || s.Whole.Pastes[0].Engine != journey.Chromium ||
		!strings.Contains(s.Whole.HTML, "Maren Lind") ||
		!strings.Contains(s.Light, "data:image/png") || s.LightBackground != "#ffffff" ||
		client.Units(s.Shorter.HTML) >= client.Units(s.Whole.HTML) {
		t.Errorf("%+v", s)
	}
	v.want(404, "POST", "/signature", `{"client":"none","situation":"new"}`, nil)
	v.want(404, "POST", "/signature", `{"client":"capped-webmail","situation":"never"}`, nil)

	check := func(html string) (answer api.SignatureAnswer) {
		t.Helper()
		in, err := json.Marshal(api.SignatureCheck{Client: "capped-webmail", Situation: "new", HTML: html})
		if err != nil {
			t.Fatal(err)
		}
		v.want(200, "POST", "/check", string(in), &answer)
		return answer
	}
	if got := check("<div>" + s.Whole.HTML + "</div>"); got.State != proof.Right || got.Situation != "new" || len(got.Sorts) != 0 {
		t.Errorf("as it is: %+v", got)
	}
	if got := check(s.Shorter.HTML); got.State != proof.Right {
		t.Errorf("the shorter form: %+v", got)
	}
	blue := strings.ReplaceAll(s.Whole.HTML, "text-decoration: none", "text-decoration: underline")
	if got := check(blue); got.State != proof.Altered || len(got.Sorts) != 1 || got.Sorts[0].Kind != proof.LinkUnderline ||
		got.Sorts[0].Do == "" {
		t.Errorf("underlined: %+v", got)
	}
	v.want(422, "POST", "/check", `{"client":"capped-webmail","html":"  "}`, nil)
	v.want(422, "POST", "/check", `{"client":"capped-webmail","message":"%%"}`, nil)
	v.want(413, "POST", "/check", `{"client":"capped-webmail","text":"`+strings.Repeat("x", proof.MaxShown+1)+`"}`, nil)
	message := "From: " + crew + "\r\nSubject: Hello\r\nMIME-Version: 1.0\r\nContent-Type: text/html; charset=utf-8\r\n\r\n" +
		"<p>Good morning</p>" + s.Whole.HTML + "\r\n"
	var answer api.SignatureAnswer
	v.want(200, "POST", "/check", `{"client":"capped-webmail","message":"`+base64.StdEncoding.EncodeToString([]byte(message))+`"}`, &answer)
	if answer.State != proof.Right {
		t.Errorf("a message: %+v", answer)
	}
	// the proof is kept, without a word of what was pasted, and the overview says it; a new release makes it older
	var o personal.Overview
	if v.want(200, "GET", "", "", &o); len(o.Proofs) != 1 || o.Proofs[0].State != "right" || o.Proofs[0].Way != "page" ||
		o.Client != "capped-webmail" {
		t.Errorf("%+v", o.Proofs)
	}
	r.out("Spring", "") // in which nothing is different for her
	later(a, 2*time.Second)
	if v.want(200, "GET", "", "", &o); o.Release != "2" || o.Proofs[0].State != "right" {
		t.Errorf("after a release that is the same: %s, %+v", o.Release, o.Proofs)
	}
	var m desks.Matrix
	if r.want(200, "GET", "/api/v1/desks?client=capped-webmail", "", &m); len(m.Rows) != 1 || m.Rows[0].Cells[0].Way != desks.ByPage ||
		m.Rows[0].Standing != desks.Good || m.Rows[0].Cells[0].Since.IsZero() {
		t.Errorf("all ways: %+v", m.Rows)
	}
	r.want(200, "PUT", "/api/v1/assignments", `{"lines":[{"template":"voyage"}],"situations":[]}`, nil)
	r.out("Summer", "")
	later(a, 2*time.Second)
	if v.want(200, "GET", "", "", &o); o.Release != "3" || o.Proofs[0].State != "older" {
		t.Errorf("after another template: %s, %+v", o.Release, o.Proofs)
	}
	if got := check(s.Whole.HTML); got.State != proof.Older || got.Release != "2" && got.Release != "1" {
		t.Errorf("that of before: %+v", got)
	}
	if r.want(200, "GET", "/api/v1/desks?client=capped-webmail", "", &m); m.Rows[0].Standing != desks.Older ||
		!strings.Contains(m.Rows[0].Next, "reminder") {
		t.Errorf("all ways then: %+v", m.Rows)
	}
	for query, want := range map[string][]string{"": nil, "&signed=true": {kit.ListFile, kit.SignFile, personal.TrustFile}} {
		data := v.want(200, "GET", "/files?client=wordproc-desktop"+query, "", nil)
		archive, err := zip.NewReader(strings.NewReader(data), int64(len(data)))
		if err != nil || len(archive.File) < 5 {
			t.Fatalf("the files: %v", err)
		}
		files := map[string][]byte{}
		for _, f := range archive.File {
			in, err := f.Open()
			if err == nil {
				files[f.Name], err = io.ReadAll(in)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if files["brackwater-new.htm"] == nil {
			t.Errorf("the files are not called as the release says: %v", archive.File[0].Name)
		}
		if query == "" {
			if files[kit.ListFile] != nil {
				t.Error("files for people hold the list for the program on a desk")
			}
			continue
		}
		for _, name := range want {
			if files[name] == nil {
				t.Errorf("the signed kit has no %s", name)
			}
		}
		trusted, err := kit.ReadTrusted(files[personal.TrustFile])
		if err != nil {
			t.Fatal(err)
		}
		list, err := trusted.Open(files[kit.ListFile], files[kit.SignFile])
		if err != nil || list.Person != crew || len(list.Files) == 0 {
			t.Errorf("%+v, %v", list, err)
		}
		for _, f := range list.Files {
			if err := f.Check(files[f.File]); err != nil {
				t.Errorf("%s: %v", f.File, err)
			}
		}
	}
	v.want(404, "GET", "/files?client=none", "", nil)
	v.want(422, "GET", "/files?client=append-rule", "", nil)
}

func TestDetails(t *testing.T) {
	r, _ := released(t)
	r.out("Winter", "")
	settings := `{"details":[{"field":"title","label":"Job title","choices":["Captain","Mate"],"approval":true,"longest":0,"avoid":[]},
		{"field":"mobile","label":"","choices":[],"approval":false,"longest":20,"avoid":["0900"]}],
		"clients":[],"wrong":"the harbour office","linkDays":30,"remindDays":7,"from":"","rate":60,"note":""}`
	r.want(200, "PUT", "/api/v1/personal/settings", settings, nil)
	for _, wrong := range []string{strings.Replace(settings, `"linkDays":30`, `"linkDays":0`, 1),
		strings.Replace(settings, `"title"`, `"mail"`, 1),
		strings.Replace(settings, `"mobile"`, `"title"`, 1), strings.Replace(settings, `"from":""`, `"from":"nobody"`, 1),
		strings.Replace(settings, `"clients":[]`, `"clients":["none"]`, 1)} {
		r.want(422, "PUT", "/api/v1/personal/settings", wrong, nil)
	}
	token, _ := r.token(crew)
	v := &visitor{r: r}
	v.open(token)
	var d personal.Details
	if v.want(200, "GET", "/details", "", &d); len(d.Values) != 2 || d.Wrong != "the harbour office" || len(d.Directory) < 3 {
		t.Fatalf("%+v", d)
	}
	for values, why := range map[string]string{`{"title":"Admiral"}`: "one of", `{"mobile":"0900 123"}`: "must not",
		`{"mobile":"` + strings.Repeat("1", 21) + `"}`: "characters", `{"cn":"Somebody"}`: "kept by your organisation",
		`{"mobile":"a\nb"}`: "one line"} {
		answer := r.do("PUT", "/api/v1/personal/details", `{"values":`+values+`}`, "Cookie", v.cookie)
		if answer.Code != 422 && answer.Code != 403 || !strings.Contains(answer.Body.String(), why) {
			t.Errorf("%s: %d %s", values, answer.Code, answer.Body)
		}
	}
	var s personal.Prepared
	v.want(200, "POST", "/signature", `{"client":"capped-webmail","situation":"new","draft":{"title":"Captain"}}`, &s)
	if !strings.Contains(s.Light, "Captain") {
		t.Error("a draft is not seen in the look")
	}
	v.want(200, "PUT", "/details", `{"values":{"title":"Captain","mobile":"+44 7700 900123"}}`, &d)
	if d.Values[0].Waiting != "Captain" || d.Values[1].Value != "+44 7700 900123" || d.Values[1].Waiting != "" {
		t.Errorf("%+v", d.Values)
	}
	v.want(204, "POST", "/details/wrong", `{"field":"l","note":"I moved to Port Lanvec"}`, nil)
	var requests []store.DetailRequest
	if r.want(200, "GET", "/api/v1/personal/requests", "", &requests); len(requests) != 2 || requests[0].Value != "Captain" ||
		requests[1].Kind != "wrong" {
		t.Fatalf("%+v", requests)
	}
	r.want(204, "POST", fmt.Sprintf("/api/v1/personal/requests/%d/accept", requests[0].ID), "", nil)
	r.want(409, "POST", fmt.Sprintf("/api/v1/personal/requests/%d/refuse", requests[0].ID), "", nil)
	r.want(204, "POST", fmt.Sprintf("/api/v1/personal/requests/%d/refuse", requests[1].ID), "", nil)
	if v.want(200, "GET", "/details", "", &d); d.Values[0].Value != "Captain" || d.Values[0].Waiting != "" {
		t.Errorf("after it was accepted: %+v", d.Values)
	}
	r.want(200, "PUT", "/api/v1/personal/settings", strings.Replace(settings, "the harbour office", "", 1), nil)
	v.want(403, "POST", "/details/wrong", `{"field":"l","note":"x"}`, nil)
}

func TestInvitations(t *testing.T) {
	r, a := released(t)
	ask := func(in string) (out personal.Invited) {
		t.Helper()
		r.want(200, "POST", "/api/v1/personal/invitations/who", in, &out)
		return out
	}
	if out := ask(`{"kind":"invitation"}`); len(out.People) != 0 || out.Without != 80 {
		t.Errorf("before there is a release: %+v", out)
	}
	r.out("Winter", `{"audience":"crew"}`)
	reached := ask(`{"kind":"invitation"}`)
	if len(reached.People) == 0 || len(reached.People)+reached.Without != 80 {
		t.Fatalf("%+v", reached)
	}
	r.want(422, "POST", "/api/v1/personal/invitations/who", `{"kind":"shout"}`, nil)
	r.want(404, "POST", "/api/v1/personal/invitations/who", `{"kind":"invitation","audience":"none"}`, nil)
	r.want(404, "POST", "/api/v1/personal/invitations/who", `{"kind":"invitation","people":["nobody@brackwater.example"]}`, nil)
	r.want(422, "POST", "/api/v1/personal/invitations", `{"kind":"invitation"}`, nil) // no server

	archive := r.want(200, "POST", "/api/v1/personal/invitations/drafts", `{"kind":"invitation","people":["`+crew+`"]}`, nil).Body.Bytes()
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil || len(z.File) != 1 {
		t.Fatalf("%v, %d files", err, len(z.File))
	}
	f, err := z.File[0].Open()
	if err != nil {
		t.Fatal(err)
	}
	m, err := mail.ReadMessage(f)
	if err != nil {
		t.Fatal(err)
	}
	body, err := io.ReadAll(m.Body)
	if err != nil || m.Header.Get("X-Unsent") != "1" || m.Header.Get("Auto-Submitted") != "auto-generated" {
		t.Errorf("%v %v", m.Header, err)
	}
	text := strings.ReplaceAll(string(body), "=\r\n", "")
	link := regexp.MustCompile(`your-signature#(\S+)`).FindStringSubmatch(text)
	if link == nil || !strings.Contains(text, "Maren Lind") {
		t.Fatalf("%s", text)
	}
	v := &visitor{r: r}
	if code := v.open(link[1]); code != 200 {
		t.Errorf("the link of the draft: %d", code)
	}
	// not twice in the stated time, and not once there is proof
	if out := ask(`{"kind":"reminder"}`); len(out.People) != len(reached.People)-1 || out.Recent != 1 {
		t.Errorf("right after it: %+v", out)
	}
	now := a.Now()
	a.Now = func() time.Time { return now.Add(8 * 24 * time.Hour) }
	if out := ask(`{"kind":"reminder"}`); len(out.People) != len(reached.People) {
		t.Errorf("eight days later: %+v", out)
	}
	var s personal.Prepared
	v.want(200, "POST", "/signature", `{"client":"source-webmail","situation":"new"}`, &s)
	in, err := json.Marshal(api.SignatureCheck{Client: "source-webmail", Situation: "new", HTML: s.Whole.HTML})
	if err != nil {
		t.Fatal(err)
	}
	v.want(200, "POST", "/check", string(in), nil)
	if out := ask(`{"kind":"reminder"}`); out.Proved != 1 || len(out.People) != len(reached.People)-1 {
		t.Errorf("with proof: %+v", out)
	}
}

// Whoever signed in with an account named by the mail address has the page without a link.
func TestThePageBySignIn(t *testing.T) {
	r := withAccounts(t)
	answer := r.do("GET", "/api/v1/personal", "", "Cookie", r.cookies[access.Viewer])
	if answer.Code != 404 || !strings.Contains(answer.Body.String(), "directory has nobody") {
		t.Errorf("an account without a person: %d %s", answer.Code, answer.Body)
	}
}

// postOffice takes messages by SMTP, and refuses those for some.
type postOffice struct {
	mu      sync.Mutex
	refuses string
	taken   map[string]string // by recipient
	to      string
}

func (p *postOffice) NewSession(*smtp.Conn) (smtp.Session, error) { return p, nil }
func (p *postOffice) Reset()                                      {}
func (p *postOffice) Logout() error                               { return nil }
func (p *postOffice) Mail(string, *smtp.MailOptions) error        { return nil }
func (p *postOffice) Rcpt(to string, _ *smtp.RcptOptions) error {
	if to == p.refuses {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody here"}
	}
	p.to = to
	return nil
}
func (p *postOffice) Data(in io.Reader) error {
	data, err := io.ReadAll(in)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.taken[p.to] = string(data)
	return err
}

func TestInvitationsAreSent(t *testing.T) {
	office := &postOffice{refuses: ashore, taken: map[string]string{}}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := smtp.NewServer(office)
	go server.Serve(listener) // ends when it is closed
	t.Cleanup(func() { server.Close() })
	r, a := released(t)
	a.Personal.Mail = personal.Mail{Server: listener.Addr().String(), Encrypt: "none"}
	r.out("Winter", "")
	settings := `{"details":[],"clients":[],"wrong":"","linkDays":30,"remindDays":7,"from":"%s","rate":600,"note":"Ask the harbour office."}`
	r.want(422, "POST", "/api/v1/personal/invitations", `{"kind":"invitation"}`, nil) // nobody sends it
	r.want(200, "PUT", "/api/v1/personal/settings", fmt.Sprintf(settings, "Signatures <signatures@brackwater.example>"), nil)
	var begun struct{ Job struct{ ID string } }
	in := `{"kind":"invitation","people":["` + crew + `","` + ashore + `","salma.albahri@brackwater.example"]}`
	r.want(202, "POST", "/api/v1/personal/invitations", in, &begun)
	if err := a.Jobs.Wait(t.Context(), begun.Job.ID); err != nil {
		t.Fatal(err)
	}
	var job struct {
		State  string
		Result personal.SendResult
	}
	r.want(200, "GET", "/api/v1/jobs/"+begun.Job.ID, "", &job)
	if job.State != "ready" || job.Result.Sent != 2 || len(job.Result.Refused) != 1 ||
		!strings.Contains(job.Result.Refused[0], "nobody here") {
		t.Errorf("%+v", job)
	}
	office.mu.Lock()
	defer office.mu.Unlock()
	if m := office.taken[crew]; !strings.Contains(m, "From: \"Signatures\" <signatures@brackwater.example>") ||
		!strings.Contains(m, "harbour office") ||
		strings.Contains(m, "X-Unsent") {
		t.Errorf("%s", m)
	}
	r.want(422, "POST", "/api/v1/personal/invitations", in, nil) // all were written to
}
