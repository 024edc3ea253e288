package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"missivum/core/addon"
	"missivum/e2e/rig"
	"missivum/lab/webmail"
)

// standIn describes the compose field of lab/webmail.
const standIn = `{"pane":"section[data-pane]","field":"div[data-part=body]","account":"select[name=from]",
	"quotation":"[data-part=quotation]",
	"signature":"[data-part=signature]","draft":"[data-draft]"},
	{"pane":"section[data-pane]","field":"textarea[data-part=body]","account":"select[name=from]","draft":"[data-draft]"}`

// realOne describes that of the webmail that Debian packages: its editor in a frame, and its plain text.
const realOne = `{"frame":"#composebody_ifr","field":"body.mce-content-body[contenteditable=true]","account":"#_from",
	"quotation":"#reply-intro","signature":"#_rc_sig","draft":"input[name=_draft_saveid][value]:not([value=''])"},
	{"when":"input[name=_is_html][value='0']","field":"textarea#composebody","account":"#_from",
	"draft":"input[name=_draft_saveid][value]:not([value=''])"}`

// recorder passes on what is asked of a service, and keeps what was asked for.
type recorder struct {
	proxy *httputil.ReverseProxy
	away  bool // the service cannot be reached

	mu   sync.Mutex
	seen []seen
}

type seen struct {
	method, path, origin, body string
	headers                    http.Header
}

func (r *recorder) ServeHTTP(w http.ResponseWriter, request *http.Request) {
	body, err := io.ReadAll(request.Body)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	request.Body = io.NopCloser(bytes.NewReader(body))
	r.mu.Lock()
	r.seen = append(r.seen, seen{request.Method, request.URL.RequestURI(), request.Header.Get("Origin"), string(body), request.Header.Clone()})
	away := r.away
	r.mu.Unlock()
	if away {
		panic(http.ErrAbortHandler) // as when nothing answers
	}
	r.proxy.ServeHTTP(w, request)
}

// all is what was asked for until now.
func (r *recorder) all() []seen {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]seen(nil), r.seen...)
}

func (r *recorder) setAway(away bool) {
	r.mu.Lock()
	r.away = away
	r.mu.Unlock()
}

// withAddOn is a service with a release, and a browser with its add-on.
type withAddOn struct {
	t       *testing.T
	s       *rig.Server
	between *recorder // by which the add-on asks
	id      string    // of the add-on
	key     string    // Maren's
	browser context.Context
	last    context.Context // the page Why is it not there? that was opened last
	close   func()          // closes the page of the add-on that was opened last

	signatures map[string]string // markup by situation
	times      []float64         // ms from when the field appeared to when the signature stood in it
}

// site is how the settings name a webmail.
func site(id, title, address, client, place, compose string) string {
	return fmt.Sprintf(`{"id":%q,"title":%q,"matches":["%s/*"],"client":%q,"place":%q,"compose":[%s]}`, id, title, address, client, place,
		compose)
}

// freePort is an address of this machine at which nothing listens.
func freePort() (string, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return listener.Addr().String(), listener.Close()
}

// startAddOn starts a service whose add-on works on some sites, and a browser that has it with Maren's key.
func startAddOn(t *testing.T, sites ...string) *withAddOn {
	t.Helper()
	return startAddOnWith(t, func(*withAddOn) {}, sites...)
}

// startAddOnWith is startAddOn with something to do before the browser starts.
func startAddOnWith(t *testing.T, before func(*withAddOn), sites ...string) *withAddOn {
	t.Helper()
	port, err := freePort()
	if err != nil {
		t.Fatal(err)
	}
	direct := "http://" + port
	target, err := url.Parse(direct)
	if err != nil {
		t.Fatal(err)
	}
	a := &withAddOn{t: t, between: &recorder{proxy: &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }}}}
	between := httptest.NewServer(a.between)
	t.Cleanup(between.Close)
	a.s = withRelease(t, "--listen", port, "--address", between.URL) // what it prints is the address that people use
	a.s.Address, a.between.seen = direct, nil
	a.settings(sites...)
	var o struct{ ID string }
	getJSON(t, a.s.Address+"/api/v1/add-on", &o)
	a.id = o.ID
	a.key = a.newKey(maren)
	folder := t.TempDir()
	if err := rig.UnpackAddOn(a.s.Address, folder); err != nil {
		t.Fatal(err)
	}
	before(a)
	tab, stop, err := rig.BrowserWithAddOn(t.Context(), folder, 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	limited, cancel := context.WithTimeout(tab, time.Duration(rig.Soak(10, 90))*time.Minute)
	t.Cleanup(cancel)
	a.browser = limited
	return a
}

