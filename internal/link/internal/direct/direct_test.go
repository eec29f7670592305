package direct

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httptrace"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func options() Options {
	return Options{
		Dial: (&net.Dialer{Timeout: time.Minute}).DialContext, MaxIdle: 4, IdleTimeout: time.Minute, MaxHeaderBytes: 8 << 10,
	}
}

// post makes a request as a transport of MCP does.
func post(t testing.TB, ctx context.Context, to, body string) *http.Request {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, strings.NewReader(body))
	require.NoError(t, err)
	return req
}

// said is what comes back for a request: of the answer, or of the error.
type said struct {
	status int
	header http.Header
	body   string
	failed bool // before the header, or amid the body
}

func ask(tr http.RoundTripper, req *http.Request) (out said, err error) {
	res, err := tr.RoundTrip(req)
	if err != nil {
		return said{failed: true}, err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	return said{res.StatusCode, res.Header, string(b), err != nil}, err
}

// raw answers each connection's requests with the same bytes, until closes is set; then it hangs up.
func raw(t *testing.T, answer string, closes bool) (address string, connections, requests *atomic.Int64) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	connections, requests = &atomic.Int64{}, &atomic.Int64{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			connections.Add(1)
			go func() {
				defer c.Close()
				in := bufio.NewReader(c)
				for {
					req, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					_, _ = io.Copy(io.Discard, req.Body)
					requests.Add(1)
					_, _ = io.WriteString(c, answer)
					if closes {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String(), connections, requests
}

// Whatever a server says, it is understood as http.Transport understands it.
func TestAnswersAreUnderstoodAsByTheTransport(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		answer string
		closes bool
		failed bool
		kept   bool // the connection serves the next request
	}{
		"with a length":           {"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nX-A: 1\r\nX-A: 2\r\n\r\nok", false, false, true},
		"in chunks":               {"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n3\r\nay!\r\n0\r\n\r\n", false, false, true},
		"with trailers":           {"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: X\r\n\r\n2\r\nok\r\n0\r\nX: y\r\n\r\n", false, false, true},
		"until it ends":           {"HTTP/1.1 200 OK\r\n\r\nok", true, false, false},
		"empty":                   {"HTTP/1.1 202 Accepted\r\nContent-Length: 0\r\n\r\n", false, false, true},
		"without a content":       {"HTTP/1.1 204 No Content\r\n\r\n", false, false, true},
		"of the last version":     {"HTTP/1.0 200 OK\r\nContent-Length: 2\r\n\r\nok", true, false, false},
		"that is the last":        {"HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 2\r\n\r\nok", true, false, false},
		"after interim ones":      {"HTTP/1.1 103 Early Hints\r\nX-A: 9\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok", false, false, true},
		"turned away":             {"HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Bearer\r\nContent-Length: 2\r\n\r\nno", false, false, true},
		"cut off":                 {"HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nok", true, true, false},
		"cut off amid its chunks": {"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n9\r\nok", true, true, false},
		"cut off in its header":   {"HTTP/1.1 200 OK\r\nContent-Le", true, true, false},
		"none at all":             {"", true, true, false},
		"of another protocol":     {"\x15\x03\x01\x00\x02\x02", true, true, false},
		"with chunks of nonsense": {"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n", false, true, false},
		"with two lengths":        {"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 3\r\n\r\nok", false, true, false},
		"switching protocols":     {"HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\n\r\n", true, true, false},
		"that never counts":       {strings.Repeat("HTTP/1.1 100 Continue\r\n\r\n", 9), true, true, false},
		"with an endless header":  {"HTTP/1.1 200 OK\r\nX: " + strings.Repeat("x", 64<<10) + "\r\n\r\n", true, true, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			address, _, _ := raw(t, row.answer, row.closes)
			peer := &http.Transport{MaxResponseHeaderBytes: 8 << 10, DisableCompression: true}
			defer peer.CloseIdleConnections()
			want, _ := ask(peer, post(t, t.Context(), "http://"+address, "{}"))
			if name == "switching protocols" {
				want = said{failed: true} // which http.Transport leaves to whoever asked
			}
			address, connections, requests := raw(t, row.answer, row.closes)
			tr := New(address, options())
			defer tr.CloseIdleConnections()
			got, err := ask(tr, post(t, t.Context(), "http://"+address, "{}"))
			assert.Equal(t, row.failed, got.failed, "%v", err)
			assert.Equal(t, want, got)
			again, _ := ask(tr, post(t, t.Context(), "http://"+address, "{}"))
			assert.Equal(t, want, again)
			assert.EqualValues(t, 2, requests.Load(), "what was sent is not sent again")
			assert.Equal(t, map[bool]int64{true: 1, false: 2}[row.kept], connections.Load())
		})
	}
}

// A server is sent what http.Transport would send it.
func TestRequestsAreThoseOfTheTransport(t *testing.T) {
	t.Parallel()
	type received struct {
		method, uri, host string
		header            http.Header
		body              string
		length            int64
	}
	seen := make(chan received, 2)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		seen <- received{r.Method, r.RequestURI, r.Host, r.Header, string(raw), r.ContentLength}
	}))
	defer srv.Close()
	tr := New(srv.Listener.Addr().String(), options())
	defer tr.CloseIdleConnections()
	peer := &http.Transport{DisableCompression: true}
	defer peer.CloseIdleConnections()
	for name, alter := range map[string]func(*http.Request){
		"plain": func(*http.Request) {},
		"with headers": func(r *http.Request) {
			r.Header = http.Header{"X-A": {"1", "2"}, "Mcp-Name": {"é"}, "User-Agent": {"bouncer"}}
		},
		"with its own": func(r *http.Request) {
			r.Header = http.Header{"User-Agent": {"x"}, "Content-Length": {"99"}, "Host": {"elsewhere"}, "Transfer-Encoding": {"chunked"}}
		},
		"an address": func(r *http.Request) { r.URL.Path, r.URL.RawQuery = "/a b/ü", "q=1%202&é=x" },
		"a host":     func(r *http.Request) { r.Host = "sailings.skerrow.example:80" },
		"the last":   func(r *http.Request) { r.Close = true },
		"without a body": func(r *http.Request) {
			r.Body, r.ContentLength, r.GetBody = nil, 0, nil
		},
		"a long body": func(r *http.Request) {
			long := strings.Repeat("tide ", 20_000)
			r.Body, r.ContentLength = io.NopCloser(strings.NewReader(long)), int64(len(long))
		},
	} {
		var got []received
		for _, way := range []http.RoundTripper{peer, tr} {
			req := post(t, t.Context(), srv.URL+"/mcp?key=a", "{}")
			req.Header.Set("User-Agent", "bouncer/1")
			alter(req)
			_, err := ask(way, req)
			require.NoError(t, err, name)
			got = append(got, <-seen)
		}
		assert.Equal(t, got[0], got[1], name)
	}
	short := post(t, t.Context(), srv.URL, "{}")
	short.ContentLength = 3
	_, err := ask(tr, short)
	assert.ErrorContains(t, err, "2 bytes instead of 3", "what follows would be taken for its end")
}

