package across

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/cluster/peer"
)

// fleet is what other nodes answer.
type fleet struct {
	answers []peer.Answer
	silent  []string
	asked   []*peer.Request
}

func (f *fleet) Ask(_ context.Context, _ []string, r *peer.Request) ([]peer.Answer, []string) {
	f.asked = append(f.asked, r)
	return f.answers, f.silent
}

// places is where the processes of servers are.
type places map[string]string

func (p places) Runs(server string) string { return p[server] }

func (p places) Fits(placement string) string {
	if placement == "label:cranes" {
		return "quay"
	}
	return ""
}

// ask sends a request to a node that answers as it is told to, amid others.
func ask(t *testing.T, f *fleet, method, target, body string, status int, own string) *httptest.ResponseRecorder {
	t.Helper()
	h := &Handler{
		Places: places{"berths": "south"},
		Peers:  f, Others: func(context.Context) []string { return []string{"south", "west"} },
		Next: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			raw, err := io.ReadAll(r.Body)
			assert.NoError(t, err)
			assert.Equal(t, body, string(raw), "what others are asked is still to be read here")
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(status)
			_, _ = io.WriteString(w, own)
		}),
	}
	r := httptest.NewRequest(method, target, strings.NewReader(body))
	r.Header.Set("Authorization", "Bearer bnt_marit")
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w
}

func all(bodies ...string) *fleet {
	f := &fleet{}
	for i, body := range bodies {
		f.answers = append(f.answers, peer.Answer{Node: fmt.Sprint("node-", i), Status: 200, Body: []byte(body)})
	}
	return f
}

func TestAnswersBecomeOne(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		target, own string
		others      []string
		want        string
	}{
		"calls, the newest first": {"/api/calls", `[{"id":"5"},{"id":"1"}]`, []string{`[{"id":"4"}]`, `[]`}, `[{"id":"5"},{"id":"4"},{"id":"1"}]`},
		"as many as asked for":    {"/api/calls?limit=2", `[{"id":"5"},{"id":"1"}]`, []string{`[{"id":"9"},{"id":"8"}]`}, `[{"id":"9"},{"id":"8"}]`},
		"counts of one time": {
			"/api/call-counts?step=60", `[{"at":"06:00","ok":2,"refused":1},{"at":"06:02","ok":1,"refused":0}]`,
			[]string{`[{"at":"06:01","ok":5,"refused":0},{"at":"06:02","ok":3,"refused":4}]`},
			`[{"at":"06:00","ok":2,"refused":1},{"at":"06:01","ok":5,"refused":0},{"at":"06:02","ok":4,"refused":4}]`,
		},
		"held calls: those that wait, the oldest first, then the newest decided": {
			"/api/held", `[{"id":"3","state":"waiting"},{"id":"1","state":"admitted"}]`,
			[]string{`[{"id":"2","state":"waiting"},{"id":"4","state":"refused"}]`},
			`[{"id":"2","state":"waiting"},{"id":"3","state":"waiting"},{"id":"4","state":"refused"},{"id":"1","state":"admitted"}]`,
		},
		"tapes, the newest first": {"/api/tapes?server=x", `[{"id":"5"},{"id":"1"}]`, []string{`[{"id":"7"},{"id":"4"}]`},
			`[{"id":"7"},{"id":"5"},{"id":"4"},{"id":"1"}]`},
		"standing decisions": {"/api/standing", `[{"id":"3"}]`, []string{`[{"id":"4"}]`}, `[{"id":"3"},{"id":"4"}]`},
	} {
		w := ask(t, all(row.others...), "GET", row.target, "", 200, row.own)
		assert.Equal(t, 200, w.Code, name)
		assert.JSONEq(t, row.want, w.Body.String(), name)
		assert.Empty(t, w.Header().Get(Silent), name)
	}
}

func TestOnlyWhatNodesKeepForThemselvesIsAskedOfAll(t *testing.T) {
	t.Parallel()
	for target, method := range map[string]string{
		"/api/servers": "GET", "/api/calls": "POST", "/api/calls/": "GET", "/api/calls/1/2": "GET", "/api/held/1/decision": "GET", "/": "GET",
	} {
		f := all(`[]`)
		assert.Equal(t, "here", ask(t, f, method, target, "", 200, "here").Body.String(), target)
		assert.Empty(t, f.asked, "%s %s", method, target)
	}
}

func TestWhatIsMissingIsSaid(t *testing.T) {
	t.Parallel()
	f := all(`[{"id":"4"}]`)
	f.silent = []string{"west"}
	f.answers = append(f.answers, peer.Answer{Node: "south", Status: 500})
	w := ask(t, f, "GET", "/api/calls", "", 200, `[]`)
	assert.JSONEq(t, `[{"id":"4"}]`, w.Body.String())
	assert.Equal(t, "south, west", w.Header().Get(Silent))

	// What cannot be understood is left out as a whole, and named.
	w = ask(t, all(`{"id":"4"}`), "GET", "/api/calls", "", 200, `[{"id":"1"}]`)
	assert.JSONEq(t, `[{"id":"1"}]`, w.Body.String())
	assert.Equal(t, "south, west", w.Header().Get(Silent))

	// Who is refused here is refused, whatever others say.
	w = ask(t, all(`[{"id":"4"}]`), "GET", "/api/calls", "", 403, `{"title":"no"}`)
	assert.Equal(t, 403, w.Code)
	assert.NotContains(t, w.Body.String(), "4")
}

