package e2e

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/lostproperty"
)

var update = flag.Bool("update", false, "write docs/matrix.md anew")

// step is one thing that an agent is told to do.
type step struct {
	Do       string      `json:"do"` // tools, call, read, prompt
	Name     string      `json:"name,omitempty"`
	Args     testkit.Obj `json:"args,omitempty"`
	Progress bool        `json:"progress,omitempty"`
}

// came is what came of a step.
type came struct {
	Text     string
	Progress int
	Error    string
}

// agentKind is an agent of one revision.
type agentKind struct {
	name     string
	revision string
	run      func(t *testing.T, w *testkit.World, path, pass string, steps []step) []came
}

// feature is a column of the table: a step, and what its answer has to hold. An
// agent that cannot do it, or a server that has it not, is told why instead.
type feature struct {
	name string
	step step
	want string
	asks bool // the server asks the agent something
}

// matrixServer is a server of one kind.
type matrixServer struct {
	name     string
	speaks   string // transport and revision, as Bouncer found out
	register func(t *testing.T, w *testkit.World)
	features []feature
}

const tooOld = "this revision has no elicitation"

func TestMatrix(t *testing.T) {
	t.Parallel()
	bin := filepath.Join(t.TempDir(), "everything")
	build, err := exec.Command("go", "build", "-o", bin, "github.com/modelcontextprotocol/go-sdk/conformance/everything-server").
		CombinedOutput()
	require.NoError(t, err, "%s", build)
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "log.txt"), []byte("fog over the harbour"), 0o600))
	everything := npmServer(t, "server-everything")
	suite := func(ask string) []feature {
		return []feature{
			{"call", step{Do: "call", Name: "test_simple_text"}, "simple text response", false},
			{"progress", step{Do: "call", Name: "test_tool_with_progress", Progress: true}, "", false},
			{"audio", step{Do: "call", Name: "test_audio_content"}, "audio", false},
			{"resource", step{Do: "read", Name: "bouncer:it/test://template/7/data"}, "Data for ID: 7", false},
			{
				"prompt",
				step{Do: "prompt", Name: "test_prompt_with_arguments", Args: testkit.Obj{"arg1": "one", "arg2": "two"}},
				"arg2='two'",
				false,
			},
			{"elicitation", step{Do: "call", Name: ask, Args: testkit.Obj{"message": "who?"}}, "Teo", true},
		}
	}
	reference := []feature{
		{"call", step{Do: "call", Name: "echo", Args: testkit.Obj{"message": "ahoy"}}, "Echo: ahoy", false},
		{
			"progress",
			step{Do: "call", Name: "trigger-long-running-operation", Args: testkit.Obj{"duration": 0.2, "steps": 2}, Progress: true},
			"",
			false,
		},
		{"resource", step{Do: "read", Name: "bouncer:it/demo://resource/dynamic/text/1"}, "Resource 1", false},
		{"prompt", step{Do: "prompt", Name: "simple-prompt"}, "simple prompt", false},
	}
	over := func(in testkit.Obj) func(*testing.T, *testkit.World) {
		return func(t *testing.T, w *testkit.World) { in["name"] = "it"; w.Must("POST", "/api/servers", in, nil) }
	}
	at := func(path string, env []string, name string, args ...string) func(*testing.T, *testkit.World) {
		return func(t *testing.T, w *testkit.World) {
			w.Register("it", "http://"+program(t, env, name, args...)+path, "")
		}
	}
	standin := func(h http.Handler, path, token string) func(*testing.T, *testkit.World) {
		return func(t *testing.T, w *testkit.World) {
			w.Register("it", strings.TrimSuffix(testkit.Upstream(t, h), "/mcp")+path, token)
		}
	}
	servers := []matrixServer{
		{
			"Go SDK, sessions",
			"streamable-http 2025-11-25",
			at("/mcp", nil, bin, "-http", "127.0.0.1:$PORT", "-stateless=false"),
			suite("test_elicitation"),
		},
		{
			"Go SDK, stateless",
			"streamable-http 2026-07-28",
			at("/mcp", nil, bin, "-http", "127.0.0.1:$PORT", "-stateless=true"),
			suite("test_input_required_result_elicitation"),
		},
		{"npm 2.x, both eras", "streamable-http 2026-07-28", at("/mcp", nil, "node", "peers/fixture.mjs", "$PORT"), suite("")[:5]},
		{
			"npm 1.x, streamable HTTP",
			"streamable-http 2025-11-25",
			at("/mcp", []string{"PORT=$PORT"}, "node", everything, "streamableHttp"),
			reference,
		},
		{"npm 1.x, event stream", "sse 2025-11-25", at("/sse", []string{"PORT=$PORT"}, "node", everything, "sse"), reference},
		{
			"npm 1.x, local process",
			"stdio 2025-11-25",
			over(testkit.Obj{"command": "node", "args": []string{everything, "stdio"}}),
			reference,
		},
		{
			"files, local process",
			"stdio 2025-11-25",
			over(testkit.Obj{"command": "node", "args": []string{npmServer(t, "server-filesystem"), dir}}),
			[]feature{
				{
					"call",
					step{Do: "call", Name: "read_text_file", Args: testkit.Obj{"path": filepath.Join(dir, "log.txt")}},
					"fog over the harbour",
					false,
				},
			},
		},
		{"tannoy, event stream", "sse 2024-11-05", standin(ferries.Tannoy("").Legacy(), "/sse", ""), []feature{
			{"call", step{Do: "call", Name: "announce", Args: testkit.Obj{"text": "mind the gap"}}, "said: mind the gap", false},
		}},
		{"tides, stateless", "streamable-http 2026-07-28", standin(ferries.Tides().Stateless(), "/mcp", ""), []feature{
			{"call", step{Do: "call", Name: "tide_table", Args: testkit.Obj{"harbour": "Skerrow"}}, "high", false},
			{"resource", step{Do: "read", Name: "bouncer:it/chart://notes/tarn"}, "No dangers", false},
			{"prompt", step{Do: "prompt", Name: "passage_plan", Args: testkit.Obj{"harbour": "Tarn Head"}}, "to Tarn Head", false},
		}},
		{"lost-property, REST", "rest ", func(t *testing.T, w *testkit.World) {
			base := strings.TrimSuffix(testkit.Upstream(t, lostproperty.New("key-0123456789")), "/mcp")
			w.Must(
				"POST",
				"/api/servers",
				testkit.Obj{
					"name":       "it",
					"url":        base + "/v2",
					"document":   lostproperty.Document,
					"token":      "key-0123456789",
					"operations": []testkit.Obj{{"id": "searchItems"}},
				},
				nil,
			)
		}, []feature{
			{"call", step{Do: "call", Name: "searchItems", Args: testkit.Obj{"text": "umbrella"}}, "LP-0001", false},
		}},
	}
	agents := []agentKind{
		{"raw, event stream", "2024-11-05", rawOldest},
		{"raw", "2025-03-26", rawAgent("2025-03-26")},
		{"raw", "2025-06-18", rawAgent("2025-06-18")},
		{"npm 1.x", "2025-11-25", npmKind("1")},
		{"npm 2.x", "2026-07-28", npmKind("2")},
		{"Go SDK", "2026-07-28", goKind},
	}
	var table strings.Builder
	table.WriteString(
		"# Which agent reaches which server\n\nMade by `go test ./e2e -run TestMatrix -update`, which does everything in it: every agent lists the\ntools of every server through `/mcp`, and uses what the server has. A dash means that the server does\nnot have it.\n\n",
	)
	columns := []string{"call", "progress", "audio", "resource", "prompt", "elicitation"}
	for _, s := range servers {
		t.Run(s.name, func(t *testing.T) {
			w := testkit.Start(t, nil)
			s.register(t, w)
			w.Rule("admit", "*", "*", "*")
			var info struct {
				Transport string
				Health    struct{ Revision string }
			}
			w.Must("GET", "/api/servers/it", nil, &info)
			assert.Equal(t, s.speaks, info.Transport+" "+info.Health.Revision)
			fmt.Fprintf(
				&table,
				"## %s (%s)\n\n| agent | revision | tools | %s |\n|---|---|---|%s\n",
				s.name,
				strings.TrimSpace(s.speaks),
				strings.Join(columns, " | "),
				strings.Repeat("---|", len(columns)),
			)
			for i, a := range agents {
				t.Run(a.name+" "+a.revision, func(t *testing.T) {
					steps := []step{{Do: "tools"}}
					for _, f := range s.features {
						x := f.step
						if x.Do == "call" && x.Args == nil {
							x.Args = testkit.Obj{}
						}
						if x.Do != "read" {
							x.Name = "it__" + x.Name
						}
						steps = append(steps, x)
					}
					got := a.run(t, w, "/mcp", w.Agent(fmt.Sprint("agent-", i)), steps)
					require.Len(t, got, len(steps))
					cells := map[string]string{}
					assert.Contains(t, got[0].Text, "it__"+s.features[0].step.Name)
					for n, f := range s.features {
						c := got[n+1]
						switch {
						case f.asks && a.revision < "2025-06-18":
							assert.NotContains(t, c.Text, f.want)
							assert.NotEmpty(t, c.Text+c.Error)
							cells[f.name] = "told: " + tooOld
						case f.step.Progress:
							assert.Positive(t, c.Progress, "%+v", c)
							cells[f.name] = "yes"
						case f.name == "audio" && a.revision < "2025-03-26":
							assert.Contains(t, c.Text, "which this revision of the protocol cannot carry")
							cells[f.name] = "in words"
						default:
							assert.Empty(t, c.Error, f.name)
							assert.Contains(t, c.Text, f.want, f.name)
							cells[f.name] = "yes"
						}
					}
					fmt.Fprintf(&table, "| %s | %s | yes |", a.name, a.revision)
					for _, c := range columns {
						if cells[c] == "" {
							cells[c] = "-"
						}
						fmt.Fprintf(&table, " %s |", cells[c])
					}
					table.WriteString("\n")
				})
			}
			table.WriteString("\n")
		})
	}
	text := strings.TrimRight(table.String(), "\n") + "\n"
	const file = "../docs/matrix.md"
	if *update && !t.Failed() {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(kept), text, "run go test ./e2e -run TestMatrix -update")
}

