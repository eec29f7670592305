package origin

import (
	"net/http/httptest"
	"net/netip"
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

func TestWhereARequestComesFrom(t *testing.T) {
	t.Parallel()
	trusted := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("::1/128")}
	for name, row := range map[string]struct {
		remote string
		said   []string
		want   string
	}{
		"without a proxy":                     {"192.0.2.7:5000", nil, "192.0.2.7"},
		"who is no proxy says nothing":        {"192.0.2.7:5000", []string{"198.51.100.1"}, "192.0.2.7"},
		"a proxy says":                        {"10.0.0.1:5000", []string{"198.51.100.1"}, "198.51.100.1"},
		"what others put before is nothing":   {"10.0.0.1:5000", []string{"203.0.113.9, 198.51.100.1"}, "198.51.100.1"},
		"through two proxies":                 {"10.0.0.1:5000", []string{"198.51.100.1, 10.0.0.2"}, "198.51.100.1"},
		"in two headers":                      {"10.0.0.1:5000", []string{"203.0.113.9", "198.51.100.1"}, "198.51.100.1"},
		"a proxy that says nothing":           {"10.0.0.1:5000", nil, "10.0.0.1"},
		"nonsense is nobody's address":        {"10.0.0.1:5000", []string{"a\r\nb, <script>"}, "10.0.0.1"},
		"version 6":                           {"[::1]:5000", []string{"2606:2800:220:1::1"}, "2606:2800:220:1::1"},
		"an address of version 4 as one of 6": {"[::ffff:10.0.0.1]:5000", []string{"::ffff:198.51.100.1"}, "198.51.100.1"},
		"no port":                             {"192.0.2.7", nil, "192.0.2.7"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = row.remote
		for _, v := range row.said {
			r.Header.Add("X-Forwarded-For", v)
		}
		assert.Equal(t, row.want, Client(r, trusted), name)
	}
}
