package store

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"

	"database/sql"

	"bouncer/internal/store/fault"
	"bouncer/internal/store/schema"
)

// Contents is what a database file holds.
type Contents struct {
	Schema                                  int
	Servers, Agents, People, Secrets, Calls int
	Keys                                    []string // ids of the keys that something in it is sealed with
}

// Inspect opens a database file for reading only, checks that it is whole, and tells what
// it holds. Nothing is written beside it. The error says what is wrong with the file: a
// *DamagedError, or a *schema.NewerError for one of a newer Bouncer.
func Inspect(ctx context.Context, path string) (c Contents, err error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return c, err
	}
	q := url.Values{"mode": {"ro"}, "immutable": {"1"}, "_pragma": {"query_only(1)"}}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Path: abs, RawQuery: q.Encode()}).String())
	if err != nil {
		return c, fmt.Errorf("open the file: %w", err)
	}
	defer func() { err = errors.Join(fault.Of(err), db.Close()) }()
	var whole string
	if err := db.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&whole); err != nil {
		return c, err
	}
	if whole != "ok" {
		return c, &DamagedError{Err: errors.New(whole)}
	}
	if err := db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&c.Schema); err != nil {
		return c, err
	}
	known, err := schema.Newest()
	if err != nil {
		return c, err
	}
	if c.Schema > known {
		return c, &schema.NewerError{Have: c.Schema, Know: known}
	}
	calls := "coalesce(sum(records), 0) FROM segments"
	if c.Schema < schema.BlocksVersion {
		calls = "count(*) FROM calls"
	}
	for _, row := range []struct {
		what string
		to   *int
	}{
		{"count(*) FROM servers", &c.Servers}, {"count(*) FROM agents", &c.Agents}, {"count(*) FROM people", &c.People},
		{"count(*) FROM secrets", &c.Secrets}, {calls, &c.Calls},
	} {
		if err := db.QueryRowContext(ctx, "SELECT "+row.what).Scan(row.to); err != nil {
			return c, fmt.Errorf("the file is no copy of Bouncer's state: %w", err)
		}
	}
	c.Keys, err = keysIn(ctx, db)
	return c, err
}

// keysIn are the ids of keys in every column that holds some.
func keysIn(ctx context.Context, db *sql.DB) ([]string, error) {
	type column struct{ table, name string }
	columns, err := list(ctx, db, func(r scanner) (c column, err error) { return c, r.Scan(&c.table, &c.name) },
		`SELECT m.name, c.name FROM sqlite_master m JOIN pragma_table_info(m.name) c
			WHERE m.type = 'table' AND c.name IN ('key_id', 'prior_key_id')`)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	var out []string
	for _, c := range columns {
		ids, err := list(ctx, db, func(r scanner) (id string, err error) { return id, r.Scan(&id) },
			fmt.Sprintf(`SELECT DISTINCT %s FROM %s WHERE coalesce(%s, '') != ''`, c.name, c.table, c.name))
		if err != nil {
			return nil, err
		}
		for _, id := range ids {
			if !seen[id] {
				seen[id], out = true, append(out, id)
			}
		}
	}
	return out, nil
}

// KeyIDs are the keys of the locker that something is sealed with.
func KeyIDs(ctx context.Context, s *Store) ([]string, error) { return keysIn(ctx, s.read) }

// OpenFile opens a database file that is none of a service, for reading only.
func OpenFile(path string) (*sql.DB, error) { return open(path, "query_only(1)") }
