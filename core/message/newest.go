package message

import (
	"slices"
	"strings"
)

// Place is where the newest text of a message ends.
type Place struct {
	At    int    // offset in the text, behind the last character of the newest text
	Quote int    // offset at which the first quotation behind it begins; the text's length for none
	Top   int    // offset at which the newest text begins
	Sure  bool   // false: other readings are as good; a rule's fallback place should be used
	Shape string // the shape of the quotation, as in "cite block below", for people
	Why   string // a sentence

	page  *page
	last  int // last line of the newest text; -1 for none
	next  int // first line of the quotation behind it; len(lines) for none
	first int // first line of the newest text; -1 for none
	lines []line
}

// Hints is what is known of a message besides its text.
type Hints struct {
	Subject string   // decoded, with "Re:"
	People  []string // names and addresses of correspondents, the writer left out
}

// HintsOf takes them from the header.
func (m *Message) HintsOf() Hints {
	h := &m.Root.Header
	hints := Hints{Subject: h.Text("Subject")}
	for _, field := range []string{"To", "Cc"} {
		for _, a := range m.Addresses(field) {
			if a.Name != "" {
				hints.People = append(hints.People, strings.ToLower(a.Name))
			}
			hints.People = append(hints.People, strings.ToLower(a.Address))
		}
	}
	if len(hints.People) > 40 {
		hints.People = hints.People[:40]
	}
	return hints
}

// FindInText finds the newest text of a plain text.
func FindInText(text string, hints Hints) Place {
	return (&finder{lines: textLines(text), hints: hints, size: len(text)}).find()
}

// FindInPage finds the newest text of an HTML page.
func FindInPage(source string, hints Hints) Place {
	p := readPage(source)
	f := &finder{lines: p.lines, hints: hints, page: p, size: len(source)}
	f.containers()
	return f.find()
}

// maxRegions is how many quotations in quotations are looked at; nobody reads the ones below.
const maxRegions = 300

// finder reads lines for what they are.
type finder struct {
	lines []line
	page  *page
	hints Hints
	size  int
	shape string
}

// containers decides what elements hold that name themselves quotations: all of it is quoted, unless a block quote in it
// holds the quotation; what stands below that is an answer between quotations.
func (f *finder) containers() {
	seen := 0
	for i := range f.page.elements {
		e := &f.page.elements[i]
		if e.quote != container {
			continue
		}
		if seen++; seen > maxRegions {
			return
		}
		from, to := e.firstLine, min(e.lastLine, len(f.lines))
		inside := -1
		for j := from; j < to; j++ {
			if f.lines[j].depth > 0 && !f.lines[j].blank() || f.lines[j].indent {
				inside = j
				break
			}
		}
		forwarded := false
		if first := f.nextSeen(from - 1); first < to {
			forwarded = f.headerAt(first) > first || dashed(f.lines[first].text) != ""
		}
		for j := from; j < to; j++ {
			l := &f.lines[j]
			if l.depth == 0 && (inside < 0 || j < inside || forwarded || l.indent) {
				l.depth = 1
			}
		}
	}
}

// nextSeen is the next line behind i that shows something; the number of lines for none.
func (f *finder) nextSeen(i int) int {
	for i++; i < len(f.lines) && f.lines[i].blank(); i++ {
	}
	return min(i, len(f.lines))
}

// before is the line before i that shows something; -1 for none.
func (f *finder) before(i int) int {
	for i--; i >= 0 && f.lines[i].blank(); i-- {
	}
	return i
}

// find reads the lines and decides.
func (f *finder) find() Place {
	f.signs()
	f.introductions()
	f.indents()
	f.regions()
	return f.decide()
}

// signs takes back what only looks like a quotation: a lone sign at a line's start within a paragraph.
func (f *finder) signs() {
	for i := 0; i < len(f.lines); {
		if !f.lines[i].prefixed && !(f.page == nil && f.lines[i].indent) {
			i++
			continue
		}
		end := i
		for end < len(f.lines) && (f.lines[end].prefixed || f.page == nil && f.lines[end].indent) {
			end++
		}
		loneAmong := end == i+1 && i > 0 && !f.lines[i-1].blank() && !endsInColon(f.lines[i-1].text) && f.lines[i-1].depth == 0 &&
			!(i > 1 && f.lines[i-2].prefixed) && (end == len(f.lines) || !f.lines[end].blank())
		rare := !f.lines[i].prefixed && (end == i+1 && !f.introAbove(i))
		if loneAmong || rare {
			for j := i; j < end; j++ {
				f.lines[j].depth, f.lines[j].prefixed = 0, false
			}
		}
		for j := i; f.page == nil && j < end; j++ {
			f.lines[j].indent = false
		}
		i = end
	}
}

