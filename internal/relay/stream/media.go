package stream

import (
	"net/http"
	"strings"
)

// Accepts reports whether the Accept header allows a media type; a missing
// header allows every one (RFC 9110, section 12.5.1).
func Accepts(h http.Header, media string) bool {
	values := h["Accept"]
	if len(values) == 0 {
		return media == "application/json"
	}
	major, _, _ := strings.Cut(media, "/")
	for _, v := range values {
		if strings.Contains(v, media) || strings.Contains(v, "*/*") || strings.Contains(v, major+"/*") {
			return true
		}
	}
	return false
}

func IsJSON(h http.Header) bool {
	ct := h.Get("Content-Type")
	if ct == "application/json" {
		return true
	}
	media, _, _ := strings.Cut(ct, ";")
	return strings.EqualFold(strings.TrimSpace(media), "application/json")
}
