package apitype

import (
	"time"

	"bouncer/internal/core/team"
)

// InspectedValue is a value to be looked at.
type InspectedValue struct {
	Kind  string `json:"kind,omitempty" enum:"bearer,value,basic,environment,client-secret,private-key"`
	Value string `json:"value"`
}

// NewSecret is a secret to be stored. Either a value or a source is given.
type NewSecret struct {
	Name   string     `json:"name"`
	Kind   string     `json:"kind,omitempty" enum:"bearer,value,basic,environment,client-secret,private-key" doc:"bearer if left out"`
	Value  string     `json:"value,omitempty"`
	Source string     `json:"source,omitempty" doc:"where the value is read when it is used: env NAME, file PATH or command LINE; admins only"`
	Ends   *time.Time `json:"ends,omitempty" doc:"when it ends, where the value does not say"`
	Server string     `json:"server,omitempty" doc:"server that it is tried on before it is stored"`
}

// NewValue is a new value of a secret.
type NewValue struct {
	Value   string     `json:"value,omitempty"`
	Source  string     `json:"source,omitempty" doc:"instead of the value"`
	Ends    *time.Time `json:"ends,omitempty"`
	Anyway  bool       `json:"anyway,omitempty" doc:"store it even when a server does not take it"`
	Overlap int        `json:"overlapHours,omitempty" doc:"for how long the value before is tried when a server refuses the new one, 0 to 168 hours"`
}

// Inspection is what can be told of a value before it is stored.
type Inspection struct {
	Problem string     `json:"problem,omitempty" doc:"why it cannot be used"`
	Facts   team.Facts `json:"facts"`
	Ends    *time.Time `json:"ends,omitempty"`
	Warning string     `json:"warning,omitempty"`
}

// OwnValue is a credential that a person or an agent uses of their own.
type OwnValue struct {
	Agent  string `json:"agent,omitempty" doc:"agent that it is for; yourself if left out"`
	Value  string `json:"value,omitempty"`
	Secret string `json:"secret,omitempty" doc:"name of a stored secret instead; admins and maintainers only"`
	Anyway bool   `json:"anyway,omitempty" doc:"store it even when the server does not take it"`
}

// KeySet tells about the key set of the locker.
type KeySet struct {
	Keys      []string `json:"keys" doc:"ids of the keys, the one in force last"`
	Next      string   `json:"next,omitempty" doc:"id of a key that was added to the set of this node of a cluster, and is not in force yet"`
	Shared    bool     `json:"shared" doc:"the nodes of a cluster have the same keys, and whoever keeps these adds a new one to the set of each"`
	Problem   string   `json:"problem,omitempty" doc:"why a key that was added is not known"`
	Rewrapped int      `json:"rewrapped" doc:"how many values were wrapped anew"`
}

// SignInTry asks for a sign-in at a server.
type SignInTry struct {
	Server string `json:"server"`
	Agent  string `json:"agent,omitempty" doc:"agent that gets a grant of its own"`
	Team   bool   `json:"team,omitempty" doc:"for the whole team"`
	Back   string `json:"back,omitempty" doc:"page of the console to come back to"`
}

// SignInStart is a sign-in that was begun.
type SignInStart struct {
	URL string `json:"url" doc:"where to send the browser"`
}
