// Command mutants tells which lines of a package no test of it would miss: it alters conditions and
// sums one by one, and runs the package's own tests against each. All alterations are compiled into one
// test binary, and a variable says which one is on, so that a mutant takes as long as the tests do.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"time"
)

func main() {
	jobs := flag.Int("jobs", 2, "how many mutants are tried at a time")
	least := flag.Float64("least", 0, "percentage of killed mutants below which a package fails")
	flag.Usage = func() {
		fmt.Fprint(flag.CommandLine.Output(), "usage: mutants [flags] PACKAGE...\n\nexample: go run ./mutants --least 90 ./internal/core/rules\n\n")
		flag.PrintDefaults()
	}
	flag.Parse()
	if flag.NArg() == 0 {
		flag.Usage()
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	failed := false
	for _, dir := range flag.Args() {
		share, err := examine(ctx, os.Stdout, dir, *jobs)
		if err != nil {
			fmt.Fprintln(os.Stderr, "mutants:", err)
			os.Exit(1)
		}
		if share < *least {
			fmt.Fprintf(os.Stderr, "mutants: of %s, less than %g %% is killed; what is listed above needs tests\n", dir, *least)
			failed = true
		}
	}
	if failed {
		os.Exit(3)
	}
}

// examine tries all mutants of a package, and tells those that live. The share is that of the killed
// ones among all, in percent; those that no test reaches live.
func examine(ctx context.Context, out io.Writer, dir string, jobs int) (share float64, err error) {
	p, err := load(ctx, dir)
	if err != nil {
		return 0, err
	}
	work, err := os.MkdirTemp("", "mutants")
	if err != nil {
		return 0, fmt.Errorf("make room for the altered files: %w", err)
	}
	defer os.RemoveAll(work)
	began := time.Now()
	t, err := build(ctx, p, work)
	if err != nil {
		return 0, err
	}
	if err := t.try(ctx, jobs); err != nil {
		return 0, err
	}
	killed := 0
	for _, m := range t.mutants {
		if m.fate == killedByTest || m.fate == killedByTime {
			killed++
			continue
		}
		fmt.Fprintf(out, "%s:%d: %s: %s\n", m.file, m.line, m.fate, m.what)
	}
	share = 100
	if len(t.mutants) > 0 {
		share = 100 * float64(killed) / float64(len(t.mutants))
	}
	fmt.Fprintf(out, "%s: %.1f %% of %d mutants killed, in %s\n", p.ImportPath, share, len(t.mutants), time.Since(began).Round(time.Second))
	return share, nil
}
