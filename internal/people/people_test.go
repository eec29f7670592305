package people_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// The team keeps an admin, nobody removes themselves, and whoever owns agents hands them
// over first.
func TestWhoCanGo(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	for _, row := range []struct {
		method, path string
		in           any
		status       int
		says         string
	}{
		{"PATCH", "/api/people/marit", testkit.Obj{"role": "member"}, http.StatusConflict, "last admin"},
		{"DELETE", "/api/people/marit", nil, http.StatusConflict, "last admin"},
		{"PATCH", "/api/people/nobody", testkit.Obj{"role": "member"}, http.StatusNotFound, `no person "nobody"`},
		{"DELETE", "/api/people/nobody", nil, http.StatusNotFound, `no person "nobody"`},
	} {
		p := w.Problem(row.method, row.path, row.in)
		assert.Equal(t, row.status, p.Status, row.path)
		assert.Contains(t, p.Title, row.says)
	}
	joss := w.Person("joss", "Joss Penhale", team.Admin)
	p := w.Problem("DELETE", "/api/people/marit", nil)
	assert.Contains(t, p.Title, "yourself")
	w.MustAs(joss, "POST", "/api/agents", testkit.Obj{"name": "marit-quill", "owner": "marit"}, nil)
	p = w.ProblemAs(joss, "DELETE", "/api/people/marit", nil)
	assert.Equal(t, http.StatusConflict, p.Status)
	assert.Contains(t, p.Title, "still owns agents")
	w.MustAs(joss, "PATCH", "/api/agents/marit-quill", testkit.Obj{"owner": ""}, nil)
	w.MustAs(joss, "DELETE", "/api/people/marit", nil, nil)
	status, _ := w.Do(w.Token, "GET", "/api/session", nil)
	assert.Equal(t, http.StatusUnauthorized, status, "the logins are gone with the person")
}

// What is altered of a person is checked, and nobody overwrites what somebody else
// altered meanwhile.
func TestAlteringAPerson(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Person("ottilie", "Ottilie Brandt", team.Member)
	for field, in := range map[string]testkit.Obj{
		"role": {"role": "captain"}, "fullName": {"fullName": strings.Repeat("x", 101)}, "version": {"fullName": "O", "version": 99},
	} {
		p := w.Problem("PATCH", "/api/people/ottilie", in)
		assert.Equal(t, field, p.Field, in)
	}
	assert.Equal(t, "fullName", w.Problem("PATCH", "/api/people/ottilie", testkit.Obj{"fullName": "  "}).Field)
	var p team.Person
	w.Must("PATCH", "/api/people/ottilie", testkit.Obj{"fullName": " Ottilie Brand ", "role": "auditor"}, &p)
	assert.Equal(t, "Ottilie Brand auditor", p.FullName+" "+string(p.Role))
	var list []team.Person
	w.Must("GET", "/api/people", nil, &list)
	require.Len(t, list, 2)
	version := p.Version
	w.Must("PATCH", "/api/people/ottilie", testkit.Obj{"role": "member", "version": version}, nil)
	assert.Equal(t, "version", w.Problem("PATCH", "/api/people/ottilie", testkit.Obj{"role": "auditor", "version": version}).Field)
}
