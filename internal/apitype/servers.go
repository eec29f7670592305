package apitype

import (
	"bouncer/internal/core/paste"
	"bouncer/internal/core/team"
)

// DocumentSource is an OpenAPI document to be read.
type DocumentSource struct {
	Document    string `json:"document,omitempty" doc:"an OpenAPI document as text"`
	DocumentURL string `json:"documentURL,omitempty" doc:"its address instead"`
}

// ToolView is one tool of a server.
type ToolView struct {
	Name        string `json:"name" doc:"the server's own name"`
	Exposed     string `json:"exposed" doc:"the name on /mcp, where agents have the tools of all servers"`
	Title       string `json:"title"`
	Description string `json:"description"`
	ReadOnly    bool   `json:"readOnly" doc:"the server says so"`
	Destructive bool   `json:"destructive" doc:"the server says so"`
	Schema      any    `json:"schema" doc:"the tool's description as the server sent it"`
}

// ServerInfo is a server with how it is doing.
type ServerInfo struct {
	team.Server
	Health team.Health `json:"health"`
	// Redirect is what a client that is registered by hand has to name at the
	// authorization server.
	Redirect string `json:"redirect,omitempty" doc:"of a server with a sign-in: Bouncer's redirect address, to be registered at the authorization server where clients are registered by hand"`
}

// Progress is what an attempt at reaching a server is doing now.
type Progress struct {
	Busy    bool    `json:"busy" doc:"an attempt is under way"`
	Stage   string  `json:"stage,omitempty" enum:"resolve,connect,tls,launch,initialize,tools"`
	Seconds float64 `json:"seconds,omitempty" doc:"how long it has been in this stage"`
	Words   string  `json:"words,omitempty" doc:"what the process wrote last to standard error, masked"`
}

// Import is what somebody pasted, to be looked at or to be registered.
type Import struct {
	Text    string            `json:"text" doc:"JSON with servers in any of its usual shapes, a command line, or an address"`
	Apply   bool              `json:"apply,omitempty" doc:"register the servers; without it they are only read"`
	Only    []string          `json:"only,omitempty" doc:"names of those that are meant; all if left out"`
	Answers map[string]string `json:"answers,omitempty" doc:"values for placeholders, by NAME or server/NAME"`
	Anyway  bool              `json:"anyway,omitempty" doc:"register a server even when it cannot be reached now"`
	Plain   bool              `json:"plain,omitempty" doc:"keep values in the open though they look like secrets"`
}

// Imported is what was read, and what became of it.
type Imported struct {
	Notes   []string         `json:"notes,omitempty" doc:"what was mended in the text"`
	Servers []ImportedServer `json:"servers"`
}

// ImportedServer is one server of an import.
type ImportedServer struct {
	Server     paste.Server `json:"server" doc:"as it was read, without secrets"`
	Registered *ServerInfo  `json:"registered,omitempty"`
	Problem    *Problem     `json:"problem,omitempty" doc:"why it was not registered; nothing of it was kept"`
	Err        error        `json:"-"`
}
