package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"

	"missivum/e2e/rig"
)

// The named host of the tests, and the addresses of the two machines that a cable connects.
const (
	namedHost  = "signatures.brackwater.example"
	itsAddress = "10.77.18.1"
	ourAddress = "10.77.18.2"
)

// authority signs certificates, as an organisation's own does.
type authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	pem         []byte
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Brackwater Ferries"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(24 * time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return &authority{certificate, key, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})}
}

// issue writes a certificate for the named host and its key, and gives the digest of its public key as browsers write it.
func (a *authority) issue(t *testing.T, serial int64, certificate, key string) (digest string) {
	t.Helper()
	pair, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(serial), DNSNames: []string{namedHost},
		IPAddresses: []net.IP{net.ParseIP(itsAddress)}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(12 * time.Hour), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, &pair.PublicKey, a.key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalECPrivateKey(pair)
	if err != nil {
		t.Fatal(err)
	}
	public, err := x509.MarshalPKIXPublicKey(&pair.PublicKey)
	if err != nil {
		t.Fatal(err)
	}
	for file, block := range map[string]*pem.Block{key: {Type: "EC PRIVATE KEY", Bytes: private},
		certificate: {Type: "CERTIFICATE", Bytes: der}} {
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	sum := sha256.Sum256(public)
	return base64.StdEncoding.EncodeToString(sum[:])
}

// secondMachine makes a network namespace that a cable connects with this one, and gives the words that run a program there.
func secondMachine(t *testing.T) []string {
	t.Helper()
	name, cable := fmt.Sprintf("missivum-%d", os.Getpid()), fmt.Sprintf("mv%d", os.Getpid()%100000)
	run := func(args ...string) error {
		out, err := exec.Command("ip", args...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, out)
		}
		return nil
	}
	if err := run("netns", "add", name); err != nil {
		t.Skipf("a network namespace needs an administrator: %v", err)
	}
	t.Cleanup(func() {
		run("netns", "del", name)   // the cable goes with it
		time.Sleep(3 * time.Second) // browsers that run break off what they load when they see that, for a while
	})
	for _, args := range [][]string{
		{"link", "add", cable, "type", "veth", "peer", "name", "eth0", "netns", name},
		{"link", "set", cable, "addrgenmode", "none"}, // a browser breaks off what it loads when another address comes
		{"addr", "add", ourAddress + "/24", "dev", cable}, {"link", "set", cable, "up"},
		{"-n", name, "addr", "add", itsAddress + "/24", "dev", "eth0"}, {"-n", name, "link", "set", "eth0", "up"},
		{"-n", name, "link", "set", "lo", "up"},
	} {
		if err := run(args...); err != nil {
			t.Fatal(err)
		}
	}
	return []string{"netns", "exec", name}
}

// open is a service on the second machine, as others reach it.
type openService struct {
	*rig.Server
	authority *authority
	client    *http.Client // that trusts the authority
	tab       context.Context
	folder    string
	digest    string // of the public key of its first certificate
}

// openedToOthers starts a service on a named host with a certificate of the organisation's own.
func openedToOthers(t *testing.T) *openService {
	t.Helper()
	there := secondMachine(t)
	o := &openService{authority: newAuthority(t), folder: t.TempDir()}
	certificate, key := filepath.Join(o.folder, "certificate.pem"), filepath.Join(o.folder, "key.pem")
	digest := o.authority.issue(t, 2, certificate, key)
	settings := filepath.Join(o.folder, "settings.yaml")
	text := fmt.Sprintf("listen: %[1]s:443\nnames: [%[2]s, %[1]s]\ndata: %[3]s/data\ntls:\n  certificate: %[4]s\n  "+
		"key: %[5]s\n  redirect: %[1]s:80\n"+
		"metrics:\n  listen: %[1]s:9425\n", itsAddress, namedHost, o.folder, certificate, key)
	if err := os.WriteFile(settings, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	var err error
	if o.Server, err = rig.Start("ip", append(there, binary, "serve", "--config", settings)...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := o.Stop(); err != nil {
			t.Errorf("stopping: %v", err)
		}
	})
	roots := x509.NewCertPool()
	roots.AddCert(o.authority.certificate)
	o.client = &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, ServerName: namedHost}, DisableKeepAlives: true,
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, strings.Replace(address, namedHost, itsAddress, 1))
			}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	o.digest = digest
	o.tab = o.browser(t)
	return o
}

