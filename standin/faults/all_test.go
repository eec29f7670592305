package faults

import (
	"io"
	"log"
	"slices"
)

// quiet is where servers of stand-ins log to.
var quiet = log.New(io.Discard, "", 0)

// All returns every fault.
func All() []Fault {
	return slices.Concat(
		addresses(),
		certificates(),
		answers(),
		transports(),
		credentials(),
		signIns(),
		launches(),
		conversations(),
		processes(),
		calls(),
		further(),
		rest(),
		second(),
	)
}
