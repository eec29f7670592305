package login

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/oauth"
)

// Names are the provider's to give, and prove nothing; one is made where it gives
// none that can be used.
func TestNamesOfTheProvider(t *testing.T) {
	t.Parallel()
	for want, c := range map[string]oauth.Claims{
		"marit":             {Subject: "1", Username: "Marit"},
		"admin":             {Subject: "2", Username: "_Admin_."}, // which is refused when there is an admin
		"ottilie":           {Subject: "3", Email: "ottilie@skerrow.example", EmailVerified: true},
		"person-4e07408562": {Subject: "3", Email: "admin@elsewhere.example"},
		"person-4b227777d4": {Subject: "4", Username: "漁"},
	} {
		assert.Equal(t, want, nameOf(c))
	}
	assert.Equal(t, `'it'\''s'`, quoteWord("it's"))
	assert.Equal(t, "pilot:7f3c", quoteWord("pilot:7f3c"))
	assert.Equal(t, "''", quoteWord(""))
}