// introAbove reports whether a line that introduces a quotation stands above line i.
func (f *finder) introAbove(i int) bool {
	b := f.before(i)
	return b >= 0 && i-b <= 3 && endsInColon(f.lines[b].text)
}

// Strength of a line that may introduce a quotation.
const (
	noIntro = iota
	weak    // introduces one if a quotation follows
	strong  // introduces one whatever follows
)

// intro judges lines from..to together.
func (f *finder) intro(from, to int) int {
	var b strings.Builder
	for i := from; i <= to; i++ {
		if len(f.lines[i].text) > 400 {
			return noIntro
		}
		b.WriteString(f.lines[i].text)
		b.WriteByte(' ')
	}
	s := strings.TrimSpace(b.String())
	if len(s) > 400 {
		return noIntro
	}
	colon := endsInColon(s)
	if !colon && len(s) > 250 {
		return noIntro
	}
	known := phrase(s)
	if forwards[known] || originals[known] {
		return strong
	}
	mail, dated, said := hasMail(s), dated(s), saysWrote(s)
	if !mail {
		low := strings.ToLower(s)
		mail = dated && slices.ContainsFunc(f.hints.People, func(p string) bool { return len(p) > 4 && strings.Contains(low, p) })
	}
	switch {
	case colon && (mail && dated || said && dated || said && mail && len(s) < 120):
		return strong
	case mail && dated && said:
		return strong
	case colon || dated && (mail || said):
		return weak
	}
	return noIntro
}

// phrase is a line's words as they are looked up.
func phrase(s string) string {
	return strings.ToLower(strings.Trim(s, " :：-—–_=*\u00a0\t"))
}

// introductions finds the lines above quotations.
func (f *finder) introductions() {
	for i := range f.lines {
		l := &f.lines[i]
		if l.blank() || l.kind != "" || l.depth > 0 {
			continue
		}
		if dashed(l.text) != "" {
			known := originals[dashed(l.text)] || forwards[dashed(l.text)]
			n := f.nextSeen(i)
			if known || n < len(f.lines) && (f.headerAt(n) > n || f.lines[n].depth > l.depth) {
				l.kind = "separator"
			}
			continue
		}
		if end := f.headerAt(i); end > i {
			for j := i; j < end; j++ {
				f.lines[j].kind = "header"
			}
			if b := f.before(i); b >= 0 && isRule(f.lines[b].text) && f.lines[b].depth == l.depth {
				f.lines[b].kind = "separator"
			}
			if n := f.nextSeen(end - 1); n < len(f.lines) && f.lines[n].depth == 0 {
				break // all below is quoted
			}
			continue
		}
	}
	for i := range f.lines { // a quotation's first line: what stands above it
		l := &f.lines[i]
		b := f.before(i)
		if l.blank() || b < 0 || f.lines[b].kind != "" {
			continue
		}
		opens := l.depth > f.lines[b].depth || l.indent && !f.lines[b].indent
		if opens && i-b <= 4 {
			f.above(b)
		}
	}
	for i := range f.lines { // and without a quotation that shows itself
		if f.lines[i].kind == "header" {
			break // all below is quoted, or says so itself
		}
		if f.lines[i].blank() || f.lines[i].kind != "" || f.lines[i].depth > 0 {
			continue
		}
		for to := i; to < min(i+3, len(f.lines)) && !f.lines[to].blank() && f.lines[to].kind == "" &&
			f.lines[to].depth == f.lines[i].depth; to++ {
			if to > i && (!f.goesOn(i, to) || !f.together(to-1, to)) {
				break
			}
			if n := f.nextSeen(to); f.intro(i, to) == strong && n < len(f.lines) {
				f.mark(i, to)
				if f.lines[n].depth == 0 {
					return // all below is quoted
				}
				break
			}
		}
	}
}

