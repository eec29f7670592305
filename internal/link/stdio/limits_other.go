//go:build !linux

package stdio

// Limits bound what a local process may use. They can only be kept on Linux.
type Limits struct{ MemoryMiB, OpenFiles, Processes int }

func (l Limits) apply(int) {}

func (c *process) guard(Limits) {}
