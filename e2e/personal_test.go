package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/personal"
	"missivum/core/problem"
	"missivum/core/proof"
	"missivum/core/template"
	"missivum/demo"
	"missivum/e2e/rig"
	"missivum/lab/webmail"
)

// asked sends a request with JSON, as somebody, and reads the answer.
func asked(t *testing.T, method, address, as, body string, into any) {
	t.Helper()
	request, err := http.NewRequest(method, address, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Missivum-Acting-As", as)
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode >= 300 {
		t.Fatalf("%s %s: %d %s %v", method, address, answer.StatusCode, data, err)
	}
	if into != nil {
		if err := json.Unmarshal(data, into); err != nil {
			t.Fatal(err)
		}
	}
}

// withRelease is the demo with a release that is out for everybody.
func withRelease(t *testing.T, settings ...string) *rig.Server {
	t.Helper()
	s := demoService(t, settings...)
	release(t, s, "Winter")
	return s
}

// release sends a release that is out for everybody.
func release(t *testing.T, s *rig.Server, title string) {
	t.Helper()
	var made struct {
		ID    int
		State string
	}
	asked(t, "POST", s.Address+"/api/v1/releases", "Maren", fmt.Sprintf(`{"title":%q,"base":"brackwater"}`, title), &made)
	for until := time.Now().Add(2 * time.Minute); made.State == "draft"; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatal("the release is not checked")
		}
		getJSON(t, fmt.Sprintf("%s/api/v1/releases/%d", s.Address, made.ID), &made)
	}
	at := fmt.Sprintf("%s/api/v1/releases/%d/", s.Address, made.ID)
	asked(t, "POST", at+"approve", "Bo", `{"says":"known"}`, nil)
	asked(t, "POST", at+"send", "Bo", `{"waves":[]}`, nil)
}

// standInWebmail starts lab/webmail for Maren.
func standInWebmail(t *testing.T) (*webmail.Webmail, *httptest.Server) {
	t.Helper()
	box := webmail.New(maren)
	lab := httptest.NewServer(box)
	t.Cleanup(lab.Close)
	return box, lab
}

// realWebmail starts the webmail that Debian packages, with its mail server.
func realWebmail(t *testing.T) *rig.Webmail {
	t.Helper()
	w, err := rig.StartWebmail()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := w.Close(); err != nil {
			t.Error(err)
		}
	})
	return w
}

// linkFor makes a personal link.
func linkFor(t *testing.T, s *rig.Server, person string) string {
	t.Helper()
	var link struct{ Address string }
	asked(t, "POST", s.Address+"/api/v1/personal/links", "Ines", fmt.Sprintf(`{"person":%q}`, person), &link)
	return link.Address
}

// ownBrowser starts a browser with a clipboard of its own.
func ownBrowser(t *testing.T) context.Context {
	t.Helper()
	tab, stop := rig.Browser(t.Context(), 1280, 800)
	t.Cleanup(stop)
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	limited, cancel := context.WithTimeout(tab, 8*time.Minute)
	t.Cleanup(cancel)
	return limited
}

const control = 2 // the key Control as a modifier (Chrome DevTools Protocol)

func pasteHere() chromedp.Action[chromedp.Void] {
	return chromedp.KeyEvent("v", chromedp.KeyModifiers(control))
}

// openPage opens a person's page and chooses a program.
func openPage(t *testing.T, tab context.Context, link, program string) {
	t.Helper()
	do(t, tab, "opening the link", chromedp.Navigate(link), chromedp.WaitVisible(`//h1[contains(., "Hello")]`))
	if evaluate[bool](t, tab, `location.hash !== ''`) {
		t.Error("the secret of the link stays in the address bar")
	}
	do(t, tab, "choosing the program", chromedp.Click(fmt.Sprintf(`//li//button[contains(., %q)]`, program)),
		chromedp.WaitVisible(`//iframe`))
}

