package accounts

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"errors"
	"strings"
	"sync"
	"time"

	"github.com/pquerna/otp/totp"

	"missivum/core/problem"
	"missivum/service/store"
)

// A second factor is a code of six digits that changes every 30 s (RFC 6238, with SHA-1 as programs for telephones expect).
const (
	period        = 30 // s
	recoveryCodes = 10
	factorTime    = 15 * time.Minute // in which a new one must be confirmed
)

// pendingFactor is a secret that was shown and not confirmed yet.
type pendingFactor struct {
	secret string
	until  time.Time
}

type pendingFactors struct {
	mu      sync.Mutex
	secrets map[string]pendingFactor
}

// NewFactor is a second factor that is to be set up.
type NewFactor struct {
	Secret  string // in base 32, to be written off
	Address string // otpauth, for a QR code
}

// BeginFactor makes the secret of a second factor for an account; it counts from ConfirmFactor on. The password is wanted
// again.
func (a *Accounts) BeginFactor(ctx context.Context, name, password string) (NewFactor, error) {
	account, err := a.verify(ctx, name, password)
	if err != nil {
		return NewFactor{}, err
	}
	if account.Factor != "" {
		return NewFactor{}, problem.New(problem.Conflict, "Your account has a second factor. Remove it first.")
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Missivum", AccountName: account.Name, Period: period})
	if err != nil {
		return NewFactor{}, err
	}
	a.factors.mu.Lock()
	defer a.factors.mu.Unlock()
	for n, f := range a.factors.secrets {
		if a.Now().After(f.until) {
			delete(a.factors.secrets, n)
		}
	}
	a.factors.secrets[fold(name)] = pendingFactor{key.Secret(), a.Now().Add(factorTime)}
	return NewFactor{key.Secret(), key.URL()}, nil
}

// ConfirmFactor sets the second factor of BeginFactor, when a code of it is right, and gives the recovery codes, each of which
// stands for one code.
func (a *Accounts) ConfirmFactor(ctx context.Context, name, code string) (codes []string, err error) {
	a.factors.mu.Lock()
	pending, ok := a.factors.secrets[fold(name)]
	a.factors.mu.Unlock()
	if !ok || a.Now().After(pending.until) {
		return nil, problem.New(problem.Gone, "This took longer than 15 minutes. Begin again.")
	}
	step := stepOf(pending.secret, code, a.Now())
	if step == 0 {
		return nil, problem.New(problem.Refused, "The code is not right. Is the clock of the telephone right?").In("code")
	}
	var digests [][]byte
	for range recoveryCodes {
		var random [10]byte
		rand.Read(random[:]) // never fails (crypto/rand)
		text := strings.ToLower(base32.StdEncoding.EncodeToString(random[:]))
		codes = append(codes, text[:8]+"-"+text[8:])
		digests = append(digests, digest(text))
	}
	err = a.Store.Write(ctx, func(tx *store.Tx) error {
		account, err := tx.Account(name)
		if err != nil {
			return err
		}
		account.Factor, account.FactorStep = pending.secret, step
		return errors.Join(tx.PutRecoveryCodes(account.ID, digests), tx.PutAccount(account, "changed", "second factor set up"))
	})
	if err != nil {
		return nil, err
	}
	a.factors.mu.Lock()
	delete(a.factors.secrets, fold(name))
	a.factors.mu.Unlock()
	return codes, nil
}

// RemoveFactor removes an account's own second factor; the password is wanted again.
func (a *Accounts) RemoveFactor(ctx context.Context, name, password string) error {
	if _, err := a.verify(ctx, name, password); err != nil {
		return err
	}
	return a.Put(ctx, name, Change{Factor: true})
}

// RecoveryCodesLeft is how many recovery codes an account has.
func (a *Accounts) RecoveryCodesLeft(ctx context.Context, account store.Account) (n int, err error) {
	err = a.Store.Read(ctx, func(tx *store.Tx) error {
		n, err = tx.RecoveryCodes(account.ID)
		return err
	})
	return n, err
}

// stepOf is the time step of a code, which may be of the step before or behind (RFC 6238, 5.2); 0 when it is not right.
func stepOf(secret, code string, now time.Time) int64 {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	for _, off := range []int64{0, -1, 1} {
		at := now.Add(time.Duration(off) * period * time.Second)
		right, err := totp.GenerateCode(secret, at)
		if err == nil && subtle.ConstantTimeCompare([]byte(right), []byte(code)) == 1 {
			return at.Unix() / period
		}
	}
	return 0
}

// takeCode takes a code of the second factor, or a recovery code, which is gone then.
func takeCode(tx *store.Tx, account store.Account, code string, now time.Time) (step int64, recovery bool, err error) {
	if step := stepOf(account.Factor, code, now); step > 0 {
		return step, false, nil
	}
	text := strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(strings.TrimSpace(code)))
	used, err := tx.UseRecoveryCode(account.ID, digest(text))
	if err != nil {
		return 0, false, err
	}
	if !used {
		return 0, false, problem.New(problem.Unknown, "The code is not right.").In("code")
	}
	return 0, true, nil
}
