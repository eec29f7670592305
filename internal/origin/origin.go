// Package origin decides whether a request was meant for this service: its Host
// must be one of the service's names, and an Origin, when a browser sends one,
// too. That keeps web pages from reaching a service on loopback through a
// visitor's browser (DNS rebinding).
package origin

import (
	"net"
	"net/http"
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
