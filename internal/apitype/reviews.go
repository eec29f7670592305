package apitype

import (
	"encoding/json"

	"bouncer/internal/core/review"
)

// ServerReview is how a server's tool list is reviewed.
type ServerReview struct {
	Server string       `json:"server"`
	Mode   string       `json:"mode" enum:"trust,changes,all" doc:"trust: whatever it lists is shown; changes: what is new or changed is kept back; all: everything is, until it is reviewed"`
	Tools  int          `json:"tools" doc:"tools that it lists"`
	Open   []OpenReview `json:"open" doc:"tools that wait for a review, the most suspicious first"`
}

// OpenReview is a tool that waits for a review.
type OpenReview struct {
	Tool       string             `json:"tool"`
	State      string             `json:"state" enum:"new,changed"`
	Meanwhile  string             `json:"meanwhile" enum:"old,nothing" doc:"what agents are shown until then: the tool as it was accepted, or nothing"`
	Before     json.RawMessage    `json:"before,omitempty" doc:"as it was accepted"`
	After      json.RawMessage    `json:"after" doc:"as the server lists it now"`
	Suspicions []review.Suspicion `json:"suspicions" doc:"what is suspicious about it"`
}

// ReviewMode is how a server is to be reviewed.
type ReviewMode struct {
	If   string `json:"if,omitempty" doc:"only if it is this mode now"`
	Mode string `json:"mode" enum:"trust,changes,all"`
}

// ReviewAccept says which tools of a server are accepted as they are.
type ReviewAccept struct {
	Tools []AcceptedTool `json:"tools,omitempty"`
	All   bool           `json:"all,omitempty" doc:"everything that waits"`
}

// AcceptedTool is a tool that is accepted.
type AcceptedTool struct {
	Tool string `json:"tool"`
	// After guards against a change between looking and accepting.
	After json.RawMessage `json:"after,omitempty" doc:"the description that was looked at; the present one when left out"`
}
