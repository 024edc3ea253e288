package pictures

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"missivum/core/picture"
)

// Limits of asking an address.
const (
	maxAnswer = 8 << 20 // bytes
	maxSteps  = 5       // redirects that are followed
	maxWait   = 15 * time.Second
)

// Asker asks picture addresses. It sends no cookies and no sign-in, and asks nothing inside the private network
// unless that is allowed: the address is held against this when it connects, after names were resolved, and again
// for every redirect.
type Asker struct {
	Allow []netip.Prefix // networks inside that may be asked all the same
	Roots *x509.CertPool // nil for the system's
	Wait  time.Duration  // longest until the last byte; 0 for 15 s
	Now   func() time.Time
}

// Report is what asking an address brought.
type Report struct {
	Address      string          `json:"address"`
	Asked        time.Time       `json:"asked"`
	Status       int             `json:"status"` // of the last answer; 0 without one
	Milliseconds int             `json:"milliseconds"`
	Facts        *picture.Facts  `json:"facts"` // of the picture, when there was one
	Faults       []picture.Fault `json:"faults"`
}

// Broken reports whether the picture is not shown.
func (r Report) Broken() bool { return len(r.Faults) > 0 && r.Faults[0].Breaks }

// errPrivate is returned by connecting to where nobody may ask.
type errPrivate struct{ address netip.Addr }

func (e errPrivate) Error() string { return e.address.String() }

// errTooManySteps is returned for a chain of redirects without end.
var errTooManySteps = fmt.Errorf("more than %d redirects", maxSteps)

// Check asks an address and judges what came back. d is the size at which the picture is shown, zero when it is
// not known.
func (a *Asker) Check(ctx context.Context, address string, d picture.Display) Report {
	answer := a.ask(ctx, address)
	now := a.Now()
	facts, faults := picture.Judge(answer, d, now)
	r := Report{Address: address, Asked: now, Milliseconds: int(answer.Took.Milliseconds()), Faults: faults}
	if n := len(answer.Steps); n > 0 {
		r.Status = answer.Steps[n-1].Status
	}
	if facts.Format != "" {
		r.Facts = &facts
	}
	return r
}

// ask asks an address and gives what came back, whatever it is.
func (a *Asker) ask(ctx context.Context, address string) picture.Answer {
	answer := picture.Answer{Address: address}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		answer.Failure, answer.Detail = picture.Unreachable, "only full http and https addresses are asked"
		return answer
	}
	wait := a.Wait
	if wait == 0 {
		wait = maxWait
	}
	ctx, stop := context.WithTimeout(ctx, wait)
	defer stop()
	began := time.Now()
	err = a.follow(ctx, u, &answer)
	answer.Took = time.Since(began)
	if err != nil {
		answer.Failure, answer.Detail = failureOf(err, wait)
	}
	return answer
}

// client is an HTTP client that refuses private addresses at the moment of connecting, after the name was resolved.
func (a *Asker) client() *http.Client {
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		ip := at.Addr().Unmap()
		if !public(ip) && !slices.ContainsFunc(a.Allow, func(p netip.Prefix) bool { return p.Contains(ip.WithZone("")) }) {
			return errPrivate{ip}
		}
		return nil
	}}
	return &http.Client{
		Transport: &http.Transport{
			DialContext: dialer.DialContext, DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: a.Roots},
			TLSHandshakeTimeout: 10 * time.Second, MaxResponseHeaderBytes: 64 << 10, DisableCompression: true,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// follow asks, and follows redirects one by one.
func (a *Asker) follow(ctx context.Context, u *url.URL, answer *picture.Answer) error {
	client := a.client()
	for range maxSteps + 1 {
		if u.Scheme != "http" && u.Scheme != "https" {
			return fmt.Errorf("the address leads on to the scheme %s", u.Scheme)
		}
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
		if err != nil {
			return err
		}
		request.Header.Set("Accept", "image/*")
		request.Header.Set("User-Agent", "Missivum picture check")
		response, err := client.Do(request)
		if err != nil {
			return err
		}
		answer.Steps = append(answer.Steps, picture.Step{Address: u.String(), Status: response.StatusCode})
		next := response.Header.Get("Location")
		if response.StatusCode/100 != 3 || next == "" {
			return take(response, answer)
		}
		response.Body.Close()
		if u, err = u.Parse(next); err != nil {
			return fmt.Errorf("the address leads on to %.80q", next)
		}
	}
	return errTooManySteps
}

// take reads the last answer.
func take(response *http.Response, answer *picture.Answer) error {
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer+1))
	if err != nil {
		return err
	}
	if len(body) > maxAnswer {
		body, answer.Cut = body[:maxAnswer], true
	}
	answer.Body, answer.Header = body, map[string]string{}
	for name, values := range response.Header {
		answer.Header[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	if response.TLS != nil && len(response.TLS.PeerCertificates) > 0 {
		answer.Until = response.TLS.PeerCertificates[0].NotAfter
	}
	return nil
}

// failureOf says why nothing came.
func failureOf(err error, wait time.Duration) (picture.Failure, string) {
	var private errPrivate
	var invalid *tls.CertificateVerificationError
	var name *net.DNSError
	switch {
	case errors.As(err, &private):
		return picture.Private, private.Error()
	case errors.As(err, &invalid):
		return picture.Certificate, strings.TrimPrefix(invalid.Err.Error(), "x509: ")
	case errors.Is(err, errTooManySteps):
		return picture.Circular, err.Error()
	case errors.As(err, &name):
		return picture.Unreachable, "the name " + name.Name + " is not known"
	case errors.Is(err, context.DeadlineExceeded):
		return picture.TooSlow, "none within " + wait.String()
	}
	var outer *url.Error
	if errors.As(err, &outer) {
		err = outer.Err
	}
	return picture.Unreachable, err.Error()
}

// reserved are ranges that are neither private by name nor anybody's on the public net (RFC 6890, RFC 6052,
// RFC 3056): carriers' own, tests, the future, and IPv6 ranges that hold an IPv4 address.
var reserved = func() (list []netip.Prefix) {
	for _, s := range []string{
		"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4",
		"64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "fec0::/10",
	} {
		list = append(list, netip.MustParsePrefix(s))
	}
	return list
}()

// public reports whether an address is one that anybody may ask.
func public(ip netip.Addr) bool {
	if !ip.IsGlobalUnicast() || ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() || ip.IsUnspecified() {
		return false
	}
	for _, p := range reserved {
		if p.Contains(ip.WithZone("")) {
			return false
		}
	}
	return true
}
