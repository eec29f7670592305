// Package programs is the addresses for programs that know OAuth and have a person admit them:
// what is said of the resource (RFC 9728) and of the authorization server (RFC 8414), and that
// server's endpoints.
package programs

import (
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"bouncer/internal/apitype"
	"bouncer/internal/authserver"
	"bouncer/internal/core/team"
	"bouncer/internal/oauth"
)

// maxBody is the largest body of a request, in bytes.
const maxBody = 16 << 10

// Endpoints are the addresses. All fields are required.
type Endpoints struct {
	Address string // base URL of the service
	Server  *authserver.Service
	Log     *slog.Logger
	From    func(*http.Request) string // where a request comes from
}

func (e *Endpoints) write(w http.ResponseWriter, status int, v any) {
	raw, err := json.Marshal(v)
	if err != nil {
		e.Log.Error("an answer could not be written", "error", err)
		http.Error(w, "", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_, _ = w.Write(append(raw, '\n')) // the reader may have gone
}

// Leave sends the browser to a page of the console. A plain redirect would be a
// request from the other site, with which the session cookie does not come.
func Leave(w http.ResponseWriter, path string) {
	raw, _ := json.Marshal(path) // a text cannot fail to be written
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; script-src 'nonce-leave'")
	_, _ = fmt.Fprintf(
		w,
		"<!doctype html><meta charset=utf-8><title>Bouncer</title><script nonce=leave>location.replace(%s)</script><noscript><a href=\"%s\">Go on</a></noscript>\n",
		raw,
		html.EscapeString(path),
	)
}

// document is who Bouncer is at authorization servers that read client-id
// metadata documents.
func (e *Endpoints) document(w http.ResponseWriter, _ *http.Request) {
	e.public(w, 200, oauth.ClientDocument{
		ID: e.Address + apitype.DocumentPath, Name: "Bouncer", URI: e.Address, Redirects: []string{e.Address + apitype.CallbackPath},
		Responses: []string{"code"}, Grants: []string{"authorization_code", "refresh_token"}, Method: "none",
	})
}

// public writes a document that pages of every origin may read.
func (e *Endpoints) public(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Access-Control-Allow-Origin", "*")
	w.Header().Set("Cache-Control", "no-store")
	e.write(w, status, v)
}

// Mount adds what agents need that know OAuth: the metadata of the resource
// (RFC 9728) and of the authorization server (RFC 8414), and its endpoints.
func (e *Endpoints) Mount(r chi.Router) {
	resource := func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/.well-known/oauth-protected-resource")
		rest, below := strings.CutPrefix(path, "/mcp/")
		if path == "" || path == "/" {
			path = "/mcp"
		} else if path != "/mcp" && (!below || team.CheckName("name", rest) != nil) {
			e.public(w, 404, map[string]string{"error": "not_found"})
			return
		}
		e.public(
			w,
			200,
			map[string]any{
				"resource":                 e.Address + path,
				"resource_name":            "Bouncer",
				"authorization_servers":    []string{e.Address},
				"bearer_methods_supported": []string{"header"},
			},
		)
	}
	r.Get("/.well-known/oauth-protected-resource", resource)
	r.Get("/.well-known/oauth-protected-resource/*", resource)
	server := func(w http.ResponseWriter, _ *http.Request) {
		at := e.Address + "/oauth/"
		e.public(w, 200, map[string]any{
			"issuer": e.Address, "authorization_endpoint": at + "authorize", "token_endpoint": at + "token", "registration_endpoint": at + "register", "revocation_endpoint": at + "revoke",
			"response_types_supported": []string{
				"code",
			}, "response_modes_supported": []string{"query"}, "grant_types_supported": []string{"authorization_code", "refresh_token"},
			"code_challenge_methods_supported": []string{
				"S256",
			}, "token_endpoint_auth_methods_supported": []string{"none"}, "revocation_endpoint_auth_methods_supported": []string{"none"},
			"authorization_response_iss_parameter_supported": true, "client_id_metadata_document_supported": true,
		})
	}
	r.Get("/.well-known/oauth-authorization-server", server)
	r.Get("/.well-known/oauth-authorization-server/*", server)
	r.Get("/oauth/authorize", e.authorize)
	for path, fn := range map[string]func(*http.Request) (int, any, error){"register": e.registerApp, "token": e.token, "revoke": e.revoke} {
		r.Post("/oauth/"+path, func(w http.ResponseWriter, r *http.Request) {
			r.Body = http.MaxBytesReader(w, r.Body, maxBody)
			status, out, err := fn(r)
			if err != nil {
				status, out = e.refuse(w, r, err)
			}
			e.public(w, status, out)
		})
		r.Options("/oauth/"+path, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Access-Control-Allow-Origin", "*")
			w.Header().Set("Access-Control-Allow-Methods", "POST")
			w.Header().Set("Access-Control-Allow-Headers", "Content-Type, Authorization, MCP-Protocol-Version")
			w.WriteHeader(http.StatusNoContent)
		})
	}
	r.Get(apitype.DocumentPath, e.document)
}

