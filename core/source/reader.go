// Package source reads people from what organisations have: CSV files, LDIF, vCards, and the entries of a live directory.
// A Mapping says which column or attribute is which field, and what is made of them. Start with Open.
package source

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/mail"
	"slices"
	"strings"
	"unicode/utf8"

	"missivum/core/person"
	"missivum/core/problem"
)

// RowError is what is wrong with one entry of a source. The entry is left out; the others are read.
type RowError struct {
	Row     int    `json:"row"` // the row of a spreadsheet, the header being row 1; the number of an entry elsewhere
	Message string `json:"message"`
}

func (e RowError) Error() string { return fmt.Sprintf("row %d: %s", e.Row, e.Message) }

// Column says what a column or attribute was taken for.
type Column struct {
	Heading string `json:"heading"`
	Field   string `json:"field"` // empty: left out
	Guessed bool   `json:"guessed"`
	Note    string `json:"note,omitempty"` // why it is left out, or how it is put together
}

// Entry is one person as a source has them.
type Entry struct {
	person.Person
	Row   int
	Key   string // what identifies the person at the source, for as long as they are there
	Photo []byte // as the source has it; nil for none
}

// raw is an entry as its format has it: values by column.
type raw struct {
	values []string
	row    int
	key    string
	groups []string
	photo  []byte
}

// format reads entries one after the other; io.EOF ends them, a RowError leaves one out.
type format interface{ next(*raw) error }

// Reading says how people are read.
type Reading struct {
	Mapping Mapping
	Known   []string // fields beside the standard ones that a column may name, such as those the directory has
	NoMail  bool     // entries without a mail address are read too: they add to people who are known by something else
}

// Reader reads people entry by entry.
type Reader struct {
	Reading
	format  format
	schema  *person.Schema
	columns []Column
	target  []int
	filled  []bool // fields that anybody has, beside seen
	seen    []bool // columns in which anybody has a value; nil where all columns are there, as in a table
	others  map[string]bool
	names   []string // of the columns as the source has them
	mail    int
	key     int    // place of the field that identifies; -1 for what the format has
	name    [3]int // places of cn, givenName and sn, where the name is composed; cn is -1 where it is not
	country [2]int // places of c and co, where the code is taken from the country's name; c is -1 where it is not
	rules   *rules
	raw     raw
	ended   error
	number  int
	mails   map[string]int
	keys    map[string]int
	note    string
}

// Open reads people from a file: vCards, LDIF or a table, by how it begins.
func Open(r io.Reader, how Reading) (*Reader, error) {
	if s, ok := r.(io.ReadSeeker); ok {
		head := make([]byte, 512)
		n, err := io.ReadFull(s, head)
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, fmt.Errorf("the file cannot be read: %w", err)
		}
		if _, err := s.Seek(0, io.SeekStart); err != nil {
			return nil, fmt.Errorf("the file cannot be read: %w", err)
		}
		return open(r, head[:n], how)
	}
	b := bufio.NewReader(r)
	head, err := b.Peek(512)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("the file cannot be read: %w", err)
	}
	return open(b, head, how)
}

// open picks the format by the first bytes of a file.
func open(r io.Reader, head []byte, how Reading) (*Reader, error) {
	switch FormatOf(head) {
	case VCards:
		return newVCards(r, how)
	case LDIF:
		return newLDIF(r, how)
	}
	return newTable(r, how)
}

// The formats of files.
const (
	CSV    = "csv"
	LDIF   = "ldif"
	VCards = "vcard"
)

// FormatOf tells a file's format by its first bytes: a vCard (RFC 6350, 3.3), LDIF (RFC 2849), and all else is a table.
func FormatOf(head []byte) string {
	head = bytes.TrimPrefix(head, []byte("\xef\xbb\xbf"))
	for line := range bytes.Lines(head) {
		line = bytes.ToLower(bytes.TrimSpace(line))
		switch {
		case len(line) == 0, line[0] == '#':
			continue
		case bytes.Equal(line, []byte("begin:vcard")):
			return VCards
		case bytes.HasPrefix(line, []byte("version:")), bytes.HasPrefix(line, []byte("dn:")):
			return LDIF
		}
		break
	}
	return CSV
}

// ReadCSV reads a whole table: the people, and the rows that were left out with the reason.
func ReadCSV(r io.Reader, m Mapping) (*person.Directory, []RowError, error) {
	reader, err := NewReader(r, m)
	if err != nil {
		return nil, nil, err
	}
	return reader.All()
}

