package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/mail"
	"net/smtp"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"golang.org/x/net/html"

	"missivum/core/addon"
	"missivum/core/message"
	"missivum/e2e/rig"
	"missivum/lab/webmail"
)

// standIn describes the compose field of lab/webmail.
const standIn = `{"pane":"section[data-pane]","field":"div[data-part=body]","account":"select[name=from]","quotation":"[data-part=quotation]",
	"signature":"[data-part=signature]","draft":"[data-draft]"},
	{"pane":"section[data-pane]","field":"textarea[data-part=body]","account":"select[name=from]","draft":"[data-draft]"}`

// realOne describes that of the webmail that Debian packages: its editor in a frame, and its plain text.
const realOne = `{"frame":"#composebody_ifr","field":"body.mce-content-body[contenteditable=true]","account":"#_from",
	"quotation":"#reply-intro","signature":"#_rc_sig","draft":"input[name=_draft_saveid][value]:not([value=''])"},
	{"when":"input[name=_is_html][value='0']","field":"textarea#composebody","account":"#_from","draft":"input[name=_draft_saveid][value]:not([value=''])"}`

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

	signatures map[string]string // markup by situation
	times      []float64         // ms from when the field appeared to when the signature stood in it
}

// site is how the settings name a webmail.
func site(id, title, address, client, place, compose string) string {
	return fmt.Sprintf(`{"id":%q,"title":%q,"matches":["%s/*"],"client":%q,"place":%q,"compose":[%s]}`, id, title, address, client, place, compose)
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

// composing is how messages are written in a webmail: expressions and presses that its pages need.
type composing struct {
	name    string
	open    func(tab context.Context, kind string) // begins a message of a kind
	field   string                                 // JavaScript: the field that is written in
	focus   string                                 // JavaScript: the field gets the keys
	account string                                 // selector of the choice of the account
	keep    func(tab context.Context)              // saves the draft
	send    func(tab context.Context, subject string)
	subject string // selector
	sent    func(subject string) string
	times   string // selector of the field, for the time to place
}

// clock notes when the field appears and when the signature is in it.
const clock = `if (window === top) (() => {
	const check = () => {
		const inner = document.querySelector('#composebody_ifr')?.contentDocument
		for (const doc of [document, inner]) {
			if (doc && !window.fieldAt && doc.querySelector(FIELD)) window.fieldAt = performance.now()
			if (doc && !window.placedAt && doc.querySelector('[data-placed-signature]')) window.placedAt = performance.now()
		}
	}
	new MutationObserver(check).observe(document, { childList: true, subtree: true })
	setInterval(check, 2)
})()`

// count counts the signatures in the field, outside what is quoted.
func (c *composing) count(t *testing.T, tab context.Context) int {
	t.Helper()
	return evaluate[int](t, tab, `[...`+c.field+`.querySelectorAll('[data-placed-signature]')].filter(e => !e.closest('blockquote')).length`)
}

// settled waits until so many signatures are in the field, and stay so for a moment.
func (c *composing) settled(t *testing.T, tab context.Context, what string, want int) {
	t.Helper()
	for until := time.Now().Add(20 * time.Second); c.count(t, tab) != want; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("%s: %d signatures, want %d\n%s", what, c.count(t, tab), want, evaluate[string](t, tab, c.field+`.innerHTML`))
		}
	}
	time.Sleep(150 * time.Millisecond)
	if n := c.count(t, tab); n != want {
		t.Fatalf("%s: %d signatures after a moment, want %d", what, n, want)
	}
}

// write types a text at the beginning of the field, or into what is quoted.
func (c *composing) write(t *testing.T, tab context.Context, text string, inline bool) {
	t.Helper()
	at := `const first = field.firstElementChild; range.setStart(first, 0)`
	if inline {
		at = `const p = [...field.querySelectorAll('blockquote p, blockquote div')].find(e => /Which berth/.test(e.textContent) && !e.querySelector('p'));
			range.selectNodeContents(p); range.collapse(false)`
	}
	do(t, tab, "the caret", chromedp.Evaluate[chromedp.Void](`{ const field = `+c.field+`; `+c.focus+`;
		const range = field.ownerDocument.createRange(); `+at+`; range.collapse(true)
		const s = field.ownerDocument.getSelection(); s.removeAllRanges(); s.addRange(range) }`), chromedp.KeyEvent(text))
}

// chooseAccount chooses the sender, as a person does by keys.
func (c *composing) chooseAccount(t *testing.T, tab context.Context, index int) {
	t.Helper()
	do(t, tab, "the account", chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`{ const s = document.querySelector(%q); s.selectedIndex = %d;
		s.dispatchEvent(new Event('change', { bubbles: true })) }`, c.account, index)))
}

