package oauth

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/locker"
)

// skew is how far another party's clock may be off.
const skew = 5 * time.Minute

// Claims are what an ID token says of a person.
type Claims struct {
	Subject  string `json:"sub"`
	Username string `json:"preferred_username"`
	Email    string `json:"email"`
	// EmailVerified is set when the provider vouches for the address.
	EmailVerified bool     `json:"email_verified"`
	Name          string   `json:"name"`
	Groups        []string `json:"groups"`
	Nonce         string   `json:"nonce"`
	Party         string   `json:"azp"`
}

// signatures are the algorithms that an ID token may be signed with.
var signatures = []jose.SignatureAlgorithm{jose.RS256, jose.RS384, jose.RS512, jose.PS256, jose.ES256, jose.ES384, jose.EdDSA}

// VerifyID verifies an ID token (OpenID Connect Core, section 3.1.3.7): its
// signature with the keys of the provider, issuer, audience, nonce and times.
// Errors are *Refusal.
func (client *Client) VerifyID(ctx context.Context, a Metadata, clientID, nonce string, token locker.Secret) (Claims, error) {
	fail := func(why string, cause error) (Claims, error) {
		return Claims{}, &Error{Step: StepToken, Why: "the identity provider's answer cannot be trusted: " + why, Final: true, cause: cause}
	}
	if token.Empty() {
		return fail("it holds no ID token", nil)
	}
	parsed, err := jwt.ParseSigned(token.Reveal(), signatures)
	if err != nil || len(parsed.Headers) != 1 {
		return fail("its ID token cannot be read", err)
	}
	var keys jose.JSONWebKeySet
	if err := client.http.GetJSON(ctx, a.Keys, &keys); err != nil {
		return fail("its keys cannot be read: "+err.Error(), err)
	}
	var std jwt.Claims
	var c Claims
	verified := false
	for _, k := range keys.Keys {
		if id := parsed.Headers[0].KeyID; id != "" && k.KeyID != "" && k.KeyID != id {
			continue
		}
		if !k.IsPublic() || (k.Use != "" && k.Use != "sig") {
			continue // a secret key would make everybody a signer
		}
		if parsed.Claims(k.Key, &std, &c) == nil {
			verified = true
			break
		}
	}
	switch {
	case !verified:
		return fail("its ID token is not signed with one of its keys", nil)
	case std.Issuer != a.Issuer:
		return fail(fmt.Sprintf("its ID token was issued by %q", endpoint.Clip(std.Issuer)), nil)
	case !slices.Contains(std.Audience, clientID) || (len(std.Audience) > 1 && c.Party != clientID):
		return fail("its ID token is for another client", nil)
	case c.Nonce != nonce:
		return fail("its ID token belongs to another sign-in", nil)
	case std.Expiry == nil || std.IssuedAt == nil || c.Subject == "" || len(c.Subject) > 255:
		return fail("its ID token lacks a subject or its times", nil)
	}
	if err := std.ValidateWithLeeway(jwt.Expected{Time: time.Now()}, skew); err != nil {
		return fail(fmt.Sprintf("its ID token is not valid now (%v); one of the two clocks may be wrong by more than %v", err, skew), err)
	}
	return c, nil
}
