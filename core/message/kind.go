package message

import (
	"bytes"
	"regexp"
	"slices"
	"strings"
)

// Conversation is what a message is in its conversation.
type Conversation string

// What it may be.
const (
	New     Conversation = "new"
	Reply   Conversation = "reply"
	Forward Conversation = "forward"
)

// Form is in which form a message's text is there.
type Form string

// The forms.
const (
	PlainText     Form = "text"
	HTML          Form = "html"
	Both          Form = "both"
	HostContainer Form = "host container" // rich text in a host's own container (application/ms-tnef)
	NoText        Form = "none"
)

// Kind is what kind of message one is.
type Kind struct {
	Conversation Conversation `json:"conversation"`
	Form         Form         `json:"form"`
	Automatic    bool         `json:"automatic"` // an automatic answer or notice (RFC 3834)
	Bounce       bool         `json:"bounce"`    // a delivery report (RFC 3464)
	List         bool         `json:"list"`      // from a mailing list (RFC 2369, RFC 2919), or sent in bulk
	Receipt      bool         `json:"receipt"`   // a read receipt (RFC 8098)
	Calendar     bool         `json:"calendar"`  // an invitation or an answer to one (RFC 6047)
	Closed       string       `json:"closed"`    // how it is signed or encrypted, such as "signed (S/MIME)"; blank for neither
	DKIM         bool         `json:"dkim"`      // it carries a DKIM signature (RFC 6376)
	ARC          bool         `json:"arc"`       // it carries a chain of ARC seals (RFC 8617)
	Stamped      bool         `json:"stamped"`   // a rule has stamped it already
	Attachments  int          `json:"attachments"`
	Faults       []Fault      `json:"faults"`
}

// Kind says what kind of message it is. The conversation is judged by the header alone: In-Reply-To, References, and how the
// subject begins.
func (m *Message) Kind() Kind {
	h := &m.Root.Header
	k := Kind{Conversation: m.conversation(), Closed: m.closed(), DKIM: h.Has("DKIM-Signature"), ARC: h.Has("ARC-Seal"),
		Stamped: h.Has(StampField), Faults: m.Faults}
	if v := strings.ToLower(h.Value("Auto-Submitted")); v != "" && !strings.HasPrefix(v, "no") {
		k.Automatic = true
	}
	if h.Has("X-Autoreply") || h.Has("X-Autorespond") || strings.EqualFold(h.Value("Precedence"), "auto_reply") {
		k.Automatic = true
	}
	k.List = h.Has("List-Id") || h.Has("List-Post") || h.Has("List-Unsubscribe") ||
		slices.Contains([]string{"bulk", "list", "junk"}, strings.ToLower(h.Value("Precedence")))
	if m.Root.Media == "multipart/report" {
		switch strings.ToLower(m.Root.Params["report-type"]) {
		case "disposition-notification":
			k.Receipt = true
		default:
			k.Bounce = true
		}
	}
	if h.Value("Return-Path") == "<>" && !k.Receipt && !k.Automatic {
		k.Bounce = true
	}
	k.Calendar = m.calendar()
	b := m.Bodies()
	switch {
	case b.HTML != nil && b.Plain != nil:
		k.Form = Both
	case b.HTML != nil:
		k.Form = HTML
	case b.Plain != nil:
		k.Form = PlainText
	default:
		k.Form = NoText
	}
	for _, p := range m.Leaves() {
		if p.Media == "application/ms-tnef" {
			k.Form = HostContainer
		}
		if p != b.HTML && p != b.Plain && (p.Disposition == "attachment" || !strings.HasPrefix(p.Media, "text/")) &&
			p.Header.Value("Content-ID") == "" {
			k.Attachments++
		}
	}
	return k
}

// subject begins of answers and forwarded messages, in the languages of clients; a number or a mark may follow ("Re[2]:").
var (
	answered = regexp.MustCompile(`(?i)^\s*(re|aw|antw|antwort|sv|vs|odp|ynt|yanıt|rif|r|rv|res|resp|回复|回覆|答复|返信|` +
		`回信|رد|הערה|השב|תגובה|отв|ответ|відп|απ|σχετ|ats|` +
		`atb)\s*(\[\d+\]|\(\d+\)|\^\d+)?\s*[:：]`)
	passedOn = regexp.MustCompile(`(?i)^\s*(fwd?|wg|tr|rv|i|vb|vl|vidarebefordrat|doorst|enc|pd|ilt|továbbítás|továbbított|` +
		`fs|转发|轉寄|転送|전달|إعادة توجيه|הועבר|пер|переслано|` +
		`πρθ|προωθ|trs|vs)\s*(\[\d+\]|\(\d+\))?\s*[:：]`)
	alsoReply = regexp.MustCompile(`(?i)^\s*(rv|vs|i|tr)\s*[:：]`) // stand for either, by language
)

