// Package schema is the shape of the database, and the way from every shape that it had to the
// present one: numbered steps, which are never altered once somebody has them.
package schema

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"github.com/pressly/goose/v3"

	"bouncer/internal/store/schema/toblocks"
)

//go:embed migrations/*.sql
var migrations embed.FS

// NewerError says that the database was written by a later Bouncer.
type NewerError struct{ Have, Know int }

func (e *NewerError) Error() string {
	return fmt.Sprintf("the database has schema %d, and this Bouncer knows schemas up to %d", e.Have, e.Know)
}

// BlocksVersion is the schema from which on calls stand in blocks and no longer in rows.
const BlocksVersion = 20

// ofOneNode are the steps that alter only tables which each node of a cluster keeps for itself.
var ofOneNode = []int{24, 25}

// Register is the schema of what nodes share, in a database of a schema: nodes of the same one go on
// side by side, whatever else is newer in the database of one of them.
func Register(version int) int {
	for slices.Contains(ofOneNode, version) {
		version--
	}
	return version
}

// upgrades are the steps between schemas that take more than SQL.
func upgrades() []*goose.Migration {
	return []*goose.Migration{goose.NewGoMigration(BlocksVersion, &goose.GoFunc{RunTx: toblocks.Run}, nil)}
}

// Newest is the newest schema that is known here.
func Newest() (int, error) {
	p, err := Steps(nil)
	if err != nil {
		return 0, err
	}
	sources := p.ListSources()
	return int(sources[len(sources)-1].Version), nil
}

// Steps are the migrations, in their order. Without a database they can only be listed.
func Steps(db *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, fmt.Errorf("read the migrations: %w", err)
	}
	if db == nil {
		db = sql.OpenDB(nowhere{})
	}
	quiet, own := goose.WithLogger(goose.NopLogger()), goose.WithDisableGlobalRegistry(true)
	p, err := goose.NewProvider(goose.DialectSQLite3, db, files, quiet, own, goose.WithGoMigrations(upgrades()...))
	if err != nil {
		return nil, fmt.Errorf("read the migrations: %w", err)
	}
	return p, nil
}

// nowhere is a database that cannot be reached.
type nowhere struct{}

func (nowhere) Connect(context.Context) (driver.Conn, error) { return nil, errors.New("no database") }
func (nowhere) Driver() driver.Driver                        { return nil }

// Migrate brings the schema up to date, each step in a transaction of its own.
func Migrate(ctx context.Context, db *sql.DB) error {
	p, err := Steps(db)
	if err != nil {
		return err
	}
	known := p.ListSources()[len(p.ListSources())-1].Version
	have, err := version(ctx, db)
	switch {
	case err != nil:
		return err
	case have > known:
		return &NewerError{int(have), int(known)}
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	_, err = db.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", known))
	return err
}

// version is the schema that the database has. One that was written before
// there was a table of migrations gets that table.
func version(ctx context.Context, db *sql.DB) (version int64, err error) {
	if err := db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil {
		return 0, err
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	if err := noteBefore(ctx, tx, version); err != nil {
		return 0, errors.Join(err, tx.Rollback())
	}
	return version, tx.Commit()
}

// noteBefore makes the table of migrations for a database of before there was one.
func noteBefore(ctx context.Context, tx *sql.Tx, version int64) error {
	var there int
	if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master WHERE name = ?", goose.DefaultTablename).Scan(&there); err != nil {
		return err
	}
	if there > 0 || version == 0 {
		return nil
	}
	const table = `CREATE TABLE ` + goose.DefaultTablename + ` (id INTEGER PRIMARY KEY AUTOINCREMENT, version_id INTEGER NOT NULL,
		is_applied INTEGER NOT NULL, tstamp TIMESTAMP DEFAULT (datetime('now')))`
	if _, err := tx.ExecContext(ctx, table); err != nil {
		return fmt.Errorf("note the migrations made before: %w", err)
	}
	for n := range version + 1 {
		if _, err := tx.ExecContext(ctx, "INSERT INTO "+goose.DefaultTablename+" (version_id, is_applied) VALUES (?, 1)", n); err != nil {
			return fmt.Errorf("note the migrations made before: %w", err)
		}
	}
	return nil
}
