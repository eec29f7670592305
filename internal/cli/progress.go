package cli

import (
	"context"
	"fmt"
	"math"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/span"
)

const (
	lookEvery = 500 * time.Millisecond
	sayAfter  = 2 * time.Second // what is quick needs no words
	sayEvery  = 5 * time.Second // while nothing changes
)

// watching does something that reaches a server, and meanwhile tells on standard error
// which stage that is in, for how long, and what the process wrote last.
func (t *task) watching(ctx context.Context, server string, do func() error) error {
	ended := make(chan struct{})
	told := make(chan struct{})
	go func() {
		defer close(told)
		t.tellProgress(ctx, server, ended)
	}()
	err := do()
	close(ended)
	<-told
	if err != nil && ctx.Err() != nil {
		return &failure{exitFailure, "cancelled while " + server + " was being reached", "what it was before, it still is"}
	}
	return err
}

func (t *task) tellProgress(ctx context.Context, server string, ended <-chan struct{}) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	began := time.Now()
	var said time.Time
	var last string
	for {
		select {
		case <-ended:
			return
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if time.Since(began) < sayAfter {
			continue
		}
		var now apitype.Progress
		if err := t.client.Get(ctx, "/api/servers/"+seg(server)+"/progress", &now); err != nil || !now.Busy {
			continue // the answer to what was asked says what is wrong
		}
		if words := now.Stage + " " + now.Words; words != last || time.Since(said) >= sayEvery {
			last, said = words, time.Now()
			fmt.Fprintln(t.Err, progressLine(server, now))
		}
	}
}

// progressLine says what an attempt at reaching a server is doing.
func progressLine(server string, p apitype.Progress) string {
	line := fmt.Sprintf("%s: %s, for %s", server, p.Stage, span.Text(time.Duration(math.Round(p.Seconds))*time.Second))
	if p.Words != "" {
		line += "; last output: " + clip(p.Words, 100)
	}
	return line + " (Ctrl-C cancels)"
}
