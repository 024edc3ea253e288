package check

import (
	"context"
	"sort"
	"strings"
	"unicode/utf8"

	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/markup"
)

// Pass gives a check what it needs and takes its findings.
type Pass struct {
	Input
	Doc      *markup.Document // prepared: pictures resolved, styles inlined
	Source   *markup.Document // as written
	Prepared *compose.Prepared
	Fields   *field.Source

	ctx      context.Context // of who waits for the checks
	checks   []*Check
	mistakes field.Errors // in the template language
	check    *Check       // the one that runs
	findings []Finding
	causes   []*cause              // what the profiles do, worked out once
	written  map[int]*markup.Node  // elements of the source by where they begin
	prepared map[int]*markup.Node  // elements of the prepared document by where they began in the source
	look     map[*markup.Node]look // of the prepared document
}

// Report adds a finding of the running check. What it leaves out is the usual: all clients that show markup, and the
// check's own reason and remedy.
func (p *Pass) Report(f Finding) {
	f.Check = p.check.ID
	if f.Clients == nil {
		f.Clients = p.htmlClients()
	}
	if f.Why == "" {
		f.Why = p.check.Why
	}
	if f.Remedy == "" {
		f.Remedy = p.check.Remedy
	}
	f.Offset, f.End = f.Span.Start, f.Span.End
	p.add(f)
}

// htmlClients are the ids of the profiles that show markup.
func (p *Pass) htmlClients() []string {
	ids := []string{}
	for _, profile := range p.Profiles {
		if profile.Form == "html" {
			ids = append(ids, profile.ID)
		}
	}
	return ids
}

// add keeps a finding, whose place is made one of the source: within it, and not inside a letter.
func (p *Pass) add(f Finding) {
	source := p.Doc.Source
	f.Offset = letterAt(source, f.Offset)
	f.End = max(min(f.End, len(source)), f.Offset)
	for f.End < len(source) && !utf8.RuneStart(source[f.End]) {
		f.End++
	}
	place := p.Doc.Place(f.Offset)
	f.Line, f.Column = place.Line, place.Column
	f.Text = shorten(source[f.Offset:f.End])
	p.findings = append(p.findings, f)
}

// letterAt is a byte offset within a source, moved to the beginning of the letter that it stands in.
func letterAt(source string, offset int) int {
	offset = min(max(offset, 0), len(source))
	for offset > 0 && offset < len(source) && !utf8.RuneStart(source[offset]) {
		offset--
	}
	return offset
}

// shorten cuts a text to one line of at most 120 bytes.
func shorten(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if len(s) <= 120 {
		return s
	}
	cut := 117
	for !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut] + "..."
}

// quote writes a piece of source in a message.
func quote(s string) string { return `"` + shorten(s) + `"` }

// merged sorts the findings by place and drops the second of two with one check, one place and one message.
func (p *Pass) merged() []Finding {
	list := p.findings
	sort.SliceStable(list, func(i, j int) bool {
		if list[i].Offset != list[j].Offset {
			return list[i].Offset < list[j].Offset
		}
		return list[i].Check < list[j].Check
	})
	out := []Finding{}
	for _, f := range list {
		if n := len(out); n > 0 && out[n-1].Check == f.Check && out[n-1].Offset == f.Offset && out[n-1].Message == f.Message {
			continue
		}
		out = append(out, f)
	}
	return out
}
