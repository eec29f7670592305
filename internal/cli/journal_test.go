package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/core/team"
)

// The journal of each node is told of by its name, the first that was altered ends the command, and a
// head of a node that did not answer is not taken for one that fits.
func TestWhatAVerificationEndsWith(t *testing.T) {
	t.Parallel()
	whole := func(node string, others ...team.ChainState) team.ChainState {
		return team.ChainState{Node: node, Whole: true, Seals: 3, Others: others}
	}
	headOf := func(node string) team.SignedHead {
		return team.SignedHead{Node: node, ChainHead: team.ChainHead{Seal: 4}}
	}
	for name, row := range map[string]struct {
		found team.ChainState
		kept  team.SignedHead
		says  string
	}{
		"one node":                    {whole(""), team.SignedHead{}, ""},
		"one node, altered":           {team.ChainState{}, team.SignedHead{}, "the journal was altered"},
		"one node, a head":            {whole(""), headOf(""), ""},
		"one node that was of more":   {whole(""), headOf("north"), ""},
		"several":                     {whole("north", whole("south")), team.SignedHead{}, ""},
		"several, another altered":    {whole("north", team.ChainState{Node: "south"}), team.SignedHead{}, "the journal of south was altered"},
		"several, a head of another":  {whole("north", whole("south")), headOf("south"), ""},
		"several, a head of one gone": {whole("north", whole("south")), headOf("west"), "the head is that of the journal of west, which was not verified: that node did not answer"},
		"several, an older head":      {whole("north", whole("south")), headOf(""), ""},
	} {
		err := verdictOf(row.found, row.kept)
		if row.says == "" {
			assert.NoError(t, err, name)
			continue
		}
		assert.EqualError(t, err, row.says, name)
	}
	var out strings.Builder
	v := view{&task{Env: &Env{Out: &out}}}
	assert.NoError(t, v.showChain(whole("north", team.ChainState{Node: "south", Problems: []team.ChainProblem{{Seal: 7, What: "calls are missing"}}})))
	assert.Contains(t, out.String(), "the journal of north is whole")
	assert.NoError(t, v.showChain(team.ChainState{Node: "west", Whole: true}))
	assert.Contains(t, out.String(), "the journal of west has no sealed calls yet")
	assert.Contains(t, out.String(), "the journal of south was altered\n  seal 7 of ")
}
