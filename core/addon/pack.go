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
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"google.golang.org/protobuf/encoding/protowire"

	"missivum/core/problem"
)

// Engine is what kind of browser a package is for.
type Engine string

// The engines that take the add-on.
const (
	Chromium Engine = "chromium"
	Gecko    Engine = "gecko"
)

// Engines lists the engines.
var Engines = []Engine{Chromium, Gecko}

// GeckoID is by which browsers of the Gecko engine, and their policies, know the add-on.
const GeckoID = "signatures@missivum.invalid"

// Input is what a package is made of.
type Input struct {
	Files        fs.FS // of the add-on
	Organisation string
	Service      string // address, without a slash at its end
	Sites        []Site
	Version      string // three numbers
	Engine       Engine
	Public       *rsa.PublicKey // by which Chromium knows the add-on
}

// packed is the time of all files in a package: the same content is the same package.
var packed = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// longestName is how many characters an add-on's name has at most (WebExtensions).
const longestName = 75

// Pack makes a package: an archive (ZIP) with the files, the manifest and the texts. It has access to the sites and the service alone.
func Pack(in Input) ([]byte, error) {
	files, err := in.files()
	if err != nil {
		return nil, err
	}
	var names []string
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range names {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: packed})
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(files[name]); err != nil {
			return nil, err
		}
	}
	err = z.Close()
	return b.Bytes(), err
}

// Unpacked are the files of a package by their names, for a browser that loads a folder.
func Unpacked(in Input) (map[string][]byte, error) { return in.files() }

// Digest says what is in a package, whatever its version: two that differ need different versions.
func Digest(in Input) (string, error) {
	in.Version = "0.0.0"
	data, err := Pack(in)
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), err
}

func (in Input) files() (map[string][]byte, error) {
	files := map[string][]byte{}
	err := fs.WalkDir(in.Files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := fs.ReadFile(in.Files, name)
		if language, ok := strings.CutPrefix(name, "texts/"); ok && err == nil {
			name = "_locales/" + strings.TrimSuffix(language, ".json") + "/messages.json"
			data, err = messages(data)
		}
		files[name] = data
		return err
	})
	if err != nil {
		return nil, err
	}
	service, err := json.Marshal(in.Service)
	if err != nil {
		return nil, err
	}
	files["organisation.js"] = fmt.Appendf(nil, "/* Written when the add-on was packed. */\nexport const service = %s\n", service)
	files["policy.json"] = []byte(policySchema)
	files["manifest.json"], err = in.manifest()
	return files, err
}

// policySchema is what an organisation's policy may set (JSON Schema).
const policySchema = `{
  "type": "object",
  "properties": {
    "key": { "type": "string", "title": "Key", "description": "The key of the person who uses this browser." }
  }
}
`

// messages writes texts as browsers read them: a name has letters, digits and low lines, and $1 stands for what is put in.
func messages(flat []byte) ([]byte, error) {
	var texts map[string]string
	if err := json.Unmarshal(flat, &texts); err != nil {
		return nil, err
	}
	type text struct {
		Message string `json:"message"`
	}
	list := map[string]text{}
	for name, t := range texts {
		list[strings.ReplaceAll(name, "-", "_")] = text{t}
	}
	return json.MarshalIndent(list, "", "  ")
}

// manifest is a WebExtension's manifest, version 3.
type manifest struct {
	ManifestVersion int               `json:"manifest_version"`
	Name            string            `json:"name"`
	Version         string            `json:"version"`
	Description     string            `json:"description"`
	DefaultLocale   string            `json:"default_locale"`
	Key             string            `json:"key,omitempty"`
	Icons           map[string]string `json:"icons"`
	Action          struct {
		Popup string            `json:"default_popup"`
		Icons map[string]string `json:"default_icon"`
	} `json:"action"`
	Options struct {
		Page string `json:"page"`
		Tab  bool   `json:"open_in_tab"`
	} `json:"options_ui"`
	Background struct {
		Worker  string   `json:"service_worker,omitempty"`
		Scripts []string `json:"scripts,omitempty"`
		Type    string   `json:"type"`
	} `json:"background"`
	Permissions []string        `json:"permissions"`
	Hosts       []string        `json:"host_permissions"`
	Content     []contentScript `json:"content_scripts,omitempty"`
	Storage     struct {
		Schema string `json:"managed_schema"`
	} `json:"storage"`
	Policy struct {
		Pages string `json:"extension_pages"`
	} `json:"content_security_policy"`
	Specific *specific `json:"browser_specific_settings,omitempty"`
}

type contentScript struct {
	Matches   []string `json:"matches"`
	JS        []string `json:"js"`
	AllFrames bool     `json:"all_frames"`
	RunAt     string   `json:"run_at"`
}

type specific struct {
	Gecko struct {
		ID      string `json:"id"`
		Minimum string `json:"strict_min_version"`
	} `json:"gecko"`
}