// begin decides what each column is. wide is for formats whose columns are all that there could be.
func (r *Reader) begin(header []string, guesses []string, wide bool) error {
	r.names = header
	r.schema = person.NewSchema()
	r.mails, r.keys = map[string]int{}, map[string]int{}
	if wide {
		r.seen, r.others = make([]bool, len(header)), map[string]bool{}
	}
	var fields []string
	taken := map[string]bool{}
	for i, heading := range header {
		field, err := r.addColumn(heading, guesses[i], taken)
		if err != nil {
			return err
		}
		fields = append(fields, field)
		if field != "" {
			taken[strings.ToLower(field)] = true
		}
	}
	has := func(field string) bool { return taken[strings.ToLower(field)] }
	made := r.composed(has, wide)
	rules, err := r.Mapping.compile(slices.Concat(nonBlank(fields), made), r.Known)
	if err != nil {
		return err
	}
	r.rules, r.schema, r.filled = rules, rules.schema, make([]bool, rules.schema.Len())
	for _, field := range fields {
		column := -1
		if field != "" {
			column, _, _ = r.schema.Column(field)
		}
		r.target = append(r.target, column)
	}
	r.columns = append(r.columns, rules.columns()...)
	r.place()
	if r.mail < 0 && !r.NoMail {
		return fmt.Errorf("no column holds the mail address; name one \"mail\" or map it. Columns found: %s",
			strings.Join(header, ", "))
	}
	if r.Mapping.Key != "" && r.key < 0 {
		return fmt.Errorf("no column holds %s, which identifies people by the mapping", r.Mapping.Key)
	}
	return nil
}

// place looks up where the fields stand that are read for themselves.
func (r *Reader) place() {
	at := func(name string) int { column, _, _ := r.schema.Column(name); return column }
	r.mail, r.key = at("mail"), -1
	if r.Mapping.Key != "" {
		r.key = at(r.Mapping.Key)
	}
	switch r.name[0] {
	case 0:
		r.name = [3]int{at("cn"), at("givenName"), at("sn")}
	case 1:
		r.name = [3]int{at("cn"), at("displayName"), -1}
	}
	if r.country[0] >= 0 {
		r.country = [2]int{at("c"), at("co")}
	}
}

// nonBlank are the values that are not blank.
func nonBlank(list []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return s == "" })
}

// composed decides what is put together where a source has only parts: the whole name, and the country's code. It gives
// the fields that are new by it.
func (r *Reader) composed(has func(string) bool, wide bool) (made []string) {
	r.name, r.country = [3]int{-1, -1, -1}, [2]int{-1, -1}
	if has("co") && (wide || !has("c")) {
		r.country[0] = 0
		if !has("c") {
			made = append(made, "c")
			r.columns = append(r.columns, Column{Field: "c", Guessed: true, Note: "the code of the country in co"})
		}
	}
	if has("givenName") && has("sn") && (wide || !has("cn")) {
		r.name[0] = 0
		if !has("cn") {
			made = append(made, "cn")
			r.columns = append(r.columns, Column{Field: "cn", Guessed: true, Note: "composed of givenName and sn"})
		}
	} else if has("displayName") && !has("cn") && !wide {
		r.name[0] = 1
		made = append(made, "cn")
		r.columns = append(r.columns, Column{Field: "cn", Guessed: true, Note: "the same as displayName"})
	}
	return made
}

