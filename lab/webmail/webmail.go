// Package webmail stands in for webmails that cannot run here: a signature box that takes rendered content only and holds 10,000
// characters, counted after the paste and after its own rewriting when it is saved; separate choices for new messages and replies;
// a compose page with quotations below; and messages that leave as a file. It sends nothing anywhere. Start with New.
package webmail

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"mime/quotedprintable"
	"net/http"
	"strings"
	"sync"
	"time"
	"unicode/utf16"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

//go:embed settings.html
var settingsPage []byte

//go:embed compose.html
var composePage []byte

// Most is how many characters (UTF-16 units) the box holds.
const Most = 10_000

// Settings are what somebody saved.
type Settings struct {
	Signature string `json:"signature"` // as it is stored, rewritten
	New       bool   `json:"new"`       // new messages get it
	Reply     bool   `json:"reply"`     // replies and forwards get it
}

// Webmail is one person's webmail.
type Webmail struct {
	Account string // mail address
	mux     *http.ServeMux

	mu       sync.Mutex
	settings Settings
	drafts   map[string]string // bodies by their numbers
	sent     [][]byte
}

// New makes a webmail of an account.
func New(account string) *Webmail {
	w := &Webmail{Account: account, mux: http.NewServeMux(), drafts: map[string]string{}}
	page := func(body []byte) http.HandlerFunc {
		return func(out http.ResponseWriter, _ *http.Request) {
			out.Header().Set("Content-Type", "text/html; charset=utf-8")
			out.Write(bytes.ReplaceAll(body, []byte("!account!"), []byte(html.EscapeString(w.Account)))) // the other end may have gone
		}
	}
	w.mux.HandleFunc("GET /settings", page(settingsPage))
	w.mux.HandleFunc("GET /compose", page(composePage))
	w.mux.HandleFunc("GET /state", w.state)
	w.mux.HandleFunc("POST /settings", w.save)
	w.mux.HandleFunc("POST /send", w.send)
	w.mux.HandleFunc("POST /draft", w.keep)
	w.mux.HandleFunc("GET /draft", w.draft)
	return w
}

func (w *Webmail) ServeHTTP(out http.ResponseWriter, r *http.Request) { w.mux.ServeHTTP(out, r) }

// Settings are those that are saved.
func (w *Webmail) Settings() Settings {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.settings
}

// Sent are the messages that were sent, the oldest first.
func (w *Webmail) Sent() [][]byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([][]byte(nil), w.sent...)
}

func (w *Webmail) state(out http.ResponseWriter, _ *http.Request) {
	out.Header().Set("Content-Type", "application/json")
	json.NewEncoder(out).Encode(w.Settings()) // the other end may have gone
}

// read reads a request of at most 4 MB, or answers.
func read(out http.ResponseWriter, r *http.Request, into any) bool {
	data, err := io.ReadAll(http.MaxBytesReader(out, r.Body, 4<<20))
	if err == nil {
		err = json.Unmarshal(data, into)
	}
	if err != nil {
		http.Error(out, err.Error(), http.StatusBadRequest)
	}
	return err == nil
}

// save rewrites and counts, and complains only now.
func (w *Webmail) save(out http.ResponseWriter, r *http.Request) {
	var in Settings
	if !read(out, r, &in) {
		return
	}
	in.Signature = Rewritten(in.Signature)
	if n := len(utf16.Encode([]rune(in.Signature))); n > Most {
		http.Error(out, fmt.Sprintf("The signature is too long: %d of %d characters.", n, Most), http.StatusUnprocessableEntity)
		return
	}
	w.mu.Lock()
	w.settings = in
	w.mu.Unlock()
	out.WriteHeader(http.StatusNoContent)
}

// keep stores a draft, rewritten as signatures are, and without what pages note in elements.
func (w *Webmail) keep(out http.ResponseWriter, r *http.Request) {
	var in Outgoing
	if !read(out, r, &in) {
		return
	}
	w.mu.Lock()
	w.drafts[in.Of] = Rewritten(in.Body)
	w.mu.Unlock()
	out.WriteHeader(http.StatusNoContent)
}

// draft gives a draft as it is stored.
func (w *Webmail) draft(out http.ResponseWriter, r *http.Request) {
	w.mu.Lock()
	defer w.mu.Unlock()
	out.Header().Set("Content-Type", "text/plain; charset=utf-8")
	io.WriteString(out, w.drafts[r.URL.Query().Get("of")]) // the other end may have gone
}

// gone are elements that are taken away with what is in them.
var gone = map[atom.Atom]bool{atom.Script: true, atom.Style: true, atom.Iframe: true, atom.Form: true, atom.Object: true, atom.Svg: true}

// Rewritten is markup as the webmail stores it: names, classes and notes of pages (data-) gone, active content gone,
// links without a colour of their own blue.
func Rewritten(source string) string {
	nodes, err := html.ParseFragment(strings.NewReader(source), &html.Node{Type: html.ElementNode, DataAtom: atom.Body, Data: "body"})
	if err != nil {
		return ""
	}
	var b strings.Builder
	for _, n := range nodes {
		if rewrite(n) {
			html.Render(&b, n) // a builder takes everything
		}
	}
	return b.String()
}

// rewrite changes a node; false for one that goes.
func rewrite(n *html.Node) bool {
	if n.Type == html.CommentNode || gone[n.DataAtom] {
		return false
	}
	kept := n.Attr[:0]
	coloured := false
	for _, a := range n.Attr {
		if a.Key == "class" || a.Key == "id" || strings.HasPrefix(a.Key, "data-") || strings.HasPrefix(a.Key, "on") || a.Key == "src" &&
			strings.HasPrefix(a.Val, "data:") {
			continue
		}
		coloured = coloured || a.Key == "style" && strings.Contains(a.Val, "color")
		kept = append(kept, a)
	}
	if n.Attr = kept; n.DataAtom == atom.A && !coloured {
		n.Attr = append(n.Attr, html.Attribute{Key: "style", Val: "color: #1155cc"})
	}
	for c := n.FirstChild; c != nil; {
		next := c.NextSibling
		if !rewrite(c) {
			n.RemoveChild(c)
		}
		c = next
	}
	return true
}

// Outgoing is a message that is sent.
type Outgoing struct {
	To      string `json:"to"`
	Subject string `json:"subject"`
	From    string `json:"from"`
	Body    string `json:"body"` // markup
	Reply   bool   `json:"reply"`
	Of      string `json:"of"` // number of the message on its page
}

// send keeps a message as it would leave.
func (w *Webmail) send(out http.ResponseWriter, r *http.Request) {
	var in Outgoing
	if !read(out, r, &in) {
		return
	}
	oneLine := strings.NewReplacer("\r", "", "\n", "").Replace
	var b bytes.Buffer
	fmt.Fprintf(
		&b,
		"From: %s\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\nMIME-Version: 1.0\r\n",
		oneLine(in.From),
		oneLine(in.To),
		oneLine(in.Subject),
		time.Now().Format(time.RFC1123Z),
	)
	if in.Reply {
		b.WriteString("In-Reply-To: <before@harbour.example>\r\n")
	}
	b.WriteString("Content-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n")
	body := quotedprintable.NewWriter(&b)
	io.WriteString(body, in.Body) // a buffer takes everything
	body.Close()
	w.mu.Lock()
	w.sent = append(w.sent, b.Bytes())
	w.mu.Unlock()
	out.WriteHeader(http.StatusNoContent)
}
