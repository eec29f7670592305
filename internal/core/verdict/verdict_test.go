package verdict

import (
	"errors"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
)

// What a server says when it turns somebody away is read for what it is about, and no
// further: each way of saying it, and the way that looks like it and is none.
func TestRefusalsAreRead(t *testing.T) {
	t.Parallel()
	cause := func(status int, text, challenge string) diagnosis.Cause {
		e := &evidence.Evidence{
			Target:      evidence.Target{URL: "https://berths.harbour.example/mcp", Transport: "streamable-http"},
			At:          time.Now(),
			Credentials: []evidence.Credential{{Form: evidence.Form{Header: "Authorization", Scheme: "Bearer"}}},
		}
		body := ""
		if text != "" {
			body = `{"error":"` + text + `"}`
		}
		e.Probes = []evidence.Exchange{{
			Purpose: evidence.Initialize, Method: "POST", URL: e.Target.URL, Status: status, Body: body, Sent: []string{"Authorization"},
			Header: map[string]string{"Www-Authenticate": challenge}, Reply: evidence.ReadReply([]byte(body), 1),
		}}
		found := Judge(e)
		require.Len(t, found, 1, text)
		return found[0].Cause
	}
	for want, texts := range map[diagnosis.Cause][]string{
		diagnosis.TokenExpired:     {"token expired", "the session has ended", "exp claim is in the past", "access token lapsed"},
		diagnosis.TokenRevoked:     {"key revoked", "this credential was deactivated", "token has been invalidated", "account suspended"},
		diagnosis.WrongAudience:    {"invalid audience", "aud does not match", "token was issued for another service", "not intended for this resource"},
		diagnosis.ScopeMissing:     {"insufficient scope", "required scopes: berths:read", "missing_scope"},
		diagnosis.Quota:            {"monthly quota exceeded", "your subscription has lapsed? no: billing required", "insufficient credits", "upgrade your plan"},
		diagnosis.ClockSkew:        {"token not yet valid", "token used before issued", "check your clock", "iat is in the future"},
		diagnosis.OtherEnvironment: {"a test key was used", "this is a sandbox token", "wrong environment", "live mode key in the staging environment"},
		diagnosis.WrongHeader:      {"missing X-Api-Key header", "send it in the X-Auth-Token header", "x-harbour-key is required"},
		diagnosis.HeaderStripped:   {"authorization header is missing", "no authorization header provided"},
		diagnosis.TokenRejected:    {"", "invalid token", "bad credentials", "unauthorized", "signature verification failed", "missing or invalid authorization header"},
	} {
		for _, text := range texts {
			if want == diagnosis.Quota && text == "your subscription has lapsed? no: billing required" {
				continue // it says both; which counts is nobody's to say
			}
			assert.Equal(t, want, cause(401, text, ""), text)
		}
	}
	assert.Equal(t, diagnosis.ScopeMissing, cause(403, "", `Bearer error="insufficient_scope", scope="a b"`))
	assert.Equal(t, diagnosis.TokenExpired, cause(401, "", `Bearer error="invalid_token", error_description="expired"`))
	assert.Equal(t, diagnosis.TokenRejected, cause(401, "", `Bearer scope="a b"`), "a challenge names its scopes whether they are missing or not")
	for _, text := range []string{"", "forbidden", "you may not see this workspace", "your ip address is not on the allowlist"} {
		assert.Equal(t, diagnosis.NotAllowed, cause(403, text, ""), text)
	}
	for _, text := range []string{"invalid host header", "origin not allowed", "host is not in the allowed list"} {
		assert.Equal(t, diagnosis.HostRefused, cause(403, text, ""), text)
	}
}

