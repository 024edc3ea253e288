package docs

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// oldNames are words that the program does not use any more, each with the word of the glossary.
var oldNames = []struct{ old, now string }{
	{`men[d](s|ed|ing)?`, "fix"},
	{`burs[t](s|ing)?`, "over the limit"},
	{`lighten(s|ing)?`, "compress"},
	{`tid(y|ies|ied|ying)`, "clean"},
	{`travel(s|led|ling)?`, "delivery"},
	{`lift(s|ed|ing)?`, "recognise, new --signature"},
	{`adopt(s|ed|ing)?`, "new --page"},
	{`hops?`, "stage"},
	{`for a [h]and`, "must be fixed by hand"},
	{`(is|are|was|were) told`, "reported"},
	{`put it [t]o`, "upload it to"},
	{`stands [a]lready`, "repeats"},
	{`missivum (start|fit|export)`, "new, shrink, block"},
	{`core/(men[d]|fit|tidy|travel|adopt|lift)`, "fix, shrink, block, clean, delivery, page, recognise"},
	{`roomof\w*|roomdrawing|roomrequest|roomshare`, "space"},
	{`--form part`, "--form mime"},
	{`(?-i:[A-Za-z]+[a-z](Men[d]|Burs[t]|Lighten|Tidy|Travel|Lift|Lifted|Adopt|Hop|Room))`, "the new word in the middle of a name too"},
}

// TestNoOldNameIsLeft reads every file of the repository but those that hold foreign markup, stored data of older
// versions, or this list.
func TestNoOldNameIsLeft(t *testing.T) {
	var all []*regexp.Regexp
	for _, n := range oldNames {
		all = append(all, regexp.MustCompile(`(?i)(^|[^\w-])`+n.old+`($|[^\w])`))
	}
	list := exec.Command("git", "ls-files", "-z")
	list.Dir = ".."
	out, err := list.Output()
	if err != nil {
		t.Skipf("not a git checkout: %v", err)
	}
	read := 0
	for _, file := range strings.Split(strings.TrimRight(string(out), "\x00"), "\x00") {
		switch {
		case strings.Contains(file, "testdata/"), strings.HasPrefix(file, "docs/words_test"), strings.HasSuffix(file, "go.sum"),
			strings.HasSuffix(file, "package-lock.json"), strings.HasSuffix(file, "00005_plain_words.sql"),
			strings.HasSuffix(file, "store_test.go"): // the last two hold data as it was
			continue
		}
		data, err := os.ReadFile(filepath.Join("..", file))
		if err != nil || bytes.IndexByte(data, 0) >= 0 {
			continue // removed but not committed, or a picture
		}
		read++
		for number, line := range strings.Split(string(data), "\n") {
			for i, old := range all {
				if old.MatchString(line) {
					t.Errorf("%s:%d uses an old name; now it is %q:\n%s", file, number+1, oldNames[i].now, strings.TrimSpace(line))
				}
			}
		}
	}
	if read < 200 {
		t.Errorf("only %d files were read", read)
	}
}

// TestTheGlossaryHasTheTerms: what the commands and pages are called stands in the glossary.
func TestTheGlossaryHasTheTerms(t *testing.T) {
	data, err := os.ReadFile("glossary.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, term := range []string{"fix", "shrink", "block, dialect", "clean", "compress", "delivery", "stage", "budget",
		"finding", "background"} {
		if !regexp.MustCompile(`(?m)^\|[^|]*\b` + regexp.QuoteMeta(term) + `\b[^|]*\|`).Match(data) {
			t.Errorf("the glossary lacks %q", term)
		}
	}
}
