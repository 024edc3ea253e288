package person

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"missivum/core/charset"
	"net/mail"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/transform"
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
	Note    string `json:"note,omitempty"` // why it is left out, or how it is put together
}

// Reader reads people from CSV (RFC 4180) row by row: in UTF-8, UTF-16, or a windows or ISO 8859 set that is guessed and
// said, separated by commas, semicolons or tabs.
type Reader struct {
	csv     *csv.Reader
	row     *rowLimit
	schema  *Schema
	columns []Column
	target  []int
	mail    int
	name    [3]int // places of cn, givenName and sn, where the name is composed; cn is -1 where it is not
	country [2]int // places of c and co, where the code is taken from the country's name; c is -1 where it is not
	number  int
	seen    map[string]int
	note    string
}

// NewReader reads the header. mapping gives a field for a heading, and "" to leave a column out; a heading in it that
// the file has not is an error. Headings that are not mapped are taken as standard fields by name, or by their usual
// titles in eight languages. What is neither is left out: nothing is kept that nobody named. A file without a mail
// column is refused: the mail address is what distinguishes people. Without a column for the whole name it is composed
// of first and last name. known are fields beside the standard ones that a heading may name, such as those that the
// directory has already.
func NewReader(r io.Reader, mapping map[string]string, known ...string) (*Reader, error) {
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
	reader := &Reader{csv: c, row: limit, schema: NewSchema(), number: 1, seen: map[string]int{}, note: note, name: [3]int{-1, -1, -1},
		country: [2]int{-1, -1}}
	for i := range header {
		header[i] = strings.TrimSpace(header[i])
		if !utf8.ValidString(header[i]) {
			return nil, errors.New("the header is not UTF-8; save the file as UTF-8 text")
		}
	}
	if err := unknownHeadings(mapping, header); err != nil {
		return nil, err
	}
	guesses := headingsOfFile(header)
	for i, heading := range header {
		at := slices.IndexFunc(known, func(k string) bool { return strings.EqualFold(k, heading) })
		if guesses[i] == "" && at >= 0 && ValidName(heading) {
			guesses[i] = known[at]
		}
		if err := reader.addColumn(strings.Clone(heading), guesses[i], mapping); err != nil {
			return nil, err
		}
	}
	column, _, _ := reader.schema.Column("mail")
	if column < 0 {
		return nil, fmt.Errorf("no column holds the mail address; name one \"mail\" or map it. Columns found: %s",
			strings.Join(headingsOf(reader.columns), ", "))
	}
	reader.mail = column
	reader.compose()
	return reader, nil
}

// unknownHeadings refuses a mapping of columns that are not there.
func unknownHeadings(mapping map[string]string, header []string) error {
	for _, heading := range slices.Sorted(maps.Keys(mapping)) {
		if slices.Contains(header, heading) {
			continue
		}
		message := fmt.Sprintf("there is no column %q", heading)
		if near := Nearest(heading, header); len(near) > 0 {
			return fmt.Errorf("%s; there is %q", message, near[0])
		}
		return fmt.Errorf("%s; there are %s", message, strings.Join(header, ", "))
	}
	return nil
}

// compose adds the whole name where a file has only its parts, and the country's code where it has only its name.
func (r *Reader) compose() {
	code, _, _ := r.schema.Column("c")
	if country, _, _ := r.schema.Column("co"); country >= 0 && code < 0 {
		r.country = [2]int{r.schema.add("c"), country}
		r.columns = append(r.columns, Column{Field: "c", Guessed: true, Note: "the code of the country in co"})
	}
	given, _, _ := r.schema.Column("givenName")
	family, _, _ := r.schema.Column("sn")
	if whole, _, _ := r.schema.Column("cn"); whole >= 0 || given < 0 || family < 0 {
		return
	}
	r.name = [3]int{r.schema.add("cn"), given, family}
	r.columns = append(r.columns, Column{Field: "cn", Guessed: true, Note: "composed of givenName and sn"})
}

// Note says what should be known of the file's character set; empty where there is nothing to say.
func (r *Reader) Note() string { return r.note }

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
}

// errRow is the end of a file in a row that is too long.
var errRow = fmt.Errorf("a row is longer than %d kB; check the quotes", maxRow>>10)

// Read reads, within the limit.
func (l *rowLimit) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, errRow
	}
	n, err := l.Reader.Read(p[:min(len(p), 64<<10)])
	l.left -= n
	return n, err
}

