package machine_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

type invited struct {
	Invitation team.MachineCode
	Code       string
}

// A code does what its maker may do at the moment when it is used, and no more.
func TestACodeIsWorthWhatItsMakerMay(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	joss := w.Person("joss", "Joss Penhale", team.Maintainer)
	redeem := func(code string) (int, []byte) {
		return w.Do("", "POST", "/api/machine-codes/redeem", testkit.Obj{"code": code, "host": "quay-2"})
	}
	var kiosk, own, late invited
	w.MustAs(joss, "POST", "/api/machine-codes", testkit.Obj{"agent": "kiosk", "team": true}, &kiosk)
	w.MustAs(joss, "POST", "/api/machine-codes", testkit.Obj{"agent": "joss-laptop"}, &own)
	w.MustAs(joss, "POST", "/api/machine-codes", testkit.Obj{"agent": "late"}, &late)
	w.Must("PATCH", "/api/people/joss", testkit.Obj{"role": "member"}, nil)
	status, raw := redeem(kiosk.Code)
	assert.NotEqual(t, http.StatusCreated, status, "a member makes no agent of the team: %s", raw)
	status, raw = redeem(own.Code)
	require.Equal(t, http.StatusCreated, status, "%s", raw)
	var a team.Agent
	w.Must("GET", "/api/agents/joss-laptop", nil, &a)
	assert.Equal(t, "joss 1", a.Owner+" "+string(rune('0'+a.Passes)))
	assert.False(t, a.Confirmed, "a member stands for no name")

	// What failed can be tried again once it is mended; what was used cannot.
	w.Must("PATCH", "/api/people/joss", testkit.Obj{"role": "maintainer"}, nil)
	status, raw = redeem(kiosk.Code)
	require.Equal(t, http.StatusCreated, status, "%s", raw)
	status, _ = redeem(kiosk.Code)
	assert.Equal(t, http.StatusConflict, status)

	for _, name := range []string{"joss-laptop", "kiosk"} {
		w.Must("DELETE", "/api/agents/"+name, nil, nil)
	}
	w.Must("DELETE", "/api/people/joss", nil, nil)
	status, _ = redeem(late.Code)
	assert.Equal(t, http.StatusConflict, status, "whoever is gone invites nobody")
	for range 40 {
		status, _ = redeem("bnm_guess")
	}
	assert.Equal(t, http.StatusTooManyRequests, status, "nobody guesses for long")
}