// checkMine gives the page a message as a file and wants a state.
func checkMine(t *testing.T, tab context.Context, message []byte, state string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "arrived.eml")
	if err := os.WriteFile(file, message, 0o600); err != nil {
		t.Fatal(err)
	}
	do(t, tab, "checking it", chromedp.Click(`//button[@role="tab" and contains(., "Check mine")]`),
		chromedp.WaitVisible(`//*[@role="textbox"]`),
		chromedp.SetUploadFiles(chromedp.CSS(`input[type=file]`), []string{file}),
		chromedp.WaitVisible(`//*[@role="status"]//*[contains(@class, "MuiAlert-message")]`))
	if says := evaluate[string](t, tab, `document.querySelector('[role=status] .MuiAlert-message').innerText`); !strings.HasPrefix(
		says,
		state,
	) {
		t.Errorf("the page says %q, want %s\n%s", says, state, evaluate[string](t, tab, `document.querySelector('main').innerText`))
	}
}

// proved wants a proof to have arrived.
func proved(t *testing.T, s *rig.Server, client, standing string) {
	t.Helper()
	var m struct {
		Rows []struct {
			Cells []struct{ Client, Way, Standing string }
		}
	}
	getJSON(t, s.Address+"/api/v1/desks?search=maren.lind&client="+client, &m)
	if len(m.Rows) != 1 || m.Rows[0].Cells[0].Way != "page" || m.Rows[0].Cells[0].Standing != standing {
		t.Errorf("the proof is %+v, want %s", m.Rows, standing)
	}
}

const maren = "maren.lind@brackwater.example"

// TestYourSignature: one link, one button, pasted into a box that takes rendered content only, saved, sent, read back, checked.
func TestYourSignature(t *testing.T) {
	t.Parallel()
	s := withRelease(t)
	box, lab := standInWebmail(t)
	tab := ownBrowser(t)
	link := linkFor(t, s, maren)
	openPage(t, tab, link, "capped signature box")
	length := evaluate[string](t, tab, `document.querySelector('main').innerText.match(/About ([\d,]+) of the 10,000/)[1].replace(',', '')`)
	do(
		t,
		tab,
		"copying",
		chromedp.Click(`//button[text()="Copy the signature"]`),
		chromedp.WaitVisible(`//li[@aria-current="step" and contains(., "Step 2")]`),
	)

	do(t, tab, "pasting", chromedp.Navigate(lab.URL+"/settings"), chromedp.Focus(chromedp.CSS("#box")), pasteHere(),
		chromedp.Click(chromedp.CSS("#new")), chromedp.Click(chromedp.CSS("#reply")), chromedp.Click(chromedp.CSS("#save")),
		chromedp.WaitVisible(`//span[@id="said" and contains(., "Saved")]`))
	var predicted, real float64 = 0, float64(client.Units(box.Settings().Signature))
	fmt.Sscan(length, &predicted)
	if off := math.Abs(predicted-real) / real; off > 0.02 {
		t.Errorf("the page said %v characters, the box holds %v", predicted, real)
	}
	for _, kind := range []string{"new", "reply"} {
		do(t, tab, "sending", chromedp.Navigate(lab.URL+"/compose?kind="+kind), chromedp.WaitVisible(`//body[@data-ready]`),
			chromedp.Click(chromedp.CSS("button[name=send]")), chromedp.WaitVisible(`//span[@role="status" and contains(., "Sent")]`))
	}
	sent := box.Sent()
	do(t, tab, "back", chromedp.Navigate(link), chromedp.WaitVisible(`//h1[contains(., "Hello")]`))
	checkMine(t, tab, sent[0], "Right")
	proved(t, s, "capped-webmail", "current")
	do(t, tab, "another", chromedp.Click(`//button[text()="Check another"]`))
	checkMine(t, tab, sent[1], "Right")

	// somebody underlines the links, and pastes it once more below
	altered := strings.ReplaceAll(string(sent[0]), "text-decoration: none", "text-decoration: underline")
	altered = strings.ReplaceAll(altered, "text-decoration:=20none", "text-decoration: underline")
	do(t, tab, "another", chromedp.Click(`//button[text()="Check another"]`))
	checkMine(t, tab, []byte(altered), "Altered")
	waitFor(t, tab, "what and by whom is said", `/underlined[\s\S]*Probably[\s\S]*paste again/.test(document.querySelector('main').innerText)`)
	proved(t, s, "capped-webmail", "altered")
	do(t, tab, "text that is pasted", chromedp.Click(`//button[text()="Check another"]`), chromedp.WaitVisible(`//*[@role="textbox"]`),
		chromedp.Evaluate[chromedp.Void](`{ const d = new DataTransfer(); d.setData('text/plain', 'Good morning');
			document.querySelector('[role=textbox]').dispatchEvent(
				new ClipboardEvent('paste', { clipboardData: d, bubbles: true, cancelable: true })) }`),
		chromedp.WaitVisible(`//*[contains(., "was not found")]`))

	// the whole clipboard is what was prepared, and another device may not change anything
	other := ownBrowser(t)
	do(t, other, "another device", chromedp.Navigate(link), chromedp.WaitVisible(`//*[contains(., "first opened on another device")]`))
	if evaluate[bool](t, other, `[...document.querySelectorAll('button')].some(b => /Check mine|My details/.test(b.innerText))`) {
		t.Error("another device is offered what it may not do")
	}
	do(
		t,
		other,
		"a wrong link",
		chromedp.Navigate("about:blank"),
		chromedp.Navigate(link[:len(link)-8]+"AAAAAAAA"),
		chromedp.WaitVisible(`//h1[contains(., "does not open")]`),
	)
}

