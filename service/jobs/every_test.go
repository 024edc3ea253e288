package jobs

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"missivum/service/access"
)

// TestEvery: what is done again and again goes on after an error, acts as the part that is named, and ends with the context.
func TestEvery(t *testing.T) {
	var log bytes.Buffer
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	times := 0
	Every(ctx, time.Millisecond, slog.New(slog.NewTextHandler(&log, nil)), "waves", func(ctx context.Context) error {
		if by, ok := access.From(ctx); !ok || by != access.Itself("waves") {
			t.Errorf("it acts as %+v", by)
		}
		switch times++; times {
		case 1:
			return errors.New("once")
		case 3:
			stop()
			return ctx.Err()
		}
		return nil
	})
	if times != 3 || strings.Count(log.String(), "\n") != 1 || !strings.Contains(log.String(), "error=once") {
		t.Errorf("%d times, log %s", times, &log)
	}
}
