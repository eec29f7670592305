package faults

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"unicode/utf16"

	"bouncer/standin/loopback"
)

const jsonType = "application/json"

// initialized is an answer to the first message, as a checkup numbers it.
const initialized = `{"jsonrpc":"2.0","id":1,"result":{"protocolVersion":"2025-06-18","capabilities":{"tools":{}},"serverInfo":{"name":"harbour","version":"2.1.0"}}}`

// addresses are faults before there is an answer.
func addresses() []Fault {
	return []Fault{
		{
			Name:  "a host that does not exist",
			Cause: "address.name-does-not-resolve",
			Start: func(*Stage) Case { return at("http://berths.invalid/mcp") },
		},
		{Name: "a port on which nothing listens", Cause: "address.connection-refused", Start: func(s *Stage) Case {
			port, err := loopback.FreePort()
			if err != nil {
				panic(err)
			}
			return at(fmt.Sprintf("http://127.0.0.1:%d/mcp", port))
		}},
		{Name: "the scheme of another protocol", Cause: "address.scheme-wrong", Start: func(s *Stage) Case {
			return at(strings.Replace(s.Serve(&harbour{})+"/mcp", "http:", "ws:", 1))
		}},
		{Name: "a redirect to https", Cause: "address.scheme-wrong", Start: func(s *Stage) Case {
			return at(s.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				http.Redirect(w, r, "https://"+r.Host+r.URL.Path, http.StatusMovedPermanently)
			})) + "/mcp")
		}},
		{Name: "a port of SSH", Cause: "address.another-protocol", Start: greeting("SSH-2.0-harbour_9.6\r\n")},
		{Name: "a port of mail", Cause: "address.another-protocol", Start: greeting("220 post.harbour.example ESMTP ready\r\n")},
		{Name: "a port of a key-value store", Cause: "address.another-protocol", Start: greeting("-ERR unknown command 'POST'\r\n")},
		{Name: "a port that accepts and closes", Cause: "http.stream-cut", Start: greeting("")},
		{Name: "http to a TLS port", Cause: "tls.plain-http-on-a-tls-port", Start: func(s *Stage) Case {
			return at(strings.Replace(s.secure(&harbour{}).URL, "https:", "http:", 1) + "/mcp")
		}},
		{Name: "https to a plain port", Cause: "tls.tls-on-a-plain-http-port", Start: func(s *Stage) Case {
			return at(strings.Replace(s.Serve(&harbour{}), "http:", "https:", 1) + "/mcp")
		}},
	}
}

// greeting is a port that answers whatever comes with a text, and closes.
func greeting(text string) func(*Stage) Case {
	return func(s *Stage) Case {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			panic(err)
		}
		s.Later(func() { _ = l.Close() })
		go func() { // ends with the listener
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				buffer := make([]byte, 4096)
				_, _ = conn.Read(buffer)
				_, _ = io.WriteString(conn, text)
				_ = conn.Close()
			}
		}()
		return at("http://" + l.Addr().String() + "/mcp")
	}
}

