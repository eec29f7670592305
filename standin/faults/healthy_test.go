package faults

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"bouncer/standin/toolserver"
)

// Healthy returns servers that look odd and are well.
func Healthy() []Fault {
	speaking := func(h *harbour) func(*Stage) Case { return func(s *Stage) Case { return at(s.Serve(h) + "/mcp") } }
	list := func(text string) func(*Stage) Case { return speaking(&harbour{tools: text}) }
	guardedBy := func(good func(*http.Request) bool, set func(*Case)) func(*Stage) Case {
		return func(s *Stage) Case {
			c := with(s.Serve(guarded(good, status(401, "", ""), &harbour{}))+"/mcp", token)
			set(&c)
			return c
		}
	}
	stream := func(before string) func(*Stage) Case {
		return func(s *Stage) Case {
			inner := &harbour{}
			return at(s.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				m, ok := read(w, r)
				if !ok {
					return
				}
				text := inner.reply(m)
				if text == "" {
					w.WriteHeader(http.StatusAccepted)
					return
				}
				w.Header().Set("Content-Type", "text/event-stream")
				fmt.Fprintf(w, "%sdata: %s\n\n", before, text)
			})) + "/mcp")
		}
	}
	part := func(name string) func(*Stage) Case { return func(s *Stage) Case { return s.part(name) } }
	good := []Fault{
		{Name: "plain", Start: speaking(&harbour{})},
		{Name: "the oldest revision", Start: speaking(&harbour{revision: "2024-11-05"})},
		{Name: "2025-03-26", Start: speaking(&harbour{revision: "2025-03-26"})},
		{Name: "2025-11-25", Start: speaking(&harbour{revision: "2025-11-25"})},
		{Name: "no tools declared", Start: speaking(&harbour{capabilities: `{"prompts":{}}`})},
		{Name: "no capabilities", Start: speaking(&harbour{capabilities: `{}`})},
		{Name: "an empty list", Start: list(`[]`)},
		{
			Name:  "everything declared",
			Start: speaking(&harbour{capabilities: `{"tools":{"listChanged":true},"prompts":{},"resources":{"subscribe":true},"logging":{}}`}),
		},
		{Name: "names with dots and slashes", Start: list(`[{"name":"berths/list.v2","inputSchema":{"type":"object"}}]`)},
		{Name: "names in another script", Start: list(`[{"name":"kaiplätze","inputSchema":{"type":"object"}}]`)},
		{
			Name: "schemas of an older draft",
			Start: list(
				`[{"name":"a","inputSchema":{"$schema":"http://json-schema.org/draft-07/schema#","type":"object","definitions":{"q":{"type":"string"}},"properties":{"q":{"$ref":"#/definitions/q"}}}}]`,
			),
		},
		{
			Name:  "a schema that refers elsewhere",
			Start: list(`[{"name":"a","inputSchema":{"type":"object","properties":{"q":{"$ref":"https://schemas.harbour.example/quay.json"}}}}]`),
		},
		{Name: "unknown members", Start: list(`[{"name":"a","x-harbour":{"tide":1},"inputSchema":{"type":"object","x-order":1}}]`)},
		{Name: "a redirect within the origin", Start: func(s *Stage) Case {
			mux := http.NewServeMux()
			mux.Handle("/mcp/", &harbour{})
			mux.HandleFunc("/mcp", func(w http.ResponseWriter, r *http.Request) {
				http.Redirect(w, r, "/mcp/", http.StatusTemporaryRedirect)
			})
			return at(s.Serve(mux) + "/mcp")
		}},
		{Name: "a redirect for good within the origin", Start: func(s *Stage) Case {
			mux := http.NewServeMux()
			mux.Handle("/v2/mcp", &harbour{})
			mux.HandleFunc("/mcp", func(w http.ResponseWriter, r *http.Request) {
				http.Redirect(w, r, "/v2/mcp", http.StatusPermanentRedirect)
			})
			return at(s.Serve(mux) + "/mcp")
		}},
		{Name: "an event stream", Start: stream("")},
		{Name: "an event stream with comments", Start: stream(": hello\n\n")},
		{
			Name:  "an event stream with a notification first",
			Start: stream("data: {\"jsonrpc\":\"2.0\",\"method\":\"notifications/message\",\"params\":{\"level\":\"info\",\"data\":\"hi\"}}\n\n"),
		},
		{Name: "an event stream with named events", Start: stream("event: message\nid: 7\n")},
		{Name: "a charset in the label", Start: func(s *Stage) Case {
			inner := &harbour{}
			return at(s.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				m, ok := read(w, r)
				if !ok {
					return
				}
				text := inner.reply(m)
				w.Header().Set("Content-Type", "application/json; charset=utf-8")
				if text == "" {
					w.WriteHeader(http.StatusNoContent)
					return
				}
				_, _ = io.WriteString(w, "\n"+text+"\r\n")
			})) + "/mcp")
		}},
		{Name: "slow, and within its time", Start: func(s *Stage) Case {
			inner := &harbour{}
			return at(s.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				time.Sleep(150 * time.Millisecond)
				inner.ServeHTTP(w, r)
			})) + "/mcp")
		}},
		{Name: "an event stream that says when to come back", Start: func(s *Stage) Case {
			inner := &harbour{revision: "2025-11-25"}
			return at(s.Serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet {
					first("text/event-stream", "id: 1\nretry: 1000\ndata:\n\n")(w, r)
					return
				}
				inner.ServeHTTP(w, r)
			})) + "/mcp")
		}},
		{Name: "no path at all", Start: func(s *Stage) Case { return at(s.Serve(&harbour{})) }},
		{Name: "a query in the address", Start: func(s *Stage) Case { return at(s.Serve(&harbour{}) + "/mcp?quay=north") }},
		{Name: "a bearer token", Start: guardedBy(bearer(token), func(*Case) {})},
		{
			Name:  "a token in its own header",
			Start: guardedBy(header("X-Harbour-Key", token), func(c *Case) { c.SecretHeader = "X-Harbour-Key" }),
		},
		{
			Name:  "a raw Authorization that is wanted so",
			Start: guardedBy(header("Authorization", token), func(c *Case) { c.SecretHeader = "Authorization" }),
		},
		{Name: "a token that calls itself test", Start: func(s *Stage) Case {
			return with(s.Serve(guarded(bearer("hbr_test_123456"), status(401, "", ""), &harbour{}))+"/mcp", "hbr_test_123456")
		}},
		{Name: "an ended JWT that is still taken", Start: func(s *Stage) Case {
			t := jwt(map[string]any{"exp": time.Now().Add(-time.Hour).Unix()})
			return with(s.Serve(guarded(bearer(t), status(401, "", ""), &harbour{}))+"/mcp", t)
		}},
		{Name: "a token that nobody asked for", Start: func(s *Stage) Case { return with(s.Serve(&harbour{})+"/mcp", token) }},
		{
			Name:  "the older transport, found out",
			Start: func(s *Stage) Case { return at(s.Serve(legacy("/sse", "/messages", "/messages?sessionId=7")) + "/sse") },
		},
		{Name: "the older transport, as registered", Start: func(s *Stage) Case {
			c := at(s.Serve(legacy("/sse", "/messages", "/messages?sessionId=7")) + "/sse")
			c.Transport = "sse"
			return c
		}},
		{Name: "TLS with an authority of its own", Start: trusted},
		{Name: "sessions", Start: func(s *Stage) Case {
			return at(s.Serve(toolserver.New("harbour", "1.0", "", toolserver.Tool{Name: "a", Schema: `{"type":"object"}`})) + "/mcp")
		}},
		{Name: "a good call", Start: func(s *Stage) Case {
			c := at(s.Serve(&harbour{}) + "/mcp")
			c.Tool, c.Times = "list_berths", 2
			return c
		}},
		{Name: "streams that are polled", Start: func(s *Stage) Case { return at(s.Serve(polled()) + "/mcp") }},
		{Name: "pages", Start: func(s *Stage) Case { return at(s.Serve(paged()) + "/mcp") }},
		{Name: "a process", Start: part("well")},
		{Name: "a process with other line ends", Start: part("windows")},
		{Name: "a process that tells something first", Start: part("early")},
		{Name: "a process that logs", Start: part("chatty")},
		{Name: "a process that starts slowly, and in time", Start: part("slow")},
		{Name: "a script with an interpreter of env", Start: func(s *Stage) Case {
			c := run(s.File("berths", "#!/usr/bin/env sh\nexec \"$HARBOUR_SELF\"\n", 0o700))
			c.Env = []string{PartVariable + "=well", "HARBOUR_SELF=" + s.Self}
			return c
		}},
	}
	return good
}

