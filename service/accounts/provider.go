package accounts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

// Provider is an identity provider at which people sign in (OpenID Connect Core 1.0, code flow with PKCE, RFC 7636).
type Provider struct {
	Issuer         string
	Client, Secret string
	Title          string                 // how the sign-in page calls it
	Scopes         []string               // that are asked for, beside openid
	NameClaim      string                 // claim that is the account's name; blank for email
	RolesClaim     string                 // claim whose values give roles; blank for groups
	Roles          map[string]access.Role // role by the claim's value
	Everybody      access.Role            // of those whose claim gives none; blank: they are refused

	mu    sync.Mutex
	found *oidc.Provider // what discovery gave
}

// Check refuses a provider that cannot be meant.
func (p *Provider) Check() error {
	if p.Issuer == "" {
		return nil
	}
	if p.Client == "" {
		return errors.New("provider.client is missing: the name with which the identity provider knows this service")
	}
	if len(p.Roles) == 0 && p.Everybody == "" {
		return errors.New("provider.roles and provider.everybody are both missing: nobody could get in")
	}
	for value, role := range p.Roles {
		if !slices.Contains(access.Roles(), role) {
			return fmt.Errorf("provider.roles: %s=%s: the role is not known; it is %s", value, role, roleNames())
		}
	}
	if p.Everybody != "" && !slices.Contains(access.Roles(), p.Everybody) {
		return fmt.Errorf("provider.everybody: the role %q is not known; it is %s", p.Everybody, roleNames())
	}
	return nil
}

// patience is how long the provider may take for an answer.
const patience = 10 * time.Second

// client is an HTTP client for the provider.
func (p *Provider) client(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, &http.Client{Timeout: patience})
}

// discover asks the provider what it is (OpenID Connect Discovery 1.0), once it has answered never again.
func (p *Provider) discover(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found != nil {
		return p.found, nil
	}
	found, err := oidc.NewProvider(p.client(context.WithoutCancel(ctx)), p.Issuer)
	if err != nil {
		return nil, fmt.Errorf("the identity provider: %w", err)
	}
	p.found = found
	return found, nil
}

// oauth is what the code flow needs.
func (p *Provider) oauth(found *oidc.Provider, back string) *oauth2.Config {
	return &oauth2.Config{ClientID: p.Client, ClientSecret: p.Secret, Endpoint: found.Endpoint(), RedirectURL: back,
		Scopes: append([]string{oidc.ScopeOpenID}, p.Scopes...)}
}

// pendingKey is under which name a session holds what was sent to the provider.
const pendingKey = "provider"

// pending is what was sent to the provider, to be held against what comes back.
type pending struct {
	State, Nonce, Verifier string
	To                     string // page to go on to
	Until                  time.Time
}

// Why is why somebody does not get in by the provider; the sign-in page has the words.
type Why string

// The reasons.
const (
	NotAnswering Why = "provider" // the provider does not answer, or not as it should
	NotBegun     Why = "state"    // what comes back does not belong to what was sent, or it took too long
	NotNamed     Why = "name"     // the provider gives no name, or not one that it has verified
	NoRole       Why = "roles"    // the provider gives no role
	NameTaken    Why = "taken"    // there is an account of that name which does not sign in there
)

// refusal is a reason with what the log says of it.
type refusal struct {
	Why
	err error
}

func (r refusal) Error() string { return string(r.Why) + ": " + r.err.Error() }
func (r refusal) Unwrap() error { return r.err }

// WhyOf is the reason of an error of Returned; NotAnswering for others.
func WhyOf(err error) Why {
	var r refusal
	if errors.As(err, &r) {
		return r.Why
	}
	return NotAnswering
}

func refused(why Why, format string, args ...any) error {
	return refusal{why, fmt.Errorf(format, args...)}
}

// signInTime is how long somebody may take at the provider.
const signInTime = 15 * time.Minute