// bare is a text without white space.
func bare(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) || r == '\u00a0' || r == '\u200b' || r == '\ufeff' {
			return -1
		}
		return r
	}, text)
}

// textOfMarkup is the text of markup, without white space.
func textOfMarkup(t *testing.T, markup string) string {
	t.Helper()
	doc, err := html.Parse(strings.NewReader(markup))
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	for n := range doc.Descendants() {
		if n.Type == html.TextNode && n.Parent.Data != "style" && n.Parent.Data != "title" {
			b.WriteString(n.Data)
		}
	}
	return bare(b.String())
}

// asked1 is the message that is answered: it quotes an earlier one with Maren's own signature, as the add-on placed it then.
func (a *withAddOn) quoted() string {
	a.t.Helper()
	var current addon.Answer
	request, err := http.NewRequest("GET", a.s.Address+"/api/v1/add-on/current", nil)
	if err != nil {
		a.t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+a.key)
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		a.t.Fatal(err)
	}
	defer answer.Body.Close()
	if err := json.NewDecoder(answer.Body).Decode(&current); err != nil || len(current.Signatures) < 2 {
		a.t.Fatalf("the answer: %v %+v", err, current)
	}
	a.signatures = map[string]string{}
	for _, s := range current.Signatures {
		a.signatures[s.Situation] = s.HTML
	}
	return `<p>Which berth is it, and who meets the pilot?</p><p>-- <br>Tom Pilot, Harbour pilots</p><div>On Sun Maren wrote:</div>` +
		`<blockquote><div>The pilot comes at four.</div><div data-placed-signature="new 1x">` + a.signatures["new"] + `</div></blockquote>`
}

// judge reads a sent message: the signature once and above what is quoted, the person's text once, what is quoted as it was.
func (a *withAddOn) judge(what, sent, situation, quoted string, typed ...string) (faults int) {
	a.t.Helper()
	wrong := func(says string) {
		faults++
		a.t.Errorf("%s: %s\n%.6000s", what, says, sent)
	}
	body := textOfMarkup(a.t, sent)
	for _, text := range typed {
		if strings.Count(body, bare(text)) != 1 {
			wrong(fmt.Sprintf("%q is there %d times", text, strings.Count(body, bare(text))))
		}
		body = strings.ReplaceAll(body, bare(text), "")
	}
	before := textOfMarkup(a.t, quoted)
	if quoted != "" {
		if strings.Count(body, before) != 1 {
			wrong("what is quoted is not as it was")
		}
	}
	own, _, _ := strings.Cut(body, before+"\x00")
	if quoted != "" {
		own, _, _ = strings.Cut(body, before)
		if rest := strings.TrimPrefix(body[min(len(own)+len(before), len(body)):], ""); rest != "" && strings.Contains(rest, "Maren") {
			wrong("something stands below what is quoted: " + rest)
		}
	}
	if n := strings.Count(own, textOfMarkup(a.t, a.signatures[situation])); n != 1 {
		wrong(fmt.Sprintf("the signature for %s is there %d times", situation, n))
	}
	return faults
}

// compose writes one message in one of the manners, and judges what was sent.
func (a *withAddOn) compose(tab context.Context, c *composing, manner string, number int, quoted string) {
	t := a.t
	subject := fmt.Sprintf("%s %s %d", c.name, manner, number)
	kind, situation := manner, "reply"
	switch manner {
	case "draft", "draft kept open", "account":
		kind = "new"
	case "account in a reply", "inline":
		kind = "reply"
	}
	if kind == "new" {
		situation, quoted = "new", ""
	}
	c.open(tab, kind)
	c.settled(t, tab, subject, 1)
	text := fmt.Sprintf("Berth %d at noon, %s.", number, strings.ReplaceAll(manner, " ", "-"))
	c.write(t, tab, text, manner == "inline")
	typed := []string{text}
	switch manner {
	case "account", "account in a reply":
		c.chooseAccount(t, tab, 1)
		c.settled(t, tab, subject+", another account", 0)
		c.write(t, tab, "From the office: ", false)
		typed[0] = "From the office: " + text
		c.chooseAccount(t, tab, 0)
		c.settled(t, tab, subject+", the own account again", 1)
	case "draft":
		c.keep(tab)
		c.open(tab, "draft")
		c.settled(t, tab, subject+", opened again", 1)
		more := fmt.Sprintf("And once more %d. ", number)
		c.write(t, tab, more, false)
		typed[0] = more + text
	case "draft kept open":
		c.keep(tab)
		c.settled(t, tab, subject+", saved", 1)
	}
	c.send(tab, subject)
	a.judge(subject, c.sent(subject), situation, quoted, typed...)
	if at := evaluate[float64](t, tab, `(window.placedAt ?? 0) - (window.fieldAt ?? 0)`); manner != "draft" {
		a.times = append(a.times, at)
	}
}

