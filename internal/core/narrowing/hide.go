package narrowing

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// MaxPaths is how many fields one rule may hide.
const MaxPaths = 50

// Path leads to a field of a result: names of members, with "*" for every element of a
// list.
type Path struct {
	Names []string
	// Masked has texts there replaced by stars, so that it is seen that there is something.
	// What is no text is taken out all the same.
	Masked bool
}

// Stars stand where a text is masked.
const Stars = "***"

// String is the path as people write it.
func (p Path) String() string { return strings.Join(p.Names, ".") }

// past is the path behind its first name.
func (p Path) past() Path { return Path{p.Names[1:], p.Masked} }

// ReadPath reads a path as people write it: finder.address, items.*.price. The error is
// a SchemaError.
func ReadPath(text string) (Path, error) {
	parts := strings.Split(text, ".")
	if len(text) > 200 || len(parts) > 16 || slices.Contains(parts, "") || strings.ContainsAny(text, " \t\r\n") {
		return Path{}, &SchemaError{"", fmt.Sprintf("%.60q is no path to a field; one looks like items.*.price", text)}
	}
	return Path{Names: parts}, nil
}

// Hide takes fields out of the result of a tool: out of its structured content, and out
// of texts that are JSON. A text that is not, beside structured content, is replaced by
// what is left of that; one without any is withheld, since nobody can tell what it says.
// hidden is how many places were touched.
func Hide(result json.RawMessage, paths []Path) (out json.RawMessage, hidden int, err error) {
	v, err := Decode(result)
	if err != nil {
		return nil, 0, fmt.Errorf("read the result: %w", err)
	}
	r, ok := v.(map[string]any)
	if !ok {
		return nil, 0, &UnclearError{"the result is no object"}
	}
	structured, has := r["structuredContent"]
	if has {
		for _, p := range paths {
			hidden += remove(structured, p)
		}
	}
	for _, item := range list(r["content"]) {
		block, ok := item.(map[string]any)
		if !ok {
			continue
		}
		switch block["type"] {
		case "text":
			hidden += hideInText(block, paths, structured, has)
		case "resource":
			if inner, ok := block["resource"].(map[string]any); ok {
				if _, has := inner["blob"]; has {
					inner["blob"] = ""
					hidden++
				}
				hidden += hideInText(inner, paths, structured, false)
			}
		}
	}
	return encode(r), hidden, nil
}

// withheld stands where a text was that cannot be looked into.
const withheld = "(withheld: a rule hides fields of this result, and it is text in which they cannot be found)"

func hideInText(block map[string]any, paths []Path, structured any, has bool) int {
	text, ok := block["text"].(string)
	if !ok {
		return 0
	}
	v, err := Decode([]byte(text))
	if _, plain := v.(string); err == nil && !plain {
		n := 0
		for _, p := range paths {
			n += remove(v, p)
		}
		if n > 0 {
			block["text"] = string(encode(v))
		}
		return n
	}
	if has {
		block["text"] = string(encode(structured))
	} else {
		block["text"] = withheld
	}
	return 1
}

// remove takes what a path leads to out of a value, and returns how often it was there.
// Lists on the way are gone through whether or not the path says so.
func remove(v any, p Path) (n int) {
	switch v := v.(type) {
	case []any:
		rest := p
		if p.Names[0] == "*" {
			rest = p.past()
		}
		if len(rest.Names) == 0 {
			return 0 // elements are not taken out, only what they hold
		}
		for _, member := range v {
			n += remove(member, rest)
		}
	case map[string]any:
		for _, name := range sortedKeys(v) {
			if p.Names[0] != "*" && fold(name) != fold(p.Names[0]) {
				continue
			}
			if len(p.Names) > 1 {
				n += remove(v[name], p.past())
				continue
			}
			n++
			if _, text := v[name].(string); text && p.Masked {
				v[name] = Stars
				continue
			}
			delete(v, name)
		}
	}
	return n
}

// HideInSchema takes hidden fields out of an output schema, so that results still fit
// it. ok is false when it cannot be told where they are described: then the tool is to
// be shown without an output schema.
func HideInSchema(schema json.RawMessage, paths []Path) (out json.RawMessage, ok bool) {
	v, err := Decode(schema)
	if err != nil {
		return nil, false
	}
	root, isObject := v.(map[string]any)
	if !isObject {
		return nil, false
	}
	for _, p := range paths {
		if !hideIn(root, p) {
			return nil, false
		}
	}
	if _, err := compile(withoutPatterns(root)); err != nil {
		return nil, false
	}
	return encode(root), true
}

// hideIn takes one field out of a plain schema. It gives up on anything that says more
// than properties, items and what is required.
func hideIn(schema map[string]any, p Path) bool {
	for _, name := range [...]string{"allOf", "anyOf", "oneOf", "not", "minProperties", "dependentRequired", "const", "enum"} {
		if _, has := schema[name]; has {
			return false
		}
	}
	if entangled(schema) {
		return false
	}
	if items, ok := schema["items"].(map[string]any); ok {
		rest := p
		if p.Names[0] == "*" {
			rest = p.past()
		}
		return len(rest.Names) == 0 || hideIn(items, rest)
	}
	properties, _ := schema["properties"].(map[string]any)
	need := list(schema["required"])
	for _, name := range sortedKeys(properties) {
		if p.Names[0] != "*" && fold(name) != fold(p.Names[0]) {
			continue
		}
		inner, isObject := properties[name].(map[string]any)
		if len(p.Names) > 1 {
			if isObject && !hideIn(inner, p.past()) {
				return false
			}
			continue
		}
		if p.Masked {
			// A text stays one, of any form; anything else may be left out.
			properties[name] = masked(inner)
			if inner["type"] == "string" {
				continue
			}
		} else {
			delete(properties, name)
		}
		need = slices.DeleteFunc(slices.Clone(need), func(v any) bool { return v == any(name) })
	}
	if _, has := schema["required"]; has {
		schema["required"] = need
	}
	if inner, ok := schema["additionalProperties"].(map[string]any); ok && len(p.Names) > 1 {
		return hideIn(inner, p.past())
	}
	return true
}

// masked is what a schema says of a field that is masked.
func masked(schema map[string]any) map[string]any {
	out := map[string]any{}
	for _, name := range [...]string{"type", "title", "description"} {
		if v, has := schema[name]; has && (name != "type" || v == "string") {
			out[name] = v
		}
	}
	return out
}
