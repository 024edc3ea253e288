// Package addon answers the browser add-on: which signatures one person's browser places on which sites, and what it says of itself;
// and packs the add-on for the organisation. Start with AddOn.Current.
package addon

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	lru "github.com/hashicorp/golang-lru/v2"

	core "missivum/core/addon"
	"missivum/core/compose"
	"missivum/core/kit"
	"missivum/core/personal"
	"missivum/core/problem"
	"missivum/core/proof"
	"missivum/service/access"
	"missivum/service/clients"
	"missivum/service/desks"
	"missivum/service/files"
	"missivum/service/store"
)

// AddOn answers the add-on.
type AddOn struct {
	Store   *store.Store
	Desks   *desks.Desks
	Clients *clients.Clients
	Marks   *access.Marks // of the keys
	Files   fs.FS         // of the add-on
	KeyFile string        // private key by which Chromium knows the add-on; it is made when it is missing
	Address func() string // under which people reach the service
	Now     func() time.Time

	tries    *access.Limit
	compiled *lru.Cache[compiledKey, *compose.Signature]
	signing  sync.Mutex
	key      *rsa.PrivateKey
}

// How many keys that open nothing an address may try at once, and how long each one after them takes.
const (
	triesAtOnce = 20
	triesPause  = 5 * time.Second
)

// mostCompiled is how many templates of releases are kept compiled.
const mostCompiled = 200

// Start readies the answers.
func (a *AddOn) Start() {
	a.tries = access.NewLimit(triesAtOnce, triesPause)
	a.compiled, _ = lru.New[compiledKey, *compose.Signature](mostCompiled) // fails only for a size below 1
}

// Settings are what the organisation says about the add-on.
type Settings struct {
	Name    string      `json:"name"` // that browsers list it under, after the word Signatures
	KeyDays int         `json:"keyDays"`
	Sites   []core.Site `json:"sites"`
}

const (
	settingName     = "add-on"
	versionName     = "add-on-version"
	standardKeyDays = 730
	maxKeyDays      = 1830
	longestName     = 60
)

func settingsIn(tx *store.Tx) (Settings, error) {
	s := Settings{KeyDays: standardKeyDays, Sites: []core.Site{}}
	return s, tx.Setting(settingName, &s)
}

// Settings gives what the organisation says about the add-on.
func (a *AddOn) Settings(ctx context.Context) (s Settings, err error) {
	err = a.Store.Read(ctx, func(tx *store.Tx) error {
		s, err = settingsIn(tx)
		return err
	})
	return s, err
}

// PutSettings stores what the organisation says about the add-on.
func (a *AddOn) PutSettings(ctx context.Context, s Settings) error {
	if s.KeyDays < 1 || s.KeyDays > maxKeyDays {
		return problem.New(problem.Invalid, "keyDays is a number from 1 to %d.", maxKeyDays).In("keyDays")
	}
	if utf8.RuneCountInString(s.Name) > longestName {
		return problem.New(problem.Invalid, "The name has at most %d characters.", longestName).In("name")
	}
	if err := core.Check(s.Sites); err != nil {
		return err
	}
	book, _, err := a.Clients.Book(ctx)
	if err != nil {
		return err
	}
	for i, site := range s.Sites {
		if book.Find(site.Client) == nil {
			return problem.New(problem.Invalid, "The site %s: there is no client profile %q.", site.ID, site.Client).
				In(fmt.Sprintf("sites[%d].client", i))
		}
	}
	return a.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutSetting(settingName, s) })
}

// Overview says how things stand with the add-on.
type Overview struct {
	Settings
	Version string `json:"version"` // of the package as it would be now
	ID      string `json:"id"`      // by which Chromium knows it
	GeckoID string `json:"geckoId"`
	People  int    `json:"people"` // with a key that can be used
	Used    int    `json:"used"`   // of those, whose browser used it within the last seven days
}

const lately = 7 * 24 * time.Hour

