package service

import (
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
)

// TestWhoComesThroughAProxy: only proxies get in, and whom they name is the last that is no proxy.
func TestWhoComesThroughAProxy(t *testing.T) {
	proxies := []netip.Prefix{netip.MustParsePrefix("10.20.0.5/32"), netip.MustParsePrefix("10.30.0.0/16")}
	var seen string
	h := behindProxies(proxies, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		seen, _,
			_ = net.SplitHostPort(r.RemoteAddr)
	}))
	for _, c := range []struct {
		name, remote string
		forwarded    []string
		status       int
		want         string
	}{
		{"a proxy for somebody", "10.20.0.5:1", []string{"192.0.2.7"}, 200, "192.0.2.7"},
		{"two proxies", "10.20.0.5:1", []string{"192.0.2.7, 10.30.4.4"}, 200, "192.0.2.7"},
		{"what somebody wrote before", "10.20.0.5:1", []string{"203.0.113.9, 192.0.2.7"}, 200, "192.0.2.7"},
		{"in two headers", "10.20.0.5:1", []string{"203.0.113.9", "192.0.2.7"}, 200, "192.0.2.7"},
		{"no header", "10.20.0.5:1", nil, 200, "10.20.0.5"},
		{"nonsense", "10.20.0.5:1", []string{"unknown"}, 200, "10.20.0.5"},
		{"version 6", "10.20.0.5:1", []string{"2001:db8::1"}, 200, "2001:db8::1"},
		{"a proxy by version 6", "[::ffff:10.20.0.5]:1", []string{"192.0.2.7"}, 200, "192.0.2.7"},
		{"somebody who says to be a proxy", "192.0.2.7:1", []string{"10.20.0.5"}, 403, ""},
	} {
		seen = ""
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = c.remote
		for _, f := range c.forwarded {
			r.Header.Add("X-Forwarded-For", f)
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		if w.Code != c.status || seen != c.want {
			t.Errorf("%s: %d from %q, want %d from %q", c.name, w.Code, seen, c.status, c.want)
		}
	}
}

// TestSettingsThatCannotBeMeant names what is wrong before anything is touched.
func TestSettingsThatCannotBeMeant(t *testing.T) {
	proxy := []netip.Prefix{netip.MustParsePrefix("10.0.0.1/32")}
	for name, c := range map[string]struct {
		config Config
		says   string
	}{
		"no port":              {Config{Listen: "127.0.0.1"}, "host:port"},
		"open without TLS":     {Config{Listen: "0.0.0.0:1"}, "passwords would cross the network"},
		"behind a proxy":       {Config{Listen: "0.0.0.0:1", Proxies: proxy}, ""},
		"https without TLS":    {Config{Listen: "127.0.0.1:1", Address: "https://a.example"}, "address begins with https"},
		"https by a proxy":     {Config{Listen: "127.0.0.1:1", Address: "https://a.example", Proxies: proxy}, ""},
		"an address with path": {Config{Listen: "127.0.0.1:1", Address: "http://a.example/b"}, "must be such as"},
		"a key alone":          {Config{Listen: "127.0.0.1:1", TLS: TLS{Key: "k"}}, "belong together"},
		"both": {Config{Listen: "127.0.0.1:1", Names: []string{"a"},
			TLS: TLS{Certificate: "c", Key: "k", ACME: true}}, "leave one out"},
		"ACME for nobody":     {Config{Listen: "127.0.0.1:1", TLS: TLS{ACME: true}}, "needs the host"},
		"redirect to nothing": {Config{Listen: "127.0.0.1:1", TLS: TLS{Redirect: "127.0.0.1:2"}}, "no HTTPS to redirect to"},
	} {
		err := c.config.Check()
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
	}
	if err := (Config{Listen: "0.0.0.0:1"}).Check(); !errors.Is(err, ErrNotLoopback) {
		t.Errorf("%v", err)
	}
	if (Config{Listen: "127.0.0.1:1", Proxies: proxy}).loopback() {
		t.Error("whoever reaches the proxy would be the owner")
	}
}
