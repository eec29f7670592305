package journal_test

import (
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/calls"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
	"bouncer/internal/store"
)

// Whatever is asked of the journal, a member is told of their own calls, and whoever has no role of
// nothing.
func TestPeopleReadWhatTheyMaySee(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
	require.NoError(t, err)
	log := calls.NewWriter(s)
	at := time.Now().UTC().Truncate(time.Hour).Add(-2 * time.Hour)
	var rows []calls.Record
	var ids []string
	for i, person := range []string{"joss", "teo", "joss", "teo", "teo"} {
		key := segment.KeyAt(at.Add(time.Duration(i) * time.Minute))
		ids = append(ids, key.ULID())
		rows = append(rows, calls.Record{Key: key, Call: team.Call{
			ID: key.ULID(), At: key.Time(), Agent: person + "-quill", Person: person, Server: "sailings", Tool: "find_sailings",
			Decision: team.DecisionAdmit, Outcome: team.OutcomeOK, Arguments: "{}", Times: 1,
		}})
	}
	require.NoError(t, log.Append(t.Context(), rows))
	reader := journal.NewReader(log.Log)
	everybody := func(int, int) bool { return true }
	// ask has every question asked, and returns the ids that pages and exports tell, and two counts.
	type told struct {
		page, export []string
		count, added int
	}
	ask := func(by team.Person, q journal.Query) (out told, errs []error) {
		page, err := reader.Calls(t.Context(), by, q)
		errs = append(errs, err)
		for _, c := range page {
			out.page = append(out.page, c.ID)
		}
		errs = append(errs, reader.Export(t.Context(), by, q, func(c team.Call) error {
			out.export = append(out.export, c.ID)
			return nil
		}))
		var err2 error
		out.count, err2 = reader.Count(t.Context(), by, q, everybody)
		errs = append(errs, err2)
		steps, err := reader.Counts(t.Context(), by, q, time.Hour)
		errs = append(errs, err)
		for _, b := range steps {
			out.added += b.OK
		}
		return out, errs
	}
	all, none := journal.Query{}, []error{nil, nil, nil, nil}
	for name, row := range map[string]struct {
		by   team.Person
		q    journal.Query
		want told
	}{
		"an auditor": {team.Person{Name: "ines", Role: team.Auditor}, all,
			told{[]string{ids[4], ids[3], ids[2], ids[1], ids[0]}, ids, 5, 5}},
		"a member": {team.Person{Name: "joss", Role: team.Member}, all,
			told{[]string{ids[2], ids[0]}, []string{ids[0], ids[2]}, 2, 2}},
		"of somebody else": {team.Person{Name: "joss", Role: team.Member}, journal.Query{Person: "teo"}, told{}},
		"after one, in their order": {team.Person{Name: "ines", Role: team.Auditor}, journal.Query{After: ids[0], Before: ids[3]},
			told{[]string{ids[1], ids[2]}, []string{ids[1], ids[2]}, 2, 2}},
		"by agent and time": {team.Person{Name: "ines", Role: team.Auditor},
			journal.Query{Agent: "teo-quill", Since: at.Add(2 * time.Minute), Until: at.Add(4 * time.Minute)},
			told{[]string{ids[3]}, []string{ids[3]}, 1, 1}},
	} {
		got, errs := ask(row.by, row.q)
		assert.Equal(t, none, errs, name)
		assert.Equal(t, row.want, got, name)
	}
	var wrong *team.FieldError
	_, err = reader.Counts(t.Context(), team.Person{Role: team.Admin}, journal.Query{Since: time.Now().Add(-1001 * time.Second)}, time.Second)
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, "step", wrong.Field)
	_, err = reader.Counts(t.Context(), team.Person{Role: team.Admin}, journal.Query{Since: time.Now().Add(-990 * time.Second)}, time.Second)
	require.NoError(t, err)
	page, err := reader.Calls(t.Context(), team.Person{Role: team.Admin}, journal.Query{Limit: 2})
	require.NoError(t, err)
	assert.Len(t, page, 2)

	_, errs := ask(team.Person{Name: "joss", Role: "guest"}, all)
	for _, err := range errs {
		var missing *team.NotFoundError
		assert.ErrorAs(t, err, &missing, "whoever may see none")
	}
	for field, q := range map[string]journal.Query{"before": {Before: "noon"}, "after": {After: "noon"}} {
		_, errs := ask(team.Person{Role: team.Admin}, q)
		for _, err := range errs {
			var wrong *team.FieldError
			require.ErrorAs(t, err, &wrong)
			assert.Equal(t, field, wrong.Field)
		}
	}

	own, err := reader.Call(t.Context(), team.Person{Name: "joss", Role: team.Member}, ids[0])
	require.NoError(t, err)
	assert.Equal(t, "joss {}", own.Person+" "+own.Arguments)
	for name, id := range map[string]string{"somebody else's": ids[1], "none": segment.KeyAt(at.Add(time.Hour)).ULID(), "no id": "noon"} {
		c, err := reader.Call(t.Context(), team.Person{Name: "joss", Role: team.Member}, id)
		var missing *team.NotFoundError
		require.ErrorAs(t, err, &missing, name)
		assert.Equal(t, id, missing.Name, "which is told alike, whether it is there or not")
		assert.Empty(t, c.ID)
	}

	// What cannot be read is an error, and no short answer.
	stopped := errors.New("the client is gone")
	assert.ErrorIs(t, reader.Export(t.Context(), team.Person{Role: team.Admin}, all, func(team.Call) error { return stopped }), stopped)
	require.NoError(t, s.Close())
	_, errs = ask(team.Person{Role: team.Admin}, all)
	for _, err := range errs {
		assert.Error(t, err)
	}
	_, err = reader.Call(t.Context(), team.Person{Role: team.Admin}, ids[0])
	assert.Error(t, err)
}
