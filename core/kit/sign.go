package kit

import (
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"slices"
	"strings"

	"missivum/core/filename"
	"missivum/core/problem"
)

// The files in a kit's folder that are not for the client.
const (
	ListFile = "kit.json"
	SignFile = "kit.sig" // the signature of the list: Ed25519 (RFC 8032), in base64 on one line
)

// limits of a list, for what comes from elsewhere.
const (
	MaxList   = 1 << 20 // bytes
	maxListed = 500     // files
	MaxFile   = 16 << 20
)

// Key signs lists. The zero value signs nothing.
type Key struct{ private ed25519.PrivateKey }

// NewKey makes a key of 32 random bytes.
func NewKey(seed [ed25519.SeedSize]byte) Key { return Key{ed25519.NewKeyFromSeed(seed[:])} }

// ReadKey reads a private key from PEM (PKCS #8: RFC 5958, RFC 8410).
func ReadKey(text []byte) (Key, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "PRIVATE KEY" {
		return Key{}, problem.New(problem.Invalid, "This is no private key in PEM.")
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	private, ok := parsed.(ed25519.PrivateKey)
	if err != nil || !ok {
		return Key{}, problem.New(problem.Invalid, "This is no private key of the kind Ed25519.")
	}
	return Key{private}, nil
}

// PEM is the private key as PEM.
func (k Key) PEM() []byte {
	bytes, err := x509.MarshalPKCS8PrivateKey(k.private)
	if err != nil {
		panic(err) // every Ed25519 key can be written
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: bytes})
}

// Trusted is the public half of the key, which desks trust.
func (k Key) Trusted() Trusted { return Trusted{k.private.Public().(ed25519.PublicKey)} }

// Trusted is the public key of whoever makes kits.
type Trusted struct{ public ed25519.PublicKey }

// ReadTrusted reads a public key from PEM (RFC 8410).
func ReadTrusted(text []byte) (Trusted, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "PUBLIC KEY" {
		return Trusted{}, problem.New(problem.Invalid, "This is no public key in PEM.")
	}
	parsed, err := x509.ParsePKIXPublicKey(block.Bytes)
	public, ok := parsed.(ed25519.PublicKey)
	if err != nil || !ok {
		return Trusted{}, problem.New(problem.Invalid, "This is no public key of the kind Ed25519.")
	}
	return Trusted{public}, nil
}

// PEM is the public key as PEM.
func (t Trusted) PEM() []byte {
	bytes, err := x509.MarshalPKIXPublicKey(t.public)
	if err != nil {
		panic(err) // every Ed25519 key can be written
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: bytes})
}

// JSON is the list as it is signed: the same list gives the same bytes.
func (l List) JSON() []byte {
	text, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		panic(err) // texts and numbers are always written
	}
	return append(text, '\n')
}

// Digest is the digest of the list's bytes, in hexadecimal: two kits with the same one hold the same.
func Digest(list []byte) string {
	sum := sha256.Sum256(list)
	return hex.EncodeToString(sum[:])
}

// Sign signs a list.
func (k Key) Sign(list []byte) []byte {
	return append([]byte(base64.StdEncoding.EncodeToString(ed25519.Sign(k.private, list))), '\n')
}

// Signed reports whether a signature is that of some bytes by the trusted key.
func (t Trusted) Signed(data, signature []byte) bool {
	sig, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(signature)))
	return err == nil && len(sig) == ed25519.SignatureSize && len(t.public) == ed25519.PublicKeySize && ed25519.Verify(t.public, data, sig)
}

// Open checks the signature of a list and reads it. A list that is signed by somebody else, that was changed, or that names
// files outside its folder is refused.
func (t Trusted) Open(list, signature []byte) (List, error) {
	sig, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(signature)))
	if err != nil || len(sig) != ed25519.SignatureSize {
		return List{}, problem.New(problem.Refused, "%s is no signature.", SignFile)
	}
	if !t.Signed(list, signature) {
		return List{}, problem.New(problem.Refused, "The kit is not signed by the key that this desk trusts, or %s was changed.", ListFile)
	}
	return read(list)
}

// read reads a list that is trusted.
func read(text []byte) (List, error) {
	var l List
	if len(text) > MaxList {
		return l, problem.New(problem.TooLarge, "%s is larger than %d kB.", ListFile, MaxList>>10)
	}
	if err := json.Unmarshal(text, &l); err != nil {
		return l, problem.New(problem.Refused, "%s cannot be read: %v.", ListFile, err)
	}
	if l.Format != format {
		return l, problem.New(problem.Refused, "%s has the format %d; this program reads %d.", ListFile, l.Format, format)
	}
	if len(l.Files) > maxListed {
		return l, problem.New(problem.TooLarge, "The kit has more than %d files.", maxListed)
	}
	seen := map[string]bool{}
	for _, f := range l.Files {
		if !inside(f.File) {
			return l, problem.New(problem.Refused, "The kit names %q, which leads outside or cannot be a file on every system.", f.File)
		}
		if folded := strings.ToLower(f.File); seen[folded] {
			return l, problem.New(problem.Refused, "The kit names %q twice, in letters that some systems do not keep apart.", f.File)
		} else {
			seen[folded] = true
		}
		if f.Bytes < 0 || f.Bytes > MaxFile {
			return l, problem.New(problem.TooLarge, "%s has more than %d MB.", f.File, MaxFile>>20)
		}
	}
	return l, nil
}

// inside reports whether a path stays in its folder on every system: at most one folder deep, no name that means something
// else somewhere.
func inside(path string) bool {
	parts := strings.Split(path, "/")
	return len(parts) <= 2 && !slices.ContainsFunc(parts, func(p string) bool { return !filename.IsSafe(p) })
}

// Check holds a file's content against the list.
func (f Listed) Check(data []byte) error {
	if len(data) != f.Bytes || Digest(data) != f.SHA256 {
		return problem.New(problem.Refused, "%s is not what the kit lists: its digest differs.", f.File)
	}
	return nil
}
