package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"time"

	"bouncer/internal/core/replication"
	"bouncer/internal/core/team"
	"bouncer/internal/store/schema"
)

// Replicator has every node of a cluster carry out what is altered at one of them.
type Replicator interface {
	// Propose takes what prepare makes of the state here into the log, as what follows the
	// entry that the state has come to, and returns when it is carried out here. When
	// something else came first, prepare is asked again, of the state then. Its errors
	// are returned as they are.
	Propose(ctx context.Context, prepare func(context.Context) (e replication.Entry, after uint64, err error)) error
}

// Replicate has what is altered from now on go through a log. It is to be called before
// anything is altered.
func (s *Store) Replicate(r Replicator) { s.replicator = r }

// Local runs fn in a transaction without a row in changes, for what every node keeps for
// itself: how servers did as it saw them, and what was used of budgets.
func (s *Store) Local(ctx context.Context, fn func(*Tx) error) error {
	return s.alterHere(ctx, func(tx *sql.Tx) error { return fn(newTx(ctx, tx, nil)) })
}

// alter runs fn in a transaction: here, or by way of the log.
func (s *Store) alter(ctx context.Context, e replication.Entry, fn func(*Tx) error) error {
	if s.replicator == nil {
		return s.alterHere(ctx, func(tx *sql.Tx) error { return fn(newTx(ctx, tx, nil)) })
	}
	return s.replicator.Propose(ctx, func(ctx context.Context) (replication.Entry, uint64, error) { return prepare(ctx, s, e, fn) })
}

// RegisterSchema is the schema of what nodes of a cluster share, in a database of a schema.
func RegisterSchema(version int) int { return schema.Register(version) }

// errPrepared undoes what was carried out to see what it comes to.
var errPrepared = errors.New("prepared")

// prepare carries out fn, writes down what it does, and undoes it.
func prepare(ctx context.Context, s *Store, e replication.Entry, fn func(*Tx) error) (_ replication.Entry, after uint64, err error) {
	e.Version, e.ID, e.At = replication.Version, team.NewID(), time.Now().UTC()
	err = s.alterHere(ctx, func(tx *sql.Tx) error {
		e.Statements = nil
		if err := tx.QueryRowContext(ctx, `SELECT applied FROM replica`).Scan(&after); err != nil {
			return fmt.Errorf("read how far the log is carried out: %w", err)
		}
		if err := tx.QueryRowContext(ctx, `PRAGMA user_version`).Scan(&e.Schema); err != nil {
			return fmt.Errorf("read the schema: %w", err)
		}
		e.Schema = RegisterSchema(e.Schema)
		if err := fn(newTx(ctx, tx, &e.Statements)); err != nil {
			return err
		}
		return errPrepared
	})
	if errors.Is(err, errPrepared) {
		err = nil
	}
	return e, after, err
}

// run carries out a statement, and writes it down where that is wanted.
func (t *transaction) run(query string, args []any) (rows int64, err error) {
	var kept []replication.Value
	if t.kept != nil {
		for i, arg := range args {
			v, err := driver.DefaultParameterConverter.ConvertValue(arg)
			if err != nil {
				return 0, fmt.Errorf("write down value %d of a statement: %w", i+1, err)
			}
			if yes, ok := v.(bool); ok {
				v = int64(0)
				if yes {
					v = int64(1)
				}
			}
			kept = append(kept, replication.Value{V: v})
		}
	}
	res, err := t.tx.ExecContext(t.ctx, query, args...)
	if err != nil {
		return 0, conflict(err)
	}
	rows, err = res.RowsAffected()
	if err == nil && t.kept != nil {
		*t.kept = append(*t.kept, replication.Statement{Query: query, Args: kept, Rows: rows})
	}
	return rows, err
}
