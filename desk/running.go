package desk

import (
	"context"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/process"

	"missivum/core/desk"
	"missivum/core/problem"
)

// Running says which sign there is that the client of a place runs; blank for none.
func Running(ctx context.Context, f desk.Found) (string, error) {
	r := f.Place.Running
	if r.Lock != "" {
		if _, err := os.Lstat(filepath.FromSlash(f.Folder + "/" + r.Lock)); err == nil {
			return "its lock file " + r.Lock + " is there", nil
		}
	}
	if len(r.Processes) == 0 {
		return "", nil
	}
	list, err := process.ProcessesWithContext(ctx)
	if err != nil {
		return "", err
	}
	own := ""
	if u, err := user.Current(); err == nil {
		own = u.Username
	}
	for _, p := range list {
		name, err := p.NameWithContext(ctx)
		if err != nil {
			continue // it has ended meanwhile
		}
		if System() == desk.Windows {
			name = strings.TrimSuffix(strings.ToLower(name), ".exe")
		}
		if slices.ContainsFunc(r.Processes, func(known string) bool {
			return known == name || System() == desk.Windows && strings.EqualFold(known, name)
		}) {
			if who, err := p.UsernameWithContext(ctx); err == nil && own != "" && who != own {
				continue // another user's, with files of their own
			}
			return "the process " + name + " runs", nil
		}
	}
	return "", nil
}

// waitUntilClosed waits until the client of a place has ended, for as long as the desk waits. The error is of the kind Busy.
func (d *Desk) waitUntilClosed(ctx context.Context, f desk.Found) error {
	until := d.Now().Add(d.Wait)
	said := false
	for {
		why, err := Running(ctx, f)
		if err != nil || why == "" {
			return err
		}
		if d.Now().After(until) {
			return problem.New(problem.Busy, "%s: %s. Close the client, or wait for that with --wait.", f.Place.ID, why)
		}
		if !said {
			d.say(f.Place.ID + ": waiting until the client is closed: " + why)
			said = true
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}
