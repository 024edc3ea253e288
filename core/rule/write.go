package rule

import (
	"bytes"
	"encoding/json"
	"reflect"

	"gopkg.in/yaml.v3"

	"missivum/core/problem"
)

// Rewrite writes rules into a document of which they are a changed form: what is as it was keeps its words and comments, and what is
// left to the defaults is left out. A blank document begins a new one.
func Rewrite(document string, f File) (string, error) {
	var before File
	root := &yaml.Node{Kind: yaml.MappingNode}
	if len(bytes.TrimSpace([]byte(document))) > 0 {
		var err error
		if before, err = Parse([]byte(document)); err != nil {
			return "", err
		}
		var whole yaml.Node
		if err := yaml.Unmarshal([]byte(document), &whole); err != nil || len(whole.Content) != 1 || whole.Content[0].Kind != yaml.MappingNode {
			return "", problem.New(problem.Refused, "The mail rules are no YAML mapping.")
		}
		root = whole.Content[0]
		root.HeadComment = join(whole.HeadComment, root.HeadComment)
	}
	f.complete()
	if !reflect.DeepEqual(f.Inside, before.Inside) {
		set(root, "inside", nodeOf(f.Inside), len(f.Inside) == 0)
	}
	if f.Recipients != before.Recipients && (f.Recipients != "together" || before.Recipients != "") {
		set(root, "recipients", nodeOf(f.Recipients), f.Recipients == "together")
	}
	list := &yaml.Node{Kind: yaml.SequenceNode}
	old := find(root, "rules")
	for _, r := range f.Rules {
		var was *yaml.Node
		for i, b := range before.Rules {
			if b.Name == r.Name && old != nil && i < len(old.Content) {
				was = old.Content[i]
				if same(b, r) {
					list.Content = append(list.Content, was)
				}
			}
		}
		if n := len(list.Content); was != nil && n > 0 && list.Content[n-1] == was {
			continue
		}
		node := ruleNode(r)
		if was != nil {
			node.HeadComment, node.FootComment = was.HeadComment, was.FootComment
		}
		list.Content = append(list.Content, node)
	}
	if len(list.Content) == 0 {
		list.Style = yaml.FlowStyle
	}
	set(root, "rules", list, false)
	var b bytes.Buffer
	w := yaml.NewEncoder(&b)
	w.SetIndent(2)
	if err := w.Encode(root); err != nil {
		return "", err
	}
	if _, err := Parse(b.Bytes()); err != nil { // what was asked for is not allowed
		return "", err
	}
	return b.String(), nil
}

func join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "\n\n" + b
}

// same reports whether two rules say the same.
func same(a, b Rule) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return bytes.Equal(x, y)
}

// nodeOf is a value as YAML in the order of its members.
func nodeOf(value any) *yaml.Node {
	text, err := json.Marshal(value)
	if err != nil {
		panic(err) // texts, numbers and lists of them
	}
	var whole yaml.Node
	if err := yaml.Unmarshal(text, &whole); err != nil {
		panic(err) // JSON is YAML
	}
	plain(whole.Content[0])
	return whole.Content[0]
}

// plain takes the style of JSON away; short lists stay on a line.
func plain(n *yaml.Node) {
	n.Style = 0
	for _, c := range n.Content {
		plain(c)
	}
	if n.Kind == yaml.SequenceNode && len(n.Content) > 0 && len(n.Content) <= 6 && n.Content[0].Kind == yaml.ScalarNode {
		n.Style = yaml.FlowStyle
	}
}

// ruleNode is a rule as YAML, without what is left to the defaults.
func ruleNode(r Rule) *yaml.Node {
	node, defaults := nodeOf(r), nodeOf(Default().Rules[0])
	if same := find(defaults, "state"); r.State == State(same.Value) {
		set(node, "state", nil, true)
	}
	then, usual := find(node, "then"), find(defaults, "then")
	for i := 0; i < len(usual.Content); i += 2 {
		name := usual.Content[i].Value
		if have := find(then, name); have != nil && have.Value == usual.Content[i+1].Value {
			set(then, name, nil, true)
		}
	}
	if len(then.Content) == 0 {
		set(node, "then", nil, true)
	}
	return node
}

// find gives the value of a key; nil for none.
func find(mapping *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == key {
			return mapping.Content[i+1]
		}
	}
	return nil
}

// set gives a key a value, or takes the key out.
func set(mapping *yaml.Node, key string, value *yaml.Node, out bool) {
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value != key {
			continue
		}
		if out {
			mapping.Content = append(mapping.Content[:i:i], mapping.Content[i+2:]...)
		} else {
			mapping.Content[i+1] = value
		}
		return
	}
	if !out {
		mapping.Content = append(mapping.Content, &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: key}, value)
	}
}
