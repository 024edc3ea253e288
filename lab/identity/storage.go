package main

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"
)

// person is somebody who can sign in here.
type person struct {
	ID, Name, Mail string
	Verified       bool
	Groups         []string
}

var people = []person{
	{"1", "Maren Lind", "maren@brackwater.example", true, []string{"harbour-office"}},
	{"2", "Tobias Wrede", "tobias@brackwater.example", true, []string{"legal", "harbour-office"}},
	{"3", "Ines Duarte", "ines@brackwater.example", true, []string{"it"}},
	{"4", "Deck Hand", "deck@brackwater.example", true, []string{"crew"}},
	{"5", "Somebody Else", "ines.duarte@brackwater.example", false, []string{"it"}},
}

// request is one signing in.
type request struct {
	id      string
	asked   *oidc.AuthRequest
	person  *person
	entered time.Time
}

func (r *request) GetID() string                      { return r.id }
func (r *request) GetACR() string                     { return "" }
func (r *request) GetAMR() []string                   { return nil }
func (r *request) GetAudience() []string              { return []string{r.asked.ClientID} }
func (r *request) GetAuthTime() time.Time             { return r.entered }
func (r *request) GetClientID() string                { return r.asked.ClientID }
func (r *request) GetNonce() string                   { return r.asked.Nonce }
func (r *request) GetRedirectURI() string             { return r.asked.RedirectURI }
func (r *request) GetResponseType() oidc.ResponseType { return r.asked.ResponseType }
func (r *request) GetResponseMode() oidc.ResponseMode { return r.asked.ResponseMode }
func (r *request) GetScopes() []string                { return r.asked.Scopes }
func (r *request) GetState() string                   { return r.asked.State }
func (r *request) Done() bool                         { return r.person != nil }
func (r *request) GetCodeChallenge() *oidc.CodeChallenge {
	return &oidc.CodeChallenge{Challenge: r.asked.CodeChallenge, Method: r.asked.CodeChallengeMethod}
}

func (r *request) GetSubject() string {
	if r.person == nil {
		return ""
	}
	return r.person.ID
}

// storage keeps in memory what goes on.
type storage struct {
	back []string
	key  *rsa.PrivateKey

	mu       sync.Mutex
	requests map[string]*request
	codes    map[string]string // request by code
}

func newStorage(back []string) (*storage, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	return &storage{back: back, key: key, requests: map[string]*request{}, codes: map[string]string{}}, err
}

var errNone = errors.New("there is none")

// enter says who somebody is.
func (s *storage) enter(id, who string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.requests[id]
	for i, p := range people {
		if r != nil && p.ID == who {
			r.person, r.entered = &people[i], time.Now()
			return nil
		}
	}
	return errNone
}

func (s *storage) CreateAuthRequest(_ context.Context, asked *oidc.AuthRequest, _ string) (op.AuthRequest, error) {
	if asked.CodeChallenge == "" {
		return nil, errors.New("there is no code challenge (RFC 7636)")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	r := &request{id: rand.Text(), asked: asked}
	s.requests[r.id] = r
	return r, nil
}

func (s *storage) AuthRequestByID(_ context.Context, id string) (op.AuthRequest, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.requests[id]; r != nil {
		return r, nil
	}
	return nil, errNone
}

func (s *storage) AuthRequestByCode(ctx context.Context, code string) (op.AuthRequest, error) {
	s.mu.Lock()
	id := s.codes[code]
	s.mu.Unlock()
	return s.AuthRequestByID(ctx, id)
}

func (s *storage) SaveAuthCode(_ context.Context, id, code string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.codes[code] = id
	return nil
}

func (s *storage) DeleteAuthRequest(_ context.Context, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.requests, id)
	return nil
}

func (s *storage) CreateAccessToken(_ context.Context, r op.TokenRequest) (string, time.Time, error) {
	return "token-" + r.GetSubject(), time.Now().Add(5 * time.Minute), nil
}

func (s *storage) CreateAccessAndRefreshTokens(ctx context.Context, r op.TokenRequest, _ string) (string, string, time.Time, error) {
	id, ends, err := s.CreateAccessToken(ctx, r)
	return id, "", ends, err
}

func (s *storage) TokenRequestByRefreshToken(context.Context, string) (op.RefreshTokenRequest, error) {
	return nil, op.ErrInvalidRefreshToken
}

func (s *storage) TerminateSession(context.Context, string, string) error { return nil }

func (s *storage) RevokeToken(context.Context, string, string, string) *oidc.Error { return nil }

