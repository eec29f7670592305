package main

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// switches is the file that is put beside those of the package.
//
//go:embed switches.go.txt
var switches string

// tests is a test binary with all mutants in it.
type tests struct {
	p       *loaded
	work    string
	binary  string
	mutants []*mutant
}

// maxBuilds is how often lines are left out that do not compile when they are altered.
const maxBuilds = 30

// build makes the binary.
func build(ctx context.Context, p *loaded, work string) (*tests, error) {
	t := &tests{p: p, work: work, binary: filepath.Join(work, "tests")}
	skip := map[string]bool{}
	for range maxBuilds {
		t.mutants = nil
		replaced := map[string]string{}
		put := func(name string, text []byte) error {
			replaced[filepath.Join(p.Dir, name)] = filepath.Join(work, name)
			return os.WriteFile(filepath.Join(work, name), text, 0o600)
		}
		for i, name := range p.GoFiles {
			a := alterer{p: p, file: i, skip: skip, mutants: &t.mutants}
			if err := put(name, a.altered()); err != nil {
				return nil, fmt.Errorf("write the altered files: %w", err)
			}
		}
		if err := put("mutant_switches.go", []byte(strings.Replace(switches, "package switches", "package "+p.Name, 1))); err != nil {
			return nil, fmt.Errorf("write the altered files: %w", err)
		}
		overlay := filepath.Join(work, "overlay.json")
		raw, err := json.Marshal(map[string]any{"Replace": replaced})
		if err != nil {
			return nil, fmt.Errorf("write the altered files: %w", err)
		}
		if err := os.WriteFile(overlay, raw, 0o600); err != nil {
			return nil, fmt.Errorf("write the altered files: %w", err)
		}
		said, err := exec.CommandContext(ctx, "go", "test", "-vet=off", "-gcflags=-e", "-c", "-overlay", overlay, "-o", t.binary, p.ImportPath).
			CombinedOutput()
		if err == nil {
			return t, nil
		}
		if !t.leaveOut(skip, said) {
			return nil, fmt.Errorf("build the tests of %s: %s", p.ImportPath, bytes.TrimSpace(said))
		}
	}
	return nil, fmt.Errorf("the altered tests of %s do not build", p.ImportPath)
}

var (
	errorAt = regexp.MustCompile(`([A-Za-z0-9_]+\.go):(\d+):\d+`)
	number  = regexp.MustCompile(`mutant[A-Za-z]*(?:\[[^\]]*\])?\((\d+)`)
)

// leaveOut notes the lines of mutants that do not compile; false when there is none.
func (t *tests) leaveOut(skip map[string]bool, said []byte) bool {
	some := false
	for _, m := range errorAt.FindAllSubmatch(said, -1) {
		text, err := os.ReadFile(filepath.Join(t.work, string(m[1])))
		if err != nil {
			continue // it is none of ours
		}
		line, _ := strconv.Atoi(string(m[2])) // digits
		lines := bytes.Split(text, []byte("\n"))
		if line < 1 || line > len(lines) {
			continue
		}
		for _, n := range number.FindAllSubmatch(lines[line-1], -1) {
			at, _ := strconv.Atoi(string(n[1])) // digits
			one := t.mutants[at-1]
			if where := place(one.file, one.line); !skip[where] {
				skip[where], some = true, true
			}
		}
	}
	return some
}

// try runs the tests against each mutant that they reach.
func (t *tests) try(ctx context.Context, jobs int) error {
	reached := filepath.Join(t.work, "reached")
	began := time.Now()
	if got, err := t.run(ctx, 0, reached, time.Hour); err != nil || got != lives {
		return fmt.Errorf("the tests of %s fail as they are: %w", t.p.ImportPath, errors.Join(err, errors.New(string(got))))
	}
	limit := 8*time.Since(began) + 5*time.Second
	raw, err := os.ReadFile(reached)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("read which lines the tests reach: %w", err)
	}
	numbers := strings.Fields(string(raw))
	var working sync.WaitGroup
	var mu sync.Mutex // guards failed
	var failed error
	next := make(chan *mutant)
	for range max(jobs, 1) {
		working.Go(func() {
			for m := range next {
				got, err := t.run(ctx, m.number, "", limit)
				m.fate = got
				mu.Lock()
				failed = errors.Join(failed, err)
				mu.Unlock()
			}
		})
	}
	for _, m := range t.mutants {
		m.fate = notReached
		if slices.Contains(numbers, strconv.Itoa(m.number)) && ctx.Err() == nil {
			next <- m
		}
	}
	close(next)
	working.Wait()
	return errors.Join(failed, ctx.Err())
}

// memory is how much a run of the tests may have, in KiB: a loop without an end can take all there is.
const memory = 3_000_000

// run runs the tests with one mutant, or with none for 0; then it is noted which ones are reached.
func (t *tests) run(ctx context.Context, mutant int, reached string, limit time.Duration) (fate, error) {
	within, stop := context.WithTimeout(ctx, limit)
	defer stop()
	cmd := exec.CommandContext(within, "sh", "-c", fmt.Sprintf(`ulimit -v %d; exec "$0" -test.failfast -test.short`, memory), t.binary)
	cmd.Dir, cmd.WaitDelay = t.p.Dir, time.Second
	cmd.Env = append(os.Environ(), fmt.Sprintf("MUTANT=%d", mutant), "MUTANTS_REACHED="+reached)
	err := cmd.Run()
	var exit *exec.ExitError
	switch {
	case err == nil:
		return lives, nil
	case ctx.Err() != nil:
		return lives, ctx.Err()
	case within.Err() != nil:
		return killedByTime, nil
	case errors.As(err, &exit):
		return killedByTest, nil
	}
	return lives, fmt.Errorf("run the tests: %w", err)
}
