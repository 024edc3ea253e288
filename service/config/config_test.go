package config

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

func file(t *testing.T, text string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "settings.yaml")
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// TestPrecedence: what is built in, the file, the environment and flags, each over the one before, and each says where it is from.
func TestPrecedence(t *testing.T) {
	name := file(t, "listen: 127.0.0.1:1\nlog: json\ntls:\n  redirect: 127.0.0.1:2\nmail: {max-size: 9, allow: "+
		"[10.0.0.1, 10.0.0.2]}\nsessions:\n")
	v, err := Load(Sources{File: name,
		Environ: []string{"MISSIVUM_LOG=text", "MISSIVUM_MAIL_ALLOW=10.0.0.3, 10.0.0.4", "MISSIVUM_TLS_ACME=true",
			"PATH=/bin", "MISSIVUM_SERVER=x"},
		Flags: map[string]string{"mail.allow": "10.0.0.5", "sessions.idle": "5m"}})
	if err != nil {
		t.Fatal(err)
	}
	want := map[string][2]string{
		"listen": {"127.0.0.1:1", name + ":1"}, "log": {"text", "environment MISSIVUM_LOG"}, "tls.redirect": {"127.0.0.1:2", name + ":4"},
		"mail.max-size": {"9", name + ":5"}, "mail.allow": {"10.0.0.5", "flag --mail-allow"},
		"tls.acme":      {"true", "environment MISSIVUM_TLS_ACME"},
		"sessions.idle": {"5m", "flag --sessions-idle"}, "sessions.lifetime": {"12h", "built in"}, "data": {"missivum-data", "built in"},
	}
	seen := 0
	for _, one := range v.All() {
		if w, ok := want[one.Name]; ok {
			seen++
			if one.Value != w[0] || one.From != w[1] {
				t.Errorf("%s is %q from %s, want %q from %s", one.Name, one.Value, one.From, w[0], w[1])
			}
		}
	}
	if seen != len(want) || v.Number("mail.max-size") != 9 || !v.Switch("tls.acme") || v.Duration("sessions.idle") != 5*time.Minute ||
		!slices.Equal(v.List("mail.allow"), []string{"10.0.0.5"}) || len(v.Notes) != 0 {
		t.Errorf("%d seen; %+v", seen, v)
	}
}

// TestMistakesAreNamed: all at once, by line, with what would be right.
func TestMistakesAreNamed(t *testing.T) {
	for text, want := range map[string][]string{
		"lisen: x\ntls:\n  certifcate: y\n": {":1: there is no setting lisen; the nearest is listen",
			":3: there is no setting tls.certifcate; the nearest is tls.certificate"},
		"log: xml":                           {":1: log: "},
		"listen: 1\nmail:\n  max-size: many": {":1: listen: ", ":3: mail.max-size: "},
		"sessions: {idle: soon}":             {`:1: sessions.idle: "soon" is no time such as 90s`},
		"tls: on":                            {":1: tls: "},
		"listen: [":                          {":1: "},
	} {
		_, err := Load(Sources{File: file(t, text)})
		for _, w := range want {
			if err == nil || !strings.Contains(err.Error(), w) {
				t.Errorf("%q: %v, want %q", text, err, w)
			}
		}
	}
	_, err := Load(Sources{Environ: []string{"MISSIVUM_MAIL_MAX_SIZE=0"}, Flags: map[string]string{"tls.acme": "perhaps", "log": "xml"}})
	for _, w := range []string{"MISSIVUM_MAIL_MAX_SIZE: ", "--tls-acme: ", "--log: "} {
		if err == nil || !strings.Contains(err.Error(), w) {
			t.Errorf("%v, want %q", err, w)
		}
	}
	v, err := Load(Sources{Environ: []string{"MISSIVUM_LISTN=x"}})
	if err != nil || len(v.Notes) != 1 || !strings.Contains(v.Notes[0], "MISSIVUM_LISTEN is the nearest") {
		t.Errorf("%v, %+v", err, v)
	}
	if _, err := Load(Sources{File: filepath.Join(t.TempDir(), "none.yaml")}); err == nil {
		t.Error("a file that is not there is taken")
	}
}

// TestSecretsAreHidden: they come from files, and are not printed.
func TestSecretsAreHidden(t *testing.T) {
	secret := file(t, "between us\n")
	v, err := Load(Sources{Environ: []string{"MISSIVUM_PROVIDER_SECRET_FILE=" + secret}})
	if err != nil || v.Text("provider.secret") != "between us" {
		t.Fatalf("%v: %q", err, v.Text("provider.secret"))
	}
	for _, one := range v.All() {
		if strings.Contains(one.Value, "between") {
			t.Errorf("%s shows the secret", one.Name)
		}
		if one.Name == "provider.secret" && (one.Value != "(set, hidden)" || !strings.HasPrefix(one.From, secret)) {
			t.Errorf("%+v", one)
		}
	}
	if _, err := Load(Sources{Flags: map[string]string{"provider.secret": "a", "provider.secret-file": secret}}); err == nil {
		t.Error("two secrets are taken")
	}
	if _, err := Load(Sources{Flags: map[string]string{"provider.secret-file": secret + "x"}}); err == nil {
		t.Error("a missing file is taken")
	}
}

// TestTheExampleIsTheDefaults: the example file can be read, changes nothing, and has every setting; the schema takes it.
func TestTheExampleIsTheDefaults(t *testing.T) {
	v, err := Load(Sources{File: file(t, Example())})
	if err != nil {
		t.Fatal(err)
	}
	plain, err := Load(Sources{})
	if err != nil {
		t.Fatal(err)
	}
	for i, one := range v.All() {
		if one.Value != plain.All()[i].Value {
			t.Errorf("%s: %q in the example, %q built in", one.Name, one.Value, plain.All()[i].Value)
		}
		if one.From == "built in" {
			t.Errorf("%s is not in the example", one.Name)
		}
	}
	var document map[string]any
	if err := json.Unmarshal(Schema(), &document); err != nil || document["$schema"] == nil {
		t.Errorf("%v", err)
	}
	flags := map[string]bool{}
	for _, one := range Settings() {
		if flags[one.Flag()] || flags[one.Env()] || one.Doc == "" {
			t.Errorf("%s: its flag or its name in the environment is there twice, or it says nothing", one.Name)
		}
		flags[one.Flag()], flags[one.Env()] = true, true
	}
}

// FuzzFile: whatever a file holds, it is read or refused.
func FuzzFile(f *testing.F) {
	f.Add("listen: 127.0.0.1:1\ntls: {acme: true}\n")
	f.Add(Example())
	f.Add("tls: &a {redirect: x}\nmail: *a\n")
	name := filepath.Join(f.TempDir(), "settings.yaml")
	f.Fuzz(func(t *testing.T, text string) {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if v, err := Load(Sources{File: name}); err == nil && len(v.All()) != len(list) {
			t.Errorf("%d settings", len(v.All()))
		}
	})
}