// settings names the sites.
func (a *withAddOn) settings(sites ...string) {
	a.t.Helper()
	asked(a.t, "PUT", a.s.Address+"/api/v1/add-on/settings", "Ines",
		`{"name":"Brackwater Ferries","keyDays":365,"sites":[`+strings.Join(sites, ",")+`]}`, nil)
}

// newKey makes a key for somebody.
func (a *withAddOn) newKey(person string) string {
	a.t.Helper()
	var keys []struct{ Key string }
	asked(a.t, "POST", a.s.Address+"/api/v1/add-on/keys", "Ines", fmt.Sprintf(`{"people":[%q]}`, person), &keys)
	return keys[0].Key
}

// page opens a page of the add-on in a new tab.
func (a *withAddOn) page(name string) context.Context {
	a.t.Helper()
	tab, stop := chromedp.NewContext(a.browser)
	a.t.Cleanup(stop)
	a.close = stop
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil { // the tab ends with the context of what is done first
		a.t.Fatal(err)
	}
	do(a.t, tab, "a page of the add-on", chromedp.Navigate("chrome-extension://"+a.id+"/"+name), chromedp.WaitVisible(`//main//h1`))
	return tab
}

// paste gives the add-on a key, as a person does.
func (a *withAddOn) paste(key, says string) {
	a.t.Helper()
	tab := a.page("settings.html")
	do(a.t, tab, "the key", chromedp.SendKeys(chromedp.CSS("#key"), key), chromedp.Click(chromedp.CSS("button.main")))
	waitFor(a.t, tab, "what the settings say", fmt.Sprintf(`document.querySelector('[role=status]')?.innerText.includes(%q)`, says))
	do(a.t, tab, "closing", chromedp.Evaluate[chromedp.Void]("void setTimeout(close)"))
}

// why opens the page Why is it not there? for the page at an address, and gives what it says: the sentence at its top, and the reasons
// by their names with the step that helps.
func (a *withAddOn) why(address string) (summary string, reasons map[string]string) {
	a.t.Helper()
	if a.last != nil {
		a.close()
	}
	tab := a.page("why.html")
	id, err := chromedp.Run(tab, chromedp.Evaluate[int](fmt.Sprintf(
		`chrome.tabs.query({}).then(list => list.find(t => (t.url ?? '').startsWith(%q))?.id ?? 0)`, address), chromedp.EvalAwaitPromise))
	if err != nil {
		a.t.Fatal(err)
	}
	if id == 0 { // the add-on is not shown the addresses of other sites
		if id, err = chromedp.Run(tab, chromedp.Evaluate[int](`chrome.tabs.query({}).then(list => list.find(t => !t.url)?.id ?? 0)`,
			chromedp.EvalAwaitPromise)); err != nil {
			a.t.Fatal(err)
		}
	}
	do(a.t, tab, "the reasons", chromedp.Navigate(fmt.Sprintf("chrome-extension://%s/why.html?tab=%d", a.id, id)),
		chromedp.WaitVisible(`//main//h1`))
	summary = evaluate[string](a.t, tab, `document.querySelector('[role=status]').innerText`)
	reasons = evaluate[map[string]string](a.t, tab, `Object.fromEntries([...document.querySelectorAll('[data-reason]')].map(e =>
		[e.dataset.reason, e.className + ': ' + (e.querySelector('p')?.innerText ?? '')]))`)
	a.last = tab
	return summary, reasons
}

// until opens the page Why is it not there? until it says what is expected: a busy machine is slow. It gives what it said last.
func (a *withAddOn) until(address string, expected func(summary string, reasons map[string]string) bool) (string, map[string]string) {
	a.t.Helper()
	for end := time.Now().Add(patience / 2); ; time.Sleep(200 * time.Millisecond) {
		summary, reasons := a.why(address)
		if expected(summary, reasons) || time.Now().After(end) {
			return summary, reasons
		}
	}
}

// press presses a button of the page that was opened last.
func (a *withAddOn) press(label string) {
	a.t.Helper()
	do(a.t, a.last, label, chromedp.Click(fmt.Sprintf(`//button[text()=%q]`, label)))
}

