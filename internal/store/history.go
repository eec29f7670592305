package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// ReachState is what an agent could use from a time on, as it is stored.
type ReachState struct {
	Agent string
	At    time.Time
	State []byte
}

// ReachAt returns the state that an agent's reach had at a time; ok is false when nothing
// was recorded by then.
func (s Control) ReachAt(ctx context.Context, agentID string, at time.Time) (v ReachState, ok bool, err error) {
	v, err = first(ctx, s.read, func(r scanner) (v ReachState, err error) {
		var when int64
		err = r.Scan(&v.Agent, &when, &v.State)
		v.At = fromMS(when)
		return v, err
	}, `SELECT agent, at, state FROM reach_states WHERE agent = ? AND at <= ? ORDER BY at DESC LIMIT 1`, agentID, ms(at))
	if errors.Is(err, ErrNotFound) || errors.Is(err, sql.ErrNoRows) {
		return v, false, nil
	}
	return v, err == nil, err
}

// Limits on what is kept of an agent's reach.
const maxReachStates = 400

// KeepReach records a state, and drops the oldest of the agent's.
func (t RuleTx) KeepReach(v ReachState) error {
	err := t.exec(
		`INSERT OR REPLACE INTO reach_states (agent, at, state) SELECT ?1, ?2, ?3 WHERE EXISTS (SELECT 1 FROM agents WHERE id = ?1)`,
		v.Agent,
		ms(v.At),
		v.State,
	)
	if err != nil {
		return err
	}
	return t.exec(`DELETE FROM reach_states WHERE agent = ?1 AND at < coalesce(
		(SELECT at FROM reach_states WHERE agent = ?1 ORDER BY at DESC LIMIT 1 OFFSET ?2), 0)`, v.Agent, maxReachStates-1)
}
