package store

import (
	"context"
	"database/sql"
	"errors"
)

// Part is the database as a part of the state has it that keeps tables of its own. It reads by
// connections of its own, so that whoever goes through all calls keeps nobody from signing in.
type Part struct{ store *Store }

// Part returns the database for a part that keeps tables of its own.
func (s *Store) Part() Part { return Part{s} }

// Alter runs fn in a transaction of the one connection that writes.
func (p Part) Alter(ctx context.Context, fn func(*sql.Tx) error) error {
	return inTx(ctx, p.store.write, fn)
}

// View runs fn in a transaction that reads one state, whatever is written meanwhile.
func (p Part) View(ctx context.Context, fn func(*sql.Tx) error) (err error) {
	tx, err := p.store.parts.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return damaged(err)
	}
	defer func() { err = errors.Join(err, ignoreDone(tx.Rollback())) }()
	return damaged(fn(tx))
}

// Damage makes an error of damage of one that something unreadable was read with.
func Damage(part string, err error) error { return &DamagedError{part, err} }