// answers are faults in what is answered.
func answers() []Fault {
	utf16le := func(text string) string {
		var b bytes.Buffer
		b.Write([]byte{0xFF, 0xFE})
		for _, u := range utf16.Encode([]rune(text)) {
			b.Write([]byte{byte(u), byte(u >> 8)})
		}
		return b.String()
	}
	fixed := func(h http.Handler) func(*Stage) Case {
		return func(s *Stage) Case { return at(s.Serve(h) + "/mcp") }
	}
	return []Fault{
		{Name: "the server's front page", Cause: "http.html-page", Start: fixed(first("text/html; charset=utf-8",
			"<!DOCTYPE html><html><head><title>Harbour</title></head><body>Welcome</body></html>"))},
		{Name: "a page for every path, and the protocol below", Cause: "http.html-page", Start: func(s *Stage) Case {
			mux := http.NewServeMux()
			mux.Handle("/api/mcp", &harbour{})
			mux.HandleFunc("/", first("text/html", "<html><head><title>Harbour</title></head></html>"))
			return at(s.Serve(mux) + "/")
		}},
		{
			Name:  "the path is missing",
			Cause: "http.wrong-path",
			Start: func(s *Stage) Case { return at(s.Serve(only("/mcp", &harbour{})) + "/") },
		},
		{Name: "a path too many", Cause: "http.wrong-path", Start: func(s *Stage) Case {
			return at(s.Serve(only("/harbour/mcp", &harbour{})) + "/harbour/api")
		}},
		{Name: "nothing anywhere", Cause: "http.wrong-path", Start: fixed(status(404, jsonType, `{"detail":"Not Found"}`))},
		{
			Name:  "POST is refused",
			Cause: "http.method-refused",
			Start: fixed(status(405, "text/plain", "Method Not Allowed", "Allow", "GET, HEAD")),
		},
		{Name: "a login page of the company", Cause: "http.redirected-to-a-login", Start: fixed(status(302, "text/html", "",
			"Location", "https://sso.harbour.example/login?return_to=%2Fmcp"))},
		{Name: "a login page of its own", Cause: "http.redirected-to-a-login", Start: fixed(status(303, "", "", "Location", "/users/sign_in"))},
		{
			Name:  "moved to another host",
			Cause: "http.redirected",
			Start: fixed(status(308, "", "", "Location", "https://new.harbour.example/mcp")),
		},
		{Name: "another API", Cause: "http.not-json-rpc", Start: fixed(first(jsonType, `{"status":"ok","service":"berths"}`))},
		{Name: "plain text", Cause: "http.not-json-rpc", Start: fixed(first("text/plain", "It works!"))},
		{Name: "broken JSON", Cause: "protocol.malformed", Start: fixed(first(jsonType, initialized[:len(initialized)-9]))},
		{
			Name:  "too many requests",
			Cause: "http.too-many-requests",
			Start: fixed(status(429, jsonType, `{"error":"rate limit exceeded"}`, "Retry-After", "30")),
		},
		{
			Name:  "too many requests, without a time",
			Cause: "http.too-many-requests",
			Start: fixed(status(429, "text/plain", "Too Many Requests")),
		},
		{
			Name:  "too large",
			Cause: "http.request-too-large",
			Start: fixed(status(413, "text/html", "<html><body>413 Request Entity Too Large</body></html>")),
		},
		{Name: "not acceptable", Cause: "http.not-acceptable", Start: fixed(status(406, jsonType, `{"error":"Not Acceptable"}`))},
		{
			Name:  "no JSON taken",
			Cause: "http.content-type-refused",
			Start: fixed(status(415, jsonType, `{"title":"Unsupported Media Type","status":415}`)),
		},
		{Name: "a message labelled as text", Cause: "http.content-type-wrong", Start: fixed(first("text/plain; charset=utf-8", initialized))},
		{Name: "a message without a label", Cause: "http.content-type-wrong", Start: fixed(first("application/octet-stream", initialized))},
		{Name: "an exception", Cause: "http.server-error", Start: fixed(status(500, jsonType, `{"detail":"Internal Server Error"}`))},
		{
			Name:  "an exception, as a page",
			Cause: "http.server-error",
			Start: fixed(status(500, "text/html", "<html><body><h1>500</h1></body></html>")),
		},
		{Name: "nobody behind the proxy", Cause: "http.bad-gateway", Start: fixed(status(502, "text/html",
			"<html><head><title>502 Bad Gateway</title></head></html>", "Server", "edge"))},
		{
			Name:  "maintenance",
			Cause: "http.bad-gateway",
			Start: fixed(status(503, "text/html", "<html>We will be back soon</html>", "Retry-After", "600")),
		},
		{
			Name:  "a gateway that waits in vain",
			Cause: "http.bad-gateway",
			Start: fixed(status(504, "text/plain", "upstream request timeout", "Via", "1.1 edge")),
		},
		{Name: "the Host is refused", Cause: "http.host-or-origin-refused", Start: fixed(status(421, "text/plain", "Invalid Host header"))},
		{Name: "the Host is refused, as forbidden", Cause: "http.host-or-origin-refused", Start: fixed(status(403, jsonType,
			`{"jsonrpc":"2.0","error":{"code":-32000,"message":"Invalid Host: berths.harbour.example"},"id":null}`))},
		{Name: "the Host is refused, as a bad request", Cause: "http.host-or-origin-refused", Start: fixed(status(
			400,
			"text/html",
			"<html><head><title>DisallowedHost</title></head><body>Invalid HTTP_HOST header. You may need to add this host to ALLOWED_HOSTS.</body></html>",
		))},
		{Name: "cut in the middle", Cause: "http.stream-cut", Start: fixed(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", jsonType)
			w.Header().Set("Content-Length", "400")
			_, _ = io.WriteString(w, initialized[:60])
		}))},
		{Name: "an event stream that ends at once", Cause: "http.stream-cut", Start: fixed(first("text/event-stream", ": welcome\n\n"))},
		{
			Name:  "said to be compressed",
			Cause: "http.encoding-broken",
			Start: fixed(status(200, jsonType, initialized, "Content-Encoding", "gzip")),
		},
		{
			Name:  "compressed, and not said",
			Cause: "http.encoding-broken",
			Start: fixed(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", jsonType)
				z := gzip.NewWriter(w)
				_, _ = io.WriteString(z, initialized)
				_ = z.Close()
			})),
		},
		{Name: "a byte-order mark", Cause: "http.encoding-broken", Start: fixed(first(jsonType, "\ufeff"+initialized))},
		{Name: "UTF-16", Cause: "http.encoding-broken", Start: fixed(first("application/json; charset=utf-16", utf16le(initialized)))},
		{Name: "Latin-1", Cause: "http.encoding-broken", Start: fixed(first(jsonType, strings.Replace(initialized, "harbour", "h\xe5vn", 1)))},
		{Name: "an empty answer", Cause: "protocol.never-answers", Start: fixed(status(202, "", ""))},
		{Name: "an answer that never comes", Cause: "protocol.never-answers", Slow: true, Start: fixed(http.HandlerFunc(forEver))},
		{Name: "an answer that never comes, and a page that does", Cause: "protocol.never-answers", Slow: true,
			Start: fixed(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet {
					_, _ = io.WriteString(w, "ok")
					return
				}
				forEver(w, r)
			}))},
	}
}

