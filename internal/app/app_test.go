package app

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"bouncer/internal/login"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSettingsComeInTheirOrder(t *testing.T) {
	file := filepath.Join(t.TempDir(), "b.yaml")
	require.NoError(
		t,
		os.WriteFile(file, []byte("listen: 127.0.0.1:1\njournal: strict\ncall-timeout: 10s\n# a comment\nbody-limit: 2048\n"), 0o600),
	)
	env := map[string]string{"BOUNCER_LISTEN": "127.0.0.1:2", "BOUNCER_CALL_TIMEOUT": "20s"}
	s, err := LoadSettings(map[string]string{"listen": "127.0.0.1:3", "data": "/d"}, func(k string) string { return env[k] }, file)
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:3", s.Listen, "a flag comes first")
	assert.Equal(t, 20*time.Second, s.CallTimeout, "then the environment")
	assert.Equal(t, "strict 2048", fmt.Sprint(s.Journal, " ", s.BodyLimit), "then the file")
	assert.Equal(t, "text", s.LogFormat, "then the default")
	assert.Equal(t, "/d/locker.keys", s.Keys)
	none := func(string) string { return "" }
	_, err = LoadSettings(nil, none, "")
	require.NoError(t, err, "every default is acceptable")
	for _, set := range Table() {
		assert.NotEmpty(t, set.Help, set.Key)
	}
}

func TestBadSettingsNameTheKey(t *testing.T) {
	dir := t.TempDir()
	for name, row := range map[string]struct {
		key, value, file string
		says             []string
	}{
		"an unknown key":     {"", "", "lisen: x\n", []string{"setting lisen", "unknown (line 1)", "listen, data"}},
		"a list":             {"", "", "listen: [a]\n", []string{"setting listen", "single value"}},
		"no map":             {"", "", "- a\n", []string{"setting config", "not a YAML map"}},
		"a broken file":      {"", "", "listen: \"x\n", []string{"setting config"}},
		"a listen without":   {"listen", "4680", "", []string{"setting listen (flag --listen)", "host:port"}},
		"an empty data":      {"data", "", "", []string{"setting data", "directory"}},
		"a time in words":    {"call-timeout", "soon", "", []string{"setting call-timeout", "like 90s"}},
		"a time too short":   {"poll", "1ms", "", []string{"setting poll", "from 1s"}},
		"a URL with a path":  {"public-url", "https://x.example/y", "", []string{"setting public-url", "without a path"}},
		"an unknown level":   {"log-level", "loud", "", []string{"setting log-level", "debug, info"}},
		"an unknown format":  {"log-format", "xml", "", []string{"setting log-format", "text or json"}},
		"a size out of hand": {"message-limit", "99999999999", "", []string{"setting message-limit", "bytes from"}},
	} {
		t.Run(name, func(t *testing.T) {
			file, flags := "", map[string]string{}
			if row.file != "" {
				file = filepath.Join(dir, strings.ReplaceAll(name, " ", "-")+".yaml")
				require.NoError(t, os.WriteFile(file, []byte(row.file), 0o600))
			}
			if row.key != "" {
				flags[row.key] = row.value
			}
			_, err := LoadSettings(flags, func(string) string { return "" }, file)
			var se *SettingError
			require.ErrorAs(t, err, &se)
			for _, want := range row.says {
				assert.Contains(t, err.Error(), want)
			}
		})
	}
	_, err := LoadSettings(nil, func(string) string { return "" }, filepath.Join(dir, "nowhere.yaml"))
	assert.ErrorContains(t, err, "cannot be read")
}

// Whoever asks and never reads the answers does not hold a connection for ever.
func TestAReaderThatTakesNothingIsCutOff(t *testing.T) {
	t.Parallel()
	s, err := LoadSettings(map[string]string{
		"data": t.TempDir(), "listen": "127.0.0.1:0", "call-timeout": "1s", "process-user": strconv.Itoa(os.Getuid()), "disk-reserve": "0",
	}, func(string) string { return "" }, "")
	require.NoError(t, err)
	s.WriteTime = 100 * time.Millisecond
	s.PasswordCost = login.Cost{Passes: 1, MemoryKiB: 64, Threads: 1}
	svc, err := Start(t.Context(), s, io.Discard)
	require.NoError(t, err)
	defer svc.Stop(context.WithoutCancel(t.Context()))
	conn, err := net.Dial("tcp", strings.TrimPrefix(svc.Address, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetWriteDeadline(time.Now().Add(time.Minute)))
	ask := []byte(strings.Repeat("GET /api/openapi.json HTTP/1.1\r\nHost: localhost\r\n\r\n", 100))
	for err == nil {
		_, err = conn.Write(ask)
	}
	assert.NotErrorIs(t, err, os.ErrDeadlineExceeded, "the service has closed it")
}

// A process that is being started holds a copy of every open file for a moment.
func TestTheLockIsGivenBackWhoeverHoldsACopyOfIt(t *testing.T) {
	dir := t.TempDir()
	first, err := openData(dir)
	require.NoError(t, err)
	_, err = openData(dir)
	require.ErrorContains(t, err, "in use by another bouncer serve")
	held, err := syscall.Dup(int(first.Fd()))
	require.NoError(t, err)
	defer func() { _ = syscall.Close(held) }()
	(&Service{lock: first}).releaseData()
	second, err := openData(dir)
	require.NoError(t, err)
	require.NoError(t, second.Close())
}
