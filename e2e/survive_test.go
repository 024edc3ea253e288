package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

const source = `document.querySelector('.cm-content')?.innerText ?? ''`

// TestMendingInTheWorkbench: a mend's difference is shown first, taken, and undone again.
func TestMendingInTheWorkbench(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening regatta", chromedp.Navigate(s.Address+"/templates/regatta"))
	waitFor(t, tab, "findings can be mended", `document.querySelectorAll('ol[aria-label="Findings"] button[aria-label^="Mend line"]').length > 15`)
	do(t, tab, "mending one", chromedp.Click(chromedp.CSS(`button[aria-label="Mend line 7, language"]`)))
	waitFor(t, tab, "the difference is shown", `document.querySelectorAll('[role="dialog"] .cm-changedLine').length > 0 && /Line 7, language/.test(document.querySelector('[role="dialog"]').innerText)`)
	do(t, tab, "taking it", chromedp.Click(`//button[text()="Take the mended source"]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "the source is mended", `(`+source+`).includes('lang="en"')`)
	waitFor(t, tab, "the finding is gone", `document.querySelectorAll('ol[aria-label="Findings"] > li').length === 39`)
	evaluate[bool](t, tab, `(() => { const c = document.querySelector('.cm-content'); c.focus(); c.dispatchEvent(new KeyboardEvent('keydown', { key: 'z', ctrlKey: true, bubbles: true, cancelable: true })); return true })()`)
	waitFor(t, tab, "it is undone", `!(`+source+`).includes('lang="en"')`)

	do(t, tab, "mending all that is safe", chromedp.Click(`//button[text()="Mend 21"]`))
	waitFor(t, tab, "all mends are listed", `document.querySelectorAll('ul[aria-label="Mends"] li').length === 21 && /19 findings are left then/.test(document.querySelector('[role="dialog"]').innerText)`)
	do(t, tab, "taking them", chromedp.Click(`//button[text()="Take the mended source"]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "no safe mend is left", `document.querySelectorAll('ol[aria-label="Findings"] > li').length === 19 && ![...document.querySelectorAll('button')].some(b => /^Mend \d/.test(b.textContent))`)
}

func TestTheSurvivalMapLeadsToPlaceAndClient(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening regatta", chromedp.Navigate(s.Address+"/templates/regatta"), chromedp.Click(`//button[@role="tab" and text()="Survival"]`))
	waitFor(t, tab, "the map is there", `document.querySelectorAll('table[aria-label="Survival map"] tbody tr').length > 20 && /Safe in 2 of 12 clients/.test(document.body.innerText)`)
	do(t, tab, "pressing a cell", chromedp.Click(chromedp.CSS(`button[aria-label="border-radius: 50% in wordproc-desktop: lost"]`)))
	waitFor(t, tab, "the look is that client's", `document.querySelector('iframe[title^="As wordproc-desktop"]') !== null`)
	waitFor(t, tab, "the editor is at the line", `document.querySelector('.cm-activeLine')?.textContent.includes('border-radius')`)
	do(t, tab, "turning dark mode on", chromedp.Click(`//button[text()="Dark mode"]`))
	waitFor(t, tab, "the ground is dark", `document.querySelector('iframe').srcdoc.includes('background:#1e1e1e')`)
	do(t, tab, "blocking pictures", chromedp.Click(`//button[text()="Pictures blocked"]`))
	waitFor(t, tab, "no picture is shown", `!document.querySelector('iframe').srcdoc.includes('<img') && document.querySelector('iframe').srcdoc.includes('Brackwater Ferries</span>')`)
}

func TestOwnClientsInTheConsole(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening the clients", chromedp.Navigate(s.Address+"/clients"))
	waitFor(t, tab, "labels and shares are there", `/Our desktops in the ports[\s\S]*44 %/.test(document.body.innerText) && document.body.innerText.includes('add up to 100 %')`)
	do(t, tab, "reading one", chromedp.Click(`//button[text()="Our desktops in the ports"]`), chromedp.WaitVisible(`//*[@role="dialog"]//td[text()="round corners"]`), chromedp.Click(`//button[text()="Close"]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	do(t, tab, "editing one", chromedp.Click(chromedp.CSS(`button[aria-label="Edit crm-box"]`)), chromedp.WaitVisible(chromedp.CSS(`[role="dialog"] textarea`)))
	waitFor(t, tab, "its document is there", `document.querySelector('[role="dialog"] textarea').value.includes('off: true')`)
	do(t, tab, "removing what is our own", chromedp.Click(`//button[text()="Remove what is our own"]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
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
	waitFor(t, tab, "every client of both people stands there", `document.querySelectorAll('table.sheet > tbody > tr').length === 26 && document.querySelectorAll('.ringed').length > 10`)
	waitFor(t, tab, "drawings lie in trees of their own, with what breaks ringed", `[...document.querySelectorAll('.drawing > div')].some(d => d.shadowRoot && [...d.shadowRoot.querySelectorAll('a')].some(a => getComputedStyle(a).outlineStyle === 'dashed'))`)
	waitFor(t, tab, "the hosted pictures are drawn", `[...document.querySelectorAll('.drawing > div')].some(d => [...(d.shadowRoot?.querySelectorAll('img') ?? [])].some(i => i.naturalWidth > 0))`)
	if code, _, errs = command(t, append([]string{"sheet", "demo/templates/harbour", "--client", "wordproc-desktop", "--second-opinion", "-o", picture}, people...)...); code != 0 {
		t.Fatal(errs)
	}
	if data, err = os.ReadFile(picture); err != nil || !strings.HasPrefix(string(data), "\x89PNG") || len(data) < 20_000 {
		t.Errorf("%d bytes, %v", len(data), err)
	}
	for _, wrong := range []string{"sheet demo/templates/harbour -o x.pdf", "sheet demo/templates/harbour -o x.png", "sheet demo/templates/harbour --people demo/people.csv --view dusk -o x.png"} {
		if code, _, _ := command(t, strings.Fields(wrong)...); code != 2 {
			t.Errorf("%s: exit %d", wrong, code)
		}
	}
}
