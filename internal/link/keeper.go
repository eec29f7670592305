package link

import (
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/tools"
	"bouncer/internal/team"
)

// States of a kept link.
const (
	Connecting = "connecting" // next: Ready, Failing
	Ready      = "ready"      // next: Failing
	Failing    = "failing"    // next: Ready
	Paused     = "paused"     // said of a server that has no keeper
)

// KeeperOptions configure a Keeper.
type KeeperOptions struct {
	Log *slog.Logger
	// Changed is called after every change of state or of the tool list. It may
	// be called by a goroutine that carries a call, so it must not block.
	Changed func(Status)
	// Poll is how often the tool list of a server without an event stream is
	// read again; 0 means one minute.
	Poll time.Duration
}

// Status is what a Keeper knows of its server.
type Status struct {
	team.Health
	// List is the tool list in force; it outlives a failure.
	List []tools.Tool
}

// Keeper keeps one link alive: it opens it, listens for changes of the tool
// list, and opens it again after failures, waiting longer each time.
type Keeper struct {
	link   Link
	o      KeeperOptions
	cancel context.CancelFunc
	ended  chan struct{}
	kick   chan struct{} // capacity 1: look again now

	mu     sync.Mutex
	status Status

	working sync.Mutex // one probe at a time
}

const (
	firstWait   = time.Second
	longestWait = time.Minute
)

// Keep starts keeping a link. list is the tool list last recorded, which is in
// force until the server has answered.
func Keep(ctx context.Context, l Link, list []tools.Tool, o KeeperOptions) *Keeper {
	return Adopt(ctx, l, Status{List: list, Health: team.Health{State: Connecting, Since: time.Now().UTC(), Tools: len(list), Edition: tools.Digest(list)}}, o)
}

// Adopt is Keep for a link that was probed already.
func Adopt(ctx context.Context, l Link, probed Status, o KeeperOptions) *Keeper {
	if o.Poll == 0 {
		o.Poll = time.Minute
	}
	ctx, cancel := context.WithCancel(ctx)
	k := &Keeper{link: l, o: o, cancel: cancel, ended: make(chan struct{}), kick: make(chan struct{}, 1), status: probed}
	go k.run(ctx)
	return k
}

// Link returns the link that is kept.
func (k *Keeper) Link() Link { return k.link }

// Status returns what is known now.
func (k *Keeper) Status() Status {
	k.mu.Lock()
	defer k.mu.Unlock()
	st := k.status
	if p, ok := k.link.(*Process); ok {
		st.Stderr, st.Noise = p.tail()
	}
	return st
}

// Check reaches the server from the beginning, so that every step is seen, and
// returns the outcome. While the kept link works it is left alone, since calls
// may be under way on it: a fresh one, given by the caller, tries the way.
func (k *Keeper) Check(ctx context.Context, fresh Link) Status {
	defer k.nudge()
	if k.Status().State != Ready {
		k.link.Close(ctx)
		k.probe(ctx)
		return k.Status()
	}
	st := Judge(fresh.Probe(ctx))
	fresh.Close(ctx)
	if st.State != Ready {
		k.Report(*st.Finding)
		return k.Status()
	}
	k.mu.Lock()
	k.status.Stages, k.status.Checked = st.Stages, st.Checked
	k.mu.Unlock()
	return k.Status()
}

// Report tells the keeper that a call failed for a reason that lies with the
// connection, so that the state is true before the next look.
func (k *Keeper) Report(f diagnosis.Finding) {
	k.mu.Lock()
	changed := k.status.State == Ready
	if changed {
		k.status.State, k.status.Since = Failing, time.Now().UTC()
		k.status.Finding = &f
	}
	st := k.status
	k.mu.Unlock()
	if changed {
		k.o.Changed(st)
		k.nudge()
	}
}

// Close ends the link and waits for everything it started.
func (k *Keeper) Close(ctx context.Context) {
	k.cancel()
	<-k.ended
	k.link.Close(ctx)
}

