package person

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/mail"
	"strings"
	"unicode/utf8"
)

// Limits of a CSV file.
const (
	maxColumns = 200       // columns
	maxValue   = 16 << 10  // bytes in one value
	MaxRows    = 1_000_000 // people
)

// RowError is what is wrong with one row of a file. The row is left out; the others are read.
type RowError struct {
	Row     int    `json:"row"` // counted from 1, the header being row 1, as a spreadsheet counts
	Message string `json:"message"`
}

func (e RowError) Error() string { return fmt.Sprintf("row %d: %s", e.Row, e.Message) }

// Column says what a column of a file was taken for.
type Column struct {
	Heading string `json:"heading"`
	Field   string `json:"field"` // empty: left out
	Guessed bool   `json:"guessed"`
}

// Reader reads people from CSV (RFC 4180) row by row: UTF-8 with or without a byte order mark,
// separated by commas, semicolons or tabs.
type Reader struct {
	csv     *csv.Reader
	schema  *Schema
	columns []Column
	target  []int
	mail    int
	row     int
	seen    map[string]int
}

// NewReader reads the header. mapping gives a field for a heading, and "" to leave a column out;
// headings that are not mapped are taken as field names, as well-known titles, or as the directory's
// own fields. A file without a mail column is refused: the mail address is what distinguishes people.
func NewReader(r io.Reader, mapping map[string]string) (*Reader, error) {
	b := bufio.NewReaderSize(r, 64<<10)
	if mark, _ := b.Peek(3); bytes.Equal(mark, []byte("\xef\xbb\xbf")) {
		b.Discard(3)
	}
	head, _ := b.Peek(8 << 10)
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
	reader := &Reader{csv: c, schema: NewSchema(), row: 1, seen: map[string]int{}}
	for _, heading := range header {
		if err := reader.addColumn(strings.TrimSpace(heading), mapping); err != nil {
			return nil, err
		}
	}
	column, _, _ := reader.schema.Column("mail")
	if column < 0 {
		return nil, fmt.Errorf("no column holds the mail address; name one \"mail\" or map it. Columns found: %s",
			strings.Join(headingsOf(reader.columns), ", "))
	}
	reader.mail = column
	return reader, nil
}

// headingsOf are the headings of columns.
func headingsOf(columns []Column) []string {
	var list []string
	for _, c := range columns {
		list = append(list, c.Heading)
	}
	return list
}

// addColumn decides which field a column holds: by the mapping, by its name, or by a heading in one of many
// languages.
func (r *Reader) addColumn(heading string, mapping map[string]string) error {
	if !utf8.ValidString(heading) {
		return errors.New("the header is not UTF-8; save the file as UTF-8 text")
	}
	column := Column{Heading: heading}
	if field, ok := mapping[heading]; ok {
		column.Field = field
		if field != "" && !ValidName(field) {
			return fmt.Errorf("the field name %q for column %q is not usable; use letters, digits and hyphens", field, heading)
		}
	} else if field, ok := Heading(heading); ok {
		column.Field, column.Guessed = field, !strings.EqualFold(field, heading)
	} else if ValidName(heading) {
		column.Field = heading
	} else if heading != "" {
		column.Field, column.Guessed = camel(heading), true
	}
	target := -1
	if column.Field != "" {
		if _, taken := r.schema.index[strings.ToLower(column.Field)]; taken {
			return fmt.Errorf("two columns hold the field %q; rename or leave out column %q", column.Field, heading)
		}
		target = r.schema.add(column.Field)
	}
	r.columns = append(r.columns, column)
	r.target = append(r.target, target)
	return nil
}

// camel makes a field name of a heading such as "Radio call sign".
func camel(heading string) string {
	words := strings.FieldsFunc(heading, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9')
	})
	var b strings.Builder
	for i, w := range words {
		w = strings.ToLower(w)
		if i > 0 {
			w = strings.ToUpper(w[:1]) + w[1:]
		}
		b.WriteString(w)
	}
	if !ValidName(b.String()) {
		return ""
	}
	return b.String()
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

// Schema lists the fields the file holds.
func (r *Reader) Schema() *Schema { return r.schema }

// Columns says what each column was taken for.
func (r *Reader) Columns() []Column { return r.columns }

// Next returns the next person. A RowError says why one row is left out; reading can go on. At the
// end the error is io.EOF; any other error ends the file.
func (r *Reader) Next() (Person, error) {
	record, err := r.csv.Read()
	if errors.Is(err, io.EOF) {
		return Person{}, io.EOF
	}
	r.row++
	if r.row > MaxRows+1 {
		return Person{}, fmt.Errorf("the file has more than %d people", MaxRows)
	}
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		message := "the quotes do not match: " + parse.Err.Error()
		if parse.Line > parse.StartLine {
			message += fmt.Sprintf("; all from line %d to line %d is taken for this row", parse.StartLine, parse.Line)
		}
		return Person{}, RowError{r.row, message}
	}
	if err != nil {
		return Person{}, fmt.Errorf("row %d cannot be read: %w", r.row, err)
	}
	return r.person(record)
}

// person reads a row.
func (r *Reader) person(record []string) (Person, error) {
	if len(record) != len(r.target) {
		return Person{}, RowError{r.row, fmt.Sprintf("%d of the %d values that the header names", len(record), len(r.target))}
	}
	p := Person{Values: make([]string, r.schema.Len())}
	for i, value := range record {
		if r.target[i] < 0 {
			continue
		}
		heading := r.columns[i].Heading
		if len(value) > maxValue {
			return Person{}, RowError{r.row, fmt.Sprintf("%s is %d bytes long; at most %d are read", heading, len(value), maxValue)}
		}
		if !utf8.ValidString(value) {
			return Person{}, RowError{r.row, heading + " is not UTF-8; save the file as UTF-8 text"}
		}
		p.Values[r.target[i]] = strings.Clone(strings.TrimSpace(value))
	}
	address := p.Values[r.mail]
	if address == "" {
		return Person{}, RowError{r.row, "the mail address is blank"}
	}
	if parsed, err := mail.ParseAddress(address); err != nil || parsed.Address != address {
		return Person{}, RowError{r.row, fmt.Sprintf("%q is not a mail address", address)}
	}
	key := strings.ToLower(address)
	if first, ok := r.seen[key]; ok {
		return Person{}, RowError{r.row, fmt.Sprintf("repeats the address in row %d: %s", first, address)}
	}
	r.seen[key] = r.row
	return p, nil
}

// All reads the rest of the file: the people, and the rows that were left out with the reason.
func (r *Reader) All() (*Directory, []RowError, error) {
	d := &Directory{Schema: r.schema}
	bad := []RowError{}
	for {
		p, err := r.Next()
		var row RowError
		switch {
		case errors.Is(err, io.EOF):
			return d, bad, nil
		case errors.As(err, &row):
			bad = append(bad, row)
		case err != nil:
			return nil, nil, err
		default:
			d.People = append(d.People, p)
		}
	}
}

// ReadCSV reads a whole file: the people, and the rows that were left out with the reason.
func ReadCSV(r io.Reader, mapping map[string]string) (*Directory, []RowError, error) {
	reader, err := NewReader(r, mapping)
	if err != nil {
		return nil, nil, err
	}
	return reader.All()
}

// WriteCSV writes a directory as CSV (RFC 4180) with the field names as header, UTF-8, commas.
func WriteCSV(w io.Writer, d *Directory) error {
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