// TestYourSignatureInTheRealWebmail: the source is pasted into the webmail that Debian packages, by key presses; a message goes through
// Postfix and Dovecot and is read back.
func TestYourSignatureInTheRealWebmail(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat(rig.WebmailPages); err != nil {
		t.Fatalf("make setup installs the webmail: %v", err)
	}
	s := withRelease(t)
	w := realWebmail(t)
	tab := ownBrowser(t)
	link := linkFor(t, s, maren)
	openPage(t, tab, link, "Open-source webmail")
	do(t, tab, "copying the source", chromedp.Click(`//li[@aria-current="step"]//button[text()="Copy the source"]`),
		chromedp.WaitVisible(`//li[@aria-current="step" and contains(., "Step 2")]`))
	if err := w.SignIn(tab); err != nil {
		t.Fatal(err)
	}
	do(t, tab, "its settings", w.Open("_task=settings&_action=edit-identity&_iid=1"), chromedp.WaitVisible(chromedp.CSS("#rcmfd_signature")),
		chromedp.Evaluate[chromedp.Void]("void document.getElementById('rcmfd_html_signature').click()"),
		chromedp.WaitVisible(chromedp.CSS("button[title='Source code']")), chromedp.Click(chromedp.CSS("button[title='Source code']")),
		chromedp.WaitVisible(chromedp.CSS(".tox-dialog textarea")), chromedp.Focus(chromedp.CSS(".tox-dialog textarea")), pasteHere(),
		chromedp.Click(chromedp.CSS(".tox-dialog__footer button[title=Save]")), chromedp.WaitNotPresent(chromedp.CSS(".tox-dialog")),
		chromedp.Click(chromedp.CSS("button.submit")), chromedp.Sleep(2*time.Second))
	do(t, tab, "a message to oneself", w.Open("_task=mail&_action=compose&_to="+rig.WebmailUser),
		chromedp.WaitVisible(chromedp.CSS(".tox-edit-area iframe")), chromedp.SendKeys(chromedp.CSS("#compose-subject"), "Berth 4"),
		chromedp.Sleep(time.Second), // until the editor has put the signature in
		chromedp.Click(chromedp.CSS("#compose-content .formbuttons .send")))
	var arrived [][]byte
	var err error
	for until := time.Now().Add(patience); len(arrived) == 0 && time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
		if arrived, err = w.Server.Mailbox(rig.WebmailUser, "MIME-Version"); err != nil {
			t.Fatal(err)
		}
	}
	if len(arrived) == 0 {
		t.Fatalf("no message arrived\n%s", w.Server.Log())
	}
	if _, err := mail.ReadMessage(strings.NewReader(string(arrived[0]))); err != nil {
		t.Fatal(err)
	}
	do(t, tab, "it is sent", chromedp.WaitNotPresent(chromedp.CSS("#compose-content")))
	do(t, tab, "back", chromedp.Navigate(link), chromedp.WaitVisible(`//h1[contains(., "Hello")]`))
	checkMine(t, tab, arrived[0], "Right")
	proved(t, s, "washing-webmail", "current")
}