// goesOn reports whether an introduction that begins in line i may end in line to: its first line already says when or who.
func (f *finder) goesOn(i, to int) bool {
	return (dated(f.lines[i].text) || hasMail(f.lines[i].text)) && !endsInColon(f.lines[to-1].text)
}

// together reports whether a sentence may go on from a line to the next: in one block of a page, and no full stop between.
func (f *finder) together(a, b int) bool {
	return f.lines[a].block == f.lines[b].block && !strings.ContainsAny(f.lines[a].text[len(f.lines[a].text)-1:], ".!?:") &&
		!strings.HasSuffix(f.lines[a].text, "。")
}

// above marks the line b, with those before it that belong to it, as an introduction, if it is one.
func (f *finder) above(b int) {
	alone := f.intro(b, b)
	if alone == strong && !f.continued(b) {
		f.mark(b, b)
		return
	}
	joined := -1
	for from := b - 1; from >= max(0, b-2) && f.free(from, b) && f.together(from, from+1); from-- {
		if f.intro(from, b) != strong {
			continue
		}
		if f.goesOn(from, b) {
			joined = from
			break
		}
		if joined < 0 && f.continued(b) {
			joined = from
		}
	}
	if joined >= 0 {
		f.mark(joined, b)
		return
	}
	if alone != noIntro {
		f.mark(b, b)
	}
}

// free reports whether a line may belong to what line b says.
func (f *finder) free(i, b int) bool {
	l := &f.lines[i]
	return !l.blank() && l.kind == "" && l.depth == f.lines[b].depth
}

// continued reports whether a line that introduces a quotation was broken: it begins with an address, or says not when, and the
// line before says more.
func (f *finder) continued(b int) bool {
	if b == 0 || f.lines[b-1].blank() || f.lines[b-1].kind != "" || f.lines[b-1].depth != f.lines[b].depth {
		return false
	}
	if !f.together(b-1, b) {
		return false
	}
	first := f.lines[b].text[0]
	return first == '<' || first == '(' || !dated(f.lines[b].text) && dated(f.lines[b-1].text) && !endsInColon(f.lines[b-1].text)
}

func (f *finder) mark(from, to int) {
	for i := from; i <= to; i++ {
		f.lines[i].kind = "intro"
	}
}

// indents decides which block quotes are quotations: those below an introduction, a separator or a header.
func (f *finder) indents() {
	for i := 0; i < len(f.lines); i++ {
		if !f.lines[i].indent || f.lines[i].blank() {
			continue
		}
		end := i
		for end < len(f.lines) && (f.lines[end].indent || f.lines[end].blank()) {
			end++
		}
		b := f.before(i)
		quoted := b >= 0 && f.lines[b].kind != "" || f.lines[i].kind != "" || b < 0 && end < len(f.lines)
		for j := i; j < end; j++ {
			if quoted {
				f.lines[j].depth++
			}
		}
		i = end - 1
	}
}

// headerAt is the line behind a header block that begins at line i; i where none does.
func (f *finder) headerAt(i int) int {
	first := &f.lines[i]
	label, _ := labelled(first.text)
	if label == "" {
		return i
	}
	kinds := map[string]bool{}
	count, mail, dates, subject, unlabelled := 0, false, false, false, 0
	end := i
	own := plainSubject(f.hints.Subject)
	for j := i; j < len(f.lines) && j-end < 3 && j-i < 60; j++ {
		l := &f.lines[j]
		if l.blank() {
			continue
		}
		if l.depth != first.depth || dashed(l.text) != "" || isRule(l.text) {
			break
		}
		label, value := labelled(l.text)
		if label == "" {
			if unlabelled++; unlabelled > 3 || count == 0 || !(hasMail(l.text) || strings.HasSuffix(l.text, ";")) || j != end {
				break
			}
			end = j + 1
			continue
		}
		if count >= 3 && kinds[labels[label]] && labels[label] != "" && labels[label] != "to" {
			break // a label twice: the next header, or the text
		}
		count++
		if what := labels[label]; what != "" {
			kinds[what] = true
		} else if count > 4 && !hasMail(value) {
			count--
			break
		}
		mail = mail || hasMail(value)
		dates = dates || dated(value)
		subject = subject || own != "" && plainSubject(value) == own
		end = j + 1
	}
	drawn := first.rule || first.marker || first.quoteClass
	if b := f.before(i); b >= 0 && (isRule(f.lines[b].text) || dashed(f.lines[b].text) != "" || forwards[phrase(f.lines[b].text)]) {
		drawn = true
	}
	words := len(kinds)
	switch {
	case words >= 3 && (mail || kinds["subject"] || drawn),
		words == 2 && (drawn && (mail || dates) || subject && (mail || dates)),
		count >= 3 && mail && dates && (drawn || subject || first.bold),
		count >= 3 && subject && (dates || mail),
		count >= 2 && drawn && mail && dates,
		count >= 4 && drawn && (mail || dates) && first.bold:
		return end
	}
	return i
}