// TestWhyItIsNotThere: each reason is distinguished from the others, with the step that helps; and the step helps.
func TestWhyItIsNotThere(t *testing.T) {
	t.Parallel()
	box, lab := standInWebmail(t)
	a := startAddOn(t, site("crew-webmail", "Crew webmail", lab.URL, "capped-webmail", "above", standIn))
	c := inStandIn(t, box, lab.URL, "")
	tab := a.tab(c)
	bad := func(what, summary, name, step string) {
		t.Helper()
		says, reasons := a.until(lab.URL, func(says string, reasons map[string]string) bool {
			return strings.Contains(says, summary) && (name == "" || strings.HasPrefix(reasons[name], "bad"))
		})
		if !strings.Contains(says, summary) {
			t.Errorf("%s: it says %q", what, says)
		}
		for other, reason := range reasons {
			if isBad := strings.HasPrefix(reason, "bad"); isBad != (other == name) || isBad && !strings.Contains(reason, step) {
				t.Errorf("%s: %s: %s", what, other, reason)
			}
		}
		if _, there := reasons[name]; !there && name != "" {
			t.Errorf("%s: nothing is said of %s: %v", what, name, reasons)
		}
	}
	open := func(query string) {
		t.Helper()
		do(t, tab, query, chromedp.Navigate(lab.URL+"/compose?"+query), chromedp.WaitVisible(`//body[@data-ready]`),
			chromedp.Sleep(300*time.Millisecond))
	}
	open("kind=new")
	bad("without a key", "not in this message", "key", "no key yet")
	a.paste("missivum-add-on-wrong", "Your key has ended")
	a.paste(a.key, "It works: signatures for "+maren)
	c.settled(t, tab, "the key was pasted while the page was open", 1)
	bad("placed", "The signature is in this message", "", "")
	accessible(t, a.last, "why.html")
	accessible(t, a.page("settings.html"), "settings.html")
	accessible(t, a.page("reads.html"), "reads.html")
	a.press("Take it out")
	c.settled(t, tab, "taken out", 0)
	bad("taken out", "not in this message", "message", "You took it out")
	a.press("Put it in")
	c.settled(t, tab, "put in", 1)
	a.press("Switch off for this site")
	c.settled(t, tab, "switched off", 0)
	bad("switched off", "not in this message", "off", "You switched the add-on off")
	a.press("Switch on for this site")
	c.settled(t, tab, "switched on", 1)

	open("kind=reply&from=1")
	a.why(lab.URL)
	do(t, a.last, "dark", chromedp.EmulateViewport(390, 800), chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: "dark"}}})
		return err
	}))
	accessible(t, a.last, "why.html, dark, narrow")
	if wide := evaluate[int](t, a.last, `document.documentElement.scrollWidth`); wide > 390 {
		t.Errorf("the reasons are %d px wide in 390", wide)
	}
	bad("another account", "not in this message", "account", "leaves from harbour.office@brackwater.example")
	open("kind=new&other=1")
	bad("another add-on", "not in this message", "other-add-on", "Switch off the other add-on")
	if n := c.count(t, tab); n != 0 {
		t.Errorf("beside another's: %d signatures", n)
	}
	do(t, tab, "own settings", chromedp.Navigate(lab.URL+"/settings"), chromedp.WaitVisible(`//h1`), chromedp.Evaluate[chromedp.Void](
		`{ document.getElementById('box').innerHTML = '<p>Greetings, Maren</p>'; document.getElementById('new').click()
			document.getElementById('save').click() }`),
		chromedp.WaitVisible(`//span[@id="said" and contains(., "Saved")]`))
	bad("no message", "No message is being written", "", "")
	open("kind=new")
	bad("the site's own", "not in this message", "site-signature", "Delete the signature in the settings")
	open("kind=reply") // for which the site has none
	c.settled(t, tab, "a reply", 1)

	// a field that nobody described
	do(t, tab, "another field", chromedp.Navigate(lab.URL+"/settings"), chromedp.WaitVisible(`//h1`), chromedp.Click(chromedp.CSS("#box")),
		chromedp.KeyEvent("Dear pilot"), chromedp.Sleep(300*time.Millisecond))
	bad("an unknown field", "not in this message", "field", "Record a compose field")

	// the service is away, and comes back with another release
	a.between.setAway(true)
	open("kind=reply")
	c.settled(t, tab, "while the service is away", 1)
	a.why(lab.URL)
	a.press("Ask the service now")
	waitFor(t, a.last, "the service is away", `/Your last good signature/.test(document.body.innerText)`)
	open("kind=reply")
	c.settled(t, tab, "the last good one", 1)
	a.between.setAway(false)
	a.why(lab.URL)
	a.press("Ask the service now")
	waitFor(t, a.last, "the service is back", `!/cannot be reached/.test(document.body.innerText)`)

	// somebody else's page
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, "<h1>Timetable</h1>") // the other end may have gone
	}))
	t.Cleanup(elsewhere.Close)
	do(t, tab, "elsewhere", chromedp.Navigate(elsewhere.URL), chromedp.WaitVisible(`//h1`))
	if says, _ := a.why("nowhere"); !strings.Contains(says, "not one of your organisation's webmails") {
		t.Errorf("elsewhere it says %q", says)
	}

	// the key ends: nothing is placed any more
	var keys []struct{ ID int }
	getJSON(t, a.s.Address+"/api/v1/add-on/keys?search="+maren, &keys)
	asked(t, "DELETE", fmt.Sprintf("%s/api/v1/add-on/keys/%d", a.s.Address, keys[0].ID), "Ines", "", nil)
	a.why(lab.URL)
	a.press("Ask the service now")
	waitFor(t, a.last, "the key has ended", `/Your key has ended/.test(document.body.innerText)`)
	open("kind=reply")
	c.settled(t, tab, "the key has ended", 0)
}

