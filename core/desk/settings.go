package desk

import (
	"bytes"
	"fmt"
	"path"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"

	"missivum/core/problem"
)

// maxSettings is how large a settings file may be, in bytes.
const maxSettings = 8 << 20

// format reads and edits settings files of one kind, as text in UTF-8. Everything that is not edited stays as it is.
type format interface {
	// keys lists the keys that have a value, in their order.
	keys(text string) ([]string, error)
	// get gives a value; false where the key is not there.
	get(text, key string) (any, bool, error)
	// set gives the text with another value of a key, which is added where it is missing; nil removes the key.
	set(text, key string, value any) (string, error)
	// empty is what a new file holds.
	empty() string
}

var formats = map[string]format{
	"ini": iniFormat{}, "json": jsonFormat{}, "xml": xmlFormat{}, "plist": plistFormat{}, "preferences": preferencesFormat{},
	"reg": regFormat{},
}

// settings is a settings file as text, with what is needed to write it back as it was encoded.
type settings struct {
	format format
	text   string
	utf16  unicode.Endianness
	wide   bool
	mark   bool
}

// openSettings reads a settings file. One in an encoding that is not known is refused: editing it could damage it.
func openSettings(kind string, data []byte) (*settings, error) {
	f, ok := formats[kind]
	if !ok {
		return nil, problem.New(problem.Invalid, "There is no format %q of settings files.", kind)
	}
	if len(data) > maxSettings {
		return nil, problem.New(problem.TooLarge, "The settings file has more than %d MB.", maxSettings>>20)
	}
	s := &settings{format: f}
	switch {
	case bytes.HasPrefix(data, []byte("bplist")):
		return nil, problem.New(problem.Refused, "The settings file is a binary property list; it is edited in its XML form only.")
	case bytes.HasPrefix(data, []byte("\xff\xfe")):
		s.wide, s.mark, s.utf16 = true, true, unicode.LittleEndian
	case bytes.HasPrefix(data, []byte("\xfe\xff")):
		s.wide, s.mark, s.utf16 = true, true, unicode.BigEndian
	case bytes.HasPrefix(data, []byte("\xef\xbb\xbf")):
		s.mark, data = true, data[3:]
	}
	if s.wide {
		text, err := unicode.UTF16(s.utf16, unicode.UseBOM).NewDecoder().Bytes(data)
		if err != nil || len(data)%2 != 0 || bytes.ContainsRune(text, utf8.RuneError) {
			return nil, problem.New(problem.Refused, "The settings file is not whole UTF-16.")
		}
		data = text
	}
	if !utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0 {
		return nil, problem.New(problem.Refused, "The settings file is in an encoding that is not known; it is edited in UTF-8 or UTF-16 only.")
	}
	s.text = string(data)
	return s, nil
}

// newSettings begins a settings file that is made. A registry export file is UTF-16 with a byte order mark.
func newSettings(kind string) *settings {
	s := &settings{format: formats[kind], text: formats[kind].empty()}
	if kind == "reg" {
		s.wide, s.mark, s.utf16 = true, true, unicode.LittleEndian
	}
	return s
}

// data is the file as it is written.
func (s *settings) data() ([]byte, error) {
	if s.wide {
		return unicode.UTF16(s.utf16, unicode.UseBOM).NewEncoder().Bytes([]byte(s.text))
	}
	if s.mark {
		return append([]byte("\xef\xbb\xbf"), s.text...), nil
	}
	return []byte(s.text), nil
}

// set changes a value.
func (s *settings) set(key string, value any) error {
	if text, is := value.(string); is && strings.ContainsAny(text, "\x00\r\n") {
		return problem.New(problem.Invalid, "The value of %s cannot have line ends.", key)
	}
	changed, err := s.format.set(s.text, key, value)
	if err == nil {
		s.text = changed
	}
	return err
}

// account gives what * stands for in the keys of the account that a Where picks. Several keys with the value, or none, are
// errors: the wrong account must not get the signature.
func (s *settings) account(w Where) (string, error) {
	keys, err := s.format.keys(s.text)
	if err != nil {
		return "", err
	}
	var found []string
	for _, key := range keys {
		star, ok := starOf(w.Key, key)
		if !ok {
			continue
		}
		if value, _, err := s.format.get(s.text, key); err != nil {
			return "", err
		} else if strings.EqualFold(fmt.Sprint(value), w.Value) {
			found = append(found, star)
		}
	}
	switch len(found) {
	case 0:
		return "", problem.New(problem.Refused, "The client has no account with %s.", w.Value)
	case 1:
		return found[0], nil
	}
	return "", problem.New(problem.Refused, "The client has %d accounts with %s: %s.", len(found), w.Value, strings.Join(found, ", "))
}

// starOf gives what the * of a pattern stands for in a key.
func starOf(pattern, key string) (string, bool) {
	before, after, _ := strings.Cut(pattern, "*")
	if len(key) < len(before)+len(after) || !strings.HasPrefix(key, before) || !strings.HasSuffix(key, after) {
		return "", false
	}
	star := key[len(before) : len(key)-len(after)]
	return star, star != "" && !strings.ContainsAny(star, "./")
}

