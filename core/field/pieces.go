package field

import "missivum/core/markup"

// Pieces appends text and fields; a field at the very start gets the first escape, others the rest.
func (b *Builder) Pieces(pieces []Piece, head, rest Escape) {
	for i, p := range pieces {
		switch {
		case p.Expr == nil:
			b.Literal(markup.Unescape(p.Text))
		case i == 0:
			b.Value(*p.Expr, head)
		default:
			b.Value(*p.Expr, rest)
		}
	}
}

// AsIs leaves a separator of data-join as it is written.
func AsIs(separator string) string { return separator }
