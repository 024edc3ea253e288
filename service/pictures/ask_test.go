package pictures

import (
	"context"
	"crypto/x509"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/picture"
	lab "missivum/lab/pictures"
)

var loopback = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}

func asker(host *httptest.Server) *Asker {
	a := &Asker{Allow: loopback, Now: time.Now}
	if host.Certificate() != nil {
		a.Roots = x509.NewCertPool()
		a.Roots.AddCert(host.Certificate())
	}
	return a
}

func ids(r Report) []string {
	var list []string
	for _, f := range r.Faults {
		list = append(list, f.ID)
	}
	return list
}

// TestEveryFaultOfTheHostIsFound: each path of the stand-in shows one fault, and the check finds it and nothing
// else.
func TestEveryFaultOfTheHostIsFound(t *testing.T) {
	host := httptest.NewTLSServer(lab.Handler(""))
	defer host.Close()
	a := asker(host)
	for _, f := range lab.Faults(time.Now()) {
		t.Run(f.Path, func(t *testing.T) {
			r := a.Check(context.Background(), host.URL+f.Path, picture.Display{Width: 120, Height: 40})
			var want []string
			if f.Finds != "" {
				want = []string{f.Finds}
			}
			if f.Path == "/heavy.png" {
				want = []string{"size", "weight"}
			}
			if got := ids(r); !slices.Equal(got, want) {
				t.Errorf("found %v, want %v: %+v", got, want, r.Faults)
			}
			for _, fault := range r.Faults {
				if fault.Message == "" || fault.Remedy == "" {
					t.Errorf("says too little: %+v", fault)
				}
			}
			if f.Finds == "" && (r.Facts == nil || r.Facts.Width != 120 || r.Status != 200) {
				t.Errorf("the good one: %+v", r)
			}
		})
	}
}

// TestThePrivateNetworkIsNotAsked: neither by name, nor by number, nor by redirect, nor by a form of a number that
// hides it.
func TestThePrivateNetworkIsNotAsked(t *testing.T) {
	asked := 0
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer inside.Close()
	a := &Asker{Now: time.Now}
	_, port, _ := strings.Cut(strings.TrimPrefix(inside.URL, "http://"), ":")
	for _, address := range []string{inside.URL, "http://localhost:" + port + "/x.png", "http://[::1]:" + port + "/",
		"http://0.0.0.0:" + port + "/", "http://[::ffff:127.0.0.1]:" + port + "/"} {
		r := a.Check(context.Background(), address, picture.Display{})
		if !slices.Contains(ids(r), "private") {
			t.Errorf("%s: %+v", address, r.Faults)
		}
	}
	if asked > 0 {
		t.Errorf("the private host was asked %d times", asked)
	}
	// the first host may be asked, the one that it leads to may not
	open := httptest.NewServer(lab.Handler("http://127.0.0.2:" + port + "/inside.png"))
	defer open.Close()
	r := asker(open).Check(context.Background(), open.URL+"/to-private.png", picture.Display{})
	if !slices.Contains(ids(r), "private") || !strings.Contains(r.Faults[0].Message, "127.0.0.2") || asked > 0 {
		t.Errorf("a redirect inside: %+v", r.Faults)
	}
	for ip, want := range map[string]bool{
		"8.8.8.8": true, "2606:4700::1111": true, "10.1.2.3": false, "172.16.0.1": false, "192.168.1.1": false,
		"127.0.0.2": false, "169.254.169.254": false,
		"100.64.1.1": false, "0.0.0.0": false, "224.0.0.1": false, "255.255.255.255": false, "::1": false, "fe80::1": false,
		"fd00::1": false, "64:ff9b::7f00:1": false, "2002:7f00:1::": false, "::": false,
	} {
		if got := public(netip.MustParseAddr(ip)); got != want {
			t.Errorf("%s: public %v", ip, got)
		}
	}
}

func TestBadCertificatesAndSilentHosts(t *testing.T) {
	host := httptest.NewTLSServer(lab.Handler(""))
	defer host.Close()
	stranger := &Asker{Allow: loopback, Now: time.Now}
	if got := ids(stranger.Check(context.Background(), host.URL+"/good.png", picture.Display{})); !slices.Equal(got, []string{"certificate"}) {
		t.Errorf("a certificate that nobody signed: %v", got)
	}
	late := asker(host)
	late.Now = func() time.Time { return host.Certificate().NotAfter.Add(-48 * time.Hour) }
	if r := late.Check(context.Background(), host.URL+"/good.png", picture.Display{}); !slices.Contains(ids(r),
		"certificate") || !strings.Contains(r.Faults[0].Message, "in 2 days") {
		t.Errorf("a certificate that ends soon: %+v", r.Faults)
	}
	hasty := asker(host)
	hasty.Wait = 100 * time.Millisecond
	if r := hasty.Check(context.Background(), host.URL+"/slow.png", picture.Display{}); !slices.Equal(ids(r),
		[]string{"time"}) || !r.Broken() {
		t.Errorf("a silent host: %+v", r.Faults)
	}
	plain := httptest.NewServer(lab.Handler(""))
	defer plain.Close()
	if got := ids(asker(plain).Check(context.Background(), plain.URL+"/good.png", picture.Display{})); !slices.Equal(got, []string{"scheme"}) {
		t.Errorf("http: %v", got)
	}
	for address, want := range map[string]string{
		"pictures/logo.png": "scheme", "ftp://pictures.brackwater.example/logo.png": "scheme", "https://nowhere.invalid/logo.png": "unreachable",
	} {
		if got := ids(stranger.Check(context.Background(), address, picture.Display{})); !slices.Contains(got, want) {
			t.Errorf("%s: %v", address, got)
		}
	}
}