// An idle connection that the server closed, or on which it says what nobody asked for, is not used.
func TestConnectionsThatEndedAreNotUsed(t *testing.T) {
	t.Parallel()
	var open atomic.Int64
	states := make(chan http.ConnState, 100)
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(w, r.Body)
	}))
	srv.Config.ConnState = func(_ net.Conn, s http.ConnState) {
		if s == http.StateNew {
			open.Add(1)
		}
		states <- s
	}
	srv.Start()
	defer srv.Close()
	tr := New(srv.Listener.Addr().String(), options())
	defer tr.CloseIdleConnections()
	var got []httptrace.GotConnInfo
	ctx := httptrace.WithClientTrace(t.Context(), &httptrace.ClientTrace{GotConn: func(i httptrace.GotConnInfo) { got = append(got, i) }})
	for i := range 3 {
		answer, err := ask(tr, post(t, ctx, srv.URL, fmt.Sprint("fog ", i)))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint("fog ", i), answer.body)
	}
	assert.EqualValues(t, 1, open.Load())
	for idle := 0; idle < 3; { // all requests are done, as the server sees it
		if <-states == http.StateIdle {
			idle++
		}
	}
	srv.CloseClientConnections()
	require.Eventually(t, func() bool { return !tr.idle[0].usable() }, time.Minute, time.Millisecond)
	answer, err := ask(tr, post(t, ctx, srv.URL, "after"))
	require.NoError(t, err)
	assert.Equal(t, "after", answer.body)
	reused := []bool{}
	for _, i := range got {
		reused = append(reused, i.Reused)
	}
	assert.Equal(t, []bool{false, true, true, false}, reused)

	address, connections, _ := raw(t, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nokHTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nevil", false)
	chatty := New(address, options())
	defer chatty.CloseIdleConnections()
	for range 3 {
		answer, err := ask(chatty, post(t, t.Context(), "http://"+address, "{}"))
		require.NoError(t, err)
		assert.Equal(t, "ok", answer.body, "an answer to nobody is given to nobody")
	}
	assert.EqualValues(t, 3, connections.Load())
}

