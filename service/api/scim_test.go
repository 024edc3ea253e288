package api_test

import (
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"missivum/service/api"
)

// scimRig speaks SCIM with a key.
type scimRig struct {
	*rig
	key string
}

// pushing makes a service with a key for SCIM.
func pushing(t *testing.T) *scimRig {
	t.Helper()
	r := newRig(t)
	var key api.Key
	r.want(201, "POST", "/api/v1/keys", `{"name":"identity","scopes":["directory"],"source":"identity"}`, &key)
	return &scimRig{r, key.Secret}
}

// ask sends a request, with headers as pairs, and holds the status against what is expected.
func (r *scimRig) ask(status int, method, path, body string, headers ...string) (map[string]any, *httptest.ResponseRecorder) {
	r.t.Helper()
	request := httptest.NewRequest(method, "http://127.0.0.1"+path, strings.NewReader(body))
	request.Header.Set("Authorization", "Bearer "+r.key)
	request.Header.Set("Content-Type", "application/scim+json")
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	answer := httptest.NewRecorder()
	r.handler.ServeHTTP(answer, request)
	if answer.Code != status {
		r.t.Fatalf("%s %s: %d, want %d: %s", method, path, answer.Code, status, answer.Body)
	}
	var out map[string]any
	if answer.Body.Len() > 0 {
		if kind := answer.Header().Get("Content-Type"); !strings.HasPrefix(kind, "application/scim+json") {
			r.t.Errorf("%s %s: %s", method, path, kind)
		}
		if err := json.Unmarshal(answer.Body.Bytes(), &out); err != nil {
			r.t.Fatalf("%s %s: %v: %s", method, path, err, answer.Body)
		}
	}
	if status >= 400 && (out["status"] != fmt.Sprint(status) || out["detail"] == "" ||
		fmt.Sprint(out["schemas"]) != "[urn:ietf:params:scim:api:messages:2.0:Error]") {
		r.t.Errorf("%s %s: the error is %v", method, path, out)
	}
	return out, answer
}

// path goes down a value by keys and places.
func path(value any, keys ...any) any {
	for _, key := range keys {
		switch k := key.(type) {
		case string:
			m, _ := value.(map[string]any)
			value = m[k]
		case int:
			list, _ := value.([]any)
			if k >= len(list) {
				return nil
			}
			value = list[k]
		}
	}
	return value
}

