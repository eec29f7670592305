package testkit

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"bouncer/standin/loopback"
	"bouncer/standin/pilothouse"
)

// Authority starts Pilothouse, the stand-in of an authorization server, with
// people.
func Authority(t *testing.T, people ...pilothouse.Person) *pilothouse.Authority {
	t.Helper()
	as := pilothouse.New("Pilothouse", people...)
	s := httptest.NewServer(as)
	t.Cleanup(func() { loopback.End(s) })
	as.Issuer = s.URL
	return as
}

// Protect serves a tool server behind an authority, and returns the address of its
// endpoint. need says which scope a request needs; nil for the one given.
func Protect(t *testing.T, as *pilothouse.Authority, scope string, h http.Handler, need func(*http.Request) string) string {
	t.Helper()
	var front http.Handler
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { front.ServeHTTP(w, r) }))
	t.Cleanup(func() { loopback.End(s) })
	front = as.Protect(s.URL+"/mcp", scope, h, need)
	return s.URL + "/mcp"
}
