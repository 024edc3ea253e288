package richtext

import (
	"fmt"
	"strings"

	"missivum/core/field"
)

// Append appends the rich text form for the person set in the filler.
func (r *Program) Append(dst []byte, f *field.Filler) []byte {
	w := rtfWriter{form: r, dst: append(dst, r.head...), boxes: []rtfBox{{}}}
	r.program.Run(f, &w)
	w.closeRun()
	return append(w.dst, "\n}\n"...)
}

// rtfWriter writes paragraphs, cells and links only once they have content, so that what is blank leaves
// nothing behind.
type rtfWriter struct {
	form  *Program
	dst   []byte
	boxes []rtfBox // the document and the cells around
	rows  []rtfRowState

	run     int  // look of the text to come
	open    int  // look of the open run, plus one; 0 when none is open
	space   bool // a space is due
	address *strings.Builder
	link    rtfLink
	picture bool // the alternative text of a picture is under way
}

// rtfBox is a flow of paragraphs: the document's or a cell's.
type rtfBox struct {
	paragraph int  // look of the next or the open paragraph
	filled    bool // the open paragraph has content
	begun     bool // some paragraph was begun
	tables    bool // a table stands at the end
	def       rtfCellDef
}

// rtfRowState is a row under way.
type rtfRowState struct {
	start  int // of dst
	edge   int // right edge of the cells so far
	cells  int
	look   string
	defs   strings.Builder
	nested bool
}

// rtfLink is a link under way.
type rtfLink struct {
	address string
	begun   bool
}

// box is the innermost piece that is being written.
func (w *rtfWriter) box() *rtfBox { return &w.boxes[len(w.boxes)-1] }

// write appends control words as they are.
func (w *rtfWriter) write(s string) { w.dst = append(w.dst, s...) }

// Text takes running text.
func (w *rtfWriter) Text(s string) {
	if w.address != nil {
		w.address.WriteString(s)
		return
	}
	if w.picture {
		w.dst = appendRTF(w.dst, s)
		return
	}
	for s != "" {
		i := strings.IndexAny(s, " \t\r\n")
		if i != 0 {
			word := s
			if i > 0 {
				word = s[:i]
			}
			w.word(word)
		}
		if i < 0 {
			return
		}
		w.space = w.box().filled
		s = s[i+1:]
	}
}

// word appends text, escaped.
func (w *rtfWriter) word(s string) {
	w.begin()
	w.pending()
	if w.open != w.run+1 {
		w.closeRun()
		w.openRun()
	}
	w.dst = appendRTF(w.dst, s)
}

// openRun begins a run of letters of one look.
func (w *rtfWriter) openRun() {
	w.write("{" + w.form.looks[w.run] + " ")
	w.open = w.run + 1
}

// pending writes the space that is due, within a run: elsewhere it would end a control word.
func (w *rtfWriter) pending() {
	if w.space {
		if w.open == 0 {
			w.openRun()
		}
		w.write(" ")
		w.space = false
	}
}

// begin opens the paragraph and the link that are due.
func (w *rtfWriter) begin() {
	b := w.box()
	if !b.filled {
		w.closeRun()
		if b.begun && !b.tables {
			w.write("\\par\n")
		}
		w.write(w.form.looks[b.paragraph])
		if !b.begun && b.def.top > 0 {
			w.write(fmt.Sprintf(`\sb%d`, b.def.top))
		}
		w.write(" ")
		b.begun, b.filled, b.tables = true, true, false
		w.space = false
	}
	if w.link.address != "" && !w.link.begun {
		w.pending()
		w.closeRun()
		w.write(`{\field{\*\fldinst{HYPERLINK "`)
		w.dst = appendRTF(w.dst, w.link.address)
		w.write(`"}}{\fldrslt`)
		w.link.begun = true
	}
}

// closeRun ends it.
func (w *rtfWriter) closeRun() {
	if w.open > 0 {
		w.write("}")
		w.open = 0
	}
}

