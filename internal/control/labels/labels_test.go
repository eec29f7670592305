package labels_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

type obj = testkit.Obj

func quay(t *testing.T) *testkit.World {
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Must("POST", "/api/agents", obj{"name": "quill", "owner": "marit"}, nil)
	w.Person("joss", "Joss Penhale", team.Member)
	return w
}

func texts(list []team.Label) (out []string) {
	for _, l := range list {
		out = append(out, l.Kind+" "+l.Name+" "+l.Tool+" "+l.Label)
	}
	return out
}

// Labels are added and taken away in one step, told with what has them, and put back as long
// as the name means the same.
func TestLabelsAreGivenAndTaken(t *testing.T) {
	t.Parallel()
	w := quay(t)
	alter := func(in obj) (out []team.Label) {
		t.Helper()
		w.Must("PATCH", "/api/labels", in, &out)
		return out
	}
	assert.Equal(t, []string{"agent quill  deck", "agent quill  laptop"},
		texts(alter(obj{"kind": "agent", "name": "quill", "add": []string{"laptop", "deck", "laptop"}})))
	assert.Equal(t, []string{"tool echo slow calm"}, texts(alter(obj{"kind": "tool", "name": "echo", "tool": " slow ", "add": []string{"calm"}})))
	alter(obj{"kind": "person", "name": "joss", "add": []string{"dispatch"}})
	alter(obj{"kind": "server", "name": "echo", "add": []string{"quayside"}})
	assert.Equal(t, []string{"agent quill  bridge", "agent quill  deck"},
		texts(alter(obj{"kind": "agent", "name": "quill", "add": []string{"bridge"}, "remove": []string{"laptop"}})))
	var all []team.Label
	w.Must("GET", "/api/labels", nil, &all)
	assert.Equal(t, []string{
		"agent quill  bridge", "agent quill  deck", "person joss  dispatch", "server echo  quayside", "tool echo slow calm",
	}, texts(all))

	var changes []struct{ ID, What, Before, After string }
	w.Must("GET", "/api/changes", nil, &changes)
	assert.Equal(t, []string{"label.set", "deck, laptop", "bridge, deck"}, []string{changes[0].What, changes[0].Before, changes[0].After})
	w.Must("POST", "/api/changes/"+changes[0].ID+"/undo", obj{}, nil)
	w.Must("GET", "/api/labels", nil, &all)
	assert.Equal(t, []string{"agent quill  deck", "agent quill  laptop"}, texts(all)[:2])
	// Another agent of the same name gets nothing of it.
	w.Must("DELETE", "/api/agents/quill", nil, nil)
	w.Must("POST", "/api/agents", obj{"name": "quill", "owner": "marit"}, nil)
	w.Must("GET", "/api/labels", nil, &all)
	assert.Equal(t, "person joss  dispatch", texts(all)[0])
	assert.Equal(t, 409, w.Problem("POST", "/api/changes/"+changes[len(changes)-1].ID+"/undo", obj{}).Status)

	many := []string{}
	for n := range 51 {
		many = append(many, fmt.Sprint("l", n))
	}
	for name, row := range map[string]struct {
		in    obj
		field string
		code  int
	}{
		"no such kind":       {obj{"kind": "boat", "name": "quill", "add": []string{"x"}}, "kind", 422},
		"nothing to do":      {obj{"kind": "agent", "name": "quill"}, "add", 422},
		"a tag of no tool":   {obj{"kind": "tool", "name": "echo", "add": []string{"x"}}, "tool", 422},
		"an agent's tool":    {obj{"kind": "agent", "name": "quill", "tool": "slow", "add": []string{"x"}}, "tool", 422},
		"no such agent":      {obj{"kind": "agent", "name": "quilll", "add": []string{"x"}}, "", 404},
		"a person's name":    {obj{"kind": "agent", "name": "joss", "add": []string{"x"}}, "", 404},
		"what it has not":    {obj{"kind": "agent", "name": "quill", "remove": []string{"x"}}, "", 404},
		"no word":            {obj{"kind": "agent", "name": "quill", "add": []string{"two words"}}, "add", 422},
		"a word in capitals": {obj{"kind": "agent", "name": "quill", "add": []string{"Laptop"}}, "add", 422},
		"too many":           {obj{"kind": "agent", "name": "quill", "add": many}, "add", 422},
	} {
		p := w.Problem("PATCH", "/api/labels", row.in)
		assert.Equal(t, row.code, p.Status, name)
		if row.field != "" {
			assert.Equal(t, row.field, p.Field, name)
		}
	}
}

