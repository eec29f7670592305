// Package lostproperty is a stand-in for a plain REST API with an OpenAPI
// document: the lost property office of Skerrow Ferries.
package lostproperty

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Document is the API's OpenAPI document.
//
//go:embed openapi.yaml
var Document string

type item struct {
	Item   string `json:"item"`
	What   string `json:"what"`
	Colour string `json:"colour,omitempty"`
	Vessel string `json:"vessel"`
	State  string `json:"state"`
	Owner  string `json:"owner,omitempty"`
	// Finder is who handed it in.
	Finder *finder `json:"finder,omitempty"`
}

type finder struct {
	Name    string `json:"name"`
	Address string `json:"address"`
}

// New returns the API; key is what X-Api-Key has to be.
func New(key string) http.Handler {
	var mu sync.Mutex
	items := []item{
		{"LP-0001", "umbrella with a wooden handle", "black", "MV Petrel", "kept", "", &finder{"E. Ness", "3 Quay Street, Skerrow"}},
		{"LP-0002", "child's raincoat", "yellow", "MV Fulmar", "kept", "", nil},
		{"LP-0003", "binoculars in a case", "green", "MV Petrel", "kept", "", &finder{"P. Holm", "11 Kirkvoe Road, Holm Voe"}},
		{"LP-0004", "umbrella, folding", "red", "MV Dunlin", "released", "I. Storr", &finder{"R. Vane", "Harbour Inn, Kirkvoe"}},
	}
	find := func(r *http.Request) int {
		return slices.IndexFunc(items, func(i item) bool { return i.Item == r.PathValue("item") })
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v2/{$}", func(w http.ResponseWriter, _ *http.Request) { send(w, 200, map[string]string{"office": "Skerrow"}) })
	mux.HandleFunc("GET /openapi.yaml", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(Document)) })
	mux.HandleFunc("GET /v2/items", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		q := r.URL.Query()
		limit, err := strconv.Atoi(q.Get("limit"))
		if err != nil {
			limit = 20
		}
		out := []item{}
		for _, i := range items {
			if strings.Contains(i.What, q.Get("text")) && (len(q["colour"]) == 0 || slices.Contains(q["colour"], i.Colour)) &&
				len(out) < limit {
				out = append(out, i)
			}
		}
		send(w, 200, map[string]any{"items": out})
	})
	mux.HandleFunc("POST /v2/items", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		var n item
		if json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&n) != nil || n.What == "" || n.Vessel == "" {
			send(w, 422, map[string]string{"error": "what and vessel are needed"})
			return
		}
		n.Item, n.State, n.Owner, n.Finder = fmt.Sprintf("LP-%04d", len(items)+1), "kept", "", nil
		items = append(items, n)
		send(w, 201, n)
	})
	mux.HandleFunc("GET /v2/items/{item}", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		i := find(r)
		if i < 0 {
			send(w, 404, map[string]string{"error": "no such item"})
			return
		}
		send(w, 200, items[i])
	})
	mux.HandleFunc("PUT /v2/items/{item}/release", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		i := find(r)
		var in struct{ Owner string }
		if json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&in) != nil || i < 0 {
			send(w, 404, map[string]string{"error": "no such item"})
			return
		}
		if items[i].State == "released" {
			send(w, 409, map[string]string{"error": "released already to " + items[i].Owner})
			return
		}
		items[i].State, items[i].Owner = "released", in.Owner
		send(w, 200, items[i])
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/openapi.yaml" && r.Header.Get("X-Api-Key") != key {
			send(w, 401, map[string]string{"error": "the key is missing or wrong"})
			return
		}
		mux.ServeHTTP(w, r)
	})
}

func send(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}
