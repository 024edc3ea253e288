package access

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"missivum/core/problem"
	"missivum/service/files"
)

// Marks make tokens that the service knows again without asking the database: a number, when it ends, a secret, and a mark
// (HMAC-SHA-256, RFC 2104). The database keeps the secret's digest only.
type Marks struct {
	File string // key of the marks; it is made when it is missing

	key []byte
}

// Sizes of a token's pieces, in bytes.
const (
	SecretSize = 16
	markSize   = 16
	tokenSize  = 8 + 8 + SecretSize + markSize
)

// Start reads the key, or makes it.
func (m *Marks) Start() error {
	key, err := os.ReadFile(m.File)
	if errors.Is(err, fs.ErrNotExist) {
		m.key = make([]byte, 32)
		rand.Read(m.key) // never fails (crypto/rand)
		if err := os.MkdirAll(filepath.Dir(m.File), 0o700); err != nil {
			return err
		}
		if err := files.WriteBytes(m.File, m.key); err != nil {
			return fmt.Errorf("the key of personal links: %w", err)
		}
		return os.Chmod(m.File, 0o600)
	}
	if err == nil && len(key) < 32 {
		err = problem.New(problem.Invalid, "%s does not hold a key; remove it, and personal links that are out end.", m.File)
	}
	m.key = key
	return err
}

// Mark is the service's mark below something.
func (m *Marks) Mark(what string, text []byte) []byte {
	h := hmac.New(sha256.New, m.key)
	h.Write([]byte(what))
	h.Write([]byte{0})
	h.Write(text)
	return h.Sum(nil)[:markSize]
}

// NewSecret makes a secret and its digest.
func NewSecret() (secret, digest []byte) {
	secret = make([]byte, SecretSize)
	rand.Read(secret) // never fails (crypto/rand)
	sum := sha256.Sum256(secret)
	return secret, sum[:]
}

// Token writes a token of a kind.
func (m *Marks) Token(kind string, id int64, ends time.Time, secret []byte) string {
	text := binary.BigEndian.AppendUint64(nil, uint64(id))
	text = binary.BigEndian.AppendUint64(text, uint64(ends.Unix()))
	text = append(text, secret...)
	return base64.RawURLEncoding.EncodeToString(append(text, m.Mark(kind, text)...))
}

// ReadToken reads a token; false for one that the service did not make for the kind, or that has ended.
func (m *Marks) ReadToken(kind, token string, now time.Time) (id int64, secret []byte, ok bool) {
	if len(token) != base64.RawURLEncoding.EncodedLen(tokenSize) {
		return 0, nil, false
	}
	data, err := base64.RawURLEncoding.Strict().DecodeString(token)
	if err != nil || len(data) != tokenSize || !hmac.Equal(data[tokenSize-markSize:], m.Mark(kind, data[:tokenSize-markSize])) {
		return 0, nil, false
	}
	ends := time.Unix(int64(binary.BigEndian.Uint64(data[8:])), 0)
	return int64(binary.BigEndian.Uint64(data)), data[16 : 16+SecretSize], now.Before(ends)
}
