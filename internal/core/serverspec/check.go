package serverspec

import (
	"crypto/tls"
	"crypto/x509"
	"runtime"
	"slices"
	"strings"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/core/team"
)

// ownHeaders are those that belong to the protocol or to the connection.
var ownHeaders = []string{
	"Host",
	"Content-Type",
	"Content-Length",
	"Accept",
	"Connection",
	"Transfer-Encoding",
	"Cookie",
	"Mcp-Session-Id",
	"Mcp-Protocol-Version",
	"Mcp-Method",
	"Mcp-Name",
	"Last-Event-Id",
}

// CheckOptions checks the settings that most servers need none of.
func CheckOptions(s team.Server) error {
	bad := func(field, why string) error { return &team.FieldError{Field: field, Why: why} }
	process := s.Transport == team.Stdio
	switch {
	case s.Sharing != "" && s.Sharing != team.SharingAuto && s.Sharing != team.SharingShared && s.Sharing != team.SharingPrivate:
		return bad("sharing", "must be auto, shared or private")
	case process && (len(s.Headers) > 0 || s.SecretHeader != "" || s.SecretQuery != "" || s.CA != "" || s.ClientCert != ""):
		return bad("headers", "and certificates do not go with a local process")
	case !process && (s.MemoryMiB != 0 || s.OpenFiles != 0 || s.Processes != 0):
		return bad("memoryMiB", "and the other limits belong to a local process")
	case s.MemoryMiB < 0 || s.OpenFiles < 0 || s.Processes < 0:
		return bad("memoryMiB", "and the other limits must not be negative")
	case (s.MemoryMiB > 0 || s.OpenFiles > 0 || s.Processes > 0) && !LimitsKept:
		return bad("memoryMiB", "and the other limits can only be kept on Linux")
	case s.OpenFiles > 0 && s.OpenFiles < 16:
		return bad("openFiles", "is less than 16, with which no process starts")
	case s.SecretQuery != "" && s.Transport != team.REST:
		return bad("secretQuery", "belongs to a REST API")
	case s.SecretQuery != "" && s.SecretHeader != "":
		return bad("secretQuery", "and secretHeader exclude each other")
	case len(s.Operations) > 0 && s.Transport != team.REST:
		return bad("operations", "belong to a REST API with a document")
	case len(s.Headers) > 50:
		return bad("headers", "are more than 50")
	case s.SecretHeader != "" && !headerName(s.SecretHeader):
		return bad("secretHeader", "is no name of a header, like X-Api-Key")
	}
	if err := checkPlacement(s); err != nil {
		return err
	}
	if err := checkHeaders(s.Headers); err != nil {
		return err
	}
	if err := checkLimits(s.ServerOptions); err != nil {
		return err
	}
	if err := CheckCredentials(s); err != nil {
		return err
	}
	if s.CA != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(s.CA)) {
		return bad("ca", "holds no certificate; give PEM, which begins with -----BEGIN CERTIFICATE-----")
	}
	if (s.ClientCert == "") != (s.ClientKey == "") {
		return bad("clientKey", "and clientCert belong together; store the key as a secret and name it")
	}
	return nil
}

// checkPlacement checks where a process is to run.
func checkPlacement(s team.Server) error {
	label, ok := team.PlacedAt(s.Placement)
	switch {
	case s.Placement == "":
		return nil
	case s.Transport != team.Stdio:
		return &team.FieldError{Field: "placement", Why: "belongs to a local process"}
	case s.Placement == team.PlacedEverywhere, s.Placement == team.PlacedOnce, ok && NodeLabel(label):
		return nil
	}
	const why = "must be everywhere, one, or label:NAME with a label of small letters, digits and dashes"
	return &team.FieldError{Field: "placement", Why: why}
}

