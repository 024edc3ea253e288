//go:build !linux

package drawing

import (
	"context"
	"os"
	"os/exec"
	"time"
)

// handOver does nothing: programs run as who runs the service.
func handOver(string) error { return nil }

// confine makes a command at home in a folder.
func confine(c *exec.Cmd, home string) {
	if c.Env == nil {
		c.Env = os.Environ()
	}
	c.Env = append(c.Env, "HOME="+home, "TMPDIR="+home)
}

// ending is a command that ends with its context, and that finds no network through a proxy.
func ending(ctx context.Context, folder, name string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, name, args...)
	c.WaitDelay = time.Second
	c.Env = append(os.Environ(), "http_proxy=http://"+nowhere, "https_proxy=http://"+nowhere, "no_proxy=")
	confine(c, folder)
	return c
}