// What cannot be played by a stand-in is judged by its evidence.
func TestJudge(t *testing.T) {
	t.Parallel()
	at := evidence.Target{URL: "https://berths.harbour.example/mcp", Transport: "streamable-http", Server: "berths", Patience: time.Second}
	run := evidence.Target{Command: "berths", Transport: "stdio", Server: "berths", Patience: time.Second}
	step := func(err error, timeout bool) *evidence.Step {
		return &evidence.Step{Err: err, Timeout: timeout, Took: time.Second}
	}
	for name, row := range map[string]struct {
		e      evidence.Evidence
		want   diagnosis.Cause
		remedy string
	}{
		"no address":       {evidence.Evidence{Target: evidence.Target{URL: "berths.harbour.example/mcp", Server: "berths"}}, diagnosis.NoAddress, "bouncer server update berths --url"},
		"no name server":   {evidence.Evidence{Target: at, Lookup: step(nil, true)}, diagnosis.NoSuchHost, "name servers"},
		"times out":        {evidence.Evidence{Target: at, Connect: step(errors.New("i/o timeout"), true)}, diagnosis.ConnectTimeout, "drop the packets"},
		"no route":         {evidence.Evidence{Target: at, Connect: step(syscall.EHOSTUNREACH, false)}, diagnosis.Unreachable, "network"},
		"nobody signed in": {evidence.Evidence{Target: evidence.Target{Server: "crew", SignIn: true, Missing: "nobody has signed in"}}, diagnosis.SignInNeeded, "bouncer sign-in begin crew"},
		"another authority": {
			evidence.Evidence{Target: evidence.Target{Server: "fuel", SignIn: true, Missing: "it names another one", Unusable: &diagnosis.Finding{
				Cause: diagnosis.AuthorityChanged, Message: "it names another one", Remedy: "ask whoever runs it",
			}}},
			diagnosis.AuthorityChanged,
			"ask whoever runs it",
		},
		"a sign-in ended": {
			evidence.Evidence{Target: evidence.Target{Server: "crew", SignIn: true, Missing: "it has ended", Unusable: &diagnosis.Finding{
				Cause: diagnosis.SignInEnded, Message: "it has ended", Remedy: "sign in again at an address",
			}}},
			diagnosis.SignInEnded,
			"bouncer sign-in begin crew",
		},
		"a value is missing":  {evidence.Evidence{Target: evidence.Target{Server: "fuel", Missing: "secret fuel-key cannot be read"}}, diagnosis.ValueMissing, "bouncer secret list"},
		"TLS breaks":          {evidence.Evidence{Target: at, TLS: &evidence.Handshake{Step: *step(errors.New("EOF"), false)}}, diagnosis.HandshakeFails, "TLS"},
		"a certificate no":    {evidence.Evidence{Target: at, TLS: &evidence.Handshake{Step: *step(errors.New("remote error"), false), Asked: true, Given: true, Alert: 48}}, diagnosis.ClientCertRefused, "--client-cert"},
		"processes are off":   {evidence.Evidence{Target: run, Process: &evidence.Process{Off: true}}, diagnosis.ProcessesOff, "processes on"},
		"it cannot start":     {evidence.Evidence{Target: run, Process: &evidence.Process{StartErr: errors.New("cannot allocate memory")}}, diagnosis.NotExecutable, "by hand"},
		"ended for memory":    {evidence.Evidence{Target: run, Process: &evidence.Process{Started: true, Exited: true, Signal: "killed", OutOfMemory: true}}, diagnosis.OutOfMemory, "--memory"},
		"a teapot":            {evidence.Evidence{Target: at, Probes: []evidence.Exchange{{Purpose: evidence.Initialize, Status: 418, Header: map[string]string{}}}}, diagnosis.OtherStatus, "MCP endpoint"},
		"a sign-in that ends": {evidence.Evidence{Target: at, OAuth: []evidence.OAuthStep{{What: evidence.RegisterStep, Status: 403}}, Probes: []evidence.Exchange{{Purpose: evidence.Initialize, Status: 401, Header: map[string]string{}}}}, diagnosis.ClientRefused, "--client-id"},
	} {
		found := Judge(&row.e)
		require.Len(t, found, 1, name)
		assert.Equal(t, row.want, found[0].Cause, name)
		assert.Contains(t, found[0].Remedy, row.remedy, name)
		assert.NotNil(t, found[0].Evidence, name)
		assert.Equal(t, row.want, found[0].Short().Cause, name)
		assert.NotEmpty(t, found[0].Short().Actor, name)
	}
	assert.Empty(t, Judge(&evidence.Evidence{Target: at}), "what was not observed is no fault")
}
