package template

import (
	"bytes"
	"fmt"

	"gopkg.in/yaml.v3"

	"missivum/core/problem"
)

// WithSetting sets one value in the text of template.yaml at a path of members, which are made where they are not
// there. All else stays, comments and order too; spacing may become the usual one. An error says why the text cannot
// be read.
func WithSetting(settings string, value any, path ...string) (_ string, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(settings), &root); err != nil {
		return "", fmt.Errorf("%s: %w", SettingsFile, err)
	}
	if root.Kind == 0 {
		root = yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{{Kind: yaml.MappingNode}}}
	}
	at := root.Content[0]
	for _, key := range path {
		if at.Kind != yaml.MappingNode { // such as a member that has no value yet
			*at = yaml.Node{Kind: yaml.MappingNode}
		}
		at = member(at, key)
	}
	comment := at.LineComment
	if err := at.Encode(value); err != nil {
		return "", err
	}
	at.LineComment = comment
	if at.Kind == yaml.MappingNode {
		at.Style = yaml.FlowStyle
	}
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	err = e.Encode(&root)
	return b.String(), err
}

// member gives the value of a mapping's member, made when it is not there.
func member(mapping *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == key {
			return mapping.Content[i+1]
		}
	}
	value := &yaml.Node{Kind: yaml.MappingNode}
	mapping.Content = append(mapping.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, value)
	return value
}