// Mark takes a layout sign.
func (w *rtfWriter) Mark(m field.Mark) {
	kind, index := rtfMark(m&(1<<rtfMarkBits-1)), int(m>>rtfMarkBits)
	b := w.box()
	switch kind {
	case rtfParagraph:
		b.paragraph, b.filled, w.space = index, false, false
	case rtfRun:
		w.run = index
	case rtfBreak:
		if b.filled {
			w.closeRun()
			w.write("\\line\n")
			w.space = false
		}
	case rtfAddress:
		w.address = &strings.Builder{}
	case rtfLabel:
		w.link = rtfLink{address: strings.TrimSpace(strings.ReplaceAll(w.address.String(), `"`, "%22"))}
		w.address = nil
	case rtfLinkEnd:
		if w.link.begun {
			w.closeRun()
			w.write("}}")
		}
		w.link = rtfLink{}
	case rtfTab:
		if b.filled {
			w.closeRun()
			w.write(`\tab `)
			w.space = false
		}
	case rtfPicture:
		w.begin()
		w.pending()
		w.closeRun()
		w.write(w.form.looks[index])
		w.picture = true
	case rtfPictureEnd:
		w.write(w.form.looks[index])
		w.picture = false
	case rtfTable:
		w.closeRun()
		if b.begun && !b.tables {
			w.write("\\par\n")
		}
		b.filled = false
	case rtfTableEnd:
		b.filled = false
	default:
		w.tableMark(kind, index)
	}
}

// tableMark takes a sign of a row or a cell.
func (w *rtfWriter) tableMark(kind rtfMark, index int) {
	if kind == rtfRow {
		w.rows = append(w.rows, rtfRowState{start: len(w.dst), look: w.form.looks[index], nested: len(w.rows) > 0})
		return
	}
	r := &w.rows[len(w.rows)-1]
	switch kind {
	case rtfCell:
		def := w.form.cells[index]
		r.edge = max(def.right, r.edge+min(def.width, 60))
		r.defs.WriteString(def.look + fmt.Sprintf(`\cellx%d`, r.edge))
		r.cells++
	case rtfCells:
		if !r.nested {
			w.write(r.look + r.defs.String() + "\n")
		}
	case rtfCellOpen:
		w.boxes = append(w.boxes, rtfBox{def: w.form.cells[index]})
	case rtfCellEnd:
		w.endCell()
	case rtfRowEnd:
		w.endRow()
	}
}

// endCell ends a cell; an empty one has a paragraph all the same.
func (w *rtfWriter) endCell() {
	w.closeRun()
	b := *w.box()
	depth := len(w.rows)
	if !b.begun || b.tables {
		// a cell ends with a paragraph; behind a table it is made as low as can be
		w.write(fmt.Sprintf(`\pard\plain\intbl\itap%d\fs2\sl-20\slmult0 `, depth))
	}
	if b.def.bottom > 0 {
		w.write(fmt.Sprintf(`\sa%d`, b.def.bottom))
	}
	if depth > 1 {
		w.write("\\nestcell{\\nonesttables\\par}\n")
	} else {
		w.write("\\cell\n")
	}
	w.boxes = w.boxes[:len(w.boxes)-1]
	w.space = false
}

// endRow ends a row.
func (w *rtfWriter) endRow() {
	r := &w.rows[len(w.rows)-1]
	switch {
	case r.cells == 0:
		w.dst = w.dst[:r.start]
	case r.nested:
		w.write(fmt.Sprintf(`\pard\plain\intbl\itap%d{\*\nesttableprops`, len(w.rows)) + r.look + r.defs.String() +
			"\\nestrow}{\\nonesttables\\par}\n")
	default:
		w.write("\\row\n")
	}
	if r.cells > 0 {
		b := w.box()
		b.begun, b.tables, b.filled = true, true, false
	}
	w.rows = w.rows[:len(w.rows)-1]
}
