package message

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// line is a line as a reader sees it, of a text or of a page. Offsets count bytes of the decoded text.
type line struct {
	text       string // without signs of quotation, white space collapsed
	start, end int
	depth      int    // how deep it is quoted
	rule       bool   // a drawn line stands directly above it
	block      int    // of a page: the block that it stands in
	small      bool   // in small or pale letters
	marker     bool   // the page itself says that a quoted message begins here
	bold       bool   // begins in bold letters
	quoteClass bool   // stands in an element that names itself a quotation
	indent     bool   // a page's block quote that need not be a quotation
	kind       string // what it is, found by examine: intro, header, separator, signature, footer
	prefixed   bool   // of a text: quoted by a sign at its start
	own        bool   // of a page: in an element that names itself a signature
}

func (l *line) blank() bool { return l.text == "" }

// Signs at line starts: those of nearly all programs (RFC 3676, 4.5), and two older ones.
var (
	initials = regexp.MustCompile(`^\s?[A-Z]{1,3}>\s?`)
	bar      = regexp.MustCompile(`^\|\s`)
)

// textLines splits a text into lines.
func textLines(text string) []line {
	var list []line
	for at := 0; at < len(text); {
		end := len(text)
		if i := strings.IndexByte(text[at:], '\n'); i >= 0 {
			end = at + i + 1
		}
		body := strings.TrimRight(text[at:end], "\r\n")
		l := line{start: at, end: end}
		l.depth, body = quoteSigns(body)
		l.prefixed = l.depth > 0
		if l.depth == 0 && (initials.MatchString(body) || bar.MatchString(body)) {
			l.depth = 1
			l.indent = true // to be confirmed by the lines around it
			body = bar.ReplaceAllString(initials.ReplaceAllString(body, ""), "")
		}
		l.text = collapse(body)
		if body == "-- " || body == "--" {
			l.text = "--"
		}
		list = append(list, l)
		at = end
	}
	return list
}

// quoteSigns counts the signs at the start of a line and cuts them off (RFC 3676, 4.5).
func quoteSigns(s string) (depth int, rest string) {
	for {
		t := strings.TrimLeft(s, " ")
		if len(s)-len(t) > 1 || !strings.HasPrefix(t, ">") {
			return depth, s
		}
		depth, s = depth+1, t[1:]
	}
}

// collapse makes white space one space, and drops what is not seen.
func collapse(s string) string {
	plain := true
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf || s[i] < ' ' || s[i] == ' ' && i+1 < len(s) && s[i+1] == ' ' {
			plain = false
			break
		}
	}
	if plain {
		return strings.TrimSpace(s)
	}
	var b strings.Builder
	space := false
	for _, r := range s {
		switch {
		case unicode.IsSpace(r) || r == '\u00a0':
			space = b.Len() > 0
		case unicode.Is(unicode.Cf, r) || unicode.IsControl(r) || r == '\u034f' || r == '\ufeff':
		default:
			if space {
				b.WriteByte(' ')
				space = false
			}
			b.WriteRune(r)
		}
	}
	return b.String()
}

// isRule reports whether a line is drawn with signs.
func isRule(s string) bool {
	if utf8.RuneCountInString(s) < 5 {
		return false
	}
	return strings.Trim(s, "-_=*~—─━ ") == ""
}

// dashed gives the words of a line that stand between dashes; blank for none.
func dashed(s string) string {
	inner := strings.Trim(s, "-—–_=* \t")
	if inner == "" || inner == s || len(s)-len(inner) < 6 {
		return ""
	}
	first, _ := utf8.DecodeRuneInString(s)
	last, _ := utf8.DecodeLastRuneInString(s)
	if !strings.ContainsRune("-—–_=*", first) || !strings.ContainsRune("-—–_=*", last) || len(strings.Fields(inner)) > 6 {
		return ""
	}
	return strings.ToLower(inner)
}

var mailAddress = regexp.MustCompile(`[\p{L}\d._%+'-]+@[\p{L}\d-]+(?:\.[\p{L}\d-]+)+`)

// hasMail reports whether a mail address stands in a line.
func hasMail(s string) bool { return strings.IndexByte(s, '@') > 0 && mailAddress.MatchString(s) }

// dated reports whether a date in digits, a year or a time of day stands in a line.
func dated(s string) bool {
	for i := 0; i < len(s); {
		if s[i] < '0' || s[i] > '9' {
			i++
			continue
		}
		end := digits(s, i)
		free := i == 0 || !wordByte(s[i-1])
		if free && datedAt(s[i:end], s[end:]) {
			return true
		}
		i = end
	}
	return false
}

// datedAt reports whether a number, with what follows it, is a year, or begins a date or a time of day.
func datedAt(number, rest string) bool {
	if len(number) == 4 && (number[:2] == "19" || number[:2] == "20") && (rest == "" || !wordByte(rest[0])) {
		return true
	}
	if len(number) > 4 || len(number) == 3 || rest == "" {
		return false
	}
	hour := len(number) <= 2
	switch {
	case hour && (rest[0] == 'h' || strings.HasPrefix(rest, "時")):
		after := strings.TrimPrefix(strings.TrimPrefix(rest, "h"), "時")
		return after == "" || !wordByte(after[0]) || digits(after, 0) == 2
	case hour && (rest[0] == ':' || rest[0] == '.') && digits(rest, 1) == 3 && (len(rest) == 3 || !wordByte(rest[3])):
		return true
	case strings.IndexByte("./-", rest[0]) >= 0:
		second := strings.TrimPrefix(rest[1:], " ")
		n := digits(second, 0)
		if n == 0 || n > 2 || n == len(second) || strings.IndexByte("./-", second[n]) < 0 {
			return false
		}
		third := strings.TrimPrefix(second[n+1:], " ")
		return digits(third, 0) > 0
	}
	return false
}

// digits is where the digits that begin at an offset end.
func digits(s string, from int) int {
	for from < len(s) && s[from] >= '0' && s[from] <= '9' {
		from++
	}
	return from
}

func wordByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
}

// labelled splits a line "Label: value"; both are blank where it is none.
func labelled(s string) (label, value string) {
	i := strings.IndexAny(s, ":：")
	if i <= 0 || i > 60 {
		return "", ""
	}
	label = strings.ToLower(strings.Trim(s[:i], " *_|>\u00a0"))
	value = strings.TrimLeft(s[i:], ":： *_")
	if label == "" || len(strings.Fields(label)) > 3 || utf8.RuneCountInString(label) > 24 || strings.ContainsAny(label, "0123456789<>@/\"(") {
		return "", ""
	}
	return label, value
}

// saysWrote reports whether a line holds a word of the lines above quotations.
func saysWrote(s string) bool {
	low := strings.ToLower(s)
	for _, w := range together {
		if strings.Contains(low, w) {
			return true
		}
	}
	for _, w := range strings.FieldsFunc(low, func(r rune) bool { return !unicode.IsLetter(r) && r != '(' && r != ')' && r != '\'' }) {
		if wrote[strings.Trim(w, "()'")] || wrote[w] {
			return true
		}
	}
	return false
}

// endsInColon reports whether a line ends in a colon of any script.
func endsInColon(s string) bool {
	s = strings.TrimRightFunc(s, func(r rune) bool { return unicode.IsSpace(r) || unicode.Is(unicode.Cf, r) || r == '*' || r == '|' })
	return strings.HasSuffix(s, ":") || strings.HasSuffix(s, "：") || strings.HasSuffix(s, "︓")
}
