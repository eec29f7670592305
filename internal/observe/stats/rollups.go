package stats

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"bouncer/internal/store"
)

// rollup is what calls of one hour, by one agent of one tool, add up to.
type rollup struct {
	key
	hour                time.Time
	ok, refused, failed int64
	bytesIn, bytesOut   int64
	took                []byte // a histogram
}

// rollupFilter selects rollups; empty fields select all.
type rollupFilter struct {
	agent, server, owner string
	tool                 string // a glob
	since, until         time.Time
}

// rollups are the tables that keep them.
type rollups struct{ part store.Part }

// until is until when calls were added up; zero for not yet.
func (t rollups) until(ctx context.Context) (time.Time, error) {
	var at int64
	err := t.part.View(ctx, func(tx *sql.Tx) error { return tx.QueryRowContext(ctx, `SELECT until FROM rolled_up`).Scan(&at) })
	if errors.Is(err, sql.ErrNoRows) {
		return time.Time{}, nil
	}
	if err != nil {
		return time.Time{}, fmt.Errorf("read until when calls were added up: %w", err)
	}
	return time.UnixMilli(at).UTC(), nil
}

// each goes through the selected ones, the oldest first.
func (t rollups) each(ctx context.Context, f rollupFilter, fn func(rollup) error) error {
	where, args := "hour >= ? AND hour < ?", []any{f.since.UnixMilli(), f.until.UnixMilli()}
	for _, c := range [...]struct{ term, value string }{
		{"agent = ?", f.agent}, {"server = ?", f.server}, {"person = ?", f.owner}, {"tool GLOB ?", f.tool},
	} {
		if c.value != "" {
			where, args = where+" AND "+c.term, append(args, c.value)
		}
	}
	return t.part.View(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, `SELECT hour, server, tool, agent, person, ok, refused, failed, bytes_in, bytes_out, took
			FROM rollups WHERE `+where+` ORDER BY hour`, args...)
		if err != nil {
			return fmt.Errorf("read what calls add up to: %w", err)
		}
		defer rows.Close()
		for rows.Next() {
			var v rollup
			var hour int64
			err := rows.Scan(&hour, &v.server, &v.tool, &v.agent, &v.person, &v.ok, &v.refused, &v.failed, &v.bytesIn, &v.bytesOut, &v.took)
			if err != nil {
				return fmt.Errorf("read what calls add up to: %w", err)
			}
			v.hour = time.UnixMilli(hour).UTC()
			if err := fn(v); err != nil {
				return err
			}
		}
		return rows.Err()
	})
}

// keep writes what an hour adds up to in the place of what was there, notes that it is done,
// and drops what is older than a time.
func (t rollups) keep(ctx context.Context, hour time.Time, list []rollup, oldest time.Time) error {
	err := t.part.Alter(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM rollups WHERE hour = ? OR hour < ?`, hour.UnixMilli(), oldest.UnixMilli()); err != nil {
			return err
		}
		for _, v := range list {
			_, err := tx.ExecContext(ctx, `INSERT INTO rollups (hour, server, tool, agent, person, ok, refused, failed, bytes_in, bytes_out, took)
				VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
				hour.UnixMilli(), v.server, v.tool, v.agent, v.person, v.ok, v.refused, v.failed, v.bytesIn, v.bytesOut, v.took)
			if err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO rolled_up (one, until) VALUES (1, ?)`, hour.Add(time.Hour).UnixMilli())
		return err
	})
	if err != nil {
		return fmt.Errorf("write what calls of %s add up to: %w", hour.Format(time.RFC3339), err)
	}
	return nil
}
