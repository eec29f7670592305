//go:build !linux

package link

// Limits bound what a local process may use. They can only be kept on Linux.
type Limits struct{ MemoryMiB, OpenFiles, Processes int }

// LimitsKept reports whether limits can be kept on this system.
const LimitsKept = false

func (l Limits) apply(int) {}

func (c *child) guard(Limits) {}
