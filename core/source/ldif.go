package source

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"missivum/core/person"
)

// Limits of LDIF.
const (
	maxLine  = 32 << 20 // bytes of one entry as it is written; a large group or a photo has the most
	maxLines = 500_000  // values of one entry; a group has the most
)

// Attribute is a value of an LDIF entry. Both slices hold until the next entry is read.
type Attribute struct {
	Name  []byte // in small letters, without options
	Value []byte
}

// Entries reads the entries of LDIF (RFC 2849) one after the other.
type Entries struct {
	in     *bufio.Reader
	line   int // counted from 1
	number int
	buffer []byte
	ends   []int // of the logical lines in buffer
	list   []Attribute
}

// NewEntries reads LDIF. Change records other than additions are left out with a reason, and so are values that are to be read
// from an address (RFC 2849, note 6): a file that comes from elsewhere could so have any file of this machine read.
func NewEntries(r io.Reader) *Entries { return &Entries{in: bufio.NewReaderSize(r, 256<<10)} }

// Next gives the next entry: its attributes, "dn" being the first. io.EOF ends them; a RowError leaves one out.
func (e *Entries) Next() ([]Attribute, error) {
	for {
		begin, err := e.record()
		if err != nil {
			return nil, err
		}
		if len(e.ends) == 0 {
			return nil, io.EOF
		}
		if e.number == 0 && len(e.ends) == 1 && bytes.HasPrefix(e.buffer, []byte("version:")) {
			continue
		}
		e.number++
		list, err := e.attributes()
		if err != nil {
			return nil, RowError{e.number, fmt.Sprintf("line %d: %v", begin, err)}
		}
		return list, nil
	}
}

// Number is which entry was read last, counted from 1.
func (e *Entries) Number() int { return e.number }

// record reads the logical lines of a record: a line that begins with a space goes on with the one before it.
func (e *Entries) record() (begin int, err error) {
	e.buffer, e.ends = e.buffer[:0], e.ends[:0]
	comment := false
	for {
		e.line++
		folded, first := false, true
		start := len(e.buffer)
		for {
			part, err := e.in.ReadSlice('\n')
			if first && len(part) > 0 {
				first = false
				if folded = part[0] == ' '; folded {
					part = part[1:]
				} else {
					comment = part[0] == '#'
				}
			}
			if !comment {
				e.buffer = append(e.buffer, part...)
			}
			if errors.Is(err, bufio.ErrBufferFull) {
				if len(e.buffer) > maxLine+maxRow {
					return 0, fmt.Errorf("line %d: an entry is longer than %d kB", e.line, maxLine>>10)
				}
				continue
			}
			if errors.Is(err, io.EOF) && first {
				return begin, nil
			}
			if err != nil && !errors.Is(err, io.EOF) {
				return 0, fmt.Errorf("line %d cannot be read: %w", e.line, err)
			}
			break
		}
		e.buffer = bytes.TrimRight(e.buffer[:max(start, len(e.buffer))], "\r\n")
		e.buffer = e.buffer[:max(start, len(e.buffer))]
		switch {
		case comment:
		case folded && len(e.ends) > 0:
			e.ends[len(e.ends)-1] = len(e.buffer)
			if len(e.buffer) > maxLine+maxRow {
				return 0, fmt.Errorf("line %d: an entry is longer than %d kB", e.line, maxLine>>10)
			}
		case len(e.buffer) == start:
			if len(e.ends) > 0 {
				return begin, nil
			}
		default:
			if len(e.ends) == 0 {
				begin = e.line
			}
			if e.ends = append(e.ends, len(e.buffer)); len(e.ends) > maxLines {
				return 0, fmt.Errorf("line %d: an entry has more than %d values", e.line, maxLines)
			}
		}
	}
}