// TestTheClipboardHoldsWhatWasPrepared: for every template there is, pasted elsewhere, letter by letter.
func TestTheClipboardHoldsWhatWasPrepared(t *testing.T) {
	t.Parallel()
	s := withRelease(t)
	tab := ownBrowser(t)
	// what the service prepared is replaced by other signatures, one after the other
	if err := chromedp.Do(tab, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: `
			const real = window.fetch
			window.fetch = async (...args) => {
				const answer = await real(...args)
				if (!window.other || !(args[0].url ?? args[0]).endsWith('/personal/signature')) return answer
				const s = await answer.json()
				s.whole.html = window.other
				setTimeout(() => window.fetched = window.other, 50) // when the page has it
				return new Response(JSON.stringify(s), { status: 200, headers: { 'Content-Type': 'application/json' } })
			}`})
		return err
	})); err != nil {
		t.Fatal(err)
	}
	openPage(t, tab, linkFor(t, s, maren), "capped signature box")
	do(t, tab, "a box of this page", chromedp.Evaluate[chromedp.Void](`{
		const box = document.createElement('div'); box.id = 'target'; box.contentEditable = true
		box.style.minHeight = '40px'; document.body.append(box)
		box.addEventListener('paste', e => { window.pasted = e.clipboardData.getData('text/html') }) }`))
	count := 0
	for _, one := range everySignature(t, rig.Soak(6, 1)) {
		letters, err := json.Marshal(one.html)
		if err != nil {
			t.Fatal(err)
		}
		do(
			t,
			tab,
			"another signature",
			chromedp.Evaluate[chromedp.Void](
				`{ document.getElementById('target').innerHTML = ''; window.other = `+string(letters)+`; window.pasted = undefined;
			const uses = [...document.querySelectorAll('[role=group] button')].filter(b => /messages|Replies/.test(b.innerText));
			const next = uses.find(b => b.getAttribute('aria-pressed') !== 'true'); next.click() }`,
			),
		)
		waitFor(
			t,
			tab,
			"its button",
			`window.fetched === window.other && [...document.querySelectorAll('button')].some(b => b.innerText === 'Copy the signature')`,
		)
		do(
			t,
			tab,
			"copied and pasted",
			chromedp.Click(`//button[text()="Copy the signature"]`),
			chromedp.Focus(chromedp.CSS("#target")),
			pasteHere(),
		)
		waitFor(t, tab, "pasted", `window.pasted !== undefined`)
		if pasted := evaluate[string](t, tab, `window.pasted`); pasted != one.html {
			t.Fatalf("%s: copied %.300q, prepared %.300q", one.name, pasted, one.html)
		}
		count++
	}
	t.Logf("%d signatures copied letter by letter", count)
}

// givenBox is a page from which window.given is copied letter by letter, and pasted into an editable element beside it.
func givenBox(t *testing.T) context.Context {
	t.Helper()
	tab := ownBrowser(t)
	do(
		t,
		tab,
		"two pages in one",
		chromedp.Navigate(
			`data:text/html,<!doctype html><meta charset=utf-8><div id=src tabindex=0>x</div>`+
				`<div id=box contenteditable style="min-height: 50px"></div>`,
		),
		chromedp.Evaluate[chromedp.Void](
			`document.addEventListener('copy', e => { e.clipboardData.setData('text/html', window.given); e.preventDefault() })`,
		),
	)
	return tab
}

