package store

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/locker"
)

// peopled is a store with two people, an agent, a server and a secret.
func peopled(t *testing.T) (s *Store, marit, ottilie team.Person, agent team.Agent, server team.Server) {
	s, _ = open1(t)
	now := time.Now()
	marit = team.Person{ID: team.NewID(), Name: "marit", FullName: "Marit Aune", Role: team.Admin, Created: now}
	ottilie = team.Person{ID: team.NewID(), Name: "ottilie", FullName: "Ottilie Brandt", Role: team.Member, Created: now}
	agent = team.Agent{ID: team.NewID(), Name: "ottilie-parlour", Kind: "parlour", Owner: "ottilie", Created: now}
	server = team.Server{ID: team.NewID(), Name: "crew", URL: "http://x", Transport: "streamable-http", Created: now}
	write(t, s, func(tx *Tx) error {
		for _, err := range []error{
			tx.AddPerson(marit, ""), tx.AddPerson(ottilie, ""), tx.AddAgent(agent), tx.AddServer(server),
			tx.AddSecret(team.Secret{ID: "k-team", Name: "team", Kind: "bearer", Created: now}, locker.Box{KeyID: "k1", DataKey: []byte("d"), Value: []byte("v")}),
			tx.AddOwnSecret(
				team.Secret{ID: "k-own", Kind: "bearer", Created: now},
				locker.Box{KeyID: "k1", DataKey: []byte("d"), Value: []byte("v")},
				server.ID,
				team.Holder{Person: ottilie.ID},
			),
		} {
			if err != nil {
				return err
			}
		}
		return nil
	})
	return s, marit, ottilie, agent, server
}

// What belongs to a person goes with the person; what others rely on stays.
func TestWhatIsTheirsGoesWithThem(t *testing.T) {
	t.Parallel()
	s, marit, ottilie, agent, server := peopled(t)
	ctx, now := t.Context(), time.Now()
	sealed := locker.Box{KeyID: "k1", DataKey: []byte("d"), Value: []byte("v")}
	write(t, s, func(tx *Tx) error {
		for _, err := range []error{
			tx.SetGiven(OwnSecret{server.ID, team.Holder{Agent: agent.ID}, "k-team"}),
			tx.PutSignIn(StoredSignIn{ID: "s1", ServerID: server.ID, Holder: team.Holder{Person: ottilie.ID}, Created: now, Refreshed: now, Sealed: sealed}),
			tx.PutSignIn(StoredSignIn{ID: "s2", ServerID: server.ID, Created: now, Refreshed: now, Sealed: sealed}),
			tx.AddConsent(StoredConsent{Consent: team.Consent{ID: "c1", App: "app", AppName: "Parlour", Resource: "x", Created: now}, AgentID: agent.ID, PersonID: ottilie.ID}),
			tx.AddPass(StoredPass{Pass: team.Pass{ID: "p1", Kind: "token", Created: now, Expires: now.Add(time.Hour)}, AgentID: agent.ID, Consent: "c1", Audience: "/mcp/crew"}),
			tx.AddRefresh([]byte("r1"), Refresh{Consent: "c1", Expires: now.Add(time.Hour)}, now),
		} {
			if err != nil {
				return err
			}
		}
		return nil
	})
	write(t, s, func(tx *Tx) error {
		return tx.PutSignIn(StoredSignIn{ID: "s3", ServerID: server.ID, Created: now, Refreshed: now, Sealed: sealed, Scope: "more"})
	})
	rows, err := s.Credentials().SignIns(ctx)
	require.NoError(t, err)
	require.Len(t, rows, 2, "a holder has one sign-in at a server")
	assert.Equal(t, "more", rows[1].Scope+rows[0].Scope)
	list, err := s.Secrets(ctx)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"crew"}, {"crew"}}, [][]string{list[0].UsedBy, list[1].UsedBy})
	assert.Equal(t, "crew:ottilie ottilie team ", list[0].Name+" "+list[0].Owner+" "+list[1].Name+" "+list[1].Owner)

	require.NoError(t, s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.SpendRefresh([]byte("r1"), now) }))
	assert.ErrorIs(
		t,
		s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.SpendRefresh([]byte("r1"), now) }),
		ErrNotFound,
		"of two at once one wins",
	)
	assert.ErrorIs(t, s.Write(ctx, team.Change{}, func(tx *Tx) error { return tx.RemovePerson(ottilie.ID) }), ErrInUse, "she owns an agent")
	write(t, s, func(tx *Tx) error { return tx.RemoveAgent(agent.ID) })
	passes, err := s.Passes(ctx)
	require.NoError(t, err)
	assert.Empty(t, passes)
	_, err = s.Credentials().Refresh(ctx, []byte("r1"))
	assert.ErrorIs(t, err, ErrNotFound)
	write(t, s, func(tx *Tx) error { return tx.RemovePerson(ottilie.ID) })
	rows, err = s.Credentials().SignIns(ctx)
	require.NoError(t, err)
	assert.Len(t, rows, 1, "the team's stays")
	list, err = s.Secrets(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "team", list[0].Name)
	given, err := s.Credentials().Given(ctx)
	require.NoError(t, err)
	assert.Empty(t, given)
	_, err = s.PersonByName(ctx, marit.Name)
	assert.NoError(t, err)
}

