// Command screenshots draws docs/screenshots from the demo organisation: every page of the console in
// headless Chromium, and every main command in a terminal window under Xvfb.
package main

import (
	"context"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"missivum/e2e/rig"
)

const width, height = 1280, 800

func main() {
	log.SetFlags(0)
	only := ""
	if len(os.Args) > 1 {
		only = os.Args[1]
	}
	if err := run(context.Background(), only); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, only string) error {
	root, err := rig.Root()
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "screenshots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	binary, err := rig.Build(folder)
	if err != nil {
		return err
	}
	out := filepath.Join(root, "docs", "screenshots")
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	if only == "" || only == "pages" {
		if err := pages(ctx, binary, root, out); err != nil {
			return err
		}
	}
	if only == "" || only == "desks" {
		if err := desks(ctx, binary, root, folder, out); err != nil {
			return err
		}
	}
	if only == "" || only == "files" {
		if err := files(ctx, binary, root, folder, out); err != nil {
			return err
		}
	}
	if only == "" || only == "commands" {
		return commands(binary, root, folder, out)
	}
	return nil
}

// files draws what the program writes for others to open: the contact sheet in Chromium, and the rich
// text form in LibreOffice.
func files(ctx context.Context, binary, root, folder, out string) error {
	fill := func(form, person, file string) error {
		c := exec.Command(binary, "fill", "demo/templates/harbour", "--people", "demo/people.csv", "--person", person+
			"@brackwater.example", "--form", form, "-o", file)
		c.Dir = root
		if said, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, said)
		}
		return nil
	}
	if err := contactSheet(ctx, binary, root, folder, out); err != nil {
		return err
	}
	var drawn []string
	for _, who := range []string{"maren.lind", "salma.albahri", "kamome.minato", "maximiliane-theodora.hohenwatt-oberstrandlaeufer"} {
		file := filepath.Join(folder, who+".rtf")
		if err := fill("rtf", who, file); err != nil {
			return err
		}
		office := exec.Command("soffice", "-env:UserInstallation=file://"+folder+"/profile", "--headless", "--convert-to",
			"pdf", "--outdir", folder, file)
		if said, err := office.CombinedOutput(); err != nil {
			return fmt.Errorf("LibreOffice: %w: %s", err, said)
		}
		page := filepath.Join(folder, who)
		if said, err := exec.Command("pdftoppm", "-r", "96", "-png", "-singlefile", page+".pdf", page).CombinedOutput(); err != nil {
			return fmt.Errorf("pdftoppm: %w: %s", err, said)
		}
		drawn = append(drawn, page+".png")
	}
	montage := exec.Command("montage", append(drawn, "-trim", "+repage", "-tile", "2x2", "-geometry", "620x380>+10+10",
		"-background", "white", filepath.Join(out, "rich-text.png"))...)
	if said, err := montage.CombinedOutput(); err != nil {
		return fmt.Errorf("montage: %w: %s", err, said)
	}
	log.Print("rich-text")
	return nil
}

// drawn draws the first screen of a page in a file.
func drawn(ctx context.Context, page, name string) error {
	tab, stop := rig.Browser(ctx, width, height)
	defer stop()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(width, height), chromedp.Navigate("file://"+page)); err != nil {
		return err
	}
	picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	log.Print(strings.TrimSuffix(filepath.Base(name), ".png"))
	return os.WriteFile(name, picture, 0o644)
}

// contactSheet draws the first screen of regatta's contact sheet.
func contactSheet(ctx context.Context, binary, root, folder, out string) error {
	page := filepath.Join(folder, "sheet.html")
	c := exec.Command(binary, "sheet", "demo/templates/regatta", "--people", "demo/people.csv", "--profiles", "demo/clients",
		"--second-opinion",
		"--client", "wordproc-desktop", "--client", "inverting-phone", "--client", "text-reader", "-o", page)
	c.Dir = root
	if said, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, said)
	}
	return drawn(ctx, page, filepath.Join(out, "contact-sheet.png"))
}

// shot is one picture of a page.
type shot struct {
	name  string
	path  string
	steps []step
}

type step = chromedp.Action[chromedp.Void]

func pages(ctx context.Context, binary, root, out string) error {
	server, err := rig.Start(binary, "demo", "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer server.Stop()
	tab, stop := rig.Browser(ctx, width, height)
	defer stop()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(width, height)); err != nil {
		return err
	}
	tab, cancel := context.WithTimeout(tab, 4*time.Minute)
	defer cancel()
	if err := take(tab, server.Address, out, append(shots(), mailShots(root)...)); err != nil {
		return err
	}
	return record(tab, binary, out)
}