func (k *Keeper) nudge() {
	select {
	case k.kick <- struct{}{}:
	default:
	}
}

func (k *Keeper) run(ctx context.Context) {
	defer close(k.ended)
	failures := 0
	for ctx.Err() == nil {
		if k.Status().State == Ready {
			failures = 0
			k.watch(ctx)
			if ctx.Err() != nil {
				return
			}
		}
		k.probe(ctx)
		if k.Status().State == Ready {
			continue
		}
		wait := min(longestWait, firstWait<<min(failures, 10))
		failures++
		wait = wait/2 + rand.N(wait) // so that many links do not knock together
		select {
		case <-time.After(wait):
		case <-k.kick:
		case <-ctx.Done():
		}
	}
}

func (k *Keeper) probe(ctx context.Context) {
	k.working.Lock()
	defer k.working.Unlock()
	st := Judge(k.link.Probe(ctx))
	if ctx.Err() != nil {
		return
	}
	k.mu.Lock()
	old := k.status
	if st.State == old.State {
		st.Since = old.Since
	}
	if st.State != Ready {
		// What the server offered last stays in force until it answers again.
		st.List, st.Tools, st.Edition, st.LeftOut = old.List, old.Tools, old.Edition, old.LeftOut
		st.Revision, st.ServerName, st.ServerVersion = old.Revision, old.ServerName, old.ServerVersion
	}
	if len(st.Stages) == 1 {
		st.Stages = old.Stages // the session was open: only the list was read again
	}
	k.status = st
	k.mu.Unlock()
	if st.State != old.State || st.Edition != old.Edition || cause(st) != cause(old) {
		if st.State != old.State {
			k.o.Log.Info("server changed its state", "server", k.link.name(), "state", st.State, "cause", cause(st))
		}
		k.o.Changed(st)
	}
}

func cause(s Status) diagnosis.Cause {
	if s.Finding == nil {
		return ""
	}
	return s.Finding.Cause
}

// Judge turns the outcome of a probe into a status.
func Judge(g Greeting, list []tools.Tool, left []string, stages []team.Stage, err error) Status {
	now := time.Now().UTC()
	st := Status{List: list, Health: team.Health{
		State: Ready, Revision: g.Revision, ServerName: g.Name, ServerVersion: g.Version, Tools: len(list), Edition: tools.Digest(list),
		LeftOut: left, Stages: stages, Since: now, Checked: now,
	}}
	if err == nil {
		return st
	}
	st.State = Failing
	var f *Failure
	if errors.As(err, &f) {
		st.Finding = &f.Finding
	} else {
		found := diagnosis.Explain(diagnosis.Evidence{Err: err, Timeout: isTimeout(err)})
		st.Finding = &found
	}
	return st
}

// watch returns when the server should be looked at again: its list changed,
// its stream ended, the time for polling has come, or somebody asked.
func (k *Keeper) watch(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan bool, 1) // true: worth looking; false: the server has no stream
	go func() { ended <- k.link.listen(ctx) }()
	timer := time.NewTimer(k.o.Poll)
	defer timer.Stop()
	for streaming := true; ; {
		select {
		case look := <-ended:
			if look {
				return
			}
			streaming = false
			ended = nil
		case <-k.kick:
			if streaming {
				cancel()
				<-ended
			}
			return
		case <-timer.C:
			if !streaming {
				return
			}
			// With a stream the list is still read again now and then, ten times
			// less often: some servers forget to tell.
			timer.Reset(10 * k.o.Poll)
			if k.quiet(ctx) {
				continue
			}
			cancel()
			<-ended
			return
		case <-ctx.Done():
			if streaming {
				<-ended
			}
			return
		}
	}
}

// quiet reads the list while the stream stays open and reports whether it is
// still the same.
func (k *Keeper) quiet(ctx context.Context) bool {
	list, _, err := k.link.Tools(ctx)
	return err == nil && tools.Digest(list) == k.Status().Edition
}
