package team

import "time"

// Node is one of several services that are one Bouncer.
type Node struct {
	Name     string    `json:"name"`
	Address  string    `json:"address"` // base URL
	Version  string    `json:"version"`
	Started  time.Time `json:"started"`
	Told     time.Time `json:"told"`              // when it last said that it is there, by its own clock
	Applied  uint64    `json:"applied"`           // the newest entry of the log that it has carried out
	Last     uint64    `json:"last"`              // the newest that it knows of
	Labels   []string  `json:"labels,omitempty"`  // which processes may be placed at it
	Trouble  string    `json:"trouble,omitempty"` // what keeps it from being used; empty for nothing
	Draining bool      `json:"draining"`          // it is to take no new work
	Here     bool      `json:"here"`              // it is the one that was asked
	Gone     bool      `json:"gone"`              // it is not there; what else is said of it is of then
}
