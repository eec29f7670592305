// Package store keeps Bouncer's state in one SQLite database: a single writer
// connection and a pool of readers, in WAL mode. Its methods are questions and alterations in the
// team's own words. Every alteration runs inside Write, together with its row in changes.
// Calls have tables of their own, which package calls reads and writes through a Part.
package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"
	"modernc.org/sqlite"

	"bouncer/internal/core/replication"
	"bouncer/internal/core/team"
	"bouncer/internal/store/fault"
	"bouncer/internal/store/schema"
)

// ErrNotFound is returned when a question has no answer.
var ErrNotFound = errors.New("not found")

// Store is the database. It is safe for concurrent use.
type Store struct {
	path    string
	read    *sql.DB
	parts   *sql.DB // of parts that go through much of what they keep
	beside  *sql.DB // of those of them that do with two connections
	write   *sql.DB
	relieve func() bool

	replicator Replicator // nil for none: what is altered is altered here
}

// Options tune a Store; the zero value is the default.
type Options struct {
	// Durable waits for the disk at every commit, so that a record survives
	// even a power failure and not only a crash of the process.
	Durable bool
	// Relieve makes room on a full disk, true when it did: what people alter is then
	// tried once more. nil for none.
	Relieve func() bool
}

// Open opens or creates the database at path and brings its schema up to date.
// A database from a later Bouncer is a *schema.NewerError and stays untouched.
func Open(ctx context.Context, path string, o Options) (*Store, error) {
	// Create the file ourselves: SQLite would make it readable for others.
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	sync := "NORMAL"
	if o.Durable {
		sync = "FULL"
	}
	s := &Store{path: path, relieve: o.Relieve}
	s.write, err = open(
		path, "foreign_keys(1)", "journal_mode(WAL)", "busy_timeout(5000)",
		"synchronous("+sync+")",
		"wal_autocheckpoint(2000)",
		"cache_size(-16000)",
	)
	if err != nil {
		return nil, err
	}
	s.write.SetMaxOpenConns(1)
	if err := checkState(ctx, s.write); err != nil {
		return nil, errors.Join(fault.Of(err), s.write.Close())
	}
	if err := schema.Migrate(ctx, s.write); err != nil {
		return nil, errors.Join(fault.Of(err), s.write.Close())
	}
	if s.read, err = open(path, "query_only(1)", "busy_timeout(5000)"); err != nil {
		return nil, errors.Join(err, s.write.Close())
	}
	s.read.SetMaxOpenConns(8)
	s.read.SetMaxIdleConns(4)
	for _, pool := range [...]**sql.DB{&s.parts, &s.beside} {
		if *pool, err = open(path, "query_only(1)", "busy_timeout(5000)"); err != nil {
			return nil, errors.Join(err, s.Close())
		}
		(*pool).SetMaxOpenConns(10)
		(*pool).SetMaxIdleConns(4)
	}
	return s, nil
}

func open(path string, pragmas ...string) (*sql.DB, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	q := url.Values{"_pragma": pragmas, "_txlock": {"immediate"}}
	return sql.Open("sqlite", (&url.URL{Scheme: "file", Path: abs, RawQuery: q.Encode()}).String())
}

// Close ends all connections.
func (s *Store) Close() error {
	var errs []error
	for _, pool := range [...]*sql.DB{s.read, s.parts, s.beside} {
		if pool != nil {
			errs = append(errs, pool.Close())
		}
	}
	return errors.Join(append(errs, s.write.Close())...)
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.read.PingContext(ctx) }

// Check runs SQLite's integrity check and returns its first complaint.
func (s *Store) Check(ctx context.Context) error {
	var verdict string
	if err := s.read.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&verdict); err != nil {
		return err
	}
	if verdict != "ok" {
		return fmt.Errorf("the database is damaged: %s", verdict)
	}
	return nil
}

// What goes wrong with the database.
type (
	// DamagedError says that its file is damaged.
	DamagedError = fault.DamagedError
	// BusyError says that somebody else kept it for too long.
	BusyError = fault.BusyError
)

// checkState looks for damage in everything but the journal, which may be large: what
// is damaged there keeps nothing else from working.
func checkState(ctx context.Context, db *sql.DB) error {
	tables, err := list(ctx, db, func(r scanner) (name string, err error) { return name, r.Scan(&name) },
		`SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT IN ('calls', 'segments') AND name NOT LIKE 'letters%' AND name NOT LIKE 'sqlite_%'`)
	if err != nil {
		return err
	}
	for _, table := range tables {
		var verdict string
		if err := db.QueryRowContext(ctx, fmt.Sprintf("PRAGMA quick_check('%s')", table)).Scan(&verdict); err != nil {
			return &DamagedError{Part: table, Err: err}
		}
		if verdict != "ok" {
			return &DamagedError{Part: table, Err: errors.New(verdict)}
		}
	}
	return nil
}

// RootPage is where a table begins in the file: the number of its first page, from 1
// on, and the size of a page in bytes.
func (s *Store) RootPage(ctx context.Context, table string) (page, size int, err error) {
	err = s.read.QueryRowContext(ctx, `SELECT m.rootpage, p.page_size
		FROM sqlite_master m, pragma_page_size p WHERE m.name = ?`, table).Scan(&page, &size)
	return page, size, err
}

func inTx(ctx context.Context, db *sql.DB, fn func(*sql.Tx) error) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return fault.Of(err)
	}
	if err := fn(tx); err != nil {
		return errors.Join(fault.Of(err), ignoreDone(tx.Rollback()))
	}
	return fault.Of(tx.Commit())
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}

// Tx is one alteration of the state: what can be altered, by noun.
type Tx struct {
	ServerTx
	AgentTx
	CredentialTx
	PeopleTx
	RuleTx
	IncidentTx
	HeadTx
}

