package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"missivum/e2e/rig"
)

// TestWhatWasAcknowledgedOutlivesAKill kills the service again and again while two write at once, and starts it anew: what was
// answered with a success is there, the record is whole, and so is the database.
func TestWhatWasAcknowledgedOutlivesAKill(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "data")
	var acknowledged, tried [2]atomic.Int64
	names := [2]string{"first", "second"}
	rounds := rig.Soak(25, 1000)
	for round := range rounds {
		s, err := rig.Start(binary, "serve", "--data", data, "--listen", "127.0.0.1:0")
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		for i, name := range names {
			var versions []struct{ Note string }
			if tried[i].Load() == 0 {
				break
			}
			getJSON(t, s.Address+"/api/v1/templates/"+name+"/versions", &versions)
			kept, err := strconv.ParseInt(versions[0].Note, 10, 64)
			if err != nil || kept < acknowledged[i].Load() || kept > tried[i].Load() {
				t.Fatalf("round %d: %s is at %v, %d was acknowledged, %d tried: %v", round, name, versions[0].Note,
					acknowledged[i].Load(), tried[i].Load(), err)
			}
			acknowledged[i].Store(kept)
		}
		ended := make(chan struct{})
		for i, name := range names {
			go func() {
				defer func() { ended <- struct{}{} }()
				for {
					n := tried[i].Add(1)
					body, _ := json.Marshal(map[string]any{"source": fmt.Sprintf("<p>%d</p>", n), "note": strconv.FormatInt(n, 10), "base": -1})
					request, _ := http.NewRequest("PUT", s.Address+"/api/v1/templates/"+name, bytes.NewReader(body))
					answer, err := http.DefaultClient.Do(request)
					if err != nil {
						return // it was killed
					}
					answer.Body.Close()
					if answer.StatusCode >= 300 {
						t.Errorf("%s: %s", name, answer.Status)
						return
					}
					acknowledged[i].Store(n)
				}
			}()
		}
		time.Sleep(time.Duration(10+rand.IntN(120)) * time.Millisecond)
		s.Kill()
		<-ended
		<-ended
	}
	code, out, errs := command(t, "doctor", "--data", data)
	if code != 0 || !strings.Contains(out, "whole") {
		t.Errorf("doctor: %d\n%s%s", code, out, errs)
	}
	t.Logf("%d kills; %d and %d versions were acknowledged", rounds, acknowledged[0].Load(), acknowledged[1].Load())
	if acknowledged[0].Load() < int64(rounds) {
		t.Errorf("%d writes are too few to say much", acknowledged[0].Load())
	}
}