const accepted = `{"action":"accept","content":{"username":"Teo","email":"teo@skerrow.example","name":"Teo"}}`

// request renders a step as a request.
func (s step) request(id int) string {
	method := map[string]string{"tools": "tools/list", "call": "tools/call", "read": "resources/read", "prompt": "prompts/get"}[s.Do]
	params := testkit.Obj{}
	switch s.Do {
	case "read":
		params["uri"] = s.Name
	case "call", "prompt":
		params["name"] = s.Name
		if s.Args != nil {
			params["arguments"] = s.Args
		}
	}
	if s.Progress {
		params["_meta"] = testkit.Obj{"progressToken": "p"}
	}
	raw, _ := json.Marshal(testkit.Obj{"jsonrpc": "2.0", "id": id, "method": method, "params": params})
	return string(raw)
}

// take reads the messages of one step, answering what the server asks, until the
// response has come.
func take(t *testing.T, events <-chan string, reply func(string)) (out came) {
	for {
		ev := testkit.Next(t, events)
		var m struct {
			ID            json.RawMessage
			Method        string
			Result, Error json.RawMessage
		}
		require.NoError(t, json.Unmarshal([]byte(ev), &m), ev)
		switch m.Method {
		case "elicitation/create":
			reply(`{"jsonrpc":"2.0","id":` + string(m.ID) + `,"result":` + accepted + `}`)
		case "notifications/progress":
			out.Progress++
		case "":
			out.Text, out.Error = string(m.Result), string(m.Error)
			return out
		}
	}
}

