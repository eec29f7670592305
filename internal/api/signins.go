package api

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"bouncer/internal/api/programs"
	"bouncer/internal/api/reading"
	"bouncer/internal/apitype"
	"bouncer/internal/login"
	"bouncer/internal/origin"
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
	for _, path := range [...]string{"/sign-in/", "/api/"} {
		http.SetCookie(c.w, &http.Cookie{
			Name: browserCookie, Value: v, Path: path, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: a.secure(), MaxAge: 900,
		})
	}
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
		programs.Leave(w, landing.Path)
		return
	}
	page, ok := a.s.SignIns.Finish(r.Context(), answer, browser)
	if !ok {
		page = a.s.SignIns.Unknown()
	}
	programs.Leave(w, page)
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

// MountOAuth adds what programs need that know OAuth, and where browsers come back to.
func (a *API) MountOAuth(r chi.Router) {
	endpoints := &programs.Endpoints{
		Address: a.o.Address, Server: a.s.AuthServer, Log: a.o.Log,
		From: func(r *http.Request) string { return origin.Client(r, a.o.Proxies) },
	}
	endpoints.Mount(r)
	r.Get(apitype.CallbackPath, a.callback)
}