// plainSubject is a subject without what answers put before it.
func plainSubject(s string) string {
	for {
		t := passedOn.ReplaceAllString(answered.ReplaceAllString(s, ""), "")
		if t == s {
			return strings.ToLower(strings.Trim(collapse(s), " *"))
		}
		s = t
	}
}

// regions quotes what stands below a header block, or below an introduction that no quotation follows: all of it to the end,
// unless a deeper quotation follows at once, which then is what is quoted.
func (f *finder) regions() {
	seen := 0
	for i := 0; i < len(f.lines); i++ {
		l := &f.lines[i]
		if l.kind == "" || l.blank() {
			continue
		}
		end, depth := i, l.depth
		for end < len(f.lines) && (f.lines[end].blank() || f.lines[end].kind != "" && f.lines[end].depth == depth) {
			end++
		}
		f.shapeOf(i, end)
		if seen++; seen > maxRegions {
			return
		}
		for j := i; j < end; j++ {
			if !f.lines[j].blank() {
				f.lines[j].depth = depth + 1
			}
		}
		if end < len(f.lines) && f.lines[end].depth > depth {
			i = end - 1
			continue
		}
		for j := end; j < len(f.lines) && f.lines[j].depth >= depth; j++ {
			f.lines[j].depth++
		}
		if depth == 0 {
			return
		}
		i = end - 1
	}
}

// shapeOf names the shape of the first quotation.
func (f *finder) shapeOf(i, end int) {
	if f.shape != "" {
		return
	}
	header, deeper := false, end < len(f.lines) && f.lines[end].depth > f.lines[i].depth
	for j := i; j < end; j++ {
		header = header || f.lines[j].kind == "header"
	}
	switch {
	case header:
		f.shape = "a header block"
	case f.lines[i].kind == "separator":
		f.shape = "a line of dashes"
	case deeper:
		f.shape = "a line that introduces the quotation"
	default:
		f.shape = "a line that introduces text without signs of quotation"
	}
}

// run is lines of one kind, one behind another; blank ones belong to what stands before them.
type run struct {
	from, to int // to is behind it
	quoted   bool
	seen     int // lines that show something
	size     int // bytes of them
}

// runs groups the lines.
func (f *finder) runs() []run {
	var list []run
	for i := range f.lines {
		l := &f.lines[i]
		if l.blank() {
			continue
		}
		quoted := l.depth > 0 || f.broken(i, len(list) > 1)
		if n := len(list); n > 0 && list[n-1].quoted == quoted {
			list[n-1].to = i + 1
			list[n-1].seen++
			list[n-1].size += len(l.text)
			continue
		}
		list = append(list, run{i, i + 1, quoted, 1, len(l.text)})
	}
	return list
}

// broken reports whether a line is the rest of a long quoted one, which a program broke without a sign: it stands alone between
// quoted lines.
func (f *finder) broken(i int, below bool) bool {
	if !below || f.page != nil || i == 0 || i+1 >= len(f.lines) {
		return false
	}
	a, b := &f.lines[i-1], &f.lines[i+1]
	return a.prefixed && b.prefixed && !a.blank() && !b.blank() && len(a.text) >= 60 && len(f.lines[i].text) < len(a.text)
}

