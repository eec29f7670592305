package team

import "time"

// ServerState is a state that a server was in from a time on.
type ServerState struct {
	At      time.Time `json:"at"`
	State   string    `json:"state" enum:"ready,failing,connecting,waiting,paused"`
	Cause   string    `json:"cause,omitempty" doc:"of a failing one"`
	Version string    `json:"version,omitempty" doc:"what the server said that its version is"`
}

// IncidentGoesOn is after how long the same cause at the same server is another incident; until then it
// is the one that was, which came back.
const IncidentGoesOn = 14 * 24 * time.Hour

// Incident is one cause that keeps one server from working, from when it began until it
// was gone.
type Incident struct {
	ID       string         `json:"id"`
	Server   string         `json:"server"`
	Cause    string         `json:"cause" doc:"layer.cause, from the list of causes"`
	Title    string         `json:"title" doc:"what is wrong, in one sentence"`
	Remedy   string         `json:"remedy"`
	Who      string         `json:"who" doc:"who has to act"`
	Evidence []string       `json:"evidence"`
	First    time.Time      `json:"first" doc:"when it began for the first time"`
	Since    time.Time      `json:"since" doc:"when it began this time"`
	LastGood *time.Time     `json:"lastGood,omitempty" doc:"when the server was seen well last; not told when it never was"`
	Until    *time.Time     `json:"until,omitempty" doc:"when it was gone; not told while it lasts"`
	Reopened int            `json:"reopened" doc:"how often it came back"`
	Notes    []IncidentNote `json:"notes"`
}

// IncidentNote is what somebody has noted.
type IncidentNote struct {
	At     time.Time `json:"at"`
	Person string    `json:"person"`
	Text   string    `json:"text"`
}
