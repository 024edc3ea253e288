// Command missivum makes, checks and hands out the HTML mail signatures of an organisation.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"missivum/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(cli.Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
