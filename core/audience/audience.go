// Package audience says which people belong together, by conditions on what is known of them, and which of them get which
// template in which situation. Conditions are plain values; they are compiled once for a directory's fields and answered for
// each person. Start with Compile and Assign.
package audience

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/source"
)

// Limits.
const (
	maxAudiences  = 1_000
	maxConditions = 2_000  // of one audience, with those of the audiences that it uses
	maxAll        = 20_000 // of all audiences, counted so
	maxDepth      = 20     // conditions in conditions
	maxName       = 64     // bytes
)

// Audience is a named group of people.
type Audience struct {
	Name      string    `json:"name" yaml:"name"`
	Title     string    `json:"title" yaml:"title,omitempty"`
	Condition Condition `json:"condition" yaml:"condition"`
}

// Condition is what a person must fulfil. Exactly one of its kinds is used: a field with what is asked of it, a group, a mail
// domain, a language, people by mail address, another audience, or all, any or none of other conditions. Letter case does not
// count.
type Condition struct {
	Field    string   `json:"field,omitempty" yaml:"field,omitempty"`
	Is       string   `json:"is,omitempty" yaml:"is,omitempty"`
	OneOf    []string `json:"oneOf,omitempty" yaml:"oneOf,omitempty"`
	Begins   string   `json:"begins,omitempty" yaml:"begins,omitempty"`
	Contains string   `json:"contains,omitempty" yaml:"contains,omitempty"`
	Blank    bool     `json:"blank,omitempty" yaml:"blank,omitempty"`

	Group    string      `json:"group,omitempty" yaml:"group,omitempty"`       // its name, or its DN
	Domain   string      `json:"domain,omitempty" yaml:"domain,omitempty"`     // of the mail address
	Language string      `json:"language,omitempty" yaml:"language,omitempty"` // BCP 47; without a region for all regions
	People   []string    `json:"people,omitempty" yaml:"people,omitempty"`     // mail addresses
	Audience string      `json:"audience,omitempty" yaml:"audience,omitempty"`
	All      []Condition `json:"all,omitempty" yaml:"all,omitempty"`
	Any      []Condition `json:"any,omitempty" yaml:"any,omitempty"`
	None     []Condition `json:"none,omitempty" yaml:"none,omitempty"`
}

// Everybody is the name that stands for all people where an audience can be named.
const Everybody = ""

// Set is audiences compiled for one schema.
type Set struct {
	schema *person.Schema
	tests  map[string]test
	titles map[string]string
	names  []string
}

// test is a compiled condition.
type test struct {
	holds  func(p *person.Person) bool
	reason func(p *person.Person) string // why it holds, for a person for whom it does
	not    string                        // what is so for everybody for whom it does not hold
}

// compiler compiles audiences that may use each other.
type compiler struct {
	set   *Set
	by    map[string]Audience
	open  []string // audiences that are being compiled
	cost  int      // conditions so far of the audience that is being compiled
	costs map[string]int
}

// Compile compiles audiences for a directory's fields. The error is a problem: a name twice, a condition that says nothing or
// several things, a field or an audience that is not there, audiences that use each other in a circle.
func Compile(list []Audience, schema *person.Schema) (*Set, error) {
	if len(list) > maxAudiences {
		return nil, problem.New(problem.TooLarge, "There are more than %d audiences.", maxAudiences)
	}
	c := &compiler{set: &Set{schema: schema, tests: map[string]test{}, titles: map[string]string{}}, by: map[string]Audience{},
		costs: map[string]int{}}
	for _, a := range list {
		if err := CheckName(a.Name); err != nil {
			return nil, err
		}
		if _, twice := c.by[a.Name]; twice {
			return nil, problem.New(problem.Conflict, "There are two audiences %q.", a.Name).In("name")
		}
		c.by[a.Name] = a
		c.set.titles[a.Name] = a.Title
		c.set.names = append(c.set.names, a.Name)
	}
	all := 0
	for _, a := range list {
		if _, err := c.audience(a.Name); err != nil {
			return nil, err
		}
		if all += c.costs[a.Name]; all > maxAll {
			return nil, problem.New(problem.TooLarge, "The audiences have more than %d conditions, those counted that they use.", maxAll)
		}
	}
	return c.set, nil
}

