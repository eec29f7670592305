package roster

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"go.yaml.in/yaml/v3"

	"bouncer/internal/core/dialect"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
)

var friday = time.Date(2026, 12, 4, 18, 0, 0, 0, time.UTC)

func sample() Roster {
	return Roster{
		Roster: Form,
		Servers: map[string]Server{
			"sailings": {URL: "https://sailings.example/mcp", Transport: "streamable-http", Secret: "sailings-token", ServerOptions: team.ServerOptions{
				Sharing: "auto", Headers: []string{"X-Team: quay: north"}, CallLimits: team.CallLimits{CallSeconds: 90},
				ToolLimits: []team.ToolLimits{{Tool: "list_*", CallLimits: team.CallLimits{ResultKiB: 64}}},
				SignIn:     &team.SignInWay{Grant: "code"},
			}},
			"berths": {Command: "berths", Transport: "stdio", Args: []string{"-v", "yes", "1e3"}, Env: []string{"LOG=info"}, SecretEnv: "KEY", Secret: "k", Paused: true},
			"lost":   {URL: "https://lost.example", Transport: "rest", Document: "openapi: 3.1.0\ninfo:\n  title: Lost\n"},
		},
		People: map[string]Person{"marit": {FullName: "Marit Aune", Role: team.Admin, Groups: []string{"desk"}}},
		Agents: map[string]Agent{"marit-quill": {Kind: "quill", Owner: "marit", Confirmed: true}, "quay-voice": {Kind: "voice"}},
		Dialects: map[string]dialect.Dialect{"sextant": {
			Name: "sextant", Syntax: "yaml", Servers: dialect.Path{"a.b", "c"}, Remote: &dialect.Remote{URL: "url"},
		}},
		Bundles: map[string]Bundle{"looking": {Note: "only looks", Entries: []rules.Entry{{Server: "tides", Tool: "*"}, {Bundle: "more"}}}},
		Rules: map[string]Rule{
			"admit-all": {Effect: "admit", Agent: "*", Server: "*", Tool: "*", Note: "on: everything #1"},
			"orders": {Effect: "hold", Agent: "*", Server: "fuel", Tool: "order_*", Terms: rules.Terms{
				Label: "laptop", Window: "22:00-06:00 Europe/Oslo", Ends: &friday, Hide: []string{"price"}, Deciders: []string{"group:dispatch"},
				Narrow: json.RawMessage(`{"properties":{"litres":{"maximum":5000}}}`), Pins: map[string]json.RawMessage{"by": json.RawMessage(`"${person}"`)},
			}},
		},
	}
}

func TestARoundTripLosesNothing(t *testing.T) {
	t.Parallel()
	text, err := sample().Marshal()
	require.NoError(t, err)
	back, err := Parse(text)
	require.NoError(t, err, "%s", text)
	assert.Equal(t, sample(), back)
	again, err := back.Marshal()
	require.NoError(t, err)
	assert.Equal(t, string(text), string(again))
	steps, extra := Compare(sample(), back, true)
	assert.Empty(t, steps)
	assert.Empty(t, extra)
	assert.Contains(t, string(text), "  berths:\n    transport: stdio\n")
}

func TestCompareSaysWhatWouldBeDone(t *testing.T) {
	t.Parallel()
	now, want := sample(), sample()
	delete(want.Servers, "lost")
	want.Servers["tides"] = Server{URL: "https://tides.example/mcp"}
	s := want.Servers["sailings"]
	s.CallSeconds, s.Secret = 30, ""
	want.Servers["sailings"] = s
	want.People = nil
	delete(want.Agents, "quay-voice")
	want.Rules["admit-all"] = Rule{Effect: "refuse", Agent: "*", Server: "*", Tool: "*", Note: "on: everything #1"}
	steps, extra := Compare(now, want, false)
	assert.Equal(t, "[{alter server sailings [callSeconds: 90 → 30 secret: \"sailings-token\" → -]} {add server tides []} {alter rule admit-all [effect: \"admit\" → \"refuse\"]}]", fmt.Sprint(steps))
	assert.Equal(t, "[{remove server lost []} {remove agent quay-voice []}]", fmt.Sprint(extra))
	steps, extra = Compare(now, want, true)
	assert.Equal(t, "[{remove agent quay-voice []} {remove server lost []}]", fmt.Sprint(steps[3:]))
	assert.Empty(t, extra)
}

