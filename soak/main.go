// Command soak has a service work for a while as it would for a large team: agents that call,
// servers that fail and come back, people who alter things. It follows memory, goroutines and
// open files, draws them, and fails when they grow.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

type options struct {
	bouncer, picture string
	span             time.Duration
	agents, servers  int
}

func main() {
	var o options
	flag.StringVar(&o.bouncer, "bouncer", "bin/bouncer", "the binary that works")
	flag.StringVar(&o.picture, "picture", "soak.svg", "`file` that the graphs are drawn into")
	flag.DurationVar(&o.span, "span", 10*time.Minute, "how long")
	flag.IntVar(&o.agents, "agents", 200, "how many agents call")
	flag.IntVar(&o.servers, "servers", 40, "how many servers there are")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, o); err != nil {
		fmt.Fprintln(os.Stderr, "soak:", err)
		stop()
		os.Exit(1) //nolint:gocritic // stop was called
	}
}

func run(ctx context.Context, o options) error {
	dir, err := os.MkdirTemp("", "soak")
	if err != nil {
		return fmt.Errorf("make a directory for the service: %w", err)
	}
	defer os.RemoveAll(dir)
	svc, err := start(ctx, o.bouncer, filepath.Join(dir, "data"))
	if err != nil {
		return err
	}
	defer svc.stop()
	quay, err := open(o.servers)
	if err != nil {
		return err
	}
	defer quay.close()
	passes, err := svc.furnish(ctx, quay.addresses, o.agents)
	if err != nil {
		return err
	}
	fmt.Printf("%d agents, %d servers, %v\n", o.agents, o.servers, o.span)
	work, end := context.WithTimeout(ctx, o.span)
	defer end()
	t := &tally{}
	var all sync.WaitGroup
	for i, pass := range passes {
		all.Go(func() { (&agent{svc: svc, pass: pass, seed: uint64(i), tally: t, servers: o.servers}).work(work) })
	}
	all.Go(func() { quay.misbehave(work) })
	all.Go(func() { svc.alter(work, t) })
	samples := svc.follow(work, t)
	all.Wait()
	if err := draw(o.picture, samples); err != nil {
		return err
	}
	fmt.Printf("%s; the graphs are in %s\n", t, o.picture)
	if ctx.Err() != nil {
		return errors.New("it was interrupted")
	}
	return judge(samples)
}

// judge fails when something grows from the middle third to the last by more than a tenth.
// The first third is for what fills up once: caches, pools, rings.
func judge(samples []sample) error {
	if len(samples) < 9 {
		return errors.New("that was too short to tell anything")
	}
	third := len(samples) / 3
	var errs []error
	for _, c := range curves {
		middle, last := median(samples[third:2*third], c.of), median(samples[2*third:], c.of)
		verdict := "flat"
		if last > middle*1.1+c.leeway {
			verdict = "GROWS"
			errs = append(errs, fmt.Errorf("%s grows: %.0f in the middle third, %.0f in the last", c.name, middle, last))
		}
		fmt.Printf("%-12s %9.0f %9.0f  %s\n", c.name, middle, last, verdict)
	}
	return errors.Join(errs...)
}