// addColumn decides which field a column holds: by the mapping, or as its title was guessed. Of two columns guessed to
// be the same the first is taken. Blank for a column that is left out.
func (r *Reader) addColumn(heading, guess string, taken map[string]bool) (string, error) {
	mapping := r.Mapping.Columns
	column := Column{Heading: heading}
	field, mapped := mapping[heading]
	switch {
	case mapped:
		column.Field = field
		if field != "" && !person.ValidName(field) {
			return "", fmt.Errorf("the field name %q for column %q is not usable; use letters, digits and hyphens", field, heading)
		}
	case guess != "":
		column.Field, column.Guessed = guess, !strings.EqualFold(guess, heading)
	case heading != "":
		column.Guessed, column.Note = true, "not mapped to a field"
	}
	if column.Field != "" {
		column.Field, _ = person.Canonical(column.Field)
		if taken[strings.ToLower(column.Field)] {
			if mapped {
				return "", fmt.Errorf("two columns hold the field %q; rename or leave out column %q", column.Field, heading)
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
	r.columns = append(r.columns, column)
	return column.Field, nil
}

// unknownHeadings refuses a mapping of columns that are not there.
func unknownHeadings(mapping map[string]string, header []string) error {
	for _, heading := range slices.Sorted(maps.Keys(mapping)) {
		if slices.Contains(header, heading) {
			continue
		}
		message := fmt.Sprintf("there is no column %q", heading)
		if near := person.Nearest(heading, header); len(near) > 0 {
			return fmt.Errorf("%s; there is %q", message, near[0])
		}
		return fmt.Errorf("%s; there are %s", message, strings.Join(header, ", "))
	}
	return nil
}

// Table reports whether the source is a table, which may have only some of the fields: of an entry of a directory and of a
// card all is known.
func (r *Reader) Table() bool { return r.seen == nil }

// Note says what should be known of the file's character set; empty where there is nothing to say.
func (r *Reader) Note() string { return r.note }

// Schema lists the fields that the source's people have.
func (r *Reader) Schema() *person.Schema { return r.schema }

// Columns says what each column was taken for. Of a source whose attributes are known only once it is read, those are
// listed in which anybody had a value so far.
func (r *Reader) Columns() []Column {
	if r.seen == nil {
		return r.columns
	}
	list := []Column{}
	for i, c := range r.columns {
		_, mapped := r.Mapping.Columns[c.Heading]
		if i >= len(r.seen) && c.Heading != "" || i >= len(r.seen) || r.seen[i] || mapped {
			list = append(list, c)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.others)) {
		list = append(list, Column{Heading: name, Guessed: true, Note: "not mapped to a field"})
	}
	return list
}

// Fields lists the fields that the source gives; others are not its to say. Of a source whose attributes are known only
// once it is read, those are listed in which anybody had a value so far.
func (r *Reader) Fields() []string {
	if r.seen == nil {
		return r.schema.Names()
	}
	var list []string
	for column, name := range r.schema.Names() {
		_, mapped := r.Mapping.Columns[r.headingAt(slices.Index(r.target, column))]
		if r.filled[column] || mapped || r.rules.gives(column) {
			list = append(list, name)
		}
	}
	return list
}

// headingAt is the heading of a column; blank for none.
func (r *Reader) headingAt(i int) string {
	if i < 0 {
		return ""
	}
	return r.names[i]
}

// Next returns the next person. A RowError says why one entry is left out; reading can go on. At the end the error is
// io.EOF; any other error ends the source.
func (r *Reader) Next() (Entry, error) {
	if r.ended != nil {
		return Entry{}, r.ended
	}
	r.number++
	if r.number > MaxRows+1 {
		return Entry{}, fmt.Errorf("the file has more than %d people", MaxRows)
	}
	if r.raw.values == nil {
		r.raw.values = make([]string, len(r.target))
	}
	r.raw.key, r.raw.groups, r.raw.photo = "", nil, nil
	err := r.format.next(&r.raw)
	if errors.Is(err, io.EOF) {
		if r.ended = io.EOF; r.seen != nil {
			if err := r.unseen(); err != nil {
				r.ended = err
			}
		}
		return Entry{}, r.ended
	}
	if err != nil {
		return Entry{}, err
	}
	return r.entry()
}

// Unseen lists the columns that are mapped and that nobody had so far.
func (r *Reader) Unseen() (list []string) {
	for i, name := range r.names {
		if field, mapped := r.Mapping.Columns[name]; mapped && field != "" && r.seen != nil && !r.seen[i] {
			list = append(list, name)
		}
	}
	return list
}

// unseen refuses a mapping of attributes that nobody has.
func (r *Reader) unseen() error {
	have := slices.Collect(maps.Keys(r.others))
	for i, name := range r.names {
		if r.seen[i] {
			have = append(have, name)
		}
	}
	slices.Sort(have)
	if r.number == 1 { // nobody is there, and so nothing is known
		return nil
	}
	return unknownHeadings(r.Mapping.Columns, have)
}

// entry makes a person of the values of the columns.
func (r *Reader) entry() (Entry, error) {
	in := &r.raw
	e := Entry{Row: in.row, Key: in.key, Photo: in.photo}
	if len(in.groups) > maxGroups {
		return Entry{}, RowError{in.row, fmt.Sprintf("is in more than %d groups", maxGroups)}
	}
	e.Values, e.Groups = make([]string, r.schema.Len()), in.groups
	for i, value := range in.values {
		if r.seen != nil && value != "" {
			r.seen[i] = true
		}
		if r.target[i] < 0 || value == "" {
			continue
		}
		if len(value) > maxValue {
			return Entry{}, RowError{in.row, fmt.Sprintf("%s is %d bytes long; at most %d are read", r.names[i], len(value), maxValue)}
		}
		if !utf8.ValidString(value) {
			return Entry{}, RowError{in.row, r.names[i] + " is not UTF-8; save the file as UTF-8 text"}
		}
		e.Values[r.target[i]] = strings.Clone(strings.TrimSpace(value))
	}
	if n := r.name; n[0] >= 0 && e.Values[n[0]] == "" {
		e.Values[n[0]] = strings.TrimSpace(e.At(n[1]) + " " + e.At(n[2]))
	}
	if c := r.country; c[0] >= 0 && e.Values[c[0]] == "" {
		e.Values[c[0]] = person.CountryCode(e.Values[c[1]])
	}
	r.rules.apply(&e.Person)
	if r.seen != nil {
		for column, value := range e.Values {
			r.filled[column] = r.filled[column] || value != ""
		}
	}
	return e, r.identify(&e)
}

// identify checks what the entry is known by: its mail address and its key, neither of which another one has.
func (r *Reader) identify(e *Entry) error {
	address := e.At(r.mail)
	switch {
	case address == "" && !r.NoMail:
		return RowError{e.Row, "the mail address is blank"}
	case address != "" && !Address(address):
		return RowError{e.Row, fmt.Sprintf("%q is not a mail address", address)}
	}
	folded := strings.ToLower(address)
	if r.key >= 0 {
		if e.Key = e.Values[r.key]; e.Key == "" {
			return RowError{e.Row, r.Mapping.Key + " is blank, which identifies people"}
		}
	}
	if e.Key == "" {
		e.Key = folded
	}
	if e.Key == "" {
		return RowError{e.Row, "the mail address is blank"}
	}
	if first, ok := r.mails[folded]; ok && folded != "" {
		return RowError{e.Row, fmt.Sprintf("repeats the address in row %d: %s", first, address)}
	}
	if e.Key != folded {
		if first, ok := r.keys[e.Key]; ok {
			return RowError{e.Row, fmt.Sprintf("has the key of row %d: %s", first, e.Key)}
		}
		r.keys[e.Key] = e.Row
	}
	if folded != "" {
		r.mails[folded] = e.Row
	}
	return nil
}

// Address reports whether a text is one mail address and nothing else (RFC 5322, 3.4.1).
func Address(text string) bool {
	parsed, err := mail.ParseAddress(text)
	return err == nil && parsed.Address == text
}

// All reads the rest of the source: the people, and the entries that were left out with the reason.
func (r *Reader) All() (*person.Directory, []RowError, error) {
	d := &person.Directory{Schema: r.schema}
	bad := []RowError{}
	for {
		e, err := r.Next()
		var row RowError
		switch {
		case errors.Is(err, io.EOF):
			r.narrow(d)
			return d, bad, nil
		case errors.As(err, &row):
			if bad = append(bad, row); len(bad) > maxBad {
				return nil, nil, fmt.Errorf("more than %d rows cannot be read; the first: %w", maxBad, bad[0])
			}
		case err != nil:
			return nil, nil, err
		default:
			if d.People = append(d.People, e.Person); len(d.People)*r.schema.Len() > maxValues {
				return nil, nil, problem.New(problem.TooLarge, "the file has more than %d values: people times columns", maxValues)
			}
		}
	}
}

// narrow leaves fields out of a directory that its source does not have.
func (r *Reader) narrow(d *person.Directory) {
	fields := r.Fields()
	if len(fields) == d.Schema.Len() {
		return
	}
	var columns []int
	for _, name := range fields {
		column, _, _ := d.Schema.Column(name)
		columns = append(columns, column)
	}
	for i := range d.People {
		p := &d.People[i]
		values := make([]string, len(columns))
		for c, column := range columns {
			values[c] = p.Values[column]
		}
		p.Values = values
	}
	d.Schema = person.NewSchema(fields...)
}
