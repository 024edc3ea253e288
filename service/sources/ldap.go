package sources

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/people"
)

// LDAP says how a directory is asked (RFC 4511).
type LDAP struct {
	Address   string `json:"address" yaml:"address"`               // ldaps://host, or ldap://host, on which StartTLS is then asked for
	Authority string `json:"authority" yaml:"authority,omitempty"` // certificates of an own authority, PEM; blank for the system's
	Bind      string `json:"bind" yaml:"bind,omitempty"`           // DN; blank for an anonymous bind
	Secret    string `json:"secret" yaml:"secret,omitempty"`       // file in the folder secrets that holds the password
	Base      string `json:"base" yaml:"base"`                     // DN below which people are
	Scope     string `json:"scope" yaml:"scope,omitempty"`         // sub, one or base; sub when blank
	Filter    string `json:"filter" yaml:"filter,omitempty"`       // RFC 4515; (objectClass=person) when blank
	Groups    string `json:"groups" yaml:"groups,omitempty"`       // DN below which groups are; blank where entries name theirs (memberOf)
	Page      int    `json:"page" yaml:"page,omitempty"`           // entries that are asked for at once (RFC 2696); 500 when 0
	Compare   bool   `json:"compare" yaml:"compare,omitempty"`     // never use content synchronisation
}

// Standard values.
const (
	standardFilter = "(objectClass=person)"
	groupFilter    = "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))"
	standardPage   = 500
	largestPage    = 10_000
	ldapTimeout    = 20 * time.Second // for connecting, and for one answer
	syncControl    = "1.3.6.1.4.1.4203.1.9.1.1"
	refreshNeeded  = 4096 // result code e-syncRefreshRequired (RFC 4533, 2.8)
)

// check refuses what cannot be asked.
func (l LDAP) check() error {
	u, err := url.Parse(l.Address)
	if err != nil || u.Scheme != "ldaps" && u.Scheme != "ldap" || u.Host == "" || u.User != nil {
		return problem.New(problem.Invalid, "The address %q must be ldaps://host or ldap://host.", l.Address).In("address")
	}
	if _, err := ldap.ParseDN(l.Base); err != nil || l.Base == "" {
		return problem.New(problem.Invalid, "The base %q is no DN.", l.Base).In("base")
	}
	for _, dn := range []struct{ value, field string }{{l.Bind, "bind"}, {l.Groups, "groups"}} {
		if _, err := ldap.ParseDN(dn.value); err != nil {
			return problem.New(problem.Invalid, "%q is no DN.", dn.value).In(dn.field)
		}
	}
	if _, ok := scopes[l.Scope]; !ok {
		return problem.New(problem.Invalid, "The scope %q must be sub, one or base.", l.Scope).In("scope")
	}
	if _, err := ldap.CompileFilter(l.filter()); err != nil {
		return problem.New(problem.Invalid, "The filter cannot be read: %w", err).In("filter")
	}
	if l.Page < 0 || l.Page > largestPage {
		return problem.New(problem.Invalid, "A page is at most %d entries.", largestPage).In("page")
	}
	if l.Authority != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(l.Authority)) {
		return problem.New(problem.Invalid, "The authority holds no certificate; it must be PEM.").In("authority")
	}
	if l.Bind == "" && l.Secret != "" {
		return problem.New(problem.Invalid, "A secret needs the DN to bind as.").In("bind")
	}
	return checkSecret(l.Secret)
}

// scopes are the scopes of a search by name.
var scopes = map[string]int{"": ldap.ScopeWholeSubtree, "sub": ldap.ScopeWholeSubtree, "one": ldap.ScopeSingleLevel,
	"base": ldap.ScopeBaseObject}

// filter is the filter for people.
func (l LDAP) filter() string {
	if l.Filter == "" {
		return standardFilter
	}
	return l.Filter
}

