package apitype

import (
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
}
