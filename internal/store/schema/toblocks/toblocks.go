// Package toblocks moves calls that stand in rows, as they did in early schemas, into blocks.
package toblocks

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"bouncer/internal/core/segment"
)

// Run writes the calls that stand in rows into blocks, each under its seal.
func Run(ctx context.Context, tx *sql.Tx) error {
	m := &mover{ctx: ctx, tx: tx}
	if err := m.loose(); err != nil {
		return fmt.Errorf("move calls of before there were seals: %w", err)
	}
	seals, err := m.seals()
	if err != nil {
		return err
	}
	for _, s := range seals {
		if err := m.sealed(s); err != nil {
			return fmt.Errorf("move the calls of seal %d: %w", s.seq, err)
		}
	}
	if err := m.flush(); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `DROP TABLE calls`)
	return err
}

// mover gathers calls until they make a block.
type mover struct {
	ctx  context.Context
	tx   *sql.Tx
	have []segment.Record
}

type sealRange struct{ seq, first, last int64 }

func (m *mover) seals() ([]sealRange, error) {
	return list(m, func(r *sql.Rows) (s sealRange, err error) { return s, r.Scan(&s.seq, &s.first, &s.last) },
		`SELECT seq, first, last FROM seals ORDER BY seq`)
}

const oldCalls = `SELECT id, seal, agent, person, server, tool, decision, rule, outcome, error, us, bytes_in, bytes_out, session, cut, times, control,
	arguments, result FROM calls WHERE `

func scanOldCall(r *sql.Rows) (v segment.Record, err error) {
	var control string
	err = r.Scan(&v.Key, &v.Seal, &v.Agent, &v.Person, &v.Server, &v.Tool, &v.Decision, &v.Rule, &v.Outcome, &v.Error, &v.Micros, &v.BytesIn,
		&v.BytesOut, &v.Session, &v.Cut, &v.Times, &control, &v.Arguments, &v.Result)
	if err == nil && control != "" {
		err = json.Unmarshal([]byte(control), &v.Control)
	}
	return v, err
}

// loose moves the calls without a seal.
func (m *mover) loose() error {
	for after := int64(-1); ; {
		some, err := list(m, scanOldCall, oldCalls+`seal = 0 AND id > ? ORDER BY id LIMIT ?`, after, segment.MaxRecords)
		if err != nil || len(some) == 0 {
			return err
		}
		after = int64(some[len(some)-1].Key)
		m.have = some
		if err := m.flush(); err != nil {
			return err
		}
	}
}

// sealed moves the calls of a seal, all into the same block.
func (m *mover) sealed(s sealRange) error {
	some, err := list(m, scanOldCall, oldCalls+`id BETWEEN ? AND ? AND seal = ? ORDER BY id`, s.first, s.last, s.seq)
	if err != nil {
		return err
	}
	m.have = append(m.have, some...)
	if len(m.have) < segment.MaxRecords && segment.Size(m.have) < segment.MaxBytes {
		return nil
	}
	return m.flush()
}

func (m *mover) flush() error {
	if len(m.have) == 0 {
		return nil
	}
	s := segment.Write(segment.Sorted(m.have), true)
	m.have = nil
	res, err := m.tx.ExecContext(m.ctx, `INSERT INTO segments (closed, records, first, last, low, high, facts, head, body)
		VALUES (1, ?, ?, ?, ?, ?, ?, ?, ?)`, s.Records, int64(s.First), int64(s.Last), s.Low, s.High, s.Facts, s.Head, s.Body)
	if err != nil {
		return err
	}
	id, err := res.LastInsertId()
	if err == nil {
		_, err = m.tx.ExecContext(m.ctx, `INSERT INTO letters (id, words) VALUES (?, ?)`, id, s.Words)
	}
	return err
}

func list[T any](m *mover, scan func(*sql.Rows) (T, error), query string, args ...any) (out []T, err error) {
	rows, err := m.tx.QueryContext(m.ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}
