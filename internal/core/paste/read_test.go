package paste

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// one reads a text with one server in it.
func one(t *testing.T, text string) Server {
	t.Helper()
	list, _, err := Read(text)
	require.NoError(t, err, text)
	require.Len(t, list, 1, text)
	return list[0]
}

// A shell's quotes and backslashes are read as a shell reads them.
func TestCommandLinesAreTakenApart(t *testing.T) {
	t.Parallel()
	for line, want := range map[string][]string{
		`a 'b c' "d e"`: {"a", "b c", "d e"}, `a\ b c`: {"a b", "c"}, `a "b\"c"`: {"a", `b"c`}, `a 'b\c'`: {"a", `b\c`}, `a ''`: {"a", ""}, `'' a`: {"", "a"},
		"a \t b": {"a", "b"}, `a "" b`: {"a", "", "b"}, `a b\`: {"a", `b\`}, `a \ `: {"a", " "}, `a'b'c`: {"abc"}, `"a'b"`: {"a'b"}, `'a"b'`: {`a"b`}, ` a `: {"a"},
		``: nil, `  `: nil,
	} {
		words, err := split(line)
		require.NoError(t, err, line)
		assert.Equal(t, want, words, line)
	}
	for _, line := range []string{`a 'b`, `a "b`, `a "b\"`} {
		_, err := split(line)
		assert.ErrorContains(t, err, "is not closed", line)
	}
	assert.Equal(t, "export", one(t, "export").Command, "a word alone is a command")
	assert.Equal(t, []Value{{Name: "A", Value: "b"}}, one(t, "set A=b\nberths").Env)
	_, _, err := Read("berths\nA=b")
	assert.ErrorContains(t, err, "several command lines")
}

// What a container runner is told to set becomes a variable of its own, once.
func TestVariablesOfContainers(t *testing.T) {
	t.Parallel()
	s := one(t, "LOG=debug boxes run -e LOG=info --env QUAY=3 -x PIER=4 -e STAYS skerrow/berths")
	assert.Equal(t, []string{"run", "-e", "LOG", "--env", "QUAY", "-x", "PIER=4", "-e", "STAYS", "skerrow/berths"}, s.Args)
	assert.Equal(t, []Value{{Name: "LOG", Value: "debug"}, {Name: "QUAY", Value: "3"}}, s.Env)
}

// Secrets and placeholders leave the address, in their order, and the rest of it stays.
func TestAddressesAreTakenApart(t *testing.T) {
	t.Parallel()
	s := one(t, "https://tides.example/mcp?token=harbour77&api_key=harbour78&b=2&a=1&c=<your+quay>&api_key2=")
	assert.Equal(t, "https://tides.example/mcp?a=1&api_key2=&b=2", s.URL)
	assert.Equal(t, []string{"api_key", "c", "token"}, []string{s.Query[0].Name, s.Query[1].Name, s.Query[2].Name})
	assert.True(t, s.Query[1].Asked)
	assert.Equal(t, "https://tides.example/mcp?b=2&a=1", one(t, "https://tides.example/mcp?b=2&a=1").URL, "as it was written")
	assert.Equal(t, "https://tides.example/mcp?token=harbour77&token=harbour78", one(t, "https://tides.example/mcp?token=harbour77&token=harbour78").URL)
	assert.Equal(t, "sse", one(t, "https://tides.example/sse").Transport)
}

func TestNames(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"https://www.tides.example/mcp": "tides", "https://mcp.tides.example": "tides", "https://api.tides.example": "tides",
		"https://quay.tides.example": "quay", "https://www.example": "www", "https://tides/mcp": "tides",
		"runner " + strings.Repeat("x", 28): strings.Repeat("x", 28), "runner " + strings.Repeat("x", 29): strings.Repeat("x", 28),
		"runner " + strings.Repeat("x", 27) + "-y": strings.Repeat("x", 27), "runner @tides@1.2": "tides", "runner tides@1": "tides", "runner @x": "x",
		"runner -- --": "runner", "runner é": "server", "boxes exec tides:latest": "tides", "runner -e A tides": "tides", "runner --env A tides": "tides",
	} {
		assert.Equal(t, want, one(t, text).Name, text)
	}
	list, _, err := Read(`[{"name":"tides","command":"a"},{"name":"Tides","command":"b"},{"name":"tides","command":"c"}]`)
	require.NoError(t, err)
	assert.Equal(t, []string{"tides", "tides-2", "tides-3"}, []string{list[0].Name, list[1].Name, list[2].Name})
}

