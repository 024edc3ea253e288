package message

import (
	"bytes"
	"crypto/sha256"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestMessagesOfOtherPrograms stamps every message below the folder that MISSIVUM_MAILS names, one to a file, and says what became of
// them. Test messages out of the sources of mail parsers and filters are meant.
func TestMessagesOfOtherPrograms(t *testing.T) {
	folder := os.Getenv("MISSIVUM_MAILS")
	if folder == "" {
		t.Skip("MISSIVUM_MAILS names no folder with messages")
	}
	count := crowd{refused: map[string]int{}}
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		count.one(t, path, raw)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%d messages: %d stamped, %d of them at an unsure place, %d without a text; refused: %v", count.all, count.stamped, count.unsure,
		count.textless, count.refused)
	if count.all == 0 {
		t.Error("there are no messages in " + folder)
	}
}

// crowd counts what became of many messages.
type crowd struct {
	all, stamped, unsure, textless int
	refused                        map[string]int
}

// one stamps a message in four ways, and checks what must hold for any message whatever.
func (c *crowd) one(t *testing.T, name string, raw []byte) {
	t.Helper()
	c.all++
	for i, where := range []Where{UnderNewest, AtEnd, AtTop, AtSide} {
		p := piece(i%2 == 0)
		p.Where, p.Already = where, Add
		if i > 1 {
			p.Raise = &Look{Font: "Arial", Size: "11pt"}
		}
		result, err := Read(raw).Stamp([]Piece{p}, "1; test")
		if err != nil {
			if !bytes.Equal(result.Raw, raw) {
				t.Errorf("%s: refused, and changed", name)
			}
			if i == 0 {
				says, _, _ := strings.Cut(err.Error(), ":")
				if says == "The message is broken" {
					says = err.Error()
				}
				c.refused[strings.Map(func(r rune) rune {
					if r >= '0' && r <= '9' {
						return -1
					}
					return r
				}, says)]++
			}
			if strings.Contains(err.Error(), "read again") {
				t.Errorf("%s (%s): %v", name, where, err)
			}
			continue
		}
		if !result.Stamped {
			if i == 0 {
				c.textless++
			}
			continue
		}
		if i == 0 {
			c.stamped++
			if result.Unsure {
				c.unsure++
			}
		}
		again, err := Read(result.Raw).Stamp([]Piece{p}, "1; test")
		if err != nil || !bytes.Equal(again.Raw, result.Raw) {
			t.Errorf("%s (%s): the second stamping: %v", name, where, err)
		}
		untouched(t, name, raw, result)
	}
}

// untouched compares the digests of all parts that hold no text of the message, and of the texts that were not changed.
func untouched(t *testing.T, name string, raw []byte, result Result) {
	t.Helper()
	m := Read(raw)
	touched := map[string]bool{}
	for _, c := range result.Changes {
		touched[c.Part] = true
	}
	after := map[[32]byte]int{}
	for _, p := range Read(result.Raw).Leaves() {
		after[sha256.Sum256(p.raw())]++
	}
	for _, p := range m.Leaves() {
		if touched[p.Number] {
			continue
		}
		digest := sha256.Sum256(p.raw())
		if after[digest] == 0 {
			t.Errorf("%s: part %s (%s) changed", name, p.Number, p.Media)
		}
		after[digest]--
	}
}

func TestDamagedMessages(t *testing.T) {
	random := rand.New(rand.NewPCG(16, 1))
	samples := corpus(t)
	count := crowd{refused: map[string]int{}}
	for i := range 3_000 {
		s := samples[random.IntN(len(samples))]
		media, encoding := "text/plain", []string{"8bit", "quoted-printable", "base64"}[i%3]
		if s.page {
			media = "text/html"
		}
		raw := letter(t, media, "utf-8", encoding, s.text)
		if i%4 == 0 {
			raw = bytes.Replace(raw, []byte("Content-Type: "+media+"; charset=utf-8\r\nContent-Transfer-Encoding: "+encoding+"\r\n\r\n"),
				[]byte("Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: "+media+"; charset=utf-8\r\nContent-Transfer-Encoding: "+
					encoding+"\r\n\r\n"), 1)
			raw = append(raw, "\r\n--b\r\nContent-Type: image/png\r\nContent-Transfer-Encoding: base64\r\n\r\nAAEC\r\n--b--\r\n"...)
		}
		for range 1 + random.IntN(6) {
			raw = damaged(random, raw)
		}
		count.one(t, s.shape+" in "+s.language+", damaged", raw)
	}
	t.Logf("%d messages: %d stamped, %d at an unsure place, refused: %v", count.all, count.stamped, count.unsure, count.refused)
}

// damaged changes, cuts out, doubles or puts in some bytes.
func damaged(random *rand.Rand, raw []byte) []byte {
	at := random.IntN(len(raw) + 1)
	end := min(len(raw), at+random.IntN(40))
	pieces := []string{"\r\n", "\n", "\r", "=", "--b\r\n", "--b--\r\n", "<blockquote>", "</div>", "<!--", "<table><td>",
		"\x00", "\xff", ": ", "> ", "\r\n\r\n", "&gt;", "<b>"}
	switch random.IntN(4) {
	case 0:
		return append(raw[:at:at], raw[end:]...)
	case 1:
		return append(append(raw[:end:end], raw[at:end]...), raw[end:]...)
	case 2:
		return append(append(raw[:at:at], pieces[random.IntN(len(pieces))]...), raw[at:]...)
	}
	out := bytes.Clone(raw)
	if at < len(out) {
		out[at] = byte(random.IntN(256))
	}
	return out
}
