package accounts

import (
	"context"
	"math"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"

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
		return store.Account{}, tooOften(wait)
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

// How many failures in a row are answered at once, and how long each one after them takes to come back.
const (
	accountFailures = 5
	addressFailures = 20
	accountPause    = 30 * time.Second
	addressPause    = 5 * time.Second
	mostWatched     = 10_000 // accounts and addresses whose failures are remembered
)

// failures remembers who failed to sign in.
type failures struct {
	mu                  sync.Mutex
	accounts, addresses *lru.Cache[string, *rate.Limiter]
	leaving             *lru.Cache[string, *rate.Limiter] // addresses that are sent to the identity provider
}

func (f *failures) start() {
	f.accounts, _ = lru.New[string, *rate.Limiter](mostWatched) // fails only for a size below 1
	f.addresses, _ = lru.New[string, *rate.Limiter](mostWatched)
	f.leaving, _ = lru.New[string, *rate.Limiter](mostWatched)
}

// wait is how long an account, or an address, must wait; 0 when it may try.
func (f *failures) wait(now time.Time, account, address string) time.Duration {
	f.mu.Lock()
	defer f.mu.Unlock()
	longest := time.Duration(0)
	for _, one := range []struct {
		cache *lru.Cache[string, *rate.Limiter]
		key   string
	}{{f.accounts, account}, {f.addresses, address}} {
		if l, ok := one.cache.Get(one.key); ok && one.key != "" {
			if missing := 1 - l.TokensAt(now); missing > 0 {
				longest = max(longest, time.Duration(math.Ceil(missing/float64(l.Limit())))*time.Second)
			}
		}
	}
	return longest
}

// limiter is the limiter of a key, new where there is none yet.
func limiter(cache *lru.Cache[string, *rate.Limiter], key string, most int, pause time.Duration) *rate.Limiter {
	l, ok := cache.Get(key)
	if !ok {
		l = rate.NewLimiter(rate.Every(pause), most)
		cache.Add(key, l)
	}
	return l
}

// failed counts a failure of an account, and of an address where it is known.
func (f *failures) failed(now time.Time, account, address string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	limiter(f.accounts, fold(account), accountFailures, accountPause).AllowN(now, 1)
	if address != "" {
		limiter(f.addresses, address, addressFailures, addressPause).AllowN(now, 1)
	}
}

// How often an address is sent to the identity provider: each time a session is stored.
const (
	leavingAtOnce = 60
	leavingPause  = time.Second
)

// mayLeave counts that an address is sent to the identity provider, and reports whether that is not too often.
func (f *failures) mayLeave(now time.Time, address string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return limiter(f.leaving, address, leavingAtOnce, leavingPause).AllowN(now, 1)
}

// succeeded forgets an account's failures.
func (f *failures) succeeded(account string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.accounts.Remove(fold(account))
}

// tooOften says how long to wait.
func tooOften(wait time.Duration) error {
	return problem.New(problem.TooOften, "Too many tries were wrong. Wait %d s and try again.", int(wait/time.Second))
}
