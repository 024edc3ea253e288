package field

import "missivum/core/markup"

// Pieces appends text and fields; a field at the very start gets the first escape, others the rest.
func (b *Builder) Pieces(pieces []Piece, head, rest Escape) {
	b.pieces(pieces, markup.Unescape, head, rest)
}

// AddressPieces is Pieces for the value of an attribute, in which some references are none: ?a=1&region=2.
func (b *Builder) AddressPieces(pieces []Piece, head, rest Escape) {
	b.pieces(pieces, markup.UnescapeAttribute, head, rest)
}

func (b *Builder) pieces(pieces []Piece, unescape func(string) string, head, rest Escape) {
	for i, p := range pieces {
		switch {
		case p.Expr == nil:
			b.Literal(unescape(p.Text))
		case i == 0:
			b.Value(*p.Expr, head)
		default:
			b.Value(*p.Expr, rest)
		}
	}
}

// AsIs leaves a separator of data-join as it is written.
func AsIs(separator string) string { return separator }
