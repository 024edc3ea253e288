package addon

import (
	"archive/zip"
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"io"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"google.golang.org/protobuf/encoding/protowire"

	"missivum/addon"
)

// signer is a key, made once.
var signer = sync.OnceValues(func() (*rsa.PrivateKey, error) { return rsa.GenerateKey(rand.Reader, 2048) })

func input(t testing.TB, engine Engine) Input {
	t.Helper()
	key, err := signer()
	if err != nil {
		t.Fatal(err)
	}
	return Input{Files: addon.Files(), Organisation: "Brackwater Ferries", Service: "https://signatures.brackwater.example",
		Sites:   []Site{crew()},
		Version: "1.0.7", Engine: engine, Public: &key.PublicKey}
}

// read gives the files of a package.
func read(t testing.TB, data []byte) map[string][]byte {
	t.Helper()
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	files := map[string][]byte{}
	for _, f := range archive.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		if files[f.Name], err = io.ReadAll(r); err != nil {
			t.Fatal(err)
		}
	}
	return files
}

// The add-on runs on the sites that the organisation names, asks its service, and nothing else.
func TestThePackageHasNoOtherAccess(t *testing.T) {
	for engine, hosts := range map[Engine][]string{
		Chromium: {"https://signatures.brackwater.example/api/v1/add-on/*", "https://mail.brackwater.example:8443/*"},
		Gecko:    {"https://signatures.brackwater.example/api/v1/add-on/*", "https://mail.brackwater.example/*"},
	} {
		in := input(t, engine)
		in.Sites[0].Matches = []string{"https://mail.brackwater.example:8443/*"}
		data, err := Pack(in)
		if err != nil {
			t.Fatal(err)
		}
		files := read(t, data)
		var m struct {
			Version     string
			Permissions []string
			Optional    []string                     `json:"optional_permissions"`
			Hosts       []string                     `json:"host_permissions"`
			Content     []struct{ Matches []string } `json:"content_scripts"`
			Policy      struct {
				Pages string `json:"extension_pages"`
			} `json:"content_security_policy"`
			Resources   any `json:"web_accessible_resources"`
			Connectable any `json:"externally_connectable"`
		}
		if err := json.Unmarshal(files["manifest.json"], &m); err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(m.Hosts, hosts) || len(m.Content) != 1 || !slices.Equal(m.Content[0].Matches, hosts[1:]) {
			t.Errorf("%s: %v %v", engine, m.Hosts, m.Content)
		}
		if !slices.Equal(m.Permissions, []string{"alarms", "storage"}) || m.Optional != nil || m.Resources != nil || m.Connectable != nil {
			t.Errorf("%s: %+v", engine, m)
		}
		if m.Policy.Pages != "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; "+
			"connect-src https://signatures.brackwater.example" {
			t.Errorf("%s", m.Policy.Pages)
		}
		for name := range files {
			if path.Ext(name) == ".js" && regexp.MustCompile(`\beval\(|new Function|import\(|https?://[a-z]`).Match(stripped(files[name])) &&
				name != "organisation.js" {
				t.Errorf("%s takes code or names an address", name)
			}
		}
	}
}

// stripped is a script without its comments.
func stripped(script []byte) []byte {
	return regexp.MustCompile(`(?s)/\*.*?\*/|(?m)^\s*//.*$`).ReplaceAll(script, nil)
}

// What the manifest and the pages name is in the package.
func TestThePackageIsWhole(t *testing.T) {
	for _, engine := range Engines {
		files, err := Unpacked(input(t, engine))
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range regexp.MustCompile(`[\w./-]+\.(json|js|html|png|css)\b`).FindAllString(string(files["manifest.json"]), -1) {
			if files[name] == nil {
				t.Errorf("%s: the manifest names %s", engine, name)
			}
		}
		for name, data := range files {
			for _, found := range regexp.MustCompile(`(?:from '\./|href="|src="|href: ')([\w.]+)`).FindAllSubmatch(data, -1) {
				if path.Ext(name) != ".json" && files[string(found[1])] == nil {
					t.Errorf("%s names %s", name, found[1])
				}
			}
		}
	}
}

// Every language has every text, with the same places in it, and every text is used.
func TestTextsAreWhole(t *testing.T) {
	texts := map[string]map[string]string{}
	names, err := fs.Glob(addon.Files(), "texts/*.json")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		data, err := fs.ReadFile(addon.Files(), name)
		if err != nil {
			t.Fatal(err)
		}
		var one map[string]string
		if err := json.Unmarshal(data, &one); err != nil {
			t.Fatal(err)
		}
		texts[strings.TrimSuffix(path.Base(name), ".json")] = one
	}
	if got := slices.Sorted(maps.Keys(texts)); !slices.Equal(got, []string{"ar", "de", "el", "en", "sv"}) {
		t.Fatal(got)
	}
	places := regexp.MustCompile(`\$\d`)
	for language, one := range texts {
		for name, english := range texts["en"] {
			want, got := places.FindAllString(english, -1), places.FindAllString(one[name], -1)
			slices.Sort(want)
			slices.Sort(got)
			if one[name] == "" || !slices.Equal(want, got) {
				t.Errorf("%s, %s: %q", language, name, one[name])
			}
		}
		if len(one) != len(texts["en"]) {
			t.Errorf("%s has %d texts, English %d", language, len(one), len(texts["en"]))
		}
	}
	var scripts strings.Builder
	for _, name := range []string{"say.js", "why.js", "settings.js", "reads.js", "background.js", "content.js"} {
		data, err := fs.ReadFile(addon.Files(), name)
		if err != nil {
			t.Fatal(err)
		}
		scripts.Write(data)
	}
	for name := range texts["en"] {
		kind, rest, _ := strings.Cut(name, "_")
		quoted := func(text string) bool { return strings.Contains(scripts.String(), "'"+text+"'") }
		if name != "about" && !quoted(name) && !quoted(rest) && !(kind == "s" && quoted(strings.TrimPrefix(rest, "s_"))) {
			t.Errorf("%s is not used", name)
		}
	}
}

