package config

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"missivum/core/schema"
)

// compiled is the schema of a file of settings.
var compiled = sync.OnceValue(func() *jsonschema.Schema { return schema.MustCompile("settings.schema.json", string(Schema())) })

// Schema is the JSON Schema (2020-12) of a file of settings.
func Schema() []byte {
	root := object()
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "Settings of the Missivum service"
	for _, one := range all() {
		at := root
		path := strings.Split(one.Name, ".")
		for _, level := range path[:len(path)-1] {
			properties := at["properties"].(map[string]any)
			if properties[level] == nil {
				properties[level] = object()
			}
			at = properties[level].(map[string]any)
		}
		at["properties"].(map[string]any)[path[len(path)-1]] = one.schema()
	}
	text, err := json.MarshalIndent(root, "", "  ")
	if err != nil {
		panic(err) // made of texts alone
	}
	return text
}

func object() map[string]any {
	return map[string]any{"type": []string{"object", "null"}, "additionalProperties": false, "properties": map[string]any{}}
}

func (s Setting) schema() map[string]any {
	out := map[string]any{"description": s.Doc}
	switch s.Kind {
	case List:
		out["type"], out["items"] = "array", map[string]any{"type": "string"}
	case Number:
		out["type"], out["minimum"] = "integer", 1
	case Switch:
		out["type"] = "boolean"
	default:
		out["type"] = "string"
	}
	if len(s.Choices) > 0 {
		out["enum"] = s.Choices
	}
	return out
}

// Example is a file with every setting, its meaning and its default. What stands behind # is not in force.
func Example() string {
	var b strings.Builder
	b.WriteString("# Settings of the Missivum service, all with their defaults. missivum config check says what is in force.\n" +
		"# Each is also a flag (--tls-certificate) and a name in the environment (MISSIVUM_TLS_CERTIFICATE).\n")
	group := ""
	for _, one := range all() {
		path := strings.Split(one.Name, ".")
		indent := strings.Repeat("  ", len(path)-1)
		switch {
		case len(path) == 1:
			group = ""
			b.WriteString("\n")
		case path[0] != group:
			group = path[0]
			fmt.Fprintf(&b, "\n%s:\n", group)
		}
		for _, line := range wrapped(strings.ToUpper(one.Doc[:1])+one.Doc[1:], 110) {
			fmt.Fprintf(&b, "%s# %s\n", indent, line)
		}
		if len(one.Choices) > 0 {
			fmt.Fprintf(&b, "%s# One of: %s\n", indent, strings.TrimPrefix(strings.Join(one.Choices, ", "), ", "))
		}
		if one.Example != "" {
			value := one.Example
			if one.Kind == List {
				value = "[" + value + "]"
			}
			fmt.Fprintf(&b, "%s# For example: %s\n", indent, value)
		}
		value := fmt.Sprint(one.Default)
		switch {
		case one.Kind == List:
			value = "[" + strings.Join(one.Default.([]string), ", ") + "]"
		case value == "":
			value = `""`
		}
		fmt.Fprintf(&b, "%s%s: %s\n", indent, path[len(path)-1], value)
	}
	return b.String()
}

// wrapped breaks a text into lines.
func wrapped(text string, width int) []string {
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len(line)+len(word) >= width {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}
