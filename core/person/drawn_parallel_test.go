package person

import (
	"sync"
	"testing"
)

// TestManyMeasureAtOnce: widths measured at the same time are those measured alone; with the race detector it fails where
// they share a face.
func TestManyMeasureAtOnce(t *testing.T) {
	names := []string{"Maren Lind", "Siobhán Ní Fhloinn", "湊かもめ", "WWWWWWWW", "iiiiiiii"}
	var want []int
	for _, name := range names {
		want = append(want, drawnWidth(name))
	}
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for i := range 2_000 {
				if got := drawnWidth(names[i%len(names)]); got != want[i%len(names)] {
					t.Errorf("%s: %d px, and alone %d px", names[i%len(names)], got, want[i%len(names)])
					return
				}
			}
		})
	}
	all.Wait()
}
