package faults

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"time"
)

// jwt is a token that says something of itself; nobody verifies it here.
func jwt(claims map[string]any) string {
	raw, _ := json.Marshal(claims) // numbers and texts cannot fail to be written
	part := base64.RawURLEncoding.EncodeToString
	return part([]byte(`{"alg":"RS256","typ":"JWT"}`)) + "." + part(raw) + "." + part([]byte("a signature of the harbour"))
}

// refusing refuses every credential with an answer.
func refusing(code int, kind, body string, headers ...string) func(token string) func(*Stage) Case {
	return func(token string) func(*Stage) Case {
		return func(s *Stage) Case {
			return with(s.Serve(guarded(never, status(code, kind, body, headers...), nil))+"/mcp", token)
		}
	}
}

const token = "hbr-4f2a9c81d7e6b350"

// taking takes the token in one form only, and gives away nothing else.
func taking(good func(*http.Request) bool, set func(*Case)) func(*Stage) Case {
	return func(s *Stage) Case {
		c := with(s.Serve(guarded(good, status(401, jsonType, `{"error":"unauthorized"}`), &harbour{}))+"/mcp", token)
		set(&c)
		return c
	}
}

func credentials() []Fault {
	hour := time.Hour
	now := time.Now()
	bearerError := func(code, text string) []string {
		return []string{"WWW-Authenticate", fmt.Sprintf(`Bearer realm="harbour", error=%q, error_description=%q`, code, text)}
	}
	same := func(*Case) {}
	skewed := func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Date", time.Now().Add(-2*hour).UTC().Format(http.TimeFormat))
		status(401, jsonType, `{"error":"invalid_token"}`)(w, r)
	}
	return []Fault{
		{
			Name:  "a token is wanted",
			Cause: "auth.no-credential",
			Start: refusing(401, jsonType, `{"error":"Unauthorized"}`, "WWW-Authenticate", "Bearer")(""),
		},
		{Name: "a key is wanted", Cause: "auth.no-credential", Start: refusing(401, jsonType, `{"message":"Missing X-API-Key header"}`)("")},
		{Name: "a name and a password are wanted", Cause: "auth.no-credential",
			Start: refusing(401, "text/plain", "Unauthorized", "WWW-Authenticate", `Basic realm="harbour"`)("")},
		{Name: "a token is wanted, says the gateway", Cause: "auth.no-credential",
			Start: refusing(403, jsonType, `{"message":"Missing Authentication Token"}`)("")},
		{Name: "rejected", Cause: "auth.token-rejected", Start: refusing(401, jsonType, `{"error":"invalid_token"}`)(token)},
		{Name: "rejected, in words", Cause: "auth.token-rejected", Start: refusing(401, jsonType, `{"message":"Bad credentials"}`)(token)},
		{Name: "rejected, without a word", Cause: "auth.token-rejected", Start: refusing(401, "", "")(token)},
		{Name: "expired, in the challenge", Cause: "auth.token-expired",
			Start: refusing(401, "", "", bearerError("invalid_token", "The access token expired")...)(token)},
		{
			Name:  "expired, in the body",
			Cause: "auth.token-expired",
			Start: refusing(401, jsonType, `{"detail":"Signature has expired"}`)(token),
		},
		{Name: "expired, by what the token says", Cause: "auth.token-expired",
			Start: refusing(401, jsonType, `{"error":"unauthorized"}`)(jwt(map[string]any{"sub": "quill", "exp": now.Add(-3 * hour).Unix()}))},
		{Name: "revoked", Cause: "auth.token-revoked", Start: refusing(401, jsonType, `{"error":"This API key has been revoked"}`)(token)},
		{
			Name:  "deactivated",
			Cause: "auth.token-revoked",
			Start: refusing(403, jsonType, `{"error":{"message":"The token was deactivated by an administrator"}}`)(token),
		},
		{Name: "for another audience, in the challenge", Cause: "auth.wrong-audience",
			Start: refusing(401, "", "", bearerError("invalid_token", "The token audience does not match")...)(token)},
		{Name: "for another audience, by what the token says", Cause: "auth.wrong-audience",
			Start: refusing(
				401,
				jsonType,
				`{"error":"unauthorized"}`,
			)(
				jwt(map[string]any{"aud": "https://crews.harbour.example/mcp", "exp": now.Add(hour).Unix()}),
			)},
		{Name: "a scope is missing, in the challenge", Cause: "auth.scope-missing",
			Start: refusing(403, "", "", "WWW-Authenticate", `Bearer error="insufficient_scope", scope="berths:write"`)(token)},
		{Name: "a scope is missing, in words", Cause: "auth.scope-missing",
			Start: refusing(403, jsonType, `{"message":"Your token has not been granted the required scopes: berths:read"}`)(token)},
		{Name: "another header is read", Cause: "auth.wrong-header", Start: taking(header("X-Api-Key", token), same)},
		{Name: "another header is read, and said", Cause: "auth.wrong-header",
			Start: refusing(401, jsonType, `{"error":"No API key found in request. Send it in the X-Harbour-Key header"}`)(token)},
		{
			Name:  "Authorization is read instead",
			Cause: "auth.wrong-header",
			Start: taking(bearer(token), func(c *Case) { c.SecretHeader = "X-Api-Key" }),
		},
		{
			Name:  "the word before it is missing",
			Cause: "auth.scheme-word-missing",
			Start: taking(bearer(token), func(c *Case) { c.SecretHeader = "Authorization" }),
		},
		{
			Name:  "the word before it is doubled",
			Cause: "auth.scheme-word-doubled",
			Start: taking(bearer(token), func(c *Case) { c.Token = "Bearer " + token }),
		},
		{Name: "another word before it", Cause: "auth.scheme-word-wrong", Start: taking(header("Authorization", "Token "+token), same)},
		{Name: "a line break after it", Cause: "auth.stray-characters", Start: taking(bearer(token), func(c *Case) { c.Token = token + "\n" })},
		{Name: "quotes around it", Cause: "auth.stray-characters", Start: taking(bearer(token), func(c *Case) { c.Token = `"` + token + `"` })},
		{
			Name:  "a character that cannot be seen",
			Cause: "auth.stray-characters",
			Start: taking(bearer(token), func(c *Case) { c.Token = token + "\u200b" }),
		},
		{
			Name:  "a variable that was never replaced",
			Cause: "auth.placeholder-never-replaced",
			Start: refusing(401, jsonType, `{"error":"invalid token"}`)("${BERTHS_TOKEN}"),
		},
		{
			Name:  "an example that was never replaced",
			Cause: "auth.placeholder-never-replaced",
			Start: refusing(401, jsonType, `{"error":"invalid token"}`)("YOUR_API_KEY"),
		},
		{Name: "angle brackets", Cause: "auth.placeholder-never-replaced", Start: refusing(403, "", "")("<your-token-here>")},
		{Name: "a key of the sandbox", Cause: "auth.key-of-another-environment",
			Start: refusing(401, jsonType, `{"error":"A test key was used with the live API"}`)("hbr_test_4f2a9c81d7e6b350")},
		{Name: "a key of another environment", Cause: "auth.key-of-another-environment",
			Start: refusing(401, jsonType, `{"message":"This API key belongs to a different environment"}`)(token)},
		{
			Name:  "forbidden",
			Cause: "auth.not-allowed",
			Start: refusing(403, jsonType, `{"error":"You do not have access to this workspace"}`)(token),
		},
		{Name: "forbidden, without a word", Cause: "auth.not-allowed", Start: refusing(403, "", "")(token)},
		{
			Name:  "a plan that is used up",
			Cause: "auth.quota-exhausted",
			Start: refusing(403, jsonType, `{"error":"Monthly quota exceeded. Please upgrade your plan."}`)(token),
		},
		{Name: "to be paid", Cause: "auth.quota-exhausted", Start: refusing(402, jsonType, `{"error":"Payment Required"}`)(token)},
		{
			Name:  "no credits",
			Cause: "auth.quota-exhausted",
			Start: refusing(
				429,
				jsonType,
				`{"error":{"message":"You exceeded your current quota, please check your plan and billing details."}}`,
			)(
				token,
			),
		},
		{Name: "a clock that is behind", Cause: "auth.clock-skew", Start: func(s *Stage) Case {
			return with(
				s.Serve(http.HandlerFunc(skewed))+"/mcp",
				jwt(map[string]any{"iat": now.Add(-time.Minute).Unix(), "nbf": now.Add(-time.Minute).Unix(), "exp": now.Add(hour).Unix()}),
			)
		}},
		{Name: "not valid yet, it says", Cause: "auth.clock-skew",
			Start: refusing(401, "", "", bearerError("invalid_token", "The token is not yet valid (nbf)")...)(token)},
		{Name: "a proxy that takes the header out", Cause: "auth.header-stripped-on-the-way",
			Start: refusing(401, jsonType, `{"error":"Authorization header is missing"}`)(token)},
		{Name: "refused in the protocol", Cause: "auth.token-revoked", Start: func(s *Stage) Case {
			h := &harbour{answer: map[string]string{"initialize": `{"code":-32001,"message":"API key has been revoked"}`}}
			return with(s.Serve(h)+"/mcp", token)
		}},
	}
}

