package standin

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/standin/ferries"
	"bouncer/standin/loopback"
	"bouncer/standin/quill"
	"bouncer/standin/toolserver"
)

// bearer shows a token.
type bearer string

func (b bearer) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("Authorization", "Bearer "+string(b))
	return http.DefaultTransport.RoundTrip(r)
}

func serve(t *testing.T, h http.Handler) *httptest.Server {
	s := httptest.NewServer(h)
	t.Cleanup(func() { loopback.End(s) }) // streams would keep it open
	return s
}

func connect(t *testing.T, url, token string, o *mcp.ClientOptions) (*mcp.ClientSession, error) {
	c := mcp.NewClient(&mcp.Implementation{Name: "peer", Version: "1"}, o)
	s, err := c.Connect(t.Context(), &mcp.StreamableClientTransport{Endpoint: url, HTTPClient: &http.Client{Transport: bearer(token)}}, nil)
	if err == nil {
		t.Cleanup(func() { _ = s.Close() })
	}
	return s, err
}

// The stand-ins are true servers: a peer that knows nothing of them agrees.
func TestSailingsSpeakTheProtocol(t *testing.T) {
	s := ferries.Sailings(ferries.SailingsToken)
	h := serve(t, s)
	_, err := connect(t, h.URL, "wrong", nil)
	require.Error(t, err)
	changed := make(chan struct{}, 1)
	progress := make(chan string, 8)
	peer, err := connect(t, h.URL, ferries.SailingsToken, &mcp.ClientOptions{
		ToolListChangedHandler:      func(context.Context, *mcp.ToolListChangedRequest) { changed <- struct{}{} },
		ProgressNotificationHandler: func(_ context.Context, r *mcp.ProgressNotificationClientRequest) { progress <- r.Params.Message },
	})
	require.NoError(t, err)
	list, err := peer.ListTools(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, list.Tools, 3)
	call := func(tool string, args map[string]any) (*mcp.CallToolResult, string) {
		p := &mcp.CallToolParams{Name: tool, Arguments: args}
		p.SetProgressToken("t")
		r, err := peer.CallTool(t.Context(), p)
		require.NoError(t, err)
		return r, r.Content[0].(*mcp.TextContent).Text
	}
	_, text := call("find_sailings", map[string]any{"from": "skerrow", "to": "Holm Voe"})
	assert.Equal(t, 5, strings.Count(text, `"sailing":"SF2`))
	_, text = call("sailing_status", map[string]any{"sailing": "SF203"})
	assert.Contains(t, text, "fog at Holm Voe")
	assert.Equal(t, "asking the bridge", <-progress)
	r, text := call("sailing_status", map[string]any{"sailing": "SF999"})
	assert.True(t, r.IsError)
	assert.Contains(t, text, "no sailing")
	call("cancel_sailing", map[string]any{"sailing": "SF101", "reason": "gale"})
	_, text = call("sailing_status", map[string]any{"sailing": "SF101"})
	assert.Contains(t, text, "cancelled: gale")
	s.SetTools()
	select {
	case <-changed:
	case <-time.After(5 * time.Second):
		t.Fatal("a changed list is not told")
	}
}

func TestBerthsAreAssignedOnce(t *testing.T) {
	h := serve(t, ferries.Berths(""))
	peer, err := connect(t, h.URL, "", nil)
	require.NoError(t, err)
	for _, row := range []struct {
		berth, vessel, says string
		fails               bool
	}{
		{"Skerrow 2", "MV Fulmar", "is assigned to MV Fulmar", false},
		{"Skerrow 2", "MV Petrel", "MV Fulmar lies at Skerrow 2", true},
		{"Skerrow 9", "MV Petrel", "no berth", true},
	} {
		r, err := peer.CallTool(
			t.Context(),
			&mcp.CallToolParams{Name: "assign_berth", Arguments: map[string]any{"berth": row.berth, "vessel": row.vessel}},
		)
		require.NoError(t, err)
		assert.Equal(t, row.fails, r.IsError)
		assert.Contains(t, r.Content[0].(*mcp.TextContent).Text, row.says)
	}
}

func TestFaultsAreSwitchedFromOutside(t *testing.T) {
	h := serve(t, ferries.Berths(""))
	set := func(fault string) int {
		res, err := http.Post(h.URL+"/control/fault", "text/plain", strings.NewReader(fault))
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res.StatusCode
	}
	assert.Equal(t, 422, set("explodes"))
	for _, fault := range toolserver.Faults {
		assert.Equal(t, 204, set(fault), fault)
	}
	require.Equal(t, 204, set(toolserver.Healthy))
	_, err := connect(t, h.URL, "", nil)
	assert.NoError(t, err)
}

func TestQuillReadsWhatPeopleWrite(t *testing.T) {
	dir := t.TempDir()
	file := func(text string) string {
		path := filepath.Join(dir, "q.json")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	for text, want := range map[string]int{
		`{"mcpServers":{"a":{"url":"http://x"}}}`: 1,
		"{ // note: \"no\"\n \"mcpServers\": { /* two */ \"a\": {\"url\": \"http://x//y\",}, \"b\": {\"url\":\"http://z\"}, \"c\": {\"command\":\"run\"}, },}": 2,
	} {
		list, err := quill.Load(file(text))
		require.NoError(t, err)
		assert.Len(t, list, want)
	}
	for _, bad := range []string{`{`, `{"mcpServers":{}}`, ``} {
		_, err := quill.Load(file(bad))
		assert.Error(t, err)
	}
	_, err := quill.ReadScript(file("{\"tool\":\"a\"}\n\nnot a step\n"))
	assert.ErrorContains(t, err, "line 3")
}
