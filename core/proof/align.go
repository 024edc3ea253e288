package proof

import (
	"cmp"
	"slices"
	"strings"
)

// Limits of what is compared, so that it takes milliseconds whatever is pasted.
const (
	mostWanted = 2_000
	mostNear   = 4_000 // shown pieces that are compared with one signature
	mostCopies = 10
	mostRuns   = 100_000
	run        = 2 // pieces in a row by which places are found
)

// occurrences finds the copies of a signature among shown pieces.
func occurrences(want, seen []piece) []occurrence {
	if len(want) > mostWanted {
		want = want[:mostWanted]
	}
	var list []occurrence
	end := 0
	for _, c := range copies(want, seen) {
		from := max(end, c.from-c.first-slack)
		to := min(len(seen), c.to+run+len(want)-c.last+slack, from+mostNear)
		if c.next > 0 {
			to = min(to, max(c.next-c.nextFirst, c.to+run))
		}
		if from >= to {
			continue
		}
		if pairs := align(want, seen[from:to], from); len(pairs) > 0 && (len(want) <= 3 || len(pairs)*5 >= len(want)) {
			end = pairs[len(pairs)-1][1] + 1
			list = append(list, occurrence{pairs, pairs[0][1], end})
		}
	}
	return list
}

// startsLike reports whether all that is shown is the start of a signature that was cut off there, perhaps in a word.
func startsLike(want, seen []piece) bool {
	if len(seen) == 0 || len(seen) > len(want) {
		return false
	}
	for i := range seen {
		w, g := &want[i], &seen[i]
		cut := i > 0 && i == len(seen)-1 && w.halfIs(g)
		if w.key != g.key && !cut || w.picture != nil && w.picture.name() != g.picture.name() {
			return false
		}
	}
	return true
}

// halfIs reports whether a word was cut off, perhaps with the start of a tag behind it.
func (p *piece) halfIs(cut *piece) bool {
	return p.picture == nil && cut.picture == nil && strings.HasPrefix(p.key, strings.TrimRight(cut.key, "</"))
}

// startOf is the occurrence of so many pieces from the start of a signature that are all there is.
func startOf(pieces int) occurrence {
	o := occurrence{to: pieces}
	for i := range pieces {
		o.pairs = append(o.pairs, [2]int{i, i})
	}
	return o
}

// slack is how many pieces may have come in before or behind a copy.
const slack = 5

// copying is a copy of which runs were found.
type copying struct {
	runs            int
	from, to        int // the first and the last run among the shown pieces
	first, last     int // the first and the last in the wanted one
	next, nextFirst int // where the copy behind it begins; 0 for none
}

// copies puts the runs of pieces that both have together: those of one copy stand as far from each other in both, but for what
// came in or was left out.
func copies(want, seen []piece) []copying {
	n := min(run, len(want))
	places := map[string][]int{} // in the wanted one, of each run
	for i := range len(want) - n + 1 {
		if k := runKey(want[i : i+n]); k != pictureKey+"\x01"+pictureKey+"\x01" { // pictures say nothing of each other
			places[k] = append(places[k], i)
		}
	}
	type found struct{ shift, i, j int }
	var runs []found
	for j := 0; j <= len(seen)-n && len(runs) < mostRuns; j++ {
		for _, i := range places[runKey(seen[j:j+n])] {
			runs = append(runs, found{j - i, i, j})
		}
	}
	often, most := map[int]int{}, 0
	for _, r := range runs {
		often[r.shift]++
		most = max(most, often[r.shift])
	}
	// a distance that is seldom is that of words that a signature holds twice, such as two numbers that end alike
	runs = slices.DeleteFunc(runs, func(r found) bool { return often[r.shift]*5 < most })
	slices.SortFunc(runs, func(a, b found) int { return cmp.Or(a.shift-b.shift, a.j-b.j) })
	var list []copying
	near := min(12, len(want)/2)
	for at, r := range runs {
		if at == 0 || r.shift-runs[at-1].shift > near {
			list = append(list, copying{from: r.j, to: r.j, first: r.i, last: r.i})
		}
		c := &list[len(list)-1]
		c.runs++
		c.from, c.to, c.first, c.last = min(c.from, r.j), max(c.to, r.j), min(c.first, r.i), max(c.last, r.i)
	}
	return strong(list)
}

// strong leaves the copies of which enough was found, in their order, those put together that are two halves of one; at most
// mostCopies.
func strong(list []copying) []copying {
	most := 0
	for _, c := range list {
		most = max(most, c.runs)
	}
	list = slices.DeleteFunc(list, func(c copying) bool { return c.runs*3 < most })
	slices.SortFunc(list, func(a, b copying) int { return a.from - b.from })
	for i := 1; i < len(list); {
		a, b := &list[i-1], list[i]
		if b.first > a.last && b.from > a.to {
			a.runs, a.to, a.last = a.runs+b.runs, b.to, b.last
			list = slices.Delete(list, i, i+1)
			continue
		}
		a.next, a.nextFirst = b.from, min(b.first, max(0, b.from-a.to-run))
		i++
	}
	return list[:min(len(list), mostCopies)]
}

// runKey is the key of pieces in a row.
func runKey(pieces []piece) string {
	key := ""
	for _, p := range pieces {
		key += p.key + "\x01"
	}
	return key
}

// align pairs the pieces of two lists that are the same, as many as there are in one order (longest common subsequence), pictures
// with those of their name before others. base is added to the places in the second.
func align(a, b []piece, base int) [][2]int {
	width := len(b) + 1
	lengths := make([]uint16, (len(a)+1)*width)
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			best := max(lengths[(i+1)*width+j], lengths[i*width+j+1])
			if w := alikeness(&a[i], &b[j]); w > 0 {
				best = max(best, lengths[(i+1)*width+j+1]+w)
			}
			lengths[i*width+j] = best
		}
	}
	var pairs [][2]int
	for i, j := 0, 0; i < len(a) && j < len(b); {
		w := alikeness(&a[i], &b[j])
		switch {
		case w > 0 && lengths[i*width+j] == lengths[(i+1)*width+j+1]+w:
			pairs = append(pairs, [2]int{i, base + j})
			i, j = i+1, j+1
		case lengths[(i+1)*width+j] >= lengths[i*width+j+1]:
			i++
		default:
			j++
		}
	}
	return pairs
}

// alikeness weighs two pieces: 0 for different ones.
func alikeness(a, b *piece) uint16 {
	switch {
	case a.key != b.key:
		return 0
	case a.picture != nil && a.picture.name() != b.picture.name():
		return 3
	}
	return 4
}
