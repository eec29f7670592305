package refusal

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
)

// What a server names in its words is taken over as it has to be written.
func TestWhatIsNamedIsTakenOver(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"missing required header: x-harbour-key": "X-Harbour-Key", "send it in the x-auth-token header": "X-Auth-Token",
		"your api key is missing": "", "the authorization header is missing": "Authorization", "hello": "",
	} {
		assert.Equal(t, want, ReadWords(text, "").Missing, text)
	}
	for text, want := range map[string]string{
		"required scopes: berths:read": "berths:read", "the 'berths:write' scope is needed": "berths:write", "scope is missing": "?", "no": "",
	} {
		assert.Equal(t, want, ReadWords(text, "").Scopes, text)
	}
	assert.Equal(t, "a b", ReadWords("", `Bearer error="insufficient_scope", scope="a b"`).Scopes)
	assert.Empty(t, ReadWords("", `Bearer scope="a b"`).Scopes, "a challenge names its scopes whether they are missing or not")
	for body, want := range map[string]string{
		"Authorization header must start with 'Token '": "Token", "use the scheme ApiKey please": "ApiKey",
		"it must start with a capital": "", "forbidden": "",
	} {
		x := &evidence.Exchange{Body: body}
		assert.Equal(t, want, WantedScheme(x, Read(x)), body)
	}
	x := &evidence.Exchange{Header: map[string]string{"Www-Authenticate": "HarbourPass realm=x"}}
	assert.Equal(t, "HarbourPass", WantedScheme(x, Read(x)))
	assert.Equal(t, "Sign in Please", PageText("<html><script>x()</script><h1>Sign in</h1>\n Please</html>"))
}

// Words of others are read without falling over.
func FuzzWords(f *testing.F) {
	f.Add("the token expired", `Bearer error="invalid_token"`)
	f.Add("scope: a:b", "Basic")
	f.Fuzz(func(t *testing.T, text, challenge string) {
		r := ReadWords(text, challenge)
		_ = r.OfCredential()
		_ = PageText(text)
		_ = diagnosis.ReadStderr(text)
	})
}
