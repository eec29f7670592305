package tryout_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/testkit"
)

// A person answers in the place of the assistant: its user, its model, its files. What a
// trial shows is what came, with log messages and progress in between.
func TestQuestionsAreAnsweredByHand(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	script := testkit.NewScript(t)
	script.Call = func(c *testkit.ScriptCall) {
		drafted := c.Ask("m", "sampling/createMessage", `{"messages":[],"maxTokens":10}`)
		chosen := c.Ask("e", "elicitation/create",
			`{"message":"Which quay?","requestedSchema":{"type":"object","properties":{"quay":{"type":"string","enum":["north","south"]}}}}`)
		roots := c.Ask("r", "roots/list", `{}`)
		c.Text(drafted + chosen + roots)
	}
	w.Register("radio", testkit.Upstream(t, script), "")
	w.Agent("marit-quill")
	w.Rule("admit", "marit-quill", "radio", "*")

	ask := testkit.Obj{"agent": "marit-quill", "server": "radio", "name": "act"}
	var tried apitype.Tried
	asked := ""
	for range 4 {
		tried = apitype.Tried{}
		w.Must("POST", "/api/tries", ask, &tried)
		require.Empty(t, tried.Error)
		if tried.Asks == nil {
			break
		}
		asked += string(tried.Asks)
		answers := strings.Replace(string(tried.Draft), `"text":""`, `"text":"said by hand"`, 1)
		ask["answers"], ask["state"] = json.RawMessage(answers), tried.State
	}
	require.True(t, tried.OK, "%+v", tried)
	assert.Contains(t, asked, "Which quay?")
	for _, answer := range []string{"said by hand", "north", "roots"} {
		assert.Contains(t, string(tried.Result), answer)
	}
}

// Prompts, resources, templates and completions are tried as well as tools.
func TestEveryKindIsTried(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	script := testkit.NewScript(t)
	script.Capabilities = `{"tools":{},"prompts":{},"resources":{},"completions":{}}`
	for method, result := range map[string]string{
		"prompts/list":             `{"prompts":[{"name":"handover","arguments":[{"name":"watch","required":true}]}]}`,
		"prompts/get":              `{"messages":[{"role":"user","content":{"type":"text","text":"hand over"}}]}`,
		"resources/list":           `{"resources":[{"uri":"quay://north","name":"north"}]}`,
		"resources/templates/list": `{"resourceTemplates":[{"uriTemplate":"quay://{name}","name":"any"}]}`,
		"resources/read":           `{"contents":[{"uri":"quay://north","text":"free"}]}`,
		"completion/complete":      `{"completion":{"values":["first","forenoon"]}}`,
	} {
		script.Results[method] = result
	}
	w.Register("radio", testkit.Upstream(t, script), "")
	w.Agent("marit-quill")
	w.Rule("admit", "marit-quill", "radio", "*")
	for name, row := range map[string]struct {
		ask  testkit.Obj
		sent string // to the server
		back string
	}{
		"prompt":     {testkit.Obj{"kind": "prompt", "name": "handover", "arguments": testkit.Obj{"watch": "first"}}, `"watch":"first"`, "hand over"},
		"listed":     {testkit.Obj{"kind": "resource", "name": "quay://north"}, `"uri":"quay://north"`, "free"},
		"by a shape": {testkit.Obj{"kind": "resource", "name": "quay://south"}, `"uri":"quay://south"`, "free"},
		"completion": {
			testkit.Obj{"kind": "completion", "name": "handover", "argument": "watch", "arguments": testkit.Obj{"watch": "f"}},
			`"argument":{"name":"watch","value":"f"}`, "forenoon",
		},
		"of a template": {
			testkit.Obj{"kind": "completion", "name": "quay://{name}", "argument": "name", "arguments": testkit.Obj{"name": "n"}},
			`"uri":"quay://{name}"`, "forenoon",
		},
	} {
		row.ask["agent"], row.ask["server"] = "marit-quill", "radio"
		var tried apitype.Tried
		w.Must("POST", "/api/tries", row.ask, &tried)
		assert.True(t, tried.OK, "%s: %s", name, tried.Error)
		assert.Contains(t, string(tried.Result), row.back, name)
		assert.NotEmpty(t, script.Seen(row.sent), name)
	}
	wrong := testkit.Obj{"agent": "marit-quill", "server": "radio", "kind": "completion", "name": "handover"}
	assert.Equal(t, "argument", w.Problem("POST", "/api/tries", wrong).Field)
}