func TestPackagesAreTheSameForTheSame(t *testing.T) {
	first, err := Pack(input(t, Chromium))
	if err != nil {
		t.Fatal(err)
	}
	second, err := Pack(input(t, Chromium))
	if err != nil || !bytes.Equal(first, second) {
		t.Errorf("two packages of the same differ: %v", err)
	}
	digest, err := Digest(input(t, Chromium))
	if err != nil {
		t.Fatal(err)
	}
	other := input(t, Chromium)
	other.Version = "1.0.8"
	if again, err := Digest(other); err != nil || again != digest {
		t.Errorf("the version changes the digest: %v", err)
	}
	other.Sites[0].Matches = []string{"https://other.brackwater.example/*"}
	if again, err := Digest(other); err != nil || again == digest {
		t.Errorf("another site does not: %v", err)
	}
	other.Service = "signatures"
	if _, err := Pack(other); err == nil {
		t.Error("a service without an address is packed")
	}
}

// A signed package is read as its format says, by code of its own.
func TestSign(t *testing.T) {
	key, err := signer()
	if err != nil {
		t.Fatal(err)
	}
	archive, err := Pack(input(t, Chromium))
	if err != nil {
		t.Fatal(err)
	}
	signed, err := Sign(archive, key)
	if err != nil {
		t.Fatal(err)
	}
	size := binary.LittleEndian.Uint32(signed[8:])
	if string(signed[:4]) != "Cr24" || binary.LittleEndian.Uint32(signed[4:]) != 3 || !bytes.Equal(signed[12+size:], archive) {
		t.Fatalf("the head is %x", signed[:12])
	}
	fields := protobuf(t, signed[12:12+size])
	proof, data := protobuf(t, fields[2]), fields[10_000]
	public, err := x509.ParsePKIXPublicKey(proof[1])
	if err != nil {
		t.Fatal(err)
	}
	if err := rsa.VerifyPKCS1v15(public.(*rsa.PublicKey), crypto.SHA256, signedDigest(data, archive), proof[2]); err != nil {
		t.Error(err)
	}
	sum := sha256.Sum256(proof[1])
	if id := protobuf(t, data)[1]; !bytes.Equal(id, sum[:16]) {
		t.Errorf("the id is %x", id)
	}
	id, err := ID(&key.PublicKey)
	if err != nil || len(id) != 32 || id[0] != 'a'+sum[0]>>4 || id[31] != 'a'+sum[15]&15 {
		t.Errorf("the id is %s, of %x", id, sum)
	}
	var m struct{ Key string }
	if err := json.Unmarshal(read(t, archive)["manifest.json"], &m); err != nil || m.Key != base64.StdEncoding.EncodeToString(proof[1]) {
		t.Errorf("the manifest has the key %s: %v", m.Key, err)
	}
}

// protobuf gives the fields of a message that are bytes.
func protobuf(t *testing.T, data []byte) map[protowire.Number][]byte {
	t.Helper()
	fields := map[protowire.Number][]byte{}
	for len(data) > 0 {
		number, kind, n := protowire.ConsumeTag(data)
		if n < 0 || kind != protowire.BytesType {
			t.Fatalf("no field: %x", data)
		}
		value, m := protowire.ConsumeBytes(data[n:])
		if m < 0 {
			t.Fatalf("no bytes: %x", data)
		}
		fields[number], data = value, data[n+m:]
	}
	return fields
}

func TestPolicies(t *testing.T) {
	for name, c := range map[string]struct {
		engine Engine
		key    string
		want   string
	}{
		"Chromium": {Chromium, "k", `{"3rdparty":{"extensions":{"abc":{"key":"k"}}},` +
			`"ExtensionSettings":{"abc":{"installation_mode":"allowed"}}}`},
		"Chromium, where people paste": {Chromium, "", `{"ExtensionSettings":{"abc":{"installation_mode":"allowed"}}}`},
		"Gecko": {Gecko, "k", `{"policies":{"3rdparty":{"Extensions":{"` + GeckoID + `":{"key":"k"}}},"ExtensionSettings":{"` + GeckoID +
			`":{"install_url":"https://s.example/api/v1/add-on/add-on.xpi","installation_mode":"force_installed"}}}}`},
	} {
		policy, err := Policy(c.engine, "abc", "https://s.example", c.key)
		var b bytes.Buffer
		if err == nil {
			err = json.Compact(&b, policy)
		}
		if err != nil || b.String() != c.want {
			t.Errorf("%s: %s %v", name, b.String(), err)
		}
	}
	if _, err := Policy("other", "abc", "https://s.example", ""); err == nil {
		t.Error("another engine has a policy")
	}
}

func BenchmarkPack(b *testing.B) {
	in := input(b, Chromium)
	for b.Loop() {
		if _, err := Pack(in); err != nil {
			b.Fatal(err)
		}
	}
}
