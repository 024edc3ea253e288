// Package accounts keeps the people who sign in: their roles, passwords and second factors, the links with which a password
// is chosen, and their sessions. Start with Accounts and SignIn.
package accounts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/v2"
	"golang.org/x/sync/semaphore"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/jobs"
	"missivum/service/store"
)

// linkTime is for how long a password can be chosen with a link.
const linkTime = 7 * 24 * time.Hour

// Accounts keeps accounts.
type Accounts struct {
	Store *store.Store
	Now   func() time.Time
	Log   *slog.Logger

	Idle     time.Duration // after which an unused session ends
	Lifetime time.Duration // after which every session ends
	Secure   bool          // the cookie goes over TLS only
	Provider *Provider     // at which people can sign in; nil for none

	sessions *scs.SessionManager
	hashing  *semaphore.Weighted
	failures failures
	factors  pendingFactors

	mu         sync.Mutex
	firstStart []byte // digest of the secret that makes the first administrator; empty for none
	known      map[string]store.Account
	knownAt    int64 // store.AccessWrites when known was read; -1 for never
}

// Start readies sessions and limits.
func (a *Accounts) Start() {
	a.hashing = semaphore.NewWeighted(2)
	a.failures.start()
	a.factors.secrets = map[string]pendingFactor{}
	a.knownAt = -1
	a.startSessions()
}

// Watch removes what has ended, again and again until the context ends.
func (a *Accounts) Watch(ctx context.Context, interval time.Duration) {
	jobs.Every(ctx, interval, a.Log, "sessions", func(ctx context.Context) error {
		return a.Store.Write(ctx, func(tx *store.Tx) error { return tx.DropEnded() })
	})
}

// all gives the accounts by their folded names. They are read anew when one was changed.
func (a *Accounts) all(ctx context.Context) (map[string]store.Account, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.Store.AccessWrites()
	if a.knownAt == now {
		return a.known, nil
	}
	var list []store.Account
	err := a.Store.Read(context.WithoutCancel(ctx), func(tx *store.Tx) (err error) {
		list, err = tx.Accounts()
		return err
	})
	if err != nil {
		return nil, err
	}
	a.known, a.knownAt = map[string]store.Account{}, now
	for _, one := range list {
		a.known[fold(one.Name)] = one
	}
	return a.known, nil
}

