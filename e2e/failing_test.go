package e2e

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"

	"missivum/e2e/rig"
)

// spoiled puts a server in front of a service that, while broken is set, answers paths that end in one of the given with
// other content.
func spoiled(t *testing.T, s *rig.Server, answers map[string]string) (address string, broken *atomic.Bool) {
	t.Helper()
	target, err := url.Parse(s.Address)
	if err != nil {
		t.Fatal(err)
	}
	broken = &atomic.Bool{}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }} // it does not say for whom it asks
	proxy.ModifyResponse = func(r *http.Response) error {
		for ending, content := range answers {
			if broken.Load() && strings.HasSuffix(r.Request.URL.Path, ending) {
				r.Body.Close()
				r.Body = io.NopCloser(bytes.NewReader([]byte(content)))
				r.ContentLength = int64(len(content))
				r.Header.Set("Content-Length", strconv.Itoa(len(content)))
			}
		}
		return nil
	}
	server := httptest.NewServer(proxy)
	t.Cleanup(server.Close)
	return server.URL, broken
}

// TestAPageThatFailsKeepsTheRest: the frame around it works, other pages too, and what was typed is there again.
func TestAPageThatFailsKeepsTheRest(t *testing.T) {
	address, broken := spoiled(t, demoService(t), map[string]string{"/api/v1/packages": `[null]`, "/harbour/look": `{}`})
	tab := browser(t)
	broken.Store(true)
	do(t, tab, "the packages", chromedp.Navigate(address+"/packages"))
	waitFor(t, tab, "the page says that it failed", `document.querySelector('main')?.innerText.includes('This page failed')`)
	do(t, tab, "another page", chromedp.Click(`//nav//a[text()="People"]`))
	waitFor(t, tab, "that is there", `document.querySelector('main')?.innerText.includes('maren.lind@brackwater.example')`)
	broken.Store(false)
	do(t, tab, "the workbench", chromedp.Navigate(address+"/templates/harbour"))
	waitFor(t, tab, "the source is there", `document.querySelector('.cm-content')?.innerText.includes('Brackwater Ferries: harbour')`)
	broken.Store(true)
	do(t, tab, "going into the source", chromedp.Click(chromedp.CSS(".cm-content")))
	evaluate[bool](t, tab, `(() => { const c = document.querySelector('.cm-content'); c.focus(); const s = `+
		`getSelection(); s.selectAllChildren(c); `+
		`s.collapseToStart(); return document.execCommand('insertText', false, '<p>kept through it all</p>') })()`)
	waitFor(t, tab, "the page fails", `document.querySelector('main')?.innerText.includes('This page failed')`)
	broken.Store(false)
	do(t, tab, "opening it again", chromedp.Click(`//button[text()="Open the page again"]`))
	waitFor(t, tab, "what was typed is there", `document.querySelector('.cm-content')?.innerText.includes('kept through it all')`)
}

// TestElementsNamedLikeMethods: the look goes on working, whatever the elements in it are called.
func TestElementsNamedLikeMethods(t *testing.T) {
	s := demoService(t)
	source := `<p>{{ cn }} <img name="querySelectorAll" src="x.png" alt="one" width="9" height="9"><img ` +
		`name="addEventListener" src="x.png" alt="two" ` +
		`width="9" height="9"><img name="body" src="x.png" alt="three" width="9" height="9"></p><p>Second line</p>`
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPut, s.Address+"/api/v1/templates/named",
		strings.NewReader(`{"source":`+strconv.Quote(source)+`,"settings":"sample: maren.lind@brackwater.example"}`))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(request)
	if err != nil || answer.StatusCode/100 != 2 {
		t.Fatalf("%v, %v", answer, err)
	}
	answer.Body.Close()
	tab := browser(t)
	do(t, tab, "the workbench", chromedp.Navigate(s.Address+"/templates/named"))
	waitFor(t, tab, "the look", `document.querySelector('iframe')?.srcdoc.includes('Maren Lind')`)
	waitFor(t, tab, "the elements",
		`Document.prototype.querySelectorAll.call(document.querySelector('iframe').contentDocument, 'p').length === 2`)
	evaluate[bool](t, tab, `Document.prototype.querySelectorAll.call(document.querySelector('iframe').contentDocument, 'p')[0]`+
		`.dispatchEvent(new MouseEvent('click', {bubbles: true}))`) // a press on the look leads to the source
	waitFor(t, tab, "what the cursor is in is outlined", `Array.from(Document.prototype.querySelectorAll.call(`+
		`document.querySelector('iframe').contentDocument, '[data-source-bytes]')).some(e => e.style.outline.includes('dotted'))`)
	if evaluate[bool](t, tab, `document.querySelector('main')?.innerText.includes('This page failed')`) {
		t.Error("the page failed")
	}
}
