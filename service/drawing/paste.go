package drawing

import (
	"context"
	"missivum/core/passive"
	"missivum/core/problem"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/chromedp/chromedp"
)

// pressControl is one of the modifiers of a key press (Chrome DevTools Protocol, Input.dispatchKeyEvent).
const pressControl = 2

// pasteHead lets the copied page run and load nothing.
const pasteHead = `<!doctype html><meta charset="utf-8"><meta http-equiv="Content-Security-Policy" ` +
	`content="default-src 'none'; style-src 'unsafe-inline'">`

// Pasted is what stands in an editable element after markup was shown in the installed Chromium, selected whole, copied,
// and pasted there, by key presses. It starts a browser of its own.
func Pasted(ctx context.Context, markup string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	list, err := PastedEach(ctx, []string{markup})
	if err != nil {
		return "", err
	}
	return list[0], nil
}

// PastedEach is Pasted for many, one after the other in one browser.
func PastedEach(ctx context.Context, markups []string) ([]string, error) {
	path, err := Chromium()
	if err != nil {
		return nil, err
	}
	folder, err := newFolder()
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	tab, stop := start(ctx, path, folder, 900)
	defer stop()
	var list []string
	for _, markup := range markups {
		pasted, err := PastedIn(tab, folder, markup)
		if err != nil {
			return nil, err
		}
		list = append(list, pasted)
	}
	return list, nil
}

// PastedIn is Pasted in a browser's tab that is open; the two pages are written into the folder.
func PastedIn(tab context.Context, folder, markup string) (string, error) {
	if passive.Leads(markup) { // all else is held by the policy
		return "", problem.New(problem.Refused, "The markup leads the browser elsewhere (meta http-equiv=refresh); it is not drawn.")
	}
	from, to := filepath.Join(folder, "from.html"), filepath.Join(folder, "to.html")
	for file, body := range map[string]string{from: "<body>" + markup,
		to: `<body><div id="box" contenteditable style="min-height: 100px"></div>`} {
		if err := writeFor(file, pasteHead+body); err != nil {
			return "", err
		}
	}
	err := chromedp.Do(tab,
		chromedp.Navigate("file://"+from), chromedp.KeyEvent("a", chromedp.KeyModifiers(pressControl)),
		chromedp.KeyEvent("c", chromedp.KeyModifiers(pressControl)),
		chromedp.Navigate("file://"+to), chromedp.Focus(chromedp.CSS("#box")), chromedp.KeyEvent("v", chromedp.KeyModifiers(pressControl)))
	if err != nil {
		return "", err
	}
	pasted, err := chromedp.Run(tab, chromedp.Evaluate[string](`document.getElementById('box').innerHTML`))
	// what is relative becomes an address of the page that it was copied from; which one that will be nobody knows
	pasted = standIn.ReplaceAllString(pasted, "")
	return strings.NewReplacer("file://"+from, "", "file://"+folder+"/", "").Replace(pasted), err
}

// standIn is what Chromium draws, and copies, for a picture that the policy of the page keeps from being loaded.
var standIn = regexp.MustCompile(`<span id="alttext-container">.*?<span id="alttext">[^<]*</span></span>`)
