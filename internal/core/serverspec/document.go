package serverspec

import (
	"errors"
	"net/url"

	"bouncer/internal/core/endpoint"
	"bouncer/internal/core/restmap"
	"bouncer/internal/core/team"
)

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
			return &team.FieldError{
				Field: "url",
				Why:   "is missing, and the document names no address of a server; give the base address of the API",
			}
		}
		s.URL = base.ResolveReference(to).String()
	}
	if s.URL, err = endpoint.CheckURL(s.URL); err != nil {
		return err
	}
	if len(s.Operations) == 0 {
		return &OperationsError{Document: DescribeDocument(doc)}
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

func DescribeDocument(doc *restmap.Document) DocumentInfo {
	out := DocumentInfo{Title: doc.Title, Version: doc.Version, Server: doc.Server, Schemes: doc.Schemes, Operations: []OperationInfo{}}
	if out.Schemes == nil {
		out.Schemes = []restmap.Scheme{}
	}
	for _, o := range doc.Operations {
		out.Operations = append(
			out.Operations,
			OperationInfo{
				ID:          o.ID,
				Method:      o.Method,
				Path:        o.Path,
				Summary:     o.Summary,
				ReadOnly:    o.ReadOnly(),
				Destructive: o.Destructive(),
				Problem:     o.Problem,
			},
		)
	}
	return out
}