func TestWhatIsElsewhereIsFound(t *testing.T) {
	t.Parallel()
	f := &fleet{answers: []peer.Answer{{Node: "south", Status: 404, Body: []byte(`{}`)}, {Node: "west", Status: 409, Body: []byte(`{"title":"decided"}`)}}}
	w := ask(t, f, "POST", "/api/held/7/decision", `{"how":"once"}`, 404, `{"title":"unknown"}`)
	assert.Equal(t, 409, w.Code)
	assert.JSONEq(t, `{"title":"decided"}`, w.Body.String())
	require.Len(t, f.asked, 1)
	assert.Equal(t, peer.Request{
		Method: "POST", Path: "/api/held/7/decision", Authorization: "Bearer bnt_marit", Body: []byte(`{"how":"once"}`),
	}, *f.asked[0])

	f.answers = append(f.answers, peer.Answer{Node: "east", Status: 401}, peer.Answer{Node: "north", Status: 200, Body: []byte(`{"id":"7"}`)})
	w = ask(t, f, "GET", "/api/held/7", "", 404, `{}`)
	assert.Equal(t, 200, w.Code, "who knows of it answers")

	f = &fleet{answers: []peer.Answer{{Node: "south", Status: 404, Body: []byte(`{}`)}}, silent: []string{"west"}}
	w = ask(t, f, "GET", "/api/held/7", "", 404, `{"title":"unknown"}`)
	assert.Equal(t, []any{404, "west"}, []any{w.Code, w.Header().Get(Silent)})
	f = all(`{}`)
	assert.Equal(t, 200, ask(t, f, "GET", "/api/held/7", "", 200, `{}`).Code)
	assert.Empty(t, f.asked, "what is here is not looked for")
}

// What is about a process is answered by the node that has it, or can have it; everything else here.
func TestTheNodeThatHasAProcessAnswers(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		method, target, body string
		there                bool
	}{
		{"POST", "/api/servers/berths/restart", "", true},
		{"POST", "/api/servers/sailings/restart", "", false},
		{"GET", "/api/servers/berths/heard?after=3", "", true},
		{"GET", "/api/servers/berths", "", false},
		{"DELETE", "/api/servers/berths", "", false},
		{"PATCH", "/api/servers/berths", `{"args":["--stores"]}`, true},
		{"PATCH", "/api/servers/berths", `{"placement":"one"}`, false},
		{"POST", "/api/servers", `{"name":"berths","command":"berths"}`, false},
		{"POST", "/api/servers", `{"name":"winch","command":"winch","placement":"label:cranes"}`, true},
		{"POST", "/api/servers", `{"name":"winch",`, false},
		{"POST", "/api/checkups", `{"server":"berths"}`, true},
		{"POST", "/api/checkups", `{"target":{"command":"winch","placement":"label:cranes"}}`, true},
		{"POST", "/api/checkups", `{"target":{"command":"winch"}}`, false},
		{"POST", "/api/servers", strings.Repeat(" ", 300<<10), false}, // too large to be passed on, and read here as a whole
	} {
		f := &fleet{answers: []peer.Answer{{Node: "south", Status: 201, Type: "application/x-there", Body: []byte("there")}}}
		w := ask(t, f, row.method, row.target, row.body, 200, "here")
		want := []any{200, "here", 0}
		if row.there {
			want = []any{201, "there", 1}
			assert.Equal(t, "application/x-there", w.Header().Get("Content-Type"))
			assert.Equal(t, startTime, f.asked[0].Within)
		}
		assert.Equal(t, want, []any{w.Code, w.Body.String(), len(f.asked)}, "%s %s %.60s", row.method, row.target, row.body)
	}
	w := ask(t, &fleet{silent: []string{"south"}}, "POST", "/api/servers/berths/restart", "", 200, "here")
	assert.Equal(t, 503, w.Code)
	assert.Contains(t, w.Body.String(), "the node south, at which the process runs, did not answer")
	w = ask(t, &fleet{answers: []peer.Answer{{Node: "south", Status: 413}}}, "GET", "/api/tapes/7/export", "", 404, "{}")
	assert.Equal(t, 502, w.Code)
	assert.Contains(t, w.Body.String(), "is at the node south, and too large to be passed on")
	assert.Contains(t, w.Body.String(), "bouncer node list")
	w = ask(t, &fleet{answers: []peer.Answer{{Node: "south", Status: 200, Type: "application/jsonl", Body: []byte("{}")}}},
		"GET", "/api/tapes/7/export", "", 404, "{}")
	assert.Equal(t, []any{200, "application/jsonl"}, []any{w.Code, w.Header().Get("Content-Type")})
}