// browser opens a browser of its own, which takes the certificate that the service began with.
func (o *openService) browser(t *testing.T) context.Context {
	t.Helper()
	tab, stop := rig.Browser(context.Background(), 1280, 800,
		chromedp.Flag("host-resolver-rules", "MAP "+namedHost+" "+itsAddress), chromedp.Flag("ignore-certificate-errors-spki-list", o.digest))
	t.Cleanup(stop)
	err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800))
	for try := 0; err == nil && try < 20; try++ { // until it has seen that there is another network
		if err = chromedp.Do(tab, chromedp.Navigate("https://"+namedHost+"/healthz")); err == nil && try > 3 {
			break
		} else if err != nil && strings.Contains(err.Error(), "ERR_NETWORK_CHANGED") {
			err = nil
		}
		time.Sleep(200 * time.Millisecond)
	}
	if err != nil {
		t.Fatal(err)
	}
	limited, cancel := context.WithTimeout(tab, 8*time.Minute)
	t.Cleanup(cancel)
	return limited
}

// get asks for an address of the service and gives status, location and body.
func (o *openService) get(t *testing.T, address string) (*http.Response, string) {
	t.Helper()
	answer, err := o.client.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer, string(body)
}

// fields types texts into the fields of a form, by their labels, and sends it.
func fields(t *testing.T, tab context.Context, form string, texts ...string) {
	t.Helper()
	for i := 0; i+1 < len(texts); i += 2 {
		do(t, tab, form+": "+texts[i], chromedp.SendKeys(fmt.Sprintf(
			`//form[@aria-label=%q]//label[starts-with(., %q)]/following-sibling::div//input`, form, texts[i]), texts[i+1]))
	}
	do(t, tab, form, chromedp.Click(fmt.Sprintf(`//form[@aria-label=%q]//button[@type="submit"]`, form)))
}

const (
	pageHas   = `(document.body?.innerText ?? "").includes(%q)`
	goodWords = "quay lantern tide bell"
	boxOf     = `document.querySelector('pre[aria-label=%q]')?.innerText`
)

// TestOpenedToOthers is the way of an administrator who installs the service on a named host, and of those who use it, from
// another machine.
func TestOpenedToOthers(t *testing.T) {
	o := openedToOthers(t)
	base := "https://" + namedHost
	t.Run("before there is an account", func(t *testing.T) {
		for path, want := range map[string]int{"/": 303, "/templates": 303, "/sign-in": 200, "/api/v1/templates": 503,
			"/api/v1/openapi.json": 503} {
			answer, body := o.get(t, base+path)
			if answer.StatusCode != want || answer.Header.Get("Strict-Transport-Security") == "" {
				t.Errorf("%s: %d, want %d; %v", path, answer.StatusCode, want, answer.Header)
			}
			if want == 200 && strings.Contains(body, "templates") {
				t.Errorf("%s shows more than signing in:\n%s", path, body)
			}
		}
		answer, _ := o.get(t, "http://"+namedHost+"/templates?a=b")
		if answer.StatusCode != 308 || answer.Header.Get("Location") != base+"/templates?a=b" {
			t.Errorf("by HTTP: %d to %s", answer.StatusCode, answer.Header.Get("Location"))
		}
		if answer, body := o.get(t, "http://"+itsAddress+":9425/metrics"); answer.StatusCode != 200 ||
			!strings.Contains(body, "missivum_people") {
			t.Errorf("metrics: %d %s", answer.StatusCode, body)
		}
		if answer, _ := o.get(t, "http://"+itsAddress+":9425/api/v1/templates"); answer.StatusCode != 404 {
			t.Errorf("the address of metrics answers more: %d", answer.StatusCode)
		}
		do(t, o.tab, "opening the console", chromedp.Navigate(base+"/templates"))
		waitFor(t, o.tab, "it says that it is not set up", fmt.Sprintf(pageHas, "Not set up yet"))
	})
	link := o.Line(base + "/sign-in#first=")
	if link == "" {
		t.Fatal("no link was printed")
	}
	do(t, o.tab, "the printed link", chromedp.Navigate("about:blank"), chromedp.Navigate(link),
		chromedp.WaitVisible(`//form[@aria-label="The first administrator"]`))
	accessible(t, o.tab, "the first start")
	fields(t, o.tab, "The first administrator", "Name to sign in with", "ines@brackwater.example", "Your name",
		"Ines Duarte", "Password", "short")
	waitFor(t, o.tab, "a short password is refused", fmt.Sprintf(pageHas, "it must have at least 12"))
	fields(t, o.tab, "The first administrator", "Password", " but now a long one with words")
	waitFor(t, o.tab, "the console is open", fmt.Sprintf(pageHas, "Ines Duarte")+` && location.pathname === "/templates"`)

	t.Run("an account for somebody else", func(t *testing.T) { o.colleague(t, base) })
	t.Run("the organisation", func(t *testing.T) { o.organisation(t, base) })
	t.Run("a second factor", func(t *testing.T) { o.secondFactor(t, base) })
	t.Run("a key, and signing in by command", func(t *testing.T) { o.keysAndCommands(t, base) })
	t.Run("the record", func(t *testing.T) {
		do(t, o.tab, "the record", chromedp.Navigate(base+"/settings/record"), chromedp.WaitVisible(`//table[@aria-label="Record"]//td`))
		waitFor(t, o.tab, "who signed in from where", fmt.Sprintf(pageHas, "from "+ourAddress))
		do(t, o.tab, "checking", chromedp.Click(`//button[text()="Check that it is whole"]`))
		waitFor(t, o.tab, "it is whole", fmt.Sprintf(pageHas, "The record is whole"))
		do(t, o.tab, "who", chromedp.SendKeys(`//label[text()="Who"]/following-sibling::div//input`, "maren"))
		waitFor(t, o.tab, "only hers",
			`[...document.querySelectorAll('table[aria-label="Record"] tbody tr')].every(r => r.innerText.includes("maren"))`)
		accessible(t, o.tab, "the record")
	})
	t.Run("a new certificate", func(t *testing.T) {
		o.authority.issue(t, 77, filepath.Join(o.folder, "certificate.pem"), filepath.Join(o.folder, "key.pem"))
		for end := time.Now().Add(patience); ; time.Sleep(300 * time.Millisecond) {
			answer, _ := o.get(t, base+"/healthz")
			if answer.TLS.PeerCertificates[0].SerialNumber.Int64() == 77 {
				return
			}
			if time.Now().After(end) {
				t.Fatal("the old certificate is still shown")
			}
		}
	})
}