// gatehouse is an authorization server beside a tool server that wants a sign-in.
type gatehouse struct {
	resource, servers, issuer string // what the documents say; "" for what is right
	methods                   string
	resourceStatus, metadata  int
	authorize, token          http.HandlerFunc
	brokenMetadata            bool
}

func (g gatehouse) start(s *Stage) Case {
	var base string
	mux := http.NewServeMux()
	mux.HandleFunc("/mcp", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") == "Bearer harbour-access" {
			(&harbour{}).ServeHTTP(w, r)
			return
		}
		w.Header().Set("WWW-Authenticate", fmt.Sprintf(`Bearer resource_metadata="%s/.well-known/oauth-protected-resource/mcp"`, base))
		w.WriteHeader(http.StatusUnauthorized)
	})
	mux.HandleFunc("/.well-known/oauth-protected-resource/mcp", func(w http.ResponseWriter, r *http.Request) {
		if g.resourceStatus != 0 {
			w.WriteHeader(g.resourceStatus)
			return
		}
		servers := g.servers
		if servers == "" {
			servers = fmt.Sprintf("[%q]", base)
		}
		status(200, jsonType, fmt.Sprintf(`{"resource":%q,"authorization_servers":%s}`, or(g.resource, base+"/mcp"), servers))(w, r)
	})
	mux.HandleFunc("/.well-known/oauth-authorization-server", func(w http.ResponseWriter, r *http.Request) {
		switch {
		case g.metadata != 0:
			w.WriteHeader(g.metadata)
			return
		case g.brokenMetadata:
			status(200, "text/html", "<html>Sign in</html>")(w, r)
			return
		}
		status(200, jsonType, fmt.Sprintf(
			`{"issuer":%q,"authorization_endpoint":"%s/authorize","token_endpoint":"%s/token","response_types_supported":["code"],"code_challenge_methods_supported":%s}`,
			or(g.issuer, base),
			base,
			base,
			or(g.methods, `["S256"]`),
		))(w, r)
	})
	if g.authorize != nil {
		mux.HandleFunc("/authorize", g.authorize)
	}
	if g.token != nil {
		mux.HandleFunc("/token", g.token)
	}
	base = s.Serve(mux)
	return at(base + "/mcp")
}

