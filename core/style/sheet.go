// Package style reads CSS and inlines it: the declarations of style sheets are brought to the
// elements they reach, in the order of the cascade, and written into style attributes. What only a
// style sheet can do (media queries, pseudo-classes) stays behind and is reported. Start with Inline.
package style

import (
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"

	"missivum/core/markup"
)

// Rule is one rule of a style sheet: selectors and the declarations they bring.
type Rule struct {
	Selectors    []string
	Declarations []markup.Declaration
	Span         markup.Span // the whole rule
}

// Sheet is a parsed style sheet.
type Sheet struct {
	Rules []Rule
	At    []AtRule
	// Broken lists what could not be read, as browsers skip it.
	Broken []markup.Span
}

// AtRule is a rule that starts with @, kept as it stands.
type AtRule struct {
	Name string // such as "media", lower case, without the sign
	Text string
	Span markup.Span
}

// token is a piece of CSS with its place.
type token struct {
	kind css.TokenType
	text string
	span markup.Span
}

// tokenize cuts CSS into tokens that know their places.
func tokenize(source string, base int) []token {
	lexer := css.NewLexer(parse.NewInputString(source))
	var tokens []token
	at := base
	for {
		kind, text := lexer.Next()
		if kind == css.ErrorToken {
			return tokens
		}
		tokens = append(tokens, token{kind, string(text), markup.Span{Start: at, End: at + len(text)}})
		at += len(text)
	}
}

// ParseSheet reads a style sheet that starts at byte offset base of its document. It accepts
// anything; what is broken is skipped and listed (CSS Syntax Module Level 3, 5.4).
func ParseSheet(source string, base int) Sheet {
	var sheet Sheet
	tokens := tokenize(source, base)
	for i := 0; i < len(tokens); {
		t := tokens[i]
		switch t.kind {
		case css.WhitespaceToken, css.CommentToken, css.CDOToken, css.CDCToken, css.SemicolonToken, css.RightBraceToken:
			i++
		case css.AtKeywordToken:
			end := atRuleEnd(tokens, i)
			sheet.At = append(sheet.At, AtRule{
				Name: strings.ToLower(strings.TrimPrefix(t.text, "@")),
				Text: join(tokens[i:end]),
				Span: cover(tokens[i:end]),
			})
			i = end
		default:
			open := i
			for open < len(tokens) && tokens[open].kind != css.LeftBraceToken {
				open++
			}
			end := blockEnd(tokens, open)
			if open == len(tokens) {
				sheet.Broken = append(sheet.Broken, cover(tokens[i:]))
				return sheet
			}
			inner := tokens[open+1 : end]
			if n := len(inner); n > 0 && inner[n-1].kind == css.RightBraceToken {
				inner = inner[:n-1]
			}
			sheet.Rules = append(sheet.Rules, Rule{
				Selectors:    splitSelectors(tokens[i:open]),
				Declarations: declarations(inner),
				Span:         cover(trimSpace(tokens[i:end])),
			})
			i = end
		}
	}
	return sheet
}

// ParseDeclarations reads the content of a style attribute that starts at byte offset base.
// Fields between double braces may stand in values.
func ParseDeclarations(source string, base int) []markup.Declaration {
	return declarations(tokenize(source, base))
}

// declarations reads a list of declarations.
func declarations(tokens []token) []markup.Declaration {
	var list []markup.Declaration
	for _, part := range split(tokens, css.SemicolonToken) {
		part = trimSpace(part)
		colon := 0
		for colon < len(part) && part[colon].kind != css.ColonToken {
			colon++
		}
		if colon == 0 || colon == len(part) {
			continue
		}
		property := strings.ToLower(strings.TrimSpace(join(part[:colon])))
		value, important := cutImportant(strings.TrimSpace(join(part[colon+1:])))
		if strings.ContainsAny(property, " \t\n{}\"'") || value == "" {
			continue
		}
		list = append(list, markup.Declaration{
			Property: property, Value: foldSpace(value), Important: important, Span: cover(part),
		})
	}
	return list
}

// cutImportant takes !important off a value.
func cutImportant(value string) (string, bool) {
	bang := strings.LastIndexByte(value, '!')
	if bang < 0 || !strings.EqualFold(strings.TrimSpace(value[bang+1:]), "important") {
		return value, false
	}
	return strings.TrimSpace(value[:bang]), true
}

// foldSpace makes runs of white space one space.
func foldSpace(s string) string {
	if !strings.ContainsAny(s, "\n\t\r") {
		return s
	}
	return strings.Join(strings.Fields(s), " ")
}

// splitSelectors cuts a list of selectors at its commas.
func splitSelectors(tokens []token) []string {
	var list []string
	for _, part := range split(tokens, css.CommaToken) {
		list = append(list, strings.TrimSpace(join(part)))
	}
	return list
}

// split cuts tokens at every separator that is not inside brackets of any kind.
func split(tokens []token, separator css.TokenType) [][]token {
	var parts [][]token
	depth, start := 0, 0
	for i, t := range tokens {
		switch t.kind {
		case css.LeftBraceToken, css.LeftParenthesisToken, css.LeftBracketToken, css.FunctionToken:
			depth++
		case css.RightBraceToken, css.RightParenthesisToken, css.RightBracketToken:
			depth = max(depth-1, 0)
		case separator:
			if depth == 0 {
				parts = append(parts, tokens[start:i])
				start = i + 1
			}
		}
	}
	return append(parts, tokens[start:])
}

// atRuleEnd finds where an at-rule ends.
func atRuleEnd(tokens []token, i int) int {
	for ; i < len(tokens); i++ {
		switch tokens[i].kind {
		case css.SemicolonToken:
			return i + 1
		case css.LeftBraceToken:
			return blockEnd(tokens, i)
		}
	}
	return len(tokens)
}

// blockEnd returns the index behind the brace that closes the one at open.
func blockEnd(tokens []token, open int) int {
	depth := 0
	for i := open; i < len(tokens); i++ {
		switch tokens[i].kind {
		case css.LeftBraceToken:
			depth++
		case css.RightBraceToken:
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return len(tokens)
}

// trimSpace drops white space at both ends.
func trimSpace(tokens []token) []token {
	empty := func(t token) bool { return t.kind == css.WhitespaceToken || t.kind == css.CommentToken }
	for len(tokens) > 0 && empty(tokens[0]) {
		tokens = tokens[1:]
	}
	for len(tokens) > 0 && empty(tokens[len(tokens)-1]) {
		tokens = tokens[:len(tokens)-1]
	}
	return tokens
}

// join is the text of tokens.
func join(tokens []token) string {
	var b strings.Builder
	for _, t := range tokens {
		if t.kind != css.CommentToken {
			b.WriteString(t.text)
		}
	}
	return b.String()
}

// cover is the stretch of source that tokens cover.
func cover(tokens []token) markup.Span {
	if len(tokens) == 0 {
		return markup.Span{}
	}
	return markup.Span{Start: tokens[0].span.Start, End: tokens[len(tokens)-1].span.End}
}
