package personal

import (
	"io"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/service/access"
	"missivum/service/store"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func keyed(t testing.TB, key string) *Personal {
	m := &access.Marks{File: filepath.Join(t.TempDir(), "links.key")}
	err := os.WriteFile(m.File, []byte(key), 0o600)
	if err == nil {
		err = m.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	return &Personal{Marks: m, Now: func() time.Time { return now }}
}

// What a device keeps is good for its own link alone.
func TestDevices(t *testing.T) {
	p := keyed(t, "0123456789abcdef0123456789abcdef")
	link := store.PersonalLink{ID: 7, Person: "maren.lind@brackwater.example"}
	guest := deviceText(7, "guest", p.guestMark(link))
	if v, ok := p.visitor(link, guest); !ok || !v.Guest || v.Person != link.Person {
		t.Errorf("a guest: %+v %v", v, ok)
	}
	for name, text := range map[string]string{
		"a guest who calls himself the first": strings.Replace(guest, "guest", "own", 1),
		"another kind":                        strings.Replace(guest, "guest", "owner", 1),
		"nothing":                             "",
		"own without a device":                deviceText(7, "own", make([]byte, access.SecretSize)),
	} {
		if v, ok := p.visitor(link, text); ok {
			t.Errorf("%s: %+v", name, v)
		}
	}
	if _, ok := p.visitor(store.PersonalLink{ID: 8}, guest); ok {
		t.Error("a guest of another link")
	}
}

func FuzzToken(f *testing.F) {
	p := keyed(f, "0123456789abcdef0123456789abcdef")
	f.Add(p.Marks.Token(ofLink, 7, now.Add(time.Hour), []byte("sixteen letters!")))
	f.Add("")
	f.Add(deviceText(7, "own", []byte("sixteen letters!")))
	f.Fuzz(func(t *testing.T, text string) {
		id, secret, ok := p.Marks.ReadToken(ofLink, text, now)
		if ok && p.Marks.Token(ofLink, id, now.Add(time.Hour), secret) != text && id != 7 {
			t.Errorf("%q is read as link %d", text, id)
		}
		if id, as, secret, ok := readDevice(text); ok && deviceText(id, as, secret) != text {
			t.Errorf("%q comes back as %q", text, deviceText(id, as, secret))
		}
	})
}

func TestLanguages(t *testing.T) {
	for _, c := range []struct {
		wanted []string
		want   string
	}{{nil, "en"}, {[]string{"de-AT"}, "de"}, {[]string{"", "sv"}, "sv"}, {[]string{"ar-EG", "de"}, "ar"}, {[]string{"fr", "el"}, "el"},
		{[]string{"xx-notone", "zz"}, "en"}, {[]string{"de, en;q=0.5"}, "en"}} {
		if got := languageOf(c.wanted...); got != c.want {
			t.Errorf("%q: %s, want %s", c.wanted, got, c.want)
		}
	}
}

// Every language has every text, and what others write comes through as it is.
func TestInvitationsInEveryLanguage(t *testing.T) {
	texts, err := wordings()
	if err != nil || len(texts) != len(Languages()) {
		t.Fatalf("%d languages, %v", len(texts), err)
	}
	one := invitation{to: "salma.albahri@brackwater.example", name: "Salma {{.Ends}} سلمى\r\nBcc: everybody@brackwater.example"}
	for _, lang := range Languages() {
		w := texts[lang]
		for _, text := range []string{w.Invitation, w.Reminder, w.Hello, w.First, w.Again, w.Device, w.Ends} {
			if text == "" {
				t.Errorf("%s: a text is blank", lang)
			}
		}
		for _, kind := range []string{Invitation, Reminder} {
			s := Settings{From: "Signatures <signatures@brackwater.example>", Note: "{{.Name}} stays as it is."}
			data, err := compose(w, kind, lang, s, one, "https://signatures.brackwater.example/your-signature#token", now.Add(time.Hour), now)
			if err != nil {
				t.Fatal(err)
			}
			m, err := mail.ReadMessage(strings.NewReader(string(data)))
			if err != nil {
				t.Fatal(err)
			}
			if m.Header.Get("Bcc") != "" || m.Header.Get("Content-Language") != lang || m.Header.Get("X-Unsent") != "" {
				t.Errorf("%s: %v", lang, m.Header)
			}
			to, err := m.Header.AddressList("To")
			if err != nil || len(to) != 1 || to[0].Address != one.to {
				t.Errorf("%s: to %v, %v", lang, to, err)
			}
			body, err := io.ReadAll(m.Body)
			if err != nil || !strings.Contains(strings.ReplaceAll(string(body), "=\r\n", ""), "your-signature#token") ||
				!strings.Contains(string(body), "{{.Name}} stays as it is.") {
				t.Errorf("%s: %s", lang, body)
			}
		}
	}
}

func TestWhatMayStandInADetail(t *testing.T) {
	s := Settings{
		Details: []Detail{{Field: "title", Choices: []string{"Captain", "Mate"}}, {Field: "mobile", Longest: 5, Avoid: []string{"0900", ""}}},
	}
	for _, c := range []struct {
		field, value string
		ok           bool
	}{{"title", "Captain", true}, {"title", "", true}, {"title", "captain", false}, {"mobile", "12345", true}, {"mobile", "123456", false},
		{"mobile", "ünïcö", true}, {"mobile", "0900", false}, {"mobile", "a\tb", false}, {"mobile", "\xff", false}, {"cn", "x", false},
		{"mail", "x", false}} {
		if _, err := s.allowed(c.field, c.value); (err == nil) != c.ok {
			t.Errorf("%s %q: %v", c.field, c.value, err)
		}
	}
}
