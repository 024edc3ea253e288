package addon

import (
	"context"
	"crypto/sha256"
	"strings"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

// prefix tells the key of an add-on from other secrets.
const prefix = "missivum-add-on-"

// ofKey is the kind of a key's token (access.Marks).
const ofKey = "add-on"

// mostKeys is how many keys a person has at once: one for each browser. The oldest ends for the next one.
const mostKeys = 10

// IsKey reports whether a secret has the form of an add-on's key.
func IsKey(secret string) bool { return strings.HasPrefix(secret, prefix) }

// wrongKey is the one answer to every key that opens nothing, whatever is wrong with it.
var wrongKey = problem.New(problem.Unknown, "This key opens nothing: it has ended, or is not whole. Get a new one.")

// Bearer is who an add-on's key is of.
type Bearer struct {
	ID     int64
	Person string // mail address, folded
	Ends   time.Time
	Used   time.Time
}

// Key is a key as it is shown once.
type Key struct {
	ID     int64     `json:"id"`
	Person string    `json:"person"`
	Key    string    `json:"key"`
	Ends   time.Time `json:"ends"`
}

// fold makes mail addresses comparable.
func fold(mail string) string { return strings.ToLower(strings.TrimSpace(mail)) }

// NewKeys makes a key for each of some people of the directory; none of them where one is not in it. Keys of before go on, for other
// browsers of the same person.
func (a *AddOn) NewKeys(ctx context.Context, people []string) (list []Key, err error) {
	for _, mail := range people {
		known, err := a.Desks.Known(ctx, mail)
		if err != nil {
			return nil, err
		}
		if !known {
			return nil, problem.Missing("person", mail)
		}
	}
	err = a.Store.Write(ctx, func(tx *store.Tx) error {
		settings, err := settingsIn(tx)
		if err != nil {
			return err
		}
		for _, mail := range people {
			n, oldest, err := tx.AddOnKeysOf(fold(mail))
			if err != nil {
				return err
			}
			if n >= mostKeys {
				if err := tx.RevokeAddOnKey(oldest); err != nil {
					return err
				}
			}
			secret, digest := access.NewSecret()
			ends := a.Now().Add(time.Duration(settings.KeyDays) * 24 * time.Hour).Truncate(time.Second)
			id, err := tx.AddAddOnKey(fold(mail), digest, ends)
			if err != nil {
				return err
			}
			list = append(list, Key{id, fold(mail), prefix + a.Marks.Token(ofKey, id, ends, secret), ends})
		}
		return nil
	})
	return list, err
}

// Bearer finds out whose key a secret is. Every key that opens nothing gets the same answer, and whoever tries many waits.
func (a *AddOn) Bearer(ctx context.Context, secret string) (by Bearer, err error) {
	if wait := a.tries.Wait(a.Now(), access.Where(ctx)); wait > 0 {
		return by, access.TooOften(wait)
	}
	id, own, ok := a.Marks.ReadToken(ofKey, strings.TrimPrefix(secret, prefix), a.Now())
	if !ok {
		a.tries.Count(a.Now(), access.Where(ctx))
		return by, wrongKey
	}
	digest := sha256.Sum256(own)
	var k store.AddOnKey
	err = a.Store.Read(ctx, func(tx *store.Tx) error {
		k, err = tx.AddOnKeyBy(id, digest[:])
		return err
	})
	if problem.Is(err, problem.NotFound) || err == nil && (!k.Revoked.IsZero() || !a.Now().Before(k.Ends)) {
		return by, wrongKey
	}
	if err != nil {
		return by, err
	}
	known, err := a.Desks.Known(ctx, k.Person)
	if err == nil && !known {
		err = wrongKey
	}
	return Bearer{k.ID, k.Person, k.Ends, k.Used}, err
}

// used notes that a key was used: once a day, or with a report.
func (a *AddOn) used(ctx context.Context, by Bearer, version string) error {
	if version == "" && a.Now().Sub(by.Used) < 24*time.Hour {
		return nil
	}
	return a.Store.Write(ctx, func(tx *store.Tx) error { return tx.UsedAddOnKey(by.ID, version) })
}

// mostListed is how many keys are listed.
const mostListed = 200

// Keys lists keys of which the address holds a text, the newest first.
func (a *AddOn) Keys(ctx context.Context, search string) (list []store.AddOnKey, err error) {
	err = a.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.AddOnKeys(search, mostListed)
		return err
	})
	return list, err
}

// Revoke ends a key.
func (a *AddOn) Revoke(ctx context.Context, id int64) error {
	return a.Store.Write(ctx, func(tx *store.Tx) error { return tx.RevokeAddOnKey(id) })
}
