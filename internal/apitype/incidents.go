package apitype

import (
	"time"

	"bouncer/internal/core/team"
)

// IncidentDetail is an incident with whom it affects, and what changed before it.
type IncidentDetail struct {
	team.Incident
	Calls  int      `json:"calls" doc:"calls that failed since it began, of those that you may see; 500 means that many or more"`
	Agents []string `json:"agents" doc:"agents whose calls failed"`
	People []string `json:"people" doc:"their owners"`
	// Changed is ordered by suspicion.
	Changed []Suspect `json:"changed" doc:"what changed between the last good time and its beginning, the most suspicious first"`
}

// Suspect is something that changed before an incident.
type Suspect struct {
	At     time.Time `json:"at"`
	What   string    `json:"what" doc:"what changed, in words"`
	Who    string    `json:"who,omitempty" doc:"who changed it"`
	Change string    `json:"change,omitempty" doc:"id of the change, where it was one"`
	Why    string    `json:"why" doc:"why it is suspected"`
}

// NewNote is what somebody notes about an incident.
type NewNote struct {
	Text string `json:"text"`
}

// ServerHistory is how a server did.
type ServerHistory struct {
	Server string             `json:"server"`
	State  string             `json:"state"`
	Cause  string             `json:"cause,omitempty"`
	Title  string             `json:"title,omitempty" doc:"what is wrong with it now"`
	States []team.ServerState `json:"states" doc:"the oldest first; the first one began before the time that was asked for"`
}
