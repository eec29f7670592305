// Command bouncer is the service between a team's assistants and its tool
// servers, and the command line to it.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"bouncer/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(cli.Main(ctx, cli.System(), os.Args[1:]))
}
