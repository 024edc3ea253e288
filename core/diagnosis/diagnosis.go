// Package diagnosis says why the signature, or its pictures, are missing or wrong in a message that arrived: what the message
// itself and its header lines show, each with the step that helps. What can only be supposed is said as a supposition. Start
// with Diagnose.
package diagnosis

import (
	"bytes"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"missivum/core/markup"
	"missivum/core/message"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/proof"
	"missivum/core/style"
)

// ID names a cause.
type ID string

// The causes.
const (
	NoText        ID = "no-text"             // there is no text that could carry a signature
	Closed        ID = "closed"              // signed or encrypted
	Automatic     ID = "automatic"           // an automatic answer, a bounce, a receipt
	OwnContainer  ID = "rich-text-container" // the host's own container for rich text
	Converted     ID = "converted-to-text"   // something on the way made plain text of it
	Composed      ID = "composed-as-text"    // it left as plain text
	Missing       ID = "signature-missing"
	Another       ID = "another-signature"
	OlderOne      ID = "older-signature"
	CutOff        ID = "cut-off"
	Changed       ID = "altered"
	TwoMechanisms ID = "two-mechanisms"
	Attached      ID = "pictures-attached"
	PictureGone   ID = "picture-part-missing"
	PictureLocal  ID = "picture-local"
	PictureInline ID = "picture-data"
	PictureSize   ID = "picture-size"
	PictureRemote ID = "pictures-remote"
	AddressDead   ID = "picture-address"
	Clipped       ID = "clipped"
)

// Cause is one thing that was found.
type Cause struct {
	ID    ID     `json:"id"`
	Says  string `json:"says"` // what is wrong, and where
	By    string `json:"by"`   // by whom, as far as the message says; blank where it does not
	Step  string `json:"step"` // what helps
	Sure  bool   `json:"sure"` // the message shows it; else it is supposed
	Notes bool   `json:"note"` // nothing is wrong by itself: it explains what some readers see
}

// Input is what is known beside the message.
type Input struct {
	Owner     proof.Owner
	Wanted    []proof.Wanted         // none: only what the message itself shows is said
	Colleague func(mail string) bool // nil for nobody's
	// Ask asks a picture's address; ok is whether it answers with a picture, says what it answered. Nil to ask none.
	Ask func(address string) (ok bool, says string)
}

// Result is what was found.
type Result struct {
	Owner   string         `json:"owner"` // whose signature was looked for
	Kind    message.Kind   `json:"kind"`
	Verdict *proof.Verdict `json:"verdict,omitempty"` // nil where there is nothing to compare with
	Causes  []Cause        `json:"causes"`
}

// clippedAt is from how many bytes of markup on large webmails cut a message off.
const clippedAt = 102 << 10

// diagnosing is a diagnosis being made.
type diagnosing struct {
	m      *message.Message
	in     Input
	out    Result
	page   *message.Content // nil for none
	text   *message.Content
	newest proof.Shown
}

// Diagnose looks at a message. The error is of the kind Refused: it cannot be read as a message.
func Diagnose(m *message.Message, in Input) (Result, error) {
	d := &diagnosing{m: m, in: in, out: Result{Owner: in.Owner.Mail, Kind: m.Kind(), Causes: []Cause{}}}
	if len(m.Root.Header.Fields) == 0 {
		return d.out, problem.New(problem.Refused, "This is no message: it has no header lines (RFC 5322, 2.2).")
	}
	if err := d.read(); err != nil {
		return d.out, err
	}
	d.container()
	d.asText()
	if err := d.signature(); err != nil {
		return d.out, err
	}
	d.pictures()
	if d.page != nil && len(d.page.Text) > clippedAt {
		d.add(Cause{
			ID:    Clipped,
			Sure:  true,
			Notes: true,
			Says: fmt.Sprintf("The markup is %d kB; some webmails cut a message off at 102 kB, and what "+
				"stands below is not seen.", len(d.page.Text)>>10),
			Step: "Let replies quote less, and take the shorter signature for replies.",
		})
	}
	return d.out, nil
}

func (d *diagnosing) add(c Cause) {
	if !slices.ContainsFunc(d.out.Causes, func(o Cause) bool { return o.ID == c.ID && o.Says == c.Says }) {
		d.out.Causes = append(d.out.Causes, c)
	}
}

