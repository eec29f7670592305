// Command berths runs the stand-in for the harbour's berths as a local process.
// Its key comes in the variable BERTHS_KEY.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"bouncer/standin/ferries"
	"bouncer/standin/toolserver"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if len(os.Args) > 1 && os.Args[1] == "--stores" {
		if err := ferries.Stores().ServeStdio(ctx, os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, "stores:", err)
		}
		return
	}
	if os.Getenv("BERTHS_KEY") != ferries.BerthsToken {
		fmt.Fprintln(os.Stderr, "berths: the variable BERTHS_KEY does not hold the harbour's key")
		os.Exit(3)
	}
	s := ferries.Berths("")
	if len(os.Args) > 1 && os.Args[1] == "--noisy" {
		s.Fail(toolserver.Noisy)
	}
	fmt.Fprintln(os.Stderr, "berths: ready, six berths in four harbours")
	if err := s.ServeStdio(ctx, os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "berths:", err)
		os.Exit(1)
	}
}