// lineEnd is how a text ends its lines.
func lineEnd(text string) string {
	if i := strings.IndexByte(text, '\n'); i > 0 && text[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

// lined is a settings file of lines below section lines: what ini and registry export files have in common.
type lined struct {
	section func(line string) (string, bool)
	// entry takes a line apart: its key, and where in the line the value stands
	entry func(line string) (key string, from, to int, ok bool)
	read  func(written string) any
	write func(value any) string
	line  func(key, value string) string
	head  func(section string) string
	fold  bool // letter case of names does not count
}

// at finds the line of a key, and behind which line a new one of its section goes; -1 where there is none.
func (l lined) at(lines []string, key string) (line, behind int) {
	section, name := path.Split(key)
	section = strings.TrimSuffix(section, "/")
	same := func(a, b string) bool { return a == b || l.fold && strings.EqualFold(a, b) }
	current, behind := "", -1
	for i, text := range lines {
		text = strings.TrimRight(text, "\r\n")
		if s, ok := l.section(text); ok {
			current = s
			if same(current, section) {
				behind = i
			}
			continue
		}
		if !same(current, section) {
			continue
		}
		if k, _, _, ok := l.entry(text); ok {
			behind = i
			if same(k, name) {
				return i, i
			}
		}
	}
	return -1, behind
}

func (l lined) keys(text string) ([]string, error) {
	var keys []string
	current := ""
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimRight(line, "\r")
		if s, ok := l.section(line); ok {
			current = s + "/"
		} else if k, _, _, ok := l.entry(line); ok {
			keys = append(keys, current+k)
		}
	}
	return keys, nil
}

func (l lined) get(text, key string) (any, bool, error) {
	lines := strings.SplitAfter(text, "\n")
	at, _ := l.at(lines, key)
	if at < 0 {
		return nil, false, nil
	}
	line := strings.TrimRight(lines[at], "\r\n")
	_, from, to, _ := l.entry(line)
	return l.read(line[from:to]), true, nil
}

func (l lined) set(text, key string, value any) (string, error) {
	lines := strings.SplitAfter(text, "\n")
	at, behind := l.at(lines, key)
	end := lineEnd(text)
	section, name := path.Split(key)
	section = strings.TrimSuffix(section, "/")
	switch {
	case value == nil && at < 0:
		return text, nil
	case value == nil:
		return strings.Join(append(lines[:at:at], lines[at+1:]...), ""), nil
	case at >= 0:
		_, from, to, _ := l.entry(strings.TrimRight(lines[at], "\r\n"))
		lines[at] = lines[at][:from] + l.write(value) + lines[at][to:]
		return strings.Join(lines, ""), nil
	}
	added := l.line(name, l.write(value)) + end
	switch {
	case behind >= 0:
		if !strings.HasSuffix(lines[behind], "\n") {
			lines[behind] += end
			added = strings.TrimSuffix(added, end)
		}
		return strings.Join(append(lines[:behind+1:behind+1], append([]string{added}, lines[behind+1:]...)...), ""), nil
	case section == "":
		return added + text, nil
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += end
	}
	return text + l.head(section) + end + added, nil
}

// iniFormat is files of name=value below [section] lines; keys are section/name.
type iniFormat struct{}

var ini = lined{
	section: func(line string) (string, bool) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]") {
			return line[1 : len(line)-1], true
		}
		return "", false
	},
	entry: func(line string) (string, int, int, bool) {
		trimmed := strings.TrimSpace(line)
		equals := strings.IndexByte(line, '=')
		if equals < 0 || strings.HasPrefix(trimmed, ";") || strings.HasPrefix(trimmed, "#") {
			return "", 0, 0, false
		}
		from := equals + 1
		for from < len(line) && (line[from] == ' ' || line[from] == '\t') {
			from++
		}
		to := max(from, len(strings.TrimRight(line, " \t")))
		return strings.TrimSpace(line[:equals]), from, to, true
	},
	read:  func(written string) any { return written },
	write: func(value any) string { return fmt.Sprint(value) },
	line:  func(key, value string) string { return key + "=" + value },
	head:  func(section string) string { return "[" + section + "]" },
}

func (iniFormat) keys(text string) ([]string, error)              { return ini.keys(text) }
func (iniFormat) get(text, key string) (any, bool, error)         { return ini.get(text, key) }
func (iniFormat) set(text, key string, value any) (string, error) { return ini.set(text, key, value) }
func (iniFormat) empty() string                                   { return "" }

// regFormat is registry export files; keys are the registry's key, a slash and the name of the value.
type regFormat struct{}

