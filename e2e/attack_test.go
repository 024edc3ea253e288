package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"missivum/e2e/rig"
	"missivum/lab/hostile"
)

// peakOf is the most memory that a running process had at once, in MB (proc(5), VmHWM); 0 for one that is not there.
func peakOf(pid int) int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	found := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(status)
	if found == nil {
		return 0
	}
	kB, err := strconv.Atoi(string(found[1]))
	if err != nil {
		return 0
	}
	return kB >> 10
}

// attack is a request that is meant to hurt.
type attack struct {
	name, method, path, media string
	body                      func() []byte
}

// attacks are each hostile source on some route, and what else takes long or much memory.
func attacks() []attack {
	routes := []string{"check", "fix", "map", "shrink", "space", "block", "look", "fill"}
	extra := map[string]any{"client": "source-webmail", "dialect": "brace", "person": "maren.lind@brackwater.example", "form": "html"}
	var list []attack
	for i, s := range hostile.Sources() {
		for k, route := range routes {
			if k != i%len(routes) && os.Getenv("MISSIVUM_SOAK") == "" {
				continue
			}
			for _, size := range []int{60_000, 1 << 20} {
				list = append(list, attack{s.Name + " to " + route, "POST", "/api/v1/templates/harbour/" + route, "application/json", func() []byte {
					request := map[string]any{"source": s.Make(size)}
					for _, key := range map[string][]string{"shrink": {"client"}, "space": {"client"}, "block": {"dialect"},
						"fill": {"person", "form"}}[route] {
						request[key] = extra[key]
					}
					text, err := json.Marshal(request)
					if err != nil {
						panic(err)
					}
					return text
				}})
			}
		}
		list = append(list, attack{s.Name + " to clean", "POST", "/api/v1/clean", "application/json", func() []byte {
			text, err := json.Marshal(map[string]any{"source": s.Make(100_000)})
			if err != nil {
				panic(err)
			}
			return text
		}})
	}
	fit := func(side, multiple int) func() []byte {
		return func() []byte {
			return []byte(fmt.Sprintf(`{"recipe":{"width":%d,"height":%d,"multiple":%d}}`, side, side, multiple))
		}
	}
	words := strings.Repeat("harbour office ", 8_000)
	return append(list,
		attack{"a picture made huge", "POST", "/api/v1/pictures/tiny/fit", "application/json", fit(2000, 3)},
		attack{"a picture made large", "POST", "/api/v1/pictures/tiny/fit", "application/json", fit(800, 3)},
		attack{"a large picture made small", "POST", "/api/v1/pictures/large/fit", "application/json", fit(400, 2)},
		attack{"a long signature", "POST", "/api/v1/new", "application/json", func() []byte {
			return []byte(`{"person":"maren.lind@brackwater.example","text":"<p>Maren Lind ` + words + `</p>"}`)
		}},
		attack{"a row of commas", "POST", "/api/v1/people/import", "text/csv", func() []byte {
			return []byte("mail,cn\n" + strings.Repeat(",", 30<<20))
		}},
		attack{"many short rows", "POST", "/api/v1/people/import", "text/csv",
			func() []byte { return []byte("mail,cn\n" + strings.Repeat("x\n", 10<<20)) }},
		attack{"a header of commas", "POST", "/api/v1/people/import", "text/csv", func() []byte { return bytes.Repeat([]byte(","), 30<<20) }},
		attack{"no archive", "PUT", "/api/v1/templates/bomb/archive", "application/zip", func() []byte { return make([]byte, 60<<20) }},
		attack{"deep JSON", "POST", "/api/v1/clean", "application/json", func() []byte { return []byte(strings.Repeat(`{"a":`, 600_000)) }},
	)
}

// TestTheServiceLivesThroughAttacks: with little memory the service answers every hostile request, twenty at once, and
// others meanwhile; nothing ends it and nothing makes it large.
func TestTheServiceLivesThroughAttacks(t *testing.T) {
	s := demoService(t)
	put(t, s, "/api/v1/pictures/tiny", gray(t, 40, 40))
	put(t, s, "/api/v1/pictures/large", gray(t, 5900, 4000))
	quiet := looks(t, s, 40, nil)
	list := attacks()
	queue := make(chan attack)
	var group sync.WaitGroup
	var busy, answered atomic.Int32
	for range 20 {
		group.Go(func() {
			for a := range queue {
				if status := strike(t, s, a); status == http.StatusServiceUnavailable {
					busy.Add(1)
				} else if status > 0 {
					answered.Add(1)
				}
			}
		})
	}
	done := make(chan struct{})
	go func() {
		for _, a := range list {
			queue <- a
		}
		close(queue)
		group.Wait()
		close(done)
	}()
	loud := looks(t, s, 0, done)
	most := peakOf(s.PID())
	t.Logf("%d attacks: %d answered, %d asked to come again; %d MB at most; a look takes %v in quiet, %v meanwhile (99 of 100: %v and %v)",
		len(list), answered.Load(), busy.Load(), most, quiet[len(quiet)/2], loud[len(loud)/2], quiet[len(quiet)*99/100], loud[len(loud)*99/100])
	if most == 0 || most > 1000 {
		t.Errorf("the service took %d MB", most)
	}
	if answered.Load() == 0 || len(loud) < 10 {
		t.Errorf("%d attacks and %d looks were answered", answered.Load(), len(loud))
	}
	var health struct{ Status string }
	getJSON(t, s.Address+"/readyz", &health)
	if health.Status != "ready" {
		t.Errorf("afterwards it is %q", health.Status)
	}
}

// gray is a picture without content.
func gray(t *testing.T, width, height int) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, width, height))); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// put stores a picture.
func put(t *testing.T, s *rig.Server, path string, data []byte) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPut, s.Address+path+"?file=tiny.png", bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/octet-stream")
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode/100 != 2 {
		text, _ := io.ReadAll(answer.Body)
		t.Fatalf("%s: %d %s %s", path, answer.StatusCode, text, base64.StdEncoding.EncodeToString(data))
	}
}

// strike sends an attack and gives the status of the answer. What is no answer, or a fault of the service, fails the test.
func strike(t *testing.T, s *rig.Server, a attack) int {
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, a.method, s.Address+a.path, bytes.NewReader(a.body()))
	if err != nil {
		t.Error(err)
		return 0
	}
	request.Header.Set("Content-Type", a.media)
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Errorf("%s: %v", a.name, err)
		return 0
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Errorf("%s: %v", a.name, err)
	}
	if answer.StatusCode >= 500 && answer.StatusCode != http.StatusServiceUnavailable {
		t.Errorf("%s: %d %.200s", a.name, answer.StatusCode, text)
	}
	return answer.StatusCode
}

// looks asks for the look of a template, again and again, and gives how long each took, sorted: a number of times, or
// until something is done.
func looks(t *testing.T, s *rig.Server, times int, done <-chan struct{}) []time.Duration {
	t.Helper()
	var list []time.Duration
	for i := 0; times == 0 || i < times; i++ {
		select {
		case <-done:
			slices.Sort(list)
			return list
		default:
		}
		begun := time.Now()
		status := strike(t, s, attack{"a look", "POST", "/api/v1/templates/harbour/look", "application/json",
			func() []byte { return []byte(`{"person":"maren.lind@brackwater.example","client":"gecko-desktop"}`) }})
		if status != http.StatusOK {
			t.Errorf("a look: %d", status)
		}
		list = append(list, time.Since(begun))
		time.Sleep(5 * time.Millisecond)
	}
	slices.Sort(list)
	return list
}