// page is how many entries are asked for at once.
func (l LDAP) page() uint32 {
	if l.Page == 0 {
		return standardPage
	}
	return uint32(l.Page)
}

// connect opens an encrypted connection and binds. secret is the password.
func (l LDAP) connect(ctx context.Context, secret string) (*ldap.Conn, error) {
	u, err := url.Parse(l.Address)
	if err != nil {
		return nil, err
	}
	settings := &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	if l.Authority != "" {
		settings.RootCAs = x509.NewCertPool()
		settings.RootCAs.AppendCertsFromPEM([]byte(l.Authority))
	}
	dialer := &net.Dialer{Timeout: ldapTimeout}
	conn, err := ldap.DialURL(l.Address, ldap.DialWithDialer(dialer), ldap.DialWithTLSConfig(settings))
	if err != nil {
		return nil, explained(l.Address, err)
	}
	conn.SetTimeout(ldapTimeout)
	if u.Scheme == "ldap" {
		if err := conn.StartTLS(settings); err != nil {
			return nil, errors.Join(explained(l.Address, fmt.Errorf("StartTLS: %w", err)), conn.Close())
		}
	}
	if l.Bind != "" {
		if err := conn.Bind(l.Bind, secret); err != nil {
			return nil, errors.Join(explained(l.Address, err), conn.Close())
		}
	}
	return conn, nil
}

// explained says in plain words what went wrong with a directory.
func explained(address string, err error) error {
	var certificate *tls.CertificateVerificationError
	var of *ldap.Error
	errors.As(err, &of)
	switch {
	case errors.As(err, &certificate):
		return problem.New(problem.Unavailable, "%s is not trusted: %v", address, certificate.Err)
	case of != nil && of.ResultCode == ldap.LDAPResultInvalidCredentials:
		return problem.New(problem.Unavailable, "%s does not accept the DN and the password.", address)
	case of != nil && of.ResultCode == ldap.LDAPResultSizeLimitExceeded:
		return problem.New(problem.Unavailable, "%s gives only a part: its size limit is exceeded. Ask for smaller pages, "+
			"or have the limit for this DN raised.", address)
	case of != nil && of.ResultCode == ldap.LDAPResultNoSuchObject:
		return problem.New(problem.Unavailable, "%s has no entry at the base.", address)
	}
	return problem.New(problem.Unavailable, "%s: %w", address, err)
}

// read asks for everybody, or for what changed since the last time.
func (l LDAP) read(ctx context.Context, asked reading) (in people.Incoming, after func(*memory), err error) {
	conn, err := l.connect(ctx, asked.secret)
	if err != nil {
		return in, nil, err
	}
	ctx, cancel := context.WithCancel(ctx) // the library waits for whoever reads its answers, or for this
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	in.Close = func() { cancel(); stop(); conn.Close() }
	groups, digest, err := l.groups(ctx, conn)
	if err != nil {
		return in, nil, err
	}
	s := &search{LDAP: l, ctx: ctx, conn: conn, asked: asked, referrals: map[string]bool{}}
	s.delta = asked.memory.Cookie != "" && asked.memory.Groups == digest && asked.how.Mapping.Key == "" && !l.Compare
	synchronised := !l.Compare && asked.how.Mapping.Key == "" && l.offersSync(conn)
	if synchronised {
		s.begin = s.synchronise
	} else {
		s.delta, s.begin = false, s.nextPage
	}
	in.Reader, err = source.NewDirectoryReader(asked.how, groups, s.next)
	in.Whole = !s.delta
	in.Late = s.late
	return in, func(m *memory) {
		m.Groups = digest
		if s.newCookie != "" || !s.delta { // without changes a server may give none
			m.Cookie = s.newCookie
		}
	}, err
}

// offersSync reports whether a server offers content synchronisation (RFC 4533).
func (l LDAP) offersSync(conn *ldap.Conn) bool {
	root, err := conn.Search(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
		[]string{"supportedControl"}, nil))
	return err == nil && len(root.Entries) == 1 && slices.Contains(root.Entries[0].GetAttributeValues("supportedControl"), syncControl)
}