// conversation judges by the header: In-Reply-To (RFC 5322, 3.6.4) and how the subject begins.
func (m *Message) conversation() Conversation {
	h := &m.Root.Header
	subject := h.Text("Subject")
	linked := h.Value("In-Reply-To") != "" || h.Value("References") != ""
	switch {
	case passedOn.MatchString(subject) && !(alsoReply.MatchString(subject) && h.Value("In-Reply-To") != ""):
		return Forward
	case linked || answered.MatchString(subject):
		return Reply
	}
	return New
}

// calendar reports whether the message is an invitation or an answer to one: a calendar part that is no attachment.
func (m *Message) calendar() bool {
	for _, p := range m.Leaves() {
		if p.Media == "text/calendar" && (p.Disposition != "attachment" || p.Params["method"] != "") {
			return true
		}
	}
	return false
}

// Marks of OpenPGP's text form (RFC 9580, 6.2 and 7).
var (
	pgpMessage = []byte("-----BEGIN PGP MESSAGE-----")
	pgpSigned  = []byte("-----BEGIN PGP SIGNED MESSAGE-----")
)

// closed says how a message is signed or encrypted (RFC 1847, RFC 8551, RFC 3156, RFC 9580); blank for neither. A part that is
// closed closes the whole: stamping beside it would leave its reader in doubt what was signed.
func (m *Message) closed() string { return m.closedPart(m.Root) }

func (m *Message) closedPart(p *Part) string {
	protocol := strings.ToLower(p.Params["protocol"])
	by := "S/MIME"
	if strings.Contains(protocol, "pgp") {
		by = "OpenPGP"
	}
	switch p.Media {
	case "multipart/signed":
		return "signed (" + by + ")"
	case "multipart/encrypted":
		return "encrypted (" + by + ")"
	case "application/pkcs7-mime", "application/x-pkcs7-mime":
		if strings.EqualFold(p.Params["smime-type"], "signed-data") {
			return "signed (S/MIME)"
		}
		if p.Disposition != "attachment" || p.Parent == nil {
			return "encrypted (S/MIME)"
		}
	case "application/pgp", "application/pgp-encrypted":
		return "encrypted (OpenPGP)"
	}
	for _, c := range p.Parts {
		if closed := m.closedPart(c); closed != "" {
			return closed
		}
	}
	if len(p.Parts) > 0 || !strings.HasPrefix(p.Media, "text/") || p.Disposition == "attachment" {
		return ""
	}
	body := m.Raw[p.Body:p.End]
	if p.Encoding == "base64" {
		if decoded, err := decodeBase64(body); err == nil {
			body = decoded
		}
	}
	for _, mark := range [][]byte{pgpMessage, pgpSigned} {
		if at := bytes.Index(body, mark); at == 0 || at > 0 && (body[at-1] == '\n' || body[at-1] == '>') {
			if bytes.Equal(mark, pgpSigned) {
				return "signed (OpenPGP)"
			}
			return "encrypted (OpenPGP)"
		}
	}
	return ""
}

// Bodies are the parts that a reader sees as the message's text.
type Bodies struct {
	Plain *Part   // text/plain; nil for none
	HTML  *Part   // text/html; nil for none
	More  []*Part // further texts between attachments
}

// Bodies finds the parts that hold the text (RFC 2046, 5.1.3 and 5.1.4; RFC 2387).
func (m *Message) Bodies() Bodies {
	var b Bodies
	b.find(m.Root)
	return b
}

// find looks for the text in a part and says whether it found some.
func (b *Bodies) find(p *Part) bool {
	switch {
	case p.Disposition == "attachment" || p.Parent != nil && p.Start == p.End:
		return false
	case p.Media == "text/plain":
		b.Plain = p
		return true
	case p.Media == "text/html":
		b.HTML = p
		return true
	case p.Media == "multipart/alternative":
		found := false
		for _, c := range p.Parts {
			var inner Bodies
			if !inner.find(c) {
				continue
			}
			found = true
			if inner.Plain != nil && b.Plain == nil {
				b.Plain = inner.Plain
			}
			if inner.HTML != nil {
				b.HTML = inner.HTML
			}
			b.More = append(b.More, inner.More...)
		}
		return found
	case p.Media == "multipart/related":
		if len(p.Parts) == 0 {
			return false
		}
		root := p.Parts[0]
		for _, c := range p.Parts {
			if start := p.Params["start"]; start != "" && c.Header.Value("Content-ID") == start {
				root = c
			}
		}
		return b.find(root)
	case strings.HasPrefix(p.Media, "multipart/") && p.Media != "multipart/report":
		found := false
		for _, c := range p.Parts {
			if found {
				var more Bodies
				if more.find(c) {
					b.More = append(b.More, c)
				}
				continue
			}
			found = b.find(c)
		}
		return found
	}
	return false
}