// Overview gives how things stand.
func (a *AddOn) Overview(ctx context.Context) (o Overview, err error) {
	if o.Settings, err = a.Settings(ctx); err != nil {
		return o, err
	}
	in, err := a.input(ctx, core.Chromium)
	if err != nil {
		return o, err
	}
	o.Version, o.GeckoID = in.Version, core.GeckoID
	if o.ID, err = core.ID(in.Public); err != nil {
		return o, err
	}
	err = a.Store.Read(ctx, func(tx *store.Tx) error {
		o.People, o.Used, err = tx.AddOnKeyCount(a.Now().Add(-lately))
		return err
	})
	return o, err
}

// version is what was packed last.
type version struct {
	Number int    `json:"number"`
	Digest string `json:"digest"` // of what is in the packages of all engines
}

// input is what a package is made of, with a version of its own for everything that differs from the package before.
func (a *AddOn) input(ctx context.Context, engine core.Engine) (in core.Input, err error) {
	s, err := a.Settings(ctx)
	if err != nil {
		return in, err
	}
	key, err := a.signingKey()
	if err != nil {
		return in, err
	}
	in = core.Input{Files: a.Files, Organisation: s.Name, Service: a.Address(), Sites: s.Sites, Public: &key.PublicKey}
	digest := ""
	for _, e := range core.Engines {
		in.Engine = e
		one, err := core.Digest(in)
		if err != nil {
			return in, err
		}
		digest += one
	}
	in.Engine = engine
	var v version
	if err = a.Store.Read(ctx, func(tx *store.Tx) error { return tx.Setting(versionName, &v) }); err != nil {
		return in, err
	}
	if v.Digest != digest {
		err = a.Store.Write(ctx, func(tx *store.Tx) error {
			if err := tx.Setting(versionName, &v); err != nil || v.Digest == digest {
				return err
			}
			v = version{v.Number + 1, digest}
			return tx.PutSetting(versionName, v)
		})
	}
	in.Version = fmt.Sprintf("1.0.%d", v.Number)
	return in, err
}

// Form is what kind of file a package is.
type Form string

// The forms.
const (
	Archive Form = "zip" // for Chromium, to be unpacked, or handed to whoever signs
	Signed  Form = "crx" // for Chromium, signed by the service
	Gecko   Form = "xpi" // for browsers of the Gecko engine
)

// Package makes a package.
func (a *AddOn) Package(ctx context.Context, form Form) (data []byte, version string, err error) {
	engine := core.Chromium
	switch form {
	case Gecko:
		engine = core.Gecko
	case Archive, Signed:
	default:
		return nil, "", problem.New(problem.Invalid, "There is no package %q; there are zip, crx and xpi.", form)
	}
	in, err := a.input(ctx, engine)
	if err != nil {
		return nil, "", err
	}
	if data, err = core.Pack(in); err == nil && form == Signed {
		data, err = core.Sign(data, a.key)
	}
	return data, in.Version, err
}

// Policy gives what an administrator gives to browsers.
func (a *AddOn) Policy(ctx context.Context, engine core.Engine, key string) ([]byte, error) {
	o, err := a.Overview(ctx)
	if err != nil {
		return nil, err
	}
	return core.Policy(engine, o.ID, a.Address(), key)
}

const keyBits = 2048

// signingKey reads the key by which Chromium knows the add-on, or makes it.
func (a *AddOn) signingKey() (*rsa.PrivateKey, error) {
	a.signing.Lock()
	defer a.signing.Unlock()
	if a.key != nil {
		return a.key, nil
	}
	text, err := os.ReadFile(a.KeyFile)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := rsa.GenerateKey(rand.Reader, keyBits)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		if err := os.MkdirAll(filepath.Dir(a.KeyFile), 0o700); err != nil {
			return nil, err
		}
		if err := files.WriteBytes(a.KeyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})); err != nil {
			return nil, fmt.Errorf("the key of the add-on: %w", err)
		}
		a.key = key
		return key, os.Chmod(a.KeyFile, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("the key of the add-on: %w", err)
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, problem.New(problem.Invalid, "%s does not hold a key; remove it, and the add-on gets another id.", a.KeyFile)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := parsed.(*rsa.PrivateKey)
	if err != nil || !ok {
		return nil, problem.New(problem.Invalid, "%s does not hold a key of the kind RSA; remove it, and the add-on gets another id.", a.KeyFile)
	}
	a.key = key
	return key, nil
}

// compiledKey is by which a compiled template is found: what is in a release does not change.
type compiledKey struct {
	release, template, variant, day string
}