// pastedAsGiven is what stands in the editable element after markup was pasted there.
func pastedAsGiven(t *testing.T, tab context.Context, given string) string {
	t.Helper()
	letters, err := json.Marshal(given)
	if err != nil {
		t.Fatal(err)
	}
	do(
		t,
		tab,
		"copied and pasted",
		chromedp.Evaluate[chromedp.Void](`{ window.given = `+string(letters)+`; const box = document.getElementById('box');
		box.innerHTML = ''; box.blur(); document.getElementById('src').focus()
		getSelection().selectAllChildren(document.getElementById('src')) }`),
		chromedp.KeyEvent("c", chromedp.KeyModifiers(control)),
		chromedp.Focus(chromedp.CSS("#box")),
		pasteHere(),
	)
	return evaluate[string](t, tab, `document.getElementById('box').innerHTML`)
}

// TestPastesLetterByLetter: markup of many manners, put onto the clipboard letter by letter, stands there as predicted, letter by letter.
func TestPastesLetterByLetter(t *testing.T) {
	t.Parallel()
	tab := givenBox(t)
	list := rig.Pastes()
	for _, given := range list {
		predicted, err := journey.PasteGiven(journey.Chromium, given)
		pasted := pastedAsGiven(t, tab, given)
		if err != nil || predicted != pasted {
			t.Errorf("given\n%s\npasted\n%s\npredicted\n%s, %v", given, pasted, predicted, err)
		}
		v, err := proof.Judge(proof.Input{Wanted: []proof.Wanted{{HTML: given}}, Shown: proof.Shown{HTML: pasted}})
		if err != nil || v.State != proof.Right {
			t.Errorf("given\n%s\npasted\n%s\nis %s, %+v, %v", given, pasted, v.State, v.Differences, err)
		}
	}
	t.Logf("%d pastes", len(list))
}

// TestAGivenPasteIsPredicted: signatures that a page puts onto the clipboard letter by letter are pasted, and stand there in the
// predicted length; none of them is called an alteration.
func TestAGivenPasteIsPredicted(t *testing.T) {
	t.Parallel()
	tab := givenBox(t)
	count, near, altered := 0, 0, 0
	for _, one := range everySignature(t, 1) {
		pasted := pastedAsGiven(t, tab, one.html)
		verdict, err := proof.Judge(proof.Input{Owner: proof.Owner{Mail: maren, Name: "Maren Lind"}, Wanted: []proof.Wanted{one.wanted},
			Shown: proof.Shown{HTML: pasted}})
		if err != nil && !problem.Is(err, problem.TooLarge) {
			t.Fatal(err)
		}
		if err == nil && verdict.State != proof.Right {
			altered++
			t.Logf("%s: what the browser pasted is called %s: %+v", one.name, verdict.State, verdict.Differences)
		}
		real := client.Units(pasted)
		if math.Abs(float64(one.characters-real)) <= 0.02*float64(real) {
			near++
		} else {
			t.Logf("%s: %d characters predicted, %d real", one.name, one.characters, real)
		}
		count++
	}
	t.Logf("the length of %d of %d is predicted within 2 %%; %d pastes are called an alteration", near, count, altered)
	if altered > 0 {
		t.Errorf("%d of %d pastes are called an alteration", altered, count)
	}
	if near*100 < 95*count {
		t.Errorf("the length of %d of %d is predicted", near, count)
	}
}

// preparedOne is a signature as it is copied, with its predicted length in an editable element of Chromium.
type preparedOne struct {
	name, html string
	wanted     proof.Wanted // by which what is pasted is checked
	characters int
}

