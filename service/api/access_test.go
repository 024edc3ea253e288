package api_test

import (
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"missivum/service/access"
	"missivum/service/api"
)

const goodPassword = "quay lantern tide bell"

// accountsRig is a rig with one account for each role, and a session and a key of its own for each.
type accountsRig struct {
	*rig
	cookies map[access.Role]string
	own     map[access.Role]string  // keys of the scope api:write
	keys    map[access.Scope]string // of programs
}

// signIn signs in and gives the cookie.
func (r *rig) signIn(name, password, code string) (cookie string, answer *httptest.ResponseRecorder) {
	in, _ := json.Marshal(map[string]string{"name": name, "password": password, "code": code})
	answer = r.do("POST", "/api/v1/sign-in", string(in))
	for _, c := range answer.Result().Cookies() {
		cookie = c.Name + "=" + c.Value
	}
	return cookie, answer
}

// account makes an account by an administrator, whose first has no cookie, and chooses its password.
func (r *rig) account(admin, name string, roles ...access.Role) {
	r.t.Helper()
	in, _ := json.Marshal(map[string]any{"name": name, "title": "T " + name, "roles": roles})
	answer := r.do("POST", "/api/v1/accounts", string(in), "Cookie", admin)
	var link api.AccountLink
	if err := json.Unmarshal(answer.Body.Bytes(), &link); err != nil || answer.Code != 201 {
		r.t.Fatalf("%s: %d %s", name, answer.Code, answer.Body)
	}
	_, secret, _ := strings.Cut(link.Link, "#link=")
	in, _ = json.Marshal(map[string]string{"secret": secret, "password": goodPassword})
	if answer := r.do("POST", "/api/v1/link/password", string(in)); answer.Code != 200 {
		r.t.Fatalf("%s: %d %s", name, answer.Code, answer.Body)
	}
}

// key makes a key with a session and gives its secret.
func (r *rig) key(cookie, path, body string) string {
	r.t.Helper()
	var k api.Key
	answer := r.do("POST", path, body, "Cookie", cookie)
	if err := json.Unmarshal(answer.Body.Bytes(), &k); err != nil || answer.Code != 201 || k.Secret == "" {
		r.t.Fatalf("key %s: %d %s", body, answer.Code, answer.Body)
	}
	return k.Secret
}

func withAccounts(t *testing.T) *accountsRig {
	t.Helper()
	r := &accountsRig{rig: newRig(t), cookies: map[access.Role]string{}, own: map[access.Role]string{}, keys: map[access.Scope]string{}}
	admin := ""
	for _, role := range []access.Role{access.Administrator, access.Viewer, access.Author, access.Approver} {
		name := string(role) + "@brackwater.example"
		r.account(admin, name, role)
		cookie, answer := r.signIn(name, goodPassword, "")
		if answer.Code != 200 || cookie == "" {
			t.Fatalf("%s: %d %s", name, answer.Code, answer.Body)
		}
		if admin == "" {
			admin = cookie
		}
		r.cookies[role] = cookie
		r.own[role] = r.key(cookie, "/api/v1/account/keys", fmt.Sprintf(`{"name":"own-%s","scopes":["api:write"]}`, role))
	}
	for i, s := range access.Scopes() {
		source := ""
		if s == access.Directory {
			source = "identity"
		}
		r.keys[s] = r.key(admin, "/api/v1/keys", fmt.Sprintf(`{"name":"program-%d","scopes":[%q],"source":%q}`, i, s, source))
	}
	return r
}