// refuse is an error as OAuth tells it (RFC 6749, section 5.2).
func (e *Endpoints) refuse(w http.ResponseWriter, r *http.Request, err error) (int, any) {
	var ae *authserver.AuthError
	var wait *team.ThrottledError
	var large *http.MaxBytesError
	type answer struct {
		Error string `json:"error"`
		Why   string `json:"error_description"`
	}
	switch {
	case errors.As(err, &ae) && ae.Code == "invalid_client":
		return 401, answer{ae.Code, ae.Why}
	case errors.As(err, &ae):
		return 400, answer{ae.Code, ae.Why}
	case errors.As(err, &wait):
		w.Header().Set("Retry-After", "60")
		return 429, answer{"temporarily_unavailable", wait.Error()}
	case errors.As(err, &large):
		return 413, answer{"invalid_request", "the body is too large"}
	}
	e.Log.ErrorContext(r.Context(), "a request of a program failed", "path", r.URL.Path, "error", err)
	return 500, answer{"server_error", "something failed inside Bouncer"}
}

// authorize takes a program's request and leads to the page where a person
// decides. A request that is wrong ends on a page of the console, and never at the
// address it names.
func (e *Endpoints) authorize(w http.ResponseWriter, r *http.Request) {
	page, err := e.Server.Authorize(r.Context(), r.URL.Query(), e.From(r))
	w.Header().Set("Referrer-Policy", "no-referrer")
	var ae *authserver.AuthError
	switch {
	case err == nil:
		Leave(w, page)
	case errors.As(err, &ae):
		Leave(w, "/consent/none?why="+url.QueryEscape(ae.Code))
	default:
		status, out := e.refuse(w, r, err)
		e.write(w, status, out)
	}
}

func (e *Endpoints) registerApp(r *http.Request) (int, any, error) {
	var in authserver.AppRegistration
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
		return 0, nil, &authserver.AuthError{Code: "invalid_client_metadata", Why: "the body must be a JSON object (RFC 7591)"}
	}
	id, in, err := e.Server.RegisterApp(r.Context(), in, e.From(r))
	return 201, map[string]any{
		"client_id": id, "client_id_issued_at": time.Now().Unix(), "client_name": in.Name, "redirect_uris": in.Redirects,
		"grant_types": []string{
			"authorization_code",
			"refresh_token",
		}, "response_types": []string{"code"}, "token_endpoint_auth_method": "none",
	}, err
}

// form reads a form in which nothing stands twice.
func form(r *http.Request) (url.Values, error) {
	if err := r.ParseForm(); err != nil {
		return nil, &authserver.AuthError{Code: "invalid_request", Why: "the body must be a form (application/x-www-form-urlencoded)"}
	}
	for k, v := range r.PostForm {
		if len(v) > 1 && k != "resource" {
			return nil, &authserver.AuthError{Code: "invalid_request", Why: k + " is there more than once"}
		}
	}
	return r.PostForm, nil
}

func (e *Endpoints) token(r *http.Request) (int, any, error) {
	q, err := form(r)
	if err != nil {
		return 0, nil, err
	}
	out, err := e.Server.IssueTokens(r.Context(), q)
	return 200, out, err
}

func (e *Endpoints) revoke(r *http.Request) (int, any, error) {
	q, err := form(r)
	if err != nil {
		return 0, nil, err
	}
	return 200, struct{}{}, e.Server.RevokeToken(r.Context(), q.Get("token"), q.Get("client_id"))
}
