// Package endpoint says what an address must be before Bouncer goes there:
// CheckURL for those that people type, CheckEndpoint for those of a sign-in.
package endpoint

import (
	"fmt"
	"net"
	"net/url"
	"strings"

	"bouncer/internal/core/team"
)

// CheckURL reads the address of a server as people type it, and returns it in its
// normal form. The error is a *team.FieldError.
func CheckURL(raw string) (string, error) {
	bad := func(why string) (string, error) { return "", &team.FieldError{Field: "url", Why: why} }
	if raw == "" {
		return bad("is missing; give the address of the MCP endpoint, as in https://tools.example/mcp")
	}
	if len(raw) > 2000 {
		return bad("is longer than 2000 characters")
	}
	u, err := url.Parse(raw)
	switch {
	case err != nil:
		return bad("is not a URL; it looks like https://tools.example/mcp")
	case u.Scheme != "http" && u.Scheme != "https":
		return bad(fmt.Sprintf("has the scheme %q; it must begin with http:// or https://", u.Scheme))
	case u.Host == "" || u.Hostname() == "":
		return bad("names no host; it looks like https://tools.example/mcp")
	case u.User != nil:
		return bad("holds a user name or password; store the credential as a token instead")
	case u.Fragment != "":
		return bad("has a fragment (#...), which is never sent; leave it out")
	}
	return u.String(), nil
}

// AddressError says that an address may not be reached.
type AddressError struct{ Address, Why string }

func (e *AddressError) Error() string { return e.Address + " " + e.Why }

// CheckEndpoint reports why an address may be used for no step of a sign-in: it
// has to be https, or http on the machine itself (OAuth 2.1, section 1.5).
func CheckEndpoint(raw string) error {
	u, err := url.Parse(raw)
	switch {
	case err != nil || u.Host == "" || len(raw) > 2000:
		return &AddressError{Clip(raw), "is no address"}
	case u.User != nil || u.Fragment != "":
		return &AddressError{Clip(raw), "holds a user name or a fragment"}
	case u.Scheme == "https":
		return nil
	case u.Scheme == "http" && Loopback(u.Hostname()):
		return nil
	}
	return &AddressError{Clip(raw), "is not https"}
}

// Loopback reports whether a host is the machine itself.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || (ip != nil && ip.IsLoopback())
}

// Clip bounds an address, or what others say, for a message.
func Clip(s string) string {
	if len(s) > 200 {
		s = s[:200] + "..."
	}
	return strings.ToValidUTF8(s, "")
}
