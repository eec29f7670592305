package serverspec

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
)

const address = "https://tools.skerrow.example/mcp"

func registered(t *testing.T, r Registration) (team.Server, string) {
	t.Helper()
	s, err := Describe(r, "01a", time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC))
	if err == nil {
		return s, ""
	}
	var field *team.FieldError
	require.True(t, errors.As(err, &field), "%v", err)
	return s, field.Field
}

func TestARegistrationSaysWhichFieldIsWrong(t *testing.T) {
	t.Parallel()
	options := func(o team.ServerOptions) Registration {
		return Registration{Name: "x", URL: address, ServerOptions: o}
	}
	way := func(w team.SignInWay) Registration { return options(team.ServerOptions{SignIn: &w}) }
	process := func(r Registration) Registration { r.Name, r.Command = "x", "berths"; return r }
	for name, row := range map[string]struct {
		r     Registration
		field string
	}{
		"an address":                     {Registration{URL: address}, ""},
		"no address":                     {Registration{}, "url"},
		"an unknown transport":           {Registration{URL: address, Transport: "stdio"}, "transport"},
		"variables without a command":    {Registration{URL: address, Env: []string{"A=b"}}, "command"},
		"an address and a command":       {process(Registration{URL: address}), "url"},
		"a relative directory":           {process(Registration{Dir: "berths"}), "dir"},
		"a secret without a variable":    {process(Registration{Token: "t"}), "secretEnv"},
		"a variable without a secret":    {process(Registration{SecretEnv: "KEY"}), "token"},
		"no name of a variable":          {process(Registration{SecretEnv: "9", Token: "t"}), "secretEnv"},
		"unknown sharing":                {options(team.ServerOptions{Sharing: "some"}), "sharing"},
		"limits of an address":           {options(team.ServerOptions{OpenFiles: 20}), "memoryMiB"},
		"a parameter of no REST API":     {options(team.ServerOptions{SecretQuery: "k"}), "secretQuery"},
		"operations of no REST API":      {options(team.ServerOptions{Operations: []team.Operation{{ID: "a"}}}), "operations"},
		"a header of the protocol":       {options(team.ServerOptions{Headers: []string{"mcp-session-id: x"}}), "headers"},
		"a credential as a header":       {options(team.ServerOptions{Headers: []string{"authorization: x"}}), "headers"},
		"a header with a line end":       {options(team.ServerOptions{Headers: []string{"X-A: b\r\nX-C: d"}}), "headers"},
		"a good header":                  {options(team.ServerOptions{Headers: []string{"X-Team: harbour"}}), ""},
		"no certificate":                 {options(team.ServerOptions{CA: "-----BEGIN"}), "ca"},
		"a certificate without its key":  {options(team.ServerOptions{ClientCert: "pem"}), "clientKey"},
		"unknown holders":                {options(team.ServerOptions{Per: "ship"}), "per"},
		"a place without a secret":       {options(team.ServerOptions{Places: []team.Place{{How: "header", Name: "X-A"}}}), "places"},
		"a variable of an address":       {options(team.ServerOptions{Places: []team.Place{{How: "variable", Name: "A", Secret: "s"}}}), "places"},
		"an unknown place":               {options(team.ServerOptions{Places: []team.Place{{How: "cookie", Name: "A", Secret: "s"}}}), "places"},
		"a scheme of a parameter":        {options(team.ServerOptions{Places: []team.Place{{How: "query", Name: "a", Scheme: "T", Secret: "s"}}}), "places"},
		"a good place":                   {options(team.ServerOptions{Places: []team.Place{{How: "header", Name: "X-A", Scheme: "T", Secret: "s"}}}), ""},
		"an unknown grant":               {way(team.SignInWay{Grant: "password"}), "signIn.grant"},
		"client credentials without any": {way(team.SignInWay{Grant: "client", ClientID: "c"}), "signIn.clientId"},
		"workload without an assertion":  {way(team.SignInWay{Grant: "workload", ClientID: "c"}), "signIn.assertion"},
		"a secret without its client":    {way(team.SignInWay{Grant: "code", ClientSecret: "s"}), "signIn.clientId"},
		"an assertion for the team":      {way(team.SignInWay{Grant: "assertion", ClientID: "c"}), "per"},
		"an issuer in the clear":         {way(team.SignInWay{Grant: "code", Issuer: "http://pilothouse.example"}), "signIn.issuer"},
		"scopes with a line end":         {way(team.SignInWay{Grant: "code", Scope: "a\nb"}), "signIn.scope"},
		"a good sign-in":                 {way(team.SignInWay{Grant: "code", Scope: "crew:read"}), ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, field := registered(t, row.r)
			assert.Equal(t, row.field, field)
		})
	}
	own := way(team.SignInWay{Grant: "client", ClientID: "c", ClientSecret: "s"})
	own.Per = team.PerPerson
	_, field := registered(t, own)
	assert.Equal(t, "per", field, "what is Bouncer's own is nobody's in particular")
}

func TestWhatARegistrationBecomes(t *testing.T) {
	t.Parallel()
	s, _ := registered(t, Registration{Name: "crew", URL: address})
	assert.Equal(t, team.StreamableHTTP, s.Transport)
	assert.Equal(t, team.SharingAuto, s.Sharing)
	s, _ = registered(t, Registration{Name: "crew", URL: address, Transport: team.EventStream})
	assert.Equal(t, team.EventStream, s.Transport)
	s, _ = registered(t, Registration{Name: "berths", Command: "berths", Args: []string{"-v"}, SecretEnv: "KEY", Token: "t"})
	assert.Equal(t, team.Stdio, s.Transport)
	assert.Contains(t, Summary(s), "berths, ")
	assert.NotContains(t, Summary(s), "-v", "arguments are for those who keep servers")
	assert.NotContains(t, Summary(s), `"t"`, "values are in no summary")
}

func TestAPatchAltersWhatItNames(t *testing.T) {
	t.Parallel()
	before, _ := registered(t, Registration{Name: "crew", URL: address})
	paused, private := true, team.SharingPrivate
	after, err := Apply(before, ServerPatch{Paused: &paused, Sharing: &private})
	require.NoError(t, err)
	assert.True(t, after.Paused)
	assert.Equal(t, private, after.Sharing)
	assert.Equal(t, before.URL, after.URL)
	bad, document := "tools.example", "openapi: 3.1.0"
	var field *team.FieldError
	_, err = Apply(before, ServerPatch{URL: &bad})
	require.ErrorAs(t, err, &field)
	assert.Equal(t, "url", field.Field)
	_, err = Apply(before, ServerPatch{Document: &document})
	require.ErrorAs(t, err, &field)
	assert.Equal(t, "operations", field.Field)
	assert.True(t, SameOrigin(address, "https://tools.skerrow.example/other"))
	for _, other := range []string{"http://tools.skerrow.example/mcp", "https://tools.skerrow.example:8443/mcp", "https://x.example/mcp", "::"} {
		assert.False(t, SameOrigin(address, other), other)
	}
}
