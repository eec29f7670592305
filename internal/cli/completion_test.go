package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
)

// What can follow is told from the table of commands, and names as the service knows them.
func TestCompletion(t *testing.T) {
	t.Parallel()
	d := sit(t)
	d.w.Register("sailings", testkit.Upstream(t, testkit.Echo("", nil)), "")
	d.w.Agent("marit-quill")
	for typed, want := range map[string][]string{
		"chec":                         {"checkup"},
		"server re":                    {"register", "remove", "restart", "resume"},
		"server show ":                 {"sailings"},
		"checkup sai":                  {"sailings"},
		"why ":                         {"marit-quill"},
		"why marit-quill --n":          {"--not"},
		"why marit-quill --not ":       {"marit-quill"},
		"checkup --as ":                {"marit-quill"},
		"checkup --all sail":           {"sailings"},
		"tape list --server ":          {"sailings"},
		"completion ":                  {"bash", "fish", "zsh"},
		"server show sailings another": {},
		"nothing of the kind":          {},
	} {
		var got []string
		for range 20 { // whoever types waits for names no longer than half a second, which a busy machine may need more often
			got = strings.Fields(d.ok("", append([]string{"completion", "words", "--"}, strings.Split(typed, " ")...)...))
			if len(got) == len(want) {
				break
			}
		}
		assert.ElementsMatch(t, want, got, typed)
	}
	assert.Contains(t, d.ok("", "completion", "words", "--"), "server\n")
	code, _, errs := d.run(t.Context(), "", "completion", "bsh")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errs, "perhaps bash was meant")
	d.w.Stop()
	assert.Empty(t, d.ok("", "completion", "words", "--", "server", "show", ""), "whoever types is not told that there is no service")
}

// The scripts are scripts: each shell that is there reads its own.
func TestCompletionScriptsAreRead(t *testing.T) {
	t.Parallel()
	for shell, script := range scripts {
		path, err := exec.LookPath(shell)
		if err != nil {
			continue
		}
		file := filepath.Join(t.TempDir(), "script")
		require.NoError(t, os.WriteFile(file, []byte(script), 0o600))
		out, err := exec.Command(path, "-n", file).CombinedOutput()
		assert.NoError(t, err, "%s: %s", shell, out)
	}
}

// Every command has a manual page, and nothing in it is taken for a request.
func TestManual(t *testing.T) {
	t.Parallel()
	d := &desk{t, nil, t.TempDir(), nil}
	dir := filepath.Join(d.dir, "man1")
	assert.Contains(t, d.ok("", "manual", dir), "pages are in")
	files, err := filepath.Glob(filepath.Join(dir, "*.1"))
	require.NoError(t, err)
	assert.Len(t, files, len(commands())+1)
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, line := range strings.Split(string(raw), "\n") {
			if strings.HasPrefix(line, ".") {
				assert.Regexp(t, `^\.(TH|SH|TP|BR?|nf|fi)\b`, line, file)
			}
		}
		assert.Contains(t, string(raw), ".SH NAME\n")
	}
	raw, err := os.ReadFile(filepath.Join(dir, "bouncer-checkup.1"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `\-\-apply`)
}
