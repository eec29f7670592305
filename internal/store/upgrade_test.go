package store

import (
	"database/sql"
	"fmt"
	"io/fs"
	"path/filepath"
	"testing"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A database of every schema there ever was is brought up to date, with what is in it.
func TestEverySchemaIsUpgraded(t *testing.T) {
	t.Parallel()
	newest, err := newestSchema()
	require.NoError(t, err)
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	for version := 1; version <= newest; version++ {
		t.Run(fmt.Sprint(version), func(t *testing.T) {
			t.Parallel()
			path := filepath.Join(t.TempDir(), "bouncer.db")
			db, err := open(path, "foreign_keys(1)")
			require.NoError(t, err)
			p, err := goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithLogger(goose.NopLogger()), goose.WithDisableGlobalRegistry(true))
			require.NoError(t, err)
			_, err = p.UpTo(t.Context(), int64(version))
			require.NoError(t, err)
			fill(t, db)
			_, err = db.Exec(fmt.Sprintf("PRAGMA user_version = %d", version))
			require.NoError(t, err)
			require.NoError(t, db.Close())

			s, err := Open(t.Context(), path, Options{})
			require.NoError(t, err)
			defer s.Close()
			require.NoError(t, s.Check(t.Context()))
			people, err := s.People(t.Context())
			require.NoError(t, err)
			require.Len(t, people, 1)
			assert.Equal(t, "marit", people[0].Name)
			servers, err := s.Servers(t.Context())
			require.NoError(t, err)
			require.Len(t, servers, 1)
			assert.Equal(t, "http://127.0.0.1:4701/mcp", servers[0].URL)
		})
	}
}

// fill puts a person and a server into a database, whatever columns they have there.
func fill(t *testing.T, db *sql.DB) {
	t.Helper()
	for table, values := range map[string]map[string]any{
		"people": {"id": "01P", "name": "marit", "full_name": "Marit Aune", "role": "admin", "password": "x", "must_change": 0},
		"servers": {
			"id": "01S", "name": "sailings", "url": "http://127.0.0.1:4701/mcp", "transport": "streamable-http", "options": "{}", "args": "[]",
			"env": "[]", "headers": "[]",
		},
	} {
		rows, err := db.Query("SELECT name, type, \"notnull\", dflt_value FROM pragma_table_info(?)", table)
		require.NoError(t, err)
		defer rows.Close()
		names, marks, args := "", "", []any{}
		for rows.Next() {
			var name, kind string
			var needed bool
			var otherwise sql.NullString
			require.NoError(t, rows.Scan(&name, &kind, &needed, &otherwise))
			v, known := values[name]
			if !known && (!needed || otherwise.Valid) {
				continue
			}
			if !known {
				v = map[string]any{"INTEGER": 0, "BLOB": []byte{}}[kind]
				if v == nil {
					v = ""
				}
			}
			names, marks, args = names+", "+name, marks+", ?", append(args, v)
		}
		require.NoError(t, rows.Err())
		_, err = db.Exec("INSERT INTO "+table+" ("+names[2:]+") VALUES ("+marks[2:]+")", args...)
		require.NoError(t, err, table)
	}
}
