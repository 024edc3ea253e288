package source

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/transform"

	"missivum/core/charset"
	"missivum/core/person"
)

// Limits of a CSV file.
const (
	maxColumns = 200       // columns
	maxValue   = 16 << 10  // bytes in one value
	maxRow     = 256 << 10 // bytes in one row
	MaxRows    = 1_000_000 // people
	maxValues  = 8_000_000 // people times fields
	maxBad     = 10_000    // rows that cannot be read
)

// table reads the rows of CSV (RFC 4180).
type table struct {
	csv    *csv.Reader
	limit  *rowLimit
	number int
}

// NewReader reads a table with default ways: in UTF-8, UTF-16, or a windows or ISO 8859 set that is guessed and said,
// separated by commas, semicolons or tabs. The mapping gives a field for a heading, and "" to leave a column out; a
// heading in it that the file has not is an error. Headings that are not mapped are taken as standard fields by name, or
// by their usual titles in eight languages. What is neither is left out: nothing is kept that nobody named. A file
// without a mail column is refused: the mail address is what distinguishes people. Without a column for the whole name
// it is composed of first and last name. known are fields beside the standard ones that a heading may name, such as
// those that the directory has already.
func NewReader(r io.Reader, m Mapping, known ...string) (*Reader, error) {
	return newTable(r, Reading{Mapping: m, Known: known})
}

// newTable reads the header of a table.
func newTable(r io.Reader, how Reading) (*Reader, error) {
	text, note, err := decoded(r)
	if err != nil {
		return nil, err
	}
	limit := &rowLimit{Reader: text, left: maxRow}
	b := bufio.NewReaderSize(limit, 64<<10)
	head, _ := b.Peek(8 << 10)
	limit.left = maxRow
	if i := bytes.IndexByte(head, '\n'); i >= 0 {
		head = head[:i]
	}
	c := csv.NewReader(b)
	c.Comma = separator(head)
	c.FieldsPerRecord = -1
	c.ReuseRecord = true
	header, err := c.Read()
	if errors.Is(err, io.EOF) {
		return nil, errors.New("the file is empty; the first row must name the fields")
	}
	if err != nil {
		return nil, fmt.Errorf("the header cannot be read: %w", err)
	}
	if len(header) > maxColumns {
		return nil, fmt.Errorf("the file has %d columns; at most %d are read", len(header), maxColumns)
	}
	header = slices.Clone(header)
	for i := range header {
		header[i] = strings.Clone(strings.TrimSpace(header[i]))
		if !utf8.ValidString(header[i]) {
			return nil, errors.New("the header is not UTF-8; save the file as UTF-8 text")
		}
	}
	if err := unknownHeadings(how.Mapping.Columns, header); err != nil {
		return nil, err
	}
	guesses := headingsOfFile(header)
	for i, heading := range header {
		if guesses[i] == "" {
			guesses[i] = knownAs(heading, how.Known)
		}
	}
	reader := &Reader{Reading: how, format: &table{csv: c, limit: limit, number: 1}, note: note}
	return reader, reader.begin(header, guesses, false)
}

// knownAs is the field of the directory that a heading names; blank for none.
func knownAs(heading string, known []string) string {
	at := slices.IndexFunc(known, func(k string) bool { return strings.EqualFold(k, heading) })
	if at < 0 || !person.ValidName(heading) {
		return ""
	}
	return known[at]
}

// next reads a row.
func (t *table) next(into *raw) error {
	t.limit.left = maxRow
	record, err := t.csv.Read()
	if errors.Is(err, io.EOF) {
		return io.EOF
	}
	t.number++
	into.row = t.number
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		message := "the quotes do not match: " + parse.Err.Error()
		if parse.Line > parse.StartLine {
			message += fmt.Sprintf("; all from line %d to line %d is taken for this row", parse.StartLine, parse.Line)
		}
		return RowError{t.number, message}
	}
	if err != nil {
		return fmt.Errorf("row %d cannot be read: %w", t.number, err)
	}
	if len(record) != len(into.values) {
		return RowError{t.number, fmt.Sprintf("%d of the %d values that the header names", len(record), len(into.values))}
	}
	copy(into.values, record)
	return nil
}

// sample is how much of a file is looked at to know its character set, in bytes.
const sample = 1 << 20

// decoded is a file as UTF-8, and what is to be said of its character set.
func decoded(r io.Reader) (io.Reader, string, error) {
	b := bufio.NewReaderSize(r, sample)
	head, err := b.Peek(sample)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, "", fmt.Errorf("the file cannot be read: %w", err)
	}
	if len(head) == sample { // a letter may go on behind it
		for i := 0; i < utf8.UTFMax && len(head) > 0 && !utf8.RuneStart(head[len(head)-1]); i++ {
			head = head[:len(head)-1]
		}
		head = head[:len(head)-1]
	}
	decoder, name, note := charset.Decoder(head)
	if name == "utf-8" {
		if bytes.HasPrefix(head, []byte("\xef\xbb\xbf")) {
			b.Discard(3)
		}
		return b, "", nil
	}
	return transform.NewReader(b, decoder), note, nil
}

// rowLimit ends a file in which a row is longer than is read.
type rowLimit struct {
	io.Reader
	left int
	is   error // what is said then; nil for rows
}

// errRow is the end of a file in a row that is too long.
var errRow = fmt.Errorf("a row is longer than %d kB; check the quotes", maxRow>>10)

// Read reads, within the limit.
func (l *rowLimit) Read(p []byte) (int, error) {
	if l.left <= 0 && l.is != nil {
		return 0, l.is
	}
	if l.left <= 0 {
		return 0, errRow
	}
	n, err := l.Reader.Read(p[:min(len(p), 64<<10)])
	l.left -= n
	return n, err
}

// separator is the sign that separates the values: the one that the first row has most of.
func separator(header []byte) rune {
	best, most := ',', 0
	for _, c := range ",;\t" {
		if n := bytes.Count(header, []byte(string(c))); n > most {
			best, most = c, n
		}
	}
	return best
}

// WriteCSV writes a directory as CSV (RFC 4180) with the field names as header, UTF-8, commas.
func WriteCSV(w io.Writer, d *person.Directory) error {
	c := csv.NewWriter(w)
	if err := c.Write(d.Schema.Names()); err != nil {
		return err
	}
	for i := range d.People {
		if err := c.Write(d.People[i].Values); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// rowsOf reads a small table whole.
func rowsOf(text io.Reader) ([][]string, error) {
	b := bufio.NewReaderSize(text, 8<<10)
	head, _ := b.Peek(8 << 10)
	if i := bytes.IndexByte(head, '\n'); i >= 0 {
		head = head[:i]
	}
	c := csv.NewReader(b)
	c.Comma = separator(head)
	c.FieldsPerRecord = -1
	return c.ReadAll()
}
