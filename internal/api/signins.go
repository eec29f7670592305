package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"bouncer/internal/api/reading"
	"bouncer/internal/apitype"
	"bouncer/internal/authserver"
	"bouncer/internal/core/team"
	"bouncer/internal/login"
	"bouncer/internal/oauth"
	"bouncer/internal/token"
)

// browserCookie ties a sign-in elsewhere to the browser that began it. It has to
// come along when another site sends the browser back, unlike the session's.
const browserCookie = "bouncer_flow"

// with decodes the body for a handler.
func with[T any](fn func(*call, T) (any, error)) func(*call) (any, error) {
	return func(c *call) (any, error) {
		in, err := reading.JSON[T](c.Request)
		if err != nil {
			return nil, err
		}
		return fn(c, in)
	}
}

func (a *API) secure() bool { return strings.HasPrefix(a.o.Address, "https://") }

// setLogin gives the browser a console login.
func (a *API) setLogin(w http.ResponseWriter, token string) {
	http.SetCookie(
		w,
		&http.Cookie{
			Name:     Cookie,
			Value:    token,
			Path:     "/",
			HttpOnly: true,
			SameSite: http.SameSiteStrictMode,
			Secure:   a.secure(),
			MaxAge:   int(login.ConsoleLogin / time.Second),
		},
	)
}

// dropLogin takes the console login from the browser.
func (a *API) dropLogin(w http.ResponseWriter) {
	http.SetCookie(w, &http.Cookie{Name: Cookie, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1})
}

// browser returns what the browser shows as itself, and gives it that if need be.
func (a *API) browser(c *call) string {
	v := token.New("")
	if k, err := c.Request.Cookie(browserCookie); err == nil && len(k.Value) >= 40 && len(k.Value) < 100 {
		v = k.Value // given again, so that it lasts as long as what begins now
	}
	http.SetCookie(
		c.w,
		&http.Cookie{
			Name:     browserCookie,
			Value:    v,
			Path:     "/sign-in/",
			HttpOnly: true,
			SameSite: http.SameSiteLaxMode,
			Secure:   a.secure(),
			MaxAge:   900,
		},
	)
	http.SetCookie(
		c.w,
		&http.Cookie{
			Name:     browserCookie,
			Value:    v,
			Path:     "/api/",
			HttpOnly: true,
			SameSite: http.SameSiteLaxMode,
			Secure:   a.secure(),
			MaxAge:   900,
		},
	)
	return v
}

// callback is where authorization servers send the browser back to. It answers
// with a page of the console, whatever came.
func (a *API) callback(w http.ResponseWriter, r *http.Request) {
	c := &call{Request: r, api: a, w: w}
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	browser := ""
	if k, err := r.Cookie(browserCookie); err == nil {
		browser = k.Value
	}
	answer := r.URL.Query()
	if landing, ok := a.s.Login.FinishLogin(r.Context(), answer, browser, c.from()); ok {
		if landing.Login != "" {
			a.setLogin(w, landing.Login)
		}
		if landing.Path == "" {
			landing.Path = "/"
		}
		a.leave(w, landing.Path)
		return
	}
	page, ok := a.s.SignIns.Finish(r.Context(), answer, browser)
	if !ok {
		page = a.s.SignIns.Unknown()
	}
	a.leave(w, page)
}

