package rule

import (
	"bytes"
	"testing"

	"missivum/core/kit"
	"missivum/demo"
)

// bundle is the demo's.
func bundle(t testing.TB) Bundle {
	t.Helper()
	b := Single(day, Default(), nil)
	set := &b.Sets[0]
	var err error
	if b.People, err = demo.Directory(); err != nil {
		t.Fatal(err)
	}
	if set.Templates, err = demo.Templates(); err != nil {
		t.Fatal(err)
	}
	if set.File.Audiences, err = demo.Audiences(); err != nil {
		t.Fatal(err)
	}
	if set.File.Assignments, err = demo.Assignments(); err != nil {
		t.Fatal(err)
	}
	return b
}

// TestBundleStampsLikeItsParts writes a bundle, reads it, and stamps a message as the parts that it was made of do.
func TestBundleStampsLikeItsParts(t *testing.T) {
	key := kit.NewKey([32]byte{1})
	data, err := bundle(t).Write(key)
	if err != nil {
		t.Fatal(err)
	}
	b, name, err := ReadBundle(data, key.Trusted())
	if err != nil || len(name) != 12 || !b.Made.Equal(day) {
		t.Fatalf("%v, %q, %v", err, name, b.Made)
	}
	e, err := b.Engine(day, "test")
	if err != nil {
		t.Fatal(err)
	}
	m := mail("Content-Type: text/html\r\n", "<p>x</p>")
	if got, want := e.Judge(m, false), engine(t, "").Judge(m, false); !bytes.Equal(got.Raw, want.Raw) || got.Trace.Outcome != Stamped {
		t.Errorf("%s\nwanted\n%s", got.Raw, want.Raw)
	}
}

func TestBundlesThatAreRefused(t *testing.T) {
	key := kit.NewKey([32]byte{1})
	data, err := bundle(t).Write(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, wrong := range map[string][]byte{"nothing": nil, "another file": []byte("PK"), "cut": data[:len(data)-1],
		"changed":           append(bytes.Clone(data[:len(data)-1]), data[len(data)-1]^1),
		"without signature": append([]byte(bundleLine+"\n"), data[100:]...)} {
		if _, _, err := ReadBundle(wrong, key.Trusted()); err == nil {
			t.Errorf("%s was read", name)
		}
	}
	if _, _, err := ReadBundle(data, kit.NewKey([32]byte{2}).Trusted()); err == nil {
		t.Error("a bundle signed by somebody else was read")
	}
}

// FuzzReadBundle reads anything, signed or not.
func FuzzReadBundle(f *testing.F) {
	key := kit.NewKey([32]byte{1})
	f.Add([]byte(bundleLine+"\n"), true)
	f.Add([]byte("{}"), true)
	f.Fuzz(func(t *testing.T, data []byte, sign bool) {
		if sign {
			data = append(append([]byte(bundleLine), key.Sign(data)...), data...)
		}
		if b, _, err := ReadBundle(data, key.Trusted()); err == nil {
			b.Engine(day, "test")
		}
	})
}
