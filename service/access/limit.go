package access

import (
	"math"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"

	"missivum/core/problem"
)

// MostWatched is how many keys a limit remembers.
const MostWatched = 10_000

// Limit holds off whoever does something too often: so many at once, and then one each time a pause has gone by. It remembers
// each key, such as an address, for itself; the blank one is never held off.
type Limit struct {
	mu    sync.Mutex
	keys  *lru.Cache[string, *rate.Limiter]
	most  int
	pause time.Duration
}

// NewLimit makes a limit.
func NewLimit(most int, pause time.Duration) *Limit {
	keys, _ := lru.New[string, *rate.Limiter](MostWatched) // fails only for a size below 1
	return &Limit{keys: keys, most: most, pause: pause}
}

// Wait is how long a key must wait; 0 when it may go on.
func (l *Limit) Wait(now time.Time, key string) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	if one, ok := l.keys.Get(key); ok && key != "" {
		if missing := 1 - one.TokensAt(now); missing > 0 {
			return time.Duration(math.Ceil(missing/float64(one.Limit()))) * time.Second
		}
	}
	return 0
}

// Count counts that a key did it, and reports whether that was not too often.
func (l *Limit) Count(now time.Time, key string) bool {
	if key == "" {
		return true
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	one, ok := l.keys.Get(key)
	if !ok {
		one = rate.NewLimiter(rate.Every(l.pause), l.most)
		l.keys.Add(key, one)
	}
	return one.AllowN(now, 1)
}

// Forget forgets what a key did.
func (l *Limit) Forget(key string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.keys.Remove(key)
}

// TooOften says how long to wait.
func TooOften(wait time.Duration) error {
	return problem.New(problem.TooOften, "Too many tries were wrong. Wait %d s and try again.", int(wait/time.Second))
}