// TestWhatPeopleAndPagesDoToSignatures: what the person does stays, what the page does is put right, and nothing is doubled.
func TestWhatPeopleAndPagesDoToSignatures(t *testing.T) {
	t.Parallel()
	box, lab := standInWebmail(t)
	a := startAddOn(t, site("crew-webmail", "Crew webmail", lab.URL, "capped-webmail", "below", standIn))
	a.paste(a.key, "It works: signatures for "+maren)
	quoted := a.quoted()
	c := inStandIn(t, box, lab.URL, "")
	tab := a.tab(c)
	open := func(query string) {
		t.Helper()
		do(t, tab, query, chromedp.Navigate(lab.URL+"/compose?"+query), chromedp.WaitVisible(`//body[@data-ready]`))
	}
	where := func(expression string) {
		t.Helper()
		if !evaluate[bool](t, tab, "Boolean("+expression+")") {
			t.Errorf("not so: %s\n%s", expression, evaluate[string](t, tab, c.field+`.innerHTML`))
		}
	}
	// below the quotation, where the organisation says so
	open("kind=reply")
	c.settled(t, tab, "below", 1)
	where(`!(document.querySelector('[data-part=quotation]').compareDocumentPosition(
		document.querySelector('[data-placed-signature]')) & Node.DOCUMENT_POSITION_PRECEDING)`)
	where(`!document.querySelector('[data-part=quotation] [data-placed-signature]')`)

	// the page writes the field anew
	open("kind=new&rebuilt=200")
	c.settled(t, tab, "at first", 1)
	waitFor(t, tab, "written anew", `document.querySelector('.field').dataset.rebuilt`)
	c.settled(t, tab, "written anew", 1)

	// the person takes it out by keys: it stays out
	open("kind=new")
	c.settled(t, tab, "placed", 1)
	c.write(t, tab, "Without. ", false)
	do(t, tab, "everything is deleted", chromedp.KeyEvent("a", chromedp.KeyModifiers(control)), chromedp.KeyEvent(kb.Delete),
		chromedp.KeyEvent("Only this."))
	c.settled(t, tab, "taken out by keys", 0)
	c.chooseAccount(t, tab, 1)
	time.Sleep(300 * time.Millisecond)
	c.chooseAccount(t, tab, 0)
	time.Sleep(300 * time.Millisecond)
	where(`document.querySelector('.field').innerText.trim() === 'Only this.'`)
	a.why(lab.URL)
	a.press("Put it in")
	c.settled(t, tab, "put in all the same", 1)

	// the person writes in the signature: it stays as they wrote it, for another account too
	open("kind=new")
	c.settled(t, tab, "placed", 1)
	do(t, tab, "the caret", chromedp.Evaluate[chromedp.Void](`{ const f = document.querySelector('.field'); f.focus()
		const walker = document.createTreeWalker(document.querySelector('[data-placed-signature]'), NodeFilter.SHOW_TEXT)
		let text = walker.nextNode(); while (!/Maren Lind/.test(text.data)) text = walker.nextNode()
		getSelection().setBaseAndExtent(text, text.data.length, text, text.data.length) }`), chromedp.KeyEvent(", on board until Friday"))
	c.chooseAccount(t, tab, 1)
	time.Sleep(300 * time.Millisecond)
	where(`document.querySelector('.field').innerText.includes('on board until Friday')`)
	changed := func(_ string, reasons map[string]string) bool {
		return strings.Contains(reasons["message"], "You changed the signature")
	}
	if says, reasons := a.until(lab.URL, changed); !changed(says, reasons) {
		t.Errorf("changed: %v", reasons)
	}

	// the caret stays where it was
	open("kind=new&late=0")
	c.settled(t, tab, "placed", 1)
	c.write(t, tab, "Before ", false)
	c.chooseAccount(t, tab, 1)
	c.settled(t, tab, "taken out", 0)
	c.chooseAccount(t, tab, 0)
	c.settled(t, tab, "put back", 1)
	do(t, tab, "on with it", chromedp.Evaluate[chromedp.Void](`document.querySelector('.field').focus()`), chromedp.KeyEvent("and after"))
	where(`document.querySelector('.field').firstElementChild.innerText.replace(/\u00a0/g, ' ') === 'Before and after'`)

	// two messages on one page, each with its own
	open("kind=reply&panes=2")
	waitFor(t, tab, "two messages", `document.querySelectorAll('.field').length === 2`)
	c.settled(t, tab, "the first message", 1)
	where(`[...document.querySelectorAll('.field')].every(f => f.querySelectorAll('[data-placed-signature]').length === 1)`)

	// plain text, above the quotation where there is one
	open("kind=reply&form=plain")
	waitFor(t, tab, "plain text", `/^-- \n/m.test(document.querySelector('textarea').value)`)
	where(`document.querySelector('textarea').value.split('Maren Lind').length === 2`)
	do(t, tab, "another account", chromedp.Evaluate[chromedp.Void](`{ const s = document.querySelector('select[name=from]')
		s.selectedIndex = 1
		s.dispatchEvent(new Event('change', { bubbles: true })) }`))
	waitFor(t, tab, "taken out of plain text", `!document.querySelector('textarea').value.includes('Maren Lind')`)
	where(`document.querySelector('textarea').value ===
		'\n\nOn Mon, 23 Nov 2026 at 09:12, Tom Pilot <pilot@harbour.example> wrote:\n> Which berth is it, and who meets the pilot?\n'`)

	// from formatted to plain text: not twice
	open("kind=new")
	c.settled(t, tab, "formatted", 1)
	do(t, tab, "plain text", chromedp.Click(chromedp.CSS("button[name=plain]")), chromedp.WaitVisible(`//textarea`),
		chromedp.Sleep(400*time.Millisecond))
	where(`document.querySelector('textarea').value.split('Head of Timetables').length === 2`)

	// a signature that the box holds already, put there by the page of one's own signature, is left alone
	do(t, tab, "the same in the settings", chromedp.Navigate(lab.URL+"/settings"), chromedp.WaitVisible(`//h1`),
		chromedp.Evaluate[chromedp.Void](
			fmt.Sprintf(`{ document.getElementById('box').innerHTML = %q; document.getElementById('new').click()
			document.getElementById('save').click() }`,
				a.signatures["new"])), chromedp.WaitVisible(`//span[@id="said" and contains(., "Saved")]`))
	open("kind=new")
	time.Sleep(400 * time.Millisecond)
	where(`document.querySelector('.field').innerText.split('Head of Timetables').length === 2`)
	there := func(says string, _ map[string]string) bool {
		return strings.Contains(says, "stands in this message already")
	}
	if says, reasons := a.until(lab.URL, there); !there(says, reasons) {
		t.Errorf("the same in the settings: it says %q", says)
	}

	// a reply to a message that quotes one's own signature of before, as it was placed then
	c = inStandIn(t, box, lab.URL, quoted)
	c.open(tab, "reply")
	c.settled(t, tab, "quoting one's own", 1)
	where(`document.querySelector('blockquote [data-placed-signature]')`)

	// another release, while a draft with the one of before is open in another window
	c = inStandIn(t, box, lab.URL, "")
	do(t, tab, "no signature in the settings", chromedp.Navigate(lab.URL+"/settings"), chromedp.WaitVisible(`//h1`),
		chromedp.Evaluate[chromedp.Void](
			`{ document.getElementById('box').innerHTML = ''; document.getElementById('save').click() }`),
		chromedp.WaitVisible(`//span[@id="said" and contains(., "Saved")]`))
	c.open(tab, "new")
	c.settled(t, tab, "of the first release", 1)
	c.keep(tab)
	var harbour struct {
		Source string
		Number int
	}
	getJSON(t, a.s.Address+"/api/v1/templates/harbour", &harbour)
	draft, err := json.Marshal(map[string]any{"base": harbour.Number, "note": "another line",
		"source": strings.ReplaceAll(harbour.Source, "the harbour company", "ferries since 1871")})
	if err != nil {
		t.Fatal(err)
	}
	asked(t, "PUT", a.s.Address+"/api/v1/templates/harbour", "Maren", string(draft), nil)
	release(t, a.s, "Spring")
	a.why(lab.URL)
	a.press("Ask the service now")
	c.open(tab, "draft")
	c.settled(t, tab, "a draft of before", 1)
	waitFor(t, tab, "brought up to date", `document.querySelector('.field').innerText.includes('ferries since 1871')`)
	where(`!document.querySelector('.field').innerText.includes('the harbour company')`)
}

