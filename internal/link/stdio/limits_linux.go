package stdio

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Limits bound what a local process and everything it starts may use; zero
// fields are unbounded.
type Limits struct {
	MemoryMiB int // resident memory of all its processes together
	OpenFiles int // of each process
	Processes int // together
}

// guardEvery is how often a process is looked at.
const guardEvery = 250 * time.Millisecond

// apply sets what the kernel keeps by itself.
func (l Limits) apply(pid int) {
	if l.OpenFiles <= 0 {
		return
	}
	r := unix.Rlimit{Cur: uint64(l.OpenFiles), Max: uint64(l.OpenFiles)}
	// A process that has ended already needs no limit.
	_ = unix.Prlimit(pid, unix.RLIMIT_NOFILE, &r, nil)
}

// guard ends the process when its group goes over the limits. The kernel's own
// limits are per process or per user; package runners start several processes,
// and all of Bouncer's belong to one user.
func (c *process) guard(l Limits) {
	if l.MemoryMiB <= 0 && l.Processes <= 0 {
		return
	}
	t := time.NewTicker(guardEvery)
	defer t.Stop()
	for {
		select {
		case <-c.Ended:
			return
		case <-t.C:
		}
		count, pages := group(c.cmd.Process.Pid)
		mib := pages * os.Getpagesize() >> 20
		why := ""
		switch {
		case l.MemoryMiB > 0 && mib > l.MemoryMiB:
			why = fmt.Sprintf("it used %d MiB of memory; the limit is %d", mib, l.MemoryMiB)
		case l.Processes > 0 && count > l.Processes:
			why = fmt.Sprintf("it ran %d processes; the limit is %d", count, l.Processes)
		default:
			continue
		}
		c.excess.Store(&why)
		c.kill(syscall.SIGKILL)
		return
	}
}

// group returns how many processes are in a process group and how many pages of
// memory they hold.
func group(pgid int) (count, pages int) {
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		return 0, 0
	}
	for _, path := range stats {
		raw, err := os.ReadFile(path)
		if err != nil {
			continue // it ended meanwhile
		}
		// The name of the program stands in parentheses and may hold anything.
		fields := bytes.Fields(raw[bytes.LastIndexByte(raw, ')')+1:])
		if len(fields) < 22 || string(fields[2]) != strconv.Itoa(pgid) || string(fields[0]) == "Z" {
			continue
		}
		n, err := strconv.Atoi(string(fields[21]))
		if err == nil {
			count, pages = count+1, pages+n
		}
	}
	return count, pages
}
