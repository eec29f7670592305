package e2e

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A newcomer's hour goes through, command by command.
func TestTheFirstHour(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, pkg := range map[string]string{"bouncer": "../cmd/bouncer", "berths": "../demo/berths", "firsthour": "../demo/firsthour"} {
		out, err := exec.CommandContext(t.Context(), "go", "build", "-o", filepath.Join(dir, name), pkg).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	out, err := exec.CommandContext(t.Context(), filepath.Join(dir, "firsthour")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Regexp(t, `\d+ commands, \d+\.\d s of waiting`, string(out))
}