// situations are those that the add-on tells apart.
var situations = []string{"new", "reply"}

// Current gives what a person's add-on works with, and a digest of it.
func (a *AddOn) Current(ctx context.Context, by Bearer) (answer core.Answer, tag string, err error) {
	own, err := a.Desks.Own(ctx, by.Person)
	if err != nil {
		return answer, "", err
	}
	settings, err := a.Settings(ctx)
	if err != nil {
		return answer, "", err
	}
	answer = core.Answer{Person: by.Person, Release: own.Release, Ends: by.Ends.Format(time.DateOnly), Sites: settings.Sites,
		Signatures: []core.Signature{}}
	for _, situation := range situations {
		c, err := own.Choice(situation)
		if problem.Is(err, problem.NotFound) {
			continue
		}
		if err != nil {
			return answer, "", err
		}
		html, text, err := a.fill(own, c)
		if err != nil {
			return answer, "", err
		}
		for _, site := range settings.Sites {
			answer.Signatures = append(answer.Signatures, core.Signature{Site: site.ID, Situation: situation, HTML: html, Text: text})
		}
	}
	data, err := json.Marshal(answer)
	if err != nil {
		return answer, "", err
	}
	sum := sha256.Sum256(data)
	return answer, hex.EncodeToString(sum[:16]), a.used(ctx, by, "")
}

// fill fills one signature.
func (a *AddOn) fill(own desks.Own, c kit.Choice) (html, text string, err error) {
	name := compiledKey{own.Release, c.Template, c.Variant, own.Day.Format(time.DateOnly)}
	compiled, ok := a.compiled.Get(name)
	if !ok {
		in := personal.Input{Template: own.Templates[c.Template], Schema: own.Schema, Day: own.Day, Variant: c.Variant}
		if compiled, err = in.Compile(); err != nil {
			return "", "", err
		}
		a.compiled.Add(name, compiled)
	}
	html, text = personal.Fill(compiled, c.Variant, own.Person)
	return html, text, nil
}

// mostReports is how many reports come at once.
const mostReports = 50

// meant is what an outcome says of a signature.
var meant = map[core.Outcome]proof.State{core.Placed: proof.Right, core.There: proof.Right, core.OwnBox: proof.Another,
	core.Another: proof.Another, core.Unknown: proof.None, core.Changed: proof.None}

// State keeps what an add-on says of itself as proof.
func (a *AddOn) State(ctx context.Context, by Bearer, s core.State) error {
	if len(s.Reports) > mostReports || len(s.Version) > 20 {
		return problem.New(problem.Invalid, "An add-on sends at most %d reports at once, and its version.", mostReports)
	}
	settings, err := a.Settings(ctx)
	if err != nil {
		return err
	}
	own, err := a.Desks.Own(ctx, by.Person)
	if err != nil {
		return err
	}
	var proofs []store.Proof
	for i, r := range s.Reports {
		at := slices.IndexFunc(settings.Sites, func(site core.Site) bool { return site.ID == r.Site })
		state, known := meant[r.Outcome]
		if !known || !slices.Contains(situations, r.Situation) || len(r.Release) > 20 {
			return problem.New(problem.Invalid, "The report %d has an outcome or a situation that is not known.", i+1).In("reports")
		}
		if at < 0 {
			continue // the site was taken away meanwhile
		}
		one := store.Proof{Person: by.Person, Client: settings.Sites[at].Client, Way: string(desks.ByAddOn), Situation: r.Situation,
			Release: r.Release, State: string(state), Kinds: []string{}}
		if state != proof.Right {
			one.Kinds = []string{string(r.Outcome)}
		} else if r.Release == own.Release {
			tag, _, err := a.Desks.Tag(ctx, desks.Asked{Person: by.Person, Client: one.Client})
			if err == nil { // some programs get no kit
				one.Kit = tag
			}
		}
		proofs = append(proofs, one)
	}
	err = a.Store.Write(ctx, func(tx *store.Tx) error {
		for _, one := range proofs {
			if err := tx.PutProof(one); err != nil {
				return err
			}
		}
		return nil
	})
	return errors.Join(err, a.used(ctx, by, s.Version))
}
