package across

import (
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/cluster/peer"
)

// startTime is how long it may take until a process at another node has been started and looked at.
const startTime = 5 * time.Minute

// Places tells which node runs processes.
type Places interface {
	// Runs is the node that the process of a server is at; "" for this one, and for what is no process
	// that is placed anywhere.
	Runs(server string) string
	// Fits is a node at which a process runs that is placed so; "" for this one.
	Fits(placement string) string
}

// placed are the requests that have to do with a process: the node answers them that has it.
var placed = []question{
	{method: http.MethodPost, path: "/api/servers"},
	{method: http.MethodPatch, path: "/api/servers/*"},
	{method: http.MethodPost, path: "/api/servers/*/check"},
	{method: http.MethodPost, path: "/api/servers/*/restart"},
	{method: http.MethodGet, path: "/api/servers/*/progress"},
	{method: http.MethodGet, path: "/api/servers/*/checkup"},
	{method: http.MethodGet, path: "/api/servers/*/heard"},
	{method: http.MethodPost, path: "/api/checkups"},
}

// elsewherePlaced has another node answer what is about a process that it has; false for what is to be
// answered here.
func (h *Handler) elsewherePlaced(w http.ResponseWriter, r *http.Request) bool {
	if h.Places == nil || find(placed, r) == nil {
		return false
	}
	request, err := peer.NewRequest(r)
	if err != nil {
		return false
	}
	node := h.nodeFor(r, request.Body)
	if node != "" {
		h.pass(w, r, node, request)
	}
	return node != ""
}

// nodeFor is the node that has the process which a request is about; "" for this one, and for most
// requests.
func (h *Handler) nodeFor(r *http.Request, body []byte) string {
	var about struct {
		Server    string
		Placement string
		Target    struct{ Placement string }
	}
	_ = json.Unmarshal(body, &about) // whoever answers it says what is wrong with it
	parts := strings.Split(r.URL.Path, "/")
	server := about.Server
	if len(parts) > 3 {
		server = parts[3]
	}
	placement := about.Placement
	if placement == "" {
		placement = about.Target.Placement
	}
	if placement != "" {
		return h.Places.Fits(placement)
	}
	if server != "" {
		return h.Places.Runs(server)
	}
	return ""
}

// pass has another node answer.
func (h *Handler) pass(w http.ResponseWriter, r *http.Request, node string, q *peer.Request) {
	long := *q
	long.Within = startTime
	answers, _ := h.Peers.Ask(r.Context(), []string{node}, &long)
	if len(answers) == 0 {
		w.Header().Set("Cache-Control", "no-store")
		refuse(w, apitype.Problem{
			Status: http.StatusServiceUnavailable, Title: "the node " + node + ", at which the process runs, did not answer",
			Hint: "see how it is with bouncer node list, and try again; whether it was done there is not known",
		})
		return
	}
	passOn(w, answers[0])
}
