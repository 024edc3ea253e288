package style

import (
	"fmt"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"

	"missivum/core/markup"
)

// The limits of styles, beside those of package markup. No honest signature comes near them.
const (
	MaxSelectors    = 2_000   // rules and selectors in the style sheets of a source
	MaxSelector     = 500     // bytes of one selector
	MaxSteps        = 12      // compound selectors in one, such as a b c
	MaxPositional   = 20      // selectors that count or look around, such as :nth-child, that are matched; others stay in the sheet
	MaxDeclarations = 20_000  // in style sheets and style attributes together
	MaxInOne        = 200     // declarations of one rule or style attribute
	MaxValue        = 8 << 10 // bytes of one declaration's value, without data addresses
	MaxReached      = 100_000 // declarations that style sheets bring to elements
	MaxBrackets     = 32      // functions and brackets in each other
)

// Limits are those limits in words, for the reference.
func Limits() map[string]int {
	return map[string]int{
		"rules and selectors": MaxSelectors, "bytes of one selector": MaxSelector, "compound selectors in one": MaxSteps,
		"selectors that count elements and are matched": MaxPositional, "declarations": MaxDeclarations,
		"declarations of one rule or element": MaxInOne, "bytes of one value": MaxValue,
		"declarations that style sheets bring to elements": MaxReached, "functions in functions": MaxBrackets,
	}
}

// Parse is markup.Parse that holds the styles against their limits too.
func Parse(source string) (*markup.Document, error) {
	doc, err := markup.Parse(source)
	if err != nil {
		return nil, err
	}
	return doc, within(doc)
}

// within refuses what is beyond the limits.
func within(doc *markup.Document) error {
	w := &meter{doc: doc}
	doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case w.err != nil:
			return false
		case n.Kind == markup.Text && n.Parent.Is("style"):
			w.sheet(n.Data, n.Open.Start)
		case n.Kind == markup.Element:
			if a := n.Attribute("style"); a != nil {
				w.value(a.Value, a.Span)
			}
		}
		return true
	})
	return w.err
}

// meter counts.
type meter struct {
	doc                     *markup.Document
	selectors, declarations int
	err                     error
}

// refuse keeps the first limit that is passed, with its place.
func (m *meter) refuse(span markup.Span, what string, most int) {
	if m.err == nil {
		m.err = m.doc.Beyond(span, what, most)
	}
}

// sheet counts what is in a style sheet, token by token.
func (m *meter) sheet(text string, base int) {
	lexer := css.NewLexer(parse.NewInputString(text))
	at, depth, from, one := base, 0, base, 0
	for {
		kind, token := lexer.Next()
		span := markup.Span{Start: at, End: at + len(token)}
		at = span.End
		switch kind {
		case css.ErrorToken:
			return
		case css.LeftParenthesisToken, css.LeftBracketToken, css.FunctionToken:
			depth++
		case css.RightParenthesisToken, css.RightBracketToken:
			depth = max(depth-1, 0)
		case css.CommaToken, css.LeftBraceToken:
			m.selectors++
			from = at
		case css.RightBraceToken, css.SemicolonToken:
			m.declarations++
			if one++; one > MaxInOne {
				m.refuse(span, "declarations of one rule", MaxInOne)
			}
			if kind == css.RightBraceToken {
				one = 0
			}
			from, depth = at, 0
		}
		opens := kind == css.LeftBraceToken || kind == css.CommaToken
		switch {
		case m.selectors > MaxSelectors:
			m.refuse(span, "rules and selectors", MaxSelectors)
		case m.declarations > MaxDeclarations:
			m.refuse(span, "declarations", MaxDeclarations)
		case depth > MaxBrackets:
			m.refuse(span, "functions in functions", MaxBrackets)
		case !opens && at-from > MaxValue && markup.WithoutData(text[from-base:at-base]) > MaxValue:
			m.refuse(span, "bytes in one value or selector", MaxValue)
		}
		if m.err != nil {
			return
		}
	}
}

// around reports selectors that look at elements around the one that they match.
func around(selector string) bool {
	selector = strings.ToLower(selector)
	for _, name := range []string{":nth-", ":not(", ":only-", ":last-", ":first-", "~", "+"} {
		if strings.Contains(selector, name) {
			return true
		}
	}
	return false
}

// value counts what is in a style attribute.
func (m *meter) value(text string, span markup.Span) {
	own := 1 + strings.Count(text, ";")
	if own > MaxInOne {
		m.refuse(span, "declarations of one element", MaxInOne)
	}
	m.declarations += own
	if m.declarations > MaxDeclarations {
		m.refuse(span, "declarations", MaxDeclarations)
	}
	depth, from := 0, 0
	for i := range len(text) {
		switch text[i] {
		case '(', '[', '{':
			depth++
		case ')', ']', '}':
			depth = max(depth-1, 0)
		case ';':
			if i-from > MaxValue && markup.WithoutData(text[from:i]) > MaxValue {
				m.refuse(span, "bytes in one value", MaxValue)
			}
			from = i
		}
		if depth > MaxBrackets {
			m.refuse(span, "functions in functions", MaxBrackets)
			return
		}
	}
	if len(text)-from > MaxValue && markup.WithoutData(text[from:]) > MaxValue {
		m.refuse(span, "bytes in one value", MaxValue)
	}
}

// simple says why a selector is not matched; empty for one that is.
func simple(selector string) string {
	low := strings.ToLower(selector)
	for _, name := range []string{":has(", ":haschild(", ":contains", ":matches", ":containsown", ":is(", ":where(",
		":nth-last-of-type(", ":nth-of-type("} {
		if strings.Contains(low, name) {
			return "A selector with " + strings.TrimRight(name, "(") + " is known to few clients and stays in the style sheet."
		}
	}
	if len(selector) > MaxSelector {
		return fmt.Sprintf("The selector is longer than %d bytes.", MaxSelector)
	}
	if len(strings.Fields(strings.NewReplacer(">", " ", "+", " ", "~", " ").Replace(selector))) > MaxSteps {
		return fmt.Sprintf("The selector has more than %d steps.", MaxSteps)
	}
	return ""
}