// NodeLabel reports whether a text can be the label of a node.
func NodeLabel(label string) bool {
	return label != "" && len(label) <= 40 && strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// maxCallSeconds is the longest time that a call can be given.
const maxCallSeconds = 24 * 60 * 60

// checkLimits checks how long calls may take and how much they may bring.
func checkLimits(o team.ServerOptions) error {
	bad := func(field, why string) error { return &team.FieldError{Field: field, Why: why} }
	if len(o.ToolLimits) > 100 {
		return bad("toolLimits", "are more than 100")
	}
	if o.MessageMiB < 0 || o.MessageMiB > 256 {
		return bad("messageMiB", "must be from 1 to 256, or 0 for the setting")
	}
	if o.StartSeconds < 0 || o.StartSeconds > 3600 {
		return bad("startSeconds", "must be from 1 to 3600, or 0 for the usual")
	}
	all := []team.ToolLimits{{Tool: "*", CallLimits: o.CallLimits}}
	for _, l := range append(all, o.ToolLimits...) {
		switch {
		case l.Tool == "" || len(l.Tool) > 200:
			return bad("toolLimits", "must name a tool each, or a pattern like list_*")
		case l.CallSeconds < 0 || l.CallSeconds > maxCallSeconds:
			return bad("callSeconds", "must be at most a day, or 0 for the setting")
		case l.ResultKiB < 0 || l.ResultKiB > 256<<10:
			return bad("resultKiB", "must be at most 262144 (256 MiB), or 0 for no limit of its own")
		case l.TooLarge != "" && l.TooLarge != team.TooLargeCut && l.TooLarge != team.TooLargeRefuse:
			return bad("tooLarge", "must be cut or refuse")
		}
	}
	return nil
}

// checkHeaders checks headers that are sent with every request.
func checkHeaders(headers []string) error {
	bad := func(field, why string) error { return &team.FieldError{Field: field, Why: why} }
	for _, h := range headers {
		name, value, ok := strings.Cut(h, ":")
		if name = strings.TrimSpace(name); !ok || !headerName(name) || strings.ContainsAny(value, "\r\n\x00") || len(h) > 8<<10 {
			return bad("headers", "must be headers like X-Team: harbour")
		}
		for _, own := range ownHeaders {
			if strings.EqualFold(name, own) {
				return bad("headers", "may not set "+own+", which belongs to the protocol")
			}
		}
		if strings.EqualFold(name, "Authorization") {
			return bad("headers", "may not set Authorization; store the credential as a secret instead")
		}
	}
	return nil
}

// CheckCredentials checks whose credential a server takes, and where it goes.
func CheckCredentials(s team.Server) error {
	bad := func(field, why string) error { return &team.FieldError{Field: field, Why: why} }
	process := s.Transport == team.Stdio
	switch {
	case s.Per != "" && s.Per != team.PerTeam && s.Per != team.PerPerson && s.Per != team.PerAgent:
		return bad("per", "must be team, person or agent")
	case len(s.Places) > 20:
		return bad("places", "are more than 20")
	}
	for _, p := range s.Places {
		if err := checkPlace(p, process); err != nil {
			return err
		}
	}
	if s.SignIn == nil {
		return nil
	}
	return checkSignIn(s, s.SignIn)
}

var carryWays = []string{team.CarryVariable, team.CarryFile, team.CarryHeader, team.CarryQuery, team.CarryBasic}

// checkPlace checks where a secret goes; process says that it goes to a local
// process and not to an address.
func checkPlace(p team.Place, process bool) error {
	bad := func(field, why string) error { return &team.FieldError{Field: field, Why: why} }
	switch {
	case p.Secret == "":
		return bad("places", "must name a secret each")
	case process != (p.How == team.CarryVariable || p.How == team.CarryFile):
		return bad("places", "must be variable or file for a local process, and header, query or basic for an address")
	case process && !variable.MatchString(p.Name):
		return bad("places", "must name a variable, like BERTHS_KEY")
	case p.How == team.CarryHeader && !headerName(p.Name), p.How == team.CarryQuery && p.Name == "":
		return bad("places", "must name the header or the query parameter")
	case !slices.Contains(carryWays, p.How):
		return bad("places", "must be header, query, basic, variable or file")
	case p.Scheme != "" && (p.How != team.CarryHeader || !headerName(p.Scheme)):
		return bad("places", "may have a scheme word for a header only, like Token")
	}
	for _, own := range ownHeaders {
		if p.How == team.CarryHeader && strings.EqualFold(p.Name, own) {
			return bad("places", "may not set "+own+", which belongs to the protocol")
		}
	}
	return nil
}

// checkSignIn checks the OAuth settings w of a server.
func checkSignIn(s team.Server, w *team.SignInWay) error {
	bad := func(field, why string) error { return &team.FieldError{Field: field, Why: why} }
	switch {
	case s.Transport != team.StreamableHTTP && s.Transport != team.EventStream:
		return bad("signIn", "goes with a server at an address only")
	case w.Grant != team.GrantCode && !team.OfBouncer(w) && w.Grant != team.GrantAssertion:
		return bad("signIn.grant", "must be code, client, workload or assertion")
	case w.Grant == team.GrantClient && (w.ClientID == "" || (w.ClientSecret == "") == (w.SigningKey == "")):
		return bad("signIn.clientId", "is needed for client credentials, with either the client's secret or its signing key")
	case (w.Grant == team.GrantWorkload) != (w.Assertion != ""):
		return bad("signIn.assertion", "names the secret with the platform's assertion, and belongs to the grant workload")
	case (w.Grant == team.GrantAssertion || w.Grant == team.GrantWorkload) && w.ClientID == "":
		return bad("signIn.clientId", "is needed: the authorization server has to know Bouncer")
	case w.ClientID == "" && (w.ClientSecret != "" || w.SigningKey != ""):
		return bad("signIn.clientId", "is missing; it belongs to the secret")
	case team.OfBouncer(w) && (s.Per == team.PerPerson || s.Per == team.PerAgent):
		return bad("per", "must be team: this access is Bouncer's own")
	case w.Grant == team.GrantAssertion && s.Per != team.PerPerson:
		return bad("per", "must be person: the identity provider vouches for people")
	case len(w.Scope) > 1000 || strings.ContainsAny(w.Scope, "\"\\\r\n"):
		return bad("signIn.scope", "must be words with blanks between them")
	}
	if w.Issuer != "" {
		if err := endpoint.CheckEndpoint(w.Issuer); err != nil {
			return bad("signIn.issuer", "cannot be one: "+err.Error())
		}
	}
	return nil
}

// CheckPair checks that a client certificate and its key fit.
func CheckPair(s team.Server, key string) error {
	if s.ClientCert == "" {
		return nil
	}
	if _, err := tls.X509KeyPair([]byte(s.ClientCert), []byte(key)); err != nil {
		return &team.FieldError{
			Field: "clientCert",
			Why:   "and the key in secret " + s.ClientKey + " cannot be used together: " + err.Error(),
		}
	}
	return nil
}

func headerName(s string) bool {
	if s == "" || len(s) > 100 {
		return false
	}
	return strings.IndexFunc(s, func(r rune) bool {
		return r <= ' ' || r >= 0x7f || strings.ContainsRune("()<>@,;:\\\"/[]?={}", r)
	}) < 0
}

// LimitsKept reports whether the limits of local processes can be kept on this
// system.
const LimitsKept = runtime.GOOS == "linux"
