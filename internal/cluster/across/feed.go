package across

import (
	"net/http"

	"bouncer/internal/cluster/peer"
	"bouncer/internal/core/feed"
	"bouncer/internal/core/team"
)

// feed is what the list of incidents of all nodes is as a feed.
func (h *Handler) feed(w http.ResponseWriter, r *http.Request, request *peer.Request, others []string) {
	const list = "/api/incidents"
	here, there := r.Clone(r.Context()), *request
	here.URL.Path, there.Path = list, list
	own, bodies, silent := h.gather(here, &there, others)
	if own.Status() != http.StatusOK {
		own.Send(w)
		return
	}
	merged, err := oneIncident(r, bodies)
	if err != nil { // what is here is better than nothing
		silent = others
		merged, err = oneIncident(r, bodies[:1])
	}
	incidents, _ := merged.([]team.Incident)
	var raw []byte
	if err == nil {
		raw, err = feed.Of(incidents, h.Base)
	}
	if err != nil {
		h.Next.ServeHTTP(w, r)
		return
	}
	tell(w.Header(), silent)
	w.Header().Set("Content-Type", feed.Media)
	w.Header().Set("Cache-Control", "no-store")
	_, _ = w.Write(raw) // the reader may have gone
}
