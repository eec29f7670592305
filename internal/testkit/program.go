package testkit

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// scriptServer is a tool server of a few lines, whose one tool answers with the id of
// its process.
const scriptServer = `#!/bin/sh
while read -r line; do
  id=$(printf '%s' "$line" | sed -n 's/.*"id":\([0-9]*\).*/\1/p')
  case "$line" in
  *'"initialize"'*) printf '{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25",' "$id"
    printf '"capabilities":{"tools":{}},"serverInfo":{"name":"s","version":"1"}}}\n' ;;
  *'"tools/list"'*) printf '{"jsonrpc":"2.0","id":%s,"result":{"tools":[{"name":"TOOL","inputSchema":{"type":"object"}}]}}\n' "$id" ;;
  *'"tools/call"'*) printf '{"jsonrpc":"2.0","id":%s,"result":{"content":[{"type":"text","text":"%s"}]}}\n' "$id" "$$" ;;
  esac
done
`

// Program is the path of a tool server that is a script with one tool. Rewrite makes
// another one of it.
func Program(t *testing.T, tool string) string {
	path := filepath.Join(t.TempDir(), "server.sh")
	Rewrite(t, path, tool)
	return path
}

// Rewrite writes the script anew, with another tool; with none it is a script that
// ends at once.
func Rewrite(t *testing.T, path, tool string) {
	t.Helper()
	body := strings.Replace(scriptServer, "TOOL", tool, 1)
	if tool == "" {
		body = "#!/bin/sh\necho 'the module harbour is not found' >&2\nexit 3\n"
	}
	fresh := path + ".new"
	require.NoError(t, os.WriteFile(fresh, []byte(body), 0o700)) //nolint:gosec // it is started
	require.NoError(t, os.Rename(fresh, path))
}

// Runner is the path of a program that behaves like a package runner: it writes what it
// is fetching to standard error, and becomes the tool server when gate exists. Its
// process id is in the file pid.
func Runner(t *testing.T) (path, gate, pid string) {
	dir := t.TempDir()
	path, gate, pid = filepath.Join(dir, "runner.sh"), filepath.Join(dir, "gate"), filepath.Join(dir, "pid")
	body := "#!/bin/sh\necho $$ > " + pid + "\necho 'fetching package 3 of 12' >&2\n" +
		"while [ ! -e " + gate + " ]; do sleep 0.05; done\nexec " + Program(t, "moor") + "\n"
	require.NoError(t, os.WriteFile(path, []byte(body), 0o700)) //nolint:gosec // it is started
	return path, gate, pid
}
