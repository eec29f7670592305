package live

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/cluster/peer"
	"bouncer/internal/core/team"
	"bouncer/internal/events"
	"bouncer/internal/journal"
)

// nothing is a store that keeps nothing.
type nothing struct{}

func (nothing) Append(context.Context, []calls.Record, ...calls.Record) error { return nil }

func (nothing) Around(context.Context, calls.Key) (below, above calls.Key, err error) {
	return 0, 0, nil
}

// service is one of two that tell each other.
type service struct {
	journal *journal.Journal
	hub     *events.Hub
	live    *Live
	mu      sync.Mutex
	told    map[string]int // messages, by kind
	away    bool
}

func (s *service) of(kind string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.told[kind]
}

func pair(t *testing.T, ctx context.Context) (north, south *service) {
	t.Helper()
	start := func() *service {
		j, err := journal.New(ctx, nothing{}, journal.Options{Strict: true, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		return &service{journal: j, hub: events.New(), told: map[string]int{}}
	}
	north, south = start(), start()
	for _, s := range []struct{ from, to *service }{{north, south}, {south, north}} {
		s.from.live = New(Options{
			Journal: s.from.journal, Topics: s.from.hub, Kinds: []string{"held"}, Log: slog.New(slog.DiscardHandler),
			Tell: func(kind string, v any) error {
				s.from.mu.Lock()
				defer s.from.mu.Unlock()
				if s.from.away {
					return errors.New("out of reach")
				}
				s.from.told[kind]++
				body, err := json.Marshal(v)
				s.to.live.Heard(peer.News{Node: "other", Kind: kind, Body: body})
				return err
			},
		})
	}
	return north, south
}

func record(t *testing.T, s *service, tool string) {
	t.Helper()
	require.NoError(t, s.journal.Record(t.Context(), &journal.Entry{Call: team.Call{At: time.Now(), Tool: tool, Person: "joss"}}))
}

func tools(tap *journal.Tap) (out []string) {
	for {
		select {
		case list := <-tap.C:
			for _, c := range list {
				out = append(out, c.Tool)
			}
		default:
			return out
		}
	}
}

func topics(from <-chan string) (out []string) {
	for {
		select {
		case topic := <-from:
			out = append(out, topic)
		default:
			return out
		}
	}
}

// Whoever watches at one node sees what happens at both, once; while nobody does, nothing is told.
func TestWhatHappensElsewhereIsSeen(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithCancel(t.Context())
		north, south := pair(t, ctx)
		var ended sync.WaitGroup
		for _, s := range []*service{north, south} {
			ended.Go(func() { s.live.Run(ctx) })
		}
		pass := func(d time.Duration) {
			time.Sleep(d) // of the bubble's clock
			synctest.Wait()
		}
		pass(watchEvery)
		record(t, south, "before")
		pass(time.Second)
		assert.Zero(t, south.of(recorded)+north.of(watching), "nobody watches")

		tap := north.journal.Tap()
		pass(watchEvery)
		record(t, south, "there")
		record(t, north, "here")
		pass(tellEvery)
		assert.ElementsMatch(t, []string{"there", "here"}, tools(tap))
		assert.Zero(t, north.of(recorded), "nobody watches there, and what is repeated is not told back")
		for i := range 3 * mostCalls {
			record(t, south, fmt.Sprint(i))
		}
		pass(2 * tellEvery)
		assert.Less(t, len(tools(tap)), 3*mostCalls, "no more is told than somebody can look at")

		heard, unhear := north.hub.Subscribe()
		there, unhearThere := south.hub.Subscribe()
		for range 5 {
			south.hub.Publish("held")
			south.hub.Publish("servers")
		}
		pass(2 * tellEvery)
		assert.Equal(t, []string{"held"}, topics(heard), "what is about the register each node tells by itself")
		assert.Len(t, topics(there), 10, "and nothing comes back")
		north.live.Heard(peer.News{Kind: changed, Body: []byte(`["servers","held"]`)})
		north.live.Heard(peer.News{Kind: changed, Body: []byte(`{`)})
		north.live.Heard(peer.News{Kind: recorded, Body: []byte(`[]`)})
		assert.Equal(t, []string{"held"}, topics(heard))
		assert.Empty(t, tools(tap))

		north.journal.Untap(tap)
		pass(watchFor + watchEvery)
		told := south.of(recorded)
		record(t, south, "after")
		pass(time.Second)
		assert.Equal(t, told, south.of(recorded), "nobody watches any more")

		south.mu.Lock()
		south.away = true
		south.mu.Unlock()
		south.hub.Publish("held")
		pass(time.Second)
		assert.Empty(t, topics(heard))
		unhear()
		unhearThere()
		stop()
		ended.Wait()
		north.journal.Close()
		south.journal.Close()
	})
}
