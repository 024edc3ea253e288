package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// unfold shows the budgets that are far within their limit. It presses until they are shown: the report may be drawn
// anew, at another place, between looking for the line and the press.
func unfold(t *testing.T, tab context.Context) {
	t.Helper()
	waitFor(t, tab, "all budgets are shown", `(d => { if (d && !d.open) d.querySelector('summary').click(); return d?.open })`+
		`(document.querySelector('section[aria-label="Budgets"] details'))`)
}

const editorSource = `document.querySelector('.cm-content')?.innerText ?? ''`

// TestFixingInTheWorkbench: a fix's difference is shown first, taken, and undone again.
func TestFixingInTheWorkbench(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening regatta", chromedp.Navigate(s.Address+"/templates/regatta"))
	waitFor(t, tab, "findings can be fixed",
		`document.querySelectorAll('ol[aria-label="Findings"] button[aria-label^="Fix line"]').length > 15`)
	do(t, tab, "fixing one", chromedp.Click(chromedp.CSS(`button[aria-label="Fix line 7, language"]`)))
	waitFor(t, tab, "the difference is shown",
		`document.querySelectorAll('[role="dialog"] .cm-changedLine').length > 0 && /Line 7, `+
			`language/.test(document.querySelector('[role="dialog"]').innerText)`)
	do(t, tab, "taking it", chromedp.Click(`//button[text()="Take the fixed source" and not(@disabled)]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "the source is fixed", `(`+editorSource+`).includes('lang="en"')`)
	waitFor(t, tab, "the finding is gone", `document.querySelectorAll('ol[aria-label="Findings"] > li').length === 39`)
	evaluate[bool](t, tab, `(() => { const c = document.querySelector('.cm-content'); c.focus(); `+
		`c.dispatchEvent(new KeyboardEvent('keydown', { key: 'z', ctrlKey: true, bubbles: true, cancelable: true })); return true })()`)
	waitFor(t, tab, "it is undone", `!(`+editorSource+`).includes('lang="en"')`)

	do(t, tab, "fixing all that is safe", chromedp.Click(`//button[text()="Fix 22"]`))
	waitFor(t, tab, "all fixes are listed",
		`document.querySelectorAll('ul[aria-label="Fixes"] li').length === 24 && `+
			`document.querySelectorAll('ul[aria-label="Pictures that are made"] img').length === 4 && /16 findings `+
			`are left then/.test(document.querySelector('[role="dialog"]').innerText)`)
	do(t, tab, "leaving two checks out", chromedp.Click(`//label[.="picture-dark"]`), chromedp.Click(`//label[.="language"]`))
	waitFor(t, tab, "they are not fixed",
		`document.querySelectorAll('ul[aria-label="Fixes"] li').length === 22 && `+
			`document.querySelectorAll('ul[aria-label="Pictures that are made"] img').length === 3`)
	do(t, tab, "taking them in again", chromedp.Click(`//label[.="picture-dark"]`), chromedp.Click(`//label[.="language"]`))
	waitFor(t, tab, "all are fixed", `document.querySelectorAll('ul[aria-label="Fixes"] li').length === 24`)
	do(t, tab, "taking them", chromedp.Click(`//button[text()="Take the fixed source"]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "no safe fix is left",
		`document.querySelectorAll('ol[aria-label="Findings"] > li').length === 16 && `+
			`![...document.querySelectorAll('button')].some(b => /^Fix \d/.test(b.textContent))`)
	waitFor(t, tab, "the look has the new pictures",
		`document.querySelector('iframe').srcdoc.includes('data:image/png;base64,') && /Pictures that a fix `+
			`made.*anchor\.png, logo\.png, pennant\.png, picture-1\.gif/.test(document.body.innerText)`)

	undo := `(() => { const c = document.querySelector('.cm-content'); c.focus(); c.dispatchEvent(new ` +
		`KeyboardEvent('keydown', { key: 'z', ctrlKey: true, bubbles: true, cancelable: true })); return true })()`
	evaluate[bool](t, tab, undo)
	waitFor(t, tab, "the pictures are undone with the source",
		`!/Pictures that a fix made/.test(document.body.innerText) && document.querySelectorAll('ol[aria-label="Findings"] > li').length === 40`)
	evaluate[bool](t, tab, strings.Replace(undo, "'z'", "'y'", 1))
	waitFor(t, tab, "and done again",
		`/Pictures that a fix made/.test(document.body.innerText) && document.querySelectorAll('ol[aria-label="Findings"] > li').length === 16`)
	do(t, tab, "putting the saved pictures back", chromedp.Click(`//button[text()="Use the saved ones again"]`))
	waitFor(t, tab, "the settings name them again",
		`!/Pictures that a fix made/.test(document.body.innerText) && `+
			`[...document.querySelectorAll('ol[aria-label="Findings"] > li')].some(li => /picture-1/.test(li.innerText))`)
	evaluate[bool](t, tab, undo)
	waitFor(t, tab, "all is as it was", `document.querySelectorAll('ol[aria-label="Findings"] > li').length === 40`)
	evaluate[bool](t, tab, strings.Replace(undo, "'z'", "'y'", 1))
	waitFor(t, tab, "and fixed once more", `/Pictures that a fix made/.test(document.body.innerText)`)
	do(t, tab, "saving", chromedp.Click(`//button[text()="Save a version"]`))
	waitFor(t, tab, "it is saved",
		`/Version 2, saved/.test(document.body.innerText) && !/Pictures that a fix made/.test(document.body.innerText)`)
	var saved struct{ Pictures []struct{ Name, File string } }
	getJSON(t, s.Address+"/api/v1/templates/regatta", &saved)
	if text := fmt.Sprint(saved.Pictures); !strings.Contains(text, "{pennant pennant.png}") ||
		!strings.Contains(text, "{picture-1 picture-1.gif}") {
		t.Error(text)
	}
}

func TestTheSurvivalMapLeadsToPlaceAndClient(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening regatta", chromedp.Navigate(s.Address+"/templates/regatta"),
		chromedp.Click(`//button[@role="tab" and text()="Survival"]`))
	waitFor(t, tab, "the map is there",
		`document.querySelectorAll('table[aria-label="Survival map"] tbody tr').length > 20 && /Safe in 2 of 12 `+
			`clients/.test(document.body.innerText)`)
	do(t, tab, "pressing a cell", chromedp.Click(chromedp.CSS(`button[aria-label="border-radius: 50% in wordproc-desktop: dropped"]`)))
	waitFor(t, tab, "before and after are shown, the element outlined in both",
		`(() => { const f = [...document.querySelectorAll('[role="dialog"] iframe')]; return f.length === 2 && `+
			`f.every(i => i.contentDocument.querySelector('img[style*="dotted"]')) && /corners are rendered `+
			`square/.test(document.querySelector('[role="dialog"]').innerText) })()`)
	do(t, tab, "going to the source", chromedp.Click(`//button[text()="Show it in the source"]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "the look is that client's", `document.querySelector('iframe[title^="As wordproc-desktop"]') !== null`)
	waitFor(t, tab, "the editor is at the line", `document.querySelector('.cm-activeLine')?.textContent.includes('border-radius')`)
	do(t, tab, "turning dark mode on", chromedp.Click(`//button[text()="Dark mode"]`))
	waitFor(t, tab, "the background is dark", `document.querySelector('iframe').srcdoc.includes('background:#1e1e1e')`)
	do(t, tab, "blocking pictures", chromedp.Click(`//button[text()="Pictures blocked"]`))
	waitFor(t, tab, "no picture is shown",
		`!document.querySelector('iframe').srcdoc.includes('<img') && `+
			`document.querySelector('iframe').srcdoc.includes('Brackwater Ferries</span>')`)
}

// TestShrinkingInTheWorkbench: the steps are shown with what they save, and taking them shortens every figure.
func TestShrinkingInTheWorkbench(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	unfold(t, tab)
	do(t, tab, "pressing a budget's button",
		chromedp.Click(chromedp.CSS(`button[aria-label="Shrink for source-webmail"]`)))
	waitFor(t, tab, "it says that it fits",
		`/It fits as it is/.test(document.querySelector('[role="dialog"] [role="status"]')?.innerText ?? '')`)
	do(t, tab, "a target below it", chromedp.SendKeys(chromedp.CSS(`[role="dialog"] input`), "2000"))
	waitFor(t, tab, "steps and proposals are shown",
		`/It fits only with the proposals/.test(document.querySelector('[role="dialog"] `+
			`[role="status"]')?.innerText ?? '') && document.querySelectorAll('table[aria-label="Steps that keep `+
			`the look"] tbody tr').length === 7 && document.querySelectorAll('table[aria-label="Proposals, which `+
			`cost something"] tbody tr').length > 2`)
	before := evaluate[string](t, tab,
		`[...document.querySelectorAll('[role="meter"]')].find(m => m.ariaLabel === 'source-webmail characters').ariaValueNow`)
	do(t, tab, "going to a proposal's place", chromedp.Click(`//*[@role="dialog"]//button[starts-with(text(), "Line ")]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	do(t, tab, "taking the steps", chromedp.Click(chromedp.CSS(`button[aria-label="Shrink for source-webmail"]`)),
		chromedp.Click(`//button[text()="Take the steps" and not(@disabled)]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "the figure is smaller",
		`Number([...document.querySelectorAll('[role="meter"]')].find(m => m.ariaLabel === 'source-webmail characters').ariaValueNow) < `+
			before+` - 200`)
	do(t, tab, "looking at the settings", chromedp.Click(`//button[@role="tab" and text()="template.yaml"]`))
	waitFor(t, tab, "they say so", `(`+editorSource+`).includes('compact: true')`)
	do(t, tab, "asking again", chromedp.Click(chromedp.CSS(`button[aria-label="Shrink for source-webmail"]`)))
	waitFor(t, tab, "it is not offered twice",
		`/says compact: true already/.test(document.querySelector('[role="dialog"]')?.innerText ?? '') && `+
			`[...document.querySelectorAll('button')].find(b => b.textContent === 'Take the steps').disabled`)
}

// TestWhatTakesUpTheSpace: the drawing leads to the source, follows a kind, and a real paste stands beside the predicted.
func TestWhatTakesUpTheSpace(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	unfold(t, tab)
	do(t, tab, "pressing a budget's button",
		chromedp.Click(chromedp.CSS(`button[aria-label="What takes up the space in capped-webmail"]`)))
	waitFor(t, tab, "the elements are drawn", `document.querySelectorAll('[aria-label="What takes up the space"] button').length > 20`)
	const outside = `[...document.querySelectorAll('[aria-label="What takes up the space"] button')].filter(b => { ` +
		`const o = b.getBoundingClientRect(), g = b.parentElement.getBoundingClientRect(); return o.left < g.left - ` +
		`1 || o.right > g.right + 4 }).length`
	if n := evaluate[int](t, tab, outside); n > 0 {
		t.Errorf("%d bars stand outside the drawing", n)
	}
	all := evaluate[int](t, tab, `document.querySelectorAll('[aria-label="What takes up the space"] button').length`)
	do(t, tab, "choosing a kind", chromedp.Click(`//*[@aria-label="Kinds"]//button[starts-with(text(), "addresses")]`))
	waitFor(t, tab, "only what has addresses is left", `(n => n > 4 && n < `+strconv.Itoa(all)+
		`)(document.querySelectorAll('[aria-label="What takes up the space"] button').length) && `+
		`[...document.querySelectorAll('[aria-label="What takes up the space"] button')].every(b => b.ariaLabel.includes('of addresses'))`)
	do(t, tab, "pressing the last element",
		chromedp.Click(`(//*[@aria-label="What takes up the space"]//button[starts-with(@aria-label, "Line") and `+
			`contains(@aria-label, ", a:")])[last()]`))
	waitFor(t, tab, "the editor is at a link", `/<a |href/.test(document.querySelector('.cm-activeLine')?.textContent ?? '')`)
	do(t, tab, "pasting for real", chromedp.Click(`//button[text()="Measure a real paste"]`))
	waitFor(t, tab, "both figures stand there",
		`/Copied and pasted by Chromium: 2.\d{3} characters; predicted 2.\d{3}/.test(document.body.innerText)`)
	do(t, tab, "another client", chromedp.Click(chromedp.CSS(`button[aria-label="What takes up the space in source-webmail"]`)))
	waitFor(t, tab, "nothing is pasted there", `![...document.querySelectorAll('button')].some(b => b.textContent === 'Measure a real paste')`)
}

func TestTheContactSheetInTheWorkbench(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"),
		chromedp.Click(`//button[text()="Sheet"]`), chromedp.Click(`//button[text()="Draw it"]`))
	waitFor(t, tab, "it is drawn", `(document.querySelector('[role="dialog"] img')?.naturalWidth ?? 0) === 1320`)
	do(t, tab, "another view", chromedp.Click(`//label[contains(., "Pictures blocked")]`))
	waitFor(t, tab, "it must be drawn anew",
		`!document.querySelector('[role="dialog"] img') && [...document.querySelectorAll('button')].some(b => b.textContent === 'Draw it')`)
	do(t, tab, "closing", chromedp.Click(`//button[text()="Close"]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	do(t, tab, "zooming", chromedp.Click(chromedp.CSS(`[role="combobox"]:has(+ input[aria-label="Zoom"]), [aria-label="Zoom"]`)),
		chromedp.Click(`//li[text()="200 %"]`))
	waitFor(t, tab, "it is twice as large", `document.querySelector('iframe').srcdoc.includes('zoom:200%')`)
}

func TestOwnClientsInTheConsole(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening the clients", chromedp.Navigate(s.Address+"/clients"))
	waitFor(t, tab, "labels and shares are there",
		`/Our desktops in the ports[\s\S]*44 %/.test(document.body.innerText) && document.body.innerText.includes('add up to 100 %')`)
	do(t, tab, "reading one", chromedp.Click(`//button[text()="Our desktops in the ports"]`),
		chromedp.WaitVisible(`//*[@role="dialog"]//td[text()="round corners"]`), chromedp.Click(`//button[text()="Close"]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	do(t, tab, "editing one", chromedp.Click(chromedp.CSS(`button[aria-label="Edit crm-box"]`)),
		chromedp.WaitVisible(chromedp.CSS(`[role="dialog"] textarea`)))
	waitFor(t, tab, "its document is there", `document.querySelector('[role="dialog"] textarea').value.includes('off: true')`)
	do(t, tab, "removing what is our own", chromedp.Click(`//button[text()="Remove what is our own"]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "it is on again", `!document.body.innerText.includes('crm-box, switched off')`)
	do(t, tab, "going to the templates", chromedp.Click(`//nav//a[text()="Templates"]`))
	waitFor(t, tab, "the verdict counts it", `document.body.innerText.includes('Safe in 12 of 13 clients; crm-box needs a decision.')`)
}

// TestTheContactSheetIsDrawn: the page stands by itself, and Chromium draws it.
func TestTheContactSheetIsDrawn(t *testing.T) {
	folder := t.TempDir()
	page, picture := filepath.Join(folder, "sheet.html"), filepath.Join(folder, "sheet.png")
	people := []string{"--people", "demo/people.csv", "--date", "2026-11-23"}
	code, _, errs := command(t, append([]string{"sheet", "demo/templates/regatta", "--view", "light,dark,blocked", "-o", page}, people...)...)
	if code != 0 {
		t.Fatal(errs)
	}
	data, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	html := string(data)
	if strings.Contains(html, "<script") || strings.Contains(html, `onclick="window`) && !strings.Contains(html, "default-src 'none'") {
		t.Error("the page could run something")
	}
	tab := browser(t)
	if err := chromedp.Do(tab, chromedp.Navigate("file://"+page)); err != nil {
		t.Fatal(err)
	}
	waitFor(t, tab, "every client of both people stands there",
		`document.querySelectorAll('table.sheet > tbody > tr').length === 26 && document.querySelectorAll('.ringed').length > 10`)
	waitFor(t, tab, "drawings lie in trees of their own, with what breaks ringed",
		`[...document.querySelectorAll('.drawing > div')].some(d => d.shadowRoot && `+
			`[...d.shadowRoot.querySelectorAll('a')].some(a => getComputedStyle(a).outlineStyle === 'dashed'))`)
	waitFor(t, tab, "the hosted pictures are drawn",
		`[...document.querySelectorAll('.drawing > div')].some(d => [...(d.shadowRoot?.querySelectorAll('img') ?? `+
			`[])].some(i => i.naturalWidth > 0))`)
	if code, _, errs = command(t, append([]string{"sheet", "demo/templates/harbour", "--client", "wordproc-desktop",
		"--second-opinion", "-o", picture}, people...)...); code != 0 {
		t.Fatal(errs)
	}
	if data, err = os.ReadFile(picture); err != nil || !strings.HasPrefix(string(data), "\x89PNG") || len(data) < 20_000 {
		t.Errorf("%d bytes, %v", len(data), err)
	}
	for _, wrong := range []string{"sheet demo/templates/harbour -o x.pdf", "sheet demo/templates/harbour -o x.png",
		"sheet demo/templates/harbour --people demo/people.csv --view dusk -o x.png"} {
		if code, _, _ := command(t, strings.Fields(wrong)...); code != 2 {
			t.Errorf("%s: exit %d", wrong, code)
		}
	}
}

// TestPanesStayAsTheyWereLeft: a pane that is made smaller or closed is so again after the page is loaded anew,
// and what was typed outlives the closing of the panes beside it.
func TestPanesStayAsTheyWereLeft(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	width := func(pane string) string {
		return `Math.round(document.querySelector('section[aria-label="` + pane + `"]')?.getBoundingClientRect().width ?? 0)`
	}
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"),
		chromedp.WaitVisible(chromedp.CSS(`ul[aria-label="Budgets"]`)))
	waitFor(t, tab, "the source is there", `document.querySelector('.cm-content')?.innerText.includes('Brackwater Ferries: harbour')`)
	evaluate[bool](t, tab, insertAtStart+`('<p>Typed first</p>')`)
	before := evaluate[int](t, tab, width("Source"))
	do(t, tab, "making the source narrower",
		chromedp.Focus(chromedp.CSS(`[role="separator"][aria-label="Width of Source"]`)), chromedp.KeyEvent(kb.ArrowLeft),
		chromedp.KeyEvent(kb.ArrowLeft))
	waitFor(t, tab, "it is", width("Source")+` < `+strconv.Itoa(before-20))
	do(t, tab, "closing the budgets", chromedp.Click(chromedp.CSS(`button[aria-label="Close Budgets"]`)),
		chromedp.WaitNotPresent(chromedp.CSS(`section[aria-label="Budgets"]`)))
	waitFor(t, tab, "the findings take the whole width", width("Findings")+` > 1200`)
	do(t, tab, "closing the findings", chromedp.Click(chromedp.CSS(`button[aria-label="Close Findings"]`)),
		chromedp.WaitNotPresent(chromedp.CSS(`section[aria-label="Findings"]`)))
	waitFor(t, tab, "what was typed is still there", `document.querySelector('.cm-content').innerText.includes('Typed first')`)
	narrow := evaluate[int](t, tab, width("Source"))
	do(t, tab, "saving", chromedp.Click(`//button[text()="Save a version"]`))
	waitFor(t, tab, "it is saved", `/Version 2, saved/.test(document.body.innerText)`)
	do(t, tab, "loading it anew", chromedp.Navigate(s.Address+"/templates/harbour"),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label="Look"] iframe`)))
	waitFor(t, tab, "all is as it was left",
		`!document.querySelector('section[aria-label="Findings"]') && !document.querySelector('section[aria-label="Budgets"]') && Math.abs(`+
			width("Source")+` - `+strconv.Itoa(narrow)+`) < 3`)
	do(t, tab, "opening the budgets", chromedp.Click(`//button[text()="Panes"]`),
		chromedp.Click(`//li[@role="menuitemcheckbox" and contains(., "Budgets")]`))
	waitFor(t, tab, "they are there", `document.querySelector('ul[aria-label="Budgets"]') !== null`)
}
