package audience

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/person"
	"missivum/core/problem"
)

// The situations that every organisation has; others can be added.
var Situations = []string{"new", "reply", "internal", "external"}

// maxAssignments is how many lines a list of assignments has at most.
const maxAssignments = 1_000

// Assignment is a line: which template an audience gets in a situation. The first line that fits a person decides.
type Assignment struct {
	Audience  string `json:"audience" yaml:"audience,omitempty"`   // blank for everybody
	Situation string `json:"situation" yaml:"situation,omitempty"` // blank for every one
	Template  string `json:"template" yaml:"template,omitempty"`   // blank for no signature
	// Variant is blank for the one that is called like the situation, or the template's first.
	Variant string `json:"variant" yaml:"variant,omitempty"`
	Note    string `json:"note" yaml:"note,omitempty"`
}

// Assignments are lines compiled for audiences.
type Assignments struct {
	set   *Set
	lines []Assignment
}

// Assign compiles a list of assignments. situations are those that lines may name. Its last line must be for everybody in
// every situation, so that each person and situation has exactly one answer. The error is a problem.
func Assign(lines []Assignment, set *Set, situations []string) (*Assignments, error) {
	if len(lines) > maxAssignments {
		return nil, problem.New(problem.TooLarge, "There are more than %d assignments.", maxAssignments)
	}
	if len(lines) == 0 {
		return nil, problem.New(problem.Invalid, "The last assignment must be for everybody in every situation; there is none at all.")
	}
	for i, line := range lines {
		if !set.Has(line.Audience) {
			message := fmt.Sprintf("Line %d: there is no audience %q", i+1, line.Audience)
			if near := person.Nearest(line.Audience, set.names); len(near) > 0 {
				message += "; there is " + strings.Join(near, ", ")
			}
			return nil, problem.New(problem.Invalid, "%s.", message).In("audience")
		}
		if line.Situation != "" && !slices.Contains(situations, line.Situation) {
			return nil, problem.New(problem.Invalid, "Line %d: there is no situation %q; there are %s.", i+1, line.Situation,
				strings.Join(situations, ", ")).In("situation")
		}
	}
	if last := lines[len(lines)-1]; last.Audience != Everybody || last.Situation != "" {
		return nil, problem.New(problem.Invalid, "The last assignment must be for everybody in every situation, so that nobody is forgotten. "+
			"It may say that they get no signature.")
	}
	return &Assignments{set: set, lines: slices.Clone(lines)}, nil
}

// Lines are the assignments in their order.
func (a *Assignments) Lines() []Assignment { return slices.Clone(a.lines) }

// Decide gives the line that decides for a person in a situation, counted from 0.
func (a *Assignments) Decide(p *person.Person, situation string) int {
	for i := range a.lines {
		line := &a.lines[i]
		if (line.Situation == "" || line.Situation == situation) && a.set.In(line.Audience, p) {
			return i
		}
	}
	return len(a.lines) - 1 // Assign saw to it that the last line fits everybody
}

// DecideAny gives the line that decides for a person where several situations are there at once, such as a reply that is internal,
// and which of them it was: the first that the line fits; blank for a line for every situation.
func (a *Assignments) DecideAny(p *person.Person, situations []string) (line int, situation string) {
	for i := range a.lines {
		l := &a.lines[i]
		if (l.Situation == "" || slices.Contains(situations, l.Situation)) && a.set.In(l.Audience, p) {
			return i, l.Situation
		}
	}
	return len(a.lines) - 1, ""
}

// Covered gives the earlier line because of which a line can never decide, whoever the people are; -1 where there is none.
func (a *Assignments) Covered(line int) int {
	l := a.lines[line]
	for i, earlier := range a.lines[:line] {
		wider := earlier.Audience == Everybody || earlier.Audience == l.Audience
		if wider && (earlier.Situation == "" || earlier.Situation == l.Situation) {
			return i
		}
	}
	return -1
}

// Tally is how often each line decides: by line and situation.
func (a *Assignments) Tally(people []person.Person, situations []string) [][]int {
	counts := make([][]int, len(a.lines))
	for i := range counts {
		counts[i] = make([]int, len(situations))
	}
	names := map[string]int{} // audiences, each asked once for a person
	for _, line := range a.lines {
		if _, there := names[line.Audience]; !there {
			names[line.Audience] = len(names)
		}
	}
	of := make([]int, len(a.lines))
	for i, line := range a.lines {
		of[i] = names[line.Audience]
	}
	asked := make([]int8, len(names)) // 0 not asked, 1 in, 2 not in
	for p := range people {
		clear(asked)
		for s, situation := range situations {
			for i := range a.lines {
				if line := &a.lines[i]; line.Situation != "" && line.Situation != situation {
					continue
				}
				if asked[of[i]] == 0 {
					asked[of[i]] = 2
					if a.set.In(a.lines[i].Audience, &people[p]) {
						asked[of[i]] = 1
					}
				}
				if asked[of[i]] == 1 {
					counts[i][s]++
					break
				}
			}
		}
	}
	return counts
}

// Variant is which of a template's variants goes out in a situation: the one that a line names, or else that which is called
// like the situation, or else the template's first.
func Variant(named, situation string, variants []string) string {
	switch {
	case named != "":
		return named
	case slices.Contains(variants, situation):
		return situation
	case len(variants) > 0:
		return variants[0]
	}
	return ""
}
