package problem

import (
	"errors"
	"fmt"
	"io/fs"
	"testing"
)

func ExampleNew() {
	err := fmt.Errorf("saving: %w", New(Conflict, "Somebody else saved version %d meanwhile.", 4))
	e, ok := Of(err)
	fmt.Println(ok, e.Kind, e)
	// Output: true conflict Somebody else saved version 4 meanwhile.
}

func TestKindsAreFoundInChains(t *testing.T) {
	cause := fs.ErrNotExist
	for name, c := range map[string]struct {
		err  error
		kind Kind
	}{
		"by itself":            {Missing("template", "x"), NotFound},
		"wrapped":              {fmt.Errorf("a: %w", fmt.Errorf("b: %w", New(Busy, "later"))), Busy},
		"joined":               {errors.Join(errors.New("a"), New(TooLarge, "b")), TooLarge},
		"given":                {As(Refused, errors.New("a")), Refused},
		"given twice":          {As(Refused, New(NotFound, "a")), NotFound},
		"around another error": {New(Invalid, "the file: %w", cause), Invalid},
	} {
		if !Is(c.err, c.kind) {
			t.Errorf("%s: %v is not %s", name, c.err, c.kind)
		}
	}
	if As(Refused, nil) != nil || Is(errors.New("x"), Refused) || Is(nil, Refused) {
		t.Error("what has no kind gets one")
	}
	if err := New(Invalid, "the file: %w", cause); !errors.Is(err, fs.ErrNotExist) || err.Error() != "the file: file does not exist" {
		t.Errorf("%v", err)
	}
	if e := New(Invalid, "x").In("width").At(Place{Line: 3}); e.Field != "width" || e.Places[0].Line != 3 {
		t.Errorf("%+v", e)
	}
}
