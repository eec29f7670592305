package store

import (
	"bytes"
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store/schema"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A database of every schema there ever was is brought up to date, with what is in it.
func TestEverySchemaIsUpgraded(t *testing.T) {
	t.Parallel()
	newest, err := schema.Newest()
	require.NoError(t, err)
	for version := 1; version <= newest; version++ {
		t.Run(fmt.Sprint(version), func(t *testing.T) {
			t.Parallel()
			path := filepath.Join(t.TempDir(), "bouncer.db")
			db, err := open(path, "foreign_keys(1)")
			require.NoError(t, err)
			p, err := schema.Steps(db)
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

// Calls that stood in rows stand in blocks afterwards, each under its seal, with all there
// was of them.
func TestCallsMoveIntoBlocks(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "bouncer.db")
	db, err := open(path, "foreign_keys(1)")
	require.NoError(t, err)
	p, err := schema.Steps(db)
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), schema.BlocksVersion-1)
	require.NoError(t, err)
	const loose, perSeal, seals = 1500, 30, 60
	put := func(key, seal int64) {
		_, err := db.Exec(`INSERT INTO calls (id, agent, person, server, tool, decision, rule, outcome, error, us, bytes_in, bytes_out, session,
			cut, arguments, result, times, control, seal) VALUES (?, 'night-watch', 'joss', 'berths', 'list_berths', 'admit', 'R', 'ok', '', 7, 8, 9,
			's', 1, ?, 'r', 2, '{"held":"nights"}', ?)`, key, fmt.Sprint(key), seal)
		require.NoError(t, err)
	}
	tx := func(query string) {
		_, err := db.Exec(query)
		require.NoError(t, err)
	}
	tx("BEGIN")
	for key := int64(1); key <= loose; key++ {
		put(key, 0)
	}
	for seal := int64(1); seal <= seals; seal++ {
		first := 10_000 + seal*100
		if seal == 40 {
			first = 5_000 // the clock was set back
		}
		for i := int64(0); i < perSeal; i++ {
			put(first+i, seal)
		}
		_, err := db.Exec(`INSERT INTO seals (seq, at, records, first, last, hash) VALUES (?, 0, ?, ?, ?, x'00')`, seal, perSeal, first, first+perSeal-1)
		require.NoError(t, err)
	}
	tx("COMMIT")
	tx(fmt.Sprintf("PRAGMA user_version = %d", schema.BlocksVersion-1))
	require.NoError(t, db.Close())
	before, err := Inspect(t.Context(), path)
	require.NoError(t, err)
	assert.Equal(t, loose+perSeal*seals, before.Calls)

	s, err := Open(t.Context(), path, Options{})
	require.NoError(t, err)
	defer s.Close()
	type block struct {
		id, low    int64
		head, body []byte
	}
	blocks, err := list(t.Context(), s.read, func(r scanner) (b block, err error) { return b, r.Scan(&b.id, &b.low, &b.head, &b.body) },
		`SELECT id, low, head, body FROM segments WHERE closed = 1 ORDER BY low, id`)
	require.NoError(t, err)
	assert.Len(t, blocks, 4)
	under := map[int64]int{}
	for _, b := range blocks {
		records, err := segment.ReadHead(b.head, b.low)
		require.NoError(t, err)
		require.NoError(t, segment.ReadBody(b.body, records))
		var letters []byte
		for part := range segment.LetterParts {
			var bits []byte
			require.NoError(t, s.read.QueryRow(fmt.Sprintf(`SELECT bits FROM letters_%d WHERE id = ?`, part), b.id).Scan(&bits))
			letters = append(letters, bits...)
		}
		assert.True(t, bytes.Equal(segment.Write(records, true).Words, letters), "its letters, in parts")
		for i, r := range records {
			under[r.Seal]++
			assert.Equal(t, fmt.Sprint(int64(r.Key)), r.Arguments)
			assert.True(t, i == 0 || records[i-1].Key < r.Key, "in the order of keys")
			if len(under) == 1 && i == 0 {
				r.Key, r.At, r.Arguments = 0, time.Time{}, ""
				assert.Equal(t, segment.Record{Call: team.Call{
					Agent: "night-watch", Person: "joss", Server: "berths", Tool: "list_berths", Decision: "admit", Rule: "R", Outcome: "ok", Micros: 7,
					BytesIn: 8, BytesOut: 9, Session: "s", Cut: true, Result: "r", Times: 2, Control: &team.CallControl{Held: "nights"},
				}}, r)
			}
		}
	}
	assert.Equal(t, loose, under[0])
	assert.Len(t, under, seals+1)
	for seal := int64(1); seal <= seals; seal++ {
		assert.Equal(t, perSeal, under[seal])
	}
	_, err = s.write.Exec(`DELETE FROM segments`)
	require.NoError(t, err)
	for part := range segment.LetterParts {
		var left int
		require.NoError(t, s.read.QueryRow(fmt.Sprintf(`SELECT count(*) FROM letters_%d`, part)).Scan(&left))
		assert.Zero(t, left, "what is kept of a block goes with it")
	}
}

// Steps that alter only what each node keeps for itself do not part nodes; the others do, and no step
// may be taken for the former that alters what they share.
func TestWhichStepsPartNodes(t *testing.T) {
	t.Parallel()
	assert.Equal(t, []int{22, 23, 23, 23}, []int{RegisterSchema(22), RegisterSchema(23), RegisterSchema(24), RegisterSchema(25)})
	newest, err := schema.Newest()
	require.NoError(t, err)
	db, err := open(filepath.Join(t.TempDir(), "bouncer.db"), "foreign_keys(1)")
	require.NoError(t, err)
	defer db.Close()
	p, err := schema.Steps(db)
	require.NoError(t, err)
	shape := func() (out string) {
		rows, err := db.Query(`SELECT coalesce(sql, '') FROM sqlite_master WHERE tbl_name NOT IN ('calls', 'segments', 'seals') AND tbl_name NOT LIKE 'letters%'
			AND tbl_name NOT LIKE 'goose%' AND tbl_name NOT LIKE 'sqlite%' ORDER BY name`)
		require.NoError(t, err)
		defer rows.Close()
		for rows.Next() {
			var text string
			require.NoError(t, rows.Scan(&text))
			out += text + "\n"
		}
		require.NoError(t, rows.Err())
		return out
	}
	before := ""
	for version := 1; version <= newest; version++ {
		_, err = p.UpTo(t.Context(), int64(version))
		require.NoError(t, err)
		after := shape()
		if RegisterSchema(version) != version {
			assert.Equal(t, before, after, version)
		}
		before = after
	}
}