// manners are those of which the compositions are made.
var manners = []string{"new", "reply", "forward", "inline", "draft", "draft kept open", "account", "account in a reply"}

// compositions writes so many messages, every tenth in two windows at once, and says how long it took to place.
func (a *withAddOn) compositions(c *composing, many int, quoted string) {
	a.t.Helper()
	first, second := a.tab(c), a.tab(c)
	for i := range many {
		if i%10 == 9 { // in two windows at once
			c.open(first, "new")
			c.open(second, "reply")
			c.settled(a.t, first, "the first window", 1)
			c.settled(a.t, second, "the second window", 1)
			c.write(a.t, first, "In the first window.", false)
			c.write(a.t, second, "In the second one.", false)
			c.settled(a.t, first, "the first window, written", 1)
			one, two := fmt.Sprintf("%s first %d", c.name, i), fmt.Sprintf("%s second %d", c.name, i)
			c.send(second, two)
			c.send(first, one)
			a.judge(one, c.sent(one), "new", "", "In the first window.")
			a.judge(two, c.sent(two), "reply", quoted, "In the second one.")
			continue
		}
		a.compose(first, c, manners[(i-i/10)%len(manners)], i, quoted)
		if a.t.Failed() {
			return
		}
	}
	slices.Sort(a.times)
	a.t.Logf("%s: %d compositions; placed after %.1f ms (median), %.1f ms at most of 95 %%, %.1f ms at most", c.name, many,
		a.times[len(a.times)/2], a.times[len(a.times)*95/100], a.times[len(a.times)-1])
	if slow := a.times[len(a.times)/2]; slow > 50 {
		a.t.Errorf("half of the signatures were placed later than %.1f ms after the field appeared", slow)
	}
	a.times = nil
}

// tab opens a tab with a clock.
func (a *withAddOn) tab(c *composing) context.Context {
	a.t.Helper()
	tab, stop := chromedp.NewContext(a.browser)
	a.t.Cleanup(stop)
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800), chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{
			Source: strings.ReplaceAll(clock, "FIELD", fmt.Sprintf("%q", c.times))})
		return err
	})); err != nil {
		a.t.Fatal(err)
	}
	return tab
}

// inStandIn writes messages in lab/webmail.
func inStandIn(t *testing.T, box *webmail.Webmail, address, quoted string) *composing {
	at := `document.querySelector('.field')`
	c := &composing{name: "stand-in", field: at, focus: "field.focus()", account: "select[name=from]", subject: "input[name=subject]",
		times: ".field"}
	c.open = func(tab context.Context, kind string) {
		query := url.Values{"kind": {kind}, "quoted": {quoted}, "late": {"30"}}
		do(t, tab, kind, chromedp.Navigate(address+"/compose?"+query.Encode()), chromedp.WaitVisible(`//body[@data-ready]`))
	}
	press := func(tab context.Context, name, says string) {
		do(t, tab, name, chromedp.Click(chromedp.CSS("button[name="+name+"]")),
			chromedp.WaitVisible(fmt.Sprintf(`//span[@role="status" and contains(., %q)]`, says)))
	}
	c.keep = func(tab context.Context) { press(tab, "keep", "Saved") }
	c.send = func(tab context.Context, subject string) {
		do(t, tab, "the subject", chromedp.SetValue(chromedp.CSS(c.subject), subject))
		press(tab, "send", "Sent")
	}
	c.sent = func(subject string) string {
		for _, raw := range box.Sent() {
			if m, body := readMail(t, raw); m.Get("Subject") == subject {
				return body
			}
		}
		t.Fatalf("%s was not sent", subject)
		return ""
	}
	return c
}

// readMail reads a message, and gives its head and its markup.
func readMail(t *testing.T, raw []byte) (head mail.Header, body string) {
	t.Helper()
	m := message.Read(bytes.Clone(raw))
	part := m.Bodies().HTML
	if part == nil {
		t.Fatalf("a message without markup: %.3000s", raw)
	}
	content, err := m.Content(part)
	if err != nil {
		t.Fatal(err)
	}
	parsed, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	return parsed.Header, content.Text
}

