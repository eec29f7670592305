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
)

// Revisions of MCP that open a session with initialize. Names are dates, so
// string order is time order.
const (
	Rev20250326 = "2025-03-26"
	Rev20250618 = "2025-06-18"
	Rev20251125 = "2025-11-25"
)

// NewestSession is the newest revision of the initialize era.
const NewestSession = Rev20251125

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
	return rev == Rev20250326 || rev == Rev20250618 || rev == Rev20251125
}

// HasBatch reports whether the revision allows JSON-RPC batches.
func HasBatch(rev string) bool { return rev == Rev20250326 }
