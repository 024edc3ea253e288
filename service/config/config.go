package config

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/hbollon/go-edlib"
	"github.com/knadh/koanf/providers/confmap"
	"github.com/knadh/koanf/v2"
	"gopkg.in/yaml.v3"

	"missivum/core/schema"
)

// Sources are where settings come from, each over the one before.
type Sources struct {
	File     string            // YAML; blank for none
	Environ  []string          // NAME=value
	Flags    map[string]string // by the setting's name, as they were written; those that were given
	Defaults map[string]any    // in the place of those that are built in
}

// Values are the settings that are in force.
type Values struct {
	k    *koanf.Koanf
	from map[string]string
	file string
	// Notes are names in the environment that look like settings and are none.
	Notes []string
}

// others are names in the environment that begin as those of settings do and are something else.
var others = []string{"MISSIVUM_SERVER", "MISSIVUM_KEY", "MISSIVUM_DESK_KEY", "MISSIVUM_GATEWAY_KEY", "MISSIVUM_CONFIG",
	"MISSIVUM_SOAK", "MISSIVUM_MAILS"}

// Load reads the settings. An error names every mistake, those in the file by line, with what would be right.
func Load(s Sources) (*Values, error) {
	v := &Values{k: koanf.New("."), from: map[string]string{}, file: s.File}
	builtIn := map[string]any{}
	for _, one := range list {
		builtIn[one.Name] = one.Default
		if d, ok := s.Defaults[one.Name]; ok {
			builtIn[one.Name] = d
		}
	}
	var errs []error
	errs = append(errs, v.layer(builtIn, func(Setting) string { return "built in" }))
	if s.File != "" {
		values, lines, err := readFile(s.File)
		errs = append(errs, err, v.layer(values, func(one Setting) string { return fmt.Sprintf("%s:%d", s.File, lines[one.Name]) }))
	}
	values, err := v.readEnviron(s.Environ)
	errs = append(errs, err, v.layer(values, func(one Setting) string { return "environment " + one.Env() }))
	flags := map[string]any{}
	for name, text := range s.Flags {
		one, known := Find(name)
		if !known {
			continue
		}
		value, err := one.parse(text)
		if err != nil {
			errs = append(errs, fmt.Errorf("--%s: %w", one.Flag(), err))
			continue
		}
		flags[name] = value
	}
	errs = append(errs, v.layer(flags, func(one Setting) string { return "flag --" + one.Flag() }))
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	return v, v.readSecrets()
}

// layer puts values over those that are there.
func (v *Values) layer(values map[string]any, from func(Setting) string) error {
	for name := range values {
		if one, ok := Find(name); ok {
			v.from[name] = from(one)
		}
	}
	return v.k.Load(confmap.Provider(values, "."), nil)
}

// readFile reads a file of settings, and the line of each.
func readFile(name string) (values map[string]any, lines map[string]int, err error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, nil, fmt.Errorf("the settings cannot be read: %w", err)
	}
	_, node, err := schema.Read(data, compiled(), "settings")
	if unknown := unknownNames(data); err != nil || unknown != nil {
		if rest := errors.Join(unknown, withoutUnknown(err)); rest != nil {
			err = rest
		}
		return nil, nil, located(name, err)
	}
	values, lines = map[string]any{}, map[string]int{}
	var errs []error
	for _, one := range all() {
		value, line := at(node, strings.Split(one.Name, "."))
		if value == nil {
			continue
		}
		parsed, err := one.decode(value)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s:%d: %s: %w", name, line, one.Name, err))
			continue
		}
		values[one.Name], lines[one.Name] = parsed, line
	}
	return values, lines, errors.Join(errs...)
}

// unknownNames names the settings of a file that there are not, by line, with the nearest that there is.
func unknownNames(data []byte) error {
	var root yaml.Node
	if yaml.Unmarshal(data, &root) != nil || len(root.Content) == 0 {
		return nil // schema.Read says what is wrong
	}
	var known []string
	groups := map[string]bool{}
	for _, one := range all() {
		known = append(known, one.Name)
		if group, _, deep := strings.Cut(one.Name, "."); deep {
			groups[group] = true
		}
	}
	var errs []error
	var visit func(n *yaml.Node, above string)
	visit = func(n *yaml.Node, above string) {
		if n.Kind == yaml.AliasNode {
			n = n.Alias
		}
		if n.Kind != yaml.MappingNode {
			return
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			name := above + n.Content[i].Value
			switch {
			case slices.Contains(known, name):
			case groups[name]:
				visit(n.Content[i+1], name+".")
			default:
				errs = append(errs, fmt.Errorf("line %d: there is no setting %s; the nearest is %s", n.Content[i].Line, name, nearest(name, known)))
			}
		}
	}
	visit(root.Content[0], "")
	return errors.Join(errs...)
}

// withoutUnknown leaves out of the faults of a schema the names that unknownNames has with their own lines.
func withoutUnknown(err error) error {
	if err == nil {
		return nil
	}
	var errs []error
	for _, line := range strings.Split(err.Error(), "\n") {
		if !strings.Contains(line, "additional properties") {
			errs = append(errs, errors.New(line))
		}
	}
	return errors.Join(errs...)
}

// located puts the file's name before each fault, in the order of the lines.
func located(name string, err error) error {
	type fault struct {
		line int
		says string
	}
	var faults []fault
	for _, text := range strings.Split(err.Error(), "\n") {
		f := fault{says: name + ": " + text}
		if number, rest, ok := strings.Cut(strings.TrimPrefix(text, "line "), ": "); ok && strings.HasPrefix(text, "line ") {
			if n, err := strconv.Atoi(number); err == nil {
				f = fault{n, fmt.Sprintf("%s:%d: %s", name, n, rest)}
			}
		}
		faults = append(faults, f)
	}
	slices.SortStableFunc(faults, func(a, b fault) int { return a.line - b.line })
	var errs []error
	for _, f := range faults {
		errs = append(errs, errors.New(f.says))
	}
	return errors.Join(errs...)
}

