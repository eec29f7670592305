package faults

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"
)

// second are further ways to have causes that have one so far.
func second() []Fault {
	fixed := func(h http.Handler) func(*Stage) Case {
		return func(s *Stage) Case { return at(s.Serve(h) + "/mcp") }
	}
	calling := func(h http.Handler, alter func(*Case)) func(*Stage) Case {
		return func(s *Stage) Case {
			c := at(s.Serve(h) + "/mcp")
			c.Tool, c.Arguments = "list_berths", "{}"
			alter(&c)
			return c
		}
	}
	same := func(*Case) {}
	answering := func(text string) *harbour { return &harbour{call: func(int) string { return text }} }
	serving := func(host string, from, to time.Duration, version uint16) func(*Stage) Case {
		return func(s *Stage) Case {
			a, now := newAuthority("Harbour CA"), time.Now()
			conf := &tls.Config{Certificates: []tls.Certificate{a.issue(host, now.Add(from), now.Add(to))}} //nolint:gosec // what is wrong varies
			conf.MinVersion, conf.MaxVersion = tls.VersionTLS10, version
			return tlsCase(s, conf, a.pem)
		}
	}
	known := func(g gatehouse, c Client) func(*Stage) Case {
		return func(s *Stage) Case {
			out := g.start(s)
			out.Client = &c
			return out
		}
	}
	secure := func(h http.Handler) func(*Stage) Case {
		return func(s *Stage) Case { return at(strings.Replace(s.Serve(h), "http:", "https:", 1) + "/mcp") }
	}
	script := func(body string) func(*Stage) Case {
		return func(s *Stage) Case { return run(s.Script("berths", body)) }
	}
	day := 24 * time.Hour
	huge := strings.Repeat("a berth is free; ", 1<<20+10)
	return []Fault{
		{Name: "a port that was given up", Cause: "address.connection-refused", Start: func(*Stage) Case { return at("http://127.0.0.1:9/mcp") }},
		{Name: "a name in no zone", Cause: "address.name-does-not-resolve", Start: func(*Stage) Case { return at("https://mcp.harbour.invalid:8443/v1") }},
		{Name: "no route, over TLS", Cause: "address.unreachable", Start: func(*Stage) Case { return at("https://255.255.255.255/mcp") }},
		{Name: "packets that nobody answers, over TLS", Cause: "address.connection-times-out", Slow: true, Start: func(s *Stage) Case {
			c := crowded(s)
			c.URL = strings.Replace(c.URL, "http:", "https:", 1)
			return c
		}},
		{Name: "a token endpoint behind a gateway that fails", Cause: "auth.authorization-server-fails", Start: known(gatehouse{
			token: status(502, "text/html", "<html>Bad Gateway</html>"),
		}, Client{ID: "bouncer-at-harbour", Secret: "gate-4711", Machine: true})},
		{Name: "a refresh token that was used already", Cause: "auth.refresh-no-longer-possible", Start: known(gatehouse{
			token: status(400, jsonType, `{"error":"invalid_grant","error_description":"refresh token has already been used"}`),
		}, Client{ID: "bouncer-at-harbour", RefreshToken: "hbr-refresh-2"})},
		{Name: "a tool of another name", Cause: "call.no-such-tool", Start: calling(&harbour{}, func(c *Case) { c.Tool = "List_Berths" })},
		{Name: "cut off in the middle of the result", Cause: "call.outcome-unknown", Start: calling(on("tools/call", &harbour{}, cutInside), same)},
		{Name: "a result of many texts", Cause: "call.result-too-large", Start: calling(answering(
			fmt.Sprintf(`{"content":[{"type":"text","text":%q}]}`, huge)), same)},
		{Name: "a header, and no result", Cause: "call.times-out", Slow: true, Start: calling(on("tools/call", &harbour{}, headOnly), same)},
		{Name: "a tool that is not ready", Cause: "call.tool-reports-an-error", Start: calling(answering(
			`{"content":[{"type":"text","text":"The crane is being serviced until Friday."}],"isError":true}`), same)},
		{Name: "another media type is wanted, says the gateway", Cause: "http.content-type-refused", Start: fixed(status(415, "text/html",
			"<html><h1>415 Unsupported Media Type</h1></html>"))},
		{Name: "a header too large, says the proxy", Cause: "http.request-too-large", Start: fixed(status(431, "text/html", "Request Header Fields Too Large"))},
		{Name: "not for legal reasons", Cause: "http.unexpected-status", Start: fixed(status(451, "text/plain", "Unavailable For Legal Reasons"))},
		{Name: "a flag and its value in one word", Cause: "launch.arguments-glued-together", Start: func(s *Stage) Case {
			return run(s.Script("berths", "case \"$1\" in\n'--quay north') echo \"unknown option: --quay north\" >&2; exit 2;;\nesac\n"), "--quay north")
		}},
		{Name: "a directory with a slip", Cause: "launch.working-directory-missing", Start: func(s *Stage) Case {
			c := s.part("well")
			c.Dir = s.Dir + "/brths"
			return c
		}},
		{Name: "the method header is missing, says the server", Cause: "protocol.headers-refused", Start: fixed(status(400, jsonType,
			`{"jsonrpc":"2.0","id":null,"error":{"code":-32020,"message":"missing required header Mcp-Method"}}`))},
		{Name: "three tools of one name", Cause: "protocol.two-tools-of-one-name", Start: fixed(&harbour{tools: `[{"name":"a","inputSchema":{"type":"object"}},` +
			`{"name":"b","inputSchema":{"type":"object"}},{"name":"a","inputSchema":{"type":"object"}},{"name":"a","inputSchema":{"type":"object"}}]`})},
		{Name: "for the name of the machine", Cause: "tls.certificate-for-another-name", Start: serving("dock-7.local", -day, day, tls.VersionTLS13)},
		{Name: "valid from next month", Cause: "tls.certificate-not-yet-valid", Start: serving("", 31*day, 60*day, tls.VersionTLS13)},
		{Name: "only TLS 1.0", Cause: "tls.no-version-in-common", Start: serving("", -day, day, tls.VersionTLS10)},
		{Name: "closed at the first word of TLS", Cause: "tls.handshake-fails", Start: func(s *Stage) Case {
			c := greeting("\x15\x03\x01\x00\x02\x02\x50")(s)
			c.URL = strings.Replace(c.URL, "http:", "https:", 1)
			return c
		}},
		{Name: "https to a proxy that speaks plain", Cause: "tls.tls-on-a-plain-http-port", Start: secure(status(400, "text/html", "<html>Bad Request</html>"))},
		{Name: "a page where a stream should be", Cause: "transport.no-event-stream", Start: func(s *Stage) Case {
			c := at(s.Serve(status(200, "text/plain", "the harbour is open")) + "/sse")
			c.Transport = "sse"
			return c
		}},
		{Name: "the older transport at another name", Cause: "transport.speaks-only-legacy-sse", Start: func(s *Stage) Case {
			c := at(s.Serve(legacy("/events", "/post", "/post?session=9")) + "/events")
			c.Transport = "streamable-http"
			return c
		}},
		{Name: "registered as an event stream at the root", Cause: "transport.speaks-streamable-http", Start: func(s *Stage) Case {
			c := at(s.Serve(only("/", &harbour{})) + "/")
			c.Transport = "sse"
			return c
		}},
		{Name: "moved on, below a version", Cause: "transport.streamable-http-at-another-path", Start: func(s *Stage) Case {
			c := at(s.Serve(only("/v1/mcp", &harbour{})) + "/v1/sse")
			c.Transport = "sse"
			return c
		}},
		{Name: "held back by a pipe", Cause: "launch.output-never-flushed", Slow: true, Start: script(
			"while read -r line; do kept=\"$kept\"x; done\n" +
				`printf '{"jsonrpc":"2.0","id":1,"result":{"protocolVersion":"2025-06-18","capabilities":{},"serverInfo":{"name":"b","version":"1"}}}\n'` + "\n")},
	}
}

// cutInside breaks off in the middle of an answer.
func cutInside(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", jsonType)
	w.Header().Set("Content-Length", "400")
	_, _ = io.WriteString(w, `{"jsonrpc":"2.0","id":3,"result":{"content":[{"type":"te`)
	_ = http.NewResponseController(w).Flush()
	if conn, _, err := http.NewResponseController(w).Hijack(); err == nil {
		if tcp, ok := conn.(*net.TCPConn); ok {
			_ = tcp.SetLinger(0)
		}
		_ = conn.Close()
	}
}

// headOnly answers with a header, and with nothing more.
func headOnly(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/event-stream")
	w.WriteHeader(http.StatusOK)
	_ = http.NewResponseController(w).Flush()
	forEver(w, r)
}
