package person

import (
	"bytes"
	"fmt"
	"strings"

	"gopkg.in/yaml.v3"

	"missivum/core/problem"
)

// MappingSuffix ends the name of a file's mapping in place of .csv: it lies beside the file and is used without being
// named.
const MappingSuffix = ".mapping.yaml"

// maxMapping is the largest mapping that is read, in bytes.
const maxMapping = 256 << 10

// mappingFile is a mapping as YAML has it.
type mappingFile struct {
	Columns map[string]string `yaml:"columns"` // the field by the column's heading; empty leaves the column out
}

// ReadMapping reads which field each column of a CSV file is. Errors are problems.
func ReadMapping(data []byte) (map[string]string, error) {
	if len(data) > maxMapping {
		return nil, problem.New(problem.TooLarge, "the mapping is larger than %d kB", maxMapping>>10)
	}
	var f mappingFile
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(&f); err != nil {
		return nil, problem.New(problem.Refused, "the mapping cannot be read: %s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if f.Columns == nil {
		return nil, problem.New(problem.Refused, "the mapping has no columns; write columns: and below it a line such as Adresse: street")
	}
	for heading, field := range f.Columns {
		if field != "" && !ValidName(field) {
			return nil, problem.New(problem.Refused,
				"the field name %q for column %q is not usable; use letters, digits and hyphens", field, heading)
		}
	}
	return f.Columns, nil
}

// WriteMapping writes what the columns of a file were taken for, as ReadMapping reads it.
func WriteMapping(columns []Column) ([]byte, error) {
	var node yaml.Node
	node.Kind = yaml.MappingNode
	for _, c := range columns {
		if c.Heading == "" {
			continue
		}
		heading, field := &yaml.Node{}, &yaml.Node{}
		heading.SetString(c.Heading)
		field.SetString(c.Field)
		if c.Field == "" {
			field.Style = yaml.DoubleQuotedStyle
			field.LineComment = "left out"
			if c.Note != "" {
				field.LineComment += ": " + c.Note
			}
		}
		node.Content = append(node.Content, heading, field)
	}
	var b bytes.Buffer
	fmt.Fprintln(&b, "# Which field each column is. An empty one is left out.")
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(map[string]*yaml.Node{"columns": &node}); err != nil {
		return nil, err
	}
	return b.Bytes(), e.Close()
}