func signIns() []Fault {
	client := func(g gatehouse, c Client) func(*Stage) Case {
		return func(s *Stage) Case {
			out := g.start(s)
			out.Client = &c
			return out
		}
	}
	known := Client{ID: "bouncer-at-harbour"}
	machine := Client{ID: "bouncer-at-harbour", Secret: "gate-4711", Machine: true}
	renewing := Client{ID: "bouncer-at-harbour", RefreshToken: "hbr-refresh-1"}
	page := func(code int, text string) http.HandlerFunc {
		return status(code, "text/html", "<html><body><h1>Error</h1><p>"+text+"</p></body></html>")
	}
	return []Fault{
		{Name: "a sign-in is wanted", Cause: "auth.no-credential", Start: gatehouse{}.start},
		{Name: "no resource metadata", Cause: "auth.resource-metadata", Start: gatehouse{resourceStatus: 404}.start},
		{
			Name:  "metadata of another resource",
			Cause: "auth.resource-metadata",
			Start: gatehouse{resource: "https://old.harbour.example/mcp"}.start,
		},
		{Name: "no authorization server named", Cause: "auth.resource-metadata", Start: gatehouse{servers: "[]"}.start},
		{Name: "no authorization server metadata", Cause: "auth.authorization-server-metadata", Start: gatehouse{metadata: 404}.start},
		{
			Name:  "metadata of another issuer",
			Cause: "auth.authorization-server-metadata",
			Start: gatehouse{issuer: "https://id.harbour.example"}.start,
		},
		{Name: "metadata that is a page", Cause: "auth.authorization-server-metadata", Start: gatehouse{brokenMetadata: true}.start},
		{Name: "no proof of the code", Cause: "auth.authorization-server-metadata", Start: gatehouse{methods: `["plain"]`}.start},
		{Name: "the redirect address is unknown", Cause: "auth.redirect-address-mismatch",
			Start: client(gatehouse{authorize: page(400, "redirect_uri_mismatch: The redirect URI in the request is not registered")}, known)},
		{Name: "the redirect address is unknown, in JSON", Cause: "auth.redirect-address-mismatch", Start: client(gatehouse{
			authorize: status(400, jsonType, `{"error":"invalid_request","error_description":"Invalid redirect_uri"}`),
		}, known)},
		{Name: "the client is unknown", Cause: "auth.client-id-or-secret-wrong",
			Start: client(gatehouse{authorize: page(401, "invalid_client: The OAuth client was not found.")}, known)},
		{Name: "the client's secret is wrong", Cause: "auth.client-id-or-secret-wrong", Start: client(gatehouse{
			token: status(401, jsonType, `{"error":"invalid_client","error_description":"Client authentication failed"}`),
		}, machine)},
		{Name: "the refresh token has ended", Cause: "auth.refresh-no-longer-possible", Start: client(gatehouse{
			token: status(400, jsonType, `{"error":"invalid_grant","error_description":"Token has been expired or revoked."}`),
		}, renewing)},
		{Name: "a scope is not given", Cause: "auth.scope-missing", Start: client(gatehouse{
			token: status(400, jsonType, `{"error":"invalid_scope"}`),
		}, machine)},
		{Name: "the authorization server fails", Cause: "auth.authorization-server-fails", Start: client(gatehouse{
			token: status(500, jsonType, `{"error":"server_error"}`),
		}, machine)},
		{Name: "a clock at the authorization server", Cause: "auth.clock-skew", Start: client(gatehouse{
			token: status(400, jsonType, `{"error":"invalid_grant","error_description":"Assertion is not yet valid: check your clock"}`),
		}, machine)},
	}
}
