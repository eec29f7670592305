// Package ledger is the register as the nodes of a cluster share it: how far the log is carried
// out here, how an entry is, what the tables add up to, and copies of them. It is of one
// database; package replica has it follow the log.
package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"modernc.org/sqlite"

	"bouncer/internal/core/replication"
	"bouncer/internal/store"
)

// Ledger is the register of one node. It is safe for concurrent use.
type Ledger struct{ part store.Part }

// Of returns the Ledger of a database.
func Of(s *store.Store) Ledger { return Ledger{s.Part()} }

// Position is where this database stands in the log of a cluster.
type Position struct {
	Cluster string // its id; "" for none
	Applied uint64 // the last entry that was carried out
}

// Position reads where this database stands.
func (l Ledger) Position(ctx context.Context) (p Position, err error) {
	err = l.part.View(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, `SELECT cluster, applied FROM replica`).Scan(&p.Cluster, &p.Applied)
	})
	if errors.Is(err, sql.ErrNoRows) {
		return Position{}, nil
	}
	return p, err
}

// SetPosition notes where this database stands; the zero Position for in no cluster.
func (l Ledger) SetPosition(ctx context.Context, p Position) error {
	return l.part.Alter(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO replica (one, cluster, applied) VALUES (1, ?, ?)
			ON CONFLICT (one) DO UPDATE SET cluster = excluded.cluster, applied = excluded.applied`, p.Cluster, int64(p.Applied))
		return err
	})
}

// PoisonedError says that an entry cannot be carried out on the state here. It was set aside,
// and what follows is carried out without it.
type PoisonedError struct {
	Seq        uint64
	Node, What string
	err        error
}

func (e *PoisonedError) Error() string {
	return fmt.Sprintf("entry %d of the log (%s) cannot be carried out and was set aside: %v", e.Seq, cmp.Or(e.What, "not by people"), e.err)
}

func (e *PoisonedError) Unwrap() error { return e.err }

// DivergedError says that tables here hold something else than those of the other nodes.
type DivergedError struct {
	Seq    uint64
	Tables []string
}

func (e *DivergedError) Error() string {
	return fmt.Sprintf("the register here is not that of the cluster: at entry %d of the log the tables %v differ", e.Seq, e.Tables)
}

// SchemaError says that an entry or a state was written for a schema that is not known here.
type SchemaError struct{ Have, Know int }

func (e *SchemaError) Error() string {
	return fmt.Sprintf("the cluster has schema %d, and this Bouncer knows schemas up to %d", e.Have, e.Know)
}

// Apply carries out an entry of the log, with its place in it. What was carried out before is
// passed over. A *PoisonedError says that the entry was set aside, a *DivergedError that the
// state is not that of the cluster, a *SchemaError that a newer Bouncer is needed; any other
// error that it has to be tried again.
func (l Ledger) Apply(ctx context.Context, seq uint64, e replication.Entry, raw []byte) error {
	var poisoned *PoisonedError
	err := l.part.Alter(ctx, func(tx *sql.Tx) error {
		poisoned = nil
		var applied int64
		var schema int
		if err := tx.QueryRowContext(ctx, `SELECT applied FROM replica`).Scan(&applied); err != nil {
			return fmt.Errorf("read how far the log is carried out: %w", err)
		}
		if err := tx.QueryRowContext(ctx, `PRAGMA user_version`).Scan(&schema); err != nil {
			return fmt.Errorf("read the schema: %w", err)
		}
		switch {
		case seq <= uint64(applied):
			return nil
		case e.Schema > schema:
			return &SchemaError{e.Schema, schema}
		case len(e.Marks) > 0:
			sums, err := sumsOf(ctx, tx, "main")
			if err != nil {
				return err
			}
			if tables := replication.Differ(e.Marks, sums); len(tables) > 0 {
				return &DivergedError{seq, tables}
			}
		default:
			why, err := carryOut(ctx, tx, e.Statements)
			if err != nil {
				return err
			}
			if why != nil {
				poisoned = &PoisonedError{seq, e.Node, e.What, why}
				if err := setAside(ctx, tx, poisoned, raw); err != nil {
					return err
				}
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE replica SET applied = ?`, int64(seq))
		return err
	})
	if err == nil && poisoned != nil {
		return poisoned
	}
	return err
}