// CheckName refuses names that cannot stand in an address: small letters, digits and hyphens, a letter first.
func CheckName(name string) error {
	bad := name == "" || len(name) > maxName || name[0] < 'a' || name[0] > 'z' ||
		strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") != ""
	if bad {
		return problem.New(problem.Invalid, "%q cannot be the name; use small letters, digits and hyphens, at most %d, a letter first.",
			name, maxName).In("name")
	}
	return nil
}

// audience compiles one audience, and those that it uses.
func (c *compiler) audience(name string) (test, error) {
	if t, ok := c.set.tests[name]; ok {
		return t, nil
	}
	a, there := c.by[name]
	if !there {
		message := fmt.Sprintf("There is no audience %q", name)
		if near := person.Nearest(name, c.set.names); len(near) > 0 {
			message += "; there is " + strings.Join(near, ", ")
		}
		return test{}, problem.New(problem.Invalid, "%s.", message).In("audience")
	}
	if slices.Contains(c.open, name) {
		return test{}, problem.New(problem.Invalid, "The audience %s uses itself: %s.", name,
			strings.Join(append(c.open, name), " uses ")).In("audience")
	}
	c.open = append(c.open, name)
	before := c.cost
	c.cost = 0
	t, err := c.condition(a.Condition, 0)
	c.costs[name], c.cost = c.cost, before
	c.open = c.open[:len(c.open)-1]
	if cost := c.costs[name]; err == nil && cost > maxConditions {
		err = problem.New(problem.TooLarge,
			"It has %d conditions with those of the audiences that it uses; at most %d are asked.", cost, maxConditions)
	}
	if err != nil {
		return t, fmt.Errorf("audience %s: %w", name, err)
	}
	c.set.tests[name] = t
	return t, nil
}

// kinds lists what a condition asks for.
func (c Condition) kinds() (list []string) {
	for _, k := range []struct {
		name string
		used bool
	}{{"field", c.Field != ""}, {"group", c.Group != ""}, {"domain", c.Domain != ""}, {"language", c.Language != ""},
		{"people", c.People != nil},
		{"audience", c.Audience != ""}, {"all", c.All != nil}, {"any", c.Any != nil}, {"none", c.None != nil}} {
		if k.used {
			list = append(list, k.name)
		}
	}
	return list
}

// condition compiles a condition, and counts what it costs to ask.
func (c *compiler) condition(in Condition, depth int) (test, error) {
	if depth > maxDepth {
		return test{}, problem.New(problem.TooLarge, "An audience has at most %d conditions in each other.", maxDepth)
	}
	c.cost++
	return c.asked(in, depth)
}

// asked compiles what a condition asks for.
func (c *compiler) asked(in Condition, depth int) (test, error) {
	kinds := in.kinds()
	if len(kinds) != 1 {
		return test{}, problem.New(problem.Invalid,
			"A condition asks for one thing: a field, a group, a domain, a language, people, an audience, "+
				"all, any or none; this one asks for %s.", or(strings.Join(kinds, " and "), "nothing"))
	}
	asks := in.asks()
	if in.Field == "" && len(asks) > 0 {
		return test{}, problem.New(problem.Invalid, "%s needs a field.", asks[0])
	}
	switch kinds[0] {
	case "field":
		return c.field(in, asks)
	case "group":
		return test{func(p *person.Person) bool { return InGroup(p, in.Group) },
			func(*person.Person) string { return "is in the group " + source.GroupName(in.Group) },
			"is not in the group " + source.GroupName(in.Group)}, nil
	case "domain":
		return c.domain(strings.ToLower(strings.TrimPrefix(in.Domain, "@"))), nil
	case "language":
		return c.language(in.Language), nil
	case "people":
		return c.people(in.People), nil
	case "audience":
		inner, err := c.audience(in.Audience)
		name := in.Audience
		c.cost += c.costs[name]
		return test{inner.holds, func(p *person.Person) string { return "is in " + name + " (" + inner.reason(p) + ")" },
			"is not in " + name}, err
	}
	return c.joined(in, kinds[0], depth)
}

