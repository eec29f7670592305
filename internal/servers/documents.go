package servers

import (
	"context"
	"errors"
	"fmt"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/core/restmap"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/link/dial"
	"bouncer/internal/store"
)

// ReadDocument reads an OpenAPI document, given as text or as an address, and
// says what it holds.
func (svc *Service) ReadDocument(ctx context.Context, document, documentURL string) (serverspec.DocumentInfo, error) {
	if document == "" {
		text, err := svc.fetchDocument(ctx, documentURL)
		if err != nil {
			return serverspec.DocumentInfo{}, err
		}
		document = text
	}
	doc, err := restmap.Parse([]byte(document))
	if err != nil {
		return serverspec.DocumentInfo{}, &team.FieldError{Field: "document", Why: "cannot be used: " + err.Error()}
	}
	return serverspec.DescribeDocument(doc), nil
}

// Operations returns the operations of a registered REST API.
func (svc *Service) Operations(ctx context.Context, name string) (serverspec.DocumentInfo, error) {
	s, err := svc.store.ServerByName(ctx, name)
	if err != nil {
		return serverspec.DocumentInfo{}, store.Explain(err, "server", name)
	}
	if s.Transport != team.REST {
		return serverspec.DocumentInfo{}, &team.ConflictError{
			Field: "name",
			Why:   fmt.Sprintf("server %q is no REST API", name),
			Hint:  "its tools are its own; see bouncer server tools",
		}
	}
	doc, err := restmap.Parse([]byte(s.Document))
	if err != nil {
		return serverspec.DocumentInfo{}, err
	}
	out := serverspec.DescribeDocument(doc)
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
func (svc *Service) fetchDocument(ctx context.Context, raw string) (string, error) {
	bad := func(why string) (string, error) { return "", &team.FieldError{Field: "documentURL", Why: why} }
	at, err := endpoint.CheckURL(raw)
	if err != nil {
		return bad("is no address of a document; give its text instead, or an address that begins with http:// or https://")
	}
	text, err := dial.Fetch(ctx, at, restmap.MaxDocument, svc.o.Link)
	var f *link.Failure
	if errors.As(err, &f) {
		return bad("cannot be fetched: " + f.Message)
	}
	if err != nil {
		return "", err
	}
	return string(text), nil
}