// Leave begins signing in at the provider: it gives the address to send the browser to, and begins a session that holds what
// was sent. back is the address that the provider sends the browser back to. An address that asks too often gets an error of the
// kind TooOften.
func (a *Accounts) Leave(ctx context.Context, w http.ResponseWriter, address, back, to string) (string, error) {
	if !a.failures.mayLeave(a.Now(), address) {
		return "", problem.New(problem.TooOften, "This was asked for too often. Wait a moment and try again.")
	}
	found, err := a.Provider.discover(ctx)
	if err != nil {
		return "", err
	}
	p := pending{State: newSecret(), Nonce: newSecret(), Verifier: oauth2.GenerateVerifier(), To: to,
		Until: time.Now().Add(signInTime)}
	text, err := json.Marshal(p)
	if err != nil {
		return "", err
	}
	a.sessions.Put(ctx, pendingKey, string(text))
	token, ends, err := a.sessions.Commit(ctx)
	if err != nil {
		return "", err
	}
	a.sessions.WriteSessionCookie(ctx, w, token, ends)
	return a.Provider.oauth(found, back).AuthCodeURL(p.State, oidc.Nonce(p.Nonce), oauth2.S256ChallengeOption(p.Verifier)), nil
}

// claims are what the provider says of somebody.
type claims struct {
	subject, name, title string
	roles                []access.Role
}

// Returned ends signing in at the provider: it gives the account, made or changed by what the provider says, and the page to go
// on to. WhyOf says why somebody does not get in.
func (a *Accounts) Returned(ctx context.Context, back, state, code string) (account store.Account, to string, err error) {
	var sent pending
	text := a.sessions.PopString(ctx, pendingKey)
	if err := json.Unmarshal([]byte(text), &sent); err != nil || state == "" || !same([]byte(sent.State), []byte(state)) ||
		time.Now().After(sent.Until) {
		return account, "", refused(NotBegun, "the state is not the one that was sent, or too old")
	}
	found, err := a.Provider.discover(ctx)
	if err != nil {
		return account, sent.To, err
	}
	said, err := a.Provider.claimsOf(ctx, found, back, code, sent)
	if err != nil {
		return account, sent.To, err
	}
	account, err = a.byProvider(ctx, said)
	return account, sent.To, err
}

// claimsOf exchanges the code and reads the verified ID token.
func (p *Provider) claimsOf(ctx context.Context, found *oidc.Provider, back, code string, sent pending) (said claims, err error) {
	ctx = p.client(ctx)
	token, err := p.oauth(found, back).Exchange(ctx, code, oauth2.VerifierOption(sent.Verifier))
	if err != nil {
		return said, refused(NotAnswering, "the code is not taken: %w", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: p.Client}).Verify(ctx, raw)
	if err != nil {
		return said, refused(NotAnswering, "the ID token: %w", err)
	}
	if id.Nonce != sent.Nonce {
		return said, refused(NotBegun, "the nonce is not the one that was sent")
	}
	all := map[string]any{}
	if err := id.Claims(&all); err != nil {
		return said, refused(NotAnswering, "the claims: %w", err)
	}
	if info, err := found.UserInfo(ctx, oauth2.StaticTokenSource(token)); err == nil && info.Subject == id.Subject {
		more := map[string]any{}
		if info.Claims(&more) == nil {
			for name, value := range more {
				if _, there := all[name]; !there {
					all[name] = value
				}
			}
		}
	}
	return p.read(id.Issuer, id.Subject, all)
}

