package e2e

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"missivum/core/compose"
	"missivum/demo"
	"missivum/e2e/rig"
)

var today = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// insertAtStart types at the beginning of the source.
const insertAtStart = `(text => { const c = document.querySelector('.cm-content'); c.focus(); const s = ` +
	`getSelection(); s.selectAllChildren(c); s.collapseToStart(); return document.execCommand('insertText', false, text) })`

func TestSourceAndLookLeadToEachOther(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	waitFor(t, tab, "the look is there", `document.querySelector('iframe')?.contentDocument?.querySelector('a[href^="mailto:"]')`)
	// pressed again until it is heard: the look listens once its pictures are there
	waitFor(t, tab, "the source jumps to the piece that was pressed",
		`(document.querySelector('iframe').contentDocument.readyState === 'complete' && `+
			`document.querySelector('iframe').contentDocument.querySelector('a[href^="mailto:"]')?.click(), `+
			`document.querySelector('.cm-activeLine')?.textContent.includes('mailto:'))`)
	waitFor(t, tab, "the path of the cursor is reported",
		`document.querySelector('nav[aria-label^="Elements"]')?.innerText.replace(/\s/g, '').endsWith('tr›td›a')`)
	waitFor(t, tab, "the look outlines the piece at the cursor",
		`document.querySelector('iframe').contentDocument.querySelector('a[href^="mailto:"]')?.style.outline.includes('dotted')`)
	if address := evaluate[string](t, tab, `document.querySelector('iframe').contentDocument.location.href`); address != "about:srcdoc" {
		t.Errorf("the link led to %s", address)
	}
	do(t, tab, "going to the row", chromedp.Click(`(//nav[starts-with(@aria-label, "Elements")]//button[text()="tr"])[last()]`))
	waitFor(t, tab, "the row is selected and outlined",
		`document.querySelector('iframe').contentDocument.querySelector('tr[style*="dotted"]')`)

	// the same as a client shows it
	do(t, tab, "showing it as a client does", rig.Choose("Shown as", "wordproc-desktop"))
	waitFor(t, tab, "the look is that client's",
		`document.querySelector('iframe[title^="As wordproc"]')?.contentDocument?.querySelector('a[href^="tel:"]')`)
	evaluate[bool](t, tab, `(document.querySelector('iframe').contentDocument.querySelector('a[href^="tel:"]').click(), true)`)
	waitFor(t, tab, "the source jumps there too", `document.querySelector('.cm-activeLine')?.textContent.includes('tel:')`)
}

func TestEditorKnowsTheLanguage(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	waitFor(t, tab, "the source is there", `document.querySelector('.cm-content')?.innerText.includes('Brackwater Ferries: harbour')`)
	do(t, tab, "indenting", chromedp.Click(`//button[text()="Indent"]`))
	waitFor(t, tab, "the source is indented", `document.querySelector('.cm-content').innerText.includes('\n  <meta')`)
	evaluate[bool](t, tab, `(() => { const c = document.querySelector('.cm-content'); c.focus(); `+
		`c.dispatchEvent(new KeyboardEvent('keydown', { key: 'z', ctrlKey: true, bubbles: true, cancelable: true })); return true })()`)
	waitFor(t, tab, "indenting can be undone", `!document.querySelector('.cm-content').innerText.includes('\n  <meta')`)
	do(t, tab, "opening the palette", chromedp.Click(`//button[text()="Insert"]`),
		chromedp.SendKeys(`//div[@aria-label="Insert"]//input`, "call"))
	waitFor(t, tab, "the palette shows the person's value",
		`/callSign\s+brack 4/.test(document.querySelector('[aria-label="What can be inserted"]')?.innerText ?? '')`)
	do(t, tab, "inserting a field", chromedp.Click(`//*[@aria-label="What can be inserted"]//*[text()="callSign"]`))
	waitFor(t, tab, "the field is in the source", `document.querySelector('.cm-content').innerText.startsWith('{{ callSign }}')`)
	evaluate[bool](t, tab, insertAtStart+`('<p data-ne')`)
	waitFor(t, tab, "attributes are offered",
		`[...document.querySelectorAll('.cm-tooltip-autocomplete li')].some(l => l.innerText.includes('data-needs'))`)
	evaluate[bool](t, tab, insertAtStart+`('{{ mob')`)
	waitFor(t, tab, "fields are offered with the person's value",
		`[...document.querySelectorAll('.cm-tooltip-autocomplete li')].some(l => /mobile.*07700 900544/.test(l.innerText))`)
	waitFor(t, tab, "the draft has been looked at",
		`/never closed/.test(document.querySelector('ol[aria-label="Findings"]')?.innerText ?? '')`)
	do(t, tab, "closing what is offered", chromedp.KeyEvent(kb.Escape))
	waitFor(t, tab, "nothing is offered any more", `!document.querySelector('.cm-tooltip-autocomplete')`)
	box := evaluate[map[string]float64](t, tab,
		`(() => { const w = document.createTreeWalker(document.querySelector('.cm-content'), NodeFilter.SHOW_TEXT); `+
			`while (w.nextNode()) { const i = w.currentNode.data.indexOf('callSign'); if (i >= 0) { const r = `+
			`document.createRange(); r.setStart(w.currentNode, i + 2); r.setEnd(w.currentNode, i + 3); const b = `+
			`r.getBoundingClientRect(); return { x: b.x + 2, y: b.y + 5 } } } })()`)
	do(t, tab, "pointing at a field", chromedp.MouseEvent("mouseMoved", box["x"], box["y"]))
	waitFor(t, tab, "the field is explained with the person's value",
		`/callSign: “brack 4” for Maren Lind/.test(document.querySelector('.cm-explanation')?.textContent ?? '')`)
}

