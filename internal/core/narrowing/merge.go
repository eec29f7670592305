package narrowing

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/big"
	"reflect"
	"slices"
	"sort"
	"strings"
)

// ContradictionError says at which argument two schemas leave nothing that fits both.
type ContradictionError struct{ Place, Why string }

func (e *ContradictionError) Error() string { return place(e.Place) + ": " + e.Why }

// annotations are keywords that say something to the reader and judge nothing: the
// overlay's word counts.
var annotations = []string{"title", "description", "default", "examples", "deprecated"}

// mergeSchema lays overlay over base as simply as possible: what fits the result fits
// both. Neither is altered. at is the place, for errors.
func mergeSchema(base, overlay any, at string) (any, error) {
	switch {
	case overlay == true:
		return base, nil
	case overlay == false || base == false:
		return false, nil
	case base == true:
		return clone(overlay), nil
	}
	b, isObject := base.(map[string]any)
	o, ok := overlay.(map[string]any)
	if !isObject || !ok {
		return nil, &ContradictionError{at, "it is no schema"}
	}
	m := &merger{at: at, out: copyOf(b)}
	if entangled(b) || entangled(o) {
		m.beside(o)
		return m.out, nil
	}
	// What is closed depends on what is named.
	order := append([]string{"properties"}, slices.DeleteFunc(sortedKeys(o), func(name string) bool { return name == "properties" })...)
	for _, name := range order {
		value, has := o[name]
		if !has {
			continue
		}
		if err := m.keyword(name, value, o); err != nil {
			return nil, err
		}
	}
	return m.settle()
}

// entangling are keywords whose meaning depends on others beside them, so that they
// cannot be merged one by one.
var entangling = []string{
	"$ref", "$dynamicRef", "if", "then", "else", "patternProperties", "prefixItems", "contains", "minContains", "maxContains",
	"unevaluatedProperties", "unevaluatedItems", "dependentSchemas", "dependencies", "additionalItems",
}

func entangled(schema map[string]any) bool {
	return slices.ContainsFunc(entangling, func(name string) bool { _, has := schema[name]; return has })
}

// merger lays one schema over another, keyword by keyword.
type merger struct {
	at  string
	out map[string]any
}

// beside keeps a schema whole, beside what there is.
func (m *merger) beside(o map[string]any) {
	m.out["allOf"] = append(slices.Clone(list(m.out["allOf"])), clone(o))
}

func (m *merger) keyword(name string, value any, o map[string]any) error {
	was, both := m.out[name]
	if slices.Contains(annotations, name) || !both && name != "additionalProperties" && name != "properties" {
		m.out[name] = clone(value)
		return nil
	}
	switch name {
	case "properties":
		return m.properties(value, o)
	case "additionalProperties":
		return m.additional(value, o)
	case "required":
		m.out[name] = union(list(was), list(value))
	case "enum":
		left := common(list(was), list(value))
		if len(left) == 0 {
			return &ContradictionError{m.at, "none of the values is one that the tool takes"}
		}
		m.out[name] = left
	case "const":
		if !reflect.DeepEqual(was, value) {
			return &ContradictionError{m.at, "the tool takes another constant"}
		}
	case "type":
		left := commonTypes(list(was), list(value))
		switch len(left) {
		case 0:
			return &ContradictionError{m.at, fmt.Sprintf("the tool takes %s there", words(list(was)))}
		case 1:
			m.out[name] = left[0]
		default:
			m.out[name] = left
		}
	case "maximum", "exclusiveMaximum", "maxLength", "maxItems", "maxProperties":
		m.out[name] = bound(was, value, -1)
	case "minimum", "exclusiveMinimum", "minLength", "minItems", "minProperties":
		m.out[name] = bound(was, value, 1)
	case "items":
		merged, err := mergeSchema(was, value, join(m.at, "[]"))
		if err != nil {
			return err
		}
		m.out[name] = merged
	case "allOf":
		m.out[name] = append(slices.Clone(list(was)), list(clone(value))...)
	case "$schema", "$id", "$comment":
	case "uniqueItems":
		m.out[name] = was == true || value == true
	default:
		if !reflect.DeepEqual(was, value) {
			m.beside(map[string]any{name: value})
		}
	}
	return nil
}

// properties merges what is said of single members. One that may not be given at all
// disappears, and with it members that nobody described, which could stand for it.
func (m *merger) properties(value any, o map[string]any) error {
	extra, ok := value.(map[string]any)
	if !ok {
		return &ContradictionError{m.at, "properties is no object"}
	}
	was, _ := m.out["properties"].(map[string]any)
	others, said := m.out["additionalProperties"]
	if !said {
		others = true
	}
	out := copyOf(was)
	for _, name := range sortedKeys(extra) {
		at := join(m.at, name)
		before, there := out[name]
		if !there {
			before = others
		}
		if before == false && extra[name] != false {
			return &ContradictionError{at, "the tool has no such argument"}
		}
		merged, err := mergeSchema(before, extra[name], at)
		if err != nil {
			return err
		}
		if merged != false {
			out[name] = merged
			continue
		}
		if m.needs(name) || slices.Contains(list(o["required"]), any(name)) {
			return &ContradictionError{at, "the tool must be given it"}
		}
		delete(out, name)
		m.out["additionalProperties"] = false
	}
	m.out["properties"] = out
	return nil
}