// at follows a path to its value and line.
func at(n *yaml.Node, path []string) (*yaml.Node, int) {
	if n != nil && n.Kind == yaml.DocumentNode && len(n.Content) > 0 {
		n = n.Content[0]
	}
	if n == nil || n.Kind != yaml.MappingNode {
		return nil, 0
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value != path[0] {
			continue
		}
		if len(path) == 1 {
			return n.Content[i+1], n.Content[i].Line
		}
		return at(n.Content[i+1], path[1:])
	}
	return nil, 0
}

// all are the settings with the -file form of those that are secret.
func all() []Setting {
	var out []Setting
	for _, one := range list {
		out = append(out, one)
		if one.Secret {
			out = append(out, one.fileForm())
		}
	}
	return out
}

// fileForm is the setting that names the file with a secret.
func (s Setting) fileForm() Setting {
	return Setting{Name: s.Name + "-file", Kind: Text, Default: "", Doc: "file that holds " + s.Name}
}

// decode reads a value of the file.
func (s Setting) decode(n *yaml.Node) (any, error) {
	if s.Kind != List {
		return s.parse(n.Value)
	}
	var values []string
	if err := n.Decode(&values); err != nil {
		return nil, errors.New("must be a list of texts")
	}
	return values, nil
}

// parse reads a value as it is written in the environment and on a command line.
func (s Setting) parse(text string) (any, error) {
	switch s.Kind {
	case List:
		parts := []string{}
		for _, part := range strings.Split(text, ",") {
			if part = strings.TrimSpace(part); part != "" {
				parts = append(parts, part)
			}
		}
		return parts, nil
	case Number:
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 {
			return nil, fmt.Errorf("%q is no number from 1 on", text)
		}
		return n, nil
	case Switch:
		on, err := strconv.ParseBool(text)
		if err != nil {
			return nil, fmt.Errorf("%q must be true or false", text)
		}
		return on, nil
	case Duration:
		if d, err := time.ParseDuration(text); err != nil || d <= 0 {
			return nil, fmt.Errorf("%q is no time such as 90s, 30m or 12h", text)
		}
	}
	if len(s.Choices) > 0 && !slices.Contains(s.Choices, text) {
		return nil, fmt.Errorf("%q is not known; it is %s", text, strings.Join(s.Choices, " or "))
	}
	return text, nil
}

// readEnviron reads the settings of the environment, and notes names that look like some and are none.
func (v *Values) readEnviron(environ []string) (map[string]any, error) {
	values := map[string]any{}
	var errs []error
	names := map[string]Setting{}
	var known []string
	for _, one := range all() {
		names[one.Env()] = one
		known = append(known, one.Env())
	}
	for _, line := range environ {
		name, text, _ := strings.Cut(line, "=")
		if !strings.HasPrefix(name, "MISSIVUM_") || slices.Contains(others, name) {
			continue
		}
		one, ok := names[name]
		if !ok {
			v.Notes = append(v.Notes, fmt.Sprintf("%s in the environment is no setting; %s is the nearest", name, nearest(name, known)))
			continue
		}
		value, err := one.parse(text)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", name, err))
			continue
		}
		values[one.Name] = value
	}
	slices.Sort(v.Notes)
	return values, errors.Join(errs...)
}

func nearest(name string, known []string) string {
	best, least := "", -1
	for _, k := range known {
		if d := edlib.LevenshteinDistance(name, k); least < 0 || d < least {
			best, least = k, d
		}
	}
	return best
}

// readSecrets reads the secrets that files hold.
func (v *Values) readSecrets() error {
	var errs []error
	for _, one := range list {
		file := one.fileForm()
		name := v.k.String(file.Name)
		if !one.Secret || name == "" {
			continue
		}
		if v.k.String(one.Name) != "" {
			errs = append(errs, fmt.Errorf("%s and %s are both given; leave one out", one.Name, file.Name))
			continue
		}
		data, err := os.ReadFile(name)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", file.Name, err))
			continue
		}
		from := v.from[file.Name]
		if err := v.layer(map[string]any{one.Name: strings.TrimSpace(string(data))},
			func(Setting) string { return name + ", named by " + from }); err != nil {
			return err
		}
	}
	return errors.Join(errs...)
}

// Text is a text; that of a setting that is not known is blank.
func (v *Values) Text(name string) string { return v.k.String(name) }

// List is a list of texts.
func (v *Values) List(name string) []string { return v.k.Strings(name) }

// Number is a number.
func (v *Values) Number(name string) int { return v.k.Int(name) }

// Switch is whether something is on.
func (v *Values) Switch(name string) bool { return v.k.Bool(name) }

// Duration is a time.
func (v *Values) Duration(name string) time.Duration { return v.k.Duration(name) }

// InForce is a setting with its value as text, and where that came from.
type InForce struct {
	Setting
	Value, From string
}

// Written is a value as it is written on a command line.
func (s Setting) Written(value any) string {
	if list, ok := value.([]string); ok {
		return strings.Join(list, ",")
	}
	return fmt.Sprint(value)
}

// All lists what is in force. Of secrets it is only said whether they are set.
func (v *Values) All() []InForce {
	var out []InForce
	for _, one := range list {
		value := one.Written(v.k.Get(one.Name))
		if one.Kind == List {
			value = strings.Join(v.List(one.Name), ", ")
		}
		if one.Secret && value != "" {
			value = "(set, hidden)"
		}
		out = append(out, InForce{one, value, v.from[one.Name]})
	}
	return out
}
