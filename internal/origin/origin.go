// Package origin decides whether a request was meant for this service: its Host
// must be one of the service's names, and an Origin, when a browser sends one,
// too. That keeps web pages from reaching a service on loopback through a
// visitor's browser (DNS rebinding).
package origin

import (
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
)

// Guard knows the names of the service. Loopback names always count.
type Guard struct{ hosts map[string]bool }

// New returns a guard for further names, each a host or host:port.
func New(hosts ...string) *Guard {
	g := &Guard{hosts: map[string]bool{}}
	for _, h := range hosts {
		g.hosts[strings.ToLower(h)] = true
	}
	return g
}

// Allows reports whether the request's Host and Origin are the service's own.
func (g *Guard) Allows(r *http.Request) bool {
	if !g.known(r.Host) {
		return false
	}
	from := r.Header.Get("Origin")
	if from == "" {
		return true
	}
	u, err := url.Parse(from)
	return err == nil && u.Host != "" && g.known(u.Host)
}

// Client is the address that a request comes from. Behind a proxy that is trusted it
// is what the proxy says, and so on backwards: the first address from the right that
// is no trusted proxy's. What others write into the header counts for nothing.
func Client(r *http.Request, trusted []netip.Prefix) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	if !within(host, trusted) {
		return host
	}
	said := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(said) - 1; i >= 0; i-- {
		next, err := netip.ParseAddr(strings.TrimSpace(said[i]))
		if err != nil {
			break // nobody knows who wrote that
		}
		if host = next.Unmap().String(); !within(host, trusted) {
			break
		}
	}
	return host
}

func within(host string, ranges []netip.Prefix) bool {
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	ip = ip.Unmap().WithZone("")
	for _, p := range ranges {
		if p.Contains(ip) {
			return true
		}
	}
	return false
}

func (g *Guard) known(host string) bool {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	switch name = strings.ToLower(strings.Trim(name, "[]")); name {
	case "localhost", "127.0.0.1", "::1":
		return true
	}
	return g.hosts[name] || g.hosts[strings.ToLower(host)]
}
