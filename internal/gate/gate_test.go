package gate

import (
	"context"
	"sync"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLimitsHoldPerAgentPerPersonAndInAll(t *testing.T) {
	t.Parallel()
	var book Book
	g := book.Open("sessions", Limits{Agent: 2, Person: 3, All: 5})
	take := func(agent, person string) string {
		err := g.Take(Holder{agent, person}, 1)
		if err == nil {
			return ""
		}
		var full *FullError
		require.ErrorAs(t, err, &full)
		return full.Scope
	}
	assert.Empty(t, take("quill", "marit")+take("quill", "marit"))
	assert.Equal(t, ScopeAgent, take("quill", "marit"))
	assert.Empty(t, take("parlour", "marit"))
	assert.Equal(t, ScopePerson, take("parlour", "marit"), "whatever her agents are called")
	assert.Empty(t, take("night-watch", "")+take("night-watch", ""), "others go on")
	assert.Equal(t, ScopeAll, take("quay-voice", ""))
	assert.Equal(t, []Usage{{What: "sessions", Now: 5, Most: 5, Limit: 5, Agent: 2, Person: 3, Refused: 3}}, book.Usage())
	g.Give(Holder{"quill", "marit"}, 2)
	assert.Empty(t, take("quill", "marit"))
	assert.EqualValues(t, 2, g.Holds(Holder{Person: "marit"}))
	for _, h := range []Holder{{"quill", "marit"}, {"parlour", "marit"}, {"night-watch", ""}, {"night-watch", ""}} {
		g.Give(h, 1)
	}
	assert.Empty(t, g.agents, "nothing is kept of who holds nothing")
	assert.Empty(t, g.people)
	assert.EqualError(t, g.Take(Holder{"quill", ""}, 3), "too many sessions: one agent has 2 at most")
	assert.ErrorContains(t, g.Take(Holder{}, 6), "everybody together")
}

// Whoever comes in numbers waits for themselves.
func TestQueueTakesKeysInTurn(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		q := NewQueue("hashes", 1, 3, 5)
		var order []string
		var mu sync.Mutex
		first, err := q.Enter(t.Context(), "crowd")
		require.NoError(t, err)
		gone, leave := context.WithCancel(t.Context())
		enter := func(ctx context.Context, key string) {
			done, err := q.Enter(ctx, key)
			if err != nil {
				key = "!" + key
			}
			mu.Lock()
			order = append(order, key)
			mu.Unlock()
			if err == nil {
				done()
			}
		}
		for range 3 {
			go enter(t.Context(), "crowd")
			synctest.Wait()
		}
		enter(t.Context(), "crowd")
		go enter(gone, "impatient")
		synctest.Wait()
		go enter(t.Context(), "marit")
		synctest.Wait()
		enter(t.Context(), "late")
		assert.Equal(t, []string{"!crowd", "!late"}, order, "the queue is bounded, for a key and in all")
		leave()
		synctest.Wait()
		first()
		first() // leaving twice is leaving once
		synctest.Wait()
		assert.Equal(t, []string{"!crowd", "!late", "!impatient", "crowd", "marit", "crowd", "crowd"}, order)
		assert.Zero(t, q.busy)
		assert.Empty(t, q.waiting)
		assert.Empty(t, q.turns)
	})
}