// headingsOf are the headings of columns.
func headingsOf(columns []Column) []string {
	var list []string
	for _, c := range columns {
		list = append(list, c.Heading)
	}
	return list
}

// addColumn decides which field a column holds: by the mapping, or as its title was guessed. Of two columns guessed to
// be the same the first is taken.
func (r *Reader) addColumn(heading, guess string, mapping map[string]string) error {
	column := Column{Heading: heading}
	field, mapped := mapping[heading]
	switch {
	case mapped:
		column.Field = field
		if field != "" && !ValidName(field) {
			return fmt.Errorf("the field name %q for column %q is not usable; use letters, digits and hyphens", field, heading)
		}
	case guess != "":
		column.Field, column.Guessed = guess, !strings.EqualFold(guess, heading)
	case heading != "":
		column.Guessed, column.Note = true, "not mapped to a field"
	}
	if column.Field != "" {
		if _, taken := r.schema.index[strings.ToLower(column.Field)]; taken {
			if mapped {
				return fmt.Errorf("two columns hold the field %q; rename or leave out column %q", column.Field, heading)
			}
			column.Note = "another column is " + column.Field + " already"
			column.Field, column.Guessed = "", true
		}
	}
	for other, field := range mapping { // a mapped column comes before one that was guessed
		if !mapped && column.Field != "" && strings.EqualFold(field, column.Field) {
			column.Note = other + " is " + column.Field
			column.Field, column.Guessed = "", true
		}
	}
	target := -1
	if column.Field != "" {
		target = r.schema.add(column.Field)
	}
	r.columns = append(r.columns, column)
	r.target = append(r.target, target)
	return nil
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
	r.row.left = maxRow
	record, err := r.csv.Read()
	if errors.Is(err, io.EOF) {
		return Person{}, io.EOF
	}
	r.number++
	if r.number > MaxRows+1 {
		return Person{}, fmt.Errorf("the file has more than %d people", MaxRows)
	}
	var parse *csv.ParseError
	if errors.As(err, &parse) {
		message := "the quotes do not match: " + parse.Err.Error()
		if parse.Line > parse.StartLine {
			message += fmt.Sprintf("; all from line %d to line %d is taken for this row", parse.StartLine, parse.Line)
		}
		return Person{}, RowError{r.number, message}
	}
	if err != nil {
		return Person{}, fmt.Errorf("row %d cannot be read: %w", r.number, err)
	}
	return r.person(record)
}

// person reads a row.
func (r *Reader) person(record []string) (Person, error) {
	if len(record) != len(r.target) {
		return Person{}, RowError{r.number, fmt.Sprintf("%d of the %d values that the header names", len(record), len(r.target))}
	}
	p := Person{Values: make([]string, r.schema.Len())}
	for i, value := range record {
		if r.target[i] < 0 {
			continue
		}
		heading := r.columns[i].Heading
		if len(value) > maxValue {
			return Person{}, RowError{r.number, fmt.Sprintf("%s is %d bytes long; at most %d are read", heading, len(value), maxValue)}
		}
		if !utf8.ValidString(value) {
			return Person{}, RowError{r.number, heading + " is not UTF-8; save the file as UTF-8 text"}
		}
		p.Values[r.target[i]] = strings.Clone(strings.TrimSpace(value))
	}
	address := p.Values[r.mail]
	if address == "" {
		return Person{}, RowError{r.number, "the mail address is blank"}
	}
	if parsed, err := mail.ParseAddress(address); err != nil || parsed.Address != address {
		return Person{}, RowError{r.number, fmt.Sprintf("%q is not a mail address", address)}
	}
	key := strings.ToLower(address)
	if first, ok := r.seen[key]; ok {
		return Person{}, RowError{r.number, fmt.Sprintf("repeats the address in row %d: %s", first, address)}
	}
	r.seen[key] = r.number
	if r.country[0] >= 0 {
		p.Values[r.country[0]] = CountryCode(p.Values[r.country[1]])
	}
	if r.name[0] >= 0 {
		p.Values[r.name[0]] = strings.TrimSpace(p.Values[r.name[1]] + " " + p.Values[r.name[2]])
	}
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
			if bad = append(bad, row); len(bad) > maxBad {
				return nil, nil, fmt.Errorf("more than %d rows cannot be read; the first: %w", maxBad, bad[0])
			}
		case err != nil:
			return nil, nil, err
		default:
			if d.People = append(d.People, p); len(d.People)*r.schema.Len() > maxValues {
				return nil, nil, fmt.Errorf("the file has more than %d values: people times columns", maxValues)
			}
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