// colleague makes an account, chooses its password in another browser profile, and finds what its role hides.
func (o *openService) colleague(t *testing.T, base string) {
	do(t, o.tab, "accounts", chromedp.Navigate(base+"/settings/accounts"), chromedp.Click(`//button[text()="New account"]`),
		chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "Name")]/following-sibling::div//input`, "maren@brackwater.example"),
		chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "Shown as")]/following-sibling::div//input`, "Maren Lind"),
		chromedp.Click(`//*[@role="dialog"]//label[contains(., "author")]//input`), chromedp.Click(`//button[text()="Make the account"]`))
	waitFor(t, o.tab, "the link is shown", fmt.Sprintf(boxOf, "Link"))
	accessible(t, o.tab, "accounts")
	link := evaluate[string](t, o.tab, fmt.Sprintf(boxOf, "Link"))
	other := o.browser(t)
	do(t, other, "the link", chromedp.Navigate(link), chromedp.WaitVisible(`//form[@aria-label="Choose a password"]`))
	fields(t, other, "Choose a password", "Password", goodWords)
	waitFor(t, other, "the name is filled in",
		`document.querySelector('form[aria-label="Sign in"] input')?.value === "maren@brackwater.example"`)
	fields(t, other, "Sign in", "Password", "wrong wrong wrong")
	waitFor(t, other, "it is refused", fmt.Sprintf(pageHas, "Name or password is not right"))
	accessible(t, other, "signing in")
	do(t, other, "the page that was asked for", chromedp.Navigate(base+"/sign-in?to=%2Fpeople"))
	fields(t, other, "Sign in", "Name", "maren@brackwater.example", "Password", goodWords)
	waitFor(t, other, "that page is open, and says what the role lacks",
		`location.pathname === "/people" && `+fmt.Sprintf(pageHas, "Changing people needs the role administrator; you are viewer or author"))
	if evaluate[bool](t, other, `[...document.querySelectorAll('button, nav a')].some(e => /^(Import a file|Accounts)$/.test(e.innerText))`) {
		t.Error("the page offers what the role may not do")
	}
	if status := evaluate[int](t, other, `(() => { const r = new XMLHttpRequest(); r.open('PUT', '/api/v1/assignments', false); `+
		`r.send('{"lines":[]}'); return r.status })()`); status != 403 {
		t.Errorf("assignments by an author: %d", status)
	}
	do(t, other, "saving a template", chromedp.Navigate(base+"/templates"), chromedp.WaitVisible(`//button[text()="New template"]`))
	do(t, other, "signing out", chromedp.Click(`//button[text()="Maren Lind"]`), chromedp.Click(`//li[text()="Sign out"]`),
		chromedp.WaitVisible(`//form[@aria-label="Sign in"]`), chromedp.Navigate(base+"/people"))
	waitFor(t, other, "pages lead to signing in", `location.pathname === "/sign-in"`)
}

