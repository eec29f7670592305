package cli

import (
	"bytes"
	"context"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/app"
)

// serveWith runs bouncer serve until the context ends, and returns once it listens.
func serveWith(t *testing.T, stdin string, env map[string]string, args ...string) (base string, stop func() (int, string)) {
	ctx, cancel := context.WithCancel(t.Context())
	var out, errs locked
	e := &Env{
		In: strings.NewReader(stdin), Out: &out, Err: &errs, Getenv: func(k string) string { return env[k] },
		Terminal: func() bool { return false }, Width: func() int { return 0 }, ConfigDir: t.TempDir(),
	}
	done := make(chan int, 1)
	go func() { done <- Main(ctx, e, append([]string{"serve"}, args...)) }()
	listening := regexp.MustCompile(`listening on (\S+)`)
	require.Eventually(t, func() bool { return listening.MatchString(out.String()) || len(done) > 0 }, time.Minute, 10*time.Millisecond)
	if m := listening.FindStringSubmatch(out.String()); m != nil {
		base = m[1]
	}
	return base, func() (int, string) {
		cancel()
		return <-done, out.String() + errs.String()
	}
}

// A first start can be scripted: the first admin's password comes from a file, the
// environment or standard input, and is never shown.
func TestAScriptedFirstStart(t *testing.T) {
	file := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(file, []byte("seven-tides-turning\n"), 0o600))
	for name, row := range map[string]struct {
		setting, stdin string
		env            map[string]string
	}{
		"a file":              {"file " + file, "", nil},
		"standard input":      {"stdin", "seven-tides-turning\n", nil},
		"a setting by a file": {"", "", map[string]string{"BOUNCER_FIRST_PASSWORD": "file " + file}},
	} {
		args := []string{"--data", t.TempDir(), "--listen", "127.0.0.1:0", "--first-admin", "marit"}
		if row.setting != "" {
			args = append(args, "--first-password", row.setting)
		}
		base, stop := serveWith(t, row.stdin, row.env, args...)
		require.NotEmpty(t, base, name)
		d := &desk{t: t, dir: t.TempDir(), env: map[string]string{}}
		assert.Contains(t, d.ok("seven-tides-turning", "login", "--person", "marit", "--address", base), "as marit (admin)", name)
		code, said := stop()
		assert.Zero(t, code)
		assert.NotContains(t, said, "seven-tides-turning")
		assert.NotContains(t, said, "one-time password")
	}
	for setting, says := range map[string]string{
		"seven-tides-turning": "the password itself does not belong here",
		"env NO_SUCH_VAR":     "NO_SUCH_VAR",
		"stdin":               "is shorter than 10 characters",
	} {
		_, stop := serveWith(t, "short", nil, "--data", t.TempDir(), "--listen", "127.0.0.1:0", "--first-password", setting)
		code, said := stop()
		assert.NotZero(t, code)
		assert.Contains(t, said, says)
	}
}

// Settings can be looked at before they are used, and the example has no others.
func TestSettingsAreExamined(t *testing.T) {
	d := &desk{t: t, dir: t.TempDir(), env: map[string]string{"BOUNCER_JOURNAL_DAYS": "30"}}
	data := filepath.Join(d.dir, "data")
	out := d.ok("", "serve", "--check", "--data", data, "--listen", "127.0.0.1:0", "--public-url", "http://bouncer.skerrow.example")
	assert.Regexp(t, `journal-days +30 +environment BOUNCER_JOURNAL_DAYS`, out)
	assert.Regexp(t, `poll +1m +default`, out)
	assert.Contains(t, out, "in clear: passwords and passes can be read on the way")
	assert.Contains(t, out, "would start with this")
	_, err := os.Stat(filepath.Join(data, "bouncer.db"))
	assert.ErrorIs(t, err, os.ErrNotExist, "nothing was started")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	for _, row := range []struct{ flag, value, says string }{
		{"--listen", l.Addr().String(), "address already in use"},
		{"--journal-days", "many", "journal-days"},
		{"--data", "/proc/nothing-here", "cannot be made"},
	} {
		code, _, errs := d.run(t.Context(), "", "serve", "--check", "--data", data, "--listen", "127.0.0.1:0", row.flag, row.value)
		assert.NotZero(t, code)
		assert.Contains(t, errs, row.says)
	}
	raw, err := os.ReadFile(filepath.Join("..", "..", "packaging", "files", "bouncer.env"))
	require.NoError(t, err)
	known := map[string]bool{}
	for _, s := range app.Table() {
		known[s.Env()] = true
	}
	for _, m := range regexp.MustCompile(`(?m)^#?(BOUNCER_[A-Z_]+)=`).FindAllStringSubmatch(string(raw), -1) {
		assert.True(t, known[m[1]], m[1])
	}
	unit, err := os.ReadFile(filepath.Join("..", "..", "packaging", "files", "bouncer.service"))
	require.NoError(t, err)
	assert.True(t, bytes.Contains(unit, []byte("ExecStartPre=/usr/bin/bouncer serve --check\n")))
}