// barbara is the user of the examples of RFC 7643, 8.2 and 8.3, with what is kept here.
const barbara = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],
 "externalId":"701984","userName":"bjensen@example.com",
 "name":{"formatted":"Ms. Barbara J Jensen, ` +
	`III","familyName":"Jensen","givenName":"Barbara","middleName":"Jane","honorificPrefix":"Ms.","honorificSuffix":"III"},
 "displayName":"Babs Jensen","nickName":"Babs","profileUrl":"https://login.example.com/bjensen",
 "emails":[{"value":"bjensen@example.com","type":"work","primary":true},{"value":"babs@jensen.example","type":"home"}],
 "addresses":[{"streetAddress":"100 Universal City ` +
	`Plaza","locality":"Hollywood","region":"CA","postalCode":"91608","country":"USA","type":"work","primary":true},
  {"streetAddress":"456 Hollywood Blvd","locality":"Hollywood","region":"CA","postalCode":"91608","country":"USA","type":"home"}],
 "phoneNumbers":[{"value":"tel:+1-202-555-0143","type":"work"},{"value":"202-555-0144","type":"mobile"}],
 "userType":"Employee","title":"Tour Guide","preferredLanguage":"en-US","locale":"en-US","active":true,"password":"t1meMa$heen",
 "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"employeeNumber":"701984","costCenter":"4130",` +
	`"organization":"Universal Studios",
  "division":"Theme Park","department":"Tour Operations","manager":{"value":"26118915","displayName":"John Smith"}}}`

// TestTheExamplesOfSCIM goes through the examples of RFC 7644, in its order.
func TestTheExamplesOfSCIM(t *testing.T) {
	r := pushing(t)
	// 3.3: creating
	minimal, answer := r.ask(201, "POST", "/scim/v2/Users",
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"bjensen","externalId":"bjensen",
		"name":{"formatted":"Ms. Barbara J Jensen III","familyName":"Jensen","givenName":"Barbara"}}`)
	id, _ := minimal["id"].(string)
	at := "/scim/v2/Users/" + id
	if id == "" || answer.Header().Get("Location") != "http://127.0.0.1"+at || path(minimal, "meta", "location") != "http://127.0.0.1"+at ||
		path(minimal, "meta", "resourceType") != "User" || answer.Header().Get("ETag") != path(minimal, "meta", "version") ||
		minimal["externalId"] != "bjensen" {
		t.Errorf("%v, %v", minimal, answer.Header())
	}
	if conflict, _ := r.ask(409, "POST", "/scim/v2/Users",
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"BJENSEN"}`); conflict["scimType"] !=
		"uniqueness" {
		t.Errorf("%v", conflict)
	}
	// 3.4.1: retrieving, with 3.14 (versions)
	_, answer = r.ask(200, "GET", at, "")
	etag := answer.Header().Get("ETag")
	r.ask(304, "GET", at, "", "If-None-Match", etag)
	r.ask(404, "GET", "/scim/v2/Users/none", "")
	// 3.5.1: replacing
	r.ask(412, "PUT", at, barbara, "If-Match", `W/"99"`)
	full, answer := r.ask(200, "PUT", at, barbara, "If-Match", etag)
	if full["id"] != id || full["nickName"] != nil || full["password"] != nil || path(full, "emails", 0, "value") != "bjensen@example.com" ||
		path(full, "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User", "department") != "Tour Operations" ||
		answer.Header().Get("ETag") == etag ||
		len(full["schemas"].([]any)) != 2 {
		t.Errorf("%v", full)
	}
	var person api.PersonDetail
	r.want(200, "GET", "/api/v1/people/bjensen@example.com", "", &person)
	for field, want := range map[string]string{"cn": "Ms. Barbara J Jensen, III", "givenName": "Barbara", "sn": "Jensen",
		"title":           "Tour Guide",
		"telephoneNumber": "+1-202-555-0143", "mobile": "202-555-0144", "street": "100 Universal City Plaza",
		"l": "Hollywood", "st": "CA", "c": "US",
		"ou": "Tour Operations", "o": "Universal Studios", "employeeNumber": "701984", "preferredLanguage": "en-US",
		"uid": "bjensen@example.com"} {
		if person.Values[field] != want {
			t.Errorf("%s is %q, want %q", field, person.Values[field], want)
		}
	}
	// a second user, and a group of both (RFC 7643, 8.4)
	second, _ := r.ask(201, "POST", "/scim/v2/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"jsmith",
		"displayName":"James Smith","emails":[{"value":"jsmith@example.org","type":"work"}],"title":"Guide","userType":"Intern"}`)
	james, _ := second["id"].(string)
	group, _ := r.ask(201, "POST", "/scim/v2/Groups",
		fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"Tour Guides",
		"members":[{"value":%q,"display":"Babs Jensen"}]}`, id))
	guides := "/scim/v2/Groups/" + fmt.Sprint(group["id"])
	if babs, _ := r.ask(200, "GET", at, ""); path(babs, "groups", 0, "display") != "Tour Guides" {
		t.Errorf("%v", babs["groups"])
	}
	// 3.4.2.2: the filters of its list
	for filter, want := range map[string]string{
		`userName eq "bjensen@example.com"`:                          "b",
		`name.familyName co "O'Malley"`:                              "",
		`name.familyName co "ense"`:                                  "b",
		`userName sw "J"`:                                            "j",
		`urn:ietf:params:scim:schemas:core:2.0:User:userName sw "J"`: "j",
		`title pr`: "bj",
		`meta.lastModified gt "2011-05-13T04:42:34Z"`:                                                "bj",
		`meta.lastModified ge "2011-05-13T04:42:34Z"`:                                                "bj",
		`meta.lastModified lt "2011-05-13T04:42:34Z"`:                                                "",
		`meta.lastModified le "2011-05-13T04:42:34Z"`:                                                "",
		`title pr and userName sw "J"`:                                                               "j",
		`title pr or userName eq "nobody"`:                                                           "bj",
		`title eq "Guide" and (emails co "example.com" or emails.value co "example.org")`:            "j",
		`title ne "Guide" and not (emails co "example.org" or emails.value co "nowhere.example")`:    "b",
		`title eq "Tour Guide" and (emails.type eq "work")`:                                          "b",
		`title pr and emails[type eq "work" and value co "@example.com"]`:                            "b",
		`emails[type eq "work" and value co "@example.com"] or phoneNumbers[type eq "fax"]`:          "b",
		`urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department eq "tour operations"`: "b",
		`active eq true`:           "bj",
		`externalId eq "701984"`:   "b",
		`name.middleName pr`:       "b",
		`not (name.middleName pr)`: "j",
	} {
		list, _ := r.ask(200, "GET", "/scim/v2/Users?filter="+url.QueryEscape(filter), "")
		got := ""
		for i := range list["Resources"].([]any) {
			got += fmt.Sprint(path(list, "Resources", i, "userName"))[:1]
		}
		if got != want || fmt.Sprint(list["totalResults"]) != fmt.Sprint(len(want)) {
			t.Errorf("%s: %q, want %q", filter, got, want)
		}
	}
	for _, filter := range []string{`userName eq`, `userName xx "a"`, `nickNames pr`, `emails[kind eq "a"]`, strings.Repeat("(", 40)} {
		if wrong, _ := r.ask(400, "GET", "/scim/v2/Users?filter="+url.QueryEscape(filter),
			""); wrong["scimType"] != "invalidFilter" && wrong["scimType"] != "invalidPath" {
			t.Errorf("%s: %v", filter, wrong)
		}
	}
	// 3.4.2.4: pages; 3.9: attributes
	page, _ := r.ask(200, "GET", "/scim/v2/Users?startIndex=2&count=10&attributes=userName,name.familyName", "")
	if fmt.Sprint(page["totalResults"], page["startIndex"], page["itemsPerPage"]) != "2 2 1" ||
		path(page, "Resources", 0, "userName") != "jsmith" ||
		path(page, "Resources", 0, "title") != nil || path(page, "Resources", 0, "id") == nil {
		t.Errorf("%v", page)
	}
	if none, _ := r.ask(200, "GET", "/scim/v2/Users?count=0", ""); fmt.Sprint(none["totalResults"]) != "2" ||
		len(none["Resources"].([]any)) != 0 {
		t.Errorf("%v", none)
	}
	if less, _ := r.ask(200, "GET", at+"?excludedAttributes=emails,addresses", ""); less["emails"] != nil || less["userName"] == nil {
		t.Errorf("%v", less)
	}
	// 3.4.3: searching by POST
	found, _ := r.ask(200, "POST", "/scim/v2/Users/.search", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:SearchRequest"],
		"attributes":["displayName","userName"],"filter":"displayName sw \"james\"","startIndex":1,"count":10}`)
	if fmt.Sprint(found["totalResults"]) != "1" || path(found, "Resources", 0, "displayName") != "James Smith" {
		t.Errorf("%v", found)
	}
	r.ask(400, "POST", "/scim/v2/Users/.search", `{"filter":"title pr"}`)
	// 3.5.2: changes of parts
	patch := func(status int, path, operations string) map[string]any {
		t.Helper()
		out, _ := r.ask(status, "PATCH", path, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[`+operations+`]}`)
		return out
	}
	for _, c := range []struct {
		at, operations string
		keys           []any
		want           any
	}{
		// 3.5.2.1: add
		{guides, `{"op":"add","path":"members","value":[{"display":"James Smith","value":"` + james + `"}]}`,
			[]any{"members", 1, "value"}, james},
		{guides, `{"op":"add","path":"members","value":[{"value":"` + james + `"}]}`, []any{"members", 2}, nil},
		{at, `{"op":"add","value":{"emails":[{"value":"babs@jensen.example.org","type":"home"}],"nickname":"Babs"}}`, []any{"emails", 2, "value"},
			"babs@jensen.example.org"},
		{at, `{"op":"add","path":"name.middleName","value":"June"}`, []any{"name", "middleName"}, "June"},
		{at, `{"op":"add","value":{"name":{"honorificPrefix":"Dr."}}}`, []any{"name", "familyName"}, "Jensen"},
		{at, `{"op":"Add","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:division","value":"Harbour"}`,
			[]any{"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User", "division"}, "Harbour"},
		{at, `{"op":"add","path":"emails","value":[{"value":"main@example.com","type":"other","primary":true}]}`,
			[]any{"emails", 0, "primary"}, nil},
		// 3.5.2.2: remove
		{guides, `{"op":"remove","path":"members[value eq \"` + james + `\"]"}`, []any{"members", 1}, nil},
		{at, `{"op":"remove","path":"emails[type eq \"home\" and value ew \"example.org\"]"}`, []any{"emails", 2, "value"}, "main@example.com"},
		{at, `{"op":"remove","path":"name.middleName"}`, []any{"name", "middleName"}, nil},
		// 3.5.2.3: replace
		{guides, `{"op":"remove","path":"members[value eq \"` + id +
			`\"]"},{"op":"add","path":"members","value":[{"value":"` + james + `"},{"value":"` + id + `"}]}`,
			[]any{"members", 0, "value"}, james},
		{guides, `{"op":"replace","path":"members","value":[{"value":"` + id + `"},{"value":"` + james + `"}]}`,
			[]any{"members", 1, "value"}, james},
		{at, `{"op":"replace","path":"addresses[type eq \"work\"]","value":{"type":"work","streetAddress":"911 Universal ` +
			`City Plaza","locality":"Hollywood",
			"region":"CA","postalCode":"91608","country":"US","primary":true}}`, []any{"addresses", 0, "streetAddress"}, "911 Universal City Plaza"},
		{at, `{"op":"replace","path":"addresses[type eq \"work\"].streetAddress","value":"1010 Broadway Ave"}`,
			[]any{"addresses", 0, "streetAddress"},
			"1010 Broadway Ave"},
		{at, `{"op":"replace","value":{"emails":[{"value":"bjensen@example.com","type":"work","primary":true}],"title":"Head of Tours"}}`,
			[]any{"title"},
			"Head of Tours"},
		{at, `{"op":"Replace","path":"phoneNumbers[type eq \"fax\"].value","value":"202-555-0199"}`,
			[]any{"phoneNumbers", 2, "value"}, "202-555-0199"},
		{at, `{"op":"replace","path":"active","value":"False"}`, []any{"active"}, false},
	} {
		if got := path(patch(200, c.at, c.operations), c.keys...); got != c.want {
			t.Errorf("%s: %v is %v, want %v", c.operations, c.keys, got, c.want)
		}
	}
	// soft removal: the person has left, and the resource is still there
	person = api.PersonDetail{}
	r.want(200, "GET", "/api/v1/people/bjensen@example.com", "", &person)
	if person.Left.IsZero() {
		t.Errorf("%+v", person)
	}
	patch(200, at, `{"op":"replace","path":"active","value":true}`)
	person = api.PersonDetail{}
	r.want(200, "GET", "/api/v1/people/bjensen@example.com", "", &person)
	if !person.Left.IsZero() || person.Values["title"] != "Head of Tours" || person.Values["facsimileTelephoneNumber"] != "202-555-0199" ||
		person.Values["street"] != "1010 Broadway Ave" || !slices.Equal(person.Groups, []string{"Tour Guides"}) {
		t.Errorf("%+v", person)
	}
	for operations, kind := range map[string]string{
		`{"op":"remove"}`: "noTarget", `{"op":"move","path":"title"}`: "invalidSyntax",
		`{"op":"replace","path":"nickName","value":"x"}`:                "invalidPath",
		`{"op":"replace","path":"id","value":"x"}`:                      "mutability",
		`{"op":"replace","path":"emails[type eq \"work\"","value":"x"}`: "invalidPath",
		`{"op":"add","path":"active","value":"perhaps"}`:                "invalidValue", `{"op":"add","value":"x"}`: "invalidValue",
		`{"op":"replace","path":"emails[value eq \"x\"].type","value":"y"}`: "noTarget",
		`{"op":"replace","path":"title","value":7}`:                         "invalidValue",
		`{"op":"remove","path":"userName"}`:                                 "invalidValue",
	} {
		if out := patch(400, at, operations); out["scimType"] != kind {
			t.Errorf("%s: %v, want %s", operations, out, kind)
		}
	}
	_, answer = r.ask(200, "GET", at, "")
	unchanged := answer.Header().Get("ETag")
	patch(200, at, `{"op":"replace","path":"title","value":"Head of Tours"}`)
	if _, answer = r.ask(200, "GET", at, ""); answer.Header().Get("ETag") != unchanged {
		t.Error("a change that changes nothing makes a new version")
	}
	// 3.6: removing
	_, answer = r.ask(200, "GET", at, "")
	r.ask(412, "DELETE", at, "", "If-Match", `W/"1"`)
	r.ask(204, "DELETE", at, "", "If-Match", strings.TrimPrefix(answer.Header().Get("ETag"), "W/"))
	r.ask(404, "GET", at, "")
	r.ask(404, "DELETE", at, "")
	if g, _ := r.ask(200, "GET", guides, ""); g["displayName"] != "Tour Guides" {
		t.Errorf("%v", g)
	}
	r.ask(204, "DELETE", guides, "")
	person = api.PersonDetail{}
	r.want(200, "GET", "/api/v1/people/jsmith@example.org", "", &person)
	if len(person.Groups) != 0 {
		t.Errorf("%+v", person.Groups)
	}
	// what came within minutes is one run
	var runs []api.Run
	r.want(200, "GET", "/api/v1/runs?source=identity", "", &runs)
	if len(runs) != 1 || runs[0].Kind != "push" || runs[0].By != "identity" || runs[0].New != 2 {
		t.Errorf("%+v", runs)
	}
	var undo api.Run
	r.want(200, "POST", fmt.Sprintf("/api/v1/runs/%d/undo", runs[0].ID), "", &undo)
	var all api.PeoplePage
	if r.want(200, "GET", "/api/v1/people", "", &all); all.All != 0 {
		t.Errorf("undone, and %d people are there", all.All)
	}
}

