package api_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"gopkg.in/yaml.v3"

	"missivum/service/api"
)

// described is the API's description as plain values.
var described = sync.OnceValue(func() map[string]any {
	var doc map[string]any
	if err := yaml.Unmarshal(api.Description(), &doc); err != nil {
		panic(err)
	}
	return doc
})

// agrees checks an answer against the description: every list and every member that must be there is there.
func agrees(t testing.TB, method, path string, answer *httptest.ResponseRecorder) {
	t.Helper()
	if !strings.HasPrefix(answer.Header().Get("Content-Type"), "application/json") {
		return
	}
	schema := answerSchema(method, strings.Split(path, "?")[0], fmt.Sprint(answer.Code))
	if schema == nil {
		return
	}
	var value any
	if err := json.Unmarshal(answer.Body.Bytes(), &value); err != nil {
		t.Errorf("%s %s: %v", method, path, err)
		return
	}
	for _, wrong := range differs(value, schema, "answer", 0) {
		t.Errorf("%s %s: %s", method, path, wrong)
	}
}

// answerSchema finds the schema of an answer; nil for what is not described as JSON.
func answerSchema(method, path, status string) any {
	paths, _ := described()["paths"].(map[string]any)
	best, most := any(nil), -1
	for template, item := range paths {
		want, have := strings.Split(template, "/"), strings.Split(path, "/")
		literal := 0
		fits := len(want) == len(have)
		for i := 0; fits && i < len(want); i++ {
			if want[i] == have[i] {
				literal++
			} else if !strings.HasPrefix(want[i], "{") {
				fits = false
			}
		}
		if fits && literal > most {
			best, most = item, literal
		}
	}
	at := best
	for _, key := range []string{strings.ToLower(method), "responses", status, "content", "application/json", "schema"} {
		m, ok := resolved(at).(map[string]any)
		if !ok {
			return nil
		}
		at = m[key]
	}
	return at
}

// resolved follows a reference.
func resolved(schema any) any {
	m, ok := schema.(map[string]any)
	if !ok {
		return schema
	}
	ref, ok := m["$ref"].(string)
	if !ok {
		return schema
	}
	var at any = described()
	for _, key := range strings.Split(strings.TrimPrefix(ref, "#/"), "/") {
		inner, _ := at.(map[string]any)
		at = inner[key]
	}
	return resolved(at)
}

// differs lists where a value is not what its schema says.
func differs(value, schema any, where string, depth int) []string {
	s, ok := resolved(schema).(map[string]any)
	if !ok || depth > 20 {
		return nil
	}
	var wrong []string
	switch s["type"] {
	case "array":
		list, ok := value.([]any)
		if !ok {
			return []string{fmt.Sprintf("%s is %v and no list", where, value)}
		}
		for i, e := range list {
			wrong = append(wrong, differs(e, s["items"], fmt.Sprintf("%s[%d]", where, i), depth+1)...)
		}
	case "object":
		object, ok := value.(map[string]any)
		if !ok {
			return []string{fmt.Sprintf("%s is %v and no object", where, value)}
		}
		required, _ := s["required"].([]any)
		for _, name := range required {
			if _, ok := object[fmt.Sprint(name)]; !ok {
				wrong = append(wrong, fmt.Sprintf("%s lacks %v", where, name))
			}
		}
		properties, _ := s["properties"].(map[string]any)
		for name, inner := range properties {
			if v, ok := object[name]; ok {
				wrong = append(wrong, differs(v, inner, where+"."+name, depth+1)...)
			}
		}
	}
	return wrong
}

// The check itself finds what is wrong.
func TestDiffersFindsMissingLists(t *testing.T) {
	schema := map[string]any{"type": "object", "required": []any{"a"}, "properties": map[string]any{"a": map[string]any{"type": "array"}}}
	for text, want := range map[string]int{`{"a":[]}`: 0, `{"a":null}`: 1, `{}`: 1, `null`: 1} {
		var value any
		if err := json.Unmarshal([]byte(text), &value); err != nil {
			t.Fatal(err)
		}
		if got := differs(value, schema, "x", 0); len(got) != want {
			t.Errorf("%s: %q", text, got)
		}
	}
}

// HEAD answers like GET without a body; what lies below /api and is not there is not there, and gives no page.
func TestHeadAndUnknownPaths(t *testing.T) {
	r := loaded(t)
	for path, want := range map[string]int{"/api/v1/templates": 200, "/api/v1/templates/none": 404, "/healthz": 200, "/api": 404, "/api/": 404,
		"/api/v2/templates": 404, "/api/v1/nothing": 404, "/p/none": 404} {
		if answer := r.do("HEAD", path, ""); answer.Code != want {
			t.Errorf("HEAD %s: %d, want %d", path, answer.Code, want)
		}
		answer := r.do("GET", path, "")
		if answer.Code != want || want == 404 && strings.Contains(answer.Header().Get("Content-Type"), "text/html") {
			t.Errorf("GET %s: %d %s, want %d", path, answer.Code, answer.Header().Get("Content-Type"), want)
		}
	}
	r.want(201, "PUT", "/api/v1/templates/plain", `{"source":"<p>{{ cn }}</p>"}`, nil)
	r.want(200, "POST", "/api/v1/templates/plain/block", `{"dialect":"brace"}`, nil) // loses nothing
}

// A body that never comes is given up, whatever it was announced for, and holds nobody up.
func TestABodyThatNeverComes(t *testing.T) {
	r := newRigWith(t, func(a *api.API) { a.BodyPause = 100 * time.Millisecond })
	server := httptest.NewServer(r.handler)
	defer server.Close()
	for _, path := range []string{"/api/v1/clean", "/api/v1/people/import", "/api/v1/new", "/api/v1/templates/x/check"} {
		conn, err := net.Dial("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{", path)
		_ = conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		if answer.StatusCode < 400 {
			t.Errorf("%s: %d", path, answer.StatusCode)
		}
		conn.Close()
	}
}