// TestTheAddOnSendsNothingElse: all that it asks for is recorded, while messages are written, and held against the page that says what
// it reads and sends.
func TestTheAddOnSendsNothingElse(t *testing.T) {
	t.Parallel()
	box := webmail.New(maren)
	var foreign recorder // what the browser asks the webmail for
	lab := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		foreign.mu.Lock()
		foreign.seen = append(foreign.seen, seen{r.Method, r.URL.Path, r.Header.Get("Origin"), "", r.Header.Clone()})
		foreign.mu.Unlock()
		box.ServeHTTP(w, r)
	}))
	t.Cleanup(lab.Close)
	a := startAddOn(t, site("crew-webmail", "Crew webmail", lab.URL, "capped-webmail", "above", standIn))
	a.paste(a.key, "It works: signatures for "+maren)
	quoted := a.quoted()
	c := inStandIn(t, box, lab.URL, quoted)
	tab := a.tab(c)
	for i, manner := range manners {
		a.compose(tab, c, manner, i, quoted)
	}
	for _, query := range []string{"kind=new&other=1", "kind=reply&from=1", "kind=new&form=plain"} {
		do(t, tab, query, chromedp.Navigate(lab.URL+"/compose?"+query), chromedp.WaitVisible(`//body[@data-ready]`),
			chromedp.Sleep(300*time.Millisecond))
	}
	waitReports := func() (reports []addon.Report) {
		for _, s := range a.between.all() {
			if s.path == "/api/v1/add-on/state" {
				var state addon.State
				if err := json.Unmarshal([]byte(s.body), &state); err != nil {
					t.Fatalf("%s: %v", s.body, err)
				}
				reports = append(reports, state.Reports...)
			}
		}
		return reports
	}
	for until := time.Now().Add(patience); len(waitReports()) < 3 && time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
	}
	said := map[string]bool{}
	for _, r := range waitReports() {
		said[string(r.Outcome)] = true
	}
	if !said["placed"] || !said["other-add-on"] {
		t.Errorf("it said %v", said)
	}
	pageTab := a.page("reads.html")
	text := evaluate[string](t, pageTab, `document.body.innerText`)
	for _, o := range addon.Outcomes {
		if !strings.Contains(text, string(o)) {
			t.Errorf("the page does not say %s", o)
		}
	}
	for _, must := range []string{lab.URL + "/*", "once a day for each site", "which release"} {
		if !strings.Contains(text, must) {
			t.Errorf("the page does not say %q:\n%s", must, text)
		}
	}
	nothingElse := func(body string) bool { // the members that are said to be sent, and no others
		var state addon.State
		decoder := json.NewDecoder(strings.NewReader(body))
		decoder.DisallowUnknownFields()
		return decoder.Decode(&state) == nil && len(body) < 1_000
	}
	for _, s := range a.between.all() {
		own := s.headers.Get("Authorization") == "Bearer "+a.key
		switch {
		case s.method == "GET" && s.path == "/api/v1/add-on/current" && s.body == "" && own:
		case s.method == "POST" && s.path == "/api/v1/add-on/state" && own && nothingElse(s.body):
		default:
			t.Errorf("%s %s %s", s.method, s.path, s.body)
		}
		if s.headers.Get("Cookie") != "" || s.headers.Get("Referer") != "" {
			t.Errorf("%s carries %v", s.path, s.headers)
		}
	}
	for _, s := range foreign.all() {
		if strings.HasPrefix(s.origin, "chrome-extension:") || s.headers.Get("Authorization") != "" {
			t.Errorf("the add-on asks the webmail: %s %s", s.method, s.path)
		}
	}
	// a page cannot reach what the add-on keeps
	if got := evaluate[string](t, tab, `typeof chrome === 'undefined' || !chrome.storage ? 'nothing' : 'storage'`); got != "nothing" {
		t.Errorf("the page reaches %s", got)
	}
}

