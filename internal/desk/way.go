package desk

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/core/restmap"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/link/dial"
	"bouncer/internal/store"
	"bouncer/internal/upstream"
)

// source is what tells the way to a server from another one.
func source(s team.Server, c credential) string {
	// Texts and numbers cannot fail to be written.
	options, _ := json.Marshal(s.ServerOptions)
	return fmt.Sprintf("%q %s", []any{s.Transport, s.URL, s.Command, s.Args, s.Dir, s.Env, s.SecretEnv, s.Document, c.secret.Reveal(), c.key.Reveal(), c.from}, options)
}

// way returns the way to a server.
func (d *Desk) way(s team.Server, c credential) (link.Transport, error) {
	return dial.New(s, c.given(), d.o.Link)
}

// ownHeaders are those that belong to the protocol or to the connection.
var ownHeaders = []string{"Host", "Content-Type", "Content-Length", "Accept", "Connection", "Transfer-Encoding", "Cookie", "Mcp-Session-Id", "Mcp-Protocol-Version", "Mcp-Method", "Mcp-Name", "Last-Event-Id"}

// checkOptions checks the settings that most servers need none of.
func checkOptions(s team.Server) error {
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
	case (s.MemoryMiB > 0 || s.OpenFiles > 0 || s.Processes > 0) && !link.LimitsKept:
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
	for _, h := range s.Headers {
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
	if err := checkCredentials(s); err != nil {
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

// checkCredentials checks whose credential a server takes, and where it goes.
func checkCredentials(s team.Server) error {
	bad := func(field, why string) error { return &team.FieldError{Field: field, Why: why} }
	process := s.Transport == team.Stdio
	switch {
	case s.Per != "" && s.Per != team.PerTeam && s.Per != team.PerPerson && s.Per != team.PerAgent:
		return bad("per", "must be team, person or agent")
	case len(s.Places) > 20:
		return bad("places", "are more than 20")
	}
	for _, p := range s.Places {
		switch {
		case p.Secret == "":
			return bad("places", "must name a secret each")
		case process != (p.How == team.CarryVariable || p.How == team.CarryFile):
			return bad("places", "must be variable or file for a local process, and header, query or basic for an address")
		case process && !variable.MatchString(p.Name):
			return bad("places", "must name a variable, like BERTHS_KEY")
		case p.How == team.CarryHeader && !headerName(p.Name), p.How == team.CarryQuery && p.Name == "":
			return bad("places", "must name the header or the query parameter")
		case p.How != team.CarryVariable && p.How != team.CarryFile && p.How != team.CarryHeader && p.How != team.CarryQuery && p.How != team.CarryBasic:
			return bad("places", "must be header, query, basic, variable or file")
		case p.Scheme != "" && (p.How != team.CarryHeader || !headerName(p.Scheme)):
			return bad("places", "may have a scheme word for a header only, like Token")
		}
		for _, own := range ownHeaders {
			if p.How == team.CarryHeader && strings.EqualFold(p.Name, own) {
				return bad("places", "may not set "+own+", which belongs to the protocol")
			}
		}
	}
	w := s.SignIn
	if w == nil {
		return nil
	}
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

// checkPair checks that a client certificate and its key fit.
func checkPair(s team.Server, c credential) error {
	if s.ClientCert == "" {
		return nil
	}
	if _, err := tls.X509KeyPair([]byte(s.ClientCert), []byte(c.key.Reveal())); err != nil {
		return &team.FieldError{Field: "clientCert", Why: "and the key in secret " + s.ClientKey + " cannot be used together: " + err.Error()}
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

// describeREST fills in what the document of a REST API says.
func describeREST(s *team.Server, documentURL string) error {
	doc, err := restmap.Parse([]byte(s.Document))
	if err != nil {
		return &team.FieldError{Field: "document", Why: "cannot be used: " + err.Error()}
	}
	if s.URL == "" {
		base, err := url.Parse(documentURL)
		to, err2 := url.Parse(doc.Server)
		if err := errors.Join(err, err2); err != nil || (documentURL == "" && !to.IsAbs()) {
			return &team.FieldError{Field: "url", Why: "is missing, and the document names no address of a server; give the base address of the API"}
		}
		s.URL = base.ResolveReference(to).String()
	}
	if s.URL, err = endpoint.CheckURL(s.URL); err != nil {
		return err
	}
	if len(s.Operations) == 0 {
		return &OperationsError{Document: describeDocument(doc)}
	}
	for _, scheme := range doc.Schemes {
		if s.SecretHeader != "" || s.SecretQuery != "" || s.Secret == "" {
			break
		}
		switch scheme.Kind {
		case "header":
			s.SecretHeader = scheme.In
		case "query":
			s.SecretQuery = scheme.In
		}
	}
	return nil
}

// OperationsError says that operations have to be picked, and from which.
type OperationsError struct{ Document DocumentInfo }

func (e *OperationsError) Error() string { return "no operation of the document is picked" }

// DocumentInfo is what an OpenAPI document says.
type DocumentInfo struct {
	Title      string           `json:"title"`
	Version    string           `json:"version"`
	Server     string           `json:"server" doc:"address of the API, as the document has it"`
	Schemes    []restmap.Scheme `json:"schemes"`
	Operations []OperationInfo  `json:"operations"`
}

// OperationInfo is one operation of an OpenAPI document.
type OperationInfo struct {
	ID          string `json:"id"`
	Method      string `json:"method"`
	Path        string `json:"path"`
	Summary     string `json:"summary"`
	ReadOnly    bool   `json:"readOnly"`
	Destructive bool   `json:"destructive"`
	Problem     string `json:"problem,omitempty" doc:"why it cannot be a tool"`
	Picked      bool   `json:"picked" doc:"it is a tool"`
	Tool        string `json:"tool,omitempty" doc:"name of the tool, when it is picked"`
}

func describeDocument(doc *restmap.Document) DocumentInfo {
	out := DocumentInfo{Title: doc.Title, Version: doc.Version, Server: doc.Server, Schemes: doc.Schemes, Operations: []OperationInfo{}}
	if out.Schemes == nil {
		out.Schemes = []restmap.Scheme{}
	}
	for _, o := range doc.Operations {
		out.Operations = append(out.Operations, OperationInfo{ID: o.ID, Method: o.Method, Path: o.Path, Summary: o.Summary, ReadOnly: o.ReadOnly(), Destructive: o.Destructive(), Problem: o.Problem})
	}
	return out
}

// ReadDocument reads an OpenAPI document, given as text or as an address, and
// says what it holds.
func (d *Desk) ReadDocument(ctx context.Context, document, documentURL string) (DocumentInfo, error) {
	if document == "" {
		text, err := d.fetchDocument(ctx, documentURL)
		if err != nil {
			return DocumentInfo{}, err
		}
		document = text
	}
	doc, err := restmap.Parse([]byte(document))
	if err != nil {
		return DocumentInfo{}, &team.FieldError{Field: "document", Why: "cannot be used: " + err.Error()}
	}
	return describeDocument(doc), nil
}

// ServerOperations returns the operations of a registered REST API.
func (d *Desk) ServerOperations(ctx context.Context, name string) (DocumentInfo, error) {
	s, err := d.store.ServerByName(ctx, name)
	if err != nil {
		return DocumentInfo{}, store.Explain(err, "server", name)
	}
	if s.Transport != team.REST {
		return DocumentInfo{}, &team.ConflictError{Field: "name", Why: fmt.Sprintf("server %q is no REST API", name), Hint: "its tools are its own; see bouncer server tools"}
	}
	doc, err := restmap.Parse([]byte(s.Document))
	if err != nil {
		return DocumentInfo{}, err
	}
	out := describeDocument(doc)
	for _, p := range s.Operations {
		for i := range out.Operations {
			if o := &out.Operations[i]; o.ID == p.ID {
				o.Picked = true
				if list, err := doc.Tools([]restmap.Pick{restmap.Pick(p)}); err == nil {
					o.Tool = list[0].Name
				}
			}
		}
	}
	return out, nil
}

// fetchDocument gets an OpenAPI document from an address. It is sent no
// credential.
func (d *Desk) fetchDocument(ctx context.Context, raw string) (string, error) {
	bad := func(why string) (string, error) { return "", &team.FieldError{Field: "documentURL", Why: why} }
	at, err := endpoint.CheckURL(raw)
	if err != nil {
		return bad("is no address of a document; give its text instead, or an address that begins with http:// or https://")
	}
	text, err := dial.Fetch(ctx, at, restmap.MaxDocument, d.o.Link)
	var f *link.Failure
	if errors.As(err, &f) {
		return bad("cannot be fetched: " + f.Message)
	}
	if err != nil {
		return "", err
	}
	return string(text), nil
}

// reach reaches a server that is being registered. Where the transport was
// left open, it is found out.
func (d *Desk) reach(ctx context.Context, s *team.Server, c credential, detect bool) (link.Transport, upstream.Status, error) {
	if detect {
		l, transport, o, stages, err := dial.Detect(ctx, *s, c.given(), d.o.Link)
		s.Transport = transport
		return l, upstream.Assess(o, stages, err), nil
	}
	l, err := d.way(*s, c)
	if err != nil {
		return nil, upstream.Status{}, err
	}
	return l, upstream.Assess(l.Probe(ctx)), nil
}