// decide chooses the place.
func (f *finder) decide() Place {
	runs := f.runs()
	p := Place{page: f.page, lines: f.lines, last: -1, first: -1, next: len(f.lines), Sure: true, Quote: f.size}
	for n := len(runs); n > 1 && !runs[n-1].quoted && f.footer(runs[n-1]); n = len(runs) {
		runs = runs[:n-1]
	}
	var newest, quoted []int
	for i, r := range runs {
		if r.quoted {
			quoted = append(quoted, i)
		} else {
			newest = append(newest, i)
		}
	}
	at := -1 // the run of newest text behind which the place is
	switch {
	case len(quoted) == 0 && len(newest) == 0:
		p.Shape, p.Why = "nothing", "The message shows no text."
	case len(quoted) == 0:
		at = newest[0]
		p.Shape, p.Why = "none", "Nothing is quoted; the newest text is all of it."
	case len(newest) == 0:
		p.Shape, p.Why = f.named("only"), "All of the text is quoted; the newest text is empty."
	case len(newest) == 1 && newest[0] == 0:
		at = 0
		p.Shape, p.Why = f.named("below"), "The newest text stands above the quotation, which begins with "+f.begins()+"."
	case newest[0] > 0 && len(newest) == 1:
		at = newest[0]
		p.Shape, p.Why = f.named("above"), "The newest text stands below the quotation."
		if runs[at].seen == 1 && runs[at].size < 25 && at == len(runs)-1 {
			p.Sure = false
			p.Why = "One short line stands below the quotation; it may be the newest text, or what a program added."
		}
	default:
		at = newest[len(newest)-1]
		p.Shape, p.Why = "between", "Answers stand between quotations; the last one ends here."
		first, last := runs[newest[0]], runs[at]
		if len(quoted) == 1 && newest[0] == 0 && !(first.seen == 1 && first.size < 80) {
			p.Sure = false
			p.Why = "Text stands above and below the quotation, and either may be the newest."
			if last.seen < 2 || first.size > 3*last.size {
				at = 0
			}
		}
	}
	f.settle(&p, runs, at)
	return p
}

// begins names with what the quotation begins.
func (f *finder) begins() string {
	if f.shape != "" {
		return f.shape
	}
	if f.page != nil {
		return "a block that names itself a quotation"
	}
	return "a sign at the line's start"
}

// named is a shape with where it stands.
func (f *finder) named(where string) string {
	shape := f.shape
	if shape == "" {
		shape = "signs of quotation"
	}
	return strings.TrimPrefix(shape, "a ") + ", " + where
}

// settle fills the offsets in.
func (f *finder) settle(p *Place, runs []run, at int) {
	if at < 0 {
		p.At = 0
		if len(runs) > 0 {
			p.next = runs[0].from
			p.Quote = f.lines[runs[0].from].start
			p.At = p.Quote
		}
		p.Top = p.At
		return
	}
	p.last = runs[at].to - 1
	for p.last > runs[at].from && !letters(f.lines[p.last].text) && !strings.Contains(f.lines[p.last].text, "▣") && at+1 < len(runs) {
		p.last-- // dots or dashes that belong to what follows
	}
	p.first = runs[at].from
	if !runs[0].quoted {
		p.first = runs[0].from
	}
	p.Top = f.lines[p.first].start
	p.At = f.lines[p.last].end
	if n := f.nextSeen(p.last); n < len(f.lines) {
		p.next = n
		p.Quote = f.lines[n].start
	}
}

// footer reports whether the last lines are what a mailing list, a host or a program added below everything.
func (f *finder) footer(r run) bool {
	first := f.lines[r.from]
	if isRule(first.text) || first.text == "--" || first.rule && r.size < 1_500 {
		return true
	}
	small := 0
	for i := r.from; i < r.to; i++ {
		if f.lines[i].small || f.lines[i].own {
			small++
		}
	}
	return small == r.seen
}

// Newest is the newest text as lines, without markup.
func (p *Place) Newest() string {
	var b strings.Builder
	for i := max(0, p.first); i <= p.last && i < len(p.lines); i++ {
		if p.lines[i].depth == 0 {
			b.WriteString(p.lines[i].text)
			b.WriteByte('\n')
		}
	}
	return strings.TrimSpace(b.String())
}
