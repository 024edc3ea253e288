package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"missivum/core/source"
	"missivum/demo/people"
	"missivum/e2e/rig"
)

// TestThePagesAboutPeople goes the way of an administrator: faults, a person, an audience, the assignments, a source, its runs.
func TestThePagesAboutPeople(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening faults", chromedp.Navigate(s.Address+"/people/faults"), chromedp.WaitVisible(chromedp.CSS(".MuiDataGrid-row")))
	do(t, tab, "one kind", chromedp.Click(`//*[@role="group"]//*[contains(text(), "Not certainly one")]`))
	waitFor(t, tab, "only that kind is listed, and why it matters", `document.body.innerText.includes('cannot be pressed to dial') && `+
		`document.querySelectorAll('.MuiDataGrid-row').length === 1`)
	do(t, tab, "the person", chromedp.Click(`//a[contains(text(), "pelle.kranvik")]`))
	waitFor(t, tab, "what they get is rendered", `/variant new, by line 3/.test(document.body.innerText) && `+
		`document.querySelector('iframe')?.srcdoc.includes('Pelle Kranvik')`)
	do(t, tab, "the reply", chromedp.Click(`//button[text()="reply"]`))
	waitFor(t, tab, "the reply is another line", `/variant reply, by line 2/.test(document.body.innerText)`)
	do(t, tab, "keeping a value", chromedp.SendKeys(`//label[text()="Field"]/following-sibling::*//input`, "pronouns"),
		chromedp.SendKeys(`//label[text()="Value"]/following-sibling::*//input`, "he"), chromedp.Click(`//button[text()="Keep here"]`))
	waitFor(t, tab, "it is kept", `/pronouns\s+he\s+kept here/.test(document.body.innerText)`)

	do(t, tab, "opening audiences", chromedp.Navigate(s.Address+"/people/audiences"), chromedp.Click(`//span[text()="The northern ports"]`))
	waitFor(t, tab, "its people are listed with the reason", `/50 people in it[\s\S]*l is Brackwater/.test(document.body.innerText)`)
	do(t, tab, "a new one", chromedp.Click(`//button[text()="New audience"]`), rig.Choose("Field", "title"), rig.Choose("Asks", "contains"),
		chromedp.SendKeys(`//label[text()="Value"]/following-sibling::*//input`, "Head of"))
	waitFor(t, tab, "it is looked at while it is written",
		`/[1-9]\d* (person|people) in it[\s\S]*title contains Head of/.test(document.body.innerText)`)
	do(t, tab, "storing it", chromedp.SendKeys(`//label[text()="Name"]/following-sibling::*//input`, "heads"),
		chromedp.Click(`//button[text()="Save"]`))
	waitFor(t, tab, "it is listed", `/heads/.test(document.querySelector('[aria-label="Audiences"]').innerText)`)

	do(t, tab, "opening assignments", chromedp.Navigate(s.Address+"/people/assignments"), chromedp.Click(`//button[text()="Add a line"]`))
	waitFor(t, tab, "the new line can never decide nothing", `document.querySelectorAll('[aria-label="Assignments"] tbody tr').length === 4`)
	do(t, tab, "for the heads", chromedp.Click(chromedp.CSS(`[aria-label="Audience of line 3"]`)), chromedp.Click(`//li[text()="heads"]`),
		chromedp.WaitNotPresent(`//li[@role="option"]`))
	waitFor(t, tab, "who gets nothing is said", `/get no signature in the situation external/.test(document.body.innerText)`)
	do(t, tab, "a template", chromedp.Click(chromedp.CSS(`[aria-label="Template of line 3"]`)), chromedp.Click(`//li[text()="Regatta"]`),
		chromedp.WaitNotPresent(`//li[@role="option"]`))
	waitFor(t, tab, "nobody is without", `!/get no signature/.test(document.body.innerText)`)
	do(t, tab, "storing them", chromedp.Click(`//button[text()="Save"]`))
	waitFor(t, tab, "they are stored", `!document.body.innerText.includes('Not saved')`)
	var report struct{ People int }
	getJSON(t, s.Address+"/api/v1/assignments", &report)
	if report.People != 80 {
		t.Errorf("%+v", report)
	}

	folder := t.TempDir()
	file := filepath.Join(folder, "export.csv")
	old := time.Now().Add(-time.Hour)
	if err := os.WriteFile(file, []byte("mail,cn,room\nbo@brackwater.example,Bo,7\nnew@brackwater.example,New,8\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(file, old, old); err != nil {
		t.Fatal(err)
	}
	do(t, tab, "opening sources", chromedp.Navigate(s.Address+"/people/sources"), chromedp.Click(`//button[text()="New source"]`),
		rig.Choose("Kind", "Folder to which files are exported"),
		chromedp.SendKeys(`//label[text()="Name"]/following-sibling::*//input`, "hr"),
		chromedp.SendKeys(`//label[text()="Folder"]/following-sibling::*//input`, folder), chromedp.Click(`//button[text()="Save"]`))
	do(t, tab, "looking at it", chromedp.Click(`//button[text()="Show five people" and not(@disabled)]`))
	waitFor(t, tab, "five people are shown", `/2 of 2 people[\s\S]*roomNumber/.test(document.querySelector('[role="dialog"]').innerText)`)
	do(t, tab, "asking it", chromedp.Click(`//button[text()="Close"]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)),
		chromedp.Click(chromedp.CSS(`button[aria-label="Ask hr now"]`)))
	waitFor(t, tab, "it is well", `/hr\s+folder\s+10\s+2\s+well/.test(document.body.innerText)`)
	do(t, tab, "its run", chromedp.Click(`//nav//a[text()="Runs"]`), chromedp.Click(`//a[starts-with(text(), "sync")]`))
	waitFor(t, tab, "what it did", `/1 new, 1 joined/.test(document.body.innerText) && /new@brackwater.example/.test(document.body.innerText)`)
	do(t, tab, "undoing it", chromedp.Click(`//button[text()="Undo this run"]`))
	waitFor(t, tab, "it is undone by another run", `/takes run \d+ back/.test(document.body.innerText)`)
	var all struct{ All int }
	getJSON(t, s.Address+"/api/v1/people", &all)
	if all.All != 80 {
		t.Errorf("%d people", all.All)
	}
}

// TestManyPeopleOnThePages: a directory of 100,000 (in the short form 8,000) is paged, searched and assigned on the pages.
func TestManyPeopleOnThePages(t *testing.T) {
	n := rig.Soak(5_000, 100_000)
	s := demoService(t)
	file := filepath.Join(t.TempDir(), "many.csv")
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := source.WriteCSV(f, people.Generate(n, 5)); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	if code, out, errs := command(t, "people", "import", file, "--confirm", "--server="+s.Address); code != 0 ||
		!strings.Contains(out, "is applied") {
		t.Fatalf("exit %d\n%s%s", code, out, errs)
	}
	var page struct{ All int }
	getJSON(t, s.Address+"/api/v1/people?limit=1", &page)
	tab := browser(t)
	do(t, tab, "opening people", chromedp.Navigate(s.Address+"/people"), chromedp.WaitVisible(chromedp.CSS(".MuiDataGrid-row")))
	waitFor(t, tab, "all are counted",
		fmt.Sprintf(`document.body.innerText.replace(/\u00a0/g, '').includes('%d people in the directory')`, page.All))
	do(t, tab, "searching", chromedp.SendKeys(chromedp.CSS(`input[type="search"]`), "bo@brackwater"))
	waitFor(t, tab, "one is found", `/1 person of/.test(document.body.innerText)`)
	for path, ready := range map[string]string{
		"/people/faults":      `document.querySelectorAll('.MuiDataGrid-row').length > 10`,
		"/people/audiences":   `/Crew with a call sign/.test(document.body.innerText)`,
		"/people/assignments": fmt.Sprintf(`document.body.innerText.replace(/\u00a0/g, '').includes('%d')`, page.All),
		"/people/runs":        `/applied/.test(document.body.innerText)`,
		"/people/runs/2":      `document.querySelectorAll('[aria-label="Changes"] li').length === 100`,
		"/people/sources":     `/files imported by hand/.test(document.body.innerText)`,
	} {
		do(t, tab, path, chromedp.Navigate(s.Address+path))
		waitFor(t, tab, path, ready)
	}
}