// Between the look at an idle connection and the first byte on it the server may close it. Nothing
// was sent then, so that it is sent on another one; once something was sent, it is not.
func TestWhatWasNotSentIsSentElsewhere(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		taken int // bytes that the broken connection takes
		sent  bool
	}{"nothing": {0, true}, "a part": {10, false}} {
		var served atomic.Int64
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			served.Add(1)
			_, _ = io.Copy(w, r.Body)
		}))
		o, dials := options(), 0
		dial := o.Dial
		o.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
			dials++
			c, err := dial(ctx, network, address)
			if dials > 1 {
				return c, err
			}
			return &breaking{Conn: c, after: row.taken}, err
		}
		tr := New(srv.Listener.Addr().String(), o)
		_, err := ask(tr, post(t, t.Context(), srv.URL, "first"))
		require.NoError(t, err)
		answer, err := ask(tr, post(t, t.Context(), srv.URL, "second"))
		if row.sent {
			require.NoError(t, err, name)
			assert.Equal(t, "second", answer.body)
		} else {
			assert.ErrorIs(t, err, errBroken, name)
		}
		assert.EqualValues(t, map[bool]int64{true: 2, false: 1}[row.sent], served.Load(), name)
		tr.CloseIdleConnections()
		srv.Close()
	}
}

var errBroken = errors.New("the connection is broken")

// breaking is a connection that takes one request, and of the next one no more than some bytes.
type breaking struct {
	net.Conn
	after  int
	writes int
	longer time.Duration
}

func (b *breaking) Write(p []byte) (int, error) {
	if b.writes++; b.writes == 1 {
		return b.Conn.Write(p)
	}
	n, _ := b.Conn.Write(p[:b.after])
	return n, errBroken
}

// SetReadDeadline allows more than is asked for, since a busy machine may take as long as that to answer.
func (b *breaking) SetReadDeadline(t time.Time) error {
	if !t.IsZero() {
		t = t.Add(b.longer)
	}
	return b.Conn.SetReadDeadline(t)
}

// Whoever leaves is not kept, whatever is waited for, and the server learns of it.
func TestWhoeverLeavesIsNotKept(t *testing.T) {
	t.Parallel()
	came, left := make(chan struct{}, 3), make(chan struct{}, 3)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		if r.URL.Path == "/stream" {
			_, _ = io.WriteString(w, "data: 1\n\n")
			_ = http.NewResponseController(w).Flush()
		}
		came <- struct{}{}
		<-r.Context().Done()
		left <- struct{}{}
	}))
	defer srv.Close()
	tr := New(srv.Listener.Addr().String(), options())
	defer tr.CloseIdleConnections()
	why := errors.New("the agent is gone")
	ctx, cancel := context.WithCancelCause(t.Context())
	done := make(chan error, 1)
	go func() {
		_, err := ask(tr, post(t, ctx, srv.URL, "{}"))
		done <- err
	}()
	<-came
	cancel(why)
	assert.ErrorIs(t, <-done, why)
	<-left
	ctx, cancel = context.WithCancelCause(t.Context())
	res, err := tr.RoundTrip(post(t, ctx, srv.URL+"/stream", "{}"))
	require.NoError(t, err)
	b := make([]byte, 9)
	_, err = io.ReadFull(res.Body, b)
	require.NoError(t, err)
	cancel(why)
	_, err = res.Body.Read(b)
	assert.ErrorIs(t, err, why)
	<-left
	require.NoError(t, res.Body.Close())

	// A stream may be closed while it is read.
	res, err = tr.RoundTrip(post(t, t.Context(), srv.URL+"/stream", "{}"))
	require.NoError(t, err)
	go func() { _ = res.Body.Close() }()
	_, err = io.ReadAll(res.Body)
	assert.Error(t, err)
	<-left
	assert.Empty(t, tr.idle)
	ended, end := context.WithCancel(t.Context())
	end()
	_, err = tr.RoundTrip(post(t, ended, srv.URL, "{}"))
	assert.ErrorIs(t, err, context.Canceled)
}