// TestEveryRouteHasAPermission: no route is without an entry in the table, and no entry without a route.
func TestEveryRouteHasAPermission(t *testing.T) {
	r := newRig(t)
	served := map[string]bool{}
	for _, route := range api.AllRoutes(r.handler) {
		served[route[0]+" "+route[1]] = true
		if _, ok := api.Needs(route[0], route[1]); !ok {
			t.Errorf("%s %s has no permission", route[0], route[1])
		}
	}
	for _, n := range api.NeedsTable() {
		if !served[n.Method+" "+n.Path] {
			t.Errorf("the table has %s %s, which is no route", n.Method, n.Path)
		}
		if n.Permission != access.Open && access.GrantOf(n.Permission).Allows == "" {
			t.Errorf("%s %s needs %s, which nobody has", n.Method, n.Path, n.Permission)
		}
	}
	if len(served) < 100 {
		t.Errorf("%d routes", len(served))
	}
}

// matrix is who may do what, written by hand: v viewer, a author, p approver, m administrator; r api:read, w api:write, d
// directory, k desk, g gateway, f metrics; W a key of the scope api:write with an account of the role behind it that has the
// permission.
var matrix = map[access.Permission]string{
	access.Own: "vapm ", access.Self: "vapm rw", access.Trust: "vapm rwkg", access.View: "vapm rw", access.Templates: "a w",
	access.Pictures: "a w", access.Clients: "am w",
	access.Packages: "am w", access.Releases: "am w", access.Approve: "p ", access.Send: "pm w", access.People: "m w",
	access.MailRules: "m w", access.Desks: "m w", access.Settings: "m w", access.Accounts: "m ", access.Keys: "m ", access.Record: "pm ",
	access.Figures: "m f", access.AsDirectory: " d", access.AsDesk: " k", access.AsGateway: "m g", access.AsAddOn: " ",
}

// consoleOnly are the routes for which a key is never enough.
var consoleOnly = []string{"PUT /api/v1/account/password", "POST /api/v1/account/factor", "PUT /api/v1/account/factor",
	"DELETE /api/v1/account/factor", "POST /api/v1/account/keys"}

// TestTheMatrix asks every route as everybody, and as nobody.
func TestTheMatrix(t *testing.T) {
	r := withAccounts(t)
	letters := map[string]string{"viewer": "v", "author": "a", "approver": "p", "administrator": "m",
		"api:read": "r", "api:write": "w", "directory": "d", "desk": "k", "gateway": "g", "metrics": "f"}
	asked := 0
	for _, n := range api.NeedsTable() {
		if n.Permission == access.Open || n.Method+n.Path == "DELETE/api/v1/session" {
			continue
		}
		want, known := matrix[n.Permission]
		if !known {
			t.Errorf("%s is not in the matrix", n.Permission)
			continue
		}
		roles, scopes, _ := strings.Cut(want, " ")
		path := strings.NewReplacer(":name", "none", ":id", "999", ":mail", "none@brackwater.example", ":file", "none", "*file", "none",
			":number", "9", ":digest", "none", ":template", "none").Replace(n.Path)
		ask := func(who string, may bool, headers ...string) {
			asked++
			code := r.do(n.Method, path, "{}", headers...).Code
			refused := code == 401 || code == 403
			if who == "nobody" && code != 401 || refused == may {
				t.Errorf("%s %s as %s: %d, allowed: %v", n.Method, n.Path, who, code, may)
			}
		}
		ask("nobody", false)
		ask("a wrong key", false, "Authorization", "Bearer missivum-none")
		ask("a wrong session", false, "Cookie", "missivum-session=none")
		atConsole := slices.Contains(consoleOnly, n.Method+" "+n.Path)
		for role, cookie := range r.cookies {
			may := strings.Contains(roles, letters[string(role)])
			ask(string(role), may, "Cookie", cookie)
			own := may && !atConsole && (strings.Contains(scopes, "w") || access.GrantOf(n.Permission).People)
			ask("a key of the "+string(role), own, "Authorization", "Bearer "+r.own[role])
		}
		for scope, key := range r.keys {
			ask("a program with "+string(scope), strings.Contains(scopes, letters[string(scope)]) && !atConsole, "Authorization", "Bearer "+key)
		}
	}
	t.Logf("%d requests", asked)
	if asked < 2000 {
		t.Errorf("%d requests are not all", asked)
	}
}