// TestTheLookCanDoNothing: the page around may look into the frame; what stands in the frame can neither run nor
// lead anywhere.
func TestTheLookCanDoNothing(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	waitFor(t, tab, "the source is there", `document.querySelector('.cm-content')?.innerText.includes('Brackwater Ferries: harbour')`)
	evaluate[bool](t, tab, insertAtStart+
		`('<p id="hostile">x</p><script>top.ran = 1</script><img src="x" onerror="top.ran = 2"><svg onload="top.ran `+
		`= 3"></svg><meta http-equiv="refresh" content="0;url=/templates"><a id="away" href="/templates" `+
		`target="_top">away</a><iframe srcdoc="<script>top.ran = 4</script>"></iframe>')`)
	waitFor(t, tab, "the look has it all", `document.querySelector('iframe')?.contentDocument?.querySelector('#hostile')`)
	evaluate[bool](t, tab, `(document.querySelector('iframe').contentDocument.querySelector('#away').click(), true)`)
	do(t, tab, "waiting for what must not happen", chromedp.Sleep(time.Second))
	if ran := evaluate[string](t, tab,
		`String(window.ran) + ' ' + location.pathname + ' ' + `+
			`document.querySelector('iframe').contentDocument.location.href`); ran != "undefined /templates/harbour about:srcdoc" {
		t.Errorf("the look did something: %s", ran)
	}
}

func TestFilesOfThePersonAreDownloaded(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	waitFor(t, tab, "the look is there", `document.querySelector('iframe')?.srcdoc.includes('Maren Lind')`)
	evaluate[bool](t, tab, `(() => { window.made = []; const make = URL.createObjectURL; URL.createObjectURL = `+
		`(blob) => { blob.text().then(text => window.made.push(text)); return make.call(URL, blob) }; `+
		`HTMLAnchorElement.prototype.click = function () { window.named = this.download }; return true })()`)
	do(t, tab, "opening the forms", chromedp.Click(`//button[text()="Files"]`))
	waitFor(t, tab, "all forms are offered", `document.querySelectorAll('[aria-label="Forms"] li').length === 7`)
	do(t, tab, "taking rich text", chromedp.Click(`//ul[@aria-label="Forms"]/li[starts-with(., "rtf")]`))
	waitFor(t, tab, "the file is that person's",
		`window.named === 'harbour-new.rtf' && window.made[0]?.startsWith('{\\rtf1') && window.made[0].includes('Maren Lind')`)
}

