package across

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/cluster/peer"
)

// node has calls, and gives them by pages that are not too large.
type node struct {
	ids     []string
	largest int // calls that go into a message; 0 for any
	busy    int // how often it turns requests away first
	stops   int // pages after which it says nothing more; 0 for never
	pages   int
}

func (n *node) page(query string) (status int, body string) {
	q, err := url.ParseQuery(query)
	if err != nil {
		return http.StatusBadRequest, ""
	}
	if n.busy > 0 {
		n.busy--
		return http.StatusTooManyRequests, `{"title":"busy"}`
	}
	if n.pages++; n.stops > 0 && n.pages > n.stops {
		return http.StatusServiceUnavailable, ""
	}
	limit, err := strconv.Atoi(q.Get("limit"))
	if err != nil || q.Get("form") != "jsonl" || q.Get("server") != "sailings" {
		return http.StatusBadRequest, query
	}
	lines := 0
	for _, id := range n.ids {
		if id > q.Get("after") && lines < limit {
			body += fmt.Sprintf("{\"id\":%q,\"tool\":\"=find\"}\n", id)
			lines++
		}
	}
	if n.largest > 0 && lines > n.largest {
		return http.StatusRequestEntityTooLarge, ""
	}
	return http.StatusOK, body
}

// nodes are others, by their names.
type nodes struct {
	mu  sync.Mutex
	all map[string]*node
}

func (n *nodes) Ask(_ context.Context, names []string, r *peer.Request) (answers []peer.Answer, silent []string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, name := range names {
		one := n.all[name]
		if one == nil {
			silent = append(silent, name)
			continue
		}
		status, body := one.page(r.Query)
		answers = append(answers, peer.Answer{Node: name, Status: status, Body: []byte(body)})
	}
	return answers, silent
}

func span(from, to, step int) (ids []string) {
	for i := from; i < to; i += step {
		ids = append(ids, fmt.Sprintf("%06d", i))
	}
	return ids
}

// export has the calls of a node and others exported; whole is false when it was broken off.
func export(t *testing.T, here *node, there map[string]*node, query string) (w *httptest.ResponseRecorder, whole bool) {
	h := &Handler{
		Peers: &nodes{all: there}, Others: func(context.Context) []string { return []string{"south", "west"} },
		Next: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			status, body := here.page(r.URL.RawQuery)
			w.WriteHeader(status)
			_, _ = io.WriteString(w, body)
		}),
	}
	w = httptest.NewRecorder()
	defer func() {
		if broken := recover(); broken != nil {
			err, _ := broken.(error)
			require.ErrorIs(t, err, http.ErrAbortHandler)
		}
	}()
	h.ServeHTTP(deadlines{w}, httptest.NewRequest("GET", "/api/call-export?server=sailings&"+query, nil))
	return w, true
}

// deadlines is a recorder that takes deadlines, as connections do.
type deadlines struct{ *httptest.ResponseRecorder }

func (deadlines) SetWriteDeadline(time.Time) error { return nil }

func exported(t *testing.T, w *httptest.ResponseRecorder) (ids []string) {
	for line := range strings.Lines(w.Body.String()) {
		var c struct{ ID string }
		require.NoError(t, json.Unmarshal([]byte(line), &c))
		ids = append(ids, c.ID)
	}
	return ids
}

