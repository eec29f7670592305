package apitype

import "bouncer/internal/core/team"

// Adoption is an assistant's configuration file, to be taken over.
type Adoption struct {
	Text  string `json:"text" doc:"the file: JSON with comments, YAML or TOML"`
	File  string `json:"file,omitempty" doc:"its name, by which its syntax is known"`
	Agent string `json:"agent" doc:"name of the agent that the assistant is; it is made unless it is there"`
	Apply bool   `json:"apply,omitempty" doc:"do it; without it, it is only said what would become of each entry"`
}

// Adopted is what became, or would become, of a file.
type Adopted struct {
	Dialect string         `json:"dialect" doc:"how the file keeps its servers"`
	Servers string         `json:"servers" doc:"where in it they are"`
	Items   []AdoptedEntry `json:"items"`
	Text    string         `json:"text,omitempty" doc:"the file with Bouncer's entry, to be saved in its place; it holds a pass"`
	Pass    *team.Pass     `json:"pass,omitempty"`
}

// AdoptedEntry is one entry of a file.
type AdoptedEntry struct {
	Entry   string `json:"entry"`
	At      string `json:"at" doc:"its address or command"`
	Server  string `json:"server,omitempty" doc:"server that it is, or becomes"`
	Becomes string `json:"becomes" enum:"register,known,left"`
	Why     string `json:"why,omitempty" doc:"why it is left in the file"`
}
