package wire_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"missivum/core/wire"
)

type part struct {
	Names []string `json:"names"`
	Next  *part    `json:"next"`
	hid   []string
}

func TestWhole(t *testing.T) {
	shared := []part{{}, {Names: []string{"a"}, Next: &part{}}}
	for _, c := range []struct {
		value any
		want  string
	}{
		{nil, `null`},
		{[]string(nil), `[]`},
		{part{hid: nil}, `{"names":[],"next":null}`},
		{shared, `[{"names":[],"next":null},{"names":["a"],"next":{"names":[],"next":null}}]`},
		{map[string][]int{"a": nil}, `{"a":[]}`},
		{map[string]any{"a": part{}}, `{"a":{"names":[],"next":null}}`},
		{struct{ At time.Time }{}, `{"At":"0001-01-01T00:00:00Z"}`},
		{struct{ Raw json.RawMessage }{json.RawMessage(`{}`)}, `{"Raw":{}}`},
		{[2][]int{{1}, nil}, `[[1],[]]`},
		{struct {
			A []int `json:"a,omitempty"`
		}{}, `{}`},
		{[]any{[]string(nil), 1, "x"}, `[[],1,"x"]`},
	} {
		got, err := json.Marshal(wire.Whole(c.value))
		if err != nil || string(got) != c.want {
			t.Errorf("%+v: %s, want %s, %v", c.value, got, c.want, err)
		}
	}
	if shared[0].Names != nil || shared[1].Next.Names != nil {
		t.Error("the value given was changed")
	}
}

func ExampleWhole() {
	text, _ := json.Marshal(wire.Whole(struct{ Losses []string }{}))
	fmt.Println(string(text))
	// Output: {"Losses":[]}
}
