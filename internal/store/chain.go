package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/core/team"
)

// sealHash is the hash of a seal: of the one before it, its number, and its calls by their
// keys. How often a refusal was repeated is counted later and not covered.
func sealHash(before []byte, seq int64, calls []KeyedCall) []byte {
	h := sha256.New()
	h.Write(before)
	// Of one buffer, as many small writes cost more than the hash.
	b := binary.BigEndian.AppendUint64(make([]byte, 0, 8<<10), uint64(seq))
	for i := range calls {
		c := &calls[i]
		b = binary.BigEndian.AppendUint64(b, uint64(c.Key))
		for _, s := range [...]string{
			c.Agent, c.Person, c.Server, c.Tool, c.Decision, c.Rule, c.Outcome, c.Error, c.Session, c.Arguments, c.Result, writeControl(c.Control),
		} {
			b = append(binary.BigEndian.AppendUint64(b, uint64(len(s))), s...)
		}
		cut := uint64(0)
		if c.Cut {
			cut = 1
		}
		for _, n := range [...]uint64{uint64(c.Micros), uint64(c.BytesIn), uint64(c.BytesOut), cut} {
			b = binary.BigEndian.AppendUint64(b, n)
		}
		h.Write(b)
		b = b[:0]
	}
	h.Write(b)
	return h.Sum(nil)
}

// sealCalls writes the seal of calls that are written in the same transaction, and returns
// its number.
func sealCalls(ctx context.Context, tx *sql.Tx, calls []KeyedCall) (int64, error) {
	head, hash, err := chainHead(ctx, tx)
	if err != nil {
		return 0, err
	}
	sorted := calls
	if !slices.IsSortedFunc(calls, byKey) {
		sorted = slices.Clone(calls)
		slices.SortFunc(sorted, byKey)
	}
	seq := head + 1
	_, err = tx.ExecContext(ctx, `INSERT INTO seals (seq, at, records, first, last, hash) VALUES (?, ?, ?, ?, ?, ?)`,
		seq, time.Now().UnixMilli(), len(sorted), int64(sorted[0].Key), int64(sorted[len(sorted)-1].Key), sealHash(hash, seq, sorted))
	if err != nil {
		return 0, fmt.Errorf("seal calls: %w", err)
	}
	return seq, nil
}

func byKey(a, b KeyedCall) int { return int(min(max(a.Key-b.Key, -1), 1)) }

// chainHead is the newest seal; 0 for none.
func chainHead(ctx context.Context, q *sql.Tx) (seq int64, hash []byte, err error) {
	for _, query := range [...]string{`SELECT seq, hash FROM seals ORDER BY seq DESC LIMIT 1`, `SELECT seq, hash FROM seal_anchor`} {
		err = q.QueryRowContext(ctx, query).Scan(&seq, &hash)
		if !errors.Is(err, sql.ErrNoRows) {
			return seq, hash, damaged(err)
		}
	}
	return 0, nil, nil
}

// dropSealed removes the oldest calls whose seals are wholly before a key, at least one
// seal and about so many calls, and has the chain begin behind them.
func dropSealed(ctx context.Context, tx *sql.Tx, before CallKey, most int) (n int64, err error) {
	rows, err := tx.QueryContext(ctx, `SELECT seq, records, last, hash FROM seals ORDER BY seq LIMIT ?`, max(most, 1))
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	var seq, newest, records int64
	var hash []byte
	for rows.Next() {
		var s, r, last int64
		var h []byte
		if err := rows.Scan(&s, &r, &last, &h); err != nil {
			return 0, err
		}
		if CallKey(last) >= before || records > 0 && records+r > int64(most) {
			break
		}
		seq, records, hash, newest = s, records+r, h, max(newest, last)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil || seq == 0 {
		return 0, err
	}
	res, err := tx.ExecContext(ctx, `DELETE FROM calls WHERE id <= ? AND seal <= ?`, newest, seq)
	if err != nil {
		return 0, err
	}
	if n, err = res.RowsAffected(); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM seals WHERE seq <= ?`, seq); err != nil {
		return 0, err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO seal_anchor (one, seq, hash) VALUES (1, ?, ?)
		ON CONFLICT (one) DO UPDATE SET seq = excluded.seq, hash = excluded.hash`, seq, hash)
	return n, err
}

// maxProblems bounds what one verification tells.
const maxProblems = 20

