package across

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/cluster/peer"
)

// rotate puts a further key in force, once every node knows it: what one node seals with it, all
// others have to open.
func (h *Handler) rotate(w http.ResponseWriter, r *http.Request, q *peer.Request, others []string) {
	look := *q
	look.Method, look.Path, look.Body = http.MethodGet, "/api/locker", nil
	here := r.Clone(r.Context())
	here.Method, here.Body = http.MethodGet, http.NoBody
	here.URL.Path, here.URL.RawPath = look.Path, ""
	own := &peer.Recorded{}
	h.Next.ServeHTTP(own, here)
	var keys apitype.KeySet
	if own.Status() != http.StatusOK || json.Unmarshal(own.Body.Bytes(), &keys) != nil || keys.Next == "" {
		h.Next.ServeHTTP(w, r) // which says what is wrong
		return
	}
	answers, silent := h.Peers.Ask(r.Context(), others, &look)
	var lacking, why []string
	for _, a := range answers {
		var there apitype.KeySet
		switch {
		case a.Status != http.StatusOK || json.Unmarshal(a.Body, &there) != nil:
			silent = append(silent, a.Node)
		case there.Next != keys.Next && !slices.Contains(there.Keys, keys.Next):
			lacking = append(lacking, a.Node)
			if there.Problem != "" {
				why = append(why, "; at "+a.Node+" "+there.Problem)
			}
		}
	}
	slices.Sort(lacking)
	slices.Sort(silent)
	switch {
	case len(lacking) > 0:
		refuse(w, apitype.Problem{
			Status: http.StatusConflict, Field: "keys",
			Title: fmt.Sprintf("the key %s is not known at %s yet%s", keys.Next, strings.Join(lacking, ", "), strings.Join(why, "")),
			Hint:  "add it at the end of the key set there too, and try again",
		})
	case len(silent) > 0:
		refuse(w, apitype.Problem{
			Status: http.StatusConflict, Field: "keys",
			Title: fmt.Sprintf("whether the key %s is known at %s cannot be found out: no answer came", keys.Next, strings.Join(silent, ", ")),
			Hint:  "see who is there with: bouncer node list",
		})
	default:
		h.Next.ServeHTTP(w, r)
	}
}