func (m *merger) needs(name string) bool { return slices.Contains(list(m.out["required"]), any(name)) }

// additional narrows the members that the overlay does not name, those that the base
// describes as well as those that nobody does.
func (m *merger) additional(value any, o map[string]any) error {
	named, _ := o["properties"].(map[string]any)
	was, _ := m.out["properties"].(map[string]any)
	out := map[string]any{}
	for _, name := range sortedKeys(was) {
		if _, is := named[name]; is {
			out[name] = was[name]
			continue
		}
		merged, err := mergeSchema(was[name], value, join(m.at, name))
		if err != nil {
			return err
		}
		if merged == false && m.needs(name) {
			return &ContradictionError{join(m.at, name), "the tool must be given it"}
		}
		out[name] = merged
	}
	before, there := m.out["additionalProperties"]
	if !there {
		before = true
	}
	merged, err := mergeSchema(before, value, m.at)
	if err != nil {
		return err
	}
	if merged == false {
		// What may not be given need not be named where nothing else may be either.
		maps.DeleteFunc(out, func(_ string, v any) bool { return v == false })
	}
	m.out["properties"], m.out["additionalProperties"] = out, merged
	return nil
}

// settle finds what the keywords leave nothing of, and takes away what says nothing
// any more.
func (m *merger) settle() (any, error) {
	for _, pair := range [...][2]string{{"minimum", "maximum"}, {"minLength", "maxLength"}, {"minItems", "maxItems"}} {
		if low, high := number(m.out[pair[0]]), number(m.out[pair[1]]); low != nil && high != nil && low.Cmp(high) > 0 {
			return nil, &ContradictionError{m.at, fmt.Sprintf("%s is above %s", pair[0], pair[1])}
		}
	}
	values, has := m.out["enum"].([]any)
	if !has {
		return m.out, nil
	}
	var left []any
	for _, v := range values {
		if m.fits(v) {
			left = append(left, v)
		}
	}
	if len(left) == 0 {
		return nil, &ContradictionError{m.at, "none of the values is one that the tool takes"}
	}
	m.out["enum"] = left
	return m.out, nil
}

// fits holds a value of an enumeration against the bounds beside it.
func (m *merger) fits(v any) bool {
	if c, has := m.out["const"]; has && !reflect.DeepEqual(c, v) {
		return false
	}
	n := number(v)
	if n == nil {
		return true
	}
	low, high := number(m.out["minimum"]), number(m.out["maximum"])
	return (low == nil || n.Cmp(low) >= 0) && (high == nil || n.Cmp(high) <= 0)
}

func copyOf(m map[string]any) map[string]any {
	out := make(map[string]any, len(m)+1)
	for name, v := range m {
		out[name] = v
	}
	return out
}

func sortedKeys(m map[string]any) []string {
	out := make([]string, 0, len(m))
	for name := range m {
		out = append(out, name)
	}
	sort.Strings(out)
	return out
}

// list is a value as a list: a single type stands for a list of one.
func list(v any) []any {
	switch v := v.(type) {
	case nil:
		return nil
	case []any:
		return v
	}
	return []any{v}
}

func union(a, b []any) []any {
	out := slices.Clone(a)
	for _, v := range b {
		if !slices.ContainsFunc(out, func(have any) bool { return reflect.DeepEqual(have, v) }) {
			out = append(out, v)
		}
	}
	return out
}

func common(a, b []any) (out []any) {
	for _, v := range a {
		if slices.ContainsFunc(b, func(have any) bool { return equal(have, v) }) {
			out = append(out, v)
		}
	}
	return out
}

// equal compares values as JSON Schema does: numbers by what they are worth.
func equal(a, b any) bool {
	if x, y := number(a), number(b); x != nil && y != nil {
		return x.Cmp(y) == 0
	}
	return reflect.DeepEqual(a, b)
}

// commonTypes are the types that fit both; an integer is a number.
func commonTypes(a, b []any) (out []any) {
	for _, v := range a {
		switch {
		case slices.Contains(b, v):
			out = append(out, v)
		case v == "integer" && slices.Contains(b, any("number")):
			out = append(out, v)
		case v == "number" && slices.Contains(b, any("integer")):
			out = append(out, "integer")
		}
	}
	return out
}

func words(types []any) string {
	var out []string
	for _, t := range types {
		out = append(out, fmt.Sprint(t))
	}
	return strings.Join(out, " or ")
}

// number is a value as a number, nil for anything else.
func number(v any) *big.Rat {
	n, ok := v.(json.Number)
	if !ok {
		return nil
	}
	r, ok := new(big.Rat).SetString(n.String())
	if !ok {
		return nil
	}
	return r
}

// bound takes the stricter of two bounds: the larger for sign 1, the smaller for -1.
func bound(a, b any, sign int) any {
	x, y := number(a), number(b)
	switch {
	case x == nil:
		return b
	case y == nil:
		return a
	case x.Cmp(y)*sign >= 0:
		return a
	}
	return b
}