// secure serves over TLS, with a certificate that nobody trusts.
func (s *Stage) secure(h http.Handler) *httptest.Server {
	server := httptest.NewUnstartedServer(h)
	server.Config.ErrorLog = quiet
	server.StartTLS()
	s.Later(func() { loopback.End(server) })
	return server
}

// conversations are faults of what is spoken.
func conversations() []Fault {
	speaking := func(h *harbour) func(*Stage) Case { return func(s *Stage) Case { return at(s.Serve(h) + "/mcp") } }
	twice := `[{"name":"list_berths","inputSchema":{"type":"object"}},{"name":"list_berths","inputSchema":{"type":"object"}}]`
	schema := func(text string) string { return fmt.Sprintf(`[{"name":"list_berths","inputSchema":%s}]`, text) }
	return []Fault{
		{Name: "a revision of the future", Cause: "protocol.no-revision-in-common", Start: speaking(&harbour{revision: "2031-01-01"})},
		{Name: "a revision of its own", Cause: "protocol.no-revision-in-common", Start: speaking(&harbour{revision: "1.0"})},
		{Name: "our revision is refused", Cause: "protocol.no-revision-in-common", Start: speaking(&harbour{answer: map[string]string{
			"initialize": `{"code":-32602,"message":"Unsupported protocol version","data":{"supported":["2024-10-07"],"requested":"2025-11-25"}}`,
		}})},
		{Name: "initialize is refused", Cause: "protocol.initialization-refused", Start: speaking(&harbour{answer: map[string]string{
			"initialize": `{"code":-32603,"message":"database is locked"}`,
		}})},
		{
			Name:  "no revision in the answer",
			Cause: "protocol.malformed",
			Start: speaking(&harbour{answer: map[string]string{"initialize": `{"capabilities":{}}`}}),
		},
		{Name: "an id of its own", Cause: "protocol.wrong-id", Start: func(s *Stage) Case {
			return at(s.Serve(first(jsonType, strings.Replace(initialized, `"id":1`, `"id":"a7c1"`, 1))) + "/mcp")
		}},
		{Name: "the id as a text", Cause: "protocol.wrong-id", Start: func(s *Stage) Case {
			return at(s.Serve(first(jsonType, strings.Replace(initialized, `"id":1`, `"id":"1"`, 1))) + "/mcp")
		}},
		{Name: "no id", Cause: "protocol.wrong-id", Start: func(s *Stage) Case {
			return at(s.Serve(first(jsonType, strings.Replace(initialized, `"id":1,`, ``, 1))) + "/mcp")
		}},
		{
			Name:  "a batch",
			Cause: "protocol.unexpected-batch",
			Start: func(s *Stage) Case { return at(s.Serve(first(jsonType, "["+initialized+"]")) + "/mcp") },
		},
		{Name: "another version of JSON-RPC", Cause: "protocol.malformed", Start: func(s *Stage) Case {
			return at(s.Serve(first(jsonType, strings.Replace(initialized, `"jsonrpc":"2.0",`, ``, 1))) + "/mcp")
		}},
		{Name: "tools that are not served", Cause: "protocol.capability-declared-but-not-served",
			Start: speaking(&harbour{answer: map[string]string{"tools/list": "-"}})},
		{Name: "prompts that are not served", Cause: "protocol.capability-declared-but-not-served",
			Start: speaking(&harbour{capabilities: `{"tools":{},"prompts":{}}`, answer: map[string]string{"prompts/list": "-"}})},
		{Name: "pages in a circle", Cause: "protocol.endless-paging", Start: speaking(&harbour{answer: map[string]string{
			"tools/list": `{"tools":` + goodTools + `,"nextCursor":"again"}`,
		}})},
		{Name: "pages without end", Cause: "protocol.endless-paging", Start: func(s *Stage) Case {
			var n atomic.Int64
			inner := &harbour{}
			return at(s.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				m, ok := read(w, r)
				if !ok {
					return
				}
				text := inner.reply(m)
				if m.Method == "tools/list" {
					text = success(m.ID, fmt.Sprintf(`{"tools":[{"name":"t%d","inputSchema":{"type":"object"}}],"nextCursor":"%d"}`, n.Add(1), n.Load()))
				}
				w.Header().Set("Content-Type", jsonType)
				_, _ = io.WriteString(w, text)
			})) + "/mcp")
		}},
		{Name: "two tools of one name", Cause: "protocol.two-tools-of-one-name", Start: speaking(&harbour{tools: twice})},
		{Name: "no schema", Cause: "protocol.invalid-tool-schema", Start: speaking(&harbour{tools: `[{"name":"list_berths"}]`})},
		{Name: "a schema that is a text", Cause: "protocol.invalid-tool-schema", Start: speaking(&harbour{tools: schema(`"object"`)})},
		{
			Name:  "a schema of a list",
			Cause: "protocol.invalid-tool-schema",
			Start: speaking(&harbour{tools: schema(`{"type":"array","items":{}}`)}),
		},
		{Name: "a type that there is not", Cause: "protocol.invalid-tool-schema",
			Start: speaking(&harbour{tools: schema(`{"type":"object","properties":{"quay":{"type":"str"}}}`)})},
		{Name: "a name with a blank", Cause: "protocol.invalid-tool-name",
			Start: speaking(&harbour{tools: `[{"name":"list berths","inputSchema":{"type":"object"}}]`})},
		{
			Name:  "an empty name",
			Cause: "protocol.invalid-tool-name",
			Start: speaking(&harbour{tools: `[{"name":"","inputSchema":{"type":"object"}}]`}),
		},
		{
			Name:  "a list that is none",
			Cause: "protocol.malformed",
			Start: speaking(&harbour{answer: map[string]string{"tools/list": `{"tools":{"list_berths":{}}}`}}),
		},
		{Name: "a list that never comes", Cause: "protocol.listing-never-answered", Slow: true, Start: func(s *Stage) Case {
			return at(s.Serve(on("tools/list", &harbour{}, forEver)) + "/mcp")
		}},
		{Name: "a list larger than is taken", Cause: "protocol.message-too-large", Start: func(s *Stage) Case {
			big := fmt.Sprintf(`[{"name":"list_berths","description":"%s","inputSchema":{"type":"object"}}]`, strings.Repeat("x", 2<<20))
			c := speaking(&harbour{tools: big})(s)
			c.MessageMiB = 1
			return c
		}},
		{Name: "it ends on the list", Cause: "protocol.crashes-on-a-request", Start: func(s *Stage) Case {
			return at(s.Serve(on("tools/list", &harbour{}, func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })) + "/mcp")
		}},
		{Name: "a session that is forgotten", Cause: "transport.session-lost", Start: func(s *Stage) Case {
			return at(s.Serve(forgetful()) + "/mcp")
		}},
		{Name: "an event stream that closes", Cause: "transport.event-stream-keeps-closing", Start: func(s *Stage) Case {
			inner := &harbour{}
			return at(s.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet {
					w.Header().Set("Content-Type", "text/event-stream")
					w.WriteHeader(http.StatusOK)
					return
				}
				inner.ServeHTTP(w, r)
			})) + "/mcp")
		}},
	}
}