// TestNothingButTheSignInPage: without signing in, pages lead to the sign-in page, and nothing of the interface is answered.
func TestNothingButTheSignInPage(t *testing.T) {
	r := withAccounts(t)
	for path, want := range map[string]int{"/": 303, "/templates/harbour?x=1": 303, "/sign-in": 200, "/assets/a.js": 200,
		"/api/v1/templates": 401,
		"/api/v1/nothing":   404, "/healthz": 200, "/metrics": 401} {
		answer := r.do("GET", path, "")
		if answer.Code != want {
			t.Errorf("%s: %d, want %d", path, answer.Code, want)
		}
		if want == 303 && !strings.HasPrefix(answer.Header().Get("Location"), "/sign-in?to=%2F") {
			t.Errorf("%s leads to %s", path, answer.Header().Get("Location"))
		}
	}
	if answer := r.do("GET", "/templates", "", "Cookie", r.cookies[access.Viewer]); answer.Code != 200 {
		t.Errorf("signed in: %d", answer.Code)
	}
}

// TestFirstStart: on an address that others reach nothing is served until the first administrator was made.
func TestFirstStart(t *testing.T) {
	var a *api.API
	r := newRigWith(t, func(made *api.API) { a, made.Loopback = made, false })
	secret := a.Accounts.OpenFirstStart()
	for path, want := range map[string]int{"/": 303, "/sign-in": 200, "/api/v1/templates": 503, "/api/v1/openapi.json": 503,
		"/p/x.png": 503, "/healthz": 200} {
		if answer := r.do("GET", path, ""); answer.Code != want {
			t.Errorf("before: %s: %d, want %d", path, answer.Code, want)
		}
	}
	start := func(secret, name, password string) *httptest.ResponseRecorder {
		in, _ := json.Marshal(map[string]string{"secret": secret, "name": name, "password": password})
		return r.do("POST", "/api/v1/first-start", string(in))
	}
	if answer := start("wrong", "ines@brackwater.example", goodPassword); answer.Code != 410 {
		t.Errorf("with a wrong secret: %d", answer.Code)
	}
	if answer := start(secret, "ines@brackwater.example", "password1234"); answer.Code != 422 ||
		!strings.Contains(answer.Body.String(), `"password"`) {
		t.Errorf("with a common password: %d %s", answer.Code, answer.Body)
	}
	answer := start(secret, "ines@brackwater.example", goodPassword)
	if answer.Code != 200 || len(answer.Result().Cookies()) != 1 {
		t.Fatalf("%d %s", answer.Code, answer.Body)
	}
	cookie := answer.Result().Cookies()[0]
	if !cookie.HttpOnly || cookie.SameSite == 0 {
		t.Errorf("the cookie is %+v", cookie)
	}
	if again := start(secret, "other@brackwater.example", goodPassword); again.Code != 410 {
		t.Errorf("used twice: %d", again.Code)
	}
	var s api.Session
	seen := r.do("GET", "/api/v1/session", "", "Cookie", cookie.Name+"="+cookie.Value)
	if err := json.Unmarshal(seen.Body.Bytes(), &s); err != nil || s.Name != "ines@brackwater.example" || len(s.Roles) != 4 {
		t.Errorf("%v %+v", err, s)
	}
}

