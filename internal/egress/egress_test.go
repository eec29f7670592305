package egress

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
		assert.Error(t, Check(address, nil), address)
	}
	for _, address := range []string{"93.184.216.34:443", "[2606:2800:220:1::1]:443", "[64:ff9b::5db8:d822]:443"} {
		assert.NoError(t, Check(address, nil), address)
	}
	some := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}
	assert.NoError(t, Check("10.1.2.3:443", some))
	assert.Error(t, Check("192.168.1.1:443", some))
	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	t.Cleanup(server.Close)
	var into map[string]any
	err := closed.GetJSON(t.Context(), server.URL+"/doc", &into)
	var inside *PrivateError
	require.ErrorAs(t, err, &inside)
	assert.Equal(t, "127.0.0.0/8", inside.Range.String())
	assert.Contains(t, inside.Remedy(), "--private-range 127.0.0.0/8")
	assert.Zero(t, asked, "nothing was sent")
	for raw, why := range map[string]string{"http://as.example/x": "not https", "ftp://a": "not https", "https://u@a.example": "user name", "https://a.example/#f": "fragment", "": "no address", "https://" + strings.Repeat("a", 3000): "no address"} {
		assert.ErrorContains(t, endpoint.CheckEndpoint(raw), why, raw)
	}
	for _, ok := range []string{"https://as.example/x", "http://localhost:1/x", "http://127.0.0.1/x", "http://[::1]:2/x"} {
		assert.NoError(t, endpoint.CheckEndpoint(ok), ok)
	}
}

// What is allowed for one request is allowed for no other, not even to the same place.
func TestAllowedForOneRequestOnly(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte(`{}`)) }))
	t.Cleanup(server.Close)
	client := New(nil, nil)
	var into map[string]any
	allowed := Allow(t.Context(), []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")})
	for range 2 {
		require.NoError(t, client.GetJSON(allowed, server.URL, &into))
		require.Error(t, client.GetJSON(t.Context(), server.URL, &into))
	}
	other := Allow(t.Context(), []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")})
	require.Error(t, client.GetJSON(other, server.URL, &into))
}

// Only ranges of one's own can be allowed, and none that is wider.
func TestRangesThatCanBeAllowed(t *testing.T) {
	t.Parallel()
	for _, ok := range []string{"10.0.0.0/8", "10.1.2.3/32", "192.168.7.0/24", "fd00::/8", "::1/128", "100.64.0.0/10"} {
		assert.NoError(t, CheckRange(netip.MustParsePrefix(ok)), ok)
	}
	for _, bad := range []string{"0.0.0.0/0", "10.0.0.0/7", "8.8.8.0/24", "::/0", "127.0.0.0/1", "2606:2800::/32"} {
		assert.Error(t, CheckRange(netip.MustParsePrefix(bad)), bad)
	}
}
