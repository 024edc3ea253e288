// Package keys keeps the keys that programs name themselves with. A key is shown once, when it is made; what is kept is its
// digest. Start with Keys.
package keys

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"missivum/core/audience"
	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/jobs"
	"missivum/service/store"
)

// mostTime is for how long a key may hold at most.
const mostTime = 5 * 366 * 24 * time.Hour

// mostKnown is how many keys are remembered.
const mostKnown = 10_000

// Keys keeps keys.
type Keys struct {
	Store *store.Store
	Now   func() time.Time
	Log   *slog.Logger

	mu      sync.RWMutex
	known   map[[sha256.Size]byte]store.Key // that were asked for, as they are in the store
	knownAt int64                           // store.AccessWrites at that time
	used    map[string]time.Time            // not stored yet
}

// prefix tells a key from other secrets, for whoever finds one where it does not belong.
const prefix = "missivum-"

// Add makes a key, and the source that it pushes to where there is none yet. The key is not kept: it is given here and never
// again.
func (k *Keys) Add(ctx context.Context, key store.Key) (secret string, err error) {
	if err := k.check(&key); err != nil {
		return "", err
	}
	secret = newSecret()
	sum := sha256.Sum256([]byte(secret))
	return secret, k.Store.Write(ctx, func(tx *store.Tx) error {
		if key.Source != "" {
			if err := sourceOf(tx, key.Source); err != nil {
				return err
			}
		}
		return tx.AddKey(key, sum[:])
	})
}

// check refuses a key that makes no sense.
func (k *Keys) check(key *store.Key) error {
	if err := audience.CheckName(key.Name); err != nil {
		return err
	}
	var scopes []access.Scope
	for _, s := range access.Scopes() {
		if key.Has(s) {
			scopes = append(scopes, s)
		}
	}
	switch {
	case len(key.Scopes) == 0:
		return problem.New(problem.Invalid, "A key needs a scope: %s.", scopeNames()).In("scopes")
	case len(scopes) < len(key.Scopes):
		return problem.New(problem.Invalid, "A scope of %q is not known or there twice; they are %s.", key.Scopes, scopeNames()).In("scopes")
	case key.Account != "" && slices.ContainsFunc(scopes, func(s access.Scope) bool { return s != access.APIRead && s != access.APIWrite }):
		return problem.New(problem.Invalid, "A key of your own is of the scope api:read or api:write; others are for programs.").In("scopes")
	case !key.Ends.IsZero() && !key.Ends.After(k.Now()):
		return problem.New(problem.Invalid, "The key would have ended on %s.", key.Ends.Format(time.DateOnly)).In("ends")
	case key.Ends.After(k.Now().Add(mostTime)):
		return problem.New(problem.Invalid, "A key holds for five years at most.").In("ends")
	}
	key.Scopes = scopes
	if key.Has(access.Directory) {
		if err := audience.CheckName(key.Source); err != nil {
			return problem.New(problem.Invalid,
				"%q cannot be the name of a source; a key of the scope directory pushes to one.", key.Source).In("source")
		}
	} else if key.Source != "" {
		return problem.New(problem.Invalid, "Only a key of the scope directory pushes to a source.").In("source")
	}
	return nil
}

func scopeNames() string {
	var names []string
	for _, s := range access.Scopes() {
		names = append(names, string(s))
	}
	return strings.Join(names, ", ")
}

// sourceOf makes the source that a key pushes to, where there is none yet.
func sourceOf(tx *store.Tx, name string) error {
	src, err := tx.Source(name)
	switch {
	case problem.Is(err, problem.NotFound):
		_, err := tx.PutSource(store.Source{Name: name, Kind: "scim", Position: 10, Settings: "{}"})
		return err
	case err != nil:
		return err
	case src.Kind != "scim":
		return problem.New(problem.Conflict,
			"The source %s is of the kind %s; people are pushed into one of the kind scim.", src.Name, src.Kind).In("source")
	}
	return nil
}

// newSecret makes a key.
func newSecret() string {
	var random [32]byte
	rand.Read(random[:]) // never fails (crypto/rand)
	return prefix + base64.RawURLEncoding.EncodeToString(random[:])
}

// Find gives the key of a secret; an error of the kind Unknown for one that is none or has ended. It is remembered until a key
// or an account is changed.
func (k *Keys) Find(ctx context.Context, secret string) (store.Key, error) {
	sum := sha256.Sum256([]byte(secret))
	at := k.Store.AccessWrites()
	k.mu.RLock()
	key, ok := k.known[sum]
	ok = ok && k.knownAt == at
	k.mu.RUnlock()
	if !ok {
		err := k.Store.Read(ctx, func(tx *store.Tx) (err error) {
			key, err = tx.KeyByDigest(sum[:])
			return err
		})
		if problem.Is(err, problem.NotFound) {
			return key, problem.New(problem.Unknown, "This key is not known; it may have been removed.")
		}
		if err != nil {
			return key, err
		}
		k.mu.Lock()
		if k.known == nil || k.knownAt != at || len(k.known) >= mostKnown {
			k.known, k.knownAt = map[[sha256.Size]byte]store.Key{}, at
		}
		k.known[sum] = key
		k.mu.Unlock()
	}
	if !key.Ends.IsZero() && !k.Now().Before(key.Ends) {
		return key, problem.New(problem.Unknown, "This key ended on %s.", key.Ends.Format(time.DateOnly))
	}
	k.noteUse(key.Name)
	return key, nil
}

// noteUse remembers that a key was used, within a minute.
func (k *Keys) noteUse(name string) {
	now := k.Now()
	k.mu.RLock()
	recent := now.Sub(k.used[name]) < time.Minute
	k.mu.RUnlock()
	if recent {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.used == nil {
		k.used = map[string]time.Time{}
	}
	k.used[name] = now
}

// Watch stores when keys were used, again and again until the context ends.
func (k *Keys) Watch(ctx context.Context, interval time.Duration) {
	jobs.Every(ctx, interval, k.Log, "keys", k.StoreUses)
}

// StoreUses stores when keys were used.
func (k *Keys) StoreUses(ctx context.Context) error {
	k.mu.Lock()
	uses := k.used
	k.used = nil
	k.mu.Unlock()
	if len(uses) == 0 {
		return nil
	}
	return k.Store.Write(ctx, func(tx *store.Tx) error { return tx.KeysUsed(uses) })
}

// List lists the keys.
func (k *Keys) List(ctx context.Context) (list []store.Key, err error) {
	err = k.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.Keys()
		return err
	})
	return list, err
}

// Remove removes a key, which from then on opens nothing. With an account only a key of that account is removed.
func (k *Keys) Remove(ctx context.Context, name, account string) error {
	return k.Store.Write(ctx, func(tx *store.Tx) error {
		if account != "" {
			key, err := tx.Key(name)
			if err != nil {
				return err
			}
			if key.Account != account {
				return problem.Missing("key of yours", name)
			}
		}
		return tx.RemoveKey(name)
	})
}
