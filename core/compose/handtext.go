package compose

import (
	"strings"

	"missivum/core/field"
	"missivum/core/markup"
)

// compileHandText makes the program of a text form that was written by hand. Its lines stay as they are, but
// for those that a value makes too long; a line goes when it has fields and all of them are blank.
func (p *Prepared) compileHandText(table *field.Table, file, text string) (*field.Program, error) {
	source := &field.Source{Doc: markup.PlainText(text), Schema: p.Schema, Variants: p.Template.Variants()}
	b := field.NewBuilder(table)
	var errs field.Errors
	offset := 0
	for _, line := range strings.SplitAfter(text, "\n") {
		pieces, found := source.LinePieces(line, offset)
		offset += len(line)
		for _, e := range found {
			e.File = file
			errs = append(errs, e)
		}
		needs, conditional := lineCondition(pieces)
		end := 0
		if conditional {
			end = b.Needs(needs)
		}
		for _, piece := range pieces {
			if piece.Expr == nil {
				b.Literal(piece.Text)
			} else {
				b.Value(*piece.Expr, field.EscapeNone)
			}
		}
		if conditional {
			b.End(end)
		}
	}
	if len(errs) > 0 {
		return nil, errs
	}
	return b.Program(), nil
}

// lineCondition asks for one of a line's fields; a line without fields, or with a fallback text, stays.
func lineCondition(pieces []field.Piece) (c field.Condition, conditional bool) {
	c.Any = true
	for _, piece := range pieces {
		if piece.Expr == nil {
			continue
		}
		if text, ok := piece.Expr.StandBy(); ok && text != "" {
			return c, false
		}
		for _, column := range piece.Expr.Fields {
			c.Fields = append(c.Fields, column.Name)
			c.Columns = append(c.Columns, column.Index)
		}
	}
	return c, len(c.Fields) > 0
}

// appendHandText fills a text that was written by hand, below the separator line, without white space at the
// ends of lines and runs of blank lines.
func appendHandText(dst []byte, program *field.Program, f *field.Filler) []byte {
	filled := program.Append(nil, f)
	text, _ := strings.CutPrefix(string(filled), strings.TrimRight(SeparatorLine, " "))
	dst = append(append(dst, SeparatorLine...), '\n')
	empty := len(dst)
	blank := false
	for _, line := range strings.Split(strings.TrimPrefix(text, " "), "\n") {
		line = strings.TrimRight(line, " \t\r")
		if line == "" {
			blank = len(dst) > empty
			continue
		}
		if blank {
			dst = append(dst, '\n')
			blank = false
		}
		dst = appendWrapped(dst, line) // a long value must not make the line too long
	}
	return dst
}
