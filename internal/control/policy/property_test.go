package policy_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

const yard = `{"tools":[
	{"name":"lift","annotations":{"destructiveHint":true},"inputSchema":{"type":"object","properties":{
		"tons":{"type":"integer","minimum":0,"maximum":90},"crane":{"type":"string","enum":["north","south","east"]},"word":{"type":"string"}},
		"required":["tons"]}},
	{"name":"lower","annotations":{"destructiveHint":false},"inputSchema":{"type":"object","properties":{
		"tons":{"type":"integer"},"crane":{"type":"string","enum":["north","south"]}}}},
	{"name":"look","annotations":{"readOnlyHint":true},"inputSchema":{"type":"object","properties":{"crane":{"type":"string"}}}},
	{"name":"look_back","annotations":{"readOnlyHint":true},"inputSchema":{"type":"object"}},
	{"name":"drop","inputSchema":{"type":"object","properties":{"tons":{"type":"integer"},"word":{"type":"string"}},"required":["word"]}}]}`

// whim makes rules and calls at random, the same for a seed.
type whim struct{ *rand.Rand }

func pick[T any](w whim, list ...T) T { return list[w.IntN(len(list))] }

func (w whim) rule(n int, conditions bool) obj {
	r := obj{
		"name": fmt.Sprintf("r%d", n), "effect": pick(w, "admit", "admit", "admit", "refuse"), "agent": pick(w, "*", "crane", "other"),
		"server": pick(w, "*", "yard", "y*"), "tool": pick(w, "*", "l*", "look*", "lift", "lower", "drop", "look"), "anyway": true,
	}
	if w.IntN(4) == 0 {
		r["hint"] = pick(w, "read-only", "destructive", "not-destructive", "not-read-only")
	}
	if w.IntN(5) == 0 {
		r["label"] = pick(w, "heavy", "light")
	}
	if w.IntN(6) == 0 {
		r["disabled"] = true
	}
	if conditions && w.IntN(3) == 0 {
		r["when"] = pick(w,
			obj{"properties": obj{"tons": obj{"maximum": 20}}, "required": []string{"tons"}},
			obj{"properties": obj{"crane": obj{"const": "north"}}, "required": []string{"crane"}})
	}
	if r["effect"] == "admit" && r["when"] == nil && w.IntN(2) == 0 {
		r["narrow"] = obj{"properties": pick(w,
			obj{"tons": obj{"maximum": pick(w, 10, 50)}},
			obj{"crane": obj{"enum": pick(w, []string{"north"}, []string{"north", "south"})}},
			obj{"tons": obj{"minimum": 5}, "crane": obj{"const": "south"}},
			obj{"word": false})}
	}
	if r["effect"] == "admit" && r["when"] == nil && w.IntN(5) == 0 {
		r["pins"] = pick(w, obj{"crane": "south"}, obj{"tons": 7})
	}
	return r
}

func (w whim) arguments() obj {
	out := obj{}
	if w.IntN(3) > 0 {
		out["tons"] = pick[any](w, 0, 7, 15, 30, 60, 95, -1, 7.5, "7")
	}
	if w.IntN(2) > 0 {
		out["crane"] = pick[any](w, "north", "south", "east", "North", 3)
	}
	if w.IntN(4) == 0 {
		out["word"] = pick[any](w, "gently", nil)
	}
	if w.IntN(12) == 0 {
		out["other"] = true
	}
	return out
}

type listedTool struct {
	Name        string
	InputSchema json.RawMessage
}

