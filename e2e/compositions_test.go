package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/smtp"
	"net/url"
	"slices"
	"strings"
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

// composing is how messages are written in a webmail: expressions and presses that its pages need.
type composing struct {
	name    string
	open    func(tab context.Context, kind string) // begins a message of a kind
	field   string                                 // JavaScript: the field that is written in
	focus   string                                 // JavaScript: the field gets the keys
	account string                                 // selector of the choice of the account
	keep    func(tab context.Context)              // saves the draft
	send    func(tab context.Context, subject string)
	subject string                      // selector
	raw     func(subject string) []byte // the message that was sent
	times   string                      // selector of the field, for the time to place
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
		at = `const p = [...field.querySelectorAll('blockquote p, blockquote div')]
				.find(e => /Which berth/.test(e.textContent) && !e.querySelector('p'));
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

// quoted is the message that is answered: it quotes an earlier one with Maren's own signature, as the add-on placed it then.
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
func (a *withAddOn) judge(what, sent, situation, quoted string, typed ...string) {
	a.t.Helper()
	wrong := func(says string) { a.t.Errorf("%s: %s\n%.6000s", what, says, sent) }
	body := textOfMarkup(a.t, sent)
	for _, text := range typed {
		if n := strings.Count(body, bare(text)); n != 1 {
			wrong(fmt.Sprintf("%q is there %d times", text, n))
		}
		body = strings.ReplaceAll(body, bare(text), "")
	}
	own, below := body, ""
	if quoted != "" {
		before := textOfMarkup(a.t, quoted)
		if strings.Count(body, before) != 1 {
			wrong("what is quoted is not as it was")
		}
		own, below, _ = strings.Cut(body, before)
	}
	if n := strings.Count(own, textOfMarkup(a.t, a.signatures[situation])); n != 1 {
		wrong(fmt.Sprintf("the signature for %s is there %d times", situation, n))
	}
	if strings.Contains(below, "Maren") {
		wrong("below what is quoted stands " + below)
	}
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
		c.chooseAccount(t, tab, 1)
		c.settled(t, tab, subject+", saved, another account", 0)
		c.chooseAccount(t, tab, 0)
		c.settled(t, tab, subject+", saved, the own account again", 1)
	}
	c.send(tab, subject)
	a.judge(subject, a.sent(c, subject), situation, quoted, typed...)
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
			a.judge(one, a.sent(c, one), "new", "", "In the first window.")
			a.judge(two, a.sent(c, two), "reply", quoted, "In the second one.")
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
	c.raw = func(subject string) []byte {
		for _, raw := range box.Sent() {
			if bytes.Contains(raw, []byte("Subject: "+subject+"\r\n")) {
				return raw
			}
		}
		t.Fatalf("%s was not sent", subject)
		return nil
	}
	return c
}

// sent gives the markup of a message that was sent.
func (a *withAddOn) sent(c *composing, subject string) string {
	a.t.Helper()
	raw := c.raw(subject)
	m := message.Read(bytes.Clone(raw))
	part := m.Bodies().HTML
	if part == nil {
		a.t.Fatalf("a message without markup: %.3000s", raw)
	}
	content, err := m.Content(part)
	if err != nil {
		a.t.Fatal(err)
	}
	return content.Text
}

// TestCompositionsInTheStandIn: never doubled, never in the quotation, never a word lost.
func TestCompositionsInTheStandIn(t *testing.T) {
	t.Parallel()
	box, lab := standInWebmail(t)
	a := startAddOn(t, site("crew-webmail", "Crew webmail", lab.URL, "capped-webmail", "above", standIn))
	a.paste(a.key, "It works: signatures for "+maren)
	quoted := a.quoted()
	a.compositions(inStandIn(t, box, lab.URL, quoted), rig.Soak(12, 250), quoted)
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
		if (kind == "reply" || kind == "forward") && !evaluate[bool](t, tab, `/Which berth/.test(`+c.field+`.textContent)`) {
			t.Logf("the webmail opened a %s without what is quoted; it is opened again", kind)
			c.open(tab, kind)
		}
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
	c.raw = func(subject string) []byte {
		for until := time.Now().Add(patience); time.Now().Before(until); time.Sleep(200 * time.Millisecond) {
			list, err := w.Server.Mailbox(rig.WebmailUser, "MIME-Version")
			if err != nil {
				t.Fatal(err)
			}
			for _, raw := range list {
				if bytes.Contains(raw, []byte("Subject: "+subject+"\r\n")) {
					return raw
				}
			}
		}
		t.Fatalf("%s did not arrive", subject)
		return nil
	}
	return c
}

// TestCompositionsInTheRealWebmail: the same in the webmail that Debian packages, through Postfix and Dovecot.
func TestCompositionsInTheRealWebmail(t *testing.T) {
	t.Parallel()
	w := realWebmail(t)
	a := startAddOn(t, site("webmail", "Webmail", w.Address, "washing-webmail", "above", realOne))
	a.paste(a.key, "It works: signatures for "+maren)
	quoted := a.quoted()
	if err := deliver(w, quoted); err != nil {
		t.Fatal(err)
	}
	if err := w.SignIn(a.browser); err != nil {
		t.Fatal(err)
	}
	limited, cancel := context.WithTimeout(a.browser, patience)
	defer cancel()
	if err := w.AddIdentity(limited, "Harbour office", "harbour.office@brackwater.example"); err != nil {
		t.Fatal(err)
	}
	a.compositions(inReal(t, w), rig.Soak(10, 250), quoted)
}

// deliver sends the message that is answered.
func deliver(w *rig.Webmail, markup string) error {
	text := "From: Tom Pilot <pilot@harbour.example>\r\nTo: " + rig.WebmailUser + "\r\nSubject: Berth\r\nMIME-Version: 1.0\r\n" +
		"Content-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
		base64.StdEncoding.EncodeToString([]byte(markup)) + "\r\n"
	return smtp.SendMail(w.Server.Address(rig.Plain), nil, "pilot@harbour.example", []string{rig.WebmailUser}, []byte(text))
}
