package store

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Rollup is what calls of one hour, by one agent of one tool, add up to.
type Rollup struct {
	Hour                time.Time
	Server, Tool        string
	Agent, Person       string
	OK, Refused, Failed int64
	BytesIn, BytesOut   int64
	Took                []byte // a histogram
}

// CallFigures is what of a call is added up.
type CallFigures struct {
	At                time.Time
	Server, Tool      string
	Agent, Person     string
	Outcome           string
	Times             int64
	Micros            int64
	BytesIn, BytesOut int64
}

// EachCall goes through the figures of the selected calls, the oldest first. They are read
// as they come, so that any number of them takes no room.
func (l CallLog) EachCall(ctx context.Context, f CallFilter, fn func(CallFigures)) error {
	where, args := f.where()
	rows, err := l.store.read.QueryContext(ctx, `SELECT id, server, tool, agent, person, outcome, times, us, bytes_in, bytes_out
		FROM calls WHERE `+where+` ORDER BY id`, args...)
	if err != nil {
		return fmt.Errorf("read calls: %w", damaged(err))
	}
	defer rows.Close()
	for rows.Next() {
		var v CallFigures
		var key int64
		if err := rows.Scan(&key, &v.Server, &v.Tool, &v.Agent, &v.Person, &v.Outcome, &v.Times, &v.Micros, &v.BytesIn, &v.BytesOut); err != nil {
			return fmt.Errorf("read a call: %w", err)
		}
		v.At = CallKey(key).Time()
		fn(v)
	}
	return damaged(rows.Err())
}

// FirstCall is when the oldest call on record came in; ErrNotFound for none.
func (l CallLog) FirstCall(ctx context.Context) (time.Time, error) {
	return first(ctx, l.store.read, func(r scanner) (time.Time, error) {
		var key int64
		err := r.Scan(&key)
		return CallKey(key).Time(), err
	}, `SELECT id FROM calls ORDER BY id LIMIT 1`)
}

// RolledUp is until when calls were added up; zero for not yet.
func (l CallLog) RolledUp(ctx context.Context) (time.Time, error) {
	at, err := first(ctx, l.store.read, func(r scanner) (time.Time, error) {
		var at int64
		err := r.Scan(&at)
		return fromMS(at), err
	}, `SELECT until FROM rolled_up`)
	if errors.Is(err, ErrNotFound) {
		return time.Time{}, nil
	}
	return at, err
}

// Rollups returns what the calls of hours add up to, the oldest first. Of the filter,
// agent, server, tool (a glob), owner and the times count.
func (l CallLog) Rollups(ctx context.Context, f CallFilter) ([]Rollup, error) {
	where, args := "hour >= ? AND hour < ?", []any{ms(f.Since), ms(f.Until)}
	for _, c := range [...]struct{ term, value string }{
		{"agent = ?", f.Agent}, {"server = ?", f.Server}, {"person = ?", f.Owner}, {"tool GLOB ?", f.Tool},
	} {
		if c.value != "" {
			where, args = where+" AND "+c.term, append(args, c.value)
		}
	}
	return list(ctx, l.store.read, func(r scanner) (v Rollup, err error) {
		var hour int64
		err = r.Scan(&hour, &v.Server, &v.Tool, &v.Agent, &v.Person, &v.OK, &v.Refused, &v.Failed, &v.BytesIn, &v.BytesOut, &v.Took)
		v.Hour = fromMS(hour)
		return v, err
	}, `SELECT hour, server, tool, agent, person, ok, refused, failed, bytes_in, bytes_out, took FROM rollups WHERE `+where+` ORDER BY hour`, args...)
}

// KeepRollups writes what hours add up to, notes until when that is done, and drops what is
// older than a time.
func (t RuleTx) KeepRollups(list []Rollup, until, oldest time.Time) error {
	for _, v := range list {
		err := t.exec(`INSERT OR REPLACE INTO rollups (hour, server, tool, agent, person, ok, refused, failed, bytes_in, bytes_out, took)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			ms(v.Hour), v.Server, v.Tool, v.Agent, v.Person, v.OK, v.Refused, v.Failed, v.BytesIn, v.BytesOut, v.Took)
		if err != nil {
			return fmt.Errorf("write what calls add up to: %w", err)
		}
	}
	if err := t.exec(`INSERT OR REPLACE INTO rolled_up (one, until) VALUES (1, ?)`, ms(until)); err != nil {
		return fmt.Errorf("note until when calls were added up: %w", err)
	}
	return t.exec(`DELETE FROM rollups WHERE hour < ?`, ms(oldest))
}