func TestRostersThatCannotBeRead(t *testing.T) {
	t.Parallel()
	for text, says := range map[string]string{
		"":            "nothing in it",
		"roster: 2\n": "line 1: roster must be 1",
		"servers: {}": "roster must be 1",
		"roster: 1\nservers:\n  tides:\n    adress: x\n":  `line 4: unknown field "adress"`,
		"roster: 1\nservers: [a]\n":                       "line 2",
		"roster: 1\nservers:\n  a: {callSeconds: soon}\n": "callSeconds",
		"roster: 1\nservers: {a: {callSeconds: [1]}}":     "line 2: servers.callSeconds cannot be a list",
		"roster: 1\nservers: {a: {callSeconds: x}}":       "cannot be a text",
		"roster: 1\nservers: {a: {callSeconds: true}}":    "cannot be a truth",
		"roster: 1\nservers: {a: {callSeconds: {b: 1}}}":  "cannot be a map",
		"roster: 1\nservers: {a: {url: 1.5}}":             "cannot be a number",
		"roster: 1\ndialects: {a: {syntax: b}}":           "line 2: dialect a cannot be used",
		"roster: 1\n#" + strings.Repeat("x", MaxText):     "it is longer than",
		"roster: 1\n  x: [\n":                             "line",
	} {
		_, err := Parse([]byte(text))
		var bad *FormError
		require.ErrorAs(t, err, &bad, text)
		assert.Contains(t, bad.Error(), says, text)
	}
}

// A dialect has the name that it stands under, and what is as long as may be is read.
func TestWhatARosterLeavesOut(t *testing.T) {
	t.Parallel()
	text := "roster: 1\ndialects: {sextant: {syntax: yaml, servers: [a], remote: {url: url}}}\n#"
	r, err := Parse([]byte(text + strings.Repeat("x", MaxText-len(text))))
	require.NoError(t, err)
	assert.Equal(t, "sextant", r.Dialects["sextant"].Name)
	for n, want := range map[int]string{0: "-", 80: strings.Repeat("é", 80), 81: strings.Repeat("é", 80) + "…"} {
		assert.Equal(t, want, short(json.RawMessage(strings.Repeat("é", n))))
	}
}

// The schema for editors takes what is written here, and knows every field.
func TestTheSchemaAgrees(t *testing.T) {
	t.Parallel()
	schema, err := jsonschema.NewCompiler().Compile("../../../docs/roster.schema.json")
	require.NoError(t, err)
	text, err := sample().Marshal()
	require.NoError(t, err)
	var v any
	require.NoError(t, yaml.Unmarshal(text, &v))
	require.NoError(t, schema.Validate(v))
	fields := schema.Properties["servers"].AdditionalProperties.(*jsonschema.Schema).Ref.Properties
	for _, kind := range []reflect.Type{reflect.TypeFor[Server](), reflect.TypeFor[team.ServerOptions](), reflect.TypeFor[team.CallLimits]()} {
		for i := range kind.NumField() {
			if name, _, _ := strings.Cut(kind.Field(i).Tag.Get("json"), ","); name != "" {
				assert.Contains(t, fields, name)
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	text, _ := sample().Marshal()
	f.Add(text)
	f.Add([]byte("roster: 1\nrules:\n  a: &x {effect: admit}\n  b: *x\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		r, err := Parse(text)
		if err != nil {
			return
		}
		again, err := r.Marshal()
		require.NoError(t, err)
		_, err = Parse(again)
		require.NoError(t, err, "%s", again)
	})
}
