package scim

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
)

// babs is a user for tests.
const babs = `{"userName":"babs","name":{"familyName":"Jensen"},"emails":[{"value":"a@x.example","type":"work",` +
	`"primary":true},{"value":"b@y.example","type":"home"}],
	"active":true,"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Tours"}}`

func user(t testing.TB, text string) Resource {
	t.Helper()
	var in map[string]any
	if err := json.Unmarshal([]byte(text), &in); err != nil {
		t.Fatal(err)
	}
	r, err := Users.Clean(in)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// What is cleaned: names in any case, unknown and read-only members, values of the wrong type, two that are primary.
func TestClean(t *testing.T) {
	r := user(t, `{"USERNAME":"x","Name":{"GivenName":"G","shoe":"9"},"id":"7","groups":[{"value":"g"}],"shoeSize":38,`+
		`"title":null,"active":"True",
		"emails":[{"value":"a","primary":true},{"value":"b","primary":true},{}],"photos":[]}`)
	got, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	if want := `{"active":true,"emails":[{"primary":true,"value":"a"},{"value":"b"}],"name":{"givenName":"G"},` +
		`"userName":"x"}`; string(got) != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	for text, says := range map[string]string{
		`{}`: "userName is required", `{"userName":7}`: "must be text", `{"userName":"x","active":"perhaps"}`: "true or false",
		`{"userName":"x","name":"y"}`: "no object", `{"userName":"x","title":"` + strings.Repeat("x", maxText+1) + `"}`: "longer than",
		`{"userName":"x","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":7}`: "no object",
	} {
		var in map[string]any
		if err := json.Unmarshal([]byte(text), &in); err != nil {
			t.Fatal(err)
		}
		var wrong Error
		if _, err := Users.Clean(in); !errors.As(err, &wrong) || !strings.Contains(wrong.Detail, says) {
			t.Errorf("%.60s: %v, want %q", text, err, says)
		}
	}
}

// A patch leaves the resource that it was given as it is, also when it fails in the middle.
func TestPatchChangesACopy(t *testing.T) {
	r := user(t, babs)
	before, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	for _, list := range [][]Operation{
		{{Op: "replace", Path: "name.familyName", Value: "X"}, {Op: "remove", Path: "emails"}},
		{{Op: "replace", Path: "name.familyName", Value: "X"}, {Op: "remove"}},
		nil,
	} {
		out, err := Users.Patch(r, list)
		if (err == nil) != (out != nil) {
			t.Errorf("%v, %v", out, err)
		}
		if after, _ := json.Marshal(r); string(after) != string(before) {
			t.Errorf("changed: %s", after)
		}
	}
}

// What a person says as fields: the kinds of addresses and numbers, and what stands in for a name.
func TestRecords(t *testing.T) {
	for _, c := range []struct{ user, field, want string }{
		{babs, "mail", "a@x.example"}, {babs, "ou", "Tours"}, {babs, "cn", "Jensen"},
		{`{"userName":"c@z.example"}`, "mail", "c@z.example"}, {`{"userName":"c"}`, "mail", ""},
		{`{"userName":"c","displayName":"Cy"}`, "cn", "Cy"},
		{`{"userName":"c","emails":[{"value":"h@x.example","type":"home"},{"value":"w@x.example","type":"work"}]}`, "mail", "w@x.example"},
		{`{"userName":"c","emails":["only@x.example"]}`, "mail", "only@x.example"},
		{`{"userName":"c","phoneNumbers":[{"value":"1","type":"mobile"},{"value":"2"}]}`, "telephoneNumber", "2"},
		{`{"userName":"c","phoneNumbers":[{"value":"1","type":"mobile"}]}`, "telephoneNumber", ""},
		{`{"userName":"c","phoneNumbers":[{"value":"1","type":"fax"}]}`, "facsimileTelephoneNumber", "1"},
		{`{"userName":"c","addresses":[{"country":"Norway","locality":"Havsund"}]}`, "c", "NO"},
		{`{"userName":"c","addresses":[{"country":"Atlantis"}]}`, "co", "Atlantis"},
	} {
		if got := user(t, c.user).Record(nil).Values[c.field]; got != c.want {
			t.Errorf("%s: %s is %q, want %q", c.user, c.field, got, c.want)
		}
	}
	if user(t, `{"userName":"c","active":false}`).Active() || !user(t, `{"userName":"c"}`).Active() {
		t.Error("who is there")
	}
}

func FuzzParseFilter(f *testing.F) {
	for _, text := range []string{`userName eq "x"`, `emails[type eq "work" and value co "@"] or not (title pr)`,
		`active eq true`, `a.b[c eq`} {
		f.Add(text)
	}
	r := user(f, babs)
	f.Fuzz(func(t *testing.T, text string) {
		filter, err := Users.ParseFilter(text)
		if err != nil {
			var wrong Error
			if !errors.As(err, &wrong) || wrong.Detail == "" {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		filter.Holds(r)
		filter.Name()
	})
}

func FuzzPatch(f *testing.F) {
	f.Add("replace", `emails[type eq "work"].value`, `"x"`)
	f.Add("add", "", `{"name":{"givenName":"x"},"emails":[{"value":"y"}]}`)
	f.Add("remove", `members[value eq "x"]`, `null`)
	r := user(f, babs)
	f.Fuzz(func(t *testing.T, op, path, value string) {
		var v any
		if json.Unmarshal([]byte(value), &v) != nil {
			return
		}
		out, err := Users.Patch(r, []Operation{{Op: op, Path: path, Value: v}})
		var wrong Error
		switch {
		case err != nil && (!errors.As(err, &wrong) || wrong.Detail == ""):
			t.Fatalf("%v", err)
		case err == nil && (out["userName"] == nil || out["userName"] == ""):
			t.Fatalf("a user without a user name: %v", out)
		}
	})
}
