// Command bench measures what Bouncer costs, as ratios against a bare reverse
// proxy in front of the same upstream, interleaved in one run. See README.md.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"
)

func main() {
	if len(os.Args) > 1 && os.Args[1] == "upstream" {
		serveUpstream(os.Args[2:])
		return
	}
	if len(os.Args) > 1 && os.Args[1] == "tool" {
		serveTool()
		return
	}
	if len(os.Args) > 1 && os.Args[1] == "proxy" {
		serveProxy(os.Args[2:])
		return
	}
	if len(os.Args) > 1 && (os.Args[1] == "sdk" || os.Args[1] == "pass-through") {
		if err := serveSDK(os.Args[1], os.Args[2:]); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		return
	}
	rounds := flag.Int("rounds", 30, "interleaved rounds of each measurement")
	span := flag.Duration("span", 200*time.Millisecond, "how long one round lasts")
	sessions := flag.String("sessions", "1000,5000", "numbers of open sessions for the memory measurement")
	bouncer := flag.String("bouncer", "bin/bouncer", "the binary to measure")
	journal := flag.String("journal", "normal", "the journal's mode")
	keep := flag.String("keep", "", "`dir` that keeps the service's data; a temporary one if left out")
	sizes := flag.String("sizes", "200,16384", "bytes of the arguments, separated by commas")
	callers := flag.String("callers", "1,16,64", "numbers of callers, separated by commas")
	searched := flag.Int("searched", 1_000_000, "calls on record to search in; 0 for not at all")
	only := flag.Bool("only-search", false, "measure nothing but the search")
	several := flag.Bool("only-cluster", false, "measure nothing but several nodes")
	changes := flag.Int("changes", 2000, "alterations that a node catches up with, with -only-cluster")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	o := options{*rounds, *span, numbers(*sessions), *bouncer, *journal, *keep, numbers(*sizes), numbers(*callers)}
	measure := run
	if *several {
		measure = func(ctx context.Context, o options) error { return cluster(ctx, o, *changes) }
		*searched = 0
	}
	if *only {
		measure = func(context.Context, options) error { return nil }
	}
	err := measure(ctx, o)
	if err == nil && *searched > 0 {
		err = search(ctx, *searched)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func numbers(list string) []int {
	var out []int
	for _, f := range strings.Split(list, ",") {
		n, err := strconv.Atoi(f)
		if err != nil || n < 1 {
			fmt.Fprintf(os.Stderr, "bench: %q is no list of numbers\n", list)
			os.Exit(2)
		}
		out = append(out, n)
	}
	return out
}