// TestDiscoveryIsTruthful: what the service says of itself is what it does (RFC 7644, 4).
func TestDiscoveryIsTruthful(t *testing.T) {
	r := pushing(t)
	config, _ := r.ask(200, "GET", "/scim/v2/ServiceProviderConfig", "")
	for member, want := range map[string]bool{"patch": true, "filter": true, "etag": true, "bulk": false, "sort": false,
		"changePassword": false} {
		if path(config, member, "supported") != want {
			t.Errorf("%s: %v", member, config[member])
		}
	}
	r.ask(404, "POST", "/scim/v2/Bulk", "{}")
	schemas, _ := r.ask(200, "GET", "/scim/v2/Schemas", "")
	one, _ := r.ask(200, "GET", "/scim/v2/Schemas/urn:ietf:params:scim:schemas:core:2.0:User", "")
	if fmt.Sprint(schemas["totalResults"]) != "3" || one["name"] != "User" {
		t.Errorf("%v, %v", schemas["totalResults"], one["name"])
	}
	types, _ := r.ask(200, "GET", "/scim/v2/ResourceTypes", "")
	if path(types, "Resources", 0, "endpoint") != "/Users" || path(types, "Resources", 0, "schemaExtensions", 0, "schema") == nil {
		t.Errorf("%v", types)
	}
	r.ask(200, "GET", "/scim/v2/ResourceTypes/Group", "")
	r.ask(404, "GET", "/scim/v2/ResourceTypes/Ship", "")
	// every attribute that the schema says can be written comes back as it was written
	user := map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}}
	value := func(a map[string]any) any {
		switch a["type"] {
		case "boolean":
			return true
		case "complex":
			parts := map[string]any{}
			for _, sub := range a["subAttributes"].([]any) {
				s := sub.(map[string]any)
				if s["mutability"] != "readOnly" && s["type"] == "string" {
					parts[s["name"].(string)] = "x"
				}
			}
			return parts
		}
		return "x"
	}
	attributes := one["attributes"].([]any)
	for _, a := range attributes {
		m := a.(map[string]any)
		if m["mutability"] == "readOnly" {
			continue
		}
		v := value(m)
		if m["multiValued"] == true {
			v = []any{v}
		}
		user[m["name"].(string)] = v
	}
	body, err := json.Marshal(user)
	if err != nil {
		t.Fatal(err)
	}
	back, _ := r.ask(201, "POST", "/scim/v2/Users", string(body))
	for name, want := range user {
		if name == "schemas" {
			continue
		}
		a, _ := json.Marshal(want)
		b, _ := json.Marshal(back[name])
		if string(a) != string(b) {
			t.Errorf("%s: wrote %s, read %s", name, a, b)
		}
	}
}