var reg = lined{
	section: ini.section,
	entry: func(line string) (string, int, int, bool) {
		if !strings.HasPrefix(line, `"`) {
			return "", 0, 0, false
		}
		name, rest, ok := quotedText(line)
		if !ok || !strings.HasPrefix(rest, "=") {
			return "", 0, 0, false
		}
		return name, len(line) - len(rest) + 1, len(strings.TrimRight(line, " \t")), true
	},
	read: func(written string) any {
		if text, rest, ok := quotedText(written); ok && rest == "" {
			return text
		}
		if hex, is := strings.CutPrefix(written, "dword:"); is {
			if n, err := strconv.ParseUint(hex, 16, 32); err == nil {
				return int(n)
			}
		}
		return written
	},
	write: func(value any) string {
		n := 0
		switch v := value.(type) {
		case bool:
			if v {
				n = 1
			}
		case string:
			return quote(v)
		default:
			n, _ = strconv.Atoi(fmt.Sprint(v)) // the schema lets in whole numbers only
		}
		return fmt.Sprintf("dword:%08x", uint32(n))
	},
	line: func(key, value string) string { return quote(key) + "=" + value },
	head: func(section string) string { return "\r\n[" + section + "]" },
	fold: true,
}

func (regFormat) keys(text string) ([]string, error)              { return reg.keys(text) }
func (regFormat) get(text, key string) (any, bool, error)         { return reg.get(text, key) }
func (regFormat) set(text, key string, value any) (string, error) { return reg.set(text, key, value) }
func (regFormat) empty() string                                   { return "Windows Registry Editor Version 5.00\r\n" }

// quote writes a text between quotation marks, with \ before these and before itself.
func quote(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

// quotedText reads a text that quote wrote, and gives what stands behind it.
func quotedText(line string) (text, rest string, ok bool) {
	var b strings.Builder
	for i := 1; i < len(line); i++ {
		switch {
		case line[i] == '\\' && i+1 < len(line):
			i++
			b.WriteByte(line[i])
		case line[i] == '"':
			return b.String(), line[i+1:], line[0] == '"'
		default:
			b.WriteByte(line[i])
		}
	}
	return "", "", false
}

// preferencesFormat is preferences scripts: lines of user_pref("name", value);
type preferencesFormat struct{}

const prefStart = `user_pref(`

// pref takes a line apart; from and to are where the value stands.
func pref(line string) (name string, from, to int, ok bool) {
	at := strings.Index(line, prefStart)
	if at < 0 || strings.TrimSpace(line[:at]) != "" {
		return "", 0, 0, false
	}
	start := at + len(prefStart)
	for start < len(line) && line[start] == ' ' {
		start++
	}
	if start >= len(line) || line[start] != '"' {
		return "", 0, 0, false
	}
	name, rest, ok := quotedText(line[start:])
	if !ok || !strings.HasPrefix(strings.TrimLeft(rest, " "), ",") {
		return "", 0, 0, false
	}
	rest = strings.TrimLeft(strings.TrimLeft(rest, " ")[1:], " ")
	to = strings.LastIndex(line, ")")
	if from = len(line) - len(rest); to < from {
		return "", 0, 0, false
	}
	return name, from, to, true
}

// at finds the line of a preference; the last one counts.
func (preferencesFormat) at(lines []string, key string) int {
	found := -1
	for i, line := range lines {
		if name, _, _, ok := pref(strings.TrimRight(line, "\r\n")); ok && name == key {
			found = i
		}
	}
	return found
}

func (preferencesFormat) keys(text string) ([]string, error) {
	var keys []string
	for _, line := range strings.Split(text, "\n") {
		if name, _, _, ok := pref(strings.TrimRight(line, "\r")); ok {
			keys = append(keys, name)
		}
	}
	return keys, nil
}

func (f preferencesFormat) get(text, key string) (any, bool, error) {
	lines := strings.SplitAfter(text, "\n")
	at := f.at(lines, key)
	if at < 0 {
		return nil, false, nil
	}
	line := strings.TrimRight(lines[at], "\r\n")
	_, from, to, _ := pref(line)
	written := strings.TrimSpace(line[from:to])
	if text, rest, ok := quotedText(written); ok && rest == "" {
		return text, true, nil
	}
	switch written {
	case "true", "false":
		return written == "true", true, nil
	}
	if n, err := strconv.Atoi(written); err == nil {
		return n, true, nil
	}
	return written, true, nil
}

func (f preferencesFormat) set(text, key string, value any) (string, error) {
	lines := strings.SplitAfter(text, "\n")
	at := f.at(lines, key)
	written := fmt.Sprint(value)
	if s, is := value.(string); is {
		written = quote(s)
	}
	switch {
	case value == nil && at < 0:
		return text, nil
	case value == nil:
		return strings.Join(append(lines[:at:at], lines[at+1:]...), ""), nil
	case at >= 0:
		_, from, to, _ := pref(strings.TrimRight(lines[at], "\r\n"))
		lines[at] = lines[at][:from] + written + lines[at][to:]
		return strings.Join(lines, ""), nil
	}
	end := lineEnd(text)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += end
	}
	return text + prefStart + quote(key) + ", " + written + ");" + end, nil
}

func (preferencesFormat) empty() string { return "" }
