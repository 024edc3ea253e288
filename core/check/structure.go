package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/passive"
)

// structureChecks look at how a template is built.
var structureChecks = []*Check{
	{
		ID: "style-sheet", Title: "Style sheet dropped",
		Why: "Rules that depend on the screen or on the reader's mouse, and sheets that are linked, cannot be " +
			"written onto the elements; most clients drop them.",
		Remedy:  "Let the signature be right without the rule; put what matters into a style that has no condition.",
		Failing: `<style>@media (max-width: 400px) { .hide { display: none } }</style><p class="hide">Harbour office</p>`,
		Passing: `<style>.name { color: #123456 }</style><p class="name">Harbour office</p>`,
		Run:     bareStyleSheet,
	},
	{
		ID: "block-in-inline", Title: "Block inside an inline element",
		Why:     "Browsers and word processors close the inline element, or split it, when the block begins; fonts, colours and links end there.",
		Remedy:  "Put the inline element inside the block.",
		Failing: `<span style="color: #123456"><div>Harbour office</div></span>`,
		Passing: `<div><span style="color: #123456">Harbour office</span></div>`,
		Fix:     turnedInsideOut,
	},
	{
		ID: "document-tags", Title: "html, head or body in a fragment",
		Why:     "A signature stands inside a message that has these tags already; a second set is removed or breaks what is around it.",
		Remedy:  "Remove the tags and keep what is between them.",
		Failing: `<table><tr><td><html><body><p>Harbour office</p></body></html></td></tr></table>`,
		Passing: `<table><tr><td><p>Harbour office</p></td></tr></table>`,
		Run:     bareDocumentTags,
		Fix:     withoutDocumentTags,
	},
	{
		ID: "active-content", Title: "Script, form or event handler",
		Why:     "No client runs programs in a message; many remove them, and some refuse or mark the whole message.",
		Remedy:  "Remove it. A link is all that works.",
		Failing: `<p onclick="dial()">Harbour office</p>`,
		Passing: `<p><a href="tel:+441632960100">Harbour office</a></p>`,
		Run:     scriptAddresses,
		Fix:     withoutProgram,
	},
	{
		ID: "foreign-attribute", Title: "data- attribute that is not of the template language",
		Why: "Generators, editors and scripts of pages leave data- attributes behind. No client needs them; they are left out of all that " +
			"goes out.",
		Remedy:  "Remove it, or write the attribute of the language that is meant.",
		Failing: `<p data-role="note" data-id="4">Harbour office</p>`,
		Passing: `<p data-needs="title">{{ title }}, harbour office</p>`,
		Run:     foreignAttributes,
	},
	{
		ID: "character-set", Title: "Characters that depend on the character set",
		Why: "Where a client reads the file in another character set than it was written in, these characters " +
			"turn into two or three wrong ones.",
		Remedy:  `Declare <meta charset="utf-8"> in a head, or write the character as a reference.`,
		Failing: `<p>Port office · Saltmouth</p>`,
		Passing: `<p>Port office &middot; Saltmouth</p>`,
		Run:     characterSet,
	},
}

// bareStyleSheet: a file that may be pasted as it stands has not been through the inlining.
func bareStyleSheet(p *Pass) {
	if !p.Template.Bare || p.Prepared.Styles.Inlined == 0 {
		return
	}
	for _, n := range p.Source.Elements("style") {
		p.Report(Finding{
			Span:     n.Open,
			Severity: client.Note,
			Message: fmt.Sprintf("A paste of this file as it stands loses its style sheet; filled from here, %d rules stand on the elements.",
				p.Prepared.Styles.Inlined),
			Remedy: "Give out what missivum fill writes, not this file.",
		})
		return
	}
}

