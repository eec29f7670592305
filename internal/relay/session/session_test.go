package session

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/snapshot"
)

func TestSessionsAreBoundedAndEndWithTheirCalls(t *testing.T) {
	left := 0
	set := NewSet(func(*Session) { left++ })
	p := &snapshot.Pass{ID: "p", AgentID: "1"}
	for range maxAgentSessions {
		require.True(t, set.Open(&Session{}, p, time.Now()))
	}
	assert.False(t, set.Open(&Session{}, p, time.Now()), "one agent cannot take all the room")
	other, another := &Session{}, &Session{}
	require.True(t, set.Open(other, &snapshot.Pass{ID: "q", AgentID: "2"}, time.Now()))
	require.True(t, set.Open(another, &snapshot.Pass{ID: "q", AgentID: "2"}, time.Now()))
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