// organisation sets a constant on its page, and finds it in a template, which says where it is from.
func (o *openService) organisation(t *testing.T, base string) {
	do(t, o.tab, "the organisation", chromedp.Navigate(base+"/settings/organisation"),
		chromedp.WaitVisible(`//section[@aria-label="Constants"]`))
	accessible(t, o.tab, "the organisation")
	line := func(list string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.CSS(fmt.Sprintf(`[aria-label="Add a line to %s"]`, list)))
	}
	typed := func(list, field, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(fmt.Sprintf(`table[aria-label=%q] [aria-label="%s, line 1"]`, list, field)), text)
	}
	do(t, o.tab, "what all templates share", chromedp.SendKeys(`//label[text()="Language"]/following-sibling::div//input`, "en"),
		line("Constants"), typed("Constants", "Name", "company"), typed("Constants", "Value", "Brackwater Ferries"),
		line("Texts"), typed("Texts", "Name", "bye"), typed("Texts", "Text", "Kind regards"), chromedp.Click(`//button[text()="Save"]`))
	waitFor(t, o.tab, "it is saved", fmt.Sprintf(pageHas, "Saved. Templates are checked anew"))
	status := evaluate[int](t, o.tab, `(() => { const r = new XMLHttpRequest(); r.open('PUT', '/api/v1/templates/crew', false); `+
		`r.send(JSON.stringify({ source: '<p>{{ cn }} of {{ org.company }}. {{ text.bye }}</p>' })); return r.status })()`)
	if status != 201 {
		t.Fatalf("saving a template: %d", status)
	}
	do(t, o.tab, "the workbench", chromedp.Navigate(base+"/templates/crew"),
		chromedp.Click(`//summary[contains(., "do not come from the directory")]`))
	waitFor(t, o.tab, "it says where they are from", fmt.Sprintf(pageHas, "Brackwater Ferries from the organisation"))
}