func TestCleaningInTheWorkbench(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	waitFor(t, tab, "the source is there", `document.querySelector('.cm-content')?.innerText.includes('Brackwater Ferries: harbour')`)
	evaluate[bool](t, tab, insertAtStart+`('<o:p></o:p>')`)
	do(t, tab, "asking what cleaning would do", chromedp.Click(`//button[text()="Clean"]`))
	waitFor(t, tab, "the change is shown first",
		`/namespaced tags \(1\)/.test(document.querySelector('[role="dialog"]')?.innerText ?? '') && document.querySelector('.cm-mergeView')`)
	do(t, tab, "taking it", chromedp.Click(`//button[text()="Take the cleaned source"]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "the cleaned source is in the editor",
		`!document.querySelector('.cm-content').innerText.includes('o:p') && document.body.innerText.includes('with changes not saved')`)
}

func TestVersionsAreComparedAndSayWhoSaved(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	waitFor(t, tab, "the source is there", `document.querySelector('.cm-content')?.innerText.includes('Brackwater Ferries: harbour')`)
	evaluate[bool](t, tab, insertAtStart+`('<p>Second edition</p>')`)
	do(t, tab, "saying what changed", chromedp.Click(`//button[text()="Note"]`),
		chromedp.SendKeys(`//label[text()="What changed"]/following-sibling::div/input`, "An edition line"),
		chromedp.Click(`//button[text()="Done"]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)),
		chromedp.Click(`//button[text()="Save a version"]`))
	waitFor(t, tab, "it is saved", `/Version 2, saved/.test(document.body.innerText)`)
	do(t, tab, "comparing with the first", chromedp.Click(`//button[text()="Versions"]`),
		chromedp.Click(`(//ol[@aria-label="Versions"]//button[text()="Compare"])[last()]`))
	waitFor(t, tab, "who saved it and the note are shown",
		`/Version 2: An edition line\s+\S+, /.test(document.querySelector('ol[aria-label="Versions"]').innerText)`)
	waitFor(t, tab, "the sources stand beside each other",
		`document.querySelector('.cm-mergeView .cm-changedLine')?.innerText.length >= 0 && `+
			`document.querySelector('.cm-mergeView').innerText.includes('Second edition')`)
	waitFor(t, tab, "so do the looks",
		`(f => f.length === 2 && !f[0].srcdoc.includes('Second edition') && f[1].srcdoc.includes('Second `+
			`edition'))([...document.querySelectorAll('[role="dialog"] iframe')])`)
}

func TestTextByHandInTheWorkbench(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"),
		chromedp.Click(`//button[text()="template.txt"]`), rig.Choose("Shown as", "text-reader"))
	waitFor(t, tab, "the page says what it is for", `document.body.innerText.includes('What you write here is used instead')`)
	evaluate[bool](t, tab, insertAtStart+`('{{ cn }}, by hand\n{{ facsimileTelephoneNumber }}')`)
	waitFor(t, tab, "the look is the text by hand", `document.querySelector('iframe')?.srcdoc.includes('-- \nMaren Lind, by hand\n</pre>')`)
	do(t, tab, "saving", chromedp.Click(`//button[text()="Save a version"]`))
	waitFor(t, tab, "it is saved", `/Version 2, saved/.test(document.body.innerText)`)
	var saved struct{ Texts map[string]string }
	getJSON(t, s.Address+"/api/v1/templates/harbour", &saved)
	if !strings.HasPrefix(saved.Texts["template.txt"], "{{ cn }}, by hand") {
		t.Errorf("%+v", saved)
	}
}

func TestASignatureIsPastedAndRecognised(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "bringing a signature", chromedp.Navigate(s.Address+"/templates"),
		chromedp.Click(`//button[text()="New template"]`), chromedp.SendKeys(`//*[@role="dialog"]//input`, "brought"),
		chromedp.Click(`//button[text()="Bring a page or a signature"]`), chromedp.WaitVisible(chromedp.CSS(`[role="dialog"] textarea`)))
	evaluate[bool](t, tab, `(() => { const data = new DataTransfer(); data.setData('text/html', `+
		`'<!--StartFragment--><p class="x">Maren <b>Lind</b>, Brackwater Ferries</p><p>07700 900544</p>`+
		`<!--EndFragment-->'); return document.querySelector('[role="dialog"] textarea').dispatchEvent(new `+
		`ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true })) || true })()`)
	waitFor(t, tab, "what it becomes is reported",
		`/Written in utf-8[\s\S]*classes without a rule \(1\)/.test(document.querySelector('[aria-label="What it becomes"]')?.innerText ?? '')`)
	do(t, tab, "saying whose it is", chromedp.SendKeys(`//*[@role="dialog"]//input[@role="combobox"]`, "maren"),
		chromedp.Click(`//li[@role="option" and contains(., "Maren Lind")]`))
	waitFor(t, tab, "values are found and what is unclear is asked",
		`/3 values found[\s\S]*the same text and links/.test(document.querySelector('[aria-label="What it `+
			`becomes"]')?.innerText ?? '') && /Brackwater. in .* is/.test(document.querySelector('[role="dialog"]').innerText)`)
	do(t, tab, "making the template", chromedp.Click(`//button[text()="Make the template"]`))
	waitFor(t, tab, "the workbench opens with fields in it",
		`location.pathname === '/templates/brought' && /\{\{ givenName \}\} <b>\{\{ sn \}\}<\/b>, Brackwater `+
			`Ferries/.test(document.querySelector('.cm-content')?.innerText ?? '')`)
	waitFor(t, tab, "the look is that of the person",
		`document.querySelector('iframe')?.contentDocument?.body?.innerText.includes('Maren Lind, Brackwater Ferries')`)
}

// pasteKey presses the key that pastes.
func pasteKey() chromedp.Action[chromedp.Void] {
	return chromedp.KeyEvent("v", chromedp.KeyModifiers(2))
}

// TestCopyPage presses the button and pastes into another page.
func TestCopyPage(t *testing.T) {
	tmpl, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	signature, err := compose.Compile(compose.Source{Template: tmpl, Schema: d.Schema, Day: today, Variants: []string{"new"}})
	if err != nil {
		t.Fatal(err)
	}
	who := d.Find("siobhan.nifhloinn@brackwater.example")
	page, fragment := signature.Fill("new", compose.CopyPage, who), string(signature.Fill("new", compose.Fragment, who))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if r.URL.Path == "/field" {
			w.Write([]byte(`<div id="field" contenteditable style="min-height:200px"></div><script>document.addEventListener('paste', e => {
				window.html = e.clipboardData.getData('text/html'); window.text = e.clipboardData.getData('text/plain') })</script>`))
			return
		}
		w.Write(page)
	}))
	defer server.Close()
	tab := browser(t)
	press := []chromedp.Action[chromedp.Void]{chromedp.Click(chromedp.CSS("#copy"))}
	mark := []chromedp.Action[chromedp.Void]{
		chromedp.Click(chromedp.CSS("h1")),
		chromedp.Evaluate[chromedp.Void](`getSelection().selectAllChildren(document.querySelector('#signature'))`),
		chromedp.KeyEvent("c", chromedp.KeyModifiers(2)),
	}
	for way, actions := range map[string][]chromedp.Action[chromedp.Void]{"by the button": press, "by marking": mark} {
		do(t, tab, "the page "+way, chromedp.Navigate(server.URL+"/"))
		do(t, tab, "copying "+way, actions...)
		if way == "by the button" {
			waitFor(t, tab, "the page says what to do next", `document.querySelector('#said').textContent.startsWith('Copied.')`)
		}
		do(t, tab, "pasting elsewhere", chromedp.Navigate(server.URL+"/field"), chromedp.Click(chromedp.CSS("#field")))
		do(t, tab, "pasting by key", pasteKey())
		waitFor(t, tab, "the signature is there with its links",
			`(f => f.innerText.includes("Siobhán Ní Fhloinn-O'Grady") && f.querySelectorAll('a[href^="tel:"]').length > `+
				`0 && f.querySelectorAll('img[src^="https://pictures.brackwater.example/harbour/"]').length === 2)(document.querySelector('#field'))`)
		held, err := chromedp.Run(tab, chromedp.Evaluate[string](`window.html`))
		if err != nil {
			t.Fatal(err)
		}
		held = strings.TrimPrefix(held, "<meta charset='utf-8'>") // Chromium's own mark
		if held != fragment {
			t.Errorf("%s the clipboard holds %d characters, the fragment has %d:\n%s", way, len(held), len(fragment), held)
		}
		waitFor(t, tab, "plain text is there too", `window.text.includes("Siobhán") && !window.text.includes('<table')`)
	}
}
