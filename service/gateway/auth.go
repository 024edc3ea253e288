package gateway

import (
	"crypto/sha256"
	"crypto/subtle"
	"net"
	"strings"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"missivum/core/problem"
)

// Keys are the digests of the keys with which clients of the relay may sign in, by user name (RFC 4954, mechanism PLAIN of RFC 4616).
type Keys map[string][sha256.Size]byte

// ReadKeys reads keys, one to a line: a user name, a colon, the key. Blank lines and those that begin with # are left out.
func ReadKeys(text string) (Keys, error) {
	keys := Keys{}
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, key, ok := strings.Cut(line, ":")
		if !ok || name == "" || len(key) < 16 {
			return nil, problem.New(problem.Invalid, "Line %d of the keys is no name, colon and key of at least 16 characters.", i+1)
		}
		keys[name] = sha256.Sum256([]byte(key))
	}
	if len(keys) == 0 {
		return nil, problem.New(problem.Invalid, "There are no keys.")
	}
	return keys, nil
}

// fits reports whether a key is that of a user, in a time that does not depend on it.
func (k Keys) fits(name, key string) bool {
	want, there := k[name]
	got := sha256.Sum256([]byte(key))
	return subtle.ConstantTimeCompare(want[:], got[:]) == 1 && there
}

// AuthMechanisms is what a client may sign in with.
func (r *relayed) AuthMechanisms() []string {
	if len(r.gateway.config.Keys) == 0 {
		return nil
	}
	return []string{sasl.Plain}
}

// Auth signs a client in.
func (r *relayed) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, name, key string) error {
		if !r.gateway.config.Keys.fits(name, key) {
			r.gateway.config.Log.Warn("a client did not sign in", "name", name, "address", r.conn.Conn().RemoteAddr().String())
			return smtp.ErrAuthFailed
		}
		r.signedIn = true
		return nil
	}), nil
}

// secret reports whether keys may be said on connections to a listener without encryption: those of this machine.
func secret(l net.Listener) bool {
	tcp, ok := l.Addr().(*net.TCPAddr)
	return !ok || tcp.IP.IsLoopback()
}
