package template

import (
	"reflect"
	"testing"
)

func TestADraftChangesWhatItNamesAndNothingElse(t *testing.T) {
	base := Parts{Source: "<p>", Settings: "title: A", Texts: map[string]string{"template.txt": "a"},
		Pictures: map[string][]byte{"a.png": {1}, "b.png": {2}}}
	text := func(s string) *string { return &s }
	for name, c := range map[string]struct {
		draft Draft
		want  Parts
	}{
		"nothing":        {Draft{}, base},
		"the source":     {Draft{Source: text("<b>")}, Parts{Source: "<b>", Settings: base.Settings, Texts: base.Texts, Pictures: base.Pictures}},
		"empty settings": {Draft{Settings: text("")}, Parts{Source: "<p>", Settings: "", Texts: base.Texts, Pictures: base.Pictures}},
		"no texts": {Draft{Texts: map[string]string{}},
			Parts{Source: "<p>", Settings: base.Settings, Texts: map[string]string{}, Pictures: base.Pictures}},
		"a picture more": {Draft{Pictures: map[string][]byte{"c.png": {3}}},
			Parts{Source: "<p>", Settings: base.Settings, Texts: base.Texts, Pictures: map[string][]byte{"a.png": {1}, "b.png": {2}, "c.png": {3}}}},
		"another picture": {Draft{Pictures: map[string][]byte{"a.png": {9}}},
			Parts{Source: "<p>", Settings: base.Settings, Texts: base.Texts, Pictures: map[string][]byte{"a.png": {9}, "b.png": {2}}}},
		"a whole template": {Whole(Parts{Source: "x"}), Parts{Source: "x", Texts: map[string]string{}, Pictures: map[string][]byte{}}},
	} {
		if got := c.draft.Over(base); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v, want %+v", name, got, c.want)
		}
		if (name == "nothing") != c.draft.Empty() {
			t.Errorf("%s: empty %v", name, c.draft.Empty())
		}
	}
	if len(base.Pictures) != 2 {
		t.Error("the base was changed")
	}
}
