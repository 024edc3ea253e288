package api

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"runtime"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"missivum/core/problem"
)

// Limits of work that takes long or much memory.
const (
	longestWait = 20 * time.Second // in line, before the answer is to come again later
	mostWaiting = 64               // requests in line
	bodyPause   = 20 * time.Second // without a byte of a request's body, before it is given up; see API.BodyPause
)

// line lets a few requests at once do heavy work, so that their memory adds up to a known sum and the others are
// answered meanwhile. Who waits too long is asked to come again.
type line struct {
	slots   *semaphore.Weighted
	waiting atomic.Int32
}

// newLine makes a line with a number of slots.
func newLine(slots int) *line { return &line{slots: semaphore.NewWeighted(int64(slots))} }

// mostSlots is how much heavy work is done at once on the largest machine.
const mostSlots = 4

// heavySlots leaves a processor for what is quick, where there are several.
func heavySlots() int { return min(max(runtime.GOMAXPROCS(0)-1, 1), mostSlots) }

// enter waits for a slot; leave gives it back. The error is a problem of kind Busy, or the context's.
func (l *line) enter(ctx context.Context) (leave func(), err error) {
	if l.waiting.Add(1) > mostWaiting {
		l.waiting.Add(-1)
		return nil, problem.New(problem.Busy, "Too many requests wait for heavy work. Come again in a few seconds.")
	}
	defer l.waiting.Add(-1)
	waiting, cancel := context.WithTimeout(ctx, longestWait)
	defer cancel()
	if err := l.slots.Acquire(waiting, 1); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, problem.New(problem.Busy, "The service is busy with other heavy work. Come again in a few seconds.")
	}
	return func() { l.slots.Release(1) }, nil
}

// heavy is for requests that work long: their body is read first, so that a slow one holds nobody up, and then they wait
// in line.
func (a *API) heavy(c *gin.Context) {
	if _, ok := a.buffered(c); ok {
		a.inLine(c)
	}
}

// quickBody is how large a body may be so that what is quick does not wait in line, in bytes. Honest signatures have less.
const quickBody = 48 << 10

// quick is for requests that are answered at once, unless their body is so large that they are heavy.
func (a *API) quick(c *gin.Context) {
	if size, ok := a.buffered(c); ok && size > quickBody {
		a.inLine(c)
	}
}

// buffered reads the body, and gives its size in bytes.
func (a *API) buffered(c *gin.Context) (size int, ok bool) {
	body, err := io.ReadAll(c.Request.Body)
	if err != nil {
		a.fail(c, err)
		return 0, false
	}
	c.Request.Body = io.NopCloser(bytes.NewReader(body))
	return len(body), true
}

// spooled is heavy for large bodies, which wait in a temporary file.
func (a *API) spooled(c *gin.Context) {
	f, err := os.CreateTemp("", "missivum-body-")
	if err != nil {
		a.fail(c, err)
		return
	}
	defer f.Close()
	if err := os.Remove(f.Name()); err != nil { // it goes with the process, however that ends
		a.fail(c, err)
		return
	}
	if _, err = io.Copy(f, c.Request.Body); err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Request.Body = f
	a.inLine(c)
}

// inLine is heavy for requests without a body. Pictures have a line of their own, one after the other, since one can take
// some hundred megabytes.
func (a *API) inLine(c *gin.Context) {
	l := a.lines
	if strings.Contains(c.FullPath(), "/pictures") || strings.HasSuffix(c.FullPath(), "/code") {
		l = a.pictureLine
	}
	leave, err := l.enter(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	defer leave()
	c.Next()
}

// steady gives a body up that does not come.
type steady struct {
	io.ReadCloser
	control *http.ResponseController
	pause   time.Duration
}

// Read allows a pause before each piece.
func (s steady) Read(p []byte) (int, error) {
	_ = s.control.SetReadDeadline(time.Now().Add(s.pause)) // a recorder in a test has no deadline
	return s.ReadCloser.Read(p)
}
