// Package web serves the console: the built files, embedded in the binary.
package web

import (
	"embed"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
)

//go:embed all:dist
var dist embed.FS

const notBuilt = `<!doctype html><meta charset="utf-8"><title>Bouncer</title>
<p>This binary was built without the console. Build it with <code>make build</code>; the API and the command line work all the same.</p>`

// policy lets the console load nothing but its own files.
const policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; " +
	"frame-ancestors 'none'; base-uri 'none'; form-action 'self'"

// Handler serves the console. Addresses without a file are pages of the console
// and get its start page.
func Handler() http.Handler {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the directory is embedded above
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", policy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			h.Set("Allow", "GET, HEAD")
			http.Error(w, "this address takes GET", http.StatusMethodNotAllowed)
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(files, name); name != "" && err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				h.Set("Cache-Control", "public, max-age=31536000, immutable") // names carry a hash
			}
			h.Add("Vary", "Accept-Encoding")
			if packed, encoding := smaller(files, name, r.Header.Get("Accept-Encoding")); packed != nil {
				h.Set("Content-Encoding", encoding)
				h.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
				h.Set("Content-Length", strconv.Itoa(len(packed)))
				if r.Method == http.MethodGet {
					_, _ = w.Write(packed)
				}
				return
			}
			server.ServeHTTP(w, r)
			return
		}
		if strings.HasPrefix(name, "assets/") {
			http.NotFound(w, r)
			return
		}
		h.Set("Cache-Control", "no-cache")
		h.Set("Content-Type", "text/html; charset=utf-8")
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			page = []byte(notBuilt)
		}
		_, _ = w.Write(page)
	})
}

// smaller returns a file as it was compressed when the console was built, in the best
// way that the browser takes; nil for none.
func smaller(files fs.FS, name, accepted string) (packed []byte, encoding string) {
	for _, way := range [...]struct{ encoding, suffix string }{{"br", ".br"}, {"gzip", ".gz"}} {
		if !accepts(accepted, way.encoding) {
			continue
		}
		if packed, err := fs.ReadFile(files, name+way.suffix); err == nil {
			return packed, way.encoding
		}
	}
	return nil, ""
}

// accepts reads an Accept-Encoding header (RFC 9110 §12.5.3).
func accepts(header, encoding string) bool {
	for _, item := range strings.Split(header, ",") {
		name, quality, _ := strings.Cut(strings.TrimSpace(item), ";")
		if strings.EqualFold(strings.TrimSpace(name), encoding) {
			q := strings.ReplaceAll(quality, " ", "")
			return q != "q=0" && q != "q=0.0" && q != "q=0.00" && q != "q=0.000"
		}
	}
	return false
}