// read reads the texts of the message.
func (d *diagnosing) read() error {
	bodies := d.m.Bodies()
	for _, one := range []struct {
		part  *message.Part
		into  **message.Content
		shown *string
	}{{bodies.HTML, &d.page, &d.newest.HTML}, {bodies.Plain, &d.text, &d.newest.Text}} {
		if one.part == nil {
			continue
		}
		c, err := d.m.Content(one.part)
		if err != nil {
			return err
		}
		*one.into, *one.shown = c, c.Text
		if place := c.Find(d.m.HintsOf()); place.At > 0 {
			*one.shown = c.Text[:min(place.Quote, len(c.Text))]
		}
	}
	return nil
}

// container says what the message is that could be why.
func (d *diagnosing) container() {
	k := d.out.Kind
	switch {
	case k.Closed != "":
		d.add(Cause{
			ID:    Closed,
			Sure:  true,
			Notes: d.page != nil,
			Says:  "The message is " + k.Closed + ": nobody on the way can add a signature to it.",
			Step:  "Put the signature into the program itself, so that it is there before the message is closed.",
		})
	case k.Bounce || k.Receipt || k.Automatic:
		d.add(Cause{ID: Automatic, Sure: true, Says: "The message was made by a program: an automatic answer, a delivery report or a receipt.",
			Step: "Nothing: such messages carry no signature."})
	}
	for _, p := range d.m.Leaves() {
		if p.Media == "application/ms-tnef" {
			d.add(Cause{
				ID:   OwnContainer,
				Sure: true,
				Says: "The text is in a container of the sending host's own (" + p.Media + "): other programs see an " +
					"attachment, and no formatting.",
				By: "the sender's program or host, which sends rich text",
				Step: "Set messages to people outside to HTML " +
					"in the sender's program, or on the host.",
			})
		}
	}
	if d.page == nil && d.text == nil && len(d.out.Causes) == 0 {
		d.add(Cause{ID: NoText, Sure: true, Says: "The message has no text.", Step: "Nothing can be said of a signature in it."})
	}
}

// tracks are header lines by which a program that changes messages says so.
var tracks = []struct{ field, who string }{
	{"X-MIME-Autoconverted", "a mail server that converts encodings"},
	{"X-Content-Filtered-By", "a mailing list that filters parts"},
	{"X-Converted-To-Plain-Text", "a gateway that makes plain text"},
	{"X-Mailman-Version", "a mailing list"},
	{"X-Amavis-Modified", "a gateway that looks at content"},
	{"X-MIMEDefang-Filter", "a gateway that looks at content"},
}

// asText says why the message is plain text.
func (d *diagnosing) asText() {
	if d.page != nil || d.text == nil || d.out.Kind.Closed != "" {
		return
	}
	if d.out.Kind.Automatic || d.out.Kind.Bounce || d.out.Kind.Receipt {
		return
	}
	h := &d.m.Root.Header
	var by []string
	for _, t := range tracks {
		if h.Has(t.field) {
			by = append(by, fmt.Sprintf("%s (%s: %s)", t.who, t.field, cut(h.Value(t.field))))
		}
	}
	list := d.out.Kind.List && (h.Has("List-Id") || h.Has("List-Post"))
	left := markupLeft(d.text.Text)
	step := "Send it in another way, or set what converts it to let HTML pass; until then the text form of the signature is what arrives."
	switch {
	case len(by) > 0:
		d.add(Cause{ID: Converted, Sure: left, Says: "The message arrived as plain text, and a header line says that it was changed on the way.",
			By: strings.Join(by, "; "), Step: step})
	case list:
		d.add(Cause{ID: Converted, Says: "The message arrived as plain text through a mailing list; many lists take the HTML part away.",
			By: "the list " + cut(h.Value("List-Id")), Step: step})
	case left:
		d.add(Cause{ID: Converted,
			Says: "The message is plain text, and has traces of HTML in it: links in angle brackets behind their labels, or " +
				"[image: …] in the place of pictures.", By: "not said in the header lines", Step: step},
		)
	default:
		by := ""
		if agent := firstOf(h.Value("User-Agent"), h.Value("X-Mailer")); agent != "" {
			by = "the sender's program (" + cut(agent) + ")"
		}
		d.add(Cause{ID: Composed, Sure: true, Says: "The message left as plain text: it has no HTML part, and no sign that there was one.",
			By:   by,
			Step: "Set new messages, and replies to plain text, to HTML in the sender's program; or let a mail rule raise plain text."},
		)
	}
}

// leftovers are what converters leave of HTML.
var leftovers = regexp.MustCompile(`(?m)\[(image|cid|bild|Bild|Image): ?[^\]]*\]|\S<(https?://|tel:|mailto:)[^>]+>`)

