package launch

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/core/evidence"
)

// examine looks at a process that runs and does not answer: what it computes, whether it
// or what it started listens on a port, and whether it has a terminal open.
func (c *child) examine(p *evidence.Process) {
	sockets := map[string]bool{}
	for _, pid := range group(c.cmd.Process.Pid) {
		p.CPU += used(pid)
		if fields := stat(pid); len(fields) > 0 && fields[0] == "R" {
			p.Running = true
		}
		for _, link := range open(pid) {
			if strings.HasPrefix(link, "socket:[") {
				sockets[strings.Trim(strings.TrimPrefix(link, "socket:"), "[]")] = true
			}
			if link == "/dev/tty" {
				p.Terminal = true
			}
		}
	}
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		p.Ports = append(p.Ports, listening(table, sockets)...)
	}
	slices.Sort(p.Ports)
	p.Ports = slices.Compact(p.Ports)
}

// group are the processes of a group.
func group(leader int) (list []int) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return []int{leader}
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		fields := stat(pid)
		if len(fields) > 2 && fields[2] == strconv.Itoa(leader) {
			list = append(list, pid)
		}
	}
	return list
}

// stat are the fields of a process after its name (proc(5)): state, parent, group, and on.
func stat(pid int) []string {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return nil // it has ended
	}
	i := bytes.LastIndexByte(raw, ')')
	if i < 0 {
		return nil
	}
	return strings.Fields(string(raw[i+1:]))
}

// ticks are those of the kernel's clock in a second.
const ticks = 100

func used(pid int) time.Duration {
	fields := stat(pid)
	if len(fields) < 15 {
		return 0
	}
	var sum int
	for _, f := range fields[11:15] { // its own, and what its children have used that ended
		n, _ := strconv.Atoi(f)
		sum += n
	}
	return time.Duration(sum) * time.Second / ticks
}

// memory is what the processes of a group have resident, in bytes.
func memory(leader int) (sum int64) {
	for _, pid := range group(leader) {
		if fields := stat(pid); len(fields) > 21 {
			pages, _ := strconv.ParseInt(fields[21], 10, 64)
			sum += pages * int64(os.Getpagesize())
		}
	}
	return sum
}

func open(pid int) (links []string) {
	dir := fmt.Sprintf("/proc/%d/fd", pid)
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if to, err := os.Readlink(filepath.Join(dir, e.Name())); err == nil {
			links = append(links, to)
		}
	}
	return links
}

// listening are the ports of a table on which sockets listen.
func listening(table string, sockets map[string]bool) (ports []int) {
	f, err := os.Open(table)
	if err != nil {
		return nil
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		if len(fields) < 10 || fields[3] != "0A" || !sockets[fields[9]] {
			continue
		}
		_, port, _ := strings.Cut(fields[1], ":")
		raw, err := hex.DecodeString(port)
		if err == nil && len(raw) == 2 {
			ports = append(ports, int(raw[0])<<8|int(raw[1]))
		}
	}
	return ports
}
