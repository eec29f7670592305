package ledger

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"math"
	"slices"
	"strings"

	"bouncer/internal/core/replication"
	"bouncer/internal/store"
)

// own are the tables that each node keeps for itself: its calls and what they add up to, what
// people are still to be mailed, how servers did as it saw them. All others are the same on
// every node of a cluster.
var own = []string{
	"calls", "segments", "letters_0", "letters_1", "letters_2", "letters_3", "letters_4", "letters_5", "letters_6", "letters_7", "repeats", "seals",
	"seal_anchor", "journal_chain", "rollups", "rolled_up", "mails_due", "mails_told", "budget_use",
	"reach_states", "server_states", "incidents", "replica", "quarantine", "goose_db_version",
}

// State is what is known of a copy of the tables that nodes share.
type State struct {
	Cluster string            // the id of the cluster
	Seq     uint64            // the last entry of the log that it holds
	Schema  int               // of its tables
	Sums    map[string]string // by table
}

// querier is what rows are read from: a transaction or a connection.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// list collects the rows of a query.
func list[T any](ctx context.Context, db querier, scan func(*sql.Rows) (T, error), query string, args ...any) ([]T, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []T{}
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

// shared are the names of the tables that nodes share.
func shared(ctx context.Context, db querier, schema string) ([]string, error) {
	names, err := list(ctx, db, func(r *sql.Rows) (name string, err error) { return name, r.Scan(&name) },
		`SELECT name FROM `+schema+`.sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name`)
	if err != nil {
		return nil, fmt.Errorf("list the tables: %w", err)
	}
	return slices.DeleteFunc(names, func(name string) bool { return slices.Contains(own, name) || name == "state" }), nil
}

// columnsOf are the names of a table's columns, in their order by name: a table that was made
// by another way through the schemas has them in another.
func columnsOf(ctx context.Context, db querier, schema, table string) ([]string, error) {
	names, err := list(ctx, db, func(r *sql.Rows) (name string, err error) { return name, r.Scan(&name) },
		`SELECT name FROM pragma_table_info(?, ?) ORDER BY name`, table, schema)
	if err != nil {
		return nil, fmt.Errorf("list the columns of %s: %w", table, err)
	}
	return names, nil
}

// Sums are what the tables that nodes share add up to, with the entry of the log up to which
// they stand.
func (l Ledger) Sums(ctx context.Context) (at State, err error) {
	err = l.part.View(ctx, func(tx *sql.Tx) error {
		at, err = stateOf(ctx, tx, "main")
		return err
	})
	return at, err
}

// stateOf reads where a database stands, and adds up its tables.
func stateOf(ctx context.Context, db querier, schema string) (at State, err error) {
	err = db.QueryRowContext(ctx, `SELECT cluster, applied, (SELECT user_version FROM pragma_user_version) FROM `+schema+`.replica`).
		Scan(&at.Cluster, &at.Seq, &at.Schema)
	if err != nil {
		return at, fmt.Errorf("read how far the log is carried out: %w", err)
	}
	at.Schema = store.RegisterSchema(at.Schema)
	at.Sums, err = sumsOf(ctx, db, schema)
	return at, err
}

// sumsOf adds up every table that nodes share.
func sumsOf(ctx context.Context, db querier, schema string) (map[string]string, error) {
	tables, err := shared(ctx, db, schema)
	if err != nil {
		return nil, err
	}
	out := make(map[string]string, len(tables))
	for _, table := range tables {
		if out[table], err = sumOf(ctx, db, schema, table); err != nil {
			return nil, fmt.Errorf("add up the table %s: %w", table, err)
		}
	}
	return out, nil
}

// sumOf adds up a table: SHA-256 of its rows in the order of their columns.
func sumOf(ctx context.Context, db querier, schema, table string) (string, error) {
	columns, err := columnsOf(ctx, db, schema, table)
	if err != nil {
		return "", err
	}
	names := `"` + strings.Join(columns, `", "`) + `"`
	rows, err := db.QueryContext(ctx, `SELECT `+names+` FROM `+schema+`."`+table+`" ORDER BY `+names)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	sum := sha256.New()
	values, at := make([]any, len(columns)), make([]any, len(columns))
	for i := range values {
		at[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return "", err
		}
		for _, v := range values {
			addValue(sum, v)
		}
	}
	return base64.RawURLEncoding.EncodeToString(sum.Sum(nil)[:16]), rows.Err()
}

// addValue adds a value with its kind and length, so that no two rows look the same.
func addValue(sum hash.Hash, v any) {
	kind, raw := byte('n'), []byte(nil)
	switch x := v.(type) {
	case int64:
		kind, raw = 'i', binary.BigEndian.AppendUint64(nil, uint64(x))
	case float64:
		kind, raw = 'f', binary.BigEndian.AppendUint64(nil, math.Float64bits(x))
	case string:
		kind, raw = 's', []byte(x)
	case []byte:
		kind, raw = 'b', x
	}
	_, _ = sum.Write(binary.AppendUvarint([]byte{kind}, uint64(len(raw)))) // which cannot fail
	_, _ = sum.Write(raw)
}

// Export writes a copy of the tables that nodes share to a file that is not there yet.
func (l Ledger) Export(ctx context.Context, path string) (at State, err error) {
	err = l.part.Attach(ctx, path, "", func(c *sql.Conn) error {
		if at, err = stateOf(ctx, c, "main"); err != nil {
			return err
		}
		tables, err := shared(ctx, c, "main")
		if err != nil {
			return err
		}
		for _, table := range tables {
			if _, err := c.ExecContext(ctx, `CREATE TABLE beside."`+table+`" AS SELECT * FROM main."`+table+`"`); err != nil {
				return fmt.Errorf("copy the table %s: %w", table, err)
			}
		}
		about, err := json.Marshal(at)
		if err != nil {
			return fmt.Errorf("describe a state: %w", err)
		}
		if _, err := c.ExecContext(ctx, `CREATE TABLE beside.state (about TEXT NOT NULL)`); err != nil {
			return fmt.Errorf("describe a state: %w", err)
		}
		_, err = c.ExecContext(ctx, `INSERT INTO beside.state (about) VALUES (?)`, string(about))
		return err
	})
	if err != nil {
		return at, fmt.Errorf("copy the state: %w", err)
	}
	return at, nil
}

// Import replaces the tables that nodes share by those of a copy that Export wrote, and keeps
// all others. Nothing is altered when the copy is damaged or of a newer schema.
func (l Ledger) Import(ctx context.Context, path string) (at State, err error) {
	err = l.part.Attach(ctx, path, "PRAGMA foreign_keys = 0", func(c *sql.Conn) error {
		var about string
		if err := c.QueryRowContext(ctx, `SELECT about FROM beside.state`).Scan(&about); err != nil {
			return fmt.Errorf("it is no copy of a state: %w", err)
		}
		if err := json.Unmarshal([]byte(about), &at); err != nil {
			return fmt.Errorf("it is no copy of a state: %w", err)
		}
		var schema int
		if err := c.QueryRowContext(ctx, `PRAGMA main.user_version`).Scan(&schema); err != nil {
			return fmt.Errorf("read the schema: %w", err)
		}
		if at.Schema > schema {
			return &SchemaError{at.Schema, schema}
		}
		copied, err := sumsOf(ctx, c, "beside")
		if err != nil {
			return err
		}
		if tables := replication.Differ(at.Sums, copied); len(tables) > 0 {
			return &DivergedError{at.Seq, tables}
		}
		if err := replace(ctx, c); err != nil {
			return err
		}
		_, err = c.ExecContext(ctx, `INSERT INTO main.replica (one, cluster, applied) VALUES (1, ?, ?)
			ON CONFLICT (one) DO UPDATE SET cluster = excluded.cluster, applied = excluded.applied`, at.Cluster, int64(at.Seq))
		return err
	})
	if err != nil {
		return at, fmt.Errorf("take over the state of a cluster: %w", err)
	}
	return at, nil
}

// replace replaces the shared tables, and lets go what referred to rows that are gone.
func replace(ctx context.Context, c *sql.Conn) error {
	tables, err := shared(ctx, c, "main")
	if err != nil {
		return err
	}
	there, err := shared(ctx, c, "beside")
	if err != nil {
		return err
	}
	for _, table := range tables {
		if _, err := c.ExecContext(ctx, `DELETE FROM main."`+table+`"`); err != nil {
			return fmt.Errorf("empty the table %s: %w", table, err)
		}
		if !slices.Contains(there, table) {
			continue // it is of a later schema than the copy
		}
		columns, err := columnsOf(ctx, c, "beside", table)
		if err != nil {
			return err
		}
		names := `"` + strings.Join(columns, `", "`) + `"`
		copied := `INSERT INTO main."` + table + `" (` + names + `) SELECT ` + names + ` FROM beside."` + table + `"`
		if _, err := c.ExecContext(ctx, copied); err != nil {
			return fmt.Errorf("fill the table %s: %w", table, err)
		}
	}
	return letGo(ctx, c)
}

// letGo deletes the rows of tables of this node's own that refer to rows that are gone.
func letGo(ctx context.Context, c *sql.Conn) error {
	for _, table := range own {
		type reference struct{ parent, from, to string }
		references, err := list(ctx, c, func(r *sql.Rows) (f reference, err error) { return f, r.Scan(&f.parent, &f.from, &f.to) },
			`SELECT f."table", f."from", coalesce(f."to", (SELECT name FROM pragma_table_info(f."table") WHERE pk = 1))
				FROM pragma_foreign_key_list(?) f`, table)
		if err != nil {
			return fmt.Errorf("see what %s refers to: %w", table, err)
		}
		for _, f := range references {
			gone := fmt.Sprintf(`DELETE FROM main."%s" WHERE "%s" IS NOT NULL AND "%s" NOT IN (SELECT "%s" FROM main."%s")`,
				table, f.from, f.from, f.to, f.parent)
			if _, err := c.ExecContext(ctx, gone); err != nil {
				return fmt.Errorf("let go what referred to rows that are gone: %w", err)
			}
		}
	}
	left, err := list(ctx, c, func(r *sql.Rows) (table string, err error) { return table, r.Scan(&table) },
		`SELECT DISTINCT "table" FROM pragma_foreign_key_check`)
	if err == nil && len(left) > 0 {
		err = fmt.Errorf("rows of the tables %v refer to what is not there", left)
	}
	return err
}

// Empty reports whether there is nothing yet that a team keeps: neither servers nor people,
// agents or secrets.
func (l Ledger) Empty(ctx context.Context) (bool, error) {
	var some int
	err := l.part.View(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM people) + (SELECT count(*) FROM servers) +
			(SELECT count(*) FROM agents) + (SELECT count(*) FROM secrets)`).Scan(&some)
	})
	return some == 0, err
}

// ReadState reads a copy that Export wrote, and adds it up anew.
func ReadState(ctx context.Context, path string) (at State, err error) {
	db, err := store.OpenFile(path)
	if err != nil {
		return at, fmt.Errorf("open a copy of the state: %w", err)
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	var about, whole string
	if err := db.QueryRowContext(ctx, `PRAGMA integrity_check(1)`).Scan(&whole); err != nil {
		return at, fmt.Errorf("it is no copy of a state: %w", err)
	}
	if err := db.QueryRowContext(ctx, `SELECT about FROM state`).Scan(&about); err != nil {
		return at, fmt.Errorf("it is no copy of a state: %w", err)
	}
	if whole != "ok" {
		return at, store.Damage("state", errors.New(whole))
	}
	if err := json.Unmarshal([]byte(about), &at); err != nil {
		return at, fmt.Errorf("it is no copy of a state: %w", err)
	}
	at.Sums, err = sumsOf(ctx, db, "main")
	return at, err
}
