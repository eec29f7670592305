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
	there := *request
	there.Path = list
	here := r.Clone(r.Context())
	here.URL.Path = list
	answers, silent := h.Peers.Ask(r.Context(), others, &there)
	own := &peer.Recorded{}
	h.Next.ServeHTTP(own, here)
	if own.Status() != http.StatusOK {
		own.Send(w)
		return
	}
	bodies := [][]byte{own.Body.Bytes()}
	for _, a := range answers {
		if a.Status != http.StatusOK {
			silent = append(silent, a.Node)
			continue
		}
		bodies = append(bodies, a.Body)
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
