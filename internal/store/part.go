package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"bouncer/internal/store/fault"
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
		return fault.Of(err)
	}
	defer func() { err = errors.Join(err, ignoreDone(tx.Rollback())) }()
	return fault.Of(fn(tx))
}

// Beside runs fn in a transaction that reads over a further connection, for what View does with
// both cores: nobody who has one of these waits for one of View's.
func (p Part) Beside(ctx context.Context, fn func(*sql.Tx) error) (err error) {
	tx, err := p.store.beside.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return fault.Of(err)
	}
	defer func() { err = errors.Join(err, ignoreDone(tx.Rollback())) }()
	return fault.Of(fn(tx))
}

// Attach runs fn in a transaction over the database and a second file, which is named beside.
// prepare is carried out before; "" for nothing, and then the database itself is only read.
func (p Part) Attach(ctx context.Context, path, prepare string, fn func(*sql.Conn) error) (err error) {
	db, err := open(p.store.path, "busy_timeout(10000)")
	if err != nil {
		return fmt.Errorf("open the database once more: %w", err)
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	c, err := db.Conn(ctx)
	if err != nil {
		return fault.Of(err)
	}
	defer func() { err = errors.Join(err, c.Close()) }()
	begin := "BEGIN"
	if prepare != "" {
		if _, err := c.ExecContext(ctx, prepare); err != nil {
			return err
		}
		begin = "BEGIN IMMEDIATE"
	}
	if _, err := c.ExecContext(ctx, `ATTACH ? AS beside`, path); err != nil {
		return fmt.Errorf("open the copy: %w", err)
	}
	if _, err := c.ExecContext(ctx, begin); err != nil {
		return err
	}
	if err := fn(c); err != nil {
		_, undo := c.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		return errors.Join(fault.Of(err), undo)
	}
	if _, err := c.ExecContext(ctx, "COMMIT"); err != nil {
		_, undo := c.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		return errors.Join(fault.Of(err), undo)
	}
	_, err = c.ExecContext(ctx, `DETACH beside`)
	return err
}

// Damage makes an error of damage of one that something unreadable was read with.
func Damage(part string, err error) error { return &DamagedError{Part: part, Err: err} }
