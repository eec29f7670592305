package rest

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/restmap"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/linktest"
	"bouncer/internal/locker"
	"bouncer/standin/lostproperty"
)

func TestARESTAPIIsCalled(t *testing.T) {
	t.Parallel()
	own := linktest.Serve(t, lostproperty.New("key-0123456789"))
	doc, err := restmap.Parse([]byte(lostproperty.Document))
	require.NoError(t, err)
	picks := []restmap.Pick{{ID: "searchItems", Name: "search"}, {ID: "logItem"}, {ID: "releaseItem"}, {ID: "getItem"}}
	target, o := linktest.Target("lost", own+"/v2", "key-0123456789"), linktest.Quick()
	target.SecretHeader, target.Headers = "x-api-key", [][2]string{{"X-Team", "harbour"}}
	l, err := New(target, "", doc, picks, o)
	require.NoError(t, err)
	defer l.Close(context.Background())
	st := link.Assess(l.Probe(t.Context()))
	require.Equal(t, team.StateReady, st.State)
	assert.Equal(t, 4, st.Tools)
	ask := func(l *Conn, name, args string) (string, map[string]any, bool, error) {
		a := linktest.ToolCall(`{"name":"` + name + `","arguments":` + args + `}`)
		x, err := l.Begin(t.Context(), a)
		if err != nil {
			return "", nil, false, err
		}
		defer x.Close()
		frame, f, err := base.ReadAnswer(t.Context(), x)
		require.NoError(t, err)
		var r struct {
			Content           []struct{ Text string }
			StructuredContent map[string]any
		}
		require.NoError(t, json.Unmarshal(f.Result.Of(frame), &r), "%s", frame)
		return r.Content[0].Text, r.StructuredContent, f.Failed, nil
	}
	_, got, failed, err := ask(l, "search", `{"text":"umbrella","colour":["black","red"]}`)
	require.NoError(t, err)
	assert.False(t, failed)
	assert.Len(t, got["items"], 2)
	_, got, _, err = ask(l, "logItem", `{"what":"hat","vessel":"MV Petrel"}`)
	require.NoError(t, err)
	assert.Equal(t, "LP-0005", got["item"])
	_, got, _, err = ask(l, "releaseItem", `{"item":"LP-0005","X-Desk":"north","owner":"T. Castellane"}`)
	require.NoError(t, err)
	assert.Equal(t, "released", got["state"])
	text, _, failed, err := ask(l, "releaseItem", `{"item":"LP-0005","owner":"somebody"}`)
	require.NoError(t, err)
	assert.True(t, failed, "what the API refuses is an error of the tool")
	assert.Contains(t, text, "409 Conflict: {\"error\":\"released already to T. Castellane\"}")
	text, _, failed, err = ask(l, "releaseItem", `{"item":"LP-0005"}`)
	require.NoError(t, err)
	assert.True(t, failed)
	assert.Contains(t, text, "argument owner is missing")

	wrong := target
	wrong.Secret = locker.NewSecret("another-key")
	bad, err := New(wrong, "", doc, picks, o)
	require.NoError(t, err)
	_, _, _, err = ask(bad, "search", `{}`)
	var f *link.Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, diagnosis.TokenRejected, f.Cause)
	assert.True(t, f.Refused)
	_, err = New(target, "", doc, []restmap.Pick{{ID: "putPhoto"}}, o)
	assert.ErrorContains(t, err, "cannot be a tool")
}

func TestWhatARESTAPIAnswers(t *testing.T) {
	t.Parallel()
	doc, err := restmap.Parse([]byte("openapi: 3.1.0\npaths: {/x: {get: {operationId: x, parameters: [{name: X-Team, in: header}]}}}"))
	require.NoError(t, err)
	for name, row := range map[string]struct {
		status      int
		media, body string
		want        string // of the result, or the cause
	}{
		"a list":              {200, "application/json", `[1,2]`, `{"content":[{"type":"text","text":"[1,2]"}],"structuredContent":{"result":[1,2]}}`},
		"a problem":           {422, "application/problem+json", `{"a":1}`, `{"content":[{"type":"text","text":"the API answered 422 Unprocessable Entity: {\"a\":1}"}],"isError":true}`},
		"nothing":             {204, "", ``, `{"content":[{"type":"text","text":"done (204)"}]}`},
		"an empty JSON":       {200, "application/json", ``, `{"content":[{"type":"text","text":"done"}]}`},
		"broken JSON":         {200, "application/json", `{"a":`, `{"content":[{"type":"text","text":"the API says that this is JSON, but it is not: {\"a\":"}],"isError":true}`},
		"a text":              {200, "text/plain", `fine`, `{"content":[{"type":"text","text":"fine"}]}`},
		"bytes":               {200, "image/png", "\x89PNG\xff", `{"content":[{"type":"text","text":"5 bytes of image/png, which is no text"}]}`},
		"a redirect":          {302, "", ``, "http.redirected"},
		"a missing key":       {401, "", ``, "auth.token-rejected"},
		"too much":            {200, "text/plain", strings.Repeat("x", 70<<10), "protocol.message-too-large"},
		"a server that fails": {503, "text/plain", "back soon", `{"content":[{"type":"text","text":"the API answered 503 Service Unavailable: back soon"}],"isError":true}`},
	} {
		t.Run(name, func(t *testing.T) {
			var seen *http.Request
			target, o := linktest.Target("s", linktest.Serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				seen = r
				w.Header()["Content-Type"] = []string{row.media}
				w.WriteHeader(row.status)
				_, _ = io.WriteString(w, row.body)
			}))+"/base?fixed=1", "key-0123456789"), linktest.Quick()
			target.Headers = [][2]string{{"X-Team", "ours"}}
			l, err := New(target, "api_key", doc, []restmap.Pick{{ID: "x"}}, o)
			require.NoError(t, err)
			x, err := l.Begin(t.Context(), linktest.ToolCall(`{"name":"x","arguments":{"X-Team":"an agent's"}}`))
			assert.Equal(t, "/base/x?api_key=key-0123456789&fixed=1", seen.URL.RequestURI())
			assert.Equal(t, []string{"ours"}, seen.Header["X-Team"], "an agent cannot set what the registration sets")
			assert.Empty(t, seen.Header.Get("Authorization"))
			if !strings.HasPrefix(row.want, "{") {
				var f *link.Failure
				require.ErrorAs(t, err, &f)
				assert.Equal(t, diagnosis.Cause(row.want), f.Cause)
				return
			}
			require.NoError(t, err)
			frame, f, err := x.Next()
			require.NoError(t, err)
			assert.JSONEq(t, row.want, string(f.Result.Of(frame)))
		})
	}
}
