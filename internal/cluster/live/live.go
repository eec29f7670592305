// Package live has those who watch at one node see what happens at all of them: calls as they are
// recorded, and that held calls or incidents are other ones now. What is told is news and no record:
// whoever misses some of it finds all of it where it is asked for.
package live

import (
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"time"

	"bouncer/internal/cluster/peer"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
)

// Journal is where calls are recorded and watched: a *journal.Journal.
type Journal interface {
	TapHere() *journal.Tap
	Untap(t *journal.Tap)
	Watched() bool
	Repeat(list []team.Call)
}

// Topics is where topics are told: an *events.Hub.
type Topics interface {
	SubscribeHere() (topics <-chan string, stop func())
	Repeat(topic string)
}

// Options configure a Live. All are required.
type Options struct {
	Tell    func(kind string, v any) error // tells all other nodes
	Journal Journal
	Topics  Topics
	Kinds   []string // topics about what each node keeps for itself
	Log     *slog.Logger
}

// How often nodes say that somebody watches, for how long that holds, and how often, and how much
// at a time, those are told who do. What happens beyond that is not told.
const (
	watchEvery = 2 * time.Second
	watchFor   = 7 * time.Second
	tellEvery  = 200 * time.Millisecond
	mostCalls  = 200
)

// The kinds of news.
const (
	watching = "watching"
	recorded = "recorded"
	changed  = "changed"
)

// Live tells other nodes what happens here, and what happens there to those who watch here.
type Live struct {
	o       Options
	watched chan struct{} // capacity 1: somebody watches elsewhere
}

// New returns a Live, which Run has do something.
func New(o Options) *Live { return &Live{o: o, watched: make(chan struct{}, 1)} }

// Heard takes in what another node tells.
func (l *Live) Heard(news peer.News) {
	switch news.Kind {
	case watching:
		select {
		case l.watched <- struct{}{}:
		default: // it is known
		}
	case recorded:
		var list []team.Call
		if json.Unmarshal(news.Body, &list) == nil && len(list) > 0 {
			l.o.Journal.Repeat(list)
		}
	case changed:
		var topics []string
		if json.Unmarshal(news.Body, &topics) != nil {
			return
		}
		for _, topic := range topics {
			if slices.Contains(l.o.Kinds, topic) {
				l.o.Topics.Repeat(topic)
			}
		}
	}
}

// Run tells until ctx ends.
func (l *Live) Run(ctx context.Context) {
	topics, stop := l.o.Topics.SubscribeHere()
	defer stop()
	say, beat := time.NewTicker(tellEvery), time.NewTicker(watchEvery)
	defer say.Stop()
	defer beat.Stop()
	s := &shown{live: l}
	defer s.end()
	for {
		select {
		case <-ctx.Done():
			return
		case <-beat.C:
			if l.o.Journal.Watched() {
				l.tell(watching, struct{}{})
			}
			s.endAfter(watchFor)
		case <-l.watched:
			s.begin()
		case list, open := <-s.calls():
			s.take(list, open)
		case topic, open := <-topics:
			if !open {
				return // the service ends
			}
			if slices.Contains(l.o.Kinds, topic) && !slices.Contains(s.topics, topic) {
				s.topics = append(s.topics, topic)
			}
		case <-say.C:
			s.tell()
		}
	}
}

func (l *Live) tell(kind string, v any) {
	if err := l.o.Tell(kind, v); err != nil {
		l.o.Log.Debug("other nodes were not told", "of", kind, "error", err)
	}
}

// shown is what is to be told next.
type shown struct {
	live   *Live
	tap    *journal.Tap // nil while nobody watches elsewhere
	asked  time.Time    // when somebody did
	list   []team.Call
	topics []string
}

func (s *shown) begin() {
	s.asked = time.Now()
	if s.tap == nil {
		s.tap = s.live.o.Journal.TapHere()
	}
}

func (s *shown) endAfter(d time.Duration) {
	if time.Since(s.asked) >= d {
		s.end()
	}
}

func (s *shown) end() {
	if s.tap != nil {
		s.live.o.Journal.Untap(s.tap)
		s.tap, s.list = nil, nil
	}
}

// calls is what the tap gives; what never comes without one.
func (s *shown) calls() <-chan []team.Call {
	if s.tap == nil {
		return nil
	}
	return s.tap.C
}

func (s *shown) take(list []team.Call, open bool) {
	if !open {
		s.tap = nil // it fell behind, or the journal ended
		return
	}
	s.list = append(s.list, list[:min(len(list), mostCalls-len(s.list))]...)
}

func (s *shown) tell() {
	if len(s.list) > 0 {
		s.live.tell(recorded, s.list)
		s.list = s.list[:0]
	}
	if len(s.topics) > 0 {
		s.live.tell(changed, s.topics)
		s.topics = nil
	}
}
