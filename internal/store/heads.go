package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"bouncer/internal/core/team"
)

// headsFor is how long a head of a journal is kept.
const headsFor = 400 * 24 * time.Hour

// HeadTx alters what nodes keep of each other's journals.
type HeadTx struct{ *transaction }

// KeepHead keeps a head of a chain of a node's journal, and forgets old ones. What is kept of a
// seal stays.
func (t HeadTx) KeepHead(node, chain string, h team.SignedHead, now time.Time) error {
	err := t.exec(
		`INSERT OR IGNORE INTO journal_heads (node, chain, seal, at, hash, key, signature, kept) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		node, chain, h.Seal, h.At.UTC().Format(time.RFC3339Nano), h.Hash, h.Key, h.Signature, ms(now),
	)
	if err != nil {
		return err
	}
	return t.exec(`DELETE FROM journal_heads WHERE kept < ?`, ms(now.Add(-headsFor)))
}

// Chain is which chain of seals this database has; it gets its name when it is asked for first.
func Chain(ctx context.Context, s *Store) (id string, err error) {
	err = s.alterHere(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO journal_chain (one, id) VALUES (1, ?)`, team.NewID()); err != nil {
			return fmt.Errorf("name the chain of seals: %w", err)
		}
		return tx.QueryRowContext(ctx, `SELECT id FROM journal_chain`).Scan(&id)
	})
	return id, err
}

// Heads returns what is kept of a chain of a node's journal, the oldest first.
func Heads(ctx context.Context, s *Store, node, chain string) ([]team.SignedHead, error) {
	return list(ctx, s.read, func(r scanner) (h team.SignedHead, err error) {
		var at string
		if err := r.Scan(&h.Seal, &at, &h.Hash, &h.Key, &h.Signature); err != nil {
			return h, err
		}
		if h.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return h, fmt.Errorf("read when seal %d was made: %w", h.Seal, err)
		}
		return h, nil
	}, `SELECT seal, at, hash, key, signature FROM journal_heads WHERE node = ? AND chain = ? ORDER BY seal`, node, chain)
}

// OtherHeads counts what is kept of other chains of a node's journal than one.
func OtherHeads(ctx context.Context, s *Store, node, chain string) (int, error) {
	return first(ctx, s.read, func(r scanner) (n int, err error) { return n, r.Scan(&n) },
		`SELECT count(*) FROM journal_heads WHERE node = ? AND chain <> ?`, node, chain)
}

// BeginChain has a database file that nobody has open begin another chain of seals. What is restored
// from a copy goes on from there: what others keep of the calls after it is of the chain before.
func BeginChain(ctx context.Context, path string) (err error) {
	db, err := open(path, "busy_timeout(5000)")
	if err != nil {
		return fmt.Errorf("open the copy: %w", err)
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	var there bool
	row := db.QueryRowContext(ctx, `SELECT count(*) > 0 FROM sqlite_master WHERE type = 'table' AND name = 'journal_chain'`)
	if err := row.Scan(&there); err != nil {
		return fmt.Errorf("look for the chain of seals: %w", err)
	}
	if !there { // an older schema, which has none
		return nil
	}
	if _, err := db.ExecContext(ctx, `DELETE FROM journal_chain`); err != nil {
		return fmt.Errorf("begin another chain of seals: %w", err)
	}
	return nil
}