// bareDocumentTags finds what the check document-tags reports: html, head or body in a fragment.
func bareDocumentTags(p *Pass) {
	tags := p.Source.Elements("html", "body")
	if !p.Template.Bare || len(tags) == 0 {
		return
	}
	for _, n := range journey.MisplacedDocumentTags(p.Source) {
		if n == tags[0] {
			return // reported as a fault of its own
		}
	}
	p.Report(Finding{
		Span:     tags[0].Open,
		Severity: client.Note,
		Message:  "<" + tags[0].Name + "> goes with a paste of this file's source; the fragment form leaves it out.",
		Remedy:   "Give out the fragment: missivum fill --form fragment.",
	})
}

// scriptAddresses finds what the check active-content reports: script, form or event handler.
func scriptAddresses(p *Pass) {
	for _, a := range p.addresses() {
		if s := schemeOf(a.value); s == "javascript" || s == "vbscript" {
			p.Report(Finding{
				Span:     a.attr.Span,
				Severity: client.Breaks,
				Message:  "A " + s + ": address is a program; no client runs it.",
			})
		}
	}
	for _, d := range passive.Make(p.Source.Clone()) {
		if d.What == "<marquee>" || d.What == "<blink>" {
			continue // obsolete-element answers for text that moves
		}
		if foundByClients.MatchString(d.What) || strings.ContainsAny(strings.Fields(d.What + " ")[0], `"'`) {
			continue // the second: what is left behind an attribute that its quotes end, which has a check of its own
		}
		p.Report(Finding{
			Span:     d.Span,
			Severity: client.Degrades,
			Message:  d.What + " is active, or browsers read what is in it as something else; it is left out of all that goes out.",
		})
	}
}

// foundByClients is what the profiles of clients remove, and is reported with them.
var foundByClients = regexp.MustCompile(`^(on|the address ` +
	`|<(script|form|input|button|textarea|select|iframe|object|embed|applet|video|audio)>)`)

// otherCharset reports a declaration that is not true of the source, which is UTF-8 here however it was stored before.
func (p *Pass) otherCharset(declared string) {
	name := strings.ToLower(strings.TrimSpace(declared))
	beyond := strings.ContainsFunc(p.Template.Source, func(r rune) bool { return r >= utf8.RuneSelf })
	if name == "utf-8" || name == "utf8" || name == "" || !beyond {
		return
	}
	for _, n := range p.Source.Elements("meta") {
		for _, a := range n.Attrs {
			at := strings.Index(strings.ToLower(p.Source.Source[a.Inner.Start:a.Inner.End]), name)
			if at < 0 || a.Name != "charset" && a.Name != "content" {
				continue
			}
			h := p.Edit()
			h.Replace(markup.Span{Start: a.Inner.Start + at, End: a.Inner.Start + at + len(name)}, "utf-8")
			p.Report(Finding{
				Span: a.Span, Severity: client.Degrades,
				Message: fmt.Sprintf("The source says %s and has letters beyond ASCII in UTF-8: where it is used as "+
					"it stands, they are garbled.", declared),
				Remedy: "Declare utf-8.",
				Fix:    fixOf(h, "Declare utf-8"),
			})
			return
		}
	}
}

// characterSet finds what the check character-set reports: characters that depend on the character set.
func characterSet(p *Pass) {
	if declared, ok := compose.Charset(p.Source); ok {
		p.otherCharset(declared)
		return
	}
	count, firstAt := 0, -1
	for i, r := range p.Template.Source {
		if r < utf8.RuneSelf || invisible(r) {
			continue
		}
		count++
		if firstAt < 0 {
			firstAt = i
		}
	}
	if count == 0 {
		return
	}
	r, size := utf8.DecodeRuneInString(p.Template.Source[firstAt:])
	message := fmt.Sprintf("%q is outside ASCII and the source declares no character set.", string(r))
	if count > 1 {
		message = fmt.Sprintf("%q and %d more characters are outside ASCII, and the source declares no character set.", string(r), count-1)
	}
	p.Report(Finding{
		Span:     markup.Span{Start: firstAt, End: firstAt + size},
		Severity: client.Degrades,
		Message:  message,
		Fix:      references(p),
		Remedy:   fmt.Sprintf("Declare <meta charset=\"utf-8\"> in a head, or write the character as a reference: %s.", referenceFor(r)),
	})
}