// everySignature fills the demo's and the starters' templates and the corpus, each or one of so many.
func everySignature(t *testing.T, oneOf int) (list []preparedOne) {
	t.Helper()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	signatures, err := demo.Signatures()
	if err != nil {
		t.Fatal(err)
	}
	templates := demosAndStarters(t)
	for i, one := range signatures {
		if i%oneOf != 0 {
			continue
		}
		if tm, err := template.New(fmt.Sprint("corpus-", i), template.Parts{Source: one.Source}); err == nil { // some hold mistakes
			templates = append(templates, tm)
		}
	}
	anywhere := &client.Profile{Form: "html", Install: client.Installation{Way: client.PasteRender}}
	day := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for _, tm := range templates {
		in := personal.Input{Template: tm, Schema: people.Schema, Day: day, Variant: tm.Variants()[0], Person: &people.People[0],
			Client: anywhere}
		prepared, err := personal.Prepare(in)
		if err != nil {
			t.Fatal(err)
		}
		wanted, err := in.Wanted("new", "1", false)
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(prepared.Whole.Pastes, func(p personal.Paste) bool { return p.Engine == journey.Chromium })
		list = append(list, preparedOne{tm.Name, prepared.Whole.HTML, wanted, prepared.Whole.Pastes[at].Characters})
	}
	return list
}

// TestDetailsAndInvitationsOnThePages: an administrator lets people change details, makes a link and decides; the person sees it at once.
func TestDetailsAndInvitationsOnThePages(t *testing.T) {
	t.Parallel()
	s := withRelease(t)
	console := ownBrowser(t)
	field := func(label string) string {
		return fmt.Sprintf(`//label[contains(., %q)]/following-sibling::*//input`, label)
	}
	do(
		t,
		console,
		"the page",
		chromedp.Navigate(s.Address+"/people/invitations"),
		chromedp.WaitVisible(`//p[contains(., "80 people would be written to")]`),
	)
	do(t, console, "a detail", chromedp.Click(`//button[text()="Add a detail"]`), chromedp.SendKeys(field("Field"), "mobile"),
		chromedp.SendKeys(field("Called"), "Mobile number"), chromedp.SendKeys(field("Words to avoid"), "0900, 0190"),
		chromedp.SendKeys(field("Who keeps the directory"), "the harbour office"))
	do(t, console, "saving", chromedp.Click(`//section[@aria-label="What the page offers"]//button[text()="Save"]`),
		chromedp.WaitVisible(`//section[@aria-label="What the page offers"]//button[text()="Save" and @disabled]`))
	do(t, console, "a link", chromedp.SendKeys(field("Mail address"), maren), chromedp.Click(`//button[text()="Make a link"]`),
		chromedp.WaitVisible(`//*[contains(text(), "/your-signature#")]`))
	link := evaluate[string](t, console, `document.body.innerText.match(/http\S+your-signature#\S+/)[0]`)

	everything := chromedp.KeyEvent("a", chromedp.KeyModifiers(control))
	tab := ownBrowser(t)
	openPage(t, tab, link, "capped signature box")
	do(
		t,
		tab,
		"my details",
		chromedp.Click(`//button[@role="tab" and contains(., "My details")]`),
		chromedp.WaitVisible(field("Mobile number")),
		chromedp.Focus(field("Mobile number")),
		everything,
		chromedp.SendKeys(field("Mobile number"), "0900 1"),
	)
	waitFor(t, tab, "what must not stand there", `/must not stand here/.test(document.querySelector('main').innerText)`)
	do(t, tab, "another", chromedp.Focus(field("Mobile number")), everything, chromedp.SendKeys(field("Mobile number"), "+44 7700 900987"))
	waitFor(t, tab, "it is seen in the look", `/900987/.test(document.querySelector('iframe')?.srcdoc)`)
	do(t, tab, "saving", chromedp.Click(`//button[text()="Save"]`), chromedp.WaitVisible(`//*[@role="status" and contains(., "Saved")]`))
	do(t, tab, "a wrong value", chromedp.Click(chromedp.CSS(`button[aria-label="This is wrong: l"]`)),
		chromedp.SendKeys(`//form//input`, "I moved to Port Lanvec"), chromedp.Click(`//form//button[text()="Send"]`),
		chromedp.WaitVisible(`//*[@role="status" and contains(., "Sent to the harbour office")]`))

	do(
		t,
		console,
		"what people ask",
		chromedp.Reload(),
		chromedp.WaitVisible(`//table[@aria-label="What people ask"]//td[contains(., "Port Lanvec")]`),
		chromedp.Click(
			`//table[@aria-label="What people ask"]//button[text()="Done"]`,
		),
		chromedp.WaitVisible(`//*[contains(., "Nobody asks for anything")]`),
	)
	do(t, console, "ending the link", chromedp.Click(`//table[@aria-label="Personal links"]//button[text()="End"]`),
		chromedp.WaitVisible(`//table[@aria-label="Personal links"]//td[text()="ended"]`))
	do(t, tab, "the page has ended", chromedp.Reload(), chromedp.WaitVisible(`//h1[contains(., "does not open")]`))
	var person struct{ Values map[string]string }
	getJSON(t, s.Address+"/api/v1/people/"+maren, &person)
	if person.Values["mobile"] != "+44 7700 900987" {
		t.Errorf("the directory has %q", person.Values["mobile"])
	}
}

