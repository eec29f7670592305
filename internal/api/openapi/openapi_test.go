package openapi_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/api/openapi"
)

type common struct {
	ID string `json:"id" doc:"what it is called by"`
}

type ship struct {
	common
	Kind   string          `json:"kind" enum:"ferry,tug"`
	Built  time.Time       `json:"built"`
	Escort *ship           `json:"escort,omitempty"`
	Cargo  map[string]int  `json:"cargo"`
	Log    json.RawMessage `json:"log"`
	Flags  []string        `json:"flags" enum:"red,green"`
	Hidden string          `json:"-"`
}

// A type becomes one component, with what its tags say, and may hold itself.
func TestTypesBecomeComponents(t *testing.T) {
	t.Parallel()
	raw, err := openapi.Describe(openapi.Service{Problem: common{}}, []openapi.Operation{
		{Method: "PUT", Path: "/ships/{name}", ID: "putShip", In: ship{}, Out: []ship{}, Status: 200, Query: []openapi.Field{{Name: "dry", Doc: "try"}}},
		{Method: "GET", Path: "/ships/{name}", ID: "followShip", Public: true, Media: "text/event-stream", Status: 200},
	})
	require.NoError(t, err)
	var doc struct {
		Paths      map[string]map[string]map[string]json.RawMessage
		Components struct{ Schemas map[string]json.RawMessage }
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	assert.JSONEq(t, `{"type":"object","additionalProperties":false,"required":["id","kind","built","cargo","log","flags"],"properties":{
		"id":{"type":"string","description":"what it is called by"},"kind":{"type":"string","enum":["ferry","tug"]},
		"built":{"type":"string","format":"date-time"},"escort":{"$ref":"#/components/schemas/Ship"},
		"cargo":{"type":"object","additionalProperties":{"type":"integer"}},"log":{},"flags":{"type":"array","items":{"type":"string","enum":["red","green"]}}}}`, string(doc.Components.Schemas["Ship"]))
	put, get := doc.Paths["/ships/{name}"]["put"], doc.Paths["/ships/{name}"]["get"]
	assert.JSONEq(t, `[{"name":"name","in":"path","required":true,"schema":{"type":"string"}},
		{"name":"dry","in":"query","description":"try","schema":{"type":"string"}}]`, string(put["parameters"]))
	assert.Contains(t, string(put["responses"]), `"items": {`)
	assert.JSONEq(t, `[]`, string(get["security"]))
	assert.NotContains(t, string(get["responses"]), "Ship")
}

// One name is one type: two that want it are a fault of the programmer, told at the start.
func TestTwoTypesCannotHaveOneName(t *testing.T) {
	t.Parallel()
	type Ship struct{ Other string }
	_, err := openapi.Describe(openapi.Service{Problem: common{}}, []openapi.Operation{
		{Method: "GET", Path: "/a", Out: ship{}, Status: 200}, {Method: "GET", Path: "/b", Out: Ship{}, Status: 200},
	})
	assert.ErrorContains(t, err, "want the same name Ship")
}