// at presses the middle of what an expression gives, in the page or in a frame of it.
func at(t *testing.T, tab context.Context, element string) {
	t.Helper()
	xy := evaluate[[]float64](t, tab, `(e => { let r = e.getBoundingClientRect(),
		x = r.left + Math.min(r.width / 2, 60), y = r.top + Math.min(r.height / 2, 12)
		for (let w = e.ownerDocument.defaultView; w !== top; w = w.parent) {
			const f = w.frameElement.getBoundingClientRect(); x += f.left; y += f.top }
		return [x, y] })(`+element+`)`)
	do(t, tab, "pressing on "+element, chromedp.MouseClickXY(xy[0], xy[1]))
}

// record shows the compose field to the recorder, and gives what it wrote.
func (a *withAddOn) record(tab context.Context, address string, elements ...string) (compose string) {
	a.t.Helper()
	a.why(address)
	a.press("Record a compose field")
	host := `[...document.documentElement.children].find(e => e.shadowRoot)`
	waitFor(a.t, tab, "the recorder", host)
	time.Sleep(900 * time.Millisecond) // until it listens in frames, which it looks for every half second
	for i, e := range append(elements, "Skip") {
		says := evaluate[string](a.t, tab, host+`.shadowRoot.querySelector('p').textContent`)
		if e == "Skip" {
			e = host + `.shadowRoot.querySelector('button')`
		}
		at(a.t, tab, e)
		waitFor(a.t, tab, fmt.Sprintf("step %d", i+2), fmt.Sprintf(`%s.shadowRoot.querySelector('p').textContent !== %q`, host, says))
	}
	return evaluate[string](a.t, tab, host+`.shadowRoot.querySelector('textarea').value`)
}

