package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"missivum/e2e/rig"
)

// TestTheTour does the whole job once in the console, as in the README's tour.
func TestTheTour(t *testing.T) {
	s := demoService(t)
	tab := browser(t)

	do(t, tab, "opening the address", chromedp.Navigate(s.Address))
	waitFor(t, tab, "the list shows the states",
		`/Harbour[\s\S]*Nothing breaks[\s\S]*Regatta[\s\S]*11 findings break/.test(document.body.innerText)`)

	// source beside look, filled for a person
	do(t, tab, "opening harbour", chromedp.Click(`//a[text()="Harbour"]`))
	unfold(t, tab)
	waitFor(t, tab, "the source is there", `document.querySelector('.cm-content')?.innerText.includes('Brackwater Ferries: harbour')`)
	waitFor(t, tab, "the look is filled for the sample person", `document.querySelector('iframe')?.srcdoc.includes('Maren Lind')`)
	if sandbox := evaluate[string](t, tab, `document.querySelector('iframe').getAttribute('sandbox')`); sandbox != "allow-same-origin" {
		t.Errorf("the look's frame may do %q", sandbox)
	}
	waitFor(t, tab, "budgets name the worst person",
		`/capped-webmail[\s\S]*maximiliane-theodora/.test(document.querySelector('section[aria-label="Budgets"]')?.innerText ?? '')`)
	do(t, tab, "opening the people", chromedp.Click(`//input[@role="combobox"]`))
	waitFor(t, tab, "hard cases stand first, with the reason",
		`(text => ['longest job title', 'from right to left', 'not certainly one number', 'fewest blanks'].every(r => `+
			`text.indexOf(r) > text.indexOf('Hard cases') && text.indexOf(r) < `+
			`text.indexOf('Everybody')))(document.querySelector('[role="listbox"]')?.innerText ?? '')`)
	do(t, tab, "picking a person", chromedp.Click(`//input[@role="combobox"]`), chromedp.SendKeys(`//input[@role="combobox"]`, "kamome"),
		chromedp.Click(`//li[@role="option" and contains(., "湊")]`))
	waitFor(t, tab, "the look changes to that person", `document.querySelector('iframe').srcdoc.includes('湊 かもめ')`)
	do(t, tab, "picking the reply", rig.Choose("Variant", "reply"))
	waitFor(t, tab, "the look is the reply", `!document.querySelector('iframe').srcdoc.includes('banner.png')`)
	do(t, tab, "picking the text reader", rig.Choose("Shown as", "text-reader"))
	waitFor(t, tab, "the look is text", `document.querySelector('iframe').srcdoc.includes('<pre>-- \n湊 かもめ')`)

	// findings lead to their lines
	do(t, tab, "opening regatta", chromedp.Navigate(s.Address+"/templates/regatta"))
	waitFor(t, tab, "findings are listed", `document.querySelectorAll('ol[aria-label="Findings"] > li').length === 40`)
	waitFor(t, tab, "findings are marked in the source", `document.querySelectorAll('.cm-lintRange').length > 3`)
	do(t, tab, "pressing a finding", chromedp.Click(`//ol[@aria-label="Findings"]//button[contains(., "onclick")]`))
	waitFor(t, tab, "the editor is at the line", `document.querySelector('.cm-activeLine')?.textContent.includes('onclick=')`)
	do(t, tab, "showing it as a client does", rig.Choose("Shown as", "capped-webmail"))
	waitFor(t, tab, "the look is that client's",
		`document.querySelector('iframe[title^="As capped-webmail"]') && !document.querySelector('iframe').srcdoc.includes('onclick')`)
	do(t, tab, "reading what happened", chromedp.Click(`//button[@role="tab" and text()="Journey"]`))
	waitFor(t, tab, "the journey is reported", `document.querySelector('ol[aria-label="Journey"]')?.innerText.includes('onclick is dropped')`)

	// packages
	do(t, tab, "going to packages", chromedp.Click(`//nav//a[text()="Packages"]`),
		chromedp.Click(`//button[contains(., "Make a package")]`), chromedp.WaitVisible(`//a[contains(., "Download")]`))
	link := evaluate[string](t, tab, `[...document.querySelectorAll('a')].find(a => a.textContent === 'Download').href`)
	answer, err := http.Get(link)
	if err != nil || answer.StatusCode != 200 || answer.Header.Get("Content-Type") != "application/zip" || answer.ContentLength < 100_000 {
		t.Errorf("the download: %v, %v", answer, err)
	}
	answer.Body.Close()
	waitFor(t, tab, "the block is there", `document.querySelector('pre[aria-label="Block"]')?.innerText.includes('{cn}')`)
	do(t, tab, "another dialect", rig.Choose("Dialect", "Example: percent"))
	waitFor(t, tab, "the block changes", `document.querySelector('pre[aria-label="Block"]')?.innerText.includes('%full name%')`)
	waitFor(t, tab, "losses name people",
		`/mobile[\s\S]*Shows for 41 people/.test(document.querySelector('ol[aria-label="Losses"]').innerText)`)
}