// VerifyChain goes through every seal and holds it against its calls. at is a seal that
// somebody kept elsewhere, with its hash; 0 for none.
func (l CallLog) VerifyChain(ctx context.Context, at int64, kept []byte) (v team.ChainState, err error) {
	v.Problems = []team.ChainProblem{}
	tx, err := l.store.read.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return v, damaged(err)
	}
	defer func() { err = errors.Join(err, ignoreDone(tx.Rollback())) }()
	var before int64
	var hash []byte
	err = tx.QueryRowContext(ctx, `SELECT seq, hash FROM seal_anchor`).Scan(&before, &hash)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return v, damaged(err)
	}
	v.Dropped = before
	problem := func(seq int64, when int64, what string) {
		if len(v.Problems) < maxProblems {
			v.Problems = append(v.Problems, team.ChainProblem{Seal: seq, At: fromMS(when), What: what})
		}
	}
	seals, err := sealsOf(ctx, tx)
	if err != nil {
		return v, err
	}
	for _, s := range seals {
		if s.seq != before+1 {
			problem(s.seq, s.at, fmt.Sprintf("the seals from %d to %d are gone", before+1, s.seq-1))
		}
		calls, err := sealed(ctx, tx, s)
		if err != nil {
			return v, err
		}
		switch want := sealHash(hash, s.seq, calls); {
		case len(calls) != s.records:
			problem(s.seq, s.at, fmt.Sprintf("it sealed %d calls, and there are %d", s.records, len(calls)))
		case !bytes.Equal(want, s.hash) && s.seq == before+1:
			problem(s.seq, s.at, "a call that it sealed, or the seal itself, was altered")
		}
		if s.seq == at && !bytes.Equal(s.hash, kept) {
			problem(s.seq, s.at, "it is another one than the head that was kept")
		}
		v.Seals++
		v.Records += int64(s.records)
		before, hash = s.seq, s.hash
		v.Head = team.ChainHead{Seal: s.seq, At: fromMS(s.at).UTC(), Hash: fmt.Sprintf("%x", s.hash)}
	}
	if at > before {
		problem(at, 0, fmt.Sprintf("the head that was kept is seal %d, and the chain ends at %d: newer calls were removed", at, before))
	}
	var all, loose int64
	err = tx.QueryRowContext(ctx, `SELECT count(*), count(*) FILTER (WHERE seal = 0) FROM calls`).Scan(&all, &loose)
	if err != nil {
		return v, damaged(err)
	}
	v.Unsealed = loose
	var late int64
	if len(seals) > 0 {
		err = tx.QueryRowContext(ctx, `SELECT count(*) FROM calls WHERE seal = 0 AND id >= (SELECT min(first) FROM seals)`).Scan(&late)
	}
	if extra := all - loose - v.Records; extra > 0 && len(v.Problems) == 0 {
		problem(0, 0, fmt.Sprintf("%d calls belong to no seal that there is", extra))
	}
	if late > 0 {
		problem(0, 0, fmt.Sprintf("%d calls were put in without a seal", late))
	}
	v.Whole = len(v.Problems) == 0
	return v, damaged(err)
}

type seal struct {
	seq, at, first, last int64
	records              int
	hash                 []byte
}

func sealsOf(ctx context.Context, tx *sql.Tx) ([]seal, error) {
	rows, err := tx.QueryContext(ctx, `SELECT seq, at, records, first, last, hash FROM seals ORDER BY seq`)
	if err != nil {
		return nil, damaged(err)
	}
	defer rows.Close()
	var out []seal
	for rows.Next() {
		var s seal
		if err := rows.Scan(&s.seq, &s.at, &s.records, &s.first, &s.last, &s.hash); err != nil {
			return nil, damaged(err)
		}
		out = append(out, s)
	}
	return out, damaged(rows.Err())
}

// sealed are the calls of a seal, by their keys.
func sealed(ctx context.Context, tx *sql.Tx, s seal) ([]KeyedCall, error) {
	rows, err := tx.QueryContext(
		ctx,
		`SELECT `+callColumns+`, arguments, result FROM calls WHERE id BETWEEN ? AND ? AND seal = ? ORDER BY id`,
		s.first,
		s.last,
		s.seq,
	)
	if err != nil {
		return nil, damaged(err)
	}
	defer rows.Close()
	var out []KeyedCall
	for rows.Next() {
		var arguments, result string
		c, err := scanCall(rows, &arguments, &result)
		if err != nil {
			return nil, damaged(err)
		}
		c.Arguments, c.Result = arguments, result
		out = append(out, c)
	}
	return out, damaged(rows.Err())
}

// ChainHead returns the newest seal; the zero value for none.
func (l CallLog) ChainHead(ctx context.Context) (team.ChainHead, error) {
	var h team.ChainHead
	var at int64
	var hash []byte
	err := l.store.read.QueryRowContext(ctx, `SELECT seq, at, hash FROM seals ORDER BY seq DESC LIMIT 1`).Scan(&h.Seal, &at, &hash)
	if errors.Is(err, sql.ErrNoRows) {
		return h, nil
	}
	h.At, h.Hash = fromMS(at).UTC(), fmt.Sprintf("%x", hash)
	return h, damaged(err)
}