// TestTheRecorder: somebody presses on the field, the account and the quotation; what was recorded is tried at once, and holds for other
// messages.
func TestTheRecorder(t *testing.T) {
	t.Parallel()
	box, lab := standInWebmail(t)
	w := realWebmail(t)
	here := func(one, other string) []string {
		return []string{site("crew-webmail", "Crew webmail", lab.URL, "capped-webmail", "above", one),
			site("webmail", "Webmail", w.Address, "washing-webmail", "above", other)}
	}
	a := startAddOn(t, here("", "")...)
	a.paste(a.key, "It works: signatures for "+maren)
	quoted := a.quoted()
	if err := deliver(w, quoted); err != nil {
		t.Fatal(err)
	}
	if err := w.SignIn(a.browser); err != nil {
		t.Fatal(err)
	}
	var recorded []string
	for _, one := range []struct {
		c        *composing
		elements []string
	}{
		{inStandIn(t, box, lab.URL, quoted), []string{`document.querySelector('.field')`, `document.querySelector('select[name=from]')`,
			`document.querySelector('[data-part=quotation]')`}},
		{inReal(t, w), []string{`document.querySelector('#composebody_ifr').contentDocument.body`, `document.querySelector('#_from')`,
			`document.querySelector('#composebody_ifr').contentDocument.querySelector('#reply-intro')`}},
	} {
		tab := a.tab(one.c)
		one.c.open(tab, "reply")
		one.c.settled(t, tab, "before it is recorded", 0)
		here := evaluate[string](t, tab, `location.href`)
		described := func(_ string, reasons map[string]string) bool {
			return strings.Contains(reasons["field"], "Nobody has described")
		}
		if says, reasons := a.until(here, described); !described(says, reasons) {
			t.Errorf("%s: %s %v", one.c.name, says, reasons)
		}
		compose := a.record(tab, here, one.elements...)
		t.Logf("%s: %s", one.c.name, compose)
		one.c.settled(t, tab, "tried at once", 1)
		recorded = append(recorded, compose)
	}
	a.settings(here(recorded[0], recorded[1])...)
	a.why(lab.URL)
	a.press("Ask the service now")
	for _, c := range []*composing{inStandIn(t, box, lab.URL, quoted), inReal(t, w)} {
		tab := a.tab(c)
		for _, kind := range []string{"new", "reply", "forward"} {
			c.open(tab, kind)
			c.settled(t, tab, c.name+" "+kind, 1)
		}
	}
}