func TestEditingCheckingAndSaving(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"))
	waitFor(t, tab, "nothing breaks", `document.body.innerText.includes('1 finding, 0 break')`)
	do(t, tab, "going into the source", chromedp.Click(chromedp.CSS(".cm-content")))
	evaluate[bool](t, tab, `(() => { const c = document.querySelector('.cm-content'); c.focus(); const s = `+
		`getSelection(); s.selectAllChildren(c); s.collapseToStart(); return document.execCommand('insertText', false, '<p>{{ nmae }}</p>') })()`)
	waitFor(t, tab, "the mistake is reported with what was meant",
		`/no field .nmae[\s\S]*name|no field .nmae/.test(document.querySelector('ol[aria-label="Findings"]')?.innerText ?? '')`)
	waitFor(t, tab, "the page says that it is not saved", `document.body.innerText.includes('with changes not saved')`)

	do(t, tab, "leaving", chromedp.Click(`//nav//a[text()="People"]`), chromedp.WaitVisible(`//button[text()="Stay"]`),
		chromedp.Click(`//button[text()="Stay"]`))
	waitFor(t, tab, "the work is still there", `document.querySelector('.cm-content')?.innerText.includes('nmae')`)

	evaluate[bool](t, tab, `(() => { const c = document.querySelector('.cm-content'); c.focus(); const s = `+
		`getSelection(); s.selectAllChildren(c); s.collapseToStart(); return document.execCommand('insertText', `+
		`false, '<p>Not in the first</p>') })()`)
	waitFor(t, tab, "the mistake has moved", `/line 1, column 30/.test(document.body.innerText)`)
	do(t, tab, "saving by key", chromedp.Focus(chromedp.CSS(".cm-content")))
	evaluate[bool](t, tab, `(() => { const c = document.querySelector('.cm-content'); c.dispatchEvent(new `+
		`KeyboardEvent('keydown', { key: 's', ctrlKey: true, bubbles: true, cancelable: true })); return true })()`)
	waitFor(t, tab, "a version is saved", `/Version 2, saved/.test(document.body.innerText)`)
	do(t, tab, "looking at the versions", chromedp.Click(`//button[text()="Versions"]`),
		chromedp.Click(`(//ol[@aria-label="Versions"]//button)[last()]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "the first version is in the editor, not saved",
		`/Version 2, with changes not saved/.test(document.body.innerText) && `+
			`!document.querySelector('.cm-content').innerText.includes('Not in the first')`)
	var versions []struct{ Number int }
	getJSON(t, s.Address+"/api/v1/templates/harbour/versions", &versions)
	if len(versions) != 2 {
		t.Errorf("versions: %+v", versions)
	}
}

func TestImportingPeople(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	file := filepath.Join(t.TempDir(), "crew.csv")
	if err := os.WriteFile(file,
		[]byte("E-Mail;cn;mobile\nbo@brackwater.example;Bo;07700 900321\nnew.crew@brackwater.example;New Crew;\nbroken\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	do(t, tab, "opening people", chromedp.Navigate(s.Address+"/people"), chromedp.WaitVisible(chromedp.CSS(".MuiDataGrid-row")))
	waitFor(t, tab, "blanks are visible", `document.querySelectorAll('.MuiDataGrid-cell.blank').length > 3`)
	do(t, tab, "choosing a file", chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`), []string{file}))
	waitFor(t, tab, "what would change is shown",
		`/1 new, 1 changed, 0 gone, 0 unchanged/.test(document.querySelector('[role="dialog"]')?.innerText ?? '')`)
	waitFor(t, tab, "guesses and bad rows are reported",
		`/guessed[\s\S]*row 4: 1 of the 3 values/.test(document.querySelector('[role="dialog"]').innerText)`)
	do(t, tab, "importing", chromedp.Click(`//button[contains(., "Import 2 changes")]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	waitFor(t, tab, "the directory has grown", `document.body.innerText.includes('81 people in the directory')`)
	do(t, tab, "searching", chromedp.SendKeys(chromedp.CSS(`input[type="search"]`), "900321"))
	waitFor(t, tab, "one is found",
		`/1 person of 81 found/.test(document.body.innerText) && document.querySelectorAll('.MuiDataGrid-row').length === 1`)
}

// TestPagesAreAccessible: axe finds nothing serious on any page, light and dark.
func TestPagesAreAccessible(t *testing.T) {
	s := demoService(t)
	for _, args := range [][]string{{"make", "Winter", "--as", "Maren"}, {"approve", "1", "--as", "Bo", "--says", "seen"},
		{"send", "1", "--wave", "crew:50", "--wave", "everybody"}, {"make", "Spring", "--as", "Maren"}} {
		if code, out, errs := command(t, append(append([]string{"release"}, args...), "--server="+s.Address)...); code != 0 {
			t.Fatalf("release %q: %s%s", args, out, errs)
		}
	}
	report(t, s.Address)
	linkFor(t, s, maren)
	for _, scheme := range []string{"Light", "Dark"} {
		t.Run(scheme, func(t *testing.T) {
			t.Parallel()
			tab := browser(t)
			for i, page := range []struct{ path, ready, press, opened string }{
				{"/templates", `table[aria-label="Templates"]`, "", ""},
				{"/templates", `table[aria-label="Templates"]`, "New template", `[aria-label="Starter"] input`},
				{"/templates/regatta", `ol[aria-label="Findings"]`, "", ""},
				{"/templates/regatta", `ol[aria-label="Findings"]`, "Clean", `.cm-mergeView`},
				{"/templates/regatta", `ol[aria-label="Findings"]`, "Insert", `[aria-label="What can be inserted"]`},
				{"/templates/regatta", `ol[aria-label="Findings"]`, "Survival", `table[aria-label="Survival map"] td`},
				{"/templates/regatta", `ol[aria-label="Findings"]`, "Fix 22", `.cm-mergeView`},
				{"/templates/regatta", `ol[aria-label="Findings"]`, "Space", `[aria-label="What takes up the space"] button`},
				{"/templates/regatta", `section[aria-label="Budgets"] summary`, "Shrink", `table[aria-label="Steps that keep the look"]`},
				{"/templates/regatta", `ol[aria-label="Findings"]`, "Sheet", `[role="dialog"] [aria-label="Views"]`},
				{"/clients", `table[aria-label="Clients"]`, "", ""},
				{"/clients", `table[aria-label="Clients"]`, "New profile", `[role="dialog"] textarea`},
				{"/people", `.MuiDataGrid-row`, "", ""},
				{"/people/who/maren.lind@brackwater.example", `table[aria-label="Values"]`, "", ""},
				{"/people/faults", `.MuiDataGrid-row`, "", ""},
				{"/people/audiences", `[aria-label="Audiences"]`, "New audience", `section[aria-label="Audience"] input`},
				{"/people/assignments", `table[aria-label="Assignments"] td`, "", ""},
				{"/people/sources", `table[aria-label="Sources"] td`, "New source", `[role="dialog"] textarea`},
				{"/people/runs", `table[aria-label="Runs"] td`, "", ""},
				{"/people/runs/1", `[aria-label="Changes"] li`, "", ""},
				{"/people/invitations", `table[aria-label="Personal links"] td`, "Add a detail",
					`section[aria-label="What the page offers"] [aria-label="Remove detail 1"]`},
				{"/packages", `ol[aria-label="Losses"]`, "", ""},
				{"/settings/organisation", `section[aria-label="Texts"] button`, "", ""},
				{"/settings/accounts", `[role="alert"]`, "New account", `[role="dialog"] input`},
				{"/settings/keys", `form[aria-label="New key"] input`, "", ""},
				{"/settings/record", `table[aria-label="Record"] td`, "", ""},
				{"/releases", `table[aria-label="Releases"] td`, "Make a release", `form[aria-label="New release"] input`},
				{"/releases/1", `table[aria-label="Waves"] td`, "", ""},
				{"/releases/2", `table[aria-label="What the checks found"] td`, "", ""},
				{"/desks", `table[aria-label="Desks"] td`, "", ""},
				{"/mail/rules", `table[aria-label="Sample messages"] td`, "Edit", `[aria-label^="State of"]`},
				{"/mail/try", `main [role="combobox"]`, "", ""},
				{"/mail/rehearsal", `main [role="group"]`, "", ""},
				{"/mail/messages", `table[aria-label="Messages"] td`, "Details", `table dl`},
				{"/pictures", `table[aria-label="Pictures"]`, "Add a picture", `[role="dialog"]`},
				{"/pictures?part=delivery", `table[aria-label="Ways"]`, "", ""},
				{"/pictures?part=photos", `main input`, "", ""},
				{"/pictures?part=codes", `main input`, "", ""},
				{"/pictures/ferry", `ol[aria-label="Findings"]`, "", ""},
				{"/pictures/anchor?part=fit", `[aria-label="What came of it"]`, "", ""},
				{"/pictures/anchor?part=compress", `table[aria-label="Tried"]`, "", ""},
				{"/pictures/anchor?part=dark", `[aria-label="What came of it"]`, "", ""},
				{"/pictures/crossings?part=slice", `ol[aria-label="Pieces"]`, "", ""},
				{"/pictures/ferry?part=versions", `table[aria-label="Versions"]`, "", ""},
			} {
				if scheme == "Dark" && i%rig.Soak(5, 1) != 0 { // the colours are those of one theme
					continue
				}
				path := page.path + " " + page.press
				do(t, tab, path, chromedp.Navigate(s.Address+page.path), chromedp.WaitVisible(chromedp.CSS(page.ready)))
				if evaluate[bool](t, tab, fmt.Sprintf(`[...document.querySelectorAll('header button')].some(b => b.textContent === %q)`, scheme)) {
					do(t, tab, scheme, chromedp.Click(fmt.Sprintf(`//header//button[text()=%q]`, scheme)))
				}
				if page.press != "" {
					evaluate[bool](t, tab, `(document.querySelectorAll('details').forEach(d => { d.open = true }), true)`)
					do(t, tab, path, chromedp.Click(fmt.Sprintf(`//button[text()=%q]`, page.press)),
						chromedp.WaitVisible(chromedp.CSS(page.opened)), chromedp.Sleep(400*time.Millisecond))
				}
				accessible(t, tab, path+", "+scheme)
			}
		})
	}
}

