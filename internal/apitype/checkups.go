package apitype

import (
	"encoding/json"

	"bouncer/internal/core/serverspec"
)

// CheckupAsk says what is to be looked at: a registered server, or a target that is only
// described. Nothing of it is kept.
type CheckupAsk struct {
	Server string                   `json:"server,omitempty" doc:"name of a registered server"`
	As     string                   `json:"as,omitempty" doc:"name of an agent whose credential for the server is used"`
	Target *serverspec.Registration `json:"target,omitempty" doc:"instead of server: a target as it would be registered"`
	Client *CheckupClient           `json:"client,omitempty" doc:"an OAuth client that is tried for the target"`
	Call   *CheckupCall             `json:"call,omitempty" doc:"a tool that is called at the end; without it none is"`

	PatienceSeconds int    `json:"patienceSeconds,omitempty" doc:"how long each answer is waited for; 0 for 15 s, and 30 s for a process to start"`
	Watch           string `json:"watch,omitempty" doc:"a word that nobody guesses, by which the progress can be asked for"`
}

// CheckupClient is an OAuth client that was registered by hand.
type CheckupClient struct {
	ID           string `json:"id"`
	Secret       string `json:"secret,omitempty"`
	RefreshToken string `json:"refreshToken,omitempty" doc:"it is used once, and the authorization server may give another one in its place"`
	Scope        string `json:"scope,omitempty"`
	Issuer       string `json:"issuer,omitempty" doc:"the authorization server, where the server names none"`
	Machine      bool   `json:"machine,omitempty" doc:"it gets tokens with its own credentials"`
}

// CheckupCall is a call that a checkup makes.
type CheckupCall struct {
	Example   string          `json:"example,omitempty" doc:"an example that is kept of the server, instead of tool and arguments"`
	Tool      string          `json:"tool,omitempty"`
	Arguments json.RawMessage `json:"arguments,omitempty"`
	Times     int             `json:"times,omitempty" doc:"how often; once if left out, at most 100 times"`
}