// secondFactor sets one up and signs in with a code of it, and with a recovery code.
func (o *openService) secondFactor(t *testing.T, base string) {
	password := "short but now a long one with words"
	do(t, o.tab, "the account", chromedp.Navigate(base+"/account"), chromedp.WaitVisible(`//form[@aria-label="Second factor"]`))
	accessible(t, o.tab, "your account")
	fields(t, o.tab, "Second factor", "Password now", password)
	waitFor(t, o.tab, "the secret is shown", fmt.Sprintf(boxOf, "Secret")+
		` && document.querySelector('img[alt="Code for your telephone"]')?.naturalWidth > 0`)
	secret := strings.ReplaceAll(evaluate[string](t, o.tab, fmt.Sprintf(boxOf, "Secret")), " ", "")
	code, err := totp.GenerateCode(secret, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	fields(t, o.tab, "Confirm the second factor", "Code that it shows", code)
	waitFor(t, o.tab, "recovery codes are shown", fmt.Sprintf(boxOf, "Recovery codes"))
	recovery := strings.Fields(evaluate[string](t, o.tab, fmt.Sprintf(boxOf, "Recovery codes")))
	if len(recovery) != 10 {
		t.Errorf("recovery codes: %v", recovery)
	}
	signOut := func() {
		do(t, o.tab, "signing out", chromedp.Click(`//button[text()="Ines Duarte"]`), chromedp.Click(`//li[text()="Sign out"]`),
			chromedp.WaitVisible(`//form[@aria-label="Sign in"]`))
		fields(t, o.tab, "Sign in", "Name", "ines@brackwater.example", "Password", password)
		waitFor(t, o.tab, "a code is wanted", fmt.Sprintf(pageHas, "Code of your second factor"))
	}
	signOut()
	fields(t, o.tab, "Sign in", "Code of your second factor", code) // the code that set it up
	waitFor(t, o.tab, "a code that was used is refused", fmt.Sprintf(pageHas, "This code was used already"))
	fields(t, o.tab, "Sign in", "Code of your second factor", "\b\b\b\b\b\b"+recovery[0])
	waitFor(t, o.tab, "a recovery code opens", fmt.Sprintf(pageHas, "Templates")+` && location.pathname !== "/sign-in"`)
	signOut()
	fields(t, o.tab, "Sign in", "Code of your second factor", recovery[0])
	waitFor(t, o.tab, "once only", fmt.Sprintf(pageHas, "The code is not right"))
	fields(t, o.tab, "Sign in", "Code of your second factor", strings.Repeat("\b", 17)+recovery[1])
	waitFor(t, o.tab, "another opens", `location.pathname !== "/sign-in"`)
	do(t, o.tab, "the account", chromedp.Navigate(base+"/account"), chromedp.WaitVisible(`//form[@aria-label="Second factor"]`))
	waitFor(t, o.tab, "it says how many are left", fmt.Sprintf(pageHas, "You have 8 recovery codes left"))
	fields(t, o.tab, "Second factor", "Password now", password)
	waitFor(t, o.tab, "it is removed", fmt.Sprintf(pageHas, "Set up a second factor"))
}

// keysAndCommands makes a key on its page and uses it, and signs in by command.
func (o *openService) keysAndCommands(t *testing.T, page string) {
	do(t, o.tab, "keys", chromedp.Navigate(page+"/settings/keys"), chromedp.WaitVisible(`//form[@aria-label="New key"]`),
		chromedp.Click(`//label[contains(., "api:read")]//input`))
	fields(t, o.tab, "New key", "Name", "pipeline")
	waitFor(t, o.tab, "the key is shown", fmt.Sprintf(boxOf, "Key"))
	accessible(t, o.tab, "keys")
	key := evaluate[string](t, o.tab, fmt.Sprintf(boxOf, "Key"))
	trusted := filepath.Join(o.folder, "authority.pem")
	if err := os.WriteFile(trusted, o.authority.pem, 0o600); err != nil {
		t.Fatal(err)
	}
	home, base := t.TempDir(), "https://"+itsAddress // its name is known to the browser only
	run := func(in string, environ []string, args ...string) (string, error) {
		c := exec.Command(binary, append(args, "--server", base)...)
		c.Env = append(os.Environ(), append(environ, "SSL_CERT_FILE="+trusted, "XDG_CONFIG_HOME="+home)...)
		c.Stdin = strings.NewReader(in)
		out, err := c.CombinedOutput()
		return string(out), err
	}
	if out, err := run("", nil, "template", "list"); err == nil || !strings.Contains(out, "missivum sign-in --server "+base) {
		t.Errorf("without a key: %v %s", err, out)
	}
	if out, err := run("", []string{"MISSIVUM_KEY=" + key}, "template", "list"); err != nil {
		t.Errorf("with a key: %v %s", err, out)
	}
	if out, err := run("", []string{"MISSIVUM_KEY=" + key}, "record", "list"); err == nil || !strings.Contains(out, "api:read") {
		t.Errorf("the record with that key: %v %s", err, out)
	}
	if out, err := run("ines@brackwater.example\nwrong wrong wrong\n", nil, "sign-in"); err == nil || !strings.Contains(out, "is not right") {
		t.Errorf("with a wrong password: %v %s", err, out)
	}
	if out, err := run("ines@brackwater.example\nshort but now a long one with words\n", nil, "sign-in"); err != nil ||
		!strings.Contains(out, "Commands act for ines@brackwater.example") {
		t.Fatalf("signing in: %v %s", err, out)
	}
	info, err := os.Stat(filepath.Join(home, "missivum", "keys.yaml"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the kept key: %v, %v", info, err)
	}
	for _, args := range [][]string{{"account", "list"}, {"key", "list"}, {"record", "verify"}, {"record", "list", "--object", "account"}} {
		out, err := run("", nil, args...)
		if err != nil || out == "" {
			t.Errorf("%v: %v %s", args, err, out)
		}
	}
	if out, err := run("", nil, "sign-out"); err != nil {
		t.Errorf("signing out: %v %s", err, out)
	}
	if _, err := run("", nil, "account", "list"); err == nil {
		t.Error("commands act after signing out")
	}
}

// labProgram builds one of the programs that stand in for outside services and starts it.
func labProgram(t *testing.T, name string, args ...string) *rig.Server {
	t.Helper()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(t.TempDir(), name)
	build := exec.Command("go", "build", "-o", program, "./lab/"+name)
	build.Dir = root
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	p, err := rig.Start(program, args...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop() }) // it ends by the signal, which is an error to it
	return p
}

// TestACertificateByACME: the service proves itself by its listener for HTTP, shows the certificate that it gets, for its own
// names alone, and keeps it.
func TestACertificateByACME(t *testing.T) {
	t.Parallel()
	plain, folder := freeAddress(t), t.TempDir()
	trusted := filepath.Join(folder, "authority.pem")
	authority := labProgram(t, "acme", "--listen", "127.0.0.1:0", "--http", plain, "--authority", trusted)
	s := start(t, "serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(folder, "data"), "--names", namedHost, "--tls-acme",
		"--tls-acme-directory", authority.Address, "--tls-redirect", plain)
	text, err := os.ReadFile(trusted)
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(text)
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(s.Address, "https://"))
	shown := func(name string) (*x509.Certificate, error) {
		c, err := tls.Dial("tcp", "127.0.0.1:"+port, &tls.Config{RootCAs: roots, ServerName: name})
		if err != nil {
			return nil, err
		}
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0], nil
	}
	first, err := shown(namedHost)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := shown(namedHost); err != nil || !again.Equal(first) {
		t.Errorf("asked again: another certificate, %v", err)
	}
	if _, err := shown("other.example"); err == nil {
		t.Error("a certificate for another host")
	}
	if kept, err := os.ReadDir(filepath.Join(folder, "data", "secrets", "acme")); err != nil || len(kept) < 2 {
		t.Errorf("kept: %v, %v", kept, err)
	}
}

