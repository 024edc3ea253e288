// Package keys keeps the keys that programs name themselves with. A key is shown once, when it is made; what is kept is its
// digest. Start with Keys.
package keys

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"slices"
	"strings"

	"missivum/core/audience"
	"missivum/core/problem"
	"missivum/service/store"
)

// Directory is the scope of keys that push people in.
const Directory = "directory"

// Desk is the scope of keys with which desks ask for signatures and report.
const Desk = "desk"

// scopes are what a key can be for.
var scopes = []string{Directory, Desk}

// Keys keeps keys.
type Keys struct{ Store *store.Store }

// prefix tells a key from other secrets, for whoever finds one where it does not belong.
const prefix = "missivum-"

// Add makes a key of a scope, and the source that it pushes to where there is none yet. The key is not kept: it is given here
// and never again.
func (k *Keys) Add(ctx context.Context, key store.Key) (secret string, err error) {
	if err := audience.CheckName(key.Name); err != nil {
		return "", err
	}
	if !slices.Contains(scopes, key.Scope) {
		return "", problem.New(problem.Invalid, "The scope %q is not known; it is %s.", key.Scope, strings.Join(scopes, " or ")).In("scope")
	}
	if key.Scope == Desk {
		if key.Source != "" {
			return "", problem.New(problem.Invalid, "A key of the scope desk pushes to no source.").In("source")
		}
		secret = newSecret()
		return secret, k.Store.Write(ctx, func(tx *store.Tx) error { return tx.AddKey(key, digest(secret)) })
	}
	if err := audience.CheckName(key.Source); err != nil {
		return "", problem.New(problem.Invalid, "%q cannot be the name of a source.", key.Source).In("source")
	}
	secret = newSecret()
	return secret, k.Store.Write(ctx, func(tx *store.Tx) error {
		src, err := tx.Source(key.Source)
		switch {
		case problem.Is(err, problem.NotFound):
			if _, err := tx.PutSource(store.Source{Name: key.Source, Kind: "scim", Position: 10, Settings: "{}"}); err != nil {
				return err
			}
		case err != nil:
			return err
		case src.Kind != "scim":
			return problem.New(problem.Conflict,
				"The source %s is of the kind %s; people are pushed into one of the kind scim.", src.Name, src.Kind).In("source")
		}
		return tx.AddKey(key, digest(secret))
	})
}

// newSecret makes a key.
func newSecret() string {
	var random [32]byte
	rand.Read(random[:]) // never fails (crypto/rand)
	return prefix + base64.RawURLEncoding.EncodeToString(random[:])
}

// digest is what is kept of a key.
func digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Find gives the key of a secret; an error of the kind NotFound for one that is none.
func (k *Keys) Find(ctx context.Context, secret string) (key store.Key, err error) {
	err = k.Store.Read(ctx, func(tx *store.Tx) error {
		key, err = tx.KeyByDigest(digest(secret))
		return err
	})
	return key, err
}

// List lists the keys.
func (k *Keys) List(ctx context.Context) (list []store.Key, err error) {
	err = k.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.Keys()
		return err
	})
	return list, err
}

// Remove removes a key, which from then on opens nothing.
func (k *Keys) Remove(ctx context.Context, name string) error {
	return k.Store.Write(ctx, func(tx *store.Tx) error { return tx.RemoveKey(name) })
}
