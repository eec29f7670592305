package adopt

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/dialect"
	"bouncer/internal/core/team"
)

func TestPlanForSeveralFiles(t *testing.T) {
	t.Parallel()
	tides := dialect.Entry{Name: "Tides!", URL: "https://tides.example/mcp/"}
	berths := dialect.Entry{Name: "berths", Command: "berths", Args: []string{"-v"}, Env: []dialect.Value{{Name: "KEY", Value: "a"}}}
	other := berths
	other.Name, other.Env = "my berths", []dialect.Value{{Name: "KEY", Value: "b"}, {Name: "LOG", Value: "x"}}
	items := Plan([]Source{
		{"marit.json", "bouncer", []dialect.Entry{tides, berths, {Name: "bouncer", URL: "http://b/mcp"}, {Name: "off", Command: "x", Off: true}}},
		{"joss.yaml", "bouncer", []dialect.Entry{other, {Name: "crew", URL: "https://crew.example/mcp"}, {Name: "via", URL: "http://here/mcp/tides"}, {Name: "odd"}}},
	}, []team.Server{{Name: "tides", URL: "https://tides.example/mcp"}, {Name: "crew", URL: "https://other.example"}}, "http://here")
	var told []string
	for _, i := range items {
		told = append(told, i.File+" "+i.Entry.Name+" "+i.What+" "+i.Server+i.Why)
	}
	assert.Equal(t, []string{
		"marit.json Tides! known tides", "marit.json berths register berths", "marit.json off left it is switched off",
		"joss.yaml my berths known berths", "joss.yaml crew register crew-2", "joss.yaml odd left it has neither an address nor a command",
	}, told)
	assert.Equal(t, []Shared{{"berths", []string{"marit.json", "joss.yaml"}, []string{"the variable KEY", "the variable LOG"}}}, Compare(items))
	text, err := items[1].Text()
	require.NoError(t, err)
	assert.JSONEq(t, `{"mcpServers": {"berths": {"command": "berths", "args": ["-v"], "env": {"KEY": "a"}}}}`, text)
}

func TestResolveWhatIsOnlyNamed(t *testing.T) {
	t.Parallel()
	env := func(name string) string { return map[string]string{"TIDES": "skf-1"}[name] }
	for _, row := range []struct{ reference, value, want, missing string }{
		{"${env:NAME}", "Bearer ${env:TIDES}", "Bearer skf-1", ""},
		{"${env:NAME}", "Bearer ${env:NONE}!", "Bearer ${env:NONE}!", "NONE"},
		{"$NAME", "$TIDES", "skf-1", ""},
		{"", "$TIDES", "$TIDES", ""},
		{"${NAME}", "${TIDES", "${TIDES", ""},
	} {
		i := Item{Entry: dialect.Entry{Headers: []dialect.Value{{Name: "Authorization", Value: row.value}}}}
		missing := i.Resolve(row.reference, env)
		assert.Equal(t, row.want, i.Entry.Headers[0].Value)
		if row.missing != "" {
			assert.Equal(t, []string{row.missing}, missing)
		} else {
			assert.Empty(t, missing)
		}
	}
}