// attributes cuts the lines of a record into names and values.
func (e *Entries) attributes() ([]Attribute, error) {
	e.list = e.list[:0]
	start := 0
	for _, end := range e.ends {
		line := e.buffer[start:end]
		start = end
		name, value, ok := bytes.Cut(line, []byte(":"))
		if !ok || len(name) == 0 {
			return nil, fmt.Errorf("%.40q is no attribute with a value", line)
		}
		options := false
		if i := bytes.IndexByte(name, ';'); i >= 0 {
			options = !bytes.EqualFold(name[i:], []byte(";binary"))
			name = name[:i]
		}
		for i, c := range name {
			if c >= 'A' && c <= 'Z' {
				name[i] = c + 'a' - 'A'
			}
		}
		switch {
		case bytes.HasPrefix(value, []byte("<")):
			return nil, fmt.Errorf("the value of %s is to be read from an address; export the value itself", name)
		case bytes.HasPrefix(value, []byte(":")):
			coded := bytes.TrimLeft(value[1:], " ")
			n, err := base64.StdEncoding.Decode(coded, coded) // decoding in place goes no further than it has read
			if err != nil {
				return nil, fmt.Errorf("the value of %s is not base64", name)
			}
			value = coded[:n]
		default:
			value = bytes.TrimLeft(value, " ")
		}
		if len(e.list) == 0 && string(name) == "version" {
			continue
		}
		if string(name) == "changetype" && string(value) != "add" {
			return nil, fmt.Errorf("a change record (%s) is no entry; export entries", value)
		}
		if !options {
			e.list = append(e.list, Attribute{name, value})
		}
	}
	if len(e.list) == 0 || string(e.list[0].Name) != "dn" {
		return nil, errors.New("an entry must begin with its dn")
	}
	return e.list, nil
}

// personClasses are classes of entries that are people (RFC 4519, RFC 2798, RFC 2307, RFC 4524).
var personClasses = map[string]bool{"person": true, "organizationalperson": true, "inetorgperson": true, "posixaccount": true,
	"account": true, "residentialperson": true, "user": true}

// groupClasses are classes of entries that are groups (RFC 4519, RFC 2307).
var groupClasses = map[string]bool{"groupofnames": true, "groupofuniquenames": true, "posixgroup": true, "group": true,
	"groupofurls": true}

// directoryRows are the entries of LDIF as rows.
type directoryRows struct {
	entries *Entries
	entry   *entryReader
}

// newLDIF reads LDIF. Of a file that can be read twice groups are known before the people.
func newLDIF(r io.Reader, how Reading) (*Reader, error) {
	groups := &Groups{}
	if s, ok := r.(io.ReadSeeker); ok {
		if err := groups.read(NewEntries(s)); err != nil {
			return nil, err
		}
		if _, err := s.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
	}
	rows := &directoryRows{entries: NewEntries(r)}
	reader, entry, err := newEntryReader(how, groups, rows)
	rows.entry = entry
	return reader, err
}

// next reads the next entry that is a person.
func (d *directoryRows) next(into *raw) error {
	for {
		list, err := d.entries.Next()
		if err != nil {
			return err
		}
		into.row = d.entries.Number()
		if d.entry.fill(into, func(yield func(name, value []byte) bool) {
			for _, a := range list {
				if !yield(a.Name, a.Value) {
					return
				}
			}
		}) {
			return nil
		}
	}
}

// entryReader sorts the attributes of directory entries into columns.
type entryReader struct {
	reader *Reader
	index  map[string]int // columns by name in small letters
	lists  []bool         // columns that keep all values
	groups *Groups
	direct []string
	others []string // attributes of an entry that are left out, and were not in one before
}

// newEntryReader makes a reader of directory entries, whose columns are the standard attributes, those of the mapping
// and those that are known.
func newEntryReader(how Reading, groups *Groups, rows format) (*Reader, *entryReader, error) {
	var header, guesses []string
	index := map[string]int{}
	add := func(name, guess string) {
		if _, there := index[strings.ToLower(name)]; there {
			return
		}
		index[strings.ToLower(name)] = len(header)
		header, guesses = append(header, name), append(guesses, guess)
	}
	for name := range how.Mapping.Columns {
		add(name, "")
	}
	slices.Sort(header)
	for i, name := range header {
		index[strings.ToLower(name)] = i
	}
	for _, a := range person.Attributes {
		add(a.Name, unasked(a.Name))
	}
	for _, name := range how.Known {
		if person.ValidName(name) {
			add(name, name)
		}
	}
	for _, a := range person.Attributes { // the long names of the same attributes
		if at, there := index[strings.ToLower(a.Name)]; there && a.Alias != "" {
			if _, taken := index[strings.ToLower(a.Alias)]; !taken {
				index[strings.ToLower(a.Alias)] = at
			}
		}
	}
	reader := &Reader{Reading: how, format: rows}
	if err := reader.begin(header, guesses, true); err != nil {
		return nil, nil, err
	}
	e := &entryReader{reader: reader, index: index, groups: groups, lists: make([]bool, len(header))}
	for i, target := range reader.target {
		if target >= 0 {
			name := reader.schema.Names()[target]
			e.lists[i] = name == "labeledURI" || slices.ContainsFunc(how.Mapping.Lists, func(l string) bool { return strings.EqualFold(l, name) })
		}
	}
	return reader, e, nil
}

// unasked is the field that an attribute is taken for without a mapping: private numbers are only kept when they are mapped.
func unasked(name string) string {
	if name == "homePhone" {
		return ""
	}
	return name
}