type (
	// ServerTx alters servers, their editions and the team's secrets.
	ServerTx struct{ *transaction }
	// AgentTx alters agents and passes.
	AgentTx struct{ *transaction }
	// IncidentTx alters what is kept of how servers did.
	IncidentTx struct{ *transaction }
	// CredentialTx alters what people and agents have of their own: secrets,
	// sign-ins, and the programs that speak for agents.
	CredentialTx struct{ *transaction }
	// PeopleTx alters people, logins and invitations.
	PeopleTx struct{ *transaction }
)

// transaction is what the parts of a Tx share.
type transaction struct {
	ctx  context.Context
	tx   *sql.Tx
	kept *[]replication.Statement // what is carried out, for other nodes; nil for not wanted
}

func newTx(ctx context.Context, tx *sql.Tx, kept *[]replication.Statement) *Tx {
	t := &transaction{ctx, tx, kept}
	return &Tx{ServerTx{t}, AgentTx{t}, CredentialTx{t}, PeopleTx{t}, RuleTx{t}, IncidentTx{t}, HeadTx{t}}
}

// Write runs fn in a transaction and records the change in it. When fn fails,
// nothing is altered.
func (s *Store) Write(ctx context.Context, c team.Change, fn func(*Tx) error) error {
	return s.alter(ctx, replication.Entry{What: c.What}, func(t *Tx) error {
		if err := fn(t); err != nil {
			return err
		}
		var revert any
		if c.Revert != nil {
			text, err := json.Marshal(c.Revert)
			if err != nil {
				return fmt.Errorf("record what puts %s back: %w", c.What, err)
			}
			revert = string(text)
		}
		return t.ServerTx.exec(`INSERT INTO changes (id, person, what, subject, before, after, revert) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			team.NewID(), c.Person, c.What, c.Subject, c.Before, c.After, revert)
	})
}

// Update runs fn in a transaction without a row in changes: for sessions,
// editions and times of use, which are not alterations by people.
func (s *Store) Update(ctx context.Context, fn func(*Tx) error) error {
	return s.alter(ctx, replication.Entry{}, fn)
}

// Note is Update for what nothing is decided by: when something was used.
func Note(ctx context.Context, s *Store, fn func(*Tx) error) error {
	return s.alter(ctx, replication.Entry{Quiet: true}, fn)
}

// alterHere runs fn in a transaction, and once more when the disk was full and there is
// room now.
func (s *Store) alterHere(ctx context.Context, fn func(*sql.Tx) error) error {
	err := inTx(ctx, s.write, fn)
	if err != nil && fault.Full(err) && s.relieve != nil && s.relieve() {
		return inTx(ctx, s.write, fn)
	}
	return err
}

func (t *transaction) exec(query string, args ...any) error {
	_, err := t.run(query, args)
	return err
}

// one runs an alteration that must meet exactly one row.
func (t *transaction) one(query string, args ...any) error {
	if n, err := t.run(query, args); err != nil || n == 1 {
		return err
	}
	return ErrNotFound
}

// alter is one for an alteration that holds for one version of a row only:
// ErrAltered when the row is there, but in another one.
func (t *transaction) alter(table, id, query string, args ...any) error {
	err := t.one(query, args...)
	if !errors.Is(err, ErrNotFound) {
		return err
	}
	var there int
	if err := t.tx.QueryRowContext(t.ctx, "SELECT count(*) FROM "+table+" WHERE id = ?", id).Scan(&there); err != nil {
		return err
	}
	if there > 0 {
		return ErrAltered
	}
	return ErrNotFound
}

// ErrTaken is returned when a name is in use already, ErrInUse when a row
// cannot go because others refer to it.
var (
	ErrTaken = errors.New("the name is taken")
	ErrInUse = errors.New("it is in use")
	// ErrAltered is returned when somebody else altered a row since it was read.
	ErrAltered = errors.New("it was altered meanwhile")
)

func conflict(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() {
	case 2067, 1555: // SQLITE_CONSTRAINT_UNIQUE, SQLITE_CONSTRAINT_PRIMARYKEY
		return fmt.Errorf("%w: %s", ErrTaken, e.Error())
	case 787: // SQLITE_CONSTRAINT_FOREIGNKEY
		return fmt.Errorf("%w: %s", ErrInUse, e.Error())
	}
	return err
}

type scanner interface{ Scan(...any) error }

// querier is what rows are read from: the database, or a transaction.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// list collects the rows of a query.
func list[T any](ctx context.Context, db querier, scan func(scanner) (T, error), query string, args ...any) ([]T, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fault.Of(err)
	}
	defer rows.Close()
	out := []T{}
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, fault.Of(err)
		}
		out = append(out, v)
	}
	return out, fault.Of(rows.Err())
}

// first returns the only row of a query, or ErrNotFound.
func first[T any](ctx context.Context, db *sql.DB, scan func(scanner) (T, error), query string, args ...any) (T, error) {
	v, err := scan(db.QueryRowContext(ctx, query, args...))
	if errors.Is(err, sql.ErrNoRows) {
		return v, ErrNotFound
	}
	return v, fault.Of(err)
}

func ms(t time.Time) int64 { return t.UnixMilli() }

func fromMS(n int64) time.Time { return time.UnixMilli(n).UTC() }

func fromNull(n sql.NullInt64) *time.Time {
	if !n.Valid {
		return nil
	}
	t := fromMS(n.Int64)
	return &t
}

func idTime(id string) time.Time {
	u, err := ulid.ParseStrict(strings.ToUpper(id))
	if err != nil {
		return time.Time{}
	}
	return ulid.Time(u.Time()).UTC()
}