func rawOldest(t *testing.T, w *testkit.World, _, pass string, steps []step) (out []came) {
	r := &testkit.Raw{T: t, URL: w.Base + "/sse", Pass: pass}
	events := r.Listen(t.Context())
	r = &testkit.Raw{T: t, URL: w.Base + testkit.Next(t, events), Pass: pass}
	post := func(body string) {
		res, text := r.Post(body)
		require.Equal(t, 202, res.StatusCode, text)
	}
	post(
		`{"jsonrpc":"2.0","id":0,"method":"initialize","params":{"protocolVersion":"2024-11-05","capabilities":{"elicitation":{}},"clientInfo":{"name":"raw","version":"1"}}}`,
	)
	take(t, events, post)
	post(`{"jsonrpc":"2.0","method":"notifications/initialized"}`)
	for i, s := range steps {
		post(s.request(i + 1))
		out = append(out, take(t, events, post))
	}
	return out
}

func rawAgent(revision string) func(*testing.T, *testkit.World, string, string, []step) []came {
	return func(t *testing.T, w *testkit.World, path, pass string, steps []step) (out []came) {
		r := w.Able(path, pass, revision, `{"elicitation":{}}`)
		for i, s := range steps {
			res, err := http.DefaultClient.Do(r.Request(t.Context(), "POST", s.request(i+1)))
			require.NoError(t, err)
			events := make(chan string, 64)
			go func() {
				defer res.Body.Close()
				testkit.Events(res, events)
			}()
			out = append(out, take(t, events, func(body string) {
				res, text := r.Post(body)
				require.Equal(t, 202, res.StatusCode, text)
			}))
		}
		return out
	}
}

