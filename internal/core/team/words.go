package team

import "strings"

// Kinds of pass.
const (
	PassPlain     = "pass"
	PassToken     = "token"
	PassInAddress = "address"
)

// Whose credential a server is reached with.
const (
	PerTeam   = "team"
	PerPerson = "person"
	PerAgent  = "agent"
)

// The ways a value is carried. Those of team.Place, and the bearer token.
const (
	CarryBearer   = "bearer"
	CarryHeader   = "header"
	CarryQuery    = "query"
	CarryBasic    = "basic"
	CarryVariable = "variable"
	CarryFile     = "file"
)

// How a grant at a server is come by.
const (
	GrantCode      = "code"
	GrantClient    = "client"
	GrantWorkload  = "workload"
	GrantAssertion = "assertion"
)

// OfBouncer reports whether the access to a server is Bouncer's own, and nobody's
// in particular.
func OfBouncer(w *SignInWay) bool {
	return w != nil && (w.Grant == GrantClient || w.Grant == GrantWorkload)
}

// Transports.
const (
	StreamableHTTP = "streamable-http"
	EventStream    = "sse"
	Stdio          = "stdio"
	REST           = "rest"
)

// States of a kept link.
const (
	StateConnecting = "connecting" // next: Ready, Failing
	StateReady      = "ready"      // next: Failing
	StateFailing    = "failing"    // next: Ready
	StatePaused     = "paused"     // said of a server that has no keeper
	StateWaiting    = "waiting"    // said of a server that nobody has a credential for yet
)

// Ways of sharing a link among agents.
const (
	// SharingAuto gives agents that can do something for a server a link of their own
	// where that is only a session more, and shares everything else.
	SharingAuto = "auto"
	// SharingShared gives all agents that can do the same for a server one link. Requests
	// of the server reach an agent where they come in the stream of its call.
	SharingShared = "shared"
	// SharingPrivate gives every agent session a link of its own.
	SharingPrivate = "private"
)

// Where local processes run, in a cluster of several nodes.
const (
	PlacedEverywhere = "everywhere" // at every node
	PlacedOnce       = "one"        // at one node at a time
	placedAt         = "label:"     // at every node with the label
)

// PlacedAt is the label that a placement names; ok is false for one that names none.
func PlacedAt(placement string) (label string, ok bool) {
	return strings.CutPrefix(placement, placedAt)
}

// Kinds of secret.
const (
	KindBearer       = "bearer"        // sent as Authorization: Bearer
	KindValue        = "value"         // a header's or a query parameter's
	KindBasic        = "basic"         // user:password
	KindEnvironment  = "environment"   // a variable or a file of a local process
	KindClientSecret = "client-secret" // of an OAuth client
	KindPrivateKey   = "private-key"   // PEM
)

// SecretKinds lists every kind.
var SecretKinds = []string{KindBearer, KindValue, KindBasic, KindEnvironment, KindClientSecret, KindPrivateKey}