// technical are attributes that are never offered as columns: they are of the directory and not of the person, or secret.
var technical = map[string]bool{"dn": true, "objectclass": true, "userpassword": true, "entryuuid": true, "memberof": true,
	"entrycsn": true, "structuralobjectclass": true, "creatorsname": true, "modifiersname": true, "createtimestamp": true,
	"modifytimestamp": true, "entrydn": true, "subschemasubentry": true, "hassubordinates": true, "jpegphoto": true}

// maxOthers is how many attributes are named that are left out.
const maxOthers = 200

// fill sorts an entry's attributes into columns; false for an entry that is no person.
func (e *entryReader) fill(into *raw, attributes func(func(name, value []byte) bool)) bool {
	clear(into.values)
	e.direct, e.others = e.direct[:0], e.others[:0]
	dn, uid := "", ""
	people, other := false, false
	attributes(func(name, value []byte) bool {
		if at, ok := e.index[string(name)]; ok && string(name) != "jpegphoto" {
			switch {
			case into.values[at] == "":
				into.values[at] = string(value)
			case e.lists[at]:
				into.values[at] += "\n" + string(value)
			}
			if string(name) == "uid" && uid == "" {
				uid = string(value)
			}
			return true
		}
		switch string(name) {
		case "dn":
			dn = string(value)
		case "entryuuid":
			into.key = string(value)
		case "memberof":
			e.direct = append(e.direct, string(value))
		case "jpegphoto":
			if into.photo == nil && len(value) > 0 {
				into.photo = bytes.Clone(value)
			}
		case "objectclass":
			class := bytes.ToLower(value)
			people = people || personClasses[string(class)]
			other = other || groupClasses[string(class)]
		default:
			if !technical[string(name)] && !e.reader.others[string(name)] {
				e.others = append(e.others, string(name))
			}
		}
		return true
	})
	mail, ok := e.index["mail"]
	if other || !people && (!ok || into.values[mail] == "") {
		return false
	}
	for _, name := range e.others {
		if len(e.reader.others) < maxOthers {
			e.reader.others[name] = true
		}
	}
	if into.key == "" {
		into.key = FoldDN(dn)
	}
	into.groups = e.groups.Of(dn, uid, e.direct)
	return true
}

// DirectoryEntry is an entry of a live directory: attribute names and values, one after the other.
type DirectoryEntry func(yield func(name string, value []byte) bool)

// liveRows are the entries of a live directory as rows.
type liveRows struct {
	read   func() (DirectoryEntry, error)
	entry  *entryReader
	number int
	name   []byte
}

// NewDirectoryReader reads people from the entries of a live directory. read gives the next entry, "dn" being among its
// attributes; io.EOF ends them. Entries that are no people are left out.
func NewDirectoryReader(how Reading, groups *Groups, read func() (DirectoryEntry, error)) (*Reader, error) {
	rows := &liveRows{read: read}
	reader, entry, err := newEntryReader(how, groups, rows)
	rows.entry = entry
	return reader, err
}

// next reads the next entry that is a person.
func (l *liveRows) next(into *raw) error {
	for {
		e, err := l.read()
		if err != nil {
			return err
		}
		l.number++
		into.row = l.number
		person := l.entry.fill(into, func(yield func(name, value []byte) bool) {
			e(func(name string, value []byte) bool {
				name, options, _ := strings.Cut(name, ";")
				if options != "" && !strings.EqualFold(options, "binary") {
					return true
				}
				l.name = append(l.name[:0], strings.ToLower(name)...)
				return yield(l.name, value)
			})
		})
		if person {
			return nil
		}
	}
}

// Asked lists the attributes that a live directory is asked for: those of the mapping, or without one the standard ones that a
// signature can use; and what tells people from other entries, and identifies them.
func Asked(m Mapping, photos bool) []string {
	asked := []string{"objectClass", "entryUUID", "memberOf", "uid", "mail"}
	add := func(name string) {
		if !slices.ContainsFunc(asked, func(have string) bool { return strings.EqualFold(have, name) }) {
			asked = append(asked, name)
		}
	}
	mapped := false
	for heading, field := range m.Columns {
		if field != "" {
			mapped = true
			add(heading)
		}
	}
	for _, a := range person.Attributes {
		if field, known := m.Columns[a.Name]; !mapped && a.Name != "jpegPhoto" && unasked(a.Name) != "" && (!known || field != "") {
			add(a.Name)
		}
	}
	if photos {
		add("jpegPhoto")
	}
	slices.Sort(asked)
	return asked
}