// TestYourSignatureInEveryLanguage: axe finds nothing serious, nothing is wider than the page, and nothing is left in English.
func TestYourSignatureInEveryLanguage(t *testing.T) {
	t.Parallel()
	s := withRelease(t)
	asked(
		t,
		"PUT",
		s.Address+"/api/v1/personal/settings",
		"Ines",
		`{"details":[{"field":"mobile","label":"Mobile","choices":[],"longest":24,"avoid":[],"approval":false}],
		"clients":["capped-webmail","wordproc-desktop"],"wrong":"the harbour office","linkDays":30,"remindDays":7,"from":"","rate":60,"note":""}`,
		nil,
	)
	tab := ownBrowser(t)
	for i, language := range []string{"en", "de", "sv", "el", "ar"} {
		link := linkFor(t, s, maren)
		mode := []string{"dark", "light"}[i%2]
		do(t, tab, "its colours", chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.Address+"/your-signature"),
			chromedp.WaitVisible(`//main//h1`),
			chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`void localStorage.setItem('mui-mode', %q)`, mode)))
		do(t, tab, "opening", chromedp.Navigate("about:blank"), chromedp.Navigate(link),
			chromedp.WaitVisible(`//main//h1[contains(., "Maren Lind")]`), chromedp.SendKeys(`//*[@role="combobox"]`, " "),
			chromedp.Click(fmt.Sprintf(`//li[@lang=%q]`, language)), chromedp.WaitNotPresent(`//li[@role="option"]`))
		want := "ltr" + language
		if language == "ar" {
			want = "rtl" + language
		}
		if dir := evaluate[string](t, tab, `document.documentElement.dir + document.documentElement.lang`); dir != want {
			t.Errorf("the page is %s", dir)
		}
		if scheme := evaluate[string](t, tab, `document.documentElement.dataset.scheme`); scheme != mode {
			t.Errorf("the page is %s, not %s", scheme, mode)
		}
		if i == 0 {
			accessible(t, tab, "choosing")
			do(t, tab, "choosing", chromedp.Click(`//li//button[contains(., "capped")]`))
		}
		do(t, tab, "the steps", chromedp.WaitVisible(`//iframe`))
		for part := range 3 {
			do(
				t,
				tab,
				"part",
				chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`void document.querySelectorAll('[role=tab]')[%d].click()`, part)),
				chromedp.Sleep(600*time.Millisecond),
			)
			widths := []int64{1280, 390}
			if at := (i + part) % 2; rig.Soak(0, 1) == 0 { // in turn; both in make soak
				widths = widths[at : at+1]
			}
			for _, width := range widths {
				do(t, tab, "width", chromedp.EmulateViewport(width, 800))
				if wide := evaluate[int](t, tab, `document.documentElement.scrollWidth`); int64(wide) > width {
					t.Errorf("%s, part %d: %d px wide in %d", language, part, wide, width)
				}
				accessible(t, tab, fmt.Sprintf("%s, part %d, %d px, %s", language, part, width, mode))
			}
		}
		if text := evaluate[string](t, tab, `document.querySelector('main').innerText`); language != "en" && strings.Contains(text, "details") {
			t.Errorf("%s: English is left: %s", language, text)
		}
	}
}
