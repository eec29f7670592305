package web

import (
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestConsoleIsServedUnderEveryPage(t *testing.T) {
	t.Parallel()
	h := Handler()
	for path, want := range map[string]int{"/": 200, "/servers": 200, "/servers/sailings": 200, "/assets/gone.js": 404, "/../../etc/passwd": 200, "/assets/../../web.go": 200} {
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest("GET", "http://localhost"+path, nil))
		assert.Equal(t, want, w.Code, path)
		if want == 200 {
			assert.True(t, strings.HasPrefix(w.Body.String(), "<!doctype html>"), path)
			assert.Equal(t, "no-cache", w.Header().Get("Cache-Control"), "a new build must be seen at once")
		}
		assert.Contains(t, w.Header().Get("Content-Security-Policy"), "default-src 'self'")
		assert.Equal(t, "nosniff", w.Header().Get("X-Content-Type-Options"))
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("POST", "http://localhost/", nil))
	assert.Equal(t, 405, w.Code)
}