// TestCompositionsInTheStandIn: never doubled, never in the quotation, never a word lost.
func TestCompositionsInTheStandIn(t *testing.T) {
	t.Parallel()
	box := webmail.New(maren)
	lab := httptest.NewServer(box)
	t.Cleanup(lab.Close)
	a := startAddOn(t, site("crew-webmail", "Crew webmail", lab.URL, "capped-webmail", "above", standIn))
	a.paste(a.key, "It works: signatures for "+maren)
	quoted := a.quoted()
	a.compositions(inStandIn(t, box, lab.URL, quoted), rig.Soak(30, 250), quoted)
}

// inReal writes messages in the webmail that Debian packages.
func inReal(t *testing.T, w *rig.Webmail) *composing {
	c := &composing{name: "webmail", field: `document.querySelector('#composebody_ifr').contentDocument.body`,
		focus:   "document.querySelector('#composebody_ifr').contentWindow.focus(); field.focus()",
		account: "#_from", subject: "#compose-subject", times: "body.mce-content-body[contenteditable=true]"}
	ready := chromedp.WaitVisible(chromedp.CSS(".tox-edit-area iframe"))
	draft := "" // number of the one that was saved last
	c.open = func(tab context.Context, kind string) {
		query := map[string]string{"new": "_to=" + rig.WebmailUser, "reply": "_mbox=INBOX&_reply_uid=1", "forward": "_mbox=INBOX&_forward_uid=1",
			"draft": ""}[kind]
		if kind == "draft" {
			query = "_mbox=Drafts&_draft_uid=" + draft
		}
		do(t, tab, kind, w.Open("_task=mail&_action=compose&"+query), ready)
		waitFor(t, tab, "the editor", `document.querySelector('#composebody_ifr')?.contentDocument?.body?.isContentEditable`)
	}
	c.keep = func(tab context.Context) {
		do(t, tab, "saving the draft", chromedp.Evaluate[chromedp.Void](`void rcmail.command('savedraft')`))
		waitFor(t, tab, "it is saved", `document.querySelector('input[name=_draft_saveid]').value !== ''`)
		draft = evaluate[string](t, tab, `document.querySelector('input[name=_draft_saveid]').value`)
	}
	c.send = func(tab context.Context, subject string) {
		do(t, tab, "sending", chromedp.SetValue(chromedp.CSS(c.subject), subject),
			chromedp.Evaluate[chromedp.Void](`{ document.querySelector('#_to').value = '`+rig.WebmailUser+`' }`),
			chromedp.Click(chromedp.CSS("#compose-content .formbuttons .send")), chromedp.WaitNotPresent(chromedp.CSS("#compose-content")))
	}
	c.sent = func(subject string) string {
		for until := time.Now().Add(patience); time.Now().Before(until); time.Sleep(200 * time.Millisecond) {
			list, err := w.Server.Mailbox(rig.WebmailUser, "MIME-Version")
			if err != nil {
				t.Fatal(err)
			}
			for _, raw := range list {
				if bytes.Contains(raw, []byte("Subject: "+subject+"\r\n")) {
					_, body := readMail(t, raw)
					return body
				}
			}
		}
		t.Fatalf("%s did not arrive", subject)
		return ""
	}
	return c
}

// TestCompositionsInTheRealWebmail: the same in the webmail that Debian packages, through Postfix and Dovecot.
func TestCompositionsInTheRealWebmail(t *testing.T) {
	t.Parallel()
	w, err := rig.StartWebmail()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := w.Close(); err != nil {
			t.Error(err)
		}
	})
	a := startAddOn(t, site("webmail", "Webmail", w.Address, "washing-webmail", "above", realOne))
	a.paste(a.key, "It works: signatures for "+maren)
	quoted := a.quoted()
	if err := deliver(w, quoted); err != nil {
		t.Fatal(err)
	}
	if err := w.SignIn(a.browser); err != nil {
		t.Fatal(err)
	}
	if err := w.AddIdentity(a.browser, "Harbour office", "harbour.office@brackwater.example"); err != nil {
		t.Fatal(err)
	}
	a.compositions(inReal(t, w), rig.Soak(20, 250), quoted)
}

// deliver sends the message that is answered.
func deliver(w *rig.Webmail, markup string) error {
	text := "From: Tom Pilot <pilot@harbour.example>\r\nTo: " + rig.WebmailUser + "\r\nSubject: Berth\r\nMIME-Version: 1.0\r\n" +
		"Content-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
		base64.StdEncoding.EncodeToString([]byte(markup)) + "\r\n"
	return smtp.SendMail(w.Server.Address(rig.Plain), nil, "pilot@harbour.example", []string{rig.WebmailUser}, []byte(text))
}
