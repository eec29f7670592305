package snapshot

import "bouncer/internal/core/tools"

// The two tools of an agent that searches the others.
const (
	FindTools = "find_tools"
	CallTool  = "call_tool"
)

// finderDigest tells their list from others: it is always the same.
const finderDigest = "finder"

const finderTools = `{"tools":[{"name":"find_tools","title":"Find tools","description":"Searches the tools that you can use, in words. ` +
	`Returns those that fit best, with their arguments; call one with call_tool.","inputSchema":{"type":"object","properties":{` +
	`"query":{"type":"string","description":"what the tool should do, in a few words"},` +
	`"limit":{"type":"integer","minimum":1,"maximum":20,"default":5}},"required":["query"]},` +
	`"annotations":{"readOnlyHint":true,"openWorldHint":false}},` +
	`{"name":"call_tool","title":"Call a tool","description":"Calls a tool that find_tools returned, by its name, with its arguments.",` +
	`"inputSchema":{"type":"object","properties":{"name":{"type":"string"},"arguments":{"type":"object"}},"required":["name"]}}]`

// FinderList is what an agent has listed that searches its tools.
func FinderList() []byte { return finderPage(false) }

// finderPage is the list of the two.
func finderPage(stateless bool) []byte {
	if stateless {
		return []byte(finderTools + `,"resultType":"complete","ttlMs":0,"cacheScope":"private"}`)
	}
	return []byte(finderTools + "}")
}

// Targets are all of a kind within reach at this address, in the order of the list. They
// are not to be altered.
func (s *Catalog) Targets(kind tools.Kind) []*Target { return s.lists[kind].sorted }

// Of returns the tool of a server within reach, by its own name; nil for none.
func (s *Catalog) Of(server, tool string) *Target {
	s.owned.Do(func() {
		s.own = make(map[ownName]*Target, len(s.lists[tools.Tools].sorted))
		for _, t := range s.lists[tools.Tools].sorted {
			s.own[ownName{t.Server.Name, t.Tool.Name}] = t
		}
	})
	return s.own[ownName{server, tool}]
}

// ownName is a tool as its server names it.
type ownName struct{ server, tool string }
