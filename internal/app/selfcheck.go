package app

import (
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"strings"
	"time"
)

// Notice is something that is not as it should be where the service runs, and what
// helps. It keeps nothing from working.
type Notice struct{ What, Hint string }

// circumstances are what a self-check looks at.
type circumstances struct {
	settings Settings
	address  string    // base URL
	root     bool      // the service runs as root
	newest   time.Time // time of the newest record; zero for none
	free     int64     // bytes on the disk; negative when that is not known
	now      time.Time
	stat     func(string) (fs.FileInfo, error)
}

// firstDay is a day that no clock is before: a clock that is was never set.
var firstDay = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// selfCheck looks at what people get wrong where they run the service.
func (c circumstances) selfCheck() (out []Notice) {
	note := func(hint, what string, args ...any) { out = append(out, Notice{fmt.Sprintf(what, args...), hint}) }
	s := c.settings
	if !strings.HasPrefix(s.Keys, "env:") && !strings.HasPrefix(s.Keys, "command:") {
		if info, err := c.stat(s.Keys); err == nil && info.Mode().Perm()&0o077 != 0 {
			note("chmod 600 "+s.Keys, "the key file %s can be read by others (mode %04o)", s.Keys, info.Mode().Perm())
		}
	}
	if info, err := c.stat(s.Data); err == nil && info.Mode().Perm()&0o077 != 0 {
		note("chmod 700 "+s.Data, "the data directory %s can be looked into by others (mode %04o)", s.Data, info.Mode().Perm())
	}
	switch {
	case s.Processes == "off":
	case c.root && s.ProcessUser == "root":
		note("leave process-user out, or name a user for them",
			"the processes of servers run as root: they can read the keys and everything else")
	case !c.root:
		note("reach servers at addresses, run the service so that it may start processes as another user, "+
			"or keep the keys elsewhere (setting keys)",
			"the processes of servers run as the service's own user: one that means harm can read the key file")
	}
	if reserve := int64(s.DiskReserve) << 20; c.free >= 0 && c.free < reserve {
		note(
			"make room, or set disk-reserve lower",
			"only %d MiB of the disk are free, less than the reserve of %d: calls are not recorded",
			c.free>>20,
			s.DiskReserve,
		)
	}
	if c.now.Before(firstDay) {
		note(
			"set the clock",
			"the clock says %s: passes, sign-ins and certificates will be taken for not yet valid",
			c.now.Format(time.DateOnly),
		)
	}
	if ahead := c.newest.Sub(c.now); !c.newest.IsZero() && ahead > time.Minute {
		note("look at the clock", "the newest record of the journal is %s ahead of the clock", ahead.Round(time.Minute))
	}
	return append(out, c.addresses()...)
}

// addresses looks at how people and agents reach the service.
func (c circumstances) addresses() (out []Notice) {
	u, err := url.Parse(c.address)
	if err != nil {
		return nil
	}
	inside := isLoopback(u.Hostname())
	if u.Scheme == "http" && !inside {
		out = append(out, Notice{
			"people and agents reach the service at " + c.address + ", in clear: passwords and passes can be read on the way",
			"put a proxy with TLS in front, and name its address with public-url",
		})
	}
	host, _, err := net.SplitHostPort(c.settings.Listen)
	if u.Scheme == "https" && len(c.settings.Proxies) == 0 && err == nil {
		out = append(out, Notice{
			"the public address is that of a proxy (" + c.address + "), but no proxy is trusted to say where people come from: all of them look like one address, which strangers can have throttled",
			"name the proxy's address with trusted-proxies",
		})
	}
	if inside && err == nil && !isLoopback(host) {
		out = append(out, Notice{
			"the service listens on " + c.settings.Listen + ", where others can reach it, in clear",
			"listen on 127.0.0.1, or put a proxy with TLS in front and name its address with public-url",
		})
	}
	return out
}

func isLoopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// Examine looks at what a start with the settings would be like, without starting: what
// people get wrong, and whether the address can be listened on and the data directory
// be written. The error is a *StartError for what would keep it from starting.
func Examine(s Settings) ([]Notice, error) {
	listener, err := net.Listen("tcp", s.Listen)
	if err != nil {
		return nil, &StartError{
			fmt.Sprintf("nothing can listen on %s: %v", s.Listen, plain(err)),
			"choose another address with --listen, or stop what listens there", err,
		}
	}
	address := s.PublicURL
	if address == "" {
		address = "http://" + listener.Addr().String()
	}
	if err := listener.Close(); err != nil {
		return nil, fmt.Errorf("close what was opened to try: %w", err)
	}
	lock, err := openData(s.Data)
	if err != nil {
		return nil, err
	}
	if err := lock.Close(); err != nil {
		return nil, fmt.Errorf("close what was opened to try: %w", err)
	}
	return circumstances{
		settings: s, address: address, root: os.Getuid() == 0, free: -1, now: time.Now(), stat: os.Stat,
	}.selfCheck(), nil
}

// check looks at what this start is like.
func (svc *Service) check(newest time.Time) []Notice {
	free := svc.disk.Left()
	if svc.Settings.DiskReserve == 0 {
		free = -1
	}
	return circumstances{
		settings: svc.Settings, address: svc.Address, root: os.Getuid() == 0, newest: newest, free: free, now: time.Now(), stat: os.Stat,
	}.selfCheck()
}