func shown(t *testing.T, agent *testkit.Raw) map[string]listedTool {
	t.Helper()
	_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`)
	var in struct{ Result struct{ Tools []listedTool } }
	require.NoError(t, json.Unmarshal([]byte(text), &in), text)
	out := map[string]listedTool{}
	for _, tool := range in.Result.Tools {
		out[strings.TrimPrefix(tool.Name, "yard__")] = tool
	}
	return out
}

// fits holds arguments against a schema with a validator, as an assistant would.
func fits(t *testing.T, schema json.RawMessage, arguments []byte) bool {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(schema)))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("shown.json", doc))
	compiled, err := c.Compile("shown.json")
	require.NoError(t, err, "%s", schema)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(arguments)))
	require.NoError(t, err)
	return compiled.Validate(value) == nil
}

var yardTools = []string{"lift", "lower", "look", "look_back", "drop"}

// Whatever the rules: what is listed is what calls admit, arguments that fit what is shown
// are not refused for their arguments and others are, explaining says the same as happens,
// and a rehearsal foretells it.
func TestListingCallingExplainingAndRehearsingAgree(t *testing.T) {
	t.Parallel()
	s := testkit.NewScript(t)
	s.Results["tools/list"] = yard
	s.Call = func(c *testkit.ScriptCall) { c.Text("done") }
	w := testkit.Start(t, nil)
	w.Register("yard", testkit.Upstream(t, s), "")
	agent := w.Raw("/mcp", w.Agent("crane"), "2025-11-25")
	w.Agent("other")
	w.Must("PATCH", "/api/labels", obj{"kind": "agent", "name": "crane", "add": []string{"heavy"}}, nil)
	call := func(tool string, arguments []byte) string {
		r := agent.Ask(order("yard__"+tool, string(arguments)))
		if r.Error == nil {
			return "admit"
		}
		return r.Error.Data["reason"]
	}
	seen := map[string]int{}
	for seed := range uint64(24) {
		dice := whim{rand.New(rand.NewPCG(seed, 7))}
		conditions := seed%2 == 1 // with conditions, what is shown may be refused for its arguments
		for n := range 6 {
			status, text := w.Do(w.Token, "POST", "/api/rules", dice.rule(n, conditions))
			require.Contains(t, []int{201, 409}, status, "%s", text) // 409 for the same again
		}
		listed := shown(t, agent)
		type made struct {
			tool      string
			arguments []byte
			effect    string
		}
		var calls []made
		for _, tool := range yardTools {
			for range 4 {
				arguments, err := json.Marshal(dice.arguments())
				require.NoError(t, err)
				got := call(tool, arguments)
				context := fmt.Sprintf("seed %d, %s %s: %s", seed, tool, arguments, got)
				entry, isListed := listed[tool]
				var e apitype.Explained
				w.Must("POST", "/api/explanations", obj{"agent": "crane", "tool": "yard__" + tool, "arguments": json.RawMessage(arguments)}, &e)
				assert.Equal(t, got == "admit", e.Effect == "admit", context)
				switch {
				case !isListed:
					assert.NotEqual(t, "admit", got, context)
				case !conditions && fits(t, entry.InputSchema, arguments):
					assert.Equal(t, "admit", got, context)
				case !conditions && len(e.Input) > 0:
					assert.Equal(t, "arguments-not-admitted", got, context)
				}
				seen[got]++
				effect := "refuse"
				if got == "admit" {
					effect = "admit"
				}
				calls = append(calls, made{tool, arguments, effect})
			}
		}
		// Another rule is rehearsed on these calls, then put in force.
		next := dice.rule(99, conditions)
		var foretold apitype.Rehearsed
		w.Must("POST", "/api/rehearsals", obj{"add": []obj{next}}, &foretold)
		status, text := w.Do(w.Token, "POST", "/api/rules", next)
		require.Contains(t, []int{201, 409}, status, "%s", text)
		now := shown(t, agent)
		for _, tool := range yardTools {
			_, before := listed[tool]
			_, after := now[tool]
			for _, r := range foretold.Reach {
				if r.Agent == "crane" && r.Tool == tool {
					assert.Equal(t, []bool{before, after}, []bool{r.Before != "refuse", r.After != "refuse"}, "seed %d, %s", seed, tool)
				}
			}
			if before != after {
				assert.True(t, foretells(foretold, tool), "seed %d: %s changes, and it was not foretold", seed, tool)
			}
		}
		for _, c := range calls {
			after := "refuse"
			if call(c.tool, c.arguments) == "admit" {
				after = "admit"
			}
			if after != c.effect {
				seen["foretold"]++
			}
		}
		var rules []team.Rule
		w.Must("GET", "/api/rules", nil, &rules)
		for _, r := range rules {
			w.Must("DELETE", "/api/rules/"+r.Name, nil, nil)
		}
	}
	for _, what := range []string{"admit", "no-rule-admits", "rule-refuses", "arguments-not-admitted", "foretold"} {
		assert.Positive(t, seen[what], "the dice never came to %s: %v", what, seen)
	}
}

func foretells(r apitype.Rehearsed, tool string) bool {
	for _, one := range r.Reach {
		if one.Agent == "crane" && one.Tool == tool {
			return true
		}
	}
	return false
}