// TestWhatIsTakenAwayIsGoneAtOnce: roles, sessions and keys.
func TestWhatIsTakenAwayIsGoneAtOnce(t *testing.T) {
	r := withAccounts(t)
	admin := r.cookies[access.Administrator]
	want := func(what string, code int, headers ...string) {
		t.Helper()
		if got := r.do("PUT", "/api/v1/templates/x", "{}", headers...).Code; (got == 401 || got == 403) != (code >= 400) ||
			code >= 400 && got != code {
			t.Errorf("%s: %d, want %d", what, got, code)
		}
	}
	author := []string{"Cookie", r.cookies[access.Author]}
	own := []string{"Authorization", "Bearer " + r.own[access.Author]}
	want("the author", 0, author...)
	want("the author's key", 0, own...)
	r.must(200, "PATCH", "/api/v1/accounts/author@brackwater.example", `{"roles":["viewer"]}`, admin)
	want("without the role", 403, author...)
	want("the key without the role", 403, own...)
	r.must(200, "PATCH", "/api/v1/accounts/author@brackwater.example", `{"roles":["author"]}`, admin)
	want("with it again", 0, author...)
	r.must(204, "POST", "/api/v1/accounts/author@brackwater.example/sign-out", "", admin)
	want("signed out everywhere", 401, author...)
	want("the key after that", 0, own...)
	r.must(204, "DELETE", "/api/v1/accounts/author@brackwater.example", "", admin)
	want("the key of a removed account", 401, own...)
	program := []string{"Authorization", "Bearer " + r.keys[access.APIWrite]}
	want("a program", 0, program...)
	r.must(204, "DELETE", "/api/v1/keys/program-1", "", admin)
	want("a removed key", 401, program...)
	r.must(409, "PATCH", "/api/v1/accounts/administrator@brackwater.example", `{"roles":["viewer"]}`, admin)
	r.must(409, "DELETE", "/api/v1/accounts/administrator@brackwater.example", "", admin)
	viewer := r.cookies[access.Viewer]
	r.must(204, "DELETE", "/api/v1/session", "", viewer)
	r.must(401, "GET", "/api/v1/session", "", viewer)
}

// must sends a request with a session and wants a status.
func (r *rig) must(status int, method, path, body, cookie string) *httptest.ResponseRecorder {
	r.t.Helper()
	answer := r.do(method, path, body, "Cookie", cookie)
	if answer.Code != status {
		r.t.Errorf("%s %s: %d, want %d: %s", method, path, answer.Code, status, answer.Body)
	}
	return answer
}

// TestSigningInTellsNothing: a name that is not there and a password that is wrong get the same answer, and after some
// failures have to wait, each for itself.
func TestSigningInTellsNothing(t *testing.T) {
	r := withAccounts(t)
	said := map[string]bool{}
	for _, name := range []string{"viewer@brackwater.example", "nobody@brackwater.example"} {
		for try := range 7 {
			_, answer := r.signIn(name, "wrong wrong wrong", "")
			want := 401
			if try >= 5 {
				want = 429
			}
			if answer.Code != want {
				t.Errorf("%s, try %d: %d, want %d", name, try, answer.Code, want)
			}
			var p api.Problem
			if err := json.Unmarshal(answer.Body.Bytes(), &p); err != nil {
				t.Fatal(err)
			}
			said[fmt.Sprint(answer.Code, p.Detail, p.Field)] = true
		}
	}
	if len(said) != 2 {
		t.Errorf("the two can be distinguished: %v", said)
	}
	if _, answer := r.signIn("viewer@brackwater.example", goodPassword, ""); answer.Code != 429 {
		t.Errorf("the right password while waiting: %d", answer.Code)
	}
	if _, answer := r.signIn("AUTHOR@brackwater.example", goodPassword, ""); answer.Code != 200 {
		t.Errorf("another account, in capitals: %d", answer.Code)
	}
}

