// Package history remembers what each agent could use, so that two points in time can be
// compared: what could this agent do last Monday? A state is recorded when it differs from
// the one before; what was between two looks, a few seconds apart, is not.
package history

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"time"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/registry"
	"bouncer/internal/snapshot"
	"bouncer/internal/store"
)

// How long after a change it is looked, and how often without any.
const (
	settle = 3 * time.Second
	anyway = time.Hour
)

// maxState is the longest state that is read, uncompressed.
const maxState = 16 << 20

// Service remembers. It is safe for concurrent use; Start and Close frame its life.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	agents   *agents.Service
	coming   func(*snapshot.Agent) rules.Circumstances
	log      *slog.Logger
	stop     context.CancelFunc
	ended    chan struct{}

	last map[string]string // by agent id: what was recorded last; of the recorder alone
}

// New returns the service.
func New(
	s *store.Store, r *registry.Registry, a *agents.Service, coming func(*snapshot.Agent) rules.Circumstances, log *slog.Logger,
) *Service {
	return &Service{store: s, registry: r, agents: a, coming: coming, log: log, ended: make(chan struct{}), last: map[string]string{}}
}

// Start begins to record.
func (svc *Service) Start() {
	ctx, stop := context.WithCancel(context.Background())
	svc.stop = stop
	go svc.run(ctx)
}

// Close ends that.
func (svc *Service) Close() {
	svc.stop()
	<-svc.ended
}

func (svc *Service) run(ctx context.Context) {
	defer close(svc.ended)
	topics, done := svc.registry.Listen()
	defer done()
	timer := time.NewTimer(settle)
	defer timer.Stop()
	for {
		select {
		case _, open := <-topics:
			if !open {
				return
			}
			timer.Reset(settle)
		case <-timer.C:
			if err := svc.Record(ctx); err != nil && ctx.Err() == nil {
				svc.log.Error("what agents can use could not be remembered", "error", err)
			}
			timer.Reset(anyway)
		case <-ctx.Done():
			return
		}
	}
}

// state is what an agent can use: for each server the tools, with a letter for how.
type state map[string]map[string]string

// How a tool can be used.
const (
	admitted = "admitted"
	limited  = "within limits"
	held     = "held"
)

// stateOf is what an agent can use now by the rules, whatever the health of servers.
func (svc *Service) stateOf(now *snapshot.Snapshot, a *snapshot.Agent) state {
	out := state{}
	if a.Paused {
		return out
	}
	how := svc.coming(a)
	for _, s := range now.Sorted() {
		s = s.For(a)
		if s.Paused {
			continue
		}
		for _, t := range now.Targets(a, how, s, tools.Tools) {
			if !t.Admitted() {
				continue
			}
			word := admitted
			switch {
			case t.Decision.Effect == rules.Hold:
				word = held
			case t.Decision.Depends || len(t.Shape.Rules()) > 0:
				word = limited
			}
			if out[s.Name] == nil {
				out[s.Name] = map[string]string{}
			}
			out[s.Name][t.Tool.Name] = word
		}
	}
	return out
}

// Record notes what every agent can use now, where that differs from what was noted last.
func (svc *Service) Record(ctx context.Context) error {
	now := svc.registry.Current()
	at := svc.registry.Now()
	for id, a := range now.Agents {
		if err := ctx.Err(); err != nil {
			return err
		}
		raw, err := json.Marshal(svc.stateOf(now, a))
		if err != nil {
			return fmt.Errorf("write what agent %s can use: %w", a.Name, err)
		}
		if svc.last[id] == "" {
			if before, ok, err := svc.store.Control().ReachAt(ctx, id, at); err != nil {
				return fmt.Errorf("read what agent %s could use: %w", a.Name, err)
			} else if ok {
				text, err := unpack(before.State)
				if err != nil {
					return fmt.Errorf("read what agent %s could use: %w", a.Name, err)
				}
				svc.last[id] = string(text)
			}
		}
		if svc.last[id] == string(raw) {
			continue
		}
		packed, err := pack(raw)
		if err == nil {
			err = svc.store.Local(
				ctx,
				func(tx *store.Tx) error { return tx.KeepReach(store.ReachState{Agent: id, At: at, State: packed}) },
			)
		}
		if err != nil {
			return fmt.Errorf("note what agent %s can use: %w", a.Name, err)
		}
		svc.last[id] = string(raw)
	}
	for id := range svc.last {
		if now.Agents[id] == nil {
			delete(svc.last, id)
		}
	}
	return nil
}

func pack(raw []byte) ([]byte, error) {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if _, err := w.Write(raw); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func unpack(packed []byte) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, maxState))
}

// Compare tells what an agent can use at one time and could not at another, and the other
// way round. A zero until is now.
func (svc *Service) Compare(ctx context.Context, by team.Person, name string, since, until time.Time) (apitype.ReachDifference, error) {
	out := apitype.ReachDifference{Agent: name, Since: since.UTC(), Tools: []apitype.ReachChange{}}
	a, err := svc.agents.Agent(ctx, by, name)
	if err != nil {
		return out, err
	}
	now := svc.registry.Current()
	known := now.Agents[a.ID]
	if known == nil {
		return out, &team.NotFoundError{Kind: "agent", Name: name}
	}
	before, ok, err := svc.at(ctx, a.ID, since)
	if err != nil {
		return out, err
	}
	if !ok {
		return out, &team.ConflictError{
			Field: "since", Why: "nothing was noted of what " + name + " could use at that time",
			Hint: "choose a later time; it is noted from the agent's first day on",
		}
	}
	after := svc.stateOf(now, known)
	out.Until = svc.registry.Now().UTC()
	if !until.IsZero() {
		if until.Before(since) {
			return out, &team.FieldError{Field: "until", Why: "is before since"}
		}
		out.Until = until.UTC()
		if after, _, err = svc.at(ctx, a.ID, until); err != nil {
			return out, err
		}
	}
	out.Before, out.After = size(before), size(after)
	for server, list := range before {
		for tool, was := range list {
			if is := after[server][tool]; is != was {
				out.Tools = append(out.Tools, apitype.ReachChange{Server: server, Tool: tool, Before: was, After: is})
			}
		}
	}
	for server, list := range after {
		for tool, is := range list {
			if before[server][tool] == "" {
				out.Tools = append(out.Tools, apitype.ReachChange{Server: server, Tool: tool, After: is})
			}
		}
	}
	slices.SortFunc(out.Tools, func(a, b apitype.ReachChange) int {
		return bytes.Compare([]byte(a.Server+"\x00"+a.Tool), []byte(b.Server+"\x00"+b.Tool))
	})
	return out, nil
}

func size(s state) (n int) {
	for _, list := range s {
		n += len(list)
	}
	return n
}

func (svc *Service) at(ctx context.Context, agentID string, at time.Time) (state, bool, error) {
	v, ok, err := svc.store.Control().ReachAt(ctx, agentID, at)
	if err != nil || !ok {
		return nil, ok, err
	}
	text, err := unpack(v.State)
	if err != nil {
		return nil, false, fmt.Errorf("read what an agent could use: %w", err)
	}
	out := state{}
	return out, true, json.Unmarshal(text, &out)
}