// The calls of all nodes are exported in their order, however they are spread, by pages that fit.
func TestCallsOfAllNodesAreExportedInOrder(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		here        *node
		south, west *node
		query       string
		want        []string
		silent      string
	}{
		"one by one": {
			&node{ids: span(0, 3000, 3)}, &node{ids: span(1, 3000, 3), largest: 100}, &node{ids: span(2, 3000, 3)}, "", span(0, 3000, 1), "",
		},
		"none at one":    {&node{}, &node{ids: span(0, 900, 1)}, &node{}, "", span(0, 900, 1), ""},
		"so many":        {&node{ids: span(0, 900, 2)}, &node{ids: span(1, 900, 2)}, &node{}, "limit=801", span(0, 801, 1), ""},
		"from one on":    {&node{ids: span(0, 900, 2)}, &node{ids: span(1, 900, 2)}, &node{}, "after=000700", span(701, 900, 1), ""},
		"one is silent":  {&node{ids: span(0, 50, 1)}, nil, &node{ids: span(50, 60, 1)}, "", span(0, 60, 1), "south"},
		"none is here":   {&node{}, &node{}, &node{}, "", nil, ""},
		"both are there": {&node{ids: []string{"000001"}}, &node{ids: []string{"000001"}}, &node{}, "", []string{"000001", "000001"}, ""},
	} {
		there := map[string]*node{"west": row.west}
		if row.south != nil {
			there["south"] = row.south
		}
		w, whole := export(t, row.here, there, row.query)
		require.True(t, whole, name)
		assert.Equal(t, row.want, exported(t, w), name)
		assert.Equal(t, row.silent, w.Header().Get(Silent), name)
		assert.Equal(t, "application/jsonl", w.Header().Get("Content-Type"), name)
	}
	w, _ := export(t, &node{ids: span(0, 2, 1)}, map[string]*node{"south": {}, "west": {ids: span(2, 4, 1)}}, "form=csv&limit=3")
	rows, err := csv.NewReader(w.Body).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, []string{"id", "000002", "'=find"}, []string{rows[0][0], rows[3][0], rows[3][5]})
	assert.Contains(t, w.Header().Get("Content-Type"), "text/csv")
}

// What is refused here is refused; who is busy is asked again; who stops amid its calls breaks off.
func TestExportsAreWholeOrBrokenOff(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w, _ := export(t, &node{}, nil, "limit=0")
		assert.Equal(t, []any{http.StatusBadRequest, "server=sailings&limit=0"}, []any{w.Code, w.Body.String()}, "as it was asked")
		w, _ = export(t, &node{busy: 99}, nil, "")
		assert.Equal(t, http.StatusTooManyRequests, w.Code)
		assert.JSONEq(t, `{"title":"busy"}`, w.Body.String())
		both := func(south *node) map[string]*node { return map[string]*node{"south": south, "west": {}} }
		w, whole := export(t, &node{ids: span(0, 9, 1), busy: pageTries - 1}, both(&node{ids: span(9, 900, 1), busy: pageTries - 1}), "")
		assert.True(t, whole)
		assert.Equal(t, span(0, 900, 1), exported(t, w))
		assert.Empty(t, w.Header().Get(Silent))
		w, whole = export(t, &node{ids: span(0, 9, 1)}, both(&node{ids: span(9, 900, 1), stops: 1}), "")
		assert.False(t, whole)
		assert.Equal(t, span(0, 9+pageCalls, 1), exported(t, w), "which the reader does not take for the whole")
	})
}

// counting is a node that counts, and says so as it goes on.
type counting struct {
	events []string
	status int
	wait   chan struct{} // before the last one; nil for none
}

func event(found int, done bool) string {
	return fmt.Sprintf("event: found\ndata: {\"found\":%d,\"seen\":%d,\"done\":%t}\n\n", found, found*2, done)
}

func (c *counting) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.WriteHeader(cmp.Or(c.status, http.StatusOK))
	for i, e := range c.events {
		if c.wait != nil && i == len(c.events)-1 {
			<-c.wait
		}
		half := len(e) / 2 // as a connection may cut it
		if _, err := io.WriteString(w, e[:half]); err != nil {
			return
		}
		_, _ = io.WriteString(w, e[half:])
	}
}

func (c *counting) Ask(ctx context.Context, names []string, r *peer.Request) (answers []peer.Answer, silent []string) {
	if names[0] == "west" && c.wait != nil {
		<-ctx.Done() // says nothing as long as it may
		return nil, names
	}
	if r.Within != countTime {
		return nil, names
	}
	w := httptest.NewRecorder()
	c.ServeHTTP(w, nil)
	return []peer.Answer{{Node: names[0], Status: w.Code, Body: w.Body.Bytes()}}, nil
}

func total(here *counting, there Asker) *httptest.ResponseRecorder {
	h := &Handler{Peers: there, Others: func(context.Context) []string { return []string{"south", "west"} }, Next: here}
	w := httptest.NewRecorder()
	h.ServeHTTP(deadlines{w}, httptest.NewRequest("GET", "/api/call-total", nil))
	return w
}

