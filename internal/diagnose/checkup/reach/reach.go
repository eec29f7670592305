// Package reach looks at a server at an address: the name, the connection, TLS, HTTP, the
// transport and the authorization, with requests of its own.
package reach

import (
	"context"
	"net/url"
	"time"

	"bouncer/internal/diagnose/checkup/exam"
)

// How long things are waited for, unless the patience is shorter.
const (
	connectTime = 10 * time.Second
	probeTime   = 5 * time.Second // for what is only tried to tell look-alikes apart
	getTime     = 2 * time.Second // for a plain GET, which servers answer at once or never
	streamTime  = 250 * time.Millisecond
)

// Look goes the way to an address, as far as it leads.
func Look(ctx context.Context, r *exam.Run) error {
	at := parsed(r.Target.Server.URL)
	if at == nil {
		r.Stage("settings", exam.Failed, 0, "the address is "+r.Target.Server.URL)
		return nil
	}
	r.Stage("settings", exam.OK, 0, "the address is "+r.Target.Server.URL)
	w := &way{Run: r, at: at}
	return w.travel(ctx)
}

// parsed is an address that can be gone to; nil for any other, which is judged.
func parsed(address string) *url.URL {
	at, err := url.Parse(address)
	if err != nil || at.Host == "" || (at.Scheme != "http" && at.Scheme != "https") {
		return nil
	}
	return at
}
