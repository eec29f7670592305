// Package bell stands in for what a team has notices go to: a chat or a pager. It takes
// notices that are signed rightly, shows the newest, and misbehaves on demand.
package bell

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"html"
	"io"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Key is the demo's shared key.
const Key = "skf-bell-9Vw3Ht6Rk2Zd8Ms4"

const kept = 20

// Bell takes notices.
type Bell struct {
	// Address is the URL under which it is reached, over which notices are signed.
	Address string
	Key     string
	Now     func() time.Time

	mu      sync.Mutex // guards what follows
	notices []string   // the newest last
	status  []int      // answers to come instead of taking a notice
}

// Fail has the next notices answered with these statuses.
func (b *Bell) Fail(status ...int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.status = append(b.status, status...)
}

// Notices are those that were taken, the newest last.
func (b *Bell) Notices() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string(nil), b.notices...)
}

func (b *Bell) next() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.status) == 0 {
		return 0
	}
	s := b.status[0]
	b.status = b.status[1:]
	return s
}

// ServeHTTP implements http.Handler.
func (b *Bell) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodPost {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, "<!doctype html><title>Bell</title><h1>Notices</h1>")
		for _, n := range b.Notices() {
			fmt.Fprintf(w, "<pre>%s</pre>", html.EscapeString(n))
		}
		return
	}
	if status := b.next(); status != 0 {
		w.WriteHeader(status)
		return
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	if why := b.verify(r, body); why != "" {
		http.Error(w, why, http.StatusUnauthorized)
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.notices = append(b.notices, string(body))
	if over := len(b.notices) - kept; over > 0 {
		b.notices = b.notices[over:]
	}
	w.WriteHeader(http.StatusNoContent)
}

var inputRE = regexp.MustCompile(`^([a-z]+)=(\(([^)]*)\);created=(\d+);keyid="[^"]*";alg="hmac-sha256")$`)

// verify checks a signature (RFC 9421) over the parts that it names, and that those are
// enough.
func (b *Bell) verify(r *http.Request, body []byte) string {
	m := inputRE.FindStringSubmatch(r.Header.Get("Signature-Input"))
	if m == nil {
		return "no signature that can be read"
	}
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	if r.Header.Get("Content-Digest") != digest {
		return "the digest does not fit the body"
	}
	var lines []string
	for _, part := range strings.Fields(m[3]) {
		value := ""
		switch part {
		case `"@method"`:
			value = r.Method
		case `"@target-uri"`:
			value = b.Address
		case `"content-digest"`:
			value = digest
		}
		lines = append(lines, part+": "+value)
	}
	if len(lines) != 3 {
		return "the signature covers too little"
	}
	lines = append(lines, `"@signature-params": `+m[2])
	mac := hmac.New(sha256.New, []byte(b.Key))
	mac.Write([]byte(strings.Join(lines, "\n")))
	want := m[1] + "=:" + base64.StdEncoding.EncodeToString(mac.Sum(nil)) + ":"
	if subtle.ConstantTimeCompare([]byte(want), []byte(r.Header.Get("Signature"))) != 1 {
		return "the signature does not fit"
	}
	created, err := strconv.ParseInt(m[4], 10, 64)
	if err != nil || b.Now().Sub(time.Unix(created, 0)).Abs() > 5*time.Minute {
		return "the notice is of another time"
	}
	return ""
}