func (s *storage) GetRefreshTokenInfo(context.Context, string, string) (string, string, error) {
	return "", "", op.ErrInvalidRefreshToken
}

// signing is the key that ID tokens are signed with.
type signing struct{ key *rsa.PrivateKey }

func (k signing) ID() string                                  { return "1" }
func (k signing) SignatureAlgorithm() jose.SignatureAlgorithm { return jose.RS256 }
func (k signing) Key() any                                    { return k.key }

// public is the key that they are checked with.
type public struct{ key *rsa.PublicKey }

func (k public) ID() string                         { return "1" }
func (k public) Algorithm() jose.SignatureAlgorithm { return jose.RS256 }
func (k public) Use() string                        { return "sig" }
func (k public) Key() any                           { return k.key }

func (s *storage) SigningKey(context.Context) (op.SigningKey, error) { return signing{s.key}, nil }

func (s *storage) SignatureAlgorithms(context.Context) ([]jose.SignatureAlgorithm, error) {
	return []jose.SignatureAlgorithm{jose.RS256}, nil
}

func (s *storage) KeySet(context.Context) ([]op.Key, error) {
	return []op.Key{public{&s.key.PublicKey}}, nil
}

func (s *storage) GetClientByClientID(_ context.Context, id string) (op.Client, error) {
	if id != clientID {
		return nil, errNone
	}
	return client{s.back}, nil
}

func (s *storage) AuthorizeClientIDSecret(_ context.Context, id, secret string) error {
	if id != clientID || secret != clientSecret {
		return errNone
	}
	return nil
}

func (s *storage) SetUserinfoFromScopes(context.Context, *oidc.UserInfo, string, string, []string) error {
	return nil
}

// SetUserinfoFromRequest puts what is known of somebody into the ID token.
func (s *storage) SetUserinfoFromRequest(_ context.Context, info *oidc.UserInfo, r op.IDTokenRequest, _ []string) error {
	return describe(info, r.GetSubject())
}

func (s *storage) SetUserinfoFromToken(_ context.Context, info *oidc.UserInfo, _, subject, _ string) error {
	return describe(info, subject)
}

func describe(info *oidc.UserInfo, subject string) error {
	for _, p := range people {
		if p.ID == subject {
			info.Subject, info.Name, info.Email, info.EmailVerified = p.ID, p.Name, p.Mail, oidc.Bool(p.Verified)
			info.AppendClaims("groups", p.Groups)
			return nil
		}
	}
	return fmt.Errorf("nobody is %s", subject)
}

func (s *storage) SetIntrospectionFromToken(context.Context, *oidc.IntrospectionResponse, string, string, string) error {
	return errNone
}

func (s *storage) GetPrivateClaimsFromScopes(context.Context, string, string, []string) (map[string]any, error) {
	return nil, nil
}

func (s *storage) GetKeyByIDAndClientID(context.Context, string, string) (*jose.JSONWebKey, error) {
	return nil, errNone
}

func (s *storage) ValidateJWTProfileScopes(context.Context, string, []string) ([]string, error) {
	return nil, errNone
}

func (s *storage) Health(context.Context) error { return nil }

// The one service that is known here.
const (
	clientID     = "missivum"
	clientSecret = "between us"
)

type client struct{ back []string }

func (c client) GetID() string                       { return clientID }
func (c client) RedirectURIs() []string              { return c.back }
func (c client) PostLogoutRedirectURIs() []string    { return nil }
func (c client) ApplicationType() op.ApplicationType { return op.ApplicationTypeWeb }
func (c client) AuthMethod() oidc.AuthMethod         { return oidc.AuthMethodBasic }
func (c client) ResponseTypes() []oidc.ResponseType {
	return []oidc.ResponseType{oidc.ResponseTypeCode}
}
func (c client) GrantTypes() []oidc.GrantType        { return []oidc.GrantType{oidc.GrantTypeCode} }
func (c client) LoginURL(id string) string           { return "/who?id=" + id }
func (c client) AccessTokenType() op.AccessTokenType { return op.AccessTokenTypeBearer }
func (c client) IDTokenLifetime() time.Duration      { return time.Hour }
func (c client) DevMode() bool                       { return true }
func (c client) RestrictAdditionalIdTokenScopes() func([]string) []string {
	return func(scopes []string) []string { return scopes }
}
func (c client) RestrictAdditionalAccessTokenScopes() func([]string) []string {
	return func(scopes []string) []string { return scopes }
}
func (c client) IsScopeAllowed(string) bool           { return true }
func (c client) IDTokenUserinfoClaimsAssertion() bool { return true }
func (c client) ClockSkew() time.Duration             { return 0 }