func npmKind(generation string) func(*testing.T, *testkit.World, string, string, []step) []came {
	return func(t *testing.T, w *testkit.World, path, pass string, steps []step) []came {
		raw, err := json.Marshal(steps)
		require.NoError(t, err)
		ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, "node", "peers/agent.mjs", generation, w.Base+path, pass)
		cmd.Stdin = strings.NewReader(string(raw))
		var stderr strings.Builder
		cmd.Stderr = &stderr
		text, err := cmd.Output()
		require.NoError(t, err, "%s", stderr.String())
		var got struct {
			Revision string
			Out      []came
		}
		require.NoError(t, json.Unmarshal(text, &got), "%s", text)
		if got.Revision != "" {
			assert.Equal(t, map[string]string{"1": "2025-11-25", "2": "2026-07-28"}[generation], got.Revision)
		}
		return got.Out
	}
}

func goKind(t *testing.T, w *testkit.World, path, pass string, steps []step) (out []came) {
	var progress atomic.Int32
	agent := goAgent(t, w.Base+path, pass, &mcp.ClientOptions{
		ElicitationHandler: func(context.Context, *mcp.ElicitRequest) (*mcp.ElicitResult, error) {
			return &mcp.ElicitResult{
				Action:  "accept",
				Content: testkit.Obj{"username": "Teo", "email": "teo@skerrow.example", "name": "Teo"},
			}, nil
		},
		ProgressNotificationHandler: func(context.Context, *mcp.ProgressNotificationClientRequest) { progress.Add(1) },
	})
	assert.Equal(t, "2026-07-28", agent.InitializeResult().ProtocolVersion)
	for _, s := range steps {
		var got any
		var err error
		progress.Store(0)
		switch s.Do {
		case "tools":
			got, err = agent.ListTools(t.Context(), nil)
		case "read":
			got, err = agent.ReadResource(t.Context(), &mcp.ReadResourceParams{URI: s.Name})
		case "prompt":
			args := map[string]string{}
			for k, v := range s.Args {
				args[k] = fmt.Sprint(v)
			}
			got, err = agent.GetPrompt(t.Context(), &mcp.GetPromptParams{Name: s.Name, Arguments: args})
		default:
			p := &mcp.CallToolParams{Name: s.Name, Arguments: s.Args}
			if s.Progress {
				p.SetProgressToken("p")
			}
			got, err = agent.CallTool(t.Context(), p)
		}
		if s.Progress { // the client tells of it beside the answer
			assert.Eventually(t, func() bool { return progress.Load() > 0 }, time.Minute, time.Millisecond)
		}
		c := came{Progress: int(progress.Load())}
		if err != nil {
			c.Error = err.Error()
		} else {
			raw, err := json.Marshal(got)
			require.NoError(t, err)
			c.Text = string(raw)
		}
		out = append(out, c)
	}
	return out
}
