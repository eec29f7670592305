package apitype

import "bouncer/internal/core/roster"

// Roster is a roster as text.
type Roster struct {
	Text    string `json:"text" doc:"the roster, as YAML"`
	Version string `json:"version,omitempty" doc:"tells what there was when it was written or planned; given back, it is refused when something was altered since"`
	Prune   bool   `json:"prune,omitempty" doc:"remove what the roster does not name"`
}

// RosterPlan is what would be done.
type RosterPlan struct {
	Version string        `json:"version" doc:"tells what there is now"`
	Steps   []roster.Step `json:"steps"`
	Extra   []roster.Step `json:"extra,omitempty" doc:"what is here and not in the roster; removed with prune"`
}

// RosterApplied is what was done.
type RosterApplied struct {
	Steps     []roster.Step     `json:"steps"`
	Passwords map[string]string `json:"passwords,omitempty" doc:"one-time passwords of people who were added, shown this once"`
}
