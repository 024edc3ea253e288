package message

import (
	"bytes"
	"strings"
	"testing"
)

// seeds are some messages of the corpus.
func seeds(f *testing.F) [][]byte {
	var list [][]byte
	for i, s := range corpus(f) {
		if i%40 != 0 {
			continue
		}
		media := "text/plain"
		if s.page {
			media = "text/html"
		}
		list = append(list, letter(f, media, "utf-8", []string{"8bit", "quoted-printable", "base64"}[i%3], s.text))
	}
	return list
}

// FuzzStamp reads and stamps anything: no panic, refused ones stay, and what was stamped is not stamped again.
func FuzzStamp(f *testing.F) {
	for _, raw := range seeds(f) {
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		p := piece(len(raw)%2 == 0)
		if len(raw)%3 == 0 {
			p.Raise = &Look{Font: "Arial", Size: "11pt"}
		}
		p.Where = []Where{UnderNewest, AtEnd, AtTop, AtSide}[len(raw)%4]
		m := Read(raw)
		m.Kind()
		result, err := m.Stamp([]Piece{p}, "1; test")
		if err != nil {
			if !bytes.Equal(result.Raw, raw) {
				t.Fatal("refused, and changed")
			}
			if strings.Contains(err.Error(), "read again") {
				t.Fatal(err)
			}
			return
		}
		if !result.Stamped {
			return
		}
		again, err := Read(result.Raw).Stamp([]Piece{p}, "1; test")
		if err != nil || !bytes.Equal(again.Raw, result.Raw) {
			t.Fatalf("the second stamping: %v", err)
		}
	})
}

// FuzzFind finds places and earlier signatures in anything; they lie within the text.
func FuzzFind(f *testing.F) {
	for i, s := range corpus(f) {
		if i%40 == 0 {
			f.Add(s.text, s.page)
		}
	}
	known := piece(false).Known
	f.Fuzz(func(t *testing.T, text string, page bool) {
		find := FindInText
		if page {
			find = FindInPage
		}
		place := find(text, Hints{Subject: "Re: x", People: []string{"runa holt"}})
		for _, in := range []Insertion{place.UnderNewest(), place.AtEnd(), place.AtTop()} {
			if in.At < 0 || in.At > len(text) {
				t.Fatalf("%d lies outside of %d bytes", in.At, len(text))
			}
		}
		for _, e := range place.Earlier(nell, known) {
			if e.Start < 0 || e.End < e.Start || e.End > len(text) {
				t.Fatalf("%+v lies outside of %d bytes", e, len(text))
			}
		}
	})
}
