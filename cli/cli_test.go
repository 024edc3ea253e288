package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	sarif "github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/source"
	"missivum/service"
	"missivum/service/access"
	"missivum/service/hosting"
)

// run runs a command line in the repository's root.
func run(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	t.Chdir(root)
	var o, e bytes.Buffer
	code = Run(context.Background(), args, strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

// root is the repository's root.
var root = func() string {
	dir, err := filepath.Abs("..")
	if err != nil {
		panic(err)
	}
	return dir
}()

const peopleFile = "demo/people.csv"

func TestExitCodes(t *testing.T) {
	for _, c := range []struct {
		name string
		args string
		code int
		say  string
	}{
		{"nothing breaks", "check demo/templates/harbour --people demo/people.csv --profiles demo/clients --date 2026-11-23", ExitFine, ""},
		{"nothing breaks without a directory", "check demo/templates/harbour --profiles demo/clients --date 2026-11-23", ExitFine, ""},
		{"a box that is far too small", "check demo/templates/harbour --client crm-box --profiles demo/clients", ExitFindings, ""},
		{"wrong profile", "check demo/templates/harbour --profiles demo/people.csv", ExitFailed, "people.csv: "},
		{"missing profiles", "check demo/templates/harbour --profiles none", ExitFailed, "no such file"},
		{"map as SARIF", "check demo/templates/harbour --map --format sarif", ExitUsage, "text or json"},
		{"fix what", "fix demo/templates/harbour", ExitUsage, "--all or the names"},
		{"fix except unknown", "fix demo/templates/harbour --all --except nonesuch", ExitUsage, "there is no check"},
		{"fix except nothing", "fix demo/templates/harbour language --except contrast", ExitUsage, "goes with --all"},
		{"sheet of nobody", "sheet demo/templates/harbour --people demo/people.csv --person maren.lynd@brackwater.example -o x.html",
			ExitUsage, "maren.lind@brackwater.example"},
		{"sheet in an unknown view", "sheet demo/templates/harbour --people demo/people.csv --view dusk -o x.html",
			ExitUsage, "light, dark or blocked"},
		{"a second opinion on others",
			"sheet demo/templates/harbour --people demo/people.csv --client gecko-desktop --second-opinion -o x.html",
			ExitUsage, "wordproc-desktop"},
		{"fix unknown", "fix demo/templates/harbour nonesuch", ExitUsage, "there is no check"},
		{"something breaks", "check demo/templates/regatta --people demo/people.csv", ExitFindings, ""},
		{"only what the client does counts", "check demo/templates/regatta --client text-reader", ExitFine, ""},
		{"no template", "check", ExitUsage, "check needs TEMPLATE"},
		{"unknown client", "check demo/templates/harbour --client nonesuch", ExitUsage, "there are append-rule"},
		{"unknown format", "check demo/templates/harbour --format xml", ExitUsage, "text, json or sarif"},
		{"unknown flag", "check demo/templates/harbour --peple x", ExitUsage, "unknown flag"},
		{"unknown command", "chek", ExitUsage, "unknown command"},
		{"wrong date", "check demo/templates/harbour --date tomorrow", ExitUsage, "2026-12-24"},
		{"missing template", "check demo/templates/none", ExitFailed, "no such file"},
		{"missing people", "check demo/templates/harbour --people none.csv", ExitFailed, "no such file"},
		{"nobody", "fill demo/templates/harbour --people demo/people.csv --person maren.lynd@brackwater.example", ExitUsage,
			"maren.lind@brackwater.example"},
		{"unknown form", "fill demo/templates/harbour --people demo/people.csv --person bo@brackwater.example --form odt",
			ExitUsage, "html, fragment, text, rtf, mime"},
		{"set without a folder",
			"fill demo/templates/harbour --people demo/people.csv --person bo@brackwater.example --form set", ExitUsage, "--output with the folder"},
		{"header of nothing", "fill demo/templates/harbour --people demo/people.csv --person bo@brackwater.example --keep-header",
			ExitUsage, "--form mime"},
		{"unknown form to pack", "pack demo/templates/harbour --people demo/people.csv --form odt -o x.zip", ExitUsage, "message, copy"},
		{"unknown variant", "fill demo/templates/harbour --people demo/people.csv --person bo@brackwater.example --variant x",
			ExitUsage, "new, reply"},
		{"person without people", "simulate demo/templates/harbour --client capped-webmail --person x@y.example", ExitUsage,
			"--person needs --people"},
		{"simulate without client", "simulate demo/templates/harbour", ExitUsage, "there are append-rule"},
		{"unknown stage", "simulate demo/templates/harbour --client capped-webmail --stage fly", ExitUsage, "install, send, receive or render"},
		{"unknown dialect", "block demo/templates/harbour --dialect x", ExitUsage, "brace, percent"},
		{"pack without output", "pack demo/templates/harbour --people demo/people.csv", ExitUsage, "--output"},
		{"unknown profile", "clients show x", ExitUsage, "there are"},
		{"not loopback", "serve --listen 0.0.0.0:0", ExitUsage, "loopback"},
		{"wrong mapping", "check demo/templates/harbour --people demo/people.csv --column mail", ExitUsage, "Adresse=street"},
		{"mapping to nothing", "check demo/templates/harbour --people demo/people.csv --column mail=", ExitFailed,
			"no column holds the mail address"},
		{"no service", "template list --server http://127.0.0.1:1", ExitFailed, "missivum serve starts one"},
		{"no address", "people list --server nonsense", ExitUsage, "--server"},
	} {
		t.Run(c.name, func(t *testing.T) {
			code, _, errs := run(t, strings.Fields(c.args)...)
			if code != c.code || !strings.Contains(errs, c.say) {
				t.Errorf("exit %d, want %d; said %q, want %q", code, c.code, errs, c.say)
			}
		})
	}
}

func TestCheckJSON(t *testing.T) {
	_, out, _ := run(t, "check", "demo/templates/regatta", "--people", peopleFile, "--format", "json", "--client", "wordproc-desktop")
	var r check.Report
	if err := json.Unmarshal([]byte(out), &r); err != nil {
		t.Fatal(err)
	}
	if len(r.Findings) < 10 || len(r.Budgets) != 1 || r.Budgets[0].Client != "wordproc-desktop" {
		t.Errorf("%d findings, budgets %+v", len(r.Findings), r.Budgets)
	}
	for _, member := range []string{`"check"`, `"severity"`, `"clients"`, `"line"`, `"column"`, `"message"`, `"remedy"`,
		`"measure"`, `"limit"`, `"value"`, `"person"`} {
		if !strings.Contains(out, member) {
			t.Errorf("%s is missing", member)
		}
	}
}

func TestCheckText(t *testing.T) {
	_, out, _ := run(t, "check", "demo/templates/regatta", "--people", peopleFile)
	for _, want := range []string{"degrades  rounded-corners  Rounded corners",
		"  demo/templates/regatta/template.html:4:12  wordproc-desktop\n     4 | .photo { border-radius: 50%; } /*",
		"\n       |          ^^^^^^^^^^^^^^^^^^\n", "Remedy: ", "Fix: ", "every client that shows markup", "41 of 80 people",
		"Safe in 2 of 13 clients"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing in\n%s", want, out)
		}
	}
}

func TestCheckSARIF(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.html")
	source := "<p style=\"margin: 0\">Häfen</p>\n<!-- accepted: small-text: the register asks for it -->\n<p " +
		"style=\"margin: 0; font-size: 7px; line-height: 9px\">x</p>\n"
	if err := os.WriteFile(file, []byte(source), 0o600); err != nil {
		t.Fatal(err)
	}
	_, out, _ := run(t, "check", file, "--people", peopleFile, "--format", "sarif")
	report, err := sarif.FromBytes([]byte(out))
	if err != nil {
		t.Fatal(err)
	}
	if err := report.Validate(); err != nil {
		t.Fatal(err)
	}
	suppressed, fixed := 0, 0
	for _, result := range report.Runs[0].Results {
		region := result.Locations[0].PhysicalLocation.Region
		switch *result.RuleID {
		case "small-text":
			suppressed += len(result.Suppressions)
		case "character-set":
			if *region.StartLine != 1 || *region.StartColumn != 23 || *region.EndColumn != 24 {
				t.Errorf("place: %d:%d to %d", *region.StartLine, *region.StartColumn, *region.EndColumn)
			}
		case "line-height-rule":
			for _, f := range result.Fixes {
				fixed += len(f.ArtifactChanges[0].Replacements)
			}
		}
	}
	if suppressed != 1 || fixed != 1 {
		t.Errorf("%d suppressed, %d replacements\n%s", suppressed, fixed, out)
	}
}

func TestFixWritesTheDifferenceAndKeepsTheOldSource(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.html")
	source := "<p style=\"margin: 0; line-height: 20px; box-shadow: 0 0 2px #000\">x</p><p style=\"margin: 0\">y</p>\n"
	if err := os.WriteFile(file, []byte(source), 0o600); err != nil {
		t.Fatal(err)
	}
	read := func(name string) string {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	code, out, errs := run(t, "fix", file, "--all", "--dry-run")
	if code != 0 || !strings.Contains(out, "\n-"+source) ||
		!strings.Contains(out, "20px; mso-line-height-rule: exactly; box-shadow") ||
		!strings.Contains(errs, "1 fix can be made") || read(file) != source {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	if code, out, errs = run(t, "fix", file, "--all"); code != 0 || read(file+".before") != source ||
		!strings.Contains(read(file), "exactly; box-shadow") || !strings.Contains(errs, "line-height-rule: Write the exact rule beside it.") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	if code, out, errs = run(t, "fix", file, "effect-property"); code != 0 || strings.Contains(read(file), "box-shadow") ||
		!strings.Contains(errs, "This costs something: ") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	if code, out, _ = run(t, "fix", file, "--all"); code != 0 || out != "" {
		t.Errorf("exit %d, fixed again: %s", code, out)
	}
}

// TestFixMakesPictures: the files that fixes make are written, those that they replace are kept apart, the settings
// name the new ones, and a second run finds nothing more to do.
func TestFixMakesPictures(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "regatta")
	if err := os.CopyFS(folder, os.DirFS(filepath.Join(root, "demo/templates/regatta"))); err != nil {
		t.Fatal(err)
	}
	read := func(name string) []byte {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	anchor, settings := read("pictures/anchor.png"), read("template.yaml")
	fix := []string{"fix", folder, "--people", peopleFile, "--date", "2026-11-23", "--all"}
	code, out, errs := run(t, append(fix, "--dry-run")...)
	if code != ExitFine || !strings.Contains(errs, "anchor.png would be made: ") ||
		!strings.Contains(out, "+    picture-1: {file: picture-1.gif") ||
		!bytes.Equal(read("pictures/anchor.png"), anchor) || !bytes.Equal(read("template.yaml"), settings) {
		t.Fatalf("exit %d\n%s%s", code, out, errs)
	}
	code, out, errs = run(t, append(fix, "--except", "picture-dark,picture-data")...)
	if code != ExitFine || !bytes.Equal(read("pictures/anchor.png"), anchor) || strings.Contains(out, "picture-1") ||
		!strings.Contains(errs, "pennant.png is made: ") || !strings.Contains(errs, "Upload it to https://pictures.brackwater.example/regatta/") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	if code, out, errs = run(t, fix...); code != ExitFine || bytes.Equal(read("pictures/anchor.png"), anchor) ||
		!bytes.Equal(read("pictures.before/anchor.png"), anchor) || !bytes.HasPrefix(read("pictures/picture-1.gif"), []byte("GIF8")) {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	if text := string(read("template.yaml")); !strings.Contains(text, "pennant: {file: pennant.png, alt: Pennant}") ||
		!strings.Contains(text, "picture-1: {file: picture-1.gif") {
		t.Error(text)
	}
	if code, out, errs = run(t, fix...); code != ExitFine || out != "" || !strings.Contains(errs, "0 fixes made in 0 rounds") {
		t.Errorf("fixed again: exit %d\n%s%s", code, out, errs)
	}
	if code, out, errs = run(t, "check", folder, "--people", peopleFile, "--client",
		"wordproc-desktop"); strings.Contains(out, "picture-format") || strings.Contains(out, "picture-dark") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
}

func TestSheetWritesAPage(t *testing.T) {
	file := filepath.Join(t.TempDir(), "sheet.html")
	sheet := []string{"sheet", "demo/templates/regatta", "--people", peopleFile, "--date", "2026-11-23", "--client",
		"capped-webmail", "--client", "text-reader", "-o", file}
	code, out, errs := run(t, append(sheet, "--person", "bo@brackwater.example", "--person",
		"salma.albahri@brackwater.example", "--view", "light,blocked")...)
	page, err := os.ReadFile(file)
	if err != nil || code != ExitFine || out != "" ||
		!strings.Contains(errs, "sheet.html: 2 people, 2 clients, 2 views. Safe in 1 of 2 clients; capped-webmail needs a decision.") {
		t.Fatalf("exit %d, %v\n%s", code, err, errs)
	}
	for _, want := range []string{"bo@brackwater.example", "salma.albahri@brackwater.example", "capped-webmail",
		"text-reader", "Survival map"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("the page lacks %s", want)
		}
	}
	if strings.Contains(string(page), "wordproc-desktop") || strings.Contains(string(page), "maren.lind@brackwater.example") {
		t.Error("the page shows more than was asked for")
	}
	if code, _, errs = run(t, sheet...); code != ExitFine || !strings.Contains(errs, "2 people") { // the sample and the hardest case
		t.Errorf("exit %d\n%s", code, errs)
	}
	if page, err = os.ReadFile(file); err != nil || !strings.Contains(string(page), "maren.lind@brackwater.example") {
		t.Errorf("the sample is not on it: %v", err)
	}
}

// TestFitForPrograms: the same figures as JSON.
func TestFitForPrograms(t *testing.T) {
	code, out, errs := run(t, "shrink", "demo/templates/harbour", "--people", peopleFile, "--client", "source-webmail",
		"--target", "2300", "--date", "2026-11-23", "--dry-run", "--format", "json")
	var r struct {
		Before, After, Target, Over, Still int
		Fits, Reached                      bool
		Steps, Proposals                   []struct {
			Title, Costs string
			Saved, Left  int
		}
	}
	if err := json.Unmarshal([]byte(out), &r); err != nil || code != ExitFindings {
		t.Fatalf("exit %d, %v\n%s%s", code, err, out, errs)
	}
	if r.Target != 2300 || r.Fits || !r.Reached || r.Before <= r.After || len(r.Steps) != 7 || len(r.Proposals) != 1 ||
		r.Steps[6].Left != r.After || r.Proposals[0].Costs == "" || r.Over < r.Still {
		t.Errorf("%+v", r)
	}
}

func TestShrinkWritesTheSetting(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "harbour")
	if err := os.CopyFS(folder, os.DirFS(filepath.Join(root, "demo/templates/harbour"))); err != nil {
		t.Fatal(err)
	}
	fit := []string{"shrink", folder, "--people", peopleFile, "--client", "source-webmail", "--date", "2026-11-23"}
	code, out, errs := run(t, append(fit, "--target", "2500", "--dry-run")...)
	if code != ExitFine || !strings.Contains(out, "It fits with the steps: ") || strings.Contains(errs, "compact") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	if code, out, errs = run(t, append(fit, "--target", "2500")...); code != ExitFine ||
		!strings.Contains(errs, "template.yaml now says compact: true.") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	settings, err := os.ReadFile(filepath.Join(folder, "template.yaml"))
	if err != nil || !strings.Contains(string(settings), "compact: true") || !strings.Contains(string(settings), "title: Harbour") {
		t.Errorf("%s, %v", settings, err)
	}
	if _, err := os.Stat(filepath.Join(folder, "template.yaml.before")); err != nil {
		t.Error(err)
	}
	if _, out, _ = run(t, "fill", folder, "--people", peopleFile, "--person", "bo@brackwater.example", "--form",
		"fragment"); strings.Contains(out, "; color") || !strings.Contains(out, ";color:") {
		t.Error("what goes out is not shorter")
	}
	for args, want := range map[string]int{"--target 900": ExitFindings, "--target 9000": ExitFine,
		"--format xml": ExitUsage, "--target -1": ExitUsage} {
		if code, out, errs = run(t, append(fit, strings.Fields(args)...)...); code != want {
			t.Errorf("%s: exit %d\n%s%s", args, code, out, errs)
		}
	}
	if code, _, errs = run(t, "shrink", folder, "--client", "wordproc-desktop"); code != ExitUsage || !strings.Contains(errs, "--target") {
		t.Errorf("exit %d: %s", code, errs)
	}
}

func TestSurvivalMap(t *testing.T) {
	code, out, errs := run(t, "check", "demo/templates/regatta", "--people", peopleFile, "--map")
	if code != 0 || !strings.Contains(out, "border-radius: 50%") || !strings.Contains(out, "A  append-rule") ||
		!strings.Contains(out, "regatta: Safe in") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	_, out, _ = run(t, "check", "demo/templates/regatta", "--people", peopleFile, "--map", "--format", "json", "--profiles", "demo/clients")
	var m check.Map
	if err := json.Unmarshal([]byte(out), &m); err != nil {
		t.Fatal(err)
	}
	if len(m.Clients) != 12 || len(m.Rows) < 20 || len(m.Rows[0].Cells) != 12 || m.Rows[0].Harm < m.Rows[len(m.Rows)-1].Harm {
		t.Errorf("%d clients, %d rows", len(m.Clients), len(m.Rows))
	}
	for _, row := range m.Rows {
		if row.What == "border-radius: 50%" && (row.Cells[11].State != check.GetsDropped || row.Harm < 13 ||
			row.Harm > 14) { // 44 % of the readers see square corners
			t.Errorf("%+v", row)
		}
	}
}

func TestFillAndSimulate(t *testing.T) {
	_, out, _ := run(t, "fill", "demo/templates/harbour", "--people", peopleFile, "--person",
		"MAREN.lind@brackwater.example", "--form", "text", "--date", "2026-11-23")
	if !strings.HasPrefix(out, "-- \n") || !strings.Contains(out, "Desk +44 1632 960544 | Mobile +44 7700 900544\n") {
		t.Errorf("text form: %s", out)
	}
	code, out, errs := run(t, "simulate", "demo/templates/regatta", "--client", "capped-webmail")
	if code != 0 || strings.Contains(out, "onclick") || !strings.Contains(out, "{{ cn }}") ||
		!strings.Contains(errs, "regatta/template.html:25:10  install: onclick is dropped") {
		t.Errorf("exit %d\n%s\n%s", code, out, errs)
	}
}

func TestATemplateWithMistakesIsRefusedWithAllOfThem(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.html")
	if err := os.WriteFile(file, []byte("<p>{{ nmae }}\n{{ mial }}</p>"), 0o600); err != nil {
		t.Fatal(err)
	}
	code, out, errs := run(t, "fill", file, "--people", peopleFile, "--person", "bo@brackwater.example")
	if code != ExitFindings || out != "" || !strings.Contains(errs, "line 1, column 7") ||
		!strings.Contains(errs, "line 2, column 4") || !strings.Contains(errs, "Did you mean mail?") {
		t.Errorf("exit %d, %q, %s", code, out, errs)
	}
}

func TestThreeFormatSet(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "signatures")
	fill := []string{"fill", "demo/templates/harbour", "--people", peopleFile, "--person", "bo@brackwater.example", "--form",
		"set", "--base", "Work", "-o", folder}
	if code, out, errs := run(t, fill...); code != ExitFine || strings.Count(out, "\n") != 5 {
		t.Fatalf("exit %d: %s%s", code, out, errs)
	}
	for _, name := range []string{"Work.html", "Work.rtf", "Work.txt", "Work-pictures/logo.png", "Work-pictures/banner.png"} {
		if _, err := os.Stat(filepath.Join(folder, name)); err != nil {
			t.Error(err)
		}
	}
	page, err := os.ReadFile(filepath.Join(folder, "Work.html"))
	if err != nil || strings.Count(string(page), `src="Work-pictures/`) != 2 {
		t.Errorf("the page's pictures: %s, %v", page, err)
	}
	if code, _, errs := run(t, fill...); code != ExitFindings || !strings.Contains(errs, "is there already") {
		t.Errorf("a second time: exit %d, %s", code, errs)
	}
	if code, _, errs := run(t, append(fill, "--replace", "--variant", "reply")...); code != ExitFine {
		t.Errorf("replacing: exit %d, %s", code, errs)
	}
}

func TestBodyOfAPartIsReplacedAndItsHeaderKept(t *testing.T) {
	file := filepath.Join(t.TempDir(), "signature.part")
	header := "Content-Type: text/html; charset=utf-8\nX-Kept: yes\nContent-Transfer-Encoding: 8bit\n\n"
	if err := os.WriteFile(file, []byte(header+"<p>old</p>"), 0o600); err != nil {
		t.Fatal(err)
	}
	fill := []string{"fill", "demo/templates/harbour", "--people", peopleFile, "--person", "bo@brackwater.example", "--form",
		"mime", "--keep-header", "-o", file}
	if code, _, errs := run(t, fill...); code != ExitFine {
		t.Fatalf("exit %d: %s", code, errs)
	}
	if data, err := os.ReadFile(file); err != nil || !strings.HasPrefix(string(data), header) ||
		!strings.Contains(string(data), ">Bo<") || strings.Contains(string(data), ">old<") {
		t.Errorf("%s, %v", data, err)
	}
	if err := os.WriteFile(file, []byte("no header"), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := run(t, fill...); code != ExitFindings || !strings.Contains(errs, "no header lines") {
		t.Errorf("without a header: exit %d, %s", code, errs)
	}
	if data, err := os.ReadFile(file); err != nil || string(data) != "no header" {
		t.Errorf("a refused file was changed: %s, %v", data, err)
	}
}

// Replacing a part keeps its header lines and its permissions, unless new header lines are asked for.
func TestReplacingAPartKeepsWhatIsThere(t *testing.T) {
	file := filepath.Join(t.TempDir(), "signature.part")
	header := "Content-Type: text/html; charset=us-ascii\nX-Kept: yes\n\n"
	if err := os.WriteFile(file, []byte(header+"<p>old</p>"), 0o400); err != nil {
		t.Fatal(err)
	}
	fill := []string{"fill", "demo/templates/harbour", "--people", peopleFile, "--person", "bo@brackwater.example", "--form",
		"mime", "--replace", "-o", file}
	for _, c := range []struct {
		flag   string
		prefix string
	}{{"--variant=new", header}, {"--new-header", "MIME-Version: 1.0\r\n"}} {
		if code, _, errs := run(t, append(fill, c.flag)...); code != ExitFine {
			t.Fatalf("%s: exit %d: %s", c.flag, code, errs)
		}
		info, err := os.Stat(file)
		if err != nil || info.Mode().Perm() != 0o400 {
			t.Errorf("%s: a read-only file became %v", c.flag, info.Mode())
		}
		if data, err := os.ReadFile(file); err != nil || !strings.HasPrefix(string(data), c.prefix) || !strings.Contains(string(data), "Bo<") {
			t.Errorf("%s: %.200s, %v", c.flag, data, err)
		}
	}
}

func TestFilesAppearWholeOrNotAtAll(t *testing.T) {
	folder := t.TempDir()
	target := filepath.Join(folder, "out.zip")
	code, out, errs := run(t, "pack", "demo/templates/harbour", "--people", peopleFile, "-o", target)
	if code != 0 || !strings.Contains(out, "80 people, 1\u00a0280 files") {
		t.Fatalf("exit %d: %s %s", code, out, errs)
	}
	before, err := os.ReadFile(target)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	var o, e bytes.Buffer
	if code := Run(ctx, []string{"pack", "demo/templates/harbour", "--people", peopleFile, "-o", target}, nil, &o,
		&e); code != ExitFailed || !strings.Contains(e.String(), "stopped after 0 people") {
		t.Errorf("an interrupted pack: exit %d, %s", code, &e)
	}
	after, err := os.ReadFile(target)
	if err != nil || !bytes.Equal(before, after) {
		t.Error("the interrupted pack touched the file that was there")
	}
	entries, err := os.ReadDir(folder)
	if err != nil || len(entries) != 1 {
		t.Errorf("left behind: %v", entries)
	}
}

func TestBadRowsAreTold(t *testing.T) {
	file := filepath.Join(t.TempDir(), "p.csv")
	if err := os.WriteFile(file, []byte("mail,cn\na@brackwater.example,A\nbroken\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	code, out, errs := run(t, "fill", "demo/templates/harbour", "--people", file, "--person", "a@brackwater.example", "--form", "fragment")
	if code != 0 || !strings.Contains(out, ">A<") ||
		!strings.Contains(errs, "p.csv: row 3: 1 of the 2 values that the header names; left out") {
		t.Errorf("exit %d, %s", code, errs)
	}
}

func TestBlockReportsTheLosses(t *testing.T) {
	code, out, errs := run(t, "block", "demo/templates/harbour", "--dialect", "percent", "--people", peopleFile)
	if code != 0 || !strings.Contains(out, "%full name%") || !strings.Contains(errs, "Shows for 41 people") ||
		!strings.Contains(errs, "13 losses") {
		t.Errorf("exit %d\n%s\n%s", code, out, errs)
	}
}

// runnable lists the commands at and below one that do something.
func runnable(c *cobra.Command) []*cobra.Command {
	var list []*cobra.Command
	for _, sub := range c.Commands() {
		list = append(list, runnable(sub)...)
	}
	if c.Runnable() {
		list = append(list, c)
	}
	return list
}

// TestEveryCommandHasAnExampleThatParses: the help shows one real example each.
func TestEveryCommandHasAnExampleThatParses(t *testing.T) {
	a := &app{in: strings.NewReader(""), out: &bytes.Buffer{}, err: &bytes.Buffer{}}
	top := a.root()
	seen := 0
	for _, c := range top.Commands() {
		for _, c := range runnable(c) {
			if c.Name() == "help" || c.Name() == "completion" || c.Parent().Name() == "completion" {
				continue
			}
			seen++
			if !strings.HasPrefix(strings.TrimSpace(c.Example), c.CommandPath()) {
				t.Errorf("%s has the example %q", c.CommandPath(), c.Example)
			}
			words := strings.Fields(strings.SplitN(strings.TrimSpace(c.Example), "\n", 2)[0])
			found, rest, err := top.Find(words[1:])
			if err != nil || found != c {
				t.Errorf("the example of %s leads elsewhere: %v", c.CommandPath(), err)
				continue
			}
			if err := found.ParseFlags(rest); err != nil {
				t.Errorf("the example of %s: %v", c.CommandPath(), err)
			}
		}
	}
	if seen < 13 {
		t.Errorf("%d commands seen", seen)
	}
}

func TestDemoPeople(t *testing.T) {
	code, out, _ := run(t, "demo", "people", "--count", "30", "--seed", "4")
	d, bad, err := source.ReadCSV(strings.NewReader(out), source.Mapping{})
	if code != 0 || err != nil || len(bad) > 0 || len(d.People) != 30 {
		t.Errorf("exit %d, %v, %v", code, err, bad)
	}
	if _, again, _ := run(t, "demo", "people", "--count", "30", "--seed", "4"); again != out {
		t.Error("one seed gave two directories")
	}
	if code, _, errs := run(t, "demo", "people", "--count", "0"); code != ExitUsage || !strings.Contains(errs, "from 1 to") {
		t.Errorf("exit %d, %s", code, errs)
	}
}

func TestClientsSchemaIsTheSchema(t *testing.T) {
	code, out, _ := run(t, "clients", "schema")
	var schema map[string]any
	if err := json.Unmarshal([]byte(out), &schema); code != 0 || err != nil || schema["title"] != "Client profile" {
		t.Errorf("exit %d, %v", code, err)
	}
}

func TestGrouped(t *testing.T) {
	for n, want := range map[int]string{0: "0", 999: "999", 1000: "1\u00a0000", 1234567: "1\u00a0234\u00a0567"} {
		if got := grouped(n); got != want {
			t.Errorf("%d: %q", n, got)
		}
	}
}

// TestFillReplacesNothingUnasked: a file that is there stays unless --replace says otherwise, and a read-only one stays
// read-only.
func TestFillReplacesNothingUnasked(t *testing.T) {
	file := write(t, "mine.html", "what was there")
	if err := os.Chmod(file, 0o444); err != nil {
		t.Fatal(err)
	}
	for _, form := range []string{"html", "mime", "fragment"} {
		fill := []string{"fill", "demo/templates/harbour", "--people", peopleFile, "--person", "bo@brackwater.example",
			"--form", form, "-o", file}
		if code, _, errs := run(t, fill...); code != ExitFindings || !strings.Contains(errs, "--replace") {
			t.Errorf("%s: exit %d: %s", form, code, errs)
		}
		if data, err := os.ReadFile(file); err != nil || string(data) != "what was there" {
			t.Errorf("%s: it was replaced: %.60s, %v", form, data, err)
		}
	}
	code, _, errs := run(t, "fill", "demo/templates/harbour", "--people", peopleFile, "--person", "bo@brackwater.example",
		"-o", file, "--replace")
	data, err := os.ReadFile(file)
	info, err2 := os.Stat(file)
	if code != ExitFine || err != nil || err2 != nil || !strings.Contains(string(data), "Brackwater") || info.Mode().Perm() != 0o444 {
		t.Errorf("exit %d: %s, %v %v", code, errs, err, info)
	}
}

// TestASecondDemoLeavesWhatWasChanged: texts and settings that somebody changed are not the demo's again.
func TestASecondDemoLeavesWhatWasChanged(t *testing.T) {
	folder, ctx := t.TempDir(), access.With(context.Background(), access.Loopback())
	demoIn := func(use func(s *service.Service)) {
		s, err := service.Open(ctx, service.Config{Data: folder, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler), Now: time.Now})
		if err != nil {
			t.Fatal(err)
		}
		if err := loadDemo(ctx, s); err != nil {
			t.Fatal(err)
		}
		use(s)
		stopped, stop := context.WithCancel(ctx)
		stop()
		if err := s.Serve(stopped); err != nil {
			t.Fatal(err)
		}
	}
	own := hosting.Settings{Address: "https://other.brackwater.example/", Volume: 5, Hours: 3}
	demoIn(func(s *service.Service) {
		if err := errors.Join(s.Hosting.PutSettings(ctx, own),
			s.Pictures.PutAlts(ctx, "ferry", map[string]string{"en": "Our ferry"})); err != nil {
			t.Fatal(err)
		}
	})
	demoIn(func(s *service.Service) {
		settings, err := s.Hosting.Settings(ctx)
		ferry, err2 := s.Pictures.Get(ctx, "ferry")
		if err != nil || err2 != nil || settings != own || ferry.Alts["en"] != "Our ferry" || len(ferry.Versions) != 1 {
			t.Errorf("%+v, %+v, %v, %v", settings, ferry.Alts, err, err2)
		}
	})
}