// groups reads the groups, and a digest of them.
func (l LDAP) groups(ctx context.Context, conn *ldap.Conn) (*source.Groups, string, error) {
	groups := &source.Groups{}
	if l.Groups == "" {
		return groups, "", nil
	}
	sum := sha256.New()
	s := &search{LDAP: l, ctx: ctx, conn: conn, referrals: map[string]bool{}}
	s.begin = s.nextPage
	request := ldap.NewSearchRequest(l.Groups, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, groupFilter,
		[]string{"member", "uniqueMember", "memberUid"}, nil)
	s.request = request
	for {
		e, err := s.entry()
		if errors.Is(err, io.EOF) {
			return groups, hex.EncodeToString(sum.Sum(nil)[:8]), nil
		}
		if err != nil {
			return nil, "", err
		}
		members := slices.Concat(e.GetAttributeValues("member"), e.GetAttributeValues("uniqueMember"))
		uids := e.GetAttributeValues("memberUid")
		fmt.Fprintf(sum, "%q %q %q", e.DN, members, uids)
		if err := groups.Add(e.DN, members, uids); err != nil {
			return nil, "", problem.As(problem.TooLarge, err)
		}
	}
}

// search reads the entries of a search one by one.
type search struct {
	LDAP
	ctx       context.Context
	conn      *ldap.Conn
	asked     reading
	request   *ldap.SearchRequest
	begin     func() error // asks for the next part; io.EOF when there is none
	response  ldap.Response
	paging    *ldap.ControlPaging
	began     bool
	referrals map[string]bool

	delta     bool // only what changed is asked for
	newCookie string
	present   map[string]bool // keys of entries that did not change, in the way of presence (RFC 4533, 3.3.1)
	gone      []string
	said      bool // the part that is read ended as it should
	whole     bool // all that are there were named: others are gone
}

// people is the search for people.
func (s *search) people() *ldap.SearchRequest {
	return ldap.NewSearchRequest(s.Base, scopes[s.Scope], ldap.NeverDerefAliases, 0, 0, false, s.filter(),
		source.Asked(s.asked.how.Mapping, s.asked.photos), nil)
}

// next gives the next entry as source.NewDirectoryReader takes it.
func (s *search) next() (source.DirectoryEntry, error) {
	e, err := s.entry()
	if err != nil {
		return nil, err
	}
	return func(yield func(name string, value []byte) bool) {
		if !yield("dn", []byte(e.DN)) {
			return
		}
		for _, a := range e.Attributes {
			for _, value := range a.ByteValues {
				if !yield(a.Name, value) {
					return
				}
			}
		}
	}, nil
}

// entry gives the next entry of the search; io.EOF ends it.
func (s *search) entry() (*ldap.Entry, error) {
	for {
		if s.response == nil {
			if err := s.begin(); err != nil {
				return nil, err
			}
		}
		for s.response.Next() {
			if err := s.ctx.Err(); err != nil {
				return nil, err
			}
			if referral := s.response.Referral(); referral != "" {
				s.referrals[referral] = true
			}
			s.done(s.response.Controls())
			if e := s.sift(s.response.Entry(), s.response.Controls()); e != nil {
				return e, nil
			}
		}
		if err := s.ended(); err != nil {
			return nil, err
		}
	}
}

// ended looks at the end of a part.
func (s *search) ended() error {
	response := s.response
	s.response = nil
	if err := s.ctx.Err(); err != nil {
		return err
	}
	if err := response.Err(); err != nil {
		var of *ldap.Error
		if errors.As(err, &of) && of.ResultCode == refreshNeeded && s.delta {
			return errStale
		}
		return explained(s.Address, err)
	}
	// The library says nothing of a connection that was closed before it asked.
	if s.conn.IsClosing() || s.present != nil && !s.said {
		return problem.New(problem.Unavailable, "%s: the connection ended in the middle", s.Address)
	}
	if !s.said {
		s.paging = nil // a server without paged results gives everything at once
	}
	s.said = false
	return nil
}