// TestOnlyAKeyOpens: without a key, with a wrong one and with one that was removed nothing is read or written.
func TestOnlyAKeyOpens(t *testing.T) {
	r := pushing(t)
	good := r.key
	for _, key := range []string{"", "missivum-wrong", good + "x"} {
		r.key = key
		for _, c := range [][2]string{{"GET", "/scim/v2/Users"}, {"POST", "/scim/v2/Users"}, {"GET", "/scim/v2/Schemas"}} {
			if _, answer := r.ask(401, c[0], c[1], "{}"); answer.Header().Get("WWW-Authenticate") == "" {
				t.Error("what is needed is not said")
			}
		}
	}
	r.key = good
	r.ask(200, "GET", "/scim/v2/Users", "")
	var list []api.Key
	r.want(200, "GET", "/api/v1/keys", "", &list)
	if len(list) != 1 || list[0].Secret != "" || list[0].Source != "identity" {
		t.Errorf("%+v", list)
	}
	r.want(409, "POST", "/api/v1/keys", `{"name":"identity","scopes":["directory"],"source":"identity"}`, nil)
	r.want(409, "POST", "/api/v1/keys", `{"name":"other","scopes":["directory"],"source":"import"}`, nil)
	r.want(422, "POST", "/api/v1/keys", `{"name":"other","scopes":["everything"],"source":"identity"}`, nil)
	r.want(422, "POST", "/api/v1/keys", `{"name":"Other","scopes":["directory"],"source":"identity"}`, nil)
	r.want(204, "DELETE", "/api/v1/keys/identity", "", nil)
	r.ask(401, "GET", "/scim/v2/Users", "")
	r.want(404, "DELETE", "/api/v1/keys/identity", "", nil)
	for body, status := range map[string]int{"{": 400, `{"schemas":[]}`: 400,
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"]}`: 400} {
		var key api.Key
		r.do("DELETE", "/api/v1/keys/again", "")
		r.want(201, "POST", "/api/v1/keys", `{"name":"again","scopes":["directory"],"source":"identity"}`, &key)
		r.key = key.Secret
		r.ask(status, "POST", "/scim/v2/Users", body)
	}
}
