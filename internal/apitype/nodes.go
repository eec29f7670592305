package apitype

import "bouncer/internal/core/team"

// Nodes are the services that are one Bouncer.
type Nodes struct {
	Cluster string      `json:"cluster,omitempty"` // its id; left out for a service that is one node
	Nodes   []team.Node `json:"nodes"`
}

// NodePatch alters what a node is to do.
type NodePatch struct {
	Draining *bool `json:"draining"` // take no new work
}