func TestCallsOfAllNodesAreCounted(t *testing.T) {
	t.Parallel()
	last := func(w *httptest.ResponseRecorder) string {
		events := strings.Split(strings.TrimSpace(w.Body.String()), "\n\n")
		_, data, _ := strings.Cut(events[len(events)-1], "data: ")
		return data
	}
	there := &counting{events: []string{event(20, true)}}
	w := total(&counting{events: []string{event(1, false), event(2, true)}}, there)
	assert.JSONEq(t, `{"found":42,"seen":4,"done":true}`, last(w))
	assert.Equal(t, 1, strings.Count(w.Body.String(), `"done":true`), "it is done once")
	assert.Equal(t, "text/event-stream", w.Header().Get("Content-Type"))

	w = total(&counting{events: []string{event(2, true)}}, &counting{events: []string{event(20, false)}})
	assert.JSONEq(t, `{"found":2,"seen":4,"done":true,"silent":["south","west"]}`, last(w), "a count that was not ended is none")
	w = total(&counting{events: []string{event(2, true)}}, &counting{status: 500, events: []string{event(20, true)}})
	assert.Contains(t, last(w), `"silent":["south","west"]`)

	waiting := &counting{wait: make(chan struct{}), events: []string{"x"}}
	close(waiting.wait)
	w = total(&counting{status: 403, events: []string{`{"title":"no"}`}}, waiting)
	assert.Equal(t, []any{403, `{"title":"no"}`}, []any{w.Code, w.Body.String()}, "at once, without waiting for the others")
}

// No more counts and exports are worked on than may be.
func TestStreamsAreBounded(t *testing.T) {
	t.Parallel()
	wait := make(chan struct{})
	began := make(chan struct{}, maxStreams)
	h := &Handler{
		Peers: &nodes{}, Others: func(context.Context) []string { return []string{"south"} },
		Next: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			began <- struct{}{}
			<-wait
			w.WriteHeader(http.StatusForbidden)
		}),
	}
	var group sync.WaitGroup
	for range maxStreams {
		group.Go(func() {
			h.ServeHTTP(deadlines{httptest.NewRecorder()}, httptest.NewRequest("GET", "/api/call-export", nil))
		})
	}
	for range maxStreams {
		<-began
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("GET", "/api/call-total", nil))
	assert.Equal(t, http.StatusTooManyRequests, w.Code)
	assert.Contains(t, w.Body.String(), `"hint":"wait until`)
	close(wait)
	group.Wait()
	go func() { <-began }()
	w = httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("GET", "/api/call-export", nil))
	assert.Equal(t, http.StatusForbidden, w.Code, "there is room again")
}

// How calls went is asked of all nodes for one time, and with what it takes to add it up.
func TestStatisticsAreOfOneTime(t *testing.T) {
	t.Parallel()
	body := func(p50 float64) string {
		return fmt.Sprintf(`{"since":"2026-11-23T00:00:00Z","until":"2026-11-24T00:00:00Z","step":900,"by":"server",
			"total":{"ok":2,"p50":%g,"took":"AQI="},"points":[],"groups":[{"name":"sailings","ok":2,"took":"AQI="}]}`, p50)
	}
	f := all(body(9))
	w := ask(t, f, "GET", "/api/stats?server=sailings", "", 200, body(7))
	require.Equal(t, 200, w.Code, w.Body.String())
	var got struct {
		Total  struct{ OK int }
		Groups []struct {
			Name string
			OK   int
		}
	}
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &got))
	assert.Equal(t, []any{4, "sailings", 4}, []any{got.Total.OK, got.Groups[0].Name, got.Groups[0].OK})
	assert.NotContains(t, w.Body.String(), "took")
	q, err := url.ParseQuery(f.asked[0].Query)
	require.NoError(t, err)
	since, err := time.Parse(time.RFC3339Nano, q.Get("since"))
	require.NoError(t, err)
	until, err := time.Parse(time.RFC3339Nano, q.Get("until"))
	require.NoError(t, err)
	assert.Equal(t, []any{24 * time.Hour, "true", "sailings"}, []any{until.Sub(since), q.Get("took"), q.Get("server")})
	assert.Contains(t, ask(t, all(body(9)), "GET", "/api/stats?took=true", "", 200, body(7)).Body.String(), `"took":"AQQ="`)
	other := strings.ReplaceAll(body(9), `"step":900`, `"step":60`)
	w = ask(t, all(other), "GET", "/api/stats", "", 200, body(7))
	assert.Equal(t, "south, west", w.Header().Get(Silent), "figures of another time are not added")
}
