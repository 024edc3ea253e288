package accounts

import (
	"bytes"
	"context"
	"net/http"
	"time"

	"github.com/alexedwards/scs/v2"
	lru "github.com/hashicorp/golang-lru/v2"

	"missivum/service/access"
	"missivum/service/store"
)

// Standard ends of sessions.
const (
	StandardIdle     = 2 * time.Hour
	StandardLifetime = 12 * time.Hour
)

// What a session holds.
const (
	accountKey    = "account"
	generationKey = "generation"
)

func (a *Accounts) startSessions() {
	s := scs.New()
	if s.IdleTimeout = a.Idle; s.IdleTimeout == 0 {
		s.IdleTimeout = StandardIdle
	}
	if s.Lifetime = a.Lifetime; s.Lifetime == 0 {
		s.Lifetime = StandardLifetime
	}
	s.Cookie.Name, s.Cookie.SameSite, s.Cookie.Persist = "missivum-session", http.SameSiteLaxMode, false
	if s.Cookie.Secure = a.Secure; a.Secure {
		s.Cookie.Name = "__Host-missivum-session" // only this host can set it (RFC 6265bis, 4.1.3.2)
	}
	recent, _ := lru.New[string, recentSession](access.MostWatched) // fails only for a size below 1
	s.HashTokenInStore = true
	ended, _ := lru.New[string, struct{}](access.MostWatched)
	s.Store = &sessionStore{store: a.Store, recent: recent, ended: ended}
	a.sessions = s
}

// CookieName is the name of the cookie that names a session.
func (a *Accounts) CookieName() string { return a.sessions.Cookie.Name }

// Session gives the account of a request's session, and the context in which the session can be ended. found is false when
// there is none, its time is over, or its account was removed, signed out or given another password.
func (a *Accounts) Session(ctx context.Context, token string) (_ context.Context, account store.Account, found bool, err error) {
	if ctx, err = a.sessions.Load(ctx, token); err != nil || token == "" {
		return ctx, account, false, err
	}
	name := a.sessions.GetString(ctx, accountKey)
	if name == "" {
		return ctx, account, false, nil
	}
	all, err := a.all(ctx)
	if err != nil {
		return ctx, account, false, err
	}
	account, found = all[fold(name)]
	if !found || account.Generation != a.sessions.GetInt64(ctx, generationKey) {
		return ctx, account, false, nil
	}
	_, _, err = a.sessions.Commit(ctx) // it was used
	return ctx, account, err == nil, err
}

// Begin begins a session and sets its cookie; the one that the context was of ends.
func (a *Accounts) Begin(ctx context.Context, w http.ResponseWriter, account store.Account) error {
	if err := a.sessions.RenewToken(ctx); err != nil { // nobody who knew the token before has the new one
		return err
	}
	a.sessions.Put(ctx, accountKey, account.Name)
	a.sessions.Put(ctx, generationKey, account.Generation)
	token, ends, err := a.sessions.Commit(ctx)
	if err != nil {
		return err
	}
	a.sessions.WriteSessionCookie(ctx, w, token, ends)
	return nil
}

// End ends the session of a context and removes its cookie.
func (a *Accounts) End(ctx context.Context, w http.ResponseWriter) error {
	if err := a.sessions.Destroy(ctx); err != nil {
		return err
	}
	a.sessions.WriteSessionCookie(ctx, w, "", time.Time{})
	return nil
}

// used is how exactly it is stored when a session was used last.
const used = time.Minute

// recentSession is what was stored of a session last.
type recentSession struct {
	data []byte
	ends time.Time
}

// sessionStore keeps sessions in the store. That a session was used is stored at most once a minute.
type sessionStore struct {
	store  *store.Store
	recent *lru.Cache[string, recentSession]
	ended  *lru.Cache[string, struct{}] // a request that began before the end does not bring a session back
}

func (s *sessionStore) write(ctx context.Context, work func(tx *store.Tx) error) error {
	return s.store.Write(access.With(context.WithoutCancel(ctx), access.Itself("sessions")), work)
}

func (s *sessionStore) FindCtx(ctx context.Context, token string) (data []byte, found bool, err error) {
	if s.ended.Contains(token) {
		return nil, false, nil
	}
	if r, ok := s.recent.Get(token); ok && time.Now().Before(r.ends) {
		return r.data, true, nil
	}
	err = s.store.Read(ctx, func(tx *store.Tx) error {
		var ends time.Time
		if data, ends, found, err = tx.Session([]byte(token)); found {
			s.recent.Add(token, recentSession{data, ends})
		}
		return err
	})
	return data, found, err
}

func (s *sessionStore) CommitCtx(ctx context.Context, token string, data []byte, ends time.Time) error {
	if r, ok := s.recent.Get(token); ok && bytes.Equal(r.data, data) && ends.Sub(r.ends) < used || s.ended.Contains(token) {
		return nil
	}
	err := s.write(ctx, func(tx *store.Tx) error { return tx.PutSession([]byte(token), data, ends) })
	if err == nil {
		s.recent.Add(token, recentSession{data, ends})
	}
	return err
}

func (s *sessionStore) DeleteCtx(ctx context.Context, token string) error {
	s.ended.Add(token, struct{}{})
	s.recent.Remove(token)
	return s.write(ctx, func(tx *store.Tx) error { return tx.RemoveSession([]byte(token)) })
}

func (s *sessionStore) Find(token string) ([]byte, bool, error) {
	return s.FindCtx(context.Background(), token)
}

func (s *sessionStore) Commit(token string, data []byte, ends time.Time) error {
	return s.CommitCtx(context.Background(), token, data, ends)
}

func (s *sessionStore) Delete(token string) error { return s.DeleteCtx(context.Background(), token) }
