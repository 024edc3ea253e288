// Package schema holds files of YAML or JSON against a JSON Schema (2020-12) and says at which line what is wrong. Start with
// Read.
package schema

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"gopkg.in/yaml.v3"
)

// MustCompile compiles a schema that is part of the program; it panics on a wrong one.
func MustCompile(name, text string) *jsonschema.Schema {
	parsed, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err != nil {
		panic(name + ": " + err.Error())
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource(name, parsed); err != nil {
		panic(name + ": " + err.Error())
	}
	return c.MustCompile(name)
}

// Read reads a file and holds it against a schema. It gives the plain form that encoding/json would give, and the nodes for
// their lines. An error names the line and what is wrong there, all faults at once; whole is what the file is called where
// the fault is in all of it.
func Read(data []byte, s *jsonschema.Schema, whole string) (form any, node *yaml.Node, err error) {
	node = &yaml.Node{}
	if err := yaml.Unmarshal(data, node); err != nil {
		return nil, node, errors.New(strings.TrimPrefix(err.Error(), "yaml: "))
	}
	daysAsWritten(node)
	var plain any
	if err := node.Decode(&plain); err != nil {
		return nil, node, err
	}
	form = Plain(plain)
	if err := s.Validate(form); err != nil {
		var invalid *jsonschema.ValidationError
		if errors.As(err, &invalid) {
			return nil, node, describe(invalid, node, whole)
		}
		return nil, node, err
	}
	return form, node, nil
}

// daysAsWritten makes days texts, as they are in JSON: 2026-12-24 is not a moment in time.
func daysAsWritten(n *yaml.Node) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!timestamp" {
		n.Tag = "!!str"
	}
	for _, c := range n.Content {
		daysAsWritten(c)
	}
}

// Plain turns what YAML decodes to into what JSON would.
func Plain(v any) any {
	encoded, err := json.Marshal(v)
	if err != nil {
		return v
	}
	decoded, err := jsonschema.UnmarshalJSON(strings.NewReader(string(encoded)))
	if err != nil {
		return v
	}
	return decoded
}

// describe turns a schema error into lines of the file.
func describe(e *jsonschema.ValidationError, root *yaml.Node, whole string) error {
	var errs []error
	printer := message.NewPrinter(language.English)
	var visit func(*jsonschema.ValidationError)
	visit = func(e *jsonschema.ValidationError) {
		if len(e.Causes) == 0 {
			where := strings.Join(e.InstanceLocation, ".")
			if where == "" {
				where = whole
			}
			errs = append(errs, fmt.Errorf("line %d: %s: %s", LineOf(root, e.InstanceLocation), where, e.ErrorKind.LocalizedString(printer)))
		}
		for _, cause := range e.Causes {
			visit(cause)
		}
	}
	visit(e)
	return errors.Join(errs...)
}

// LineOf follows a path of keys and indexes to its line.
func LineOf(n *yaml.Node, path []string) int {
	if n.Kind == yaml.DocumentNode && len(n.Content) > 0 {
		n = n.Content[0]
	}
	for _, key := range path {
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				if n.Content[i].Value == key {
					n = n.Content[i+1]
					break
				}
			}
		case yaml.SequenceNode:
			if i, err := strconv.Atoi(key); err == nil && i < len(n.Content) {
				n = n.Content[i]
			}
		}
	}
	return max(n.Line, 1)
}
