package replica

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/anishathalye/porcupine"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// What can come of an alteration that was made from a version.
const (
	done    = "done"
	refused = "refused" // somebody else was quicker
	unknown = "unknown" // it may hold, or may come to hold
)

// versions is a row of the register that is altered from a version on to the next one. What is
// unknown may have been carried out or not.
var versions = (&porcupine.NondeterministicModel{
	Init: func() []any { return []any{1} },
	Step: func(state, input, output any) []any {
		have, from := state.(int), input.(int)
		switch {
		case output == done && have == from:
			return []any{from + 1}
		case output == refused && have != from:
			return []any{have}
		case output == unknown && have == from:
			return []any{have, from + 1}
		case output == unknown:
			return []any{have}
		}
		return nil
	},
}).ToModel()

// Nodes and servers of the cluster come and go, at random, while people alter one row at all
// nodes: what they were told is what could have happened had there been one node, and in the
// end all nodes have the same. BOUNCER_CLUSTER_TIME has it go on for longer, BOUNCER_CLUSTER_SEED
// repeats what was stopped when.
func TestHistoryIsThatOfOneNode(t *testing.T) {
	t.Parallel()
	long, seed := 8*time.Second, rand.Uint64()
	if v := os.Getenv("BOUNCER_CLUSTER_TIME"); v != "" {
		var err error
		long, err = time.ParseDuration(v)
		require.NoError(t, err)
	}
	if v := os.Getenv("BOUNCER_CLUSTER_SEED"); v != "" {
		var err error
		seed, err = strconv.ParseUint(v, 10, 64)
		require.NoError(t, err)
	}
	t.Logf("BOUNCER_CLUSTER_SEED=%d", seed)
	b := brokers(t, 3)
	nodes := []*node{mustJoin(t, b, "north"), mustJoin(t, b, "south"), mustJoin(t, b, "west")}
	subject := agent("night-watch")
	require.NoError(t, nodes[0].store.Write(t.Context(), team.Change{What: "agent.add"}, func(tx *store.Tx) error { return tx.AddAgent(subject) }))
	same(t, nodes...)

	ends, stop := context.WithTimeout(t.Context(), long)
	defer stop()
	began := time.Now()
	var mu sync.Mutex // guards history
	var history []porcupine.Operation
	var working sync.WaitGroup
	for client := range 6 {
		working.Go(func() {
			n := nodes[client%len(nodes)]
			dice := rand.New(rand.NewPCG(seed, uint64(client)))
			for ends.Err() == nil {
				list, err := n.store.Agents(t.Context(), time.Now())
				if !assert.NoError(t, err) || !assert.Len(t, list, 1) {
					return
				}
				from := list[0]
				from.Version = max(1, from.Version-dice.IntN(2)) // sometimes from one that is not the newest
				call := time.Since(began).Nanoseconds()
				err = n.store.Write(t.Context(), team.Change{What: "agent.update"}, func(tx *store.Tx) error { return tx.SetAgent(from) })
				op := porcupine.Operation{ClientId: client, Input: from.Version, Call: call, Output: unknown, Return: time.Since(began).Nanoseconds()}
				switch {
				case err == nil:
					op.Output = done
				case errors.Is(err, store.ErrAltered):
					op.Output = refused
				default:
					op.Return = long.Nanoseconds() * 100 // whenever
				}
				mu.Lock()
				history = append(history, op)
				mu.Unlock()
				pause(ends, time.Duration(dice.IntN(20))*time.Millisecond)
			}
		})
	}
	// One server of the three at a time is lost, so that most are always there.
	dice := rand.New(rand.NewPCG(seed, 99))
	for ends.Err() == nil {
		lost := dice.IntN(3)
		b.Stop(lost)
		pause(ends, time.Duration(500+dice.IntN(1500))*time.Millisecond)
		require.NoError(t, b.Restart(lost))
		pause(ends, time.Duration(500+dice.IntN(2500))*time.Millisecond)
	}
	working.Wait()
	require.Eventually(t, func() bool { return nodes[0].add(t.Context(), "at-last-"+team.NewID()) == nil }, time.Minute, 100*time.Millisecond)
	same(t, nodes...)
	result := porcupine.CheckOperationsTimeout(versions, history, time.Minute)
	assert.Equal(t, porcupine.Ok, result, "of %d alterations, by seed %d", len(history), seed)
	outcomes := map[any]int{}
	for _, op := range history {
		outcomes[op.Output]++
	}
	t.Log(outcomes)
	assert.Positive(t, outcomes[done])
	assert.Positive(t, outcomes[refused])
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}
