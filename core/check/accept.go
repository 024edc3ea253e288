package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"missivum/core/client"
	"missivum/core/markup"
)

// acceptance is a comment by which the source accepts findings:
//
//	<!-- accepted: check-id, other-id: the reason -->
//
// It holds for its line and for the element that follows it, with all in it. In a style sheet it is written between
// /* and */ and holds for its line.
type acceptance struct {
	checks []string
	reason string
	span   markup.Span // the comment
	holds  []markup.Span
	used   bool
}

var acceptForm = regexp.MustCompile(`(?s)(?:<!--|/\*)\s*accepted:\s*(.*?)\s*(?:-->|\*/)`)

// accept parts the findings that the source accepts from the others. A comment without a reason, with a check that
// there is not, or that accepts nothing, is a finding itself.
func (p *Pass) accept(findings []Finding) (left, accepted []Finding) {
	list := p.acceptances()
	left, accepted = []Finding{}, []Finding{}
	for _, f := range findings {
		by := -1
		for i, a := range list {
			if a.reason != "" && slices.Contains(a.checks, f.Check) && a.covers(f.Offset) && f.Check != LanguageID {
				by = i
			}
		}
		if by < 0 {
			left = append(left, f)
			continue
		}
		list[by].used = true
		f.Accepted = list[by].reason
		accepted = append(accepted, f)
	}
	p.findings = left
	for _, a := range list {
		p.wrong(a)
	}
	return p.merged(), accepted
}

// wrong reports an acceptance that does nothing.
func (p *Pass) wrong(a acceptance) {
	p.check = Find("acceptance")
	for _, id := range a.checks {
		if Find(id) == nil {
			p.Report(Finding{Span: a.span, Severity: client.Note, Message: fmt.Sprintf("There is no check %q.", id)})
			return
		}
	}
	switch {
	case a.reason == "":
		p.Report(Finding{
			Span:     a.span,
			Severity: client.Note,
			Message:  "The comment gives no reason, and accepts nothing without one.",
		})
	case !a.used:
		h := p.Edit()
		h.Remove(a.span)
		p.Report(Finding{
			Span:     a.span,
			Severity: client.Note,
			Message:  fmt.Sprintf("Nothing is found here any more for %s.", strings.Join(a.checks, ", ")),
			Fix:      fixOf(h, "Take the comment out"),
		})
	}
}

// covers reports whether a place lies in what a comment accepts.
func (a acceptance) covers(offset int) bool {
	return slices.ContainsFunc(a.holds, func(s markup.Span) bool { return s.Start <= offset && offset < s.End })
}

// acceptances are the comments of the source that accept findings.
func (p *Pass) acceptances() []acceptance {
	var list []acceptance
	src := p.Source.Source
	for _, at := range acceptForm.FindAllStringSubmatchIndex(src, -1) {
		a := acceptance{span: markup.Span{Start: at[0], End: at[1]}}
		ids, reason, _ := strings.Cut(src[at[2]:at[3]], ":")
		for _, id := range strings.Split(ids, ",") {
			a.checks = append(a.checks, strings.TrimSpace(id))
		}
		a.reason = strings.Join(strings.Fields(reason), " ")
		line := markup.Span{Start: strings.LastIndexByte(src[:at[0]], '\n') + 1, End: len(src)}
		if end := strings.IndexByte(src[at[1]:], '\n'); end >= 0 {
			line.End = at[1] + end
		}
		a.holds = append(a.holds, line)
		if next := p.elementBehind(at[1]); next != nil {
			a.holds = append(a.holds, markup.Span{Start: next.Open.Start, End: endOf(next)})
		}
		list = append(list, a)
	}
	return list
}

// elementBehind is the element that follows a comment ending at a byte, with only white space between.
func (p *Pass) elementBehind(end int) *markup.Node {
	rest := p.Source.Source[end:]
	start := end + len(rest) - len(strings.TrimLeft(rest, " \t\r\n"))
	for _, n := range p.Source.Root.Elements() {
		if n.Open.Start == start {
			return n
		}
	}
	return nil
}

// endOf is where an element with all in it ends.
func endOf(n *markup.Node) int {
	end := max(n.Open.End, n.Close.End)
	for _, c := range n.Children {
		end = max(end, endOf(c))
	}
	return end
}
