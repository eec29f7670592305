package origin

import (
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOnlyTheServicesOwnNamesAreAllowed(t *testing.T) {
	t.Parallel()
	g := New("bouncer.skerrow.example", "10.0.0.5:4680")
	for name, row := range map[string]struct {
		host, origin string
		want         bool
	}{
		"loopback by name":               {"localhost:4680", "", true},
		"loopback by address":            {"127.0.0.1:4680", "http://127.0.0.1:4680", true},
		"loopback in version 6":          {"[::1]:4680", "http://[::1]:4680", true},
		"loopback without a port":        {"127.0.0.1", "", true},
		"the public name":                {"Bouncer.Skerrow.Example", "https://bouncer.skerrow.example", true},
		"the public name with a port":    {"bouncer.skerrow.example:443", "", true},
		"an address with its port":       {"10.0.0.5:4680", "", true},
		"that address, another port":     {"10.0.0.5:80", "", false},
		"a name that resolves to us":     {"rebound.example:4680", "", false},
		"a name that begins like ours":   {"localhost.example", "", false},
		"another site in a browser":      {"localhost:4680", "https://elsewhere.example", false},
		"a page without an origin":       {"localhost:4680", "null", false},
		"an origin that is no URL":       {"localhost:4680", "://", false},
		"an origin with our name inside": {"localhost:4680", "https://localhost.elsewhere.example", false},
		"no host":                        {"", "", false},
	} {
		t.Run(name, func(t *testing.T) {
			r := httptest.NewRequest("GET", "/", nil)
			r.Host = row.host
			if row.origin != "" {
				r.Header.Set("Origin", row.origin)
			}
			assert.Equal(t, row.want, g.Allows(r))
		})
	}
}
