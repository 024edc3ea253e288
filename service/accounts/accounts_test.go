package accounts

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

const good = "quay lantern tide bell"

// kept are accounts in a store, with a clock that can be set.
func kept(t *testing.T) (a *Accounts, clock *time.Time) {
	t.Helper()
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	clock = &now
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "x.db"), func() time.Time { return *clock })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	a = &Accounts{Store: s, Now: func() time.Time { return *clock }, Log: slog.New(slog.DiscardHandler)}
	a.Start()
	return a, clock
}

var acting = access.With(context.Background(), access.Itself("test"))

// add makes an account and chooses its password.
func add(t *testing.T, a *Accounts, name string, roles ...access.Role) {
	t.Helper()
	secret, _, err := a.Add(acting, store.Account{Name: name, Roles: roles})
	if err == nil {
		_, err = a.Choose(acting, secret, good)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestPasswords: the commonest are refused, also those of twelve characters, and what is made of known words.
func TestPasswords(t *testing.T) {
	for password, ok := range map[string]bool{
		good: true, "Zw9#kd02!mPq": true, "der Leuchtturm singt nachts": true, "ключ от маяка у воды": true, "correct-unusual-4-barge": true,
		"short": false, "elevenchars": false, "password1234": false, "passwordpassword": false, "qwertyuiop12": false, "123456789012": false,
		"aaaaaaaaaaaaaaaa": false, "maren.lind@brackwater.example": false, "MarenLind2026": false, "missivum-missivum": false,
		strings.Repeat("x1Y!", 51): false, "bad\xffbytes in here": false,
	} {
		if err := CheckPassword(password, "maren.lind@brackwater.example", "Maren Lind"); (err == nil) != ok {
			t.Errorf("%q: %v", password, err)
		}
	}
}

// TestLinksHoldOnceAndForAWhile also ends the sessions of before.
func TestLinksHoldOnceAndForAWhile(t *testing.T) {
	a, clock := kept(t)
	add(t, a, "ines", access.Administrator)
	first, _, err := a.Link(acting, "ines")
	if err != nil {
		t.Fatal(err)
	}
	second, ends, err := a.Link(acting, "INES")
	if err != nil || !ends.Equal(clock.Add(7*24*time.Hour)) {
		t.Fatal(ends, err)
	}
	if _, err := a.Choose(acting, first, good); !problem.Is(err, problem.Gone) {
		t.Errorf("a link that was replaced: %v", err)
	}
	if _, err := a.Choose(acting, second, "short"); !problem.Is(err, problem.Refused) {
		t.Errorf("a short password: %v", err)
	}
	before, _ := a.Get(acting, "ines")
	if chosen, err := a.Choose(acting, second, good+"s"); err != nil || chosen.Generation == before.Generation {
		t.Errorf("%+v, %v", chosen, err)
	}
	if _, err := a.Choose(acting, second, good); !problem.Is(err, problem.Gone) {
		t.Errorf("used twice: %v", err)
	}
	late, _, err := a.Link(acting, "ines")
	*clock = clock.Add(8 * 24 * time.Hour)
	if _, err2 := a.Choose(acting, late, good); err != nil || !problem.Is(err2, problem.Gone) {
		t.Errorf("a week later: %v, %v", err, err2)
	}
}

// TestASecondFactor: a code is taken once, also one of the step before or behind; so is a recovery code.
func TestASecondFactor(t *testing.T) {
	a, clock := kept(t)
	add(t, a, "ines", access.Administrator)
	if _, err := a.BeginFactor(acting, "ines", "wrong wrong wrong"); !problem.Is(err, problem.Refused) {
		t.Errorf("with a wrong password: %v", err)
	}
	f, err := a.BeginFactor(acting, "ines", good)
	if err != nil {
		t.Fatal(err)
	}
	code := func(off time.Duration) string {
		text, err := totp.GenerateCode(f.Secret, clock.Add(off))
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	if _, err := a.ConfirmFactor(acting, "ines", "000000"); !problem.Is(err, problem.Refused) {
		t.Errorf("a wrong code: %v", err)
	}
	recovery, err := a.ConfirmFactor(acting, "ines", code(0))
	if err != nil || len(recovery) != recoveryCodes {
		t.Fatal(recovery, err)
	}
	enter := func(code string) error {
		_, err := a.SignIn(acting, Attempt{Name: "ines", Password: good, Code: code, Address: "192.0.2.1"})
		return err
	}
	if err := enter(""); err != error(NeedsCode) {
		t.Errorf("without a code: %v", err)
	}
	*clock = clock.Add(time.Minute)
	for i, step := range []struct {
		code string
		ok   bool
	}{{code(0), true}, {code(0), false}, {code(-30 * time.Second), false}, {code(30 * time.Second), true}, {code(5 * time.Minute), false},
		{recovery[3], true}, {recovery[3], false}, {strings.ToUpper(strings.ReplaceAll(recovery[4], "-", " ")), true}} {
		if err := enter(step.code); (err == nil) != step.ok {
			t.Errorf("step %d: %v", i, err)
		}
		*clock = clock.Add(time.Millisecond) // within the step
	}
	if err := a.RemoveFactor(acting, "ines", good); err != nil || enter("") != nil {
		t.Errorf("removed: %v", err)
	}
}

// TestWaitingEnds: what was wrong too often may be tried again after a while, once for each pause.
func TestWaitingEnds(t *testing.T) {
	a, clock := kept(t)
	add(t, a, "ines", access.Administrator)
	try := func(password, address string) error {
		_, err := a.SignIn(acting, Attempt{Name: "ines", Password: password, Address: address})
		return err
	}
	for range accountFailures {
		if err := try("wrong wrong wrong", "192.0.2.1"); !problem.Is(err, problem.Unknown) {
			t.Errorf("%v", err)
		}
	}
	if err := try(good, "192.0.2.2"); !problem.Is(err, problem.TooOften) || !strings.Contains(err.Error(), "30 s") {
		t.Errorf("from elsewhere: %v", err)
	}
	*clock = clock.Add(accountPause)
	if err := try(good, "192.0.2.1"); err != nil {
		t.Errorf("after the pause: %v", err)
	}
	for i := range addressFailures {
		a.SignIn(acting, Attempt{Name: fmt.Sprint("nobody", i), Password: "x", Address: "192.0.2.9"})
	}
	if err := try(good, "192.0.2.9"); !problem.Is(err, problem.TooOften) {
		t.Errorf("an address that guesses names: %v", err)
	}
	if err := try(good, "192.0.2.1"); err != nil {
		t.Errorf("another address: %v", err)
	}
}

// TestNobodyIsSentAwayWithoutEnd: each time stores a session.
func TestNobodyIsSentAwayWithoutEnd(t *testing.T) {
	a, clock := kept(t)
	sent := 0
	for range 3 * leavingAtOnce {
		if a.failures.mayLeave(*clock, "192.0.2.1") {
			sent++
		}
	}
	*clock = clock.Add(leavingPause)
	if sent != leavingAtOnce || !a.failures.mayLeave(*clock, "192.0.2.1") || !a.failures.mayLeave(*clock, "192.0.2.2") {
		t.Errorf("sent %d times", sent)
	}
}

// TestWhatAProviderSays becomes a name and roles, or a reason why not.
func TestWhatAProviderSays(t *testing.T) {
	p := &Provider{Issuer: "i", Client: "c", Roles: map[string]access.Role{"office": access.Author, "it": access.Administrator}}
	for name, c := range map[string]struct {
		all       map[string]any
		everybody access.Role
		nameClaim string
		want      string
	}{
		"a group": {map[string]any{"email": "a@b.example", "email_verified": true,
			"groups": []any{"office", "other"}}, "", "", "a@b.example author"},
		"two groups": {map[string]any{"email": "a@b.example", "email_verified": true, "groups": []any{"it", "office"}},
			"", "", "a@b.example author,administrator"},
		"one as a text":    {map[string]any{"email": "a@b.example", "email_verified": true, "groups": "it"}, "", "", "a@b.example administrator"},
		"no group":         {map[string]any{"email": "a@b.example", "email_verified": true}, "", "", "roles"},
		"everybody":        {map[string]any{"email": "a@b.example", "email_verified": true}, access.Viewer, "", "a@b.example viewer"},
		"not verified":     {map[string]any{"email": "a@b.example", "email_verified": false, "groups": "it"}, "", "", "name"},
		"nothing said":     {map[string]any{"email": "a@b.example", "groups": "it"}, "", "", "name"},
		"another claim":    {map[string]any{"login": "ann", "groups": "it"}, "", "login", "ann administrator"},
		"no name":          {map[string]any{"groups": "it", "email_verified": true}, "", "", "name"},
		"a name of digits": {map[string]any{"email": 7, "email_verified": true, "groups": "it"}, "", "", "name"},
	} {
		p.Everybody, p.NameClaim = c.everybody, c.nameClaim
		said, err := p.read("i", "s", c.all)
		got := string(WhyOf(err))
		if err == nil {
			var roles []string
			for _, r := range said.roles {
				roles = append(roles, string(r))
			}
			got = said.name + " " + strings.Join(roles, ",")
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// TestTheProviderDoesNotTakeOver an account with a password, nor the administration away.
func TestTheProviderDoesNotTakeOver(t *testing.T) {
	a, _ := kept(t)
	add(t, a, "ines", access.Administrator)
	if _, err := a.byProvider(acting, claims{subject: "i 1", name: "ines", roles: []access.Role{access.Viewer}}); WhyOf(err) != NameTaken {
		t.Errorf("an account with a password: %v", err)
	}
	if _, _, err := a.Add(acting, store.Account{Name: "bo", Roles: []access.Role{access.Viewer}}); err != nil {
		t.Fatal(err)
	}
	bo, err := a.byProvider(acting, claims{subject: "i 2", name: "bo", title: "Bo", roles: []access.Role{access.Administrator}})
	if err != nil || bo.Title != "Bo" || !slices.Equal(bo.Roles, []access.Role{access.Administrator}) {
		t.Errorf("one that was made beforehand: %+v, %v", bo, err)
	}
	if err := a.Remove(acting, "ines"); err != nil {
		t.Fatal(err)
	}
	bo, err = a.byProvider(acting, claims{subject: "i 2", name: "renamed", roles: []access.Role{access.Viewer}})
	if err != nil || bo.Name != "bo" || !slices.Equal(bo.Roles, []access.Role{access.Viewer, access.Administrator}) {
		t.Errorf("the last administrator: %+v, %v", bo, err)
	}
}