// on answers one method otherwise than the rest.
func on(method string, h *harbour, otherwise http.HandlerFunc) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(r.Body)
		if err != nil {
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(raw))
		if bytes.Contains(raw, []byte(`"`+method+`"`)) {
			otherwise(w, r)
			return
		}
		h.ServeHTTP(w, r)
	})
}

// forgetful gives sessions out, and does not know them afterwards.
func forgetful() http.Handler {
	inner := &harbour{}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost && r.Header.Get("Mcp-Session-Id") != "" {
			status(404, jsonType, `{"jsonrpc":"2.0","error":{"code":-32001,"message":"Session not found"},"id":null}`)(w, r)
			return
		}
		w.Header().Set("Mcp-Session-Id", "0b1d7c5e")
		inner.ServeHTTP(w, r)
	})
}

// transports are faults about which transport is spoken.
func transports() []Fault {
	return []Fault{
		{Name: "only the older transport", Cause: "transport.speaks-only-legacy-sse", Start: func(s *Stage) Case {
			c := at(s.Serve(legacy("/sse", "/messages", "/messages?sessionId=7")) + "/sse")
			c.Transport = "streamable-http"
			return c
		}},
		{Name: "registered as an event stream, and is none", Cause: "transport.speaks-streamable-http", Start: func(s *Stage) Case {
			c := at(s.Serve(only("/mcp", &harbour{})) + "/mcp")
			c.Transport = "sse"
			return c
		}},
		{Name: "registered as an event stream, and moved on", Cause: "transport.streamable-http-at-another-path", Start: func(s *Stage) Case {
			c := at(s.Serve(only("/mcp", &harbour{})) + "/sse")
			c.Transport = "sse"
			return c
		}},
		{Name: "messages go to another origin", Cause: "transport.message-endpoint-points-elsewhere", Start: func(s *Stage) Case {
			return at(s.Serve(legacy("/sse", "/messages", "http://internal.harbour.example:8000/messages?sessionId=7")) + "/sse")
		}},
		{Name: "messages lack the proxy's prefix", Cause: "transport.message-endpoint-points-elsewhere", Start: func(s *Stage) Case {
			return at(s.Serve(legacy("/harbour/sse", "/harbour/messages", "/messages?sessionId=7")) + "/harbour/sse")
		}},
		{Name: "no event stream", Cause: "transport.no-event-stream", Start: func(s *Stage) Case {
			c := at(s.Serve(first(jsonType, `{"status":"ok"}`)) + "/sse")
			c.Transport = "sse"
			return c
		}},
	}
}

// legacy serves the transport of 2024-11-05 and says that messages go to an address.
func legacy(stream, post, endpoint string) http.Handler {
	inner := &harbour{revision: "2024-11-05"}
	answers := make(chan string, 16)
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+stream, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprintf(w, "event: endpoint\ndata: %s\n\n", endpoint)
		for {
			_ = http.NewResponseController(w).Flush()
			select {
			case text := <-answers:
				fmt.Fprintf(w, "event: message\ndata: %s\n\n", text)
			case <-r.Context().Done():
				return
			}
		}
	})
	mux.HandleFunc("POST "+post, func(w http.ResponseWriter, r *http.Request) {
		m, ok := read(w, r)
		if !ok {
			return
		}
		w.WriteHeader(http.StatusAccepted)
		if text := inner.reply(m); text != "" {
			answers <- text
		}
	})
	return mux
}
