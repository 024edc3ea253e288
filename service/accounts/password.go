package accounts

import (
	"context"
	"crypto/subtle"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/trustelem/zxcvbn"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

// Lengths of passwords, in characters.
const (
	LeastPassword = 12
	mostPassword  = 200
)

// leastScore is from which of the five steps on a password is accepted, of which the library says how many tries finding it
// takes: 3 is a hundred million, so that the commonest, and those made of a name and a year, fall out.
const leastScore = 3

// cost is what a password's digest costs: 46 MiB and one pass (RFC 9106 with the least memory that is recommended for one pass).
var cost = &argon2id.Params{Memory: 46 << 10, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// leastOwn is how many letters a password must have beside words that are known of its owner.
const leastOwn = 6

// CheckPassword refuses a password that is short or easily guessed; about are texts on its owner, whose words somebody who
// guesses would try first.
func CheckPassword(password string, about ...string) error {
	n := utf8.RuneCountInString(password)
	switch {
	case !utf8.ValidString(password):
		return problem.New(problem.Refused, "The password holds bytes that are no text.").In("password")
	case n < LeastPassword:
		return problem.New(problem.Refused, "The password has %d characters; it must have at least %d.", n, LeastPassword).In("password")
	case n > mostPassword:
		return problem.New(problem.Refused, "The password has %d characters; %d are accepted.", n, mostPassword).In("password")
	}
	var words []string
	for _, text := range append(about, "missivum") {
		words = append(words, strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return strings.ContainsRune(" @.-_", r) })...)
	}
	if madeOf(password, words) || zxcvbn.PasswordStrength(password, words).Score < leastScore {
		return problem.New(problem.Refused,
			"The password is among the first that somebody who guesses would try. Four words that do not belong together are good.").In("password")
	}
	return nil
}

// madeOf reports whether a password is made of known words, with few letters beside them.
func madeOf(password string, words []string) bool {
	rest, known := strings.ToLower(password), false
	for _, w := range words {
		if len(w) >= 4 && strings.Contains(rest, w) {
			rest, known = strings.ReplaceAll(rest, w, ""), true
		}
	}
	letters := 0
	for _, r := range rest {
		if unicode.IsLetter(r) {
			letters++
		}
	}
	return known && letters < leastOwn
}

// hash checks a new password and gives what is kept of it.
func (a *Accounts) hash(ctx context.Context, password string, known ...string) (string, error) {
	if err := CheckPassword(password, known...); err != nil {
		return "", err
	}
	if err := a.hashing.Acquire(ctx, 1); err != nil {
		return "", err
	}
	defer a.hashing.Release(1)
	return argon2id.CreateHash(password, cost)
}

// nobody is a digest that no password has: an account that is not there, or has no password, takes as long as another.
const nobody = "$argon2id$v=19$m=47104,t=1,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// matches reports whether a password is the one of a digest.
func (a *Accounts) matches(ctx context.Context, password, hash string) (bool, error) {
	if err := a.hashing.Acquire(ctx, 1); err != nil {
		return false, err
	}
	defer a.hashing.Release(1)
	if len(password) > 4*mostPassword {
		password = ""
	}
	if hash == "" {
		hash = nobody
	}
	ok, err := argon2id.ComparePasswordAndHash(password, hash)
	return ok && hash != nobody, err
}

// verify wants the password of an account again before something of it is changed.
func (a *Accounts) verify(ctx context.Context, name, password string) (store.Account, error) {
	account, err := a.Get(ctx, name)
	if err != nil {
		return account, err
	}
	if wait := a.failures.wait(a.Now(), name, ""); wait > 0 {
		return account, access.TooOften(wait)
	}
	ok, err := a.matches(ctx, password, account.Password)
	if err != nil {
		return account, err
	}
	if !ok {
		a.failures.failed(a.Now(), name, "")
		return account, problem.New(problem.Refused, "This is not your password.").In("current")
	}
	return account, nil
}

// same compares two digests in a time that does not tell where they differ.
func same(a, b []byte) bool { return subtle.ConstantTimeCompare(a, b) == 1 }
