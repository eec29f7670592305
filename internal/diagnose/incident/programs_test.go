package incident

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
)

// A program or a script that was written before a server began to fail is suspected; what
// was written at another time, or is no file of it, is not.
func TestAlteredPrograms(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	write := func(name string, at time.Time) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"), 0o700))
		require.NoError(t, os.Chtimes(path, at, at))
		return path
	}
	program := write("berths", now.Add(-10*time.Minute))
	write("server.js", now.Add(-5*time.Minute))
	write("old.js", now.Add(-48*time.Hour))
	write("later.js", now.Add(time.Hour))
	from, to := now.Add(-time.Hour), now
	files := func(s team.Server) (out []string) {
		for _, one := range altered(s, from, to) {
			out = append(out, one.What)
			assert.Greater(t, one.weight, 90, "more than a rule, less than its own settings")
			assert.Less(t, one.weight, 100)
		}
		return out
	}
	assert.Equal(t, []string{"the file " + program + " was written"}, files(team.Server{Command: program, Args: []string{program, "--stdio"}}))
	script := team.Server{Command: "sh", Dir: dir, Args: []string{"server.js", "old.js", "later.js", "missing.js", "-server.js", dir}}
	assert.Equal(t, []string{"the file " + filepath.Join(dir, "server.js") + " was written"}, files(script))
	script.Dir = ""
	assert.Empty(t, files(script), "relative to nothing that is known")
	assert.Empty(t, files(team.Server{Command: "no-such-command-here"}))
	assert.Empty(t, files(team.Server{URL: "http://127.0.0.1:4701/mcp"}))
}
