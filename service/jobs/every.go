package jobs

import (
	"context"
	"log/slog"
	"time"

	"missivum/service/access"
)

// Every does something again and again until the context ends, acting as a part of the service that is named. What goes wrong is
// logged, and tried again the next time.
func Every(ctx context.Context, interval time.Duration, log *slog.Logger, part string, do func(context.Context) error) {
	ctx = access.With(ctx, access.Itself(part))
	tick := time.NewTicker(interval)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := do(ctx); err != nil && ctx.Err() == nil {
				log.Error("what the service does by itself", "part", part, "error", err)
			}
		}
	}
}