// Whatever is sealed is found when keys are exchanged: a place that was forgotten
// would be lost with the old key.
func TestRewrapFindsEverything(t *testing.T) {
	t.Parallel()
	s, marit, _, _, server := peopled(t)
	ctx, now := t.Context(), time.Now()
	sealed := locker.Box{KeyID: "k1", DataKey: []byte("d"), Value: []byte("v")}
	until := now.Add(time.Hour)
	write(t, s, func(tx *Tx) error {
		for _, err := range []error{
			tx.RotateSecret(team.Secret{ID: "k-team", Rotated: &now, Overlap: &until}, sealed),
			tx.PutSignIn(StoredSignIn{ID: "s1", ServerID: server.ID, Created: now, Refreshed: now, Sealed: sealed}),
			tx.PutClient("https://as.example", "http://x/back", locker.Box{ID: "c1", KeyID: "k1", DataKey: []byte("d"), Value: []byte("v")}, now),
			tx.SetIdentity(marit.ID, sealed),
		} {
			if err != nil {
				return err
			}
		}
		return nil
	})
	n := 0
	write(t, s, func(tx *Tx) (err error) {
		n, err = tx.Rewrap(func(_, keyID string, wrapped []byte) (string, []byte, error) {
			assert.Equal(t, "k1 d", keyID+" "+string(wrapped))
			return "k2", []byte("d2"), nil
		})
		return err
	})
	assert.Equal(t, 6, n, "two secrets, a value before, a sign-in, a client and an identity")
	// Every column of that name in the schema, so that a new table cannot be missed.
	columns, err := list(ctx, s.read, func(r scanner) (c [2]string, err error) { return c, r.Scan(&c[0], &c[1]) },
		`SELECT m.name, c.name FROM sqlite_master m, pragma_table_info(m.name) c WHERE m.type = 'table' AND c.name LIKE '%key_id'`)
	require.NoError(t, err)
	require.Len(t, columns, 5)
	for _, c := range columns {
		old, err := first(
			ctx,
			s.read,
			func(r scanner) (n int, err error) { return n, r.Scan(&n) },
			`SELECT count(*) FROM `+c[0]+` WHERE `+c[1]+` = 'k1'`,
		)
		require.NoError(t, err)
		assert.Zero(t, old, "%s.%s", c[0], c[1])
	}
	got, err := s.Credentials().Client(ctx, "https://as.example", "http://x/back")
	require.NoError(t, err)
	assert.Equal(t, locker.Box{ID: "c1", KeyID: "k2", DataKey: []byte("d2"), Value: []byte("v")}, got)
	copied := filepath.Join(t.TempDir(), "copy.db")
	require.NoError(t, s.Backup(ctx, copied))
	again, err := Open(ctx, copied, Options{})
	require.NoError(t, err)
	require.NoError(t, again.Check(ctx))
	require.NoError(t, again.Close())
}

// A database of before credentials is brought up to date with all it holds.
func TestUpgradeKeepsWhatWasThere(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "old.db")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, name := range []string{"0001_start.sql", "0002_processes.sql", "0003_servers.sql"} {
		text, err := os.ReadFile("schema/migrations/" + name)
		require.NoError(t, err)
		_, err = db.Exec(string(text))
		require.NoError(t, err)
	}
	_, err = db.Exec(`PRAGMA user_version = 3;
		INSERT INTO people VALUES ('p1', 'marit', 'Marit Aune', 'admin', 'hash', 0, 1);
		INSERT INTO logins VALUES (x'01', 'p1', 'token', 'laptop', 1, 9999999999999), (x'02', 'p1', 'token', 'desk', 1, 9999999999999);
		INSERT INTO secrets VALUES ('k1', 'sailings-token', 'bearer', 'key', x'01', x'02', 1, NULL);
		INSERT INTO servers (id, name, url, transport, secret, created) VALUES ('s1', 'sailings', 'http://x', 'streamable-http', 'k1', 1);
		INSERT INTO agents VALUES ('a1', 'marit-quill', 'quill', 'p1', 0, 1);
		INSERT INTO passes VALUES ('x1', 'a1', x'03', 'laptop', 'abcd', 1, 9999999999999, NULL, NULL);`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s, err := Open(context.Background(), path, Options{})
	require.NoError(t, err)
	defer s.Close()
	logins, err := s.Logins(t.Context(), time.Now())
	require.NoError(t, err)
	require.Len(t, logins, 2)
	assert.NotEqual(t, logins[0].ID, logins[1].ID, "each can be ended by itself")
	secrets, err := s.Secrets(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "sailings-token [sailings]", secrets[0].Name+" ["+secrets[0].UsedBy[0]+"]")
	passes, err := s.Passes(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "pass", passes[0].Kind)
	server, err := s.ServerByName(t.Context(), "sailings")
	require.NoError(t, err)
	assert.Equal(t, "sailings-token", server.Secret)
}