// A bundle stands for tools, other bundles in it for theirs; what would lead in a circle, or
// leave rules behind, is refused, and two people do not overwrite each other.
func TestBundlesStandForTools(t *testing.T) {
	t.Parallel()
	w := quay(t)
	add := func(name string, entries ...obj) (b apitype.BundleInfo) {
		t.Helper()
		w.Must("POST", "/api/bundles", obj{"name": name, "entries": entries}, &b)
		return b
	}
	small := add("small", obj{"server": "echo", "tool": "e*"})
	assert.Equal(t, []string{"echo/echo"}, small.Tools)
	large := add("large", obj{"bundle": "small"}, obj{"server": "*", "tool": "slow"})
	assert.Equal(t, []string{"echo/echo", "echo/slow"}, large.Tools)
	w.Must("GET", "/api/bundles/small", nil, &small)
	assert.Equal(t, []string{"bundle large"}, small.UsedBy)
	circle := w.Problem("PATCH", "/api/bundles/small", obj{"entries": []obj{{"bundle": "large"}}})
	assert.Equal(t, []any{422, "entries"}, []any{circle.Status, circle.Field})
	assert.Contains(t, circle.Title, "large")
	for name, in := range map[string]obj{
		"itself":         {"name": "me", "entries": []obj{{"bundle": "me"}}},
		"nothing":        {"name": "none", "entries": []obj{}},
		"of none":        {"name": "none", "entries": []obj{{"bundle": "nowhere"}}},
		"no tool":        {"name": "none", "entries": []obj{{"server": "echo"}}},
		"both":           {"name": "none", "entries": []obj{{"server": "echo", "tool": "x", "bundle": "small"}}},
		"no name":        {"name": "", "entries": []obj{{"server": "echo", "tool": "x"}}},
		"a strange name": {"name": "a b", "entries": []obj{{"server": "echo", "tool": "x"}}},
	} {
		assert.Equal(t, 422, w.Problem("POST", "/api/bundles", in).Status, name)
	}
	assert.Equal(t, 409, w.Problem("POST", "/api/bundles", obj{"name": "small", "entries": []obj{{"server": "a", "tool": "b"}}}).Status)

	agent := w.Raw("/mcp", w.Pass("quill"), "2025-11-25")
	w.Must("POST", "/api/rules", obj{"name": "all", "effect": "admit", "agent": "quill", "server": "*", "tool": "*", "bundle": "large"}, nil)
	assert.Equal(t, []string{"echo__echo", "echo__slow"}, agent.Names())
	w.Must("PATCH", "/api/bundles/small", obj{"entries": []obj{{"server": "echo", "tool": "fail"}}, "version": small.Version}, nil)
	assert.Equal(t, []string{"echo__fail", "echo__slow"}, agent.Names(), "in force at once")
	assert.Equal(t, 409, w.Problem("PATCH", "/api/bundles/small", obj{"note": "late", "version": small.Version}).Status)
	p := w.Problem("DELETE", "/api/bundles/large", nil)
	require.Equal(t, 409, p.Status)
	assert.Contains(t, p.Title, "rule all")
	assert.Equal(t, 409, w.Problem("DELETE", "/api/bundles/small", nil).Status, "a bundle names it")
	w.Must("DELETE", "/api/rules/all", nil, nil)
	w.Must("DELETE", "/api/bundles/large", nil, nil)
	w.Must("DELETE", "/api/bundles/small", nil, nil)
	assert.Empty(t, agent.Names())
}