// TestSigningInAtAnIdentityProvider goes there and back in Chromium: for a new account, for one that was made beforehand, for
// somebody without a role, for one whose address is not verified, and with a password beside it.
func TestSigningInAtAnIdentityProvider(t *testing.T) {
	t.Parallel()
	provider, service := freeAddress(t), freeAddress(t)
	labProgram(t, "identity", "--listen", provider, "--back", "http://"+service+"/api/v1/sign-in/provider/return")
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("between us\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := start(t, "demo", "--accounts", "--listen", service, "--provider-issuer", "http://"+provider, "--provider-client", "missivum",
		"--provider-secret-file", secret, "--provider-title", "Brackwater identity", "--provider-roles",
		"harbour-office=author,legal=approver,it=administrator")
	as := func(name, want string) context.Context {
		t.Helper()
		tab := browser(t)
		do(t, tab, name, chromedp.Navigate(s.Address+"/people/sources"), chromedp.Click(`//a[text()="Sign in with Brackwater identity"]`),
			chromedp.Click(fmt.Sprintf(`//button[text()=%q]`, name)))
		waitFor(t, tab, name+": "+want, fmt.Sprintf(pageHas, want))
		return tab
	}
	as("Deck Hand", "gives you no role here")
	as("Somebody Else", "not one that it has verified")
	as("Maren Lind", "There is an account of your name that signs in with a password")
	admin := browser(t)
	do(t, admin, "the administrator by password", chromedp.Navigate(s.Address+"/sign-in"),
		chromedp.WaitVisible(`//form[@aria-label="Sign in"]`))
	accessible(t, admin, "signing in with a provider")
	fields(t, admin, "Sign in", "Name", "ines@brackwater.example", "Password", goodWords)
	waitFor(t, admin, "it is in", fmt.Sprintf(pageHas, "Ines Duarte"))
	if status := evaluate[int](t, admin,
		`(() => { const r = new XMLHttpRequest(); r.open('DELETE', '/api/v1/accounts/tobias@brackwater.example', `+
			`false); r.send(); return r.status })()`); status != 204 {
		t.Fatalf("removing an account: %d", status)
	}
	tobias := as("Tobias Wrede", "Changing sources needs the role administrator; you are author or approver")
	if at := evaluate[string](t, tobias, `location.pathname`); at != "/people/sources" {
		t.Errorf("he went on to %s", at)
	}
	for _, forged := range []string{"?state=x&code=y", "", "?error=access_denied"} {
		tab := browser(t)
		do(t, tab, "forged", chromedp.Navigate(s.Address+"/api/v1/sign-in/provider/return"+forged))
		waitFor(t, tab, "it is refused", fmt.Sprintf(pageHas, "does not belong to what was begun here"))
	}
	do(t, admin, "the record", chromedp.Navigate(s.Address+"/settings/record"))
	waitFor(t, admin, "it says how he signed in", fmt.Sprintf(pageHas, "identity provider"))
}