func (in Input) manifest() ([]byte, error) {
	at, err := url.Parse(in.Service)
	if err != nil || at.Host == "" || at.Scheme != "https" && at.Scheme != "http" {
		return nil, problem.New(problem.Invalid, "The add-on needs the address under which people reach the service; %q is none.", in.Service)
	}
	icons := map[string]string{"16": "icons/16.png", "32": "icons/32.png", "48": "icons/48.png", "128": "icons/128.png"}
	m := manifest{ManifestVersion: 3, Name: name(in.Organisation), Version: in.Version, Description: "__MSG_about__", DefaultLocale: "en",
		Icons: icons, Permissions: []string{"alarms", "storage"}}
	m.Action.Popup, m.Action.Icons = "why.html", icons
	m.Options.Page, m.Options.Tab = "settings.html", true
	m.Background.Type = "module"
	m.Storage.Schema = "policy.json"
	m.Policy.Pages = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; connect-src " + at.Scheme + "://" + at.Host
	service := Pattern{Scheme: at.Scheme, Host: at.Hostname(), Port: at.Port(), Path: "/api/v1/add-on/*"}
	ports := in.Engine == Chromium
	m.Hosts = []string{service.String(ports)}
	if sites := patterns(in.Sites, ports); len(sites) > 0 {
		m.Hosts = append(m.Hosts, sites...)
		m.Content = []contentScript{{Matches: sites, JS: []string{"place.js", "record.js", "content.js"}, AllFrames: true,
			RunAt: "document_start"}}
	}
	switch in.Engine {
	case Chromium:
		if in.Public == nil {
			return nil, errors.New("a package for Chromium needs a key")
		}
		der, err := x509.MarshalPKIXPublicKey(in.Public)
		if err != nil {
			return nil, err
		}
		m.Key = base64.StdEncoding.EncodeToString(der)
		m.Background.Worker = "background.js"
	case Gecko:
		m.Background.Scripts = []string{"background.js"}
		m.Specific = &specific{}
		m.Specific.Gecko.ID, m.Specific.Gecko.Minimum = GeckoID, "128.0"
	default:
		return nil, problem.New(problem.Invalid, "There is no engine %q; there are chromium and gecko.", in.Engine)
	}
	return json.MarshalIndent(m, "", "  ")
}

// name is how browsers list the add-on.
func name(organisation string) string {
	text := strings.TrimSpace("Signatures " + organisation)
	if utf8.RuneCountInString(text) <= longestName {
		return text
	}
	return strings.TrimSpace(string([]rune(text)[:longestName-1])) + "…"
}

// GeckoPath is where the service has the package that browsers of the Gecko engine fetch by policy.
const GeckoPath = "/api/v1/add-on/add-on.xpi"

// ID is by which Chromium knows the add-on of a key: the first 128 bits of the key's SHA-256, each four as a letter from a to p.
func ID(public *rsa.PublicKey) (string, error) {
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	sum := sha256.Sum256(der)
	for _, c := range sum[:16] {
		b.WriteByte('a' + c>>4)
		b.WriteByte('a' + c&15)
	}
	return b.String(), nil
}

// Sign makes a signed package for Chromium (CRX3, as Chromium's components/crx_file/crx3.proto describes it) of an archive.
func Sign(archive []byte, key *rsa.PrivateKey) ([]byte, error) {
	der, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(der)
	data := protowire.AppendTag(nil, 1, protowire.BytesType)
	data = protowire.AppendBytes(data, sum[:16])
	signature, err := rsa.SignPKCS1v15(rand.Reader, key, crypto.SHA256, signedDigest(data, archive))
	if err != nil {
		return nil, err
	}
	proof := protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), der)
	proof = protowire.AppendBytes(protowire.AppendTag(proof, 2, protowire.BytesType), signature)
	header := protowire.AppendBytes(protowire.AppendTag(nil, 2, protowire.BytesType), proof)
	header = protowire.AppendBytes(protowire.AppendTag(header, 10_000, protowire.BytesType), data)
	out := append([]byte("Cr24"), 3, 0, 0, 0)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(header)))
	return append(append(out, header...), archive...), nil
}

func signedDigest(data, archive []byte) []byte {
	h := sha256.New()
	h.Write([]byte("CRX3 SignedData\x00"))
	h.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(data))))
	h.Write(data)
	h.Write(archive)
	return h.Sum(nil)
}

// Policy is what an administrator gives to browsers so that they know a person's key, and, for Gecko, install the add-on: a file for
// Chromium's folder of managed policies, or Gecko's policies.json. key is blank where people paste their own.
func Policy(engine Engine, id, service, key string) ([]byte, error) {
	type object = map[string]any
	switch engine {
	case Chromium:
		policy := object{"ExtensionSettings": object{id: object{"installation_mode": "allowed"}}}
		if key != "" {
			policy["3rdparty"] = object{"extensions": object{id: object{"key": key}}}
		}
		return json.MarshalIndent(policy, "", "  ")
	case Gecko:
		settings := object{"installation_mode": "force_installed", "install_url": service + GeckoPath}
		policy := object{"ExtensionSettings": object{GeckoID: settings}}
		if key != "" {
			policy["3rdparty"] = object{"Extensions": object{GeckoID: object{"key": key}}}
		}
		return json.MarshalIndent(object{"policies": policy}, "", "  ")
	}
	return nil, problem.New(problem.Invalid, "There is no engine %q; there are chromium and gecko.", engine).In("engine")
}