// JSON that was copied incompletely is closed, as deep as people copy; where it breaks is said by
// its line.
func TestIncompleteJSON(t *testing.T) {
	t.Parallel()
	for text, closed := range map[string]string{
		`{"a":{"command":"x"`:         "}}",
		`{"a":{"command":["x"`:        "]}}",
		`[[[[[{"command":"x"`:         "}]]]]]",
		`{"a":"}"`:                    "}",
		`{"a":"\"{"`:                  "}",
		`{"a":{"command":"x"},"b":[]`: "}",
	} {
		got, notes := Mend(text)
		assert.Equal(t, text+closed, got)
		assert.Equal(t, []string{"the end was missing, and " + closed + " was added"}, notes)
	}
	for _, text := range []string{`{}`, `[[[[[[[`, `{"a":"x`, `]`, `{"a":1}]`} {
		got, notes := Mend(text)
		assert.Equal(t, text, got)
		assert.Empty(t, notes, text)
	}
	_, _, err := Read("{\n\"a\": {\n\"command\": x\n}}")
	assert.ErrorContains(t, err, "it is no JSON: line 3: ")
}

// Where servers stand under a usual name, nothing else is looked at; where nothing stands there,
// the rest is.
func TestWhereServersAreLookedFor(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "a", one(t, `{"mcpServers":{"a":{"command":"x"}},"b":{"command":"y"}}`).Name)
	assert.Equal(t, "b", one(t, `{"mcpServers":{},"b":{"command":"y"}}`).Name)
	assert.Equal(t, "b", one(t, `{"b":{"name":"","command":"y"}}`).Name)
	assert.Equal(t, "c", one(t, `{"b":{"name":"c","command":"y"}}`).Name)
	assert.Equal(t, []Value{{Name: "A", Value: "1"}, {Name: "B", Value: "2"}, {Name: "C", Value: "3"}},
		one(t, `{"b":{"command":"y","env":{"C":3,"A":1,"B":2}}}`).Env)
	file := "servers:\n  tides:\n    url: https://tides.example/mcp\n    type: SSE\n  quays:\n    note: x\n"
	assert.Equal(t, "tides sse", one(t, file).Name+" "+one(t, file).Transport)
	_, _, err := Read(`{"b":{"command":"y","args":"a 'b"}}`)
	assert.ErrorContains(t, err, `server "b": a quote (') is not closed`)
	assert.Equal(t, []string{"a", "b c"}, one(t, `{"b":{"command":"y","args":"a 'b c'"}}`).Args)
	for scheme, secret := range map[string]bool{"Bearer": true, strings.Repeat("s", 11): true, strings.Repeat("s", 12): false} {
		s := one(t, `{"b":{"url":"https://tides.example","headers":{"X-Api-Key":"`+scheme+` harbour77"}}}`)
		assert.Equal(t, secret, s.Headers[0].Secret != "", scheme)
	}
	// As much is read as may be.
	many := func(n int) string {
		var list []string
		for i := range n {
			list = append(list, fmt.Sprintf(`{"name":"a%d","command":"x"}`, i))
		}
		return "[" + strings.Join(list, ",") + "]"
	}
	list, _, err := Read(many(MaxServers))
	require.NoError(t, err)
	assert.Len(t, list, MaxServers)
	_, _, err = Read(many(MaxServers + 1))
	assert.ErrorContains(t, err, "more than 50 servers")
	text := `{"command":"x"}`
	one(t, text+strings.Repeat(" ", MaxText-len(text)))
	_, _, err = Read(text + strings.Repeat(" ", MaxText-len(text)+1))
	assert.ErrorContains(t, err, "longer than 256 KiB")
}