// No more connections are kept than may be, and none for longer.
func TestIdleConnectionsAreBounded(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		var open atomic.Int64
		o := options()
		o.Dial = func(context.Context, string, string) (net.Conn, error) {
			here, there := net.Pipe()
			open.Add(1)
			go func() {
				defer open.Add(-1)
				in := bufio.NewReader(there)
				for {
					req, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					_, _ = io.Copy(io.Discard, req.Body)
					time.Sleep(time.Second) // of the bubble's clock, so that requests overlap
					_, _ = io.WriteString(there, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
				}
			}()
			return here, nil
		}
		tr := New("sailings:80", o)
		burst := func(n int) {
			done := make(chan error, n)
			for range n {
				go func() {
					_, err := ask(tr, post(t, t.Context(), "http://sailings", "{}"))
					done <- err
				}()
			}
			for range n {
				assert.NoError(t, <-done)
			}
			synctest.Wait()
		}
		burst(9)
		assert.EqualValues(t, 4, open.Load())
		time.Sleep(o.IdleTimeout - 10*time.Second)
		burst(1)
		assert.EqualValues(t, 4, open.Load(), "the one that was used last is used again")
		time.Sleep(20 * time.Second)
		synctest.Wait()
		assert.EqualValues(t, 1, open.Load())
		time.Sleep(o.IdleTimeout)
		synctest.Wait()
		assert.Zero(t, open.Load())
		burst(2)
		tr.CloseIdleConnections()
		synctest.Wait()
		assert.Zero(t, open.Load())
		assert.Nil(t, tr.expires)
	})
}

// A server that answers before it has taken all of a request is heard.
func TestAnEarlyAnswerIsHeard(t *testing.T) {
	t.Parallel()
	here, there := net.Pipe() // which takes in nothing that is not read
	o := options()
	o.Dial = func(context.Context, string, string) (net.Conn, error) {
		return &breaking{Conn: here, writes: 1, after: 20, longer: 20 * time.Second}, nil
	}
	go func() {
		_, _ = io.ReadFull(there, make([]byte, 20))
		_, _ = io.WriteString(there, "HTTP/1.1 413 Content Too Large\r\nContent-Length: 4\r\n\r\nlong")
	}()
	tr := New("sailings:80", o)
	answer, err := ask(tr, post(t, t.Context(), "http://sailings", "{}"))
	require.NoError(t, err)
	assert.Equal(t, "413 long", fmt.Sprint(answer.status, " ", answer.body))
	assert.Empty(t, tr.idle)
}

// A header cannot become another one, and an error does not tell its value.
func TestHeadersStayHeaders(t *testing.T) {
	t.Parallel()
	tr := New("127.0.0.1:1", options())
	for _, h := range []http.Header{
		{"X": {"a\r\nHost: b"}}, {"X": {"a\x00"}}, {"X\r\nY": {"a"}}, {"X Y": {"a"}}, {"": {"a"}}, {"X:": {"a"}}, {"X": {"ok", "\x7f"}},
	} {
		body := &closing{Reader: strings.NewReader("{}")}
		req := post(t, t.Context(), "http://127.0.0.1:1", "")
		req.Header, req.Body, req.ContentLength = h, body, 2
		_, err := tr.RoundTrip(req)
		require.ErrorContains(t, err, "header")
		assert.NotContains(t, err.Error(), "Host: b")
		assert.True(t, body.closed)
	}
	assert.NoError(t, validHeader(http.Header{"X": {"a\tb é", ""}, "Authorization": {"Bearer x"}}))
	unknown := post(t, t.Context(), "http://127.0.0.1:1", "")
	unknown.ContentLength = -1
	_, err := tr.RoundTrip(unknown)
	require.ErrorContains(t, err, "length")
	_, err = tr.RoundTrip(post(t, t.Context(), "http://127.0.0.1:1", "{}"))
	var op *net.OpError
	require.ErrorAs(t, err, &op)
	assert.Equal(t, "dial", op.Op)
}

type closing struct {
	io.Reader
	closed bool
}

func (c *closing) Close() error {
	c.closed = true
	return nil
}