// fold writes a name as the database compares it: small and large letters of ASCII are the same.
func fold(name string) string {
	return strings.Map(func(r rune) rune {
		if 'A' <= r && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, name)
}

// Any reports whether there is an account.
func (a *Accounts) Any(ctx context.Context) (bool, error) {
	all, err := a.all(ctx)
	return len(all) > 0, err
}

// Get gives the account of a name; an error of the kind NotFound for none.
func (a *Accounts) Get(ctx context.Context, name string) (store.Account, error) {
	all, err := a.all(ctx)
	if err != nil {
		return store.Account{}, err
	}
	one, ok := all[fold(name)]
	if !ok {
		return one, problem.Missing("account", name)
	}
	return one, nil
}

// List lists the accounts by name.
func (a *Accounts) List(ctx context.Context) ([]store.Account, error) {
	all, err := a.all(ctx)
	var list []store.Account
	for _, one := range all {
		list = append(list, one)
	}
	slices.SortFunc(list, func(a, b store.Account) int { return strings.Compare(fold(a.Name), fold(b.Name)) })
	return list, err
}

// check refuses an account whose name cannot be written or whose roles are not known.
func check(a store.Account) error {
	if !access.ValidName(a.Name) || strings.ContainsFunc(a.Name, func(r rune) bool { return r == ' ' }) {
		return problem.New(problem.Invalid, "%q cannot be the name of an account: 1 to 100 letters without spaces, such as a mail address.",
			a.Name).In("name")
	}
	if a.Title != "" && !access.ValidName(a.Title) {
		return problem.New(problem.Invalid, "The shown name must be 1 to 100 letters that can be written.").In("title")
	}
	if len(a.Roles) == 0 {
		return problem.New(problem.Invalid, "An account needs a role: %s.", roleNames()).In("roles")
	}
	for _, r := range a.Roles {
		if !slices.Contains(access.Roles(), r) {
			return problem.New(problem.Invalid, "The role %q is not known; it is %s.", r, roleNames()).In("roles")
		}
	}
	return nil
}

func roleNames() string {
	var names []string
	for _, r := range access.Roles() {
		names = append(names, string(r))
	}
	return strings.Join(names, ", ")
}

// inOrder puts roles in their order, each once.
func inOrder(roles []access.Role) []access.Role {
	var list []access.Role
	for _, r := range access.Roles() {
		if slices.Contains(roles, r) {
			list = append(list, r)
		}
	}
	for _, r := range roles {
		if !slices.Contains(access.Roles(), r) {
			list = append(list, r) // check names it
		}
	}
	return list
}

// Add makes an account and gives the secret of the link with which its password is chosen.
func (a *Accounts) Add(ctx context.Context, account store.Account) (secret string, ends time.Time, err error) {
	account.Roles = inOrder(account.Roles)
	if err := check(account); err != nil {
		return "", ends, err
	}
	secret, ends = newSecret(), a.Now().Add(linkTime)
	return secret, ends, a.Store.Write(ctx, func(tx *store.Tx) error {
		all, err := tx.Accounts()
		if err != nil {
			return err
		}
		if len(all) == 0 && !slices.Contains(account.Roles, access.Administrator) {
			return problem.New(problem.Conflict,
				"The first account must be an administrator: from then on everybody signs in, and nobody else could make accounts.").In("roles")
		}
		stored, err := tx.AddAccount(account)
		if err != nil {
			return err
		}
		return tx.PutAccountLink(stored, digest(secret), ends)
	})
}

// Change is what is changed of an account; what is nil stays.
type Change struct {
	Title  *string
	Roles  []access.Role
	Factor bool // remove the second factor
}

// Put changes an account.
func (a *Accounts) Put(ctx context.Context, name string, change Change) error {
	return a.Store.Write(ctx, func(tx *store.Tx) error {
		account, err := tx.Account(name)
		if err != nil {
			return err
		}
		var what []string
		if change.Title != nil && *change.Title != account.Title {
			account.Title = *change.Title
			what = append(what, "shown as "+account.Title)
		}
		if change.Roles != nil {
			account.Roles = inOrder(change.Roles)
			what = append(what, "roles "+fmt.Sprint(account.Roles))
		}
		if change.Factor && account.Factor != "" {
			account.Factor, account.FactorStep = "", 0
			what = append(what, "without second factor")
			if err := tx.PutRecoveryCodes(account.ID, nil); err != nil {
				return err
			}
		}
		if err := check(account); err != nil {
			return err
		}
		if err := tx.PutAccount(account, "changed", strings.Join(what, ", ")); err != nil {
			return err
		}
		return administratorLeft(tx)
	})
}

// administratorLeft refuses a change after which nobody could make or change accounts.
func administratorLeft(tx *store.Tx) error {
	all, err := tx.Accounts()
	if err != nil {
		return err
	}
	for _, one := range all {
		if slices.Contains(one.Roles, access.Administrator) {
			return nil
		}
	}
	return problem.New(problem.Conflict, "This is the last administrator. Make another account an administrator first.").In("roles")
}

// Remove removes an account with its sessions and keys. What it did stays in the record.
func (a *Accounts) Remove(ctx context.Context, name string) error {
	return a.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.RemoveAccount(name); err != nil {
			return err
		}
		return administratorLeft(tx)
	})
}

// Link gives the secret of a new link with which an account's password is chosen; earlier links end.
func (a *Accounts) Link(ctx context.Context, name string) (secret string, ends time.Time, err error) {
	secret, ends = newSecret(), a.Now().Add(linkTime)
	return secret, ends, a.Store.Write(ctx, func(tx *store.Tx) error {
		account, err := tx.Account(name)
		if err != nil {
			return err
		}
		return tx.PutAccountLink(account, digest(secret), ends)
	})
}

// OfLink gives the account of a link's secret; an error of the kind Gone when the link has ended.
func (a *Accounts) OfLink(ctx context.Context, secret string) (account store.Account, err error) {
	err = a.Store.Read(ctx, func(tx *store.Tx) error {
		account, err = tx.AccountOfLink(digest(secret))
		return linkGone(err)
	})
	return account, err
}

