package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/quill"
)

// A newcomer's machine, with nothing on it, is enrolled by a code: no login, no rights,
// and a call that is admitted. The code works once, and for whom it was made.
func TestAnotherMachineIsInvited(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	d.w.Rule("admit", "marit-*", "echo", "echo")
	out := d.ok("", "agent", "invite", "marit-laptop", "--valid", "2h")
	m := regexp.MustCompile(`bouncer enrol --address (\S+) --invite (bnm_\S+) --config FILE`).FindStringSubmatch(out)
	require.NotNil(t, m, out)
	other := &desk{t, d.w, t.TempDir(), map[string]string{}}
	config := filepath.Join(other.dir, "quill.json")
	args := []string{"enrol", "--address", m[1], "--invite", m[2], "--config", config}

	_, _, errs := other.run(t.Context(), "", append(args, "--dry-run")...)
	assert.Contains(t, errs, "+  \"mcpServers\"")
	assert.Contains(t, d.ok("", "agent", "invitations"), "open", "looking does not use it")
	code, _, errs := other.run(t.Context(), "", append(args[:5:5], "--config", filepath.Join(other.dir, "no", "where.json"), "--yes")...)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "no such file")
	assert.Contains(t, d.ok("", "agent", "invitations"), "open", "what fails before does not use it")
	out = other.ok("", append(args, "--yes")...)
	assert.Contains(t, out, "marit-laptop is enrolled")
	assert.Regexp(t, `marit-laptop +used +marit .* 127\.0\.0\.1`, d.ok("", "agent", "invitations"))
	list, err := quill.Load(config)
	require.NoError(t, err)
	require.NoError(t, list[0].Connect(t.Context()))
	text, err := list[0].Call(t.Context(), quill.Step{Tool: "echo__echo", Arguments: map[string]any{"text": "ahoy"}})
	require.NoError(t, err)
	assert.Contains(t, text, "ahoy")

	code, _, errs = other.run(t.Context(), "", append(args, "--yes")...)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "was used already")
	other.ok("", "enrol", "--address", m[1], "--undo", "--config", config, "--yes")
	assert.ErrorContains(t, list[0].List(t.Context()), "revoked", "the pass was given back, without a login")
	_, err = os.Stat(config)
	assert.ErrorIs(t, err, os.ErrNotExist, "there was no file before")

	// Nobody makes a code for somebody else's agent, and what was taken back opens nothing.
	ottilie := d.w.Person("ottilie", "Ottilie Brandt", team.Member)
	p := d.w.ProblemAs(ottilie, "POST", "/api/machine-codes", testkit.Obj{"agent": "kiosk", "team": true})
	assert.Equal(t, 403, p.Status)
	d.w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-parlour", "owner": "ottilie"}, nil)
	p = d.w.Problem("POST", "/api/machine-codes", testkit.Obj{"agent": "ottilie-parlour"})
	assert.Equal(t, 403, p.Status, "not even an admin: the pass would act with her sign-ins")
	var made struct {
		Invitation team.MachineCode
		Code       string
	}
	d.w.MustAs(ottilie, "POST", "/api/machine-codes", testkit.Obj{"agent": "ottilie-parlour"}, &made)
	d.ok("", "agent", "invitations", "--withdraw", made.Invitation.ID)
	code, _, errs = other.run(t.Context(), "", "enrol", "--address", m[1], "--invite", made.Code, "--config", config, "--yes")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "not known")
}
