package wire

// JSON-RPC 2.0 error codes, and those that MCP adds.
const (
	CodeParse          = -32700
	CodeInvalidRequest = -32600
	CodeMethodNotFound = -32601
	CodeInvalidParams  = -32602
	CodeInternal       = -32603
	// CodeNotAdmitted is Bouncer's own, in the range that JSON-RPC leaves to
	// implementations: no rule admits the call, or a rule refuses it.
	CodeNotAdmitted = -32010
	// CodeNoResource says that a resource is not there (up to 2025-11-25; later
	// revisions use CodeInvalidParams).
	CodeNoResource = -32002
	// CodeURLElicitation asks the client to have a person open addresses first
	// (2025-11-25 only).
	CodeURLElicitation = -32042
	// Of the stateless era: headers that do not fit the body, a capability that
	// the request did not declare, a revision that is not spoken.
	CodeHeaderMismatch = -32020
	CodeNoCapability   = -32021
	CodeNoRevision     = -32022
)

// Revisions of MCP. Names are dates, so string order is time order. Up to
// 2025-11-25 a session is opened with initialize (the initialize era); from
// 2026-07-28 every request stands by itself (the stateless era).
const (
	Rev20241105 = "2024-11-05"
	Rev20250326 = "2025-03-26"
	Rev20250618 = "2025-06-18"
	Rev20251125 = "2025-11-25"
	Rev20260728 = "2026-07-28"
)

// NewestSession is the newest revision of the initialize era, NewestStateless
// that of the stateless era.
const (
	NewestSession   = Rev20251125
	NewestStateless = Rev20260728
)

// Revisions lists every revision spoken here, oldest first.
var Revisions = []string{Rev20241105, Rev20250326, Rev20250618, Rev20251125, Rev20260728}

// Negotiate returns the revision to answer an initialize request with: the
// asked one if it is spoken here, else the newest (MCP, lifecycle).
func Negotiate(asked string) string {
	if SpeaksSession(asked) {
		return asked
	}
	return NewestSession
}

// SpeaksSession reports whether Bouncer speaks the revision in sessions.
func SpeaksSession(rev string) bool {
	return rev == Rev20241105 || rev == Rev20250326 || rev == Rev20250618 || rev == Rev20251125
}

// SpeaksStateless reports whether Bouncer speaks the revision without sessions.
func SpeaksStateless(rev string) bool { return rev == Rev20260728 }

// Stateless reports whether a revision is of the stateless era.
func Stateless(rev string) bool { return rev >= Rev20260728 }

// HasBatch reports whether the revision allows JSON-RPC batches.
func HasBatch(rev string) bool { return rev == Rev20241105 || rev == Rev20250326 }

// HasEventIDs reports whether event streams of the revision carry ids and a
// priming event, so that they can be resumed. Parsers of older clients stumble
// over the priming event, and stateless streams cannot be resumed.
func HasEventIDs(rev string) bool { return rev == Rev20251125 }
