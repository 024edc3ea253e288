package accounts

import (
	"context"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

// Attempt is what somebody signs in with.
type Attempt struct {
	Name, Password string
	Code           string // of the second factor, or a recovery code; blank before it was asked for
	Address        string // that it comes from
}

// wrong is the one answer to a name that is not there and to a password that is not right.
var wrong = problem.New(problem.Unknown, "Name or password is not right.").In("password")

// NeedsCode says that name and password are right and a code of the second factor is needed.
var NeedsCode = problem.New(problem.Unknown, "Now the code of your second factor.").In("code")

// SignIn gives the account of an attempt. What is wrong is an error of the kind Unknown, which does not say whether there is
// such an account; after some failures it is of the kind TooOften.
func (a *Accounts) SignIn(ctx context.Context, t Attempt) (store.Account, error) {
	name := fold(t.Name)
	if wait := a.failures.wait(a.Now(), name, t.Address); wait > 0 {
		return store.Account{}, access.TooOften(wait)
	}
	all, err := a.all(ctx)
	if err != nil {
		return store.Account{}, err
	}
	account := all[name] // zero for one that is not there
	ok, err := a.matches(ctx, t.Password, account.Password)
	if err != nil {
		return account, err
	}
	if !ok {
		a.failures.failed(a.Now(), name, t.Address)
		return store.Account{}, wrong
	}
	if account.Factor != "" && t.Code == "" {
		return store.Account{}, NeedsCode
	}
	if err := a.enter(ctx, account, t.Code); err != nil {
		if problem.Is(err, problem.Unknown) {
			a.failures.failed(a.Now(), name, t.Address)
		}
		return store.Account{}, err
	}
	a.failures.succeeded(name)
	return account, nil
}

// enter takes the code of the second factor, where there is one, and stores that an account signed in.
func (a *Accounts) enter(ctx context.Context, account store.Account, code string) error {
	ctx = access.With(ctx, access.Principal{Kind: access.Account, Name: account.Name})
	return a.Store.Write(ctx, func(tx *store.Tx) error {
		account, err := tx.Account(account.Name) // as it is now
		if err != nil {
			return err
		}
		how := "password"
		var step int64
		if account.Factor != "" {
			var recovery bool
			if step, recovery, err = takeCode(tx, account, code, a.Now()); err != nil {
				return err
			}
			if how = "password and second factor"; recovery {
				how = "password and recovery code"
			}
		}
		taken, err := tx.AccountSignedIn(account.ID, step)
		if err != nil {
			return err
		}
		if !taken {
			return problem.New(problem.Unknown, "This code was used already. Wait for the next one.").In("code")
		}
		return tx.Changed("signed in", "account", account.Name, how)
	})
}

// How many failures in a row are answered at once, and how long each one after them takes to come back; and how often an address
// is sent to the identity provider, since a session is stored each time.
const (
	accountFailures = 5
	addressFailures = 20
	leavingAtOnce   = 60
	accountPause    = 30 * time.Second
	addressPause    = 5 * time.Second
	leavingPause    = time.Second
)

// failures remembers who failed to sign in.
type failures struct {
	accounts, addresses *access.Limit
	leaving             *access.Limit // addresses that are sent to the identity provider
}

func (f *failures) start() {
	f.accounts, f.addresses = access.NewLimit(accountFailures, accountPause), access.NewLimit(addressFailures, addressPause)
	f.leaving = access.NewLimit(leavingAtOnce, leavingPause)
}

// wait is how long an account, or an address, must wait; 0 when it may try.
func (f *failures) wait(now time.Time, account, address string) time.Duration {
	return max(f.accounts.Wait(now, account), f.addresses.Wait(now, address))
}

// failed counts a failure of an account, and of an address where it is known.
func (f *failures) failed(now time.Time, account, address string) {
	f.accounts.Count(now, fold(account))
	f.addresses.Count(now, address)
}

// mayLeave counts that an address is sent to the identity provider, and reports whether that is not too often.
func (f *failures) mayLeave(now time.Time, address string) bool { return f.leaving.Count(now, address) }

// succeeded forgets an account's failures.
func (f *failures) succeeded(account string) { f.accounts.Forget(fold(account)) }