func linkGone(err error) error {
	if problem.Is(err, problem.NotFound) {
		return problem.New(problem.Gone, "This link was used, replaced, or is older than 7 days. An administrator can make a new one.")
	}
	return err
}

// Choose sets the password of a link's account, which ends the link and the account's sessions.
func (a *Accounts) Choose(ctx context.Context, secret, password string) (account store.Account, err error) {
	if account, err = a.OfLink(ctx, secret); err != nil {
		return account, err
	}
	hash, err := a.hash(ctx, password, account.Name, account.Title)
	if err != nil {
		return account, err
	}
	ctx = access.With(ctx, access.Principal{Kind: access.Account, Name: account.Name})
	return account, a.Store.Write(ctx, func(tx *store.Tx) (err error) {
		if account, err = tx.AccountOfLink(digest(secret)); err != nil {
			return linkGone(err)
		}
		account.Password = hash
		account.Generation++
		return errors.Join(tx.DropAccountLinks(account.ID), tx.PutAccount(account, "changed", "password chosen"))
	})
}

// SetPassword changes an account's own password. Its other sessions end; those of the new generation are begun by the caller.
func (a *Accounts) SetPassword(ctx context.Context, name, current, password string) (account store.Account, err error) {
	if account, err = a.verify(ctx, name, current); err != nil {
		return account, err
	}
	hash, err := a.hash(ctx, password, account.Name, account.Title)
	if err != nil {
		return account, err
	}
	return account, a.Store.Write(ctx, func(tx *store.Tx) (err error) {
		if account, err = tx.Account(name); err != nil {
			return err
		}
		account.Password = hash
		account.Generation++
		return errors.Join(tx.DropAccountLinks(account.ID), tx.PutAccount(account, "changed", "password"))
	})
}

// SignOutEverywhere ends all sessions of an account.
func (a *Accounts) SignOutEverywhere(ctx context.Context, name string) error {
	return a.Store.Write(ctx, func(tx *store.Tx) error {
		account, err := tx.Account(name)
		if err != nil {
			return err
		}
		account.Generation++
		return tx.PutAccount(account, "signed out", "everywhere")
	})
}

// OpenFirstStart gives the secret of the link that makes the first administrator. It holds until it was used or the service
// ends.
func (a *Accounts) OpenFirstStart() (secret string) {
	secret = newSecret()
	a.mu.Lock()
	defer a.mu.Unlock()
	a.firstStart = digest(secret)
	return secret
}

// FirstStart makes the first administrator, who has every role, with a secret of OpenFirstStart.
func (a *Accounts) FirstStart(ctx context.Context, secret, name, title, password string) (account store.Account, err error) {
	a.mu.Lock()
	right := len(a.firstStart) > 0 && same(a.firstStart, digest(secret))
	a.mu.Unlock()
	if !right {
		return account, problem.New(problem.Gone, "This link is not the one that the service printed when it started last, or it was used.")
	}
	account = store.Account{Name: name, Title: title, Roles: access.Roles()}
	if err := check(account); err != nil {
		return account, err
	}
	if account.Password, err = a.hash(ctx, password, name, title); err != nil {
		return account, err
	}
	ctx = access.With(ctx, access.Principal{Kind: access.Account, Name: name})
	err = a.Store.Write(ctx, func(tx *store.Tx) error {
		all, err := tx.Accounts()
		if err != nil {
			return err
		}
		if len(all) > 0 {
			return problem.New(problem.Gone, "There is an administrator already; sign in.")
		}
		account, err = tx.AddAccount(account)
		return err
	})
	if err == nil {
		a.mu.Lock()
		a.firstStart = nil
		a.mu.Unlock()
	}
	return account, err
}

// newSecret makes a secret of 256 bits.
func newSecret() string {
	var random [32]byte
	rand.Read(random[:]) // never fails (crypto/rand)
	return base64.RawURLEncoding.EncodeToString(random[:])
}

// digest is what is kept of a secret.
func digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}
