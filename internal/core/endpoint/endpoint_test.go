package endpoint

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
)

func TestAddressesThatPeopleType(t *testing.T) {
	t.Parallel()
	for raw, why := range map[string]string{
		"https://tools.skerrow.example/mcp":       "",
		"http://127.0.0.1:4701/mcp?harbour=voe":   "",
		"":                                        "is missing",
		"tools.skerrow.example/mcp":               "has the scheme",
		"ftp://tools.skerrow.example":             "has the scheme",
		"https://":                                "names no host",
		"https://:443/mcp":                        "names no host",
		"https://marit:pw@tools.example/mcp":      "holds a user name",
		"https://tools.example/mcp#top":           "has a fragment",
		"https://tools.example/%zz":               "is not a URL",
		"https://x/" + strings.Repeat("a", 1990):  "",
		"https://x/" + strings.Repeat("a", 1991):  "is longer",
		"https://tools.skerrow.example:99999/mcp": "",
	} {
		got, err := CheckURL(raw)
		if why == "" {
			require.NoError(t, err, raw)
			assert.Equal(t, raw, got)
			continue
		}
		var field *team.FieldError
		require.ErrorAs(t, err, &field, raw)
		assert.Equal(t, "url", field.Field)
		assert.Contains(t, field.Why, why, raw)
	}
}

func TestStepsOfASignInAreReachedSecurely(t *testing.T) {
	t.Parallel()
	for _, good := range []string{"https://pilothouse.example/token", "http://localhost:1/x", "http://127.9.9.9/x", "http://[::1]/x"} {
		assert.NoError(t, CheckEndpoint(good), good)
	}
	for _, bad := range []string{
		"", "/token", "http://pilothouse.example/token", "http://localhost.example/x", "http://127.0.0.1.example/x", "ftp://localhost/x",
		"https://u@pilothouse.example/", "https://pilothouse.example/#x", "https://x/" + strings.Repeat("a", 1991),
	} {
		var address *AddressError
		assert.ErrorAs(t, CheckEndpoint(bad), &address, bad)
	}
	assert.Len(t, Clip(strings.Repeat("a", 201)), 203)
	assert.Equal(t, strings.Repeat("a", 200), Clip(strings.Repeat("a", 200)))
	assert.Equal(t, "ab", Clip("a\xffb"), "what others say is made text")
}