// withoutDocumentTags takes the tags of html and body out and keeps what is between them.
func withoutDocumentTags(p *Pass, t Target) *Fix {
	h := p.Edit()
	for _, n := range t.Nodes {
		if n.Is("head") || n.Close.Len() == 0 && !n.Is("html", "body") || p.lookOfPage(n) {
			return nil
		}
		h.Unwrap(n)
		for _, inner := range n.Elements("body") {
			if inner != n {
				h.Unwrap(inner)
			}
		}
		if len(n.Elements("head")) > 0 {
			return nil
		}
	}
	return fixOf(h, "Remove the tags and keep what is between them")
}

// lookOfPage reports whether the tags of a page give what is in them a look.
func (p *Pass) lookOfPage(n *markup.Node) bool {
	for _, e := range append(n.Elements("body"), n) {
		if p.looksLikeSomething(e) || e.Attribute("bgcolor") != nil || e.Attribute("text") != nil || e.Attribute("link") != nil ||
			e.Attribute("dir") != nil || e.Attribute("lang") != nil {
			return true
		}
	}
	return false
}

// withoutProgram takes a handler, a script or a form's tags out.
func withoutProgram(p *Pass, t Target) *Fix {
	h := p.Edit()
	for _, n := range t.Nodes {
		switch {
		case n.Is("script"):
			h.Replace(markup.Span{Start: n.Open.Start, End: max(n.Close.End, n.Open.End)}, "")
		case n.Is("form") && p.looksLikeSomething(n):
			h.Rename(n, "div")
			for _, a := range n.Attrs {
				if a.Name != "style" && a.Name != "class" {
					h.RemoveAttribute(n, a.Name)
				}
			}
		case n.Is("form"):
			h.Unwrap(n)
		case n.Is("iframe", "object", "embed", "applet", "video", "audio", "input", "button", "select", "textarea"):
			return nil
		default:
			for _, a := range n.Attrs {
				if strings.HasPrefix(a.Name, "on") && a.Span == t.Span {
					h.RemoveAttribute(n, a.Name)
				}
			}
		}
	}
	return fixOf(h, "Remove it")
}

// turnedInsideOut puts the inline element inside the block that is all it holds.
func turnedInsideOut(p *Pass, t Target) *Fix {
	block := t.First()
	inline := block.Parent
	if inline.Kind != markup.Element || !block.Is("div", "p") || !alone(block) || inline.Close.Len() == 0 || block.Close.Len() == 0 ||
		!inline.Is("span", "b", "i", "strong", "em", "font", "u", "a") {
		return nil
	}
	for _, c := range block.Elements() {
		if c != block && markup.Block(c.Name) {
			return nil
		}
	}
	for _, a := range inline.Attrs {
		if strings.HasPrefix(a.Name, "data-") {
			return nil // what shall go with the field would no longer be all of it
		}
	}
	h := p.Edit()
	h.Replace(inline.Open, "")
	h.Replace(inline.Close, "")
	h.Insert(block.Open.End, p.Source.Raw(inline))
	h.Insert(block.Close.Start, "</"+inline.Name+">")
	return fixOf(h, "Put the inline element inside the block")
}

// curlyValue recognises an attribute in curly quotes.
var curlyValue = regexp.MustCompile("=[“”„‘’]")

// referenceNames are the names of references that every client knows (HTML 4.01, 24.2 and of 24.4), by their character: they can
// be read, numbers cannot.
var referenceNames = func() map[rune]string {
	names := map[rune]string{}
	for _, name := range strings.Fields(`nbsp iexcl cent pound curren yen brvbar sect uml copy ordf laquo not shy reg macr deg plusmn sup2 sup3
		acute micro para middot cedil sup1 ordm raquo frac14 frac12 frac34 iquest Agrave Aacute Acirc Atilde Auml Aring AElig Ccedil
		Egrave Eacute Ecirc Euml Igrave Iacute Icirc Iuml ETH Ntilde Ograve Oacute Ocirc Otilde Ouml times Oslash Ugrave Uacute Ucirc
		Uuml Yacute THORN szlig agrave aacute acirc atilde auml aring aelig ccedil egrave eacute ecirc euml igrave iacute icirc iuml
		eth ntilde ograve oacute ocirc otilde ouml divide oslash ugrave uacute ucirc uuml yacute thorn yuml OElig oelig Scaron scaron
		Yuml ndash mdash lsquo rsquo sbquo ldquo rdquo bdquo bull hellip euro trade`) {
		r, _ := utf8.DecodeRuneInString(markup.Unescape("&" + name + ";"))
		names[r] = name
	}
	return names
}()

