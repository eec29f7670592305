package egress

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/core/endpoint"
)

// No name and no redirect leads to where nobody outside may send Bouncer.
func TestOutboundIsGuarded(t *testing.T) {
	t.Parallel()
	closed := New(nil, nil)
	for _, address := range []string{"127.0.0.1:80", "10.1.2.3:443", "172.16.0.1:443", "192.168.1.1:443", "169.254.169.254:80", "100.64.0.1:443", "0.0.0.0:80", "[::1]:443", "[fe80::1]:443", "[fd00::1]:443", "[::ffff:10.0.0.1]:443", "224.0.0.1:80", "255.255.255.255:80", "nonsense",
		"[64:ff9b::a00:1]:443", "[64:ff9b::7f00:1]:443", "[2002:a00:1::]:443", "[2002:7f00:1::1]:443", "[::10.0.0.1]:443", "[64:ff9b:1::1]:443",
		"[2001::1]:443", "[fec0::1]:443", "[2001:db8::1]:443", "192.0.0.8:443", "198.18.0.1:443", "240.0.0.1:443", "[fd00::1%eth0]:443",
	} {
		assert.Error(t, closed.control("tcp", address, nil), address)
	}
	for _, address := range []string{"93.184.216.34:443", "[2606:2800:220:1::1]:443", "[64:ff9b::5db8:d822]:443"} {
		assert.NoError(t, closed.control("tcp", address, nil), address)
	}
	some := New([]netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}, nil)
	assert.NoError(t, some.control("tcp", "10.1.2.3:443", nil))
	assert.Error(t, some.control("tcp", "192.168.1.1:443", nil))
	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	t.Cleanup(server.Close)
	var into map[string]any
	err := closed.GetJSON(t.Context(), server.URL+"/doc", &into)
	assert.ErrorContains(t, err, "private-ranges")
	assert.Zero(t, asked, "nothing was sent")
	for raw, why := range map[string]string{"http://as.example/x": "not https", "ftp://a": "not https", "https://u@a.example": "user name", "https://a.example/#f": "fragment", "": "no address", "https://" + strings.Repeat("a", 3000): "no address"} {
		assert.ErrorContains(t, endpoint.CheckEndpoint(raw), why, raw)
	}
	for _, ok := range []string{"https://as.example/x", "http://localhost:1/x", "http://127.0.0.1/x", "http://[::1]:2/x"} {
		assert.NoError(t, endpoint.CheckEndpoint(ok), ok)
	}
}