// axe is the program that checks pages for what keeps people out.
var axe = sync.OnceValues(func() (string, error) {
	root, err := rig.Root()
	if err != nil {
		return "", err
	}
	text, err := os.ReadFile(filepath.Join(root, "console", "node_modules", "axe-core", "axe.min.js"))
	return string(text), err
})

// accessible wants axe to find nothing serious on the page that is open.
func accessible(t *testing.T, tab context.Context, page string) {
	t.Helper()
	program, err := axe()
	if err != nil {
		t.Fatalf("make console installs axe: %v", err)
	}
	if _, err := chromedp.Run(tab, chromedp.Evaluate[any](program+";null")); err != nil && !strings.Contains(err.Error(), "null") {
		t.Fatal(err)
	}
	found, err := chromedp.Run(tab, chromedp.Evaluate[string](
		`axe.run(document, { iframes: false }).then(r => r.violations.filter(v => v.impact === `+
			`'serious' || v.impact === 'critical').map(v => v.id + ': ' + v.nodes.map(n => n.target + ' `+
			`' + n.failureSummary).join(' | ')).join('\n'))`,
		chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	if found != "" {
		t.Errorf("%s:\n%s", page, found)
	}
}

// report tells a service of one message, as a gateway does.
func report(t *testing.T, server string) {
	t.Helper()
	body := fmt.Sprintf(`{"gateway":"mx1","version":"1","bundle":"b","ways":["milter"],"started":%q,"waiting":0,"dropped":0,`+
		`"counts":{"outcomes":{"held":1},"failed":1,"unsure":0,"took":[1],"tookSum":1},"records":[{"key":"k","time":%[1]q,`+
		`"messageId":"<a@b.example>","sender":"maren.lind@brackwater.example","recipients":["robin@quayside.example"],"outcome":"held",`+
		`"failed":true,"says":"It cannot be changed.","rule":"one","steps":[{"rule":"one","state":"on","says":"It puts in."}]}]}`,
		time.Now().UTC().Format(time.RFC3339))
	answer, err := http.Post(server+"/api/v1/gateways/report", "application/json", strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusNoContent {
		t.Fatalf("the report: %s", answer.Status)
	}
}

func TestANewTemplateBeginsWithoutFaults(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening templates", chromedp.Navigate(s.Address+"/templates"), chromedp.Click(`//button[text()="New template"]`))
	do(t, tab, "a name that cannot be", chromedp.SendKeys(`//*[@role="dialog"]//input`, "Not Good"),
		chromedp.Click(`//button[text()="Make the template"]`))
	waitFor(t, tab, "the reason is reported",
		`/lower-case letters, digits and hyphens/.test(document.querySelector('[role="alert"]')?.innerText ?? '')`)
	do(t, tab, "a right name", chromedp.SendKeys(`//*[@role="dialog"]//input`, "\b\b\b\b\b\b\b\bnight-crew"),
		chromedp.Click(`//button[text()="Make the template"]`))
	waitFor(t, tab, "the workbench opens", `location.pathname === '/templates/night-crew' && document.querySelector('.cm-content')`)
	waitFor(t, tab, "nothing breaks in it", `/1 finding, 0 break/.test(document.body.innerText)`)
}

func TestTheEditorCanBeLeftByKey(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening harbour", chromedp.Navigate(s.Address+"/templates/harbour"),
		chromedp.WaitVisible(chromedp.CSS(".cm-content")), chromedp.Focus(chromedp.CSS(".cm-content")))
	do(t, tab, "pressing Esc and Tab", chromedp.KeyEvent(kb.Escape), chromedp.KeyEvent(kb.Tab))
	waitFor(t, tab, "the focus is elsewhere", `!document.activeElement.closest('.cm-content')`)
}
