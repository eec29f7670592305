package access

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/core/team"
)

func TestScopesReachAsFarAsTheySay(t *testing.T) {
	t.Parallel()
	ottilie := team.Person{Name: "ottilie", Role: team.Member}
	joss := team.Person{Name: "joss", Role: team.Maintainer}
	marit := team.Person{Name: "marit", Role: team.Admin}
	wren := team.Person{Name: "wren", Role: team.Auditor}
	for name, row := range map[string]struct {
		by     team.Person
		action Action
		owner  string
		want   bool
	}{
		"her own agent":                     {ottilie, KeepAgents, "ottilie", true},
		"somebody else's":                   {ottilie, KeepAgents, "teo", false},
		"the team's is not hers":            {ottilie, SeeAgents, "", false},
		"a maintainer keeps all":            {joss, KeepAgents, "ottilie", true},
		"but speaks for none of others":     {joss, SpeakForAgents, "ottilie", false},
		"for the team's he does":            {joss, SpeakForAgents, "", true},
		"for his own he does":               {joss, SupplyAgents, "joss", true},
		"not even an admin speaks for hers": {marit, SpeakForAgents, "ottilie", false},
		"nor replaces what is hers":         {marit, RotateSecrets, "ottilie", false},
		"but may end it":                    {marit, RemoveSecrets, "ottilie", true},
		"a maintainer may not":              {joss, RemoveSecrets, "ottilie", false},
		"an auditor sees":                   {wren, SeeCalls, "ottilie", true},
		"and alters nothing":                {wren, KeepAgents, "wren", false},
		"what is in no row is nobody's":     {marit, "agents.eat", "", false},
		"nobody without a role":             {team.Person{Name: "x"}, SeePeople, "", false},
	} {
		assert.Equal(t, row.want, May(row.by, row.action, row.owner), name)
	}
	assert.Equal(t, []team.Role{team.Admin, team.Maintainer}, Roles(KeepServers))
	assert.Equal(t, Own, Of(team.Member)[SeeCalls])
	assert.NotContains(t, Of(team.Member), KeepServers)
}

// Whoever alters nothing alters nothing: an auditor's row holds what is seen alone.
func TestAuditorsAlterNothing(t *testing.T) {
	t.Parallel()
	seen := map[Action]bool{
		SeePeople: true, SeeLogins: true, EndLogins: true, SeeServers: true, SeeAgents: true, SeeRules: true, SeeSecrets: true,
		SeeSignIns: true, SeeConsents: true, SeeCalls: true, SeeChanges: true, SeeService: true, SeeHeld: true,
	}
	rows := map[Action]bool{}
	for _, r := range Table {
		assert.False(t, rows[r.Action], "%s has one row", r.Action)
		rows[r.Action] = true
		assert.Equal(t, seen[r.Action], r.Auditor != None, r.Action)
		assert.Equal(t, r.Action == EndLogins, r.Auditor == Own && r.Action != SeeLogins, "%s: their own logins are theirs to end", r.Action)
		assert.NotEqual(t, None, r.Admin, "%s: somebody must be able to", r.Action)
	}
}

func TestWhoseCallsAreSeen(t *testing.T) {
	t.Parallel()
	calls := []team.Call{{ID: "1", Person: "ottilie"}, {ID: "2"}, {ID: "3", Person: "joss"}}
	for role, want := range map[team.Role]int{team.Admin: 3, team.Auditor: 3, team.Maintainer: 3, team.Member: 1, "": 0} {
		seen := Visible(calls, team.Person{Name: "ottilie", Role: role})
		assert.Len(t, seen, want, role)
		if want == 1 {
			assert.Equal(t, "1", seen[0].ID)
		}
	}
}