// paged lists its tools on three pages.
func paged() http.Handler {
	inner := &harbour{}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		m, ok := read(w, r)
		if !ok {
			return
		}
		text := inner.reply(m)
		if m.Method == "tools/list" {
			page, next := "a", `,"nextCursor":"2"`
			if strings.Contains(string(m.Params), `"2"`) {
				page, next = "b", `,"nextCursor":"3"`
			} else if strings.Contains(string(m.Params), `"3"`) {
				page, next = "c", ""
			}
			text = success(m.ID, fmt.Sprintf(`{"tools":[{"name":%q,"inputSchema":{"type":"object"}}]%s}`, page, next))
		}
		if text == "" {
			w.WriteHeader(http.StatusAccepted)
			return
		}
		w.Header().Set("Content-Type", jsonType)
		_, _ = io.WriteString(w, text)
	})
}

// polled ends every stream at once, and gives the answer to whoever comes back for it the
// second time.
func polled() http.Handler {
	var mu sync.Mutex // guards what waits
	waits, came := map[string]string{}, map[string]int{}
	inner := &harbour{revision: "2025-11-25"}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if last := r.Header.Get("Last-Event-ID"); r.Method == http.MethodGet && waits[last] != "" {
			w.Header().Set("Content-Type", "text/event-stream")
			if came[last]++; came[last] < 2 {
				fmt.Fprintf(w, "id: %s\nretry: 20\ndata: \n\n", last)
				return
			}
			fmt.Fprintf(w, "id: %s-answer\ndata: %s\n\n", last, waits[last])
			return
		}
		m, ok := read(w, r)
		if !ok {
			return
		}
		text := inner.reply(m)
		if text == "" {
			w.WriteHeader(http.StatusAccepted)
			return
		}
		id := fmt.Sprintf("event-%d", len(waits))
		waits[id] = text
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprintf(w, "id: %s\nretry: 20\ndata: \n\n", id)
	})
}
