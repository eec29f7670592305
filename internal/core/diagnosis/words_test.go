package diagnosis

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// The server's Own words are told, and a header or a scheme that it asks for becomes
// what helps.
func TestTheServersOwnWords(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		e       Evidence
		message string
		remedy  string
	}{
		"a header, plainly": {
			Evidence{Status: 401, Server: "tides", Body: `{"error":"missing X-Api-Key header"}`}, "it says: missing X-Api-Key header",
			"it wants X-Api-Key: bouncer server update tides --secret-header X-Api-Key --token",
		},
		"a header, in small letters": {
			Evidence{Status: 403, Server: "tides", HadCredential: true, Body: "send your key in the api-key header"}, "it says: send your key",
			"it wants Api-Key: bouncer server update tides --secret-header Api-Key",
		},
		"a scheme": {
			Evidence{Status: 401, Server: "tides", HadCredential: true, Challenge: `Token realm="harbour"`}, "saying Token",
			"it wants the word Token before it: bouncer server update tides --also 'header:Authorization Token=SECRET'",
		},
		"another header": {
			Evidence{Status: 401, Server: "tides", HadCredential: true, Body: "X-Request-Id: 7, token unknown"}, "it says: X-Request-Id: 7, token unknown", "get a new token",
		},
		"a nested error": {Evidence{Status: 500, Body: `{"error":{"message":"the gauge is dry"}}`}, "the server failed (500); it says: the gauge is dry", ""},
		"a web page":     {Evidence{Status: 502, Body: "<!DOCTYPE html><p>sorry"}, "in maintenance", ""},
		"too long":       {Evidence{Status: 400, Body: strings.Repeat("é", 300)}, "status 400; it says: " + strings.Repeat("é", 200) + "…", ""},
		"nothing":        {Evidence{Status: 418}, "status 418", ""},
	} {
		f := Explain(row.e)
		assert.Contains(t, f.Message, row.message, name)
		assert.Contains(t, f.Remedy, row.remedy, name)
		assert.NotContains(t, f.Message, "<", name)
	}
	f := Explain(Evidence{Status: 401, Server: "tides"}).WhileRegistering("tides")
	assert.Contains(t, f.Remedy, "bouncer server register tides --token")
	assert.NotContains(t, Explain(Evidence{Status: 401, Server: "tides", HadCredential: true}).WhileRegistering("tides").Remedy, "rotate")
}

// What is said of a process has nothing of addresses in it.
func TestAProcessHasNoAddress(t *testing.T) {
	t.Parallel()
	silent := Evidence{Stage: "initialize", Timeout: true}
	assert.Contains(t, Explain(silent).Message, "accepts the connection")
	silent.Process = true
	for _, word := range []string{"port", "address", "connection"} {
		assert.NotContains(t, Explain(silent).Message+Explain(silent).Remedy, word)
	}
}
