package testkit

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// sessionCookie is the console's.
const sessionCookie = "bouncer_session"

// Browser behaves as a person's browser does: it keeps cookies, follows
// redirects and does what the pages that lead on do.
type Browser struct {
	w    *World
	http *http.Client
}

// Browser returns a browser in which somebody is signed in; "" for nobody.
func (w *World) Browser(name string) *Browser {
	w.T.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(w.T, err)
	b := &Browser{w, &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	if name != "" {
		b.Must("POST", "/api/session", Obj{"name": name, "password": Password}, nil)
	}
	return b
}

// BrowserAs returns a browser in which the login of another one is open.
func (w *World) BrowserAs(login string) *Browser {
	b := w.Browser("")
	at, err := url.Parse(w.Base)
	require.NoError(w.T, err)
	b.http.Jar.SetCookies(at, []*http.Cookie{{Name: sessionCookie, Value: login, Path: "/"}})
	return b
}

// Login is the browser's login.
func (b *Browser) Login() string {
	at, err := url.Parse(b.w.Base)
	require.NoError(b.w.T, err)
	for _, k := range b.http.Jar.Cookies(at) {
		if k.Name == sessionCookie {
			return k.Value
		}
	}
	return ""
}

// public is the address under which the service is known.
func (w *World) public() string {
	if w.Svc != nil {
		return w.Svc.Address
	}
	return w.Base
}

// Do sends a request to the API, as the console does.
func (b *Browser) Do(method, path string, in any) (int, []byte) {
	b.w.T.Helper()
	raw, err := json.Marshal(in)
	require.NoError(b.w.T, err)
	req, err := http.NewRequest(method, b.w.Base+path, bytes.NewReader(raw))
	require.NoError(b.w.T, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	res, err := b.http.Do(req)
	require.NoError(b.w.T, err)
	defer res.Body.Close()
	out, err := io.ReadAll(res.Body)
	require.NoError(b.w.T, err)
	return res.StatusCode, out
}

// Must is Do for what has to succeed.
func (b *Browser) Must(method, path string, in, out any) {
	b.w.T.Helper()
	status, raw := b.Do(method, path, in)
	require.Less(b.w.T, status, 400, "%s %s: %s", method, path, raw)
	if out != nil {
		require.NoError(b.w.T, json.Unmarshal(raw, out), "%s", raw)
	}
}

var leads = regexp.MustCompile(`location\.replace\("([^"]+)"\)`)

// Go opens an address and follows it to its end: the address of the last page.
func (b *Browser) Go(t *testing.T, to string) *url.URL {
	t.Helper()
	at, err := url.Parse(to)
	require.NoError(t, err)
	for range 20 {
		if rest, ok := strings.CutPrefix(at.String(), b.w.public()); ok {
			at, err = url.Parse(b.w.Base + rest) // as the public name would lead there
			require.NoError(t, err)
		}
		res, err := b.http.Get(at.String())
		if err != nil {
			return at // an address of a program that is not there: the answer is in it
		}
		raw, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		require.NoError(t, err)
		_ = res.Body.Close()
		next := res.Header.Get("Location")
		if m := leads.FindSubmatch(raw); m != nil {
			require.NoError(t, json.Unmarshal([]byte(`"`+string(m[1])+`"`), &next))
		}
		if next == "" {
			return at
		}
		at, err = at.Parse(next)
		require.NoError(t, err)
	}
	t.Fatal("the browser was led in circles")
	return nil
}

// SignInAt signs in at a server and returns the page that the browser ends on.
func (b *Browser) SignInAt(t *testing.T, in Obj) *url.URL {
	t.Helper()
	var start struct{ URL string }
	b.Must("POST", "/api/sign-ins", in, &start)
	return b.Go(t, start.URL)
}

// Problem returns why a sign-in that ended on a page failed, and what helps.
func (b *Browser) Problem(t *testing.T, page *url.URL) string {
	t.Helper()
	id := page.Query().Get("problem")
	require.NotEmpty(t, id, "%s tells of no problem", page)
	var p struct{ What, Hint string }
	b.Must("GET", "/api/sign-in-problems/"+id, nil, &p)
	require.NotEmpty(t, p.Hint)
	return strings.TrimSpace(p.What) + "; " + p.Hint
}
