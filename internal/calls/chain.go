package calls

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"slices"
	"time"

	"golang.org/x/crypto/blake2b"

	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
)

// way is in which way the hash of a seal is made; it stands beside the seal.
type way int

// The ways. A call has some KiB, and on a processor without instructions for SHA-256 that was nearly
// half of what a record cost: three times as much as BLAKE2b (RFC 7693), which is as hard to forge.
const (
	inSHA256  way = iota // until there was another one
	inBLAKE2b            // with 256 bits
)

// hash returns a hash of a way; nil for one that is not known here.
func (w way) hash() hash.Hash {
	switch w {
	case inSHA256:
		return sha256.New()
	case inBLAKE2b:
		// Only a key can be too long, and there is none.
		h, _ := blake2b.New256(nil)
		return h
	}
	return nil
}

// sealWith is the hash of a seal, made by h: the one before it, its number, and its calls by their
// keys. How often a refusal was repeated is counted later and not covered.
func sealWith(h hash.Hash, before []byte, seq int64, calls []Record) []byte {
	h.Write(before)
	// Of one buffer, as many small writes cost more than the hash.
	b := binary.BigEndian.AppendUint64(make([]byte, 0, 8<<10), uint64(seq))
	for i := range calls {
		c := &calls[i]
		b = binary.BigEndian.AppendUint64(b, uint64(c.Key))
		for _, s := range [...]string{
			c.Agent, c.Person, c.Server, c.Tool, c.Decision, c.Rule, c.Outcome, c.Error, c.Session, c.Arguments, c.Result,
			segment.WriteControl(c.Control),
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
		if len(b) > 4<<10 {
			h.Write(b)
			b = b[:0]
		}
	}
	h.Write(b)
	return h.Sum(nil)
}

// maxProblems bounds what one verification tells.
const maxProblems = 20

// seal is a link of the chain, as it is kept.
type seal struct {
	seq, at int64
	records int
	way     way
	hash    []byte
}

// verification goes through the chain: block by block, each once, with the seals beside them.
type verification struct {
	ctx    context.Context
	tx     *sql.Tx
	state  team.ChainState
	kept   map[int64][][]byte // seals that were kept elsewhere, by their numbers
	seals  []seal             // that are still to come
	first  Key                // of all that are sealed
	before int64              // the seal that the next one follows
	hash   []byte
	extra  int // calls under a seal that there is not
	late   int // calls without a seal where all have one
}

// Verify goes through every seal and holds it against its calls. kept are the hashes of seals that
// were kept elsewhere, by their numbers; nil for none.
func (l Log) Verify(ctx context.Context, kept map[int64][][]byte) (team.ChainState, error) {
	v := &verification{ctx: ctx, state: team.ChainState{Problems: []team.ChainProblem{}}, kept: kept}
	err := l.part.View(ctx, func(tx *sql.Tx) error {
		v.tx = tx
		return v.run()
	})
	v.state.Whole = err == nil && len(v.state.Problems) == 0
	return v.state, err
}

func (v *verification) problem(seq int64, when int64, what string) {
	if len(v.state.Problems) < maxProblems {
		v.state.Problems = append(v.state.Problems, team.ChainProblem{Seal: seq, At: time.UnixMilli(when).UTC(), What: what})
	}
}

func (v *verification) run() error {
	err := v.tx.QueryRowContext(v.ctx, `SELECT seq, hash FROM seal_anchor`).Scan(&v.before, &v.hash)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	v.state.Dropped = v.before
	if err := v.readSeals(); err != nil {
		return err
	}
	rows, err := v.tx.QueryContext(v.ctx, `SELECT low, head, body FROM segments ORDER BY low, id`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var low int64
		var head, body []byte
		if err := rows.Scan(&low, &head, &body); err != nil {
			return err
		}
		records, err := segment.ReadHead(head, low)
		if err == nil {
			err = segment.ReadBody(body, records)
		}
		if err != nil {
			return damaged(err)
		}
		v.block(records)
	}
	for len(v.seals) > 0 {
		v.hold(nil)
	}
	v.conclude()
	return rows.Err()
}

// block holds the calls of one block against the seals that they were committed under.
func (v *verification) block(records []Record) {
	slices.SortStableFunc(records, func(a, b Record) int { return int(min(max(a.Seal-b.Seal, -1), 1)) })
	for len(records) > 0 {
		seq, n := records[0].Seal, 1
		for n < len(records) && records[n].Seal == seq {
			n++
		}
		group := records[:n]
		records = records[n:]
		if seq == 0 {
			v.state.Unsealed += int64(n)
			for i := range group {
				if v.first != 0 && group[i].Key >= v.first {
					v.late++
				}
			}
			continue
		}
		for len(v.seals) > 0 && v.seals[0].seq < seq {
			v.hold(nil)
		}
		if len(v.seals) == 0 || v.seals[0].seq != seq {
			v.extra += n
			continue
		}
		v.hold(group)
	}
}

// hold holds the next seal against the calls that are there under it.
func (v *verification) hold(calls []Record) {
	s := v.seals[0]
	v.seals = v.seals[1:]
	if s.seq != v.before+1 {
		v.problem(s.seq, s.at, fmt.Sprintf("the seals from %d to %d are gone", v.before+1, s.seq-1))
	}
	switch h := s.way.hash(); {
	case len(calls) != s.records:
		v.problem(s.seq, s.at, fmt.Sprintf("it sealed %d calls, and there are %d", s.records, len(calls)))
	case h == nil:
		v.problem(s.seq, s.at, fmt.Sprintf("it was sealed in a way that is not known here (%d)", s.way))
	case s.seq == v.before+1 && !bytes.Equal(sealWith(h, v.hash, s.seq, calls), s.hash):
		v.problem(s.seq, s.at, "a call that it sealed, or the seal itself, was altered")
	}
	if slices.ContainsFunc(v.kept[s.seq], func(kept []byte) bool { return !bytes.Equal(s.hash, kept) }) {
		v.problem(s.seq, s.at, "it is another one than the head that was kept")
	}
	v.state.Seals++
	v.state.Records += int64(s.records)
	v.before, v.hash = s.seq, s.hash
	v.state.Head = team.ChainHead{Seal: s.seq, At: time.UnixMilli(s.at).UTC(), Hash: fmt.Sprintf("%x", s.hash)}
}

func (v *verification) conclude() {
	newest := int64(0)
	for at := range v.kept {
		newest = max(newest, at)
	}
	if newest > v.before {
		v.problem(newest, 0, fmt.Sprintf(
			"the head that was kept is seal %d, and the chain ends at %d: newer calls were removed", newest, v.before,
		))
	}
	if v.extra > 0 && len(v.state.Problems) == 0 {
		v.problem(0, 0, fmt.Sprintf("%d calls belong to no seal that there is", v.extra))
	}
	if v.late > 0 {
		v.problem(0, 0, fmt.Sprintf("%d calls were put in without a seal", v.late))
	}
}

func (v *verification) readSeals() error {
	rows, err := v.tx.QueryContext(v.ctx, `SELECT seq, at, records, first, way, hash FROM seals ORDER BY seq`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var s seal
		var first Key
		if err := rows.Scan(&s.seq, &s.at, &s.records, &first, &s.way, &s.hash); err != nil {
			return err
		}
		if v.first == 0 || first < v.first {
			v.first = first
		}
		v.seals = append(v.seals, s)
	}
	return rows.Err()
}

// Head returns the newest seal; the zero value for none.
func (l Log) Head(ctx context.Context) (h team.ChainHead, err error) {
	err = l.part.View(ctx, func(tx *sql.Tx) error {
		var at int64
		var hash []byte
		err := tx.QueryRowContext(ctx, `SELECT seq, at, hash FROM seals ORDER BY seq DESC LIMIT 1`).Scan(&h.Seal, &at, &hash)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		h.At, h.Hash = time.UnixMilli(at).UTC(), fmt.Sprintf("%x", hash)
		return err
	})
	return h, err
}