// TestTheRecordSaysWho: each change has an entry with the account and from where it came; the chain is whole.
func TestTheRecordSaysWho(t *testing.T) {
	r := withAccounts(t)
	author, admin := r.cookies[access.Author], r.cookies[access.Administrator]
	r.must(201, "PUT", "/api/v1/templates/crew", `{"source":"<p>{{ cn }}</p>","note":"first"}`, author)
	r.must(200, "PUT", "/api/v1/templates/crew", `{"source":"<p>{{ cn }}!</p>","note":"second","base":1}`, author)
	r.must(403, "GET", "/api/v1/record", "", author)
	var list []api.Entry
	answer := r.must(200, "GET", "/api/v1/record?object=template", "", admin)
	if err := json.Unmarshal(answer.Body.Bytes(), &list); err != nil || len(list) != 2 {
		t.Fatalf("%v: %s", err, answer.Body)
	}
	second, first := list[0], list[1]
	if first.By != (access.Principal{Kind: access.Account, Name: "author@brackwater.example"}) || first.Where != "192.0.2.1" ||
		first.Before != "" || len(first.After) != 64 || second.Before != first.After || second.After == first.After {
		t.Errorf("%+v\n%+v", first, second)
	}
	for query, want := range map[string]int{"who=author&object=template": 2, "who=nobody": 0, "action=signed%20in": 4, "since=2026-11-24": 0,
		"until=2026-11-22": 0, "name=crew&before=" + fmt.Sprint(second.Number): 1} {
		answer := r.must(200, "GET", "/api/v1/record?"+query, "", admin)
		if err := json.Unmarshal(answer.Body.Bytes(), &list); err != nil || len(list) != want {
			t.Errorf("%s: %d entries, want %d, %v", query, len(list), want, err)
		}
	}
	var c api.RecordCheck
	if err := json.Unmarshal(r.must(200, "GET", "/api/v1/record/check", "", admin).Body.Bytes(), &c); err != nil ||
		!c.Whole || c.Last < second.Number {
		t.Errorf("%v %+v", err, c)
	}
	csv := r.must(200, "GET", "/api/v1/record?form=csv", "", admin).Body.String()
	if lines := strings.Count(csv, "\n"); int64(lines) != c.Entries+1 || !strings.Contains(csv, "192.0.2.1,saved,template,crew") {
		t.Errorf("%d lines for %d entries:\n%s", lines, c.Entries, csv)
	}
}

// TestTheOrganisationReachesTemplatesAndReleases: what it says is in every template that says nothing else, and stays in a
// release as it was.
func TestTheOrganisationReachesTemplatesAndReleases(t *testing.T) {
	r := loaded(t)
	put := func(company string) {
		r.want(200, "PUT", "/api/v1/organisation", fmt.Sprintf(`{"constants":{"company":%q},"texts":{"bye":{"en":"Bye","de":"Tschüss"}},`+
			`"language":"en","country":"GB","domains":["@Brackwater.example"]}`, company), nil)
	}
	put("First")
	var o struct{ Domains []string }
	r.want(200, "GET", "/api/v1/organisation", "", &o)
	if len(o.Domains) != 1 || o.Domains[0] != "brackwater.example" {
		t.Errorf("domains: %v", o.Domains)
	}
	r.want(201, "PUT", "/api/v1/templates/crew", `{"source":"<p>{{ cn }} of {{ org.company }}. {{ text.bye }}</p>"}`, nil)
	look := func() string {
		return r.want(200, "POST", "/api/v1/templates/crew/fill", `{"person":"maren.lind@brackwater.example","form":"text"}`, nil).Body.String()
	}
	if text := look(); !strings.Contains(text, "Maren Lind of First. Bye") {
		t.Errorf("filled: %s", text)
	}
	var report struct {
		Values []struct{ Name, Value, From string }
	}
	r.want(200, "POST", "/api/v1/templates/crew/check", `{}`, &report)
	if len(report.Values) != 4 || report.Values[0].Name != "org.company" || report.Values[0].From != "organisation" {
		t.Errorf("values: %+v", report.Values)
	}
	put("Second")
	if text := look(); !strings.Contains(text, "of Second.") {
		t.Errorf("after a change: %s", text)
	}
	r.want(200, "PUT", "/api/v1/templates/crew", `{"settings":"organisation: {company: Own}\n","base":1}`, nil)
	if text := look(); !strings.Contains(text, "of Own.") {
		t.Errorf("the template's own: %s", text)
	}
	r.want(422, "PUT", "/api/v1/organisation", `{"constants":{},"texts":{},"language":"","country":"","domains":["no domain"]}`, nil)
}