// record is the record of a service with accounts, some of whom did something.
func record(tab context.Context, binary, out string) error {
	server, err := rig.Start(binary, "demo", "--accounts", "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer server.Stop()
	signIn := func(name string) step {
		return chromedp.Steps(chromedp.Navigate(server.Address+"/sign-in"), chromedp.WaitVisible(`//form[@aria-label="Sign in"]`),
			chromedp.SendKeys(chromedp.CSS(`input[autocomplete=username]`), name+"@brackwater.example"),
			chromedp.SendKeys(chromedp.CSS(`input[type=password]`), "quay lantern tide bell"),
			chromedp.Click(chromedp.CSS(`button[type=submit]`)), chromedp.WaitVisible(chromedp.CSS(`header nav`)))
	}
	saved := `fetch('/api/v1/templates/crew', { method: 'PUT', body: JSON.stringify({ source: '<p>{{ cn }}</p>', note: 'For the crews' }) })`
	list := []shot{{"record", "/settings/record", []step{
		chromedp.WaitVisible(`//table[@aria-label="Record"]//td`), chromedp.Click(`//button[text()="Check that it is whole"]`),
		chromedp.WaitVisible(chromedp.CSS(`pre`)),
	}}}
	if err := chromedp.Do(tab, signIn("maren"), script(`(`+saved+`, true)`), chromedp.Sleep(time.Second),
		chromedp.Click(`//button[text()="Maren Lind"]`), chromedp.Click(`//li[text()="Sign out"]`), signIn("ines")); err != nil {
		return fmt.Errorf("signing in: %w", err)
	}
	return take(tab, server.Address, out, list)
}

// take takes pictures of pages, one after the other.
func take(tab context.Context, address, out string, list []shot) error {
	for _, s := range list {
		steps := append([]step{chromedp.Navigate(address + s.path)}, s.steps...)
		if err := chromedp.Do(tab, append(steps, chromedp.Sleep(900*time.Millisecond))...); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := os.WriteFile(filepath.Join(out, s.name+".png"), picture, 0o644); err != nil {
			return err
		}
		log.Print(s.name)
	}
	return nil
}

func shots() []shot {
	visible := func(selector chromedp.CSS) step { return chromedp.WaitVisible(selector) }
	return []shot{
		{"workbench-findings", "/templates/regatta", []step{
			visible(`ol[aria-label="Findings"]`), rig.Choose("Shown as", "wordproc-desktop"), visible(`iframe[title^="As wordproc"]`),
		}},
		{"workbench-survival", "/templates/regatta", []step{
			chromedp.Click(`//button[@role="tab" and text()="Survival"]`), visible(`table[aria-label="Survival map"] td`),
			rig.Choose("Shown as", "webview-desktop"),
			chromedp.Click(`//button[text()="Dark mode"]`),
			script(`(document.querySelector('table[aria-label="Survival map"]').closest('section, div[class]').scrollIntoView(), true)`),
		}},
		{"clients", "/clients", []step{visible(`table[aria-label="Clients"]`)}},
		{"new-template", "/templates", []step{
			chromedp.Click(`//button[text()="New template"]`), chromedp.SendKeys(`//*[@role="dialog"]//input`, "recognised"),
			chromedp.Click(`//button[text()="Bring a page or a signature"]`), visible(`[role="dialog"] textarea`),
			script(pasteSignature),
			chromedp.SendKeys(`//*[@role="dialog"]//input[@role="combobox"]`, "maren"),
			chromedp.Click(`//li[@role="option" and contains(., "Maren Lind")]`),
			visible(`ul[aria-label="Values found"]`),
			script(`(document.querySelector('[role="dialog"] .MuiDialogContent-root').scrollTop = 1000, true)`),
		}},
		{"people", "/people", []step{visible(`.MuiDataGrid-row`)}},
		{"packages", "/packages", []step{
			visible(`ol[aria-label="Losses"]`),
			chromedp.Click(`//button[contains(., "Make a package")]`),
			chromedp.WaitVisible(`//a[contains(., "Download")]`),
		}},
		{"picture-slice", "/pictures/crossings?part=slice", []step{visible(`ol[aria-label="Pieces"]`), visible(`[aria-label="Design"] img`)}},
	}
}

// mailShots are the pages about mail.
func mailShots(root string) []shot {
	return []shot{
		{"mail-rules", "/mail/rules", []step{
			chromedp.WaitVisible(chromedp.CSS(`[aria-label="Sample messages"] td`)),
			chromedp.Click(chromedp.CSS(`[aria-label="Edit rule 3"]`)), chromedp.WaitVisible(chromedp.CSS(`[aria-label="State of internal-short"]`)),
			script(`(document.querySelector('main').scrollTo(0, 390), true)`),
		}},
		{"mail-try", "/mail/try", []step{
			chromedp.WaitVisible(chromedp.CSS(`[aria-label="Choose a message"]`)),
			chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`), []string{filepath.Join(root, "demo/messages/reply.eml")}),
			chromedp.WaitVisible(chromedp.CSS(`iframe[title="The message after"]`)),
			script(`(document.querySelector('main').scrollTo(0, 640), true)`),
		}},
	}
}

// script runs a script in the page.
func script(text string) step {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool](text)(ctx, t)
		return chromedp.Void{}, err
	}
}

// pasteSignature pastes a signature that was copied from a mail.
const pasteSignature = `(() => {
	const data = new DataTransfer()
	data.setData('text/html', '<div class="x"><b>MAREN LIND</b><br>Head of Timetables, Harbour Office</div><p>Mobile ` +
	`+44.7700.900544 | <a href="mailto:maren.lind@brackwater.example">Mail</a></p><p>Brackwater Ferries, 1 Tide Quay</p>')
	document.querySelector('[role="dialog"] textarea').dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, ` +
	`bubbles: true, cancelable: true }))
	return true
})()`

// terminalShots are the commands to draw, as they are typed in the repository's root.
var terminalShots = []struct{ name, command string }{
	{"command-check", "missivum check demo/templates/regatta --people demo/people.csv --client wordproc-desktop " +
		"--client capped-webmail | head -40"},
	{"command-shrink-and-block",
		"missivum shrink demo/templates/harbour --client source-webmail --target 2300 --people demo/people.csv " +
			"--dry-run; missivum block demo/templates/harbour --dialect percent --people demo/people.csv -o /tmp/block.html 2>&1 | head -14"},
	{"command-desk", "missivum kit key -o ~/brackwater; missivum kit demo/templates/harbour --people demo/people.csv --person " +
		"maren.lind@brackwater.example --client wordproc-desktop --sign-with ~/brackwater.key -o ~/kit | head -9; " +
		"missivum desk look --places demo/places; missivum desk place ~/kit --trust ~/brackwater.pub --places demo/places; " +
		"echo x >> ~/.config/tiller/signatures/harbour-new.htm; missivum desk verify --places demo/places | grep -v as.it.was; " +
		"missivum desk undo --places demo/places --take-over"},
}

// commands draws each command in an xterm under Xvfb.
func commands(binary, root, folder, out string) error {
	const display = ":97"
	x := exec.Command("Xvfb", display, "-screen", "0", fmt.Sprintf("%dx%dx24", width, height), "-nolisten", "tcp")
	if err := x.Start(); err != nil {
		return fmt.Errorf("starting Xvfb: %w", err)
	}
	defer x.Process.Kill()
	defer os.RemoveAll("/tmp/maren")
	time.Sleep(time.Second)
	for _, s := range terminalShots {
		script := filepath.Join(folder, s.name+".sh")
		lines := "clear\n"
		for _, command := range strings.Split(s.command, "; ") {
			lines += fmt.Sprintf("printf '\\033[1m$ %%s\\033[0m\\n' %q\n%s\n", command, command)
		}
		if err := os.WriteFile(script, []byte(lines+"sleep 30\n"), 0o700); err != nil {
			return err
		}
		term := exec.Command("xterm", "-geometry", "158x48+0+0", "-fa", "DejaVu Sans Mono", "-fs", "10", "-bg", "#fffdf8",
			"-fg", "#26211d", "-b", "8", "-e", "sh", script)
		term.Dir = root
		home := "/tmp/maren"
		if err := os.RemoveAll(home); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Join(home, ".config", "tiller", "signatures"), 0o755); err != nil {
			return err
		}
		term.Env = append(os.Environ(), "HOME="+home, "XDG_STATE_HOME="+home+"/state", "DISPLAY="+display, "PATH="+folder+":"+os.Getenv("PATH"))
		if err := term.Start(); err != nil {
			return fmt.Errorf("starting xterm: %w", err)
		}
		time.Sleep(2500 * time.Millisecond)
		grab := exec.Command("import", "-window", "root", filepath.Join(out, s.name+".png"))
		grab.Env = append(os.Environ(), "DISPLAY="+display)
		output, err := grab.CombinedOutput()
		term.Process.Kill()
		term.Wait()
		if err != nil {
			return fmt.Errorf("%s: %w: %s", s.name, err, output)
		}
		log.Print(s.name)
	}
	return nil
}