// TestMessagesOfTheAddOnAreRight: what was sent is read back, is what the person should have, and the proof has arrived.
func TestMessagesOfTheAddOnAreRight(t *testing.T) {
	t.Parallel()
	box, lab := standInWebmail(t)
	w := realWebmail(t)
	a := startAddOn(t, site("crew-webmail", "Crew webmail", lab.URL, "capped-webmail", "above", standIn),
		site("webmail", "Webmail", w.Address, "washing-webmail", "above", realOne))
	// the person finds the add-on and the key on the page of their own signature
	page := a.tab(inStandIn(t, box, lab.URL, ""))
	link := linkFor(t, a.s, maren)
	openPage(t, page, link, "capped signature box")
	do(t, page, "the add-on", chromedp.Click(`//*[@id="add-on"]`), chromedp.Click(`//button[text()="Make a key"]`),
		chromedp.WaitVisible(`//button[text()="Copy the key"]`))
	key := evaluate[string](t, page, `document.querySelector('[data-key]').dataset.key`)
	a.paste(key, "It works: signatures for "+maren)
	a.quoted()
	if err := w.SignIn(a.browser); err != nil {
		t.Fatal(err)
	}
	for i, c := range []*composing{inStandIn(t, box, lab.URL, ""), inReal(t, w)} {
		client := []string{"capped-webmail", "washing-webmail"}[i]
		tab := a.tab(c)
		c.open(tab, "new")
		c.settled(t, tab, c.name, 1)
		c.write(t, tab, "The pilot comes at four.", false)
		subject := "Right in " + c.name
		c.send(tab, subject)
		a.judge(subject, a.sent(c, subject), "new", "", "The pilot comes at four.")
		var m struct {
			Rows []struct {
				Cells []struct{ Client, Way, Standing string }
			}
		}
		for until := time.Now().Add(patience); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
			if getJSON(t, a.s.Address+"/api/v1/desks?search=maren.lind&client="+client, &m); len(m.Rows) == 1 {
				break
			}
		}
		if len(m.Rows) != 1 || !slices.ContainsFunc(m.Rows[0].Cells, func(cell struct{ Client, Way, Standing string }) bool {
			return cell.Client == client && cell.Way == "add-on" && cell.Standing == "current"
		}) {
			t.Errorf("%s: the proof is %+v", client, m.Rows)
		}
		raw := c.raw(subject)
		do(t, page, "back", chromedp.Navigate("about:blank"), chromedp.Navigate(link), chromedp.WaitVisible(`//h1[contains(., "Hello")]`))
		if client == "washing-webmail" {
			do(t, page, "another program", chromedp.Click(`//button[text()="Choose another"]`),
				chromedp.Click(`//li//button[contains(., "Open-source webmail")]`), chromedp.WaitVisible(`//iframe`))
		}
		checkMine(t, page, raw, "Right")
	}
}

// TestTheAddOnByPolicy: the key comes by the policy of the machine, and nobody has to paste anything.
func TestTheAddOnByPolicy(t *testing.T) {
	t.Parallel()
	const policies = "/etc/chromium/policies/managed"
	if err := os.MkdirAll(policies, 0o755); err != nil {
		t.Skipf("policies are written by root alone: %v", err)
	}
	box, lab := standInWebmail(t)
	// the policy is there before the browser starts; it speaks of this add-on alone, whose id is that of its service's key
	var file string
	a := startAddOnWith(t, func(a *withAddOn) {
		answer, err := http.Get(a.s.Address + "/api/v1/add-on/policy?engine=chromium&key=" + a.key)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		policy, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		file = filepath.Join(policies, "missivum-test-"+a.id+".json")
		t.Cleanup(func() { os.Remove(file) }) // it may not have been written
		if err := os.WriteFile(file, policy, 0o644); err != nil {
			t.Skipf("policies are written by root alone: %v", err)
		}
	}, site("crew-webmail", "Crew webmail", lab.URL, "capped-webmail", "above", standIn))
	c := inStandIn(t, box, lab.URL, "")
	tab := a.tab(c)
	c.open(tab, "new")
	c.settled(t, tab, "by policy", 1)
	settings := a.page("settings.html")
	waitFor(t, settings, "nothing to do", `/Your organisation set the key/.test(document.body.innerText) && !document.querySelector('#key')`)
}
