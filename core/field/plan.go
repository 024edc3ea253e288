package field

import "strings"

// plan is a program for all people for whom the same conditions hold: the texts between the values, each in one
// piece. Filling by a plan takes little more time than copying the bytes.
type plan struct {
	text string
	runs []planRun
}

// planRun is a text and the value behind it.
type planRun struct {
	end    int // of the text; it begins where the one before ended
	output int
}

// Limits of plans: how many conditions a table may have for its programs to be planned, and how many plans a
// filler keeps of a program. Directories have few patterns of blanks; without a plan the steps are done one by one.
const (
	maxPlanned = 64
	maxPlans   = 512
)

// plan finds or makes the plan of a program for the person set, or gives nil for a program that cannot be
// planned: one that repeats anything.
func (f *Filler) plan(p *Program) *plan {
	if p.loops > 0 || len(f.holds) > maxPlanned {
		return nil
	}
	for len(f.plans) <= p.number {
		f.plans = append(f.plans, map[uint64]*plan{})
	}
	if made, ok := f.plans[p.number][f.mask]; ok {
		return made
	}
	made := &plan{}
	var text strings.Builder
	p.Visit(f, func(s *Step, piece string) {
		if s.Kind == StepValue {
			made.runs = append(made.runs, planRun{text.Len(), s.Output})
			return
		}
		text.WriteString(piece)
	})
	made.text = text.String()
	if len(f.plans[p.number]) >= maxPlans {
		clear(f.plans[p.number])
	}
	f.plans[p.number][f.mask] = made
	return made
}

// Append appends the program's output for the person set in f. The filler must be of the program's table.
func (p *Program) Append(dst []byte, f *Filler) []byte {
	made := f.plan(p)
	if made == nil {
		p.Visit(f, func(_ *Step, text string) { dst = append(dst, text...) })
		return dst
	}
	from := 0
	for _, r := range made.runs {
		dst = append(dst, made.text[from:r.end]...)
		dst = append(dst, f.outputs[r.output]...)
		from = r.end
	}
	return append(dst, made.text[from:]...)
}