// SetAside passes over an entry that is none. The error is a *PoisonedError, or one for which it
// has to be tried again.
func (l Ledger) SetAside(ctx context.Context, seq uint64, raw []byte, why error) error {
	poisoned := &PoisonedError{seq, "", "", why}
	err := l.part.Alter(ctx, func(tx *sql.Tx) error {
		if err := setAside(ctx, tx, poisoned, raw); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE replica SET applied = ?`, int64(seq))
		return err
	})
	if err != nil {
		return err
	}
	return poisoned
}

func setAside(ctx context.Context, tx *sql.Tx, p *PoisonedError, raw []byte) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO quarantine (seq, at, node, what, why, entry) VALUES (?, ?, ?, ?, ?, ?)`,
		int64(p.Seq), time.Now().UnixMilli(), p.Node, p.What, p.err.Error(), raw)
	if err == nil {
		_, err = tx.ExecContext(ctx, `DELETE FROM quarantine WHERE seq NOT IN (SELECT seq FROM quarantine ORDER BY seq DESC LIMIT ?)`, maxAside)
	}
	if err != nil {
		return fmt.Errorf("set an entry aside: %w", err)
	}
	return nil
}

// maxAside is how many entries that were set aside are kept.
const maxAside = 200

// AsideSince counts the entries that were set aside since a time.
func (l Ledger) AsideSince(ctx context.Context, since time.Time) (n int, err error) {
	err = l.part.View(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, `SELECT count(*) FROM quarantine WHERE at >= ?`, since.UnixMilli()).Scan(&n)
	})
	return n, err
}

// carryOut carries out statements, all or none. why says what is wrong with them; err that
// it has to be tried again.
func carryOut(ctx context.Context, tx *sql.Tx, list []replication.Statement) (why, err error) {
	if _, err := tx.ExecContext(ctx, "SAVEPOINT entry"); err != nil {
		return nil, err
	}
	why, err = each(ctx, tx, list)
	if err != nil {
		return nil, err
	}
	if why != nil {
		if _, err := tx.ExecContext(ctx, "ROLLBACK TO entry"); err != nil {
			return nil, err
		}
	}
	_, err = tx.ExecContext(ctx, "RELEASE entry")
	return why, err
}

func each(ctx context.Context, tx *sql.Tx, list []replication.Statement) (why, err error) {
	for i, one := range list {
		args := make([]any, len(one.Args))
		for j, v := range one.Args {
			args[j] = v.V
		}
		res, err := tx.ExecContext(ctx, one.Query, args...)
		if err != nil {
			if !lasting(err) {
				return nil, fmt.Errorf("carry out statement %d: %w", i+1, err)
			}
			return fmt.Errorf("statement %d: %w", i+1, err), nil
		}
		if rows, err := res.RowsAffected(); err == nil && rows != one.Rows {
			return fmt.Errorf("statement %d meets %d rows, and met %d where it was written", i+1, rows, one.Rows), nil
		}
	}
	return nil, nil
}

// lasting reports whether an error is one of the statement and the state, which trying again
// does not change: neither of the disk nor of the connection.
func lasting(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	switch e.Code() & 0xff {
	case 1, 18, 19, 20, 25: // SQLITE_ERROR, TOOBIG, CONSTRAINT, MISMATCH, RANGE
		return true
	}
	return false
}

// Quarantined is an entry of the log that was set aside.
type Quarantined struct {
	Seq             uint64
	At              time.Time
	Node, What, Why string
}

// Quarantined returns the entries that were set aside, the newest first, a hundred at most.
func (l Ledger) Quarantined(ctx context.Context) ([]Quarantined, error) {
	var out []Quarantined
	err := l.part.View(ctx, func(tx *sql.Tx) (err error) {
		out, err = list(ctx, tx, func(r *sql.Rows) (q Quarantined, err error) {
			var at int64
			err = r.Scan(&q.Seq, &at, &q.Node, &q.What, &q.Why)
			q.At = time.UnixMilli(at).UTC()
			return q, err
		}, `SELECT seq, at, node, what, why FROM quarantine ORDER BY seq DESC LIMIT 100`)
		return err
	})
	return out, err
}
