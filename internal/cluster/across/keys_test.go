package across

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/cluster/peer"
)

// A key is put in force only when every node knows it; otherwise it is said who does not.
func TestAKeyIsPutInForceWhenAllKnowIt(t *testing.T) {
	t.Parallel()
	const known, inForce = `{"keys":["k1"],"next":"k2"}`, `{"keys":["k1","k2"]}`
	answers := func(south, west string) *fleet {
		return &fleet{answers: []peer.Answer{{Node: "south", Status: 200, Body: []byte(south)}, {Node: "west", Status: 200, Body: []byte(west)}}}
	}
	silent := answers(known, known)
	silent.answers, silent.silent = silent.answers[:1], []string{"west"}
	refused := answers(known, known)
	refused.answers[1].Status = 401
	for name, row := range map[string]struct {
		own      string
		others   *fleet
		says     string
		ownTurns bool // this node is asked to put it in force, or to say what is wrong
	}{
		"all know it":              {known, answers(known, known), "put in force", true},
		"one has it in force":      {known, answers(known, inForce), "put in force", true},
		"there is none":            {`{"keys":["k1"]}`, answers(known, known), "put in force", true},
		"what is here is no set":   {`damaged`, answers(known, known), "put in force", true},
		"one lacks it":             {known, answers(known, `{"keys":["k1"]}`), "the key k2 is not known at west yet", false},
		"both lack it":             {known, answers(`{"keys":["k1"]}`, `{"keys":["k1"],"next":"k3"}`), "at south, west yet", false},
		"one cannot read its keys": {known, answers(known, `{"keys":["k1"],"problem":"it is torn"}`), "at west it is torn", false},
		"one does not answer":      {known, silent, "is known at west cannot be found out", false},
		"one refuses":              {known, refused, "is known at west cannot be found out", false},
		"one answers something":    {known, answers(known, `<html>`), "is known at west cannot be found out", false},
	} {
		turns := 0
		h := &Handler{
			Peers: row.others, Others: func(context.Context) []string { return nil }, // it has not heard of them yet
			Now: func(context.Context) ([]string, error) { return []string{"south", "west"}, nil },
			Next: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet {
					assert.Equal(t, "/api/locker", r.URL.Path)
					_, _ = io.WriteString(w, row.own)
					return
				}
				assert.Equal(t, "/api/locker/rotate", r.URL.Path)
				turns++
				_, _ = io.WriteString(w, "put in force")
			}),
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest(http.MethodPost, "/api/locker/rotate", nil))
		assert.Contains(t, w.Body.String(), row.says, name)
		assert.Equal(t, row.ownTurns, turns == 1, name)
		if !row.ownTurns {
			assert.Equal(t, http.StatusConflict, w.Code, name)
			assert.Contains(t, w.Body.String(), `"hint"`, name)
		}
		for _, asked := range row.others.asked {
			require.Equal(t, "GET /api/locker", fmt.Sprint(asked.Method, " ", asked.Path), "others are asked, and told by the log")
		}
	}
	h := &Handler{Others: func(context.Context) []string { return nil }, Now: func(context.Context) ([]string, error) { return nil, io.ErrUnexpectedEOF }}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest(http.MethodPost, "/api/locker/rotate", nil))
	assert.Equal(t, http.StatusServiceUnavailable, w.Code, "who is not known of cannot be asked")
}
