// Package review says what of a server's tool list somebody has looked at: which tools are
// new or changed since they were accepted, what agents are shown until they are, and what
// is suspicious about a description. A description is read by a model as if its own people
// had written it, so that one that changes by itself is looked at first.
package review

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"

	"bouncer/internal/core/tools"
)

// The modes of a server.
const (
	Trust   = "trust"   // whatever it lists is shown
	Changes = "changes" // what it lists when that is set is accepted; what comes later is reviewed
	All     = "all"     // nothing is shown before it is reviewed
)

// Modes lists them.
var Modes = []string{Trust, Changes, All}

// States of a tool that is not reviewed.
const (
	New     = "new"
	Changed = "changed"
)

// What agents are shown until a tool is reviewed.
const (
	ShowsOld     = "old"     // as it was accepted, since it takes the same arguments
	ShowsNothing = "nothing" // the tool is not there
)

// Item is a tool that is not reviewed.
type Item struct {
	Name          string
	State         string
	Before, After tools.Tool // Before is empty for a new one
	Meanwhile     string
}

// Open returns the tools that are not accepted as they are, by their names.
func Open(list []tools.Tool, accepted map[string]tools.Tool) (out []Item) {
	for _, t := range list {
		old, was := accepted[t.Name]
		switch {
		case was && old.Fingerprint == t.Fingerprint:
		case was && sameArguments(old, t):
			out = append(out, Item{t.Name, Changed, old, t, ShowsOld})
		case was:
			out = append(out, Item{t.Name, Changed, old, t, ShowsNothing})
		default:
			out = append(out, Item{Name: t.Name, State: New, After: t, Meanwhile: ShowsNothing})
		}
	}
	slices.SortFunc(out, func(a, b Item) int { return bytes.Compare([]byte(a.Name), []byte(b.Name)) })
	return out
}

// Shown returns a list as agents are shown it: what is accepted, and of what changed what
// was accepted, where it still fits.
func Shown(list []tools.Tool, accepted map[string]tools.Tool) []tools.Tool {
	out := make([]tools.Tool, 0, len(list))
	for _, t := range list {
		old, was := accepted[t.Name]
		switch {
		case was && old.Fingerprint == t.Fingerprint:
			out = append(out, t)
		case was && sameArguments(old, t):
			out = append(out, old)
		}
	}
	return out
}

// sameArguments reports whether two states of a tool take just the same arguments.
func sameArguments(a, b tools.Tool) bool {
	return bytes.Equal(shape(a.Member("inputSchema")), shape(b.Member("inputSchema")))
}

// annotations say something to the reader and judge nothing.
var annotations = map[string]bool{"title": true, "description": true, "examples": true, "$comment": true, "default": true}

// shape is a schema without what it says to the reader, in one spelling.
func shape(raw json.RawMessage) []byte {
	var v any
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	if len(raw) == 0 || d.Decode(&v) != nil {
		return raw
	}
	out, err := json.Marshal(strip(v, true))
	if err != nil {
		return raw
	}
	return out
}

// strip leaves out annotations. schema is false for a map from names to schemas.
func strip(v any, schema bool) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for name := range maps.Keys(v) {
			if schema && annotations[name] {
				continue
			}
			names := schema && (name == "properties" || name == "patternProperties" || name == "dependentSchemas" ||
				name == "$defs" || name == "definitions")
			out[name] = strip(v[name], !names)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, member := range v {
			out[i] = strip(member, true)
		}
		return out
	}
	return v
}
