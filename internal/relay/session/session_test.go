package session

import (
	"bytes"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/gate"
	"bouncer/internal/snapshot"
)

func TestSessionsAreBoundedAndEndWithTheirCalls(t *testing.T) {
	left := 0
	set := NewSet(func(*Session, error) { left++ }, &gate.Book{})
	p, quill := &snapshot.Pass{ID: "p", AgentID: "1"}, &snapshot.Agent{ID: "1", Owner: "marit"}
	for range sessionLimits.Agent {
		require.NoError(t, set.Open(&Session{}, p, quill, time.Now()))
	}
	var full *gate.FullError
	assert.ErrorAs(t, set.Open(&Session{}, p, quill, time.Now()), &full, "one agent cannot take all the room")
	other, another := &Session{}, &Session{}
	parlour := &snapshot.Agent{ID: "2", Owner: "ottilie"}
	require.NoError(t, set.Open(other, &snapshot.Pass{ID: "q", AgentID: "2"}, parlour, time.Now()))
	require.NoError(t, set.Open(another, &snapshot.Pass{ID: "q", AgentID: "2"}, parlour, time.Now()))
	assert.NotEqual(t, other.Id, another.Id)

	var causes []error
	var mu sync.Mutex
	note := func(err error) { mu.Lock(); defer mu.Unlock(); causes = append(causes, err) }
	require.True(t, other.Begin("1", note))
	assert.False(t, other.Begin("1", note), "an id in use is refused")
	require.True(t, other.Begin("2", note))
	other.Cancel("1", ErrCanceled)
	other.Cancel("nobody", ErrCanceled)
	other.Finish("1")
	assert.True(t, other.Begin("1", note), "an id can be used again")
	for i := range maxSessionCalls {
		other.Begin(fmt.Sprint("n", i), note)
	}
	assert.False(t, other.Begin("one too many", note))
	ended, ok := other.Attach()
	require.True(t, ok)
	_, twice := other.Attach()
	assert.False(t, twice, "one stream at a time")
	causes = nil
	set.End(other, ErrRevoked)
	<-ended
	assert.Len(t, causes, maxSessionCalls)
	assert.ErrorIs(t, causes[0], ErrRevoked)
	assert.Nil(t, set.Get(other.Id))
	assert.False(t, other.Begin("late", note), "an ended session takes no calls")
	set.End(other, ErrRevoked)
	assert.Equal(t, 1, left, "it is left once")
}

// What is kept of streams is bounded, for an agent, a person and in all; finished
// streams make room first, and everything goes with its session.
func TestKeptStreamsAreBounded(t *testing.T) {
	t.Parallel()
	var book gate.Book
	set := NewSet(func(*Session, error) {}, &book)
	open := func(agent, owner string) *Session {
		s := &Session{}
		require.NoError(t, set.Open(s, &snapshot.Pass{ID: agent, AgentID: agent}, &snapshot.Agent{ID: agent, Owner: owner}, time.Now()))
		return s
	}
	kept := func() int64 {
		for _, u := range book.Usage() {
			if u.What == "bytes of streams that can be resumed" {
				return u.Now
			}
		}
		return -1
	}
	frame := bytes.Repeat([]byte("x"), 1<<20)
	other := open("parlour", "ottilie")
	hers, tape := other.NewReplay([]byte("1"))
	tape.Add(hers, frame, true)
	sessions := []*Session{}
	var first *Replay
	for range 20 {
		s := open("quill", "marit")
		sessions = append(sessions, s)
		no, t := s.NewReplay([]byte("1"))
		t.Add(no, frame, false)
		t.Add(no, []byte("{}"), true)
		if first == nil {
			first = t
		}
	}
	assert.LessOrEqual(t, kept(), replayLimits.Agent+1<<20+200)
	_, _, _, ok := first.After(0)
	assert.False(t, ok, "the oldest of the agent has made room")
	_, _, _, ok = tape.After(-1)
	assert.True(t, ok, "another agent's has not")
	// One that is not finished cannot make room, and goes on without being kept.
	long := open("voice", "")
	no, running := long.NewReplay([]byte("1"))
	for range 40 {
		for range 4 {
			running.Add(no, frame, false)
		}
	}
	assert.LessOrEqual(t, kept(), replayLimits.Agent+replayLimits.Agent+1<<20+1000)
	for _, s := range append(sessions, other, long) {
		set.End(s, ErrLeft)
	}
	assert.Zero(t, kept(), "nothing is kept of what has ended")
	running.Add(no, frame, true)
	assert.Zero(t, kept())
	assert.Zero(t, set.gate.Usage().Now)
}