// done takes what stands at the end of a part.
func (s *search) done(controls []ldap.Control) {
	for _, control := range controls {
		switch c := control.(type) {
		case *ldap.ControlPaging:
			s.said = true
			s.paging.SetCookie(c.Cookie)
			if len(c.Cookie) == 0 {
				s.paging = nil
			}
		case *ldap.ControlSyncDone:
			s.said = true
			if len(c.Cookie) > 0 {
				s.newCookie = base64.StdEncoding.EncodeToString(c.Cookie)
			}
			s.whole = s.delta && !c.RefreshDeletes
		}
	}
}

// errStale says that the server cannot say what changed since the last time.
var errStale = errors.New("everything must be asked for again")

// nextPage asks for the next page (RFC 2696).
func (s *search) nextPage() error {
	if s.began && s.paging == nil {
		return io.EOF
	}
	if !s.began {
		s.began, s.paging = true, ldap.NewControlPaging(s.page())
		if s.request == nil {
			s.request = s.people()
		}
		s.request.Controls = []ldap.Control{s.paging}
	}
	s.response = s.conn.SearchAsync(s.ctx, s.request, 256)
	return nil
}

// synchronise asks for the content, or for what changed of it (RFC 4533).
func (s *search) synchronise() error {
	if s.began {
		return io.EOF
	}
	s.began = true
	var cookie []byte
	if s.delta {
		var err error
		if cookie, err = base64.StdEncoding.DecodeString(s.asked.memory.Cookie); err != nil {
			return errStale
		}
	}
	s.present = map[string]bool{}
	s.response = s.conn.Syncrepl(s.ctx, s.people(), 256, ldap.SyncRequestModeRefreshOnly, cookie, false)
	return nil
}

// sift takes what content synchronisation says of an entry; nil for one that is not to be read.
func (s *search) sift(e *ldap.Entry, controls []ldap.Control) *ldap.Entry {
	for _, control := range controls {
		switch c := control.(type) {
		case *ldap.ControlSyncState:
			switch c.State {
			case ldap.SyncStateDelete:
				s.gone = append(s.gone, c.EntryUUID.String())
				return nil
			case ldap.SyncStatePresent:
				s.present[c.EntryUUID.String()] = true
				return nil
			}
			s.present[c.EntryUUID.String()] = true
			if e != nil && e.GetAttributeValue("entryUUID") == "" {
				e.Attributes = append(e.Attributes, ldap.NewEntryAttribute("entryUUID", []string{c.EntryUUID.String()}))
			}
		case *ldap.ControlSyncInfo:
			s.info(c)
		}
	}
	return e
}

// info takes a message of content synchronisation that is about several entries.
func (s *search) info(c *ldap.ControlSyncInfo) {
	if c.SyncIdSet == nil {
		return
	}
	for _, id := range c.SyncIdSet.SyncUUIDs {
		if c.SyncIdSet.RefreshDeletes {
			s.gone = append(s.gone, id.String())
		} else {
			s.present[id.String()] = true
		}
	}
}

// late says, once everything was read, who is gone, who did not change, and what else is to be known.
func (s *search) late() people.Late {
	var late people.Late
	if s.delta {
		late.Gone = s.gone
		if s.whole {
			late.Present = s.present
		}
	}
	if len(s.referrals) > 0 {
		var list []string
		for referral := range s.referrals {
			list = append(list, referral)
		}
		slices.Sort(list)
		late.Notes = append(late.Notes, fmt.Sprintf("%d referrals were not followed: %s", len(list),
			strings.Join(list[:min(3, len(list))], ", ")))
	}
	return late
}
