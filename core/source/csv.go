package source

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
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
	ahead  []aheadRow // rows that were read to understand the table
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
	comma, first := rune(0), 0
	if named := sepLine.FindSubmatch(head); named != nil { // as some spreadsheets write it
		comma, first = rune(named[1][0]), 1
		if _, err := b.Discard(len(named[0])); err != nil {
			return nil, fmt.Errorf("the file cannot be read: %w", err)
		}
	} else {
		comma = separator(head)
	}
	c := csv.NewReader(b)
	c.Comma = comma
	c.FieldsPerRecord = -1
	t := &table{csv: c, limit: limit}
	t.lookAhead()
	at, err := t.header(how.Mapping)
	if err != nil {
		return nil, err
	}
	header := t.ahead[at].record
	if at > 0 {
		note = strings.TrimSpace(fmt.Sprintf("%s The header is row %d; what stands above it was passed over.", note, first+at+1))
	}
	t.ahead, t.number = t.ahead[at+1:], first+at+1
	if err := unknownHeadings(how.Mapping.Columns, header); err != nil {
		return nil, err
	}
	guesses := headingsOfFile(header)
	for i, heading := range header {
		if guesses[i] == "" {
			guesses[i] = knownAs(heading, how.Known)
		}
	}
	byValues := t.mailByValues(header, guesses, how.Mapping)
	reader := &Reader{Reading: how, format: t, note: note}
	if err := reader.begin(header, guesses, false); err != nil {
		return nil, err
	}
	if byValues >= 0 {
		reader.columns[byValues].Note = "its values are mail addresses"
	}
	return reader, nil
}

// sepLine is a first line that names the separator.
var sepLine = regexp.MustCompile(`\A"?sep=([,;\t|])"?\r?\n`)

// aheadRow is a row that was read ahead, or why it could not be.
type aheadRow struct {
	record []string
	err    error
}

// Limits of looking ahead.
const (
	rowsAhead   = 60 // rows that are read to understand a table
	rowsAbove   = 15 // rows that may stand above the header
	fewestMails = 9  // of ten values, those that are mail addresses in a column that is taken for that
)

// lookAhead reads the first rows.
func (t *table) lookAhead() {
	for len(t.ahead) < rowsAhead {
		t.limit.left = maxRow
		record, err := t.csv.Read()
		t.ahead = append(t.ahead, aheadRow{slices.Clone(record), err})
		var parse *csv.ParseError
		if err != nil && !errors.As(err, &parse) {
			break
		}
	}
	t.csv.ReuseRecord = true
}

// header finds the header among the first rows: the first of them that names a column for mail addresses, or that has all
// columns of the mapping; the first row where there is none.
func (t *table) header(m Mapping) (at int, err error) {
	switch first := t.ahead[0]; {
	case errors.Is(first.err, io.EOF):
		return 0, errors.New("the file is empty; the first row must name the fields")
	case first.err != nil:
		return 0, fmt.Errorf("the header cannot be read: %w", first.err)
	}
	for i, row := range t.ahead[:min(rowsAbove, len(t.ahead))] {
		if row.err != nil {
			break
		}
		for c := range row.record {
			row.record[c] = strings.Clone(strings.TrimSpace(row.record[c]))
		}
		named := len(m.Columns) > 0
		for heading := range m.Columns {
			named = named && slices.Contains(row.record, heading)
		}
		if named || slices.Contains(headingsOfFile(row.record), "mail") {
			at = i
			break
		}
	}
	header := t.ahead[at].record
	if len(header) > maxColumns {
		return 0, fmt.Errorf("the file has %d columns; at most %d are read", len(header), maxColumns)
	}
	for _, heading := range header {
		if !utf8.ValidString(heading) {
			return 0, errors.New("the header is not UTF-8; save the file as UTF-8 text")
		}
	}
	return at, nil
}

// mailByValues takes a column for the mail address whose title says nothing and whose values are mail addresses, where no title
// says so. It gives the column; -1 for none.
func (t *table) mailByValues(header, guesses []string, m Mapping) int {
	for i, heading := range header {
		if m.Columns[heading] == "mail" || guesses[i] == "mail" {
			return -1
		}
	}
	for i, heading := range header {
		if _, mapped := m.Columns[heading]; mapped || guesses[i] != "" {
			continue
		}
		mails, values := 0, 0
		for _, row := range t.ahead {
			if row.err != nil || i >= len(row.record) || strings.TrimSpace(row.record[i]) == "" {
				continue
			}
			if values++; Address(strings.TrimSpace(row.record[i])) {
				mails++
			}
		}
		if values > 0 && mails*10 >= values*fewestMails {
			guesses[i] = "mail"
			return i
		}
	}
	return -1
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
	var record []string
	var err error
	if len(t.ahead) > 0 {
		record, err = t.ahead[0].record, t.ahead[0].err
		t.ahead = t.ahead[1:]
	} else {
		t.limit.left = maxRow
		record, err = t.csv.Read()
	}
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
	for len(record) > len(into.values) && strings.TrimSpace(record[len(record)-1]) == "" {
		record = record[:len(record)-1] // separators behind the last value
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

// separators are the signs that can separate values.
const separators = ",;\t|"

// separator is the sign that separates the values: the one that stands equally often in most of the first lines, and of several
// the one that stands there most often.
func separator(head []byte) rune {
	lines := bytes.Split(head, []byte("\n"))
	if len(lines) > 1 {
		lines = lines[:min(20, len(lines)-1)] // the last may be cut off
	}
	best, most, often := ',', 0, 0
	for _, c := range separators {
		equal := map[int]int{} // lines by how often the sign stands in them
		for _, line := range lines {
			if n := bytes.Count(line, []byte(string(c))); n > 0 {
				equal[n]++
			}
		}
		for n, count := range equal {
			if count > often || count == often && n > most {
				best, most, often = c, n, count
			}
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