// leave sends the browser to a page of the console. A plain redirect would be a
// request from the other site, with which the session cookie does not come.
func (a *API) leave(w http.ResponseWriter, path string) {
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
func (a *API) document(w http.ResponseWriter, _ *http.Request) {
	a.public(w, 200, oauth.ClientDocument{
		ID: a.o.Address + apitype.DocumentPath, Name: "Bouncer", URI: a.o.Address, Redirects: []string{a.o.Address + apitype.CallbackPath},
		Responses: []string{"code"}, Grants: []string{"authorization_code", "refresh_token"}, Method: "none",
	})
}

// public writes a document that pages of every origin may read.
func (a *API) public(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Access-Control-Allow-Origin", "*")
	w.Header().Set("Cache-Control", "no-store")
	a.write(w, status, "application/json", v)
}

// MountOAuth adds what agents need that know OAuth: the metadata of the resource
// (RFC 9728) and of the authorization server (RFC 8414), and its endpoints.
func (a *API) MountOAuth(r chi.Router) {
	resource := func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/.well-known/oauth-protected-resource")
		rest, below := strings.CutPrefix(path, "/mcp/")
		if path == "" || path == "/" {
			path = "/mcp"
		} else if path != "/mcp" && (!below || team.CheckName("name", rest) != nil) {
			a.public(w, 404, map[string]string{"error": "not_found"})
			return
		}
		a.public(
			w,
			200,
			map[string]any{
				"resource":                 a.o.Address + path,
				"resource_name":            "Bouncer",
				"authorization_servers":    []string{a.o.Address},
				"bearer_methods_supported": []string{"header"},
			},
		)
	}
	r.Get("/.well-known/oauth-protected-resource", resource)
	r.Get("/.well-known/oauth-protected-resource/*", resource)
	server := func(w http.ResponseWriter, _ *http.Request) {
		at := a.o.Address + "/oauth/"
		a.public(w, 200, map[string]any{
			"issuer": a.o.Address, "authorization_endpoint": at + "authorize", "token_endpoint": at + "token", "registration_endpoint": at + "register", "revocation_endpoint": at + "revoke",
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
	r.Get("/oauth/authorize", a.authorize)
	for path, fn := range map[string]func(*call) (int, any, error){"register": a.registerApp, "token": a.token, "revoke": a.revoke} {
		r.Post("/oauth/"+path, func(w http.ResponseWriter, r *http.Request) {
			r.Body = http.MaxBytesReader(w, r.Body, maxPublicBody)
			status, out, err := fn(&call{Request: r, api: a, w: w})
			if err != nil {
				status, out = a.refuse(w, r, err)
			}
			a.public(w, status, out)
		})
		r.Options("/oauth/"+path, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Access-Control-Allow-Origin", "*")
			w.Header().Set("Access-Control-Allow-Methods", "POST")
			w.Header().Set("Access-Control-Allow-Headers", "Content-Type, Authorization, MCP-Protocol-Version")
			w.WriteHeader(http.StatusNoContent)
		})
	}
	r.Get(apitype.CallbackPath, a.callback)
	r.Get(apitype.DocumentPath, a.document)
}

// refuse is an error as OAuth tells it (RFC 6749, section 5.2).
func (a *API) refuse(w http.ResponseWriter, r *http.Request, err error) (int, any) {
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
	a.o.Log.ErrorContext(r.Context(), "a request of a program failed", "path", r.URL.Path, "error", err)
	return 500, answer{"server_error", "something failed inside Bouncer"}
}

// authorize takes a program's request and leads to the page where a person
// decides. A request that is wrong ends on a page of the console, and never at the
// address it names.
func (a *API) authorize(w http.ResponseWriter, r *http.Request) {
	c := &call{Request: r, api: a, w: w}
	page, err := a.s.AuthServer.Authorize(r.Context(), r.URL.Query(), c.from())
	w.Header().Set("Referrer-Policy", "no-referrer")
	var ae *authserver.AuthError
	switch {
	case err == nil:
		a.leave(w, page)
	case errors.As(err, &ae):
		a.leave(w, "/consent/none?why="+url.QueryEscape(ae.Code))
	default:
		status, out := a.refuse(w, r, err)
		a.write(w, status, "application/json", out)
	}
}

func (a *API) registerApp(c *call) (int, any, error) {
	var in authserver.AppRegistration
	if err := json.NewDecoder(c.Body).Decode(&in); err != nil {
		return 0, nil, &authserver.AuthError{Code: "invalid_client_metadata", Why: "the body must be a JSON object (RFC 7591)"}
	}
	id, in, err := a.s.AuthServer.RegisterApp(c.Context(), in, c.from())
	return 201, map[string]any{
		"client_id": id, "client_id_issued_at": time.Now().Unix(), "client_name": in.Name, "redirect_uris": in.Redirects,
		"grant_types": []string{
			"authorization_code",
			"refresh_token",
		}, "response_types": []string{"code"}, "token_endpoint_auth_method": "none",
	}, err
}

func (c *call) form() (url.Values, error) {
	if err := c.ParseForm(); err != nil {
		return nil, &authserver.AuthError{Code: "invalid_request", Why: "the body must be a form (application/x-www-form-urlencoded)"}
	}
	for k, v := range c.PostForm {
		if len(v) > 1 && k != "resource" {
			return nil, &authserver.AuthError{Code: "invalid_request", Why: k + " is there more than once"}
		}
	}
	return c.PostForm, nil
}

func (a *API) token(c *call) (int, any, error) {
	q, err := c.form()
	if err != nil {
		return 0, nil, err
	}
	out, err := a.s.AuthServer.IssueTokens(c.Context(), q)
	return 200, out, err
}

func (a *API) revoke(c *call) (int, any, error) {
	q, err := c.form()
	if err != nil {
		return 0, nil, err
	}
	return 200, struct{}{}, a.s.AuthServer.RevokeToken(c.Context(), q.Get("token"), q.Get("client_id"))
}

// backup sends a copy of the database.
func (a *API) backup(w http.ResponseWriter, c *call) {
	fail := func(err error) { a.problem(w, a.explain(c, err)) }
	dir, err := os.MkdirTemp("", "bouncer-backup-*")
	if err != nil {
		fail(err)
		return
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "bouncer.db")
	if err := a.s.Backup(c.Context(), path); err != nil {
		fail(err)
		return
	}
	f, err := os.Open(path)
	if err != nil {
		fail(err)
		return
	}
	defer f.Close()
	w.Header().Set("Content-Type", "application/vnd.sqlite3")
	// A large copy takes its time.
	_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(time.Hour))
	w.Header().Set("Content-Disposition", `attachment; filename="bouncer-`+time.Now().UTC().Format("20060102-150405")+`.db"`)
	_, _ = io.Copy(w, f) // the reader may have gone
}
