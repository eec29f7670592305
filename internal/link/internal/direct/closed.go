package direct

import (
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// closedBy returns what looks whether an idle connection was closed by the other side, or has
// something on it that nobody asked for: a request that is written to it would be lost, or be given
// somebody else's answer. It takes nothing from the connection, and does not wait. What cannot be
// looked at that way counts as open.
func closedBy(c net.Conn) func() bool {
	open := func() bool { return false }
	with, ok := c.(syscall.Conn)
	if !ok {
		return open
	}
	raw, err := with.SyscallConn()
	if err != nil {
		return open
	}
	ask := []unix.PollFd{{Events: unix.POLLIN | unix.POLLRDHUP}}
	var quiet bool
	look := func(fd uintptr) bool {
		ask[0].Fd = int32(fd) // as the system gave it
		n, err := unix.Poll(ask, 0)
		quiet = n == 0 && err == nil
		return true
	}
	return func() bool { return raw.Read(look) != nil || !quiet }
}
