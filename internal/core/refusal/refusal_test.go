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

// An answer is read wherever it says something: its body, a page, the error of its reply, a
// member that names scopes.
func TestAnswersAreReadWhereTheySaySomething(t *testing.T) {
	t.Parallel()
	page := Read(&evidence.Exchange{Body: "<html><h1>Your token has expired</h1></html>", Reply: evidence.Reply{Shape: evidence.Page}})
	assert.True(t, page.Expired)
	assert.False(t, Read(&evidence.Exchange{Body: "<html><h1>Your token has expired</h1></html>", Reply: evidence.Reply{Shape: evidence.BrokenJSON}}).Expired,
		"what is not shown to people as a page is not read as one")
	failed := Read(&evidence.Exchange{Reply: evidence.Reply{Error: &evidence.RPCError{Message: "the token was revoked", Data: "quota exceeded"}}})
	assert.True(t, failed.Revoked)
	assert.True(t, failed.Quota)
	named := Read(&evidence.Exchange{Body: `{"error":"insufficient scope","message":"scope is missing","required":["berths:write"]}`})
	assert.Equal(t, "berths:write", named.Scopes)
	own := Read(&evidence.Exchange{Body: `{"message":"required scopes: berths:read","needed":"berths:write"}`})
	assert.Equal(t, "berths:read", own.Scopes, "what the words name comes first")
	assert.Empty(t, Read(&evidence.Exchange{Body: `{"message":"fog","scope":"berths:write"}`}).Scopes)
}

// What makes a refusal one of a credential, each by itself.
func TestOfCredential(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		r    Refusal
		want bool
	}{
		"nothing": {Refusal{}, false}, "a challenge": {Refusal{Headers: "Bearer"}, true}, "words": {Refusal{Credential: true}, true},
		"scopes with a code": {Refusal{Scopes: "a", Code: "insufficient_scope"}, true}, "scopes alone": {Refusal{Scopes: "a"}, false},
		"a code alone": {Refusal{Code: "insufficient_scope"}, false}, "a header": {Refusal{Missing: "X-Key"}, true},
	} {
		assert.Equal(t, row.want, row.r.OfCredential(), name)
	}
	assert.True(t, OfRefusal(&evidence.Exchange{Body: "unauthorized"}))
	assert.False(t, OfRefusal(&evidence.Exchange{Body: "there is fog"}))
	for body, want := range map[string]bool{
		"the token has expired": true, "it was revoked": true, "wrong audience": true, "quota exceeded": true, "unauthorized": false, "fog": false,
	} {
		assert.Equal(t, want, Says(&evidence.Exchange{Body: body}), body)
	}
	assert.Equal(t, "X-Harbour-Key", HeaderWanted(&evidence.Exchange{Body: "missing required header: x-harbour-key"}))
	assert.Empty(t, HeaderWanted(&evidence.Exchange{Body: "fog"}))
	assert.True(t, SaysNotYet("token used before issued, check your clock"))
	assert.True(t, SaysAudience("wrong audience"))
}