// read turns claims into an account's name and roles.
func (p *Provider) read(issuer, subject string, all map[string]any) (said claims, err error) {
	said.subject = issuer + " " + subject
	nameClaim, rolesClaim := p.NameClaim, p.RolesClaim
	if nameClaim == "" {
		nameClaim = "email"
	}
	if rolesClaim == "" {
		rolesClaim = "groups"
	}
	said.name, _ = all[nameClaim].(string)
	said.title, _ = all["name"].(string)
	if verified, _ := all["email_verified"].(bool); nameClaim == "email" && !verified {
		return said, refused(NotNamed, "the provider does not say that it has verified the address %q (email_verified); "+
			"provider.name-claim can name another claim", said.name)
	}
	if said.name == "" {
		return said, refused(NotNamed, "there is no claim %s", nameClaim)
	}
	if !access.ValidName(said.title) {
		said.title = ""
	}
	var values []string
	switch v := all[rolesClaim].(type) {
	case string:
		values = []string{v}
	case []any:
		for _, one := range v {
			if text, ok := one.(string); ok {
				values = append(values, text)
			}
		}
	}
	for _, v := range values {
		if role, ok := p.Roles[v]; ok {
			said.roles = append(said.roles, role)
		}
	}
	if len(said.roles) == 0 && p.Everybody != "" {
		said.roles = []access.Role{p.Everybody}
	}
	if said.roles = inOrder(said.roles); len(said.roles) == 0 {
		return said, refused(NoRole, "%s has the values %q of %s, which give no role", said.name, values, rolesClaim)
	}
	return said, nil
}

// byProvider finds or makes the account of what the provider says, and gives it the roles that the provider gives. The last
// administrator stays one.
func (a *Accounts) byProvider(ctx context.Context, said claims) (account store.Account, err error) {
	ctx = access.With(ctx, access.Principal{Kind: access.Account, Name: said.name})
	err = a.Store.Write(ctx, func(tx *store.Tx) error {
		account, err = tx.AccountOfSubject(said.subject)
		if problem.Is(err, problem.NotFound) {
			account, err = a.newByProvider(tx, said)
		}
		if err != nil {
			return err
		}
		if !slices.Equal(account.Roles, said.roles) || said.title != "" && account.Title != said.title {
			before := account
			account.Roles = said.roles
			if said.title != "" {
				account.Title = said.title
			}
			if err := tx.PutAccount(account, "changed", "by the identity provider: roles "+fmt.Sprint(account.Roles)); err != nil {
				return err
			}
			if administratorLeft(tx) != nil {
				account.Roles = inOrder(append(slices.Clone(account.Roles), access.Administrator))
				if err := tx.PutAccount(account, "changed", "stays administrator, as the last; had "+fmt.Sprint(before.Roles)); err != nil {
					return err
				}
			}
		}
		if _, err := tx.AccountSignedIn(account.ID, 0); err != nil {
			return err
		}
		return tx.Changed("signed in", "account", account.Name, "identity provider")
	})
	return account, err
}

// newByProvider makes the account of somebody whom the provider names for the first time. One of that name which an administrator
// made and which has no password yet is taken over; one with a password is not: names at the provider may be given anew.
func (a *Accounts) newByProvider(tx *store.Tx, said claims) (store.Account, error) {
	account, err := tx.Account(said.name)
	switch {
	case err == nil && (account.Password != "" || account.Subject != ""):
		return account, refused(NameTaken, "the account %s signs in otherwise", said.name)
	case err == nil:
		account.Subject = said.subject
		return account, errors.Join(tx.DropAccountLinks(account.ID), tx.PutAccount(account, "changed", "signs in at the identity provider"))
	case !problem.Is(err, problem.NotFound):
		return account, err
	}
	account = store.Account{Name: said.name, Title: said.title, Roles: said.roles, Subject: said.subject}
	if err := check(account); err != nil {
		return account, refused(NotNamed, "%w", err)
	}
	return tx.AddAccount(account)
}

// ReadRoles reads the roles of values of a claim, each written as VALUE=ROLE.
func ReadRoles(list []string) (map[string]access.Role, error) {
	roles := map[string]access.Role{}
	for _, one := range list {
		at := strings.LastIndex(one, "=")
		if at < 1 {
			return nil, fmt.Errorf("provider.roles: %q must be the claim's value, = and the role, such as harbour-office=author", one)
		}
		roles[one[:at]] = access.Role(one[at+1:])
	}
	return roles, nil
}
