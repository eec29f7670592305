package faults

import (
	"fmt"
	"net/http"
	"strings"
)

// calls are faults that only a call shows.
func calls() []Fault {
	calling := func(h *harbour, arguments string, times int) func(*Stage) Case {
		return func(s *Stage) Case {
			c := at(s.Serve(h) + "/mcp")
			c.Tool, c.Arguments, c.Times = "list_berths", arguments, times
			return c
		}
	}
	always := func(result string) *harbour { return &harbour{call: func(int) string { return result }} }
	output := `[{"name":"list_berths","inputSchema":{"type":"object"},"outputSchema":{"type":"object","properties":{"free":{"type":"integer"}},"required":["free"]}}]`
	needs := `[{"name":"list_berths","inputSchema":{"type":"object","properties":{"quay":{"type":"string"}},"required":["quay"]}}]`
	erring := func(text string) string {
		return fmt.Sprintf(`{"content":[{"type":"text","text":%q}],"isError":true}`, text)
	}
	return []Fault{
		{Name: "arguments that are refused", Cause: "call.arguments-refused",
			Start: calling(always(`{"code":-32602,"message":"Invalid params: quay is required"}`), `{}`, 1)},
		{Name: "arguments that do not fit", Cause: "call.arguments-refused", Start: func(s *Stage) Case {
			h := always(erring("quay: Field required"))
			h.tools = needs
			return calling(h, `{}`, 1)(s)
		}},
		{Name: "the tool fails", Cause: "call.tool-reports-an-error", Start: calling(always(erring("the tide gauge is dry")), `{}`, 1)},
		{Name: "what stands behind wants a new token", Cause: "call.upstream-credential-ended",
			Start: calling(always(erring("Request to the port authority failed: 401 Unauthorized, token expired")), `{}`, 1)},
		{Name: "a result that breaks its schema", Cause: "call.result-breaks-the-output-schema", Start: func(s *Stage) Case {
			h := always(`{"content":[{"type":"text","text":"3"}],"structuredContent":{"free":"three"}}`)
			h.tools = output
			return calling(h, `{}`, 1)(s)
		}},
		{Name: "no structured result", Cause: "call.result-breaks-the-output-schema", Start: func(s *Stage) Case {
			h := always(goodCall)
			h.tools = output
			return calling(h, `{}`, 1)(s)
		}},
		{Name: "a call that never ends", Cause: "call.times-out", Slow: true, Start: func(s *Stage) Case {
			c := at(s.Serve(on("tools/call", &harbour{}, forEver)) + "/mcp")
			c.Tool = "list_berths"
			return c
		}},
		{Name: "a result larger than is taken", Cause: "call.result-too-large", Start: func(s *Stage) Case {
			c := calling(always(fmt.Sprintf(`{"content":[{"type":"text","text":"%s"}]}`, strings.Repeat("x", 2<<20))), `{}`, 1)(s)
			c.MessageMiB = 1
			return c
		}},
		{Name: "it works, and then too many requests", Cause: "call.works-then-fails", Start: func(s *Stage) Case {
			n := 0
			h := &harbour{}
			c := at(s.Serve(on("tools/call", h, func(w http.ResponseWriter, r *http.Request) {
				if n++; n > 2 {
					status(429, jsonType, `{"error":"Too Many Requests"}`, "Retry-After", "20")(w, r)
					return
				}
				h.ServeHTTP(w, r)
			})) + "/mcp")
			c.Tool, c.Times = "list_berths", 5
			return c
		}},
		{Name: "it works, and then fails", Cause: "call.works-then-fails", Start: func(s *Stage) Case {
			h := &harbour{call: func(n int) string {
				if n > 2 {
					return erring("too many open connections")
				}
				return goodCall
			}}
			return calling(h, `{}`, 5)(s)
		}},
		{Name: "no such tool", Cause: "call.no-such-tool", Start: func(s *Stage) Case {
			c := at(s.Serve(&harbour{}) + "/mcp")
			c.Tool = "list_boats"
			return c
		}},
	}
}