// or is a text, or another where it is blank.
func or(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

// asks lists what a condition asks of its field.
func (c Condition) asks() (list []string) {
	for _, k := range []struct {
		name string
		used bool
	}{{"is", c.Is != ""}, {"oneOf", c.OneOf != nil}, {"begins", c.Begins != ""}, {"contains", c.Contains != ""}, {"blank", c.Blank}} {
		if k.used {
			list = append(list, k.name)
		}
	}
	return list
}

// fold makes values comparable.
func fold(value string) string { return strings.ToLower(strings.TrimSpace(person.Clean(value))) }

// field compiles what is asked of a field.
func (c *compiler) field(in Condition, asks []string) (test, error) {
	if len(asks) != 1 {
		return test{}, problem.New(problem.Invalid, "Of the field %s one thing is asked: is, oneOf, begins, contains or blank; here it is %s.",
			in.Field, or(strings.Join(asks, " and "), "nothing")).In("field")
	}
	column, name, known := c.set.schema.Column(in.Field)
	if !known {
		message := fmt.Sprintf("There is no field %q", in.Field)
		if near := c.set.schema.Nearest(in.Field); len(near) > 0 {
			message += "; there is " + strings.Join(near, ", ")
		}
		return test{}, problem.New(problem.Invalid, "%s.", message).In("field")
	}
	says := func(text string) func(*person.Person) string {
		return func(p *person.Person) string { return name + " " + text }
	}
	switch asks[0] {
	case "is":
		want := fold(in.Is)
		return test{func(p *person.Person) bool { return fold(p.At(column)) == want }, says("is " + in.Is), name + " is not " + in.Is}, nil
	case "oneOf":
		want := map[string]bool{}
		for _, value := range in.OneOf {
			want[fold(value)] = true
		}
		return test{func(p *person.Person) bool { return want[fold(p.At(column))] },
			func(p *person.Person) string { return name + " is " + p.At(column) }, name + " is none of " + strings.Join(in.OneOf, ", ")}, nil
	case "begins":
		want := fold(in.Begins)
		return test{func(p *person.Person) bool { return strings.HasPrefix(fold(p.At(column)), want) }, says("begins with " + in.Begins),
			name + " does not begin with " + in.Begins}, nil
	case "contains":
		want := fold(in.Contains)
		return test{func(p *person.Person) bool { return strings.Contains(fold(p.At(column)), want) }, says("contains " + in.Contains),
			name + " does not contain " + in.Contains}, nil
	}
	return test{func(p *person.Person) bool { return person.IsBlank(p.At(column)) }, says("is blank"), name + " is not blank"}, nil
}

// InGroup reports whether a person is in a group, which is named by its DN or by the first value of it.
func InGroup(p *person.Person, group string) bool {
	return slices.ContainsFunc(p.Groups, func(g string) bool {
		return strings.EqualFold(source.GroupName(g), group) || source.FoldDN(g) == source.FoldDN(group)
	})
}

// domain compiles a mail domain.
func (c *compiler) domain(domain string) test {
	mail, _, _ := c.set.schema.Column("mail")
	return test{func(p *person.Person) bool {
		_, of, _ := strings.Cut(p.At(mail), "@")
		return strings.EqualFold(of, domain)
	}, func(*person.Person) string { return "has a mail address of " + domain }, "has no mail address of " + domain}
}

// language compiles a language: that which a person prefers.
func (c *compiler) language(want string) test {
	column, _, _ := c.set.schema.Column("preferredLanguage")
	return test{func(p *person.Person) bool {
		first, _, _ := strings.Cut(p.At(column), ",")
		first, _, _ = strings.Cut(first, ";")
		first = strings.TrimSpace(first)
		base, _, _ := strings.Cut(first, "-")
		return strings.EqualFold(first, want) || strings.EqualFold(base, want)
	}, func(p *person.Person) string { return "has the language " + p.At(column) }, "has not the language " + want}
}

// people compiles a list of people.
func (c *compiler) people(list []string) test {
	mail, _, _ := c.set.schema.Column("mail")
	want := map[string]bool{}
	for _, address := range list {
		want[fold(address)] = true
	}
	return test{func(p *person.Person) bool { return want[fold(p.At(mail))] },
		func(*person.Person) string { return "is named" }, "is not named"}
}

// joined compiles all, any or none of several conditions.
func (c *compiler) joined(in Condition, kind string, depth int) (test, error) {
	list := map[string][]Condition{"all": in.All, "any": in.Any, "none": in.None}[kind]
	if len(list) == 0 {
		return test{}, problem.New(problem.Invalid, "%s needs conditions.", kind).In(kind)
	}
	var tests []test
	for _, one := range list {
		t, err := c.condition(one, depth+1)
		if err != nil {
			return t, err
		}
		tests = append(tests, t)
	}
	var denied []string
	for _, t := range tests {
		denied = append(denied, t.not)
	}
	nots := strings.Join(denied, ", and ")
	holds := func(p *person.Person) func(test) bool { return func(t test) bool { return t.holds(p) } }
	switch kind {
	case "all":
		return test{func(p *person.Person) bool {
			return !slices.ContainsFunc(tests, func(t test) bool { return !t.holds(p) })
		}, func(p *person.Person) string {
			var reasons []string
			for _, t := range tests {
				reasons = append(reasons, t.reason(p))
			}
			return strings.Join(reasons, ", and ")
		}, "not all of it is so: " + nots}, nil
	case "any":
		return test{func(p *person.Person) bool { return slices.ContainsFunc(tests, holds(p)) }, func(p *person.Person) string {
			if i := slices.IndexFunc(tests, holds(p)); i >= 0 {
				return tests[i].reason(p)
			}
			return ""
		}, nots}, nil
	}
	return test{func(p *person.Person) bool { return !slices.ContainsFunc(tests, holds(p)) },
		func(*person.Person) string { return nots }, "an exception is so"}, nil
}

// Names lists the audiences in the order in which they were given.
func (s *Set) Names() []string { return slices.Clone(s.names) }

// Has reports whether there is an audience of that name; there is always Everybody.
func (s *Set) Has(name string) bool { _, ok := s.tests[name]; return ok || name == Everybody }

// In reports whether a person is in an audience; nobody is in one that is not there.
func (s *Set) In(name string, p *person.Person) bool {
	if name == Everybody {
		return true
	}
	t, ok := s.tests[name]
	return ok && t.holds(p)
}

// Reason says why a person is in an audience; blank for one who is not.
func (s *Set) Reason(name string, p *person.Person) string {
	if name == Everybody {
		return "it is for everybody"
	}
	if !s.In(name, p) {
		return ""
	}
	return s.tests[name].reason(p)
}

// Membership is an audience that a person is in, and why.
type Membership struct {
	Audience string `json:"audience"`
	Title    string `json:"title"`
	Reason   string `json:"reason"`
}

// Of lists the audiences that a person is in.
func (s *Set) Of(p *person.Person) []Membership {
	list := []Membership{}
	for _, name := range s.names {
		if s.In(name, p) {
			list = append(list, Membership{name, s.titles[name], s.Reason(name, p)})
		}
	}
	return list
}

// Uses lists the audiences that a condition names.
func Uses(c Condition) []string {
	found := map[string]bool{}
	var walk func(Condition)
	walk = func(c Condition) {
		if c.Audience != "" {
			found[c.Audience] = true
		}
		for _, list := range [][]Condition{c.All, c.Any, c.None} {
			for _, inner := range list {
				walk(inner)
			}
		}
	}
	walk(c)
	return slices.Sorted(maps.Keys(found))
}