func markupLeft(text string) bool { return leftovers.MatchString(text) }

func firstOf(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

// cut shortens a header's value for a sentence.
func cut(text string) string {
	if runes := []rune(text); len(runes) > 80 {
		return string(runes[:80]) + "…"
	}
	return text
}

// signature says whether the signature is there, and as it should be.
func (d *diagnosing) signature() error {
	if len(d.in.Wanted) == 0 || d.page == nil && d.text == nil {
		return nil
	}
	judged := proof.Input{Owner: d.in.Owner, Wanted: d.in.Wanted, Shown: d.newest, Colleague: d.in.Colleague}
	v, err := proof.Judge(judged)
	if problem.Is(err, problem.TooLarge) {
		return nil // nothing is said of what is above the limits
	}
	if err != nil {
		return err
	}
	d.out.Verdict = &v
	again := "Invite the person to paste it again, or place it at the desk; a mail rule adds it whatever the program does."
	switch v.State {
	case proof.None:
		d.missing(judged, again)
	case proof.Another:
		d.add(Cause{
			ID:   Another,
			Sure: true,
			Says: "The signature in it is somebody else's.",
			By:   "the account from which it was sent, or a signature that was passed on",
			Step: "Look whether the program signs each account with its own signature.",
		})
	case proof.Older:
		d.add(Cause{
			ID:   OlderOne,
			Sure: true,
			Says: fmt.Sprintf("The signature is of release %s.", v.Release),
			By:   "nobody has put the present one in, or an old window was used",
			Step: again,
		})
	}
	asText := d.page == nil
	for _, diff := range v.Differences {
		if diff.Usual || diff.Kind.Harmless() {
			continue
		}
		about := diff.Kind.About()
		switch {
		case diff.Kind == proof.Doubled:
			by := "two programs that add it"
			if d.out.Kind.Stamped {
				by = "a mail rule (" + message.StampField + ") and the sender's program"
			}
			d.add(Cause{ID: TwoMechanisms, Sure: true, Says: fmt.Sprintf("The signature stands there %d times.", diff.Count), By: by,
				Step: "Switch one of them off, or let the rule leave, replace or shorten what is there already."})
		case diff.Kind == proof.CutOff:
			d.add(Cause{ID: CutOff, Sure: true, Says: "The end of the signature is missing: " + diff.Where + ".", By: about.By,
				Step: "Give the person the shorter form, or another way; the limit of the box is in the client's profile."})
		case diff.Kind == proof.TextOnly && asText: // said already
		default:
			says := about.Title
			if diff.Where != "" {
				says += " At: " + strings.TrimRight(diff.Where, " …") + "."
			}
			if diff.Want != "" && diff.Found != "" {
				says += fmt.Sprintf(" It should be %s and is %s.", diff.Want, diff.Found)
			}
			d.add(Cause{ID: Changed, Sure: true, Says: says, By: about.By, Step: about.Do})
		}
	}
	return nil
}

// missing says why there is none, as far as can be said.
func (d *diagnosing) missing(judged proof.Input, again string) {
	whole := proof.Shown{}
	if d.page != nil {
		whole.HTML = d.page.Text
	}
	if d.text != nil {
		whole.Text = d.text.Text
	}
	judged.Shown = whole
	if v, err := proof.Judge(judged); err == nil && v.State != proof.None && v.State != proof.Another {
		d.add(Cause{ID: Missing, Sure: true, Says: "The newest text has no signature; one stands in the conversation below.",
			By:   "the program signs new messages and not replies, or puts the signature under the whole conversation",
			Step: "Choose the signature for replies too, and that it stands above the quoted text."})
		return
	}
	by := "it was not set up, not saved, or not chosen for this kind of message"
	if d.out.Kind.Conversation != message.New {
		by = "it was not set up, or not chosen for replies"
	}
	d.add(Cause{ID: Missing, Sure: true, Says: "There is no signature of " + d.in.Owner.Mail + " in it.", By: by, Step: again})
}

// pictures says what is wrong with pictures.
func (d *diagnosing) pictures() {
	parts := map[string]*message.Part{}
	var images []*message.Part
	for _, p := range d.m.Leaves() {
		if id := strings.Trim(p.Header.Value("Content-ID"), "<> "); id != "" {
			parts[strings.ToLower(id)] = p
		}
		if strings.HasPrefix(p.Media, "image/") {
			images = append(images, p)
		}
	}
	used := map[*message.Part]bool{}
	if d.page != nil {
		d.shownPictures(parts, used)
	}
	for _, p := range images {
		if !used[p] && (d.page == nil || p.Disposition == "attachment" || p.Disposition == "") {
			name := firstOf(p.Params["name"], p.Number)
			by := "the sender's program, or a gateway"
			if d.page == nil {
				by = "what made plain text of the message: the pictures of the HTML part were left over"
			}
			d.add(Cause{
				ID:   Attached,
				Sure: d.page != nil && p.Header.Has("Content-ID"),
				Says: fmt.Sprintf("The picture %s is an attachment: nothing in the text shows it.", cut(name)),
				By:   by,
				Step: "Deliver the signature's pictures hosted, or carried with a Content-ID that the text names.",
			})
		}
	}
}

// shownPictures looks at the pictures that the page shows.
func (d *diagnosing) shownPictures(parts map[string]*message.Part, used map[*message.Part]bool) {
	doc, err := markup.Parse(d.page.Text)
	if err != nil {
		return // above the limits: nothing is said
	}
	style.ReadAttributes(doc)
	remote, inline := 0, 0
	for _, img := range doc.Elements("img") {
		src, _ := img.Attr("src")
		src = strings.TrimSpace(src)
		scheme, rest, _ := strings.Cut(src, ":")
		switch strings.ToLower(scheme) {
		case "cid":
			p := parts[strings.ToLower(rest)]
			if p == nil {
				d.add(Cause{
					ID:   PictureGone,
					Sure: true,
					Says: "The text shows a picture with the Content-ID " + cut(rest) + ", and the message has no such part.",
					By:   "a gateway or list that takes parts away, or a reply that left them out",
					Step: "Deliver the signature's pictures hosted: nothing can be taken off the message then.",
				})
				continue
			}
			used[p] = true
			d.size(img, p)
		case "http", "https":
			if img.Pixels("width") == 1 {
				continue
			}
			remote++
			if d.in.Ask != nil {
				if ok, says := d.in.Ask(src); !ok {
					d.add(Cause{ID: AddressDead, Sure: true, Says: fmt.Sprintf("The picture at %s is not to be had: %s.", cut(src), says),
						By: "the host of the picture", Step: "Host the picture again at this very address: it stands in every message that was sent."})
				}
			}
		case "data":
			inline++
		default:
			d.add(Cause{
				ID:   PictureLocal,
				Sure: true,
				Says: fmt.Sprintf("The picture %s lies on the sender's own machine: nobody else sees it.", cut(path.Base(src))),
				By:   "copied from a file or another message",
				Step: "Copy the signature with the button of the page, and paste it again.",
			})
		}
	}
	if remote > 0 {
		d.add(Cause{
			ID:    PictureRemote,
			Notes: true,
			Sure:  true,
			Says:  fmt.Sprintf("%d pictures are hosted; many programs do not load them until their reader allows it.", remote),
			By:    "the reader's program",
			Step:  "Nothing, where the alternative text says what counts; else carry the pictures in the message.",
		})
	}
	if inline > 0 {
		d.add(Cause{
			ID:   PictureInline,
			Sure: true,
			Says: fmt.Sprintf("%d pictures are written into the markup as data; several programs drop them.", inline),
			By:   "the way in which the signature was made",
			Step: "Deliver the pictures hosted or carried.",
		})
	}
}

// size compares a carried picture's pixels with the size in which it is shown.
func (d *diagnosing) size(img *markup.Node, p *message.Part) {
	data, err := d.m.Decoded(p)
	if err != nil {
		return
	}
	facts, err := picture.Probe(bytes.Clone(data))
	if err != nil || facts.Width == 0 {
		return
	}
	width := img.Pixels("width")
	if value, ok := img.Declared("width"); ok {
		if px, fits := style.Length(value, 16); fits {
			width = int(px + 0.5)
		}
	}
	switch {
	case width == 0:
		d.add(Cause{ID: PictureSize, Sure: true,
			Says: fmt.Sprintf("A picture has no size in the text: programs draw its true %d px.", facts.Width),
			By:   "the program that pasted or sent it", Step: "Write width and height as attributes; paste the signature again."})
	case facts.Width%width != 0 && (facts.Width < width || facts.Width > 4*width):
		d.add(Cause{ID: PictureSize, Sure: true, Says: fmt.Sprintf("A picture is shown %d px wide and its file has %d px.", width, facts.Width),
			By: "a picture that was replaced, or a program that scaled it", Step: "Make the file once or twice the size in which it is shown."})
	}
}