// referenceFor is a character as a reference, by its name where it has one.
func referenceFor(r rune) string {
	if name := referenceNames[r]; name != "" {
		return "&" + name + ";"
	}
	return fmt.Sprintf("&#%d;", r)
}

// mostReferences is by how many bytes a source may be longer than its characters, to be written with references.
const mostReferences = 1_000

// references writes characters outside ASCII as references. Those inside fields, style sheets and comments cannot
// be.
func references(p *Pass) *Fix {
	if utf8.RuneCountInString(p.Template.Source)+mostReferences < len(p.Template.Source) {
		return nil // a whole text in other letters is better declared than written in numbers
	}
	for _, r := range p.Template.Source {
		if unicode.IsLetter(r) && !unicode.Is(unicode.Latin, r) {
			return nil // nobody can read, or edit, a text whose every letter is a number
		}
	}
	if curlyValue.MatchString(p.Template.Source) {
		return nil // quotes that are the wrong ones are put right first
	}
	h := p.Edit()
	p.Source.Root.Walk(func(n *markup.Node) bool {
		span := n.Open
		if n.Kind == markup.Root || n.Kind == markup.Stray {
			return true
		}
		text := p.Source.Source[span.Start:span.End]
		inField := 0
		for i, r := range text {
			switch {
			case strings.HasPrefix(text[i:], "{{"):
				inField++
			case strings.HasPrefix(text[i:], "}}"):
				inField = max(inField-1, 0)
			}
			if r < utf8.RuneSelf {
				continue
			}
			if inField > 0 || n.Kind == markup.Comment || n.Parent.Is("style", "script") || r == '\ufeff' || r == utf8.RuneError {
				if n.Kind == markup.Comment {
					continue
				}
				h.Fail()
				return false
			}
			h.Replace(markup.Span{Start: span.Start + i, End: span.Start + i + utf8.RuneLen(r)}, referenceFor(r))
		}
		return true
	})
	for _, r := range commentsOf(h.Document()) {
		if r >= utf8.RuneSelf {
			return nil // a comment keeps its letters: the source still depends on the character set
		}
	}
	return fixOf(h, "Write the characters as references")
}

// commentsOf is the text of all comments.
func commentsOf(doc *markup.Document) string {
	var b strings.Builder
	doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Comment {
			b.WriteString(n.Data)
		}
		return true
	})
	return b.String()
}

// foreignAttributes finds what the check foreign-attribute reports, once for the names that are no misspelling.
func foreignAttributes(p *Pass) {
	var names []string
	var first *markup.Attr
	h := p.Edit()
	for _, n := range p.Source.Root.Elements() {
		for i, a := range n.Attrs {
			if !field.Foreign(a.Name) {
				continue
			}
			if meant := field.Meant(a.Name); meant != "" {
				p.Report(Finding{
					Span: a.Span, Severity: client.Breaks,
					Message: fmt.Sprintf("%s is not an attribute of the template language and is left out. Did you mean %s?", a.Name, meant),
				})
				continue
			}
			h.RemoveAttribute(n, a.Name)
			if !slices.Contains(names, a.Name) {
				names = append(names, a.Name)
			}
			if first == nil {
				first = &n.Attrs[i]
			}
		}
	}
	if first != nil {
		p.Report(Finding{
			Span: first.Span, Severity: client.Note,
			Message: strings.Join(names, ", ") + ": not of the template language; left out of what goes out.",
			Fix:     fixOf(h, "Remove them"),
		})
	}
}
