// Package narrowing lays JSON Schemas over what a tool takes: the schema that an agent
// is shown is the tool's own and every narrowing at once, and what fits the one that is
// shown is what is admitted. Pinned arguments are filled in and not shown; fields of
// results can be hidden, and the output schema then says so.
//
// Whatever cannot be judged for certain - members that occur twice, numbers that
// programs read differently, a name that differs from a narrowed one by its case only -
// is an error, and whoever calls refuses.
package narrowing

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// MaxSchema is the longest schema that a rule may hold, in bytes.
const MaxSchema = 16 << 10

// maxBase is the longest input schema of a tool that is judged.
const maxBase = 256 << 10

// SchemaError says where a schema of a rule is not acceptable, and why.
type SchemaError struct{ Place, Why string }

func (e *SchemaError) Error() string {
	if e.Place == "" {
		return e.Why
	}
	return e.Place + ": " + e.Why
}

// Overlay is a schema that a rule lays over arguments. It is immutable.
type Overlay struct {
	schema any
	names  map[string]bool // every property that it names, at any depth
}

// refused are keywords that an overlay cannot hold: they refer to what is elsewhere.
var refused = []string{"$ref", "$dynamicRef", "$recursiveRef", "$id", "$anchor", "$dynamicAnchor", "$defs", "definitions", "$schema"}

// known are the keywords that an overlay may hold besides annotations.
var known = []string{
	"type", "enum", "const", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "minLength", "maxLength",
	"pattern", "format", "properties", "required", "additionalProperties", "propertyNames", "minProperties", "maxProperties",
	"dependentRequired", "items", "minItems", "maxItems", "uniqueItems", "prefixItems", "contains", "minContains", "maxContains",
	"patternProperties", "not", "anyOf", "oneOf", "allOf", "if", "then", "else", "$comment",
}

// ReadOverlay reads a schema that a rule lays over the arguments of a tool. Where it
// narrows a number or a text without saying that it is one, it says so from then on. The
// error is a SchemaError.
func ReadOverlay(raw []byte) (*Overlay, error) { return readOverlay(raw, false) }

// ReadCondition reads a schema that arguments may fit or not. A member that it names has
// to be there for the condition to hold, unless it says itself what is required.
func ReadCondition(raw []byte) (*Overlay, error) { return readOverlay(raw, true) }

func readOverlay(raw []byte, condition bool) (*Overlay, error) {
	if len(raw) > MaxSchema {
		return nil, &SchemaError{"", fmt.Sprintf("it has %d bytes; %d are the most", len(raw), MaxSchema)}
	}
	v, err := Decode(raw)
	if err != nil {
		return nil, &SchemaError{"", err.Error()}
	}
	o, ok := v.(map[string]any)
	if !ok {
		return nil, &SchemaError{"", `it must be an object, like {"properties": {"litres": {"maximum": 5000}}}`}
	}
	if err := checkWords(o, ""); err != nil {
		return nil, err
	}
	if _, has := o["properties"]; !has && !slices.ContainsFunc(sortedKeys(o), func(k string) bool { return slices.Contains(known, k) }) {
		return nil, &SchemaError{"", `it says nothing; name arguments under "properties"`}
	}
	if _, err := compile(o); err != nil {
		return nil, &SchemaError{"", err.Error()}
	}
	out := &Overlay{names: map[string]bool{}}
	collect(o, out.names)
	if condition {
		requireNamed(o)
	} else {
		sayTypes(o)
	}
	out.schema = o
	return out, nil
}

// Names are the members that the overlay names at its top.
func (o *Overlay) Names() []string {
	schema, _ := o.schema.(map[string]any)
	properties, _ := schema["properties"].(map[string]any)
	return sortedKeys(properties)
}

// subschemas visits the schemas within a schema.
func subschemas(schema map[string]any, visit func(at string, v any) error) error {
	for _, name := range sortedKeys(schema) {
		switch name {
		case "properties", "patternProperties":
			members, ok := schema[name].(map[string]any)
			if !ok {
				return &SchemaError{name, "it must be an object"}
			}
			for _, member := range sortedKeys(members) {
				if err := visit(member, members[member]); err != nil {
					return err
				}
			}
		case "items", "additionalProperties", "propertyNames", "contains", "not", "if", "then", "else":
			if err := visit(name, schema[name]); err != nil {
				return err
			}
		case "anyOf", "oneOf", "allOf", "prefixItems":
			for _, member := range list(schema[name]) {
				if err := visit(name, member); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func checkWords(schema map[string]any, at string) error {
	for _, name := range sortedKeys(schema) {
		switch {
		case slices.Contains(refused, name):
			return &SchemaError{at, name + " cannot be used in a rule: write out what is meant"}
		case !slices.Contains(known, name) && !slices.Contains(annotations, name):
			return &SchemaError{at, fmt.Sprintf("%.40q is no keyword of JSON Schema; arguments are named under \"properties\"", name)}
		}
	}
	return subschemas(schema, func(name string, v any) error {
		switch v := v.(type) {
		case bool:
			return nil
		case map[string]any:
			return checkWords(v, join(at, name))
		}
		return &SchemaError{join(at, name), "it must be a schema: an object, true or false"}
	})
}

func collect(schema map[string]any, names map[string]bool) {
	properties, _ := schema["properties"].(map[string]any)
	for name := range properties {
		names[name] = true
	}
	for _, v := range list(schema["required"]) {
		if name, ok := v.(string); ok {
			names[name] = true
		}
	}
	_ = subschemas(schema, func(_ string, v any) error {
		if s, ok := v.(map[string]any); ok {
			collect(s, names)
		}
		return nil
	})
}

// requireNamed has a condition hold only where what it names is there.
func requireNamed(schema map[string]any) {
	properties, ok := schema["properties"].(map[string]any)
	if !ok {
		return
	}
	if _, said := schema["required"]; said {
		return
	}
	var need []any
	for _, name := range sortedKeys(properties) {
		if properties[name] == false {
			continue
		}
		need = append(need, name)
		if s, ok := properties[name].(map[string]any); ok {
			requireNamed(s)
		}
	}
	if need != nil {
		schema["required"] = need
	}
}

// sayTypes says of what is narrowed as a number, a text or a list that it is one:
// otherwise a text would pass a maximum.
func sayTypes(schema map[string]any) {
	if _, said := schema["type"]; !said {
		for _, kind := range [...]struct {
			is    string
			words []string
		}{
			{"number", []string{"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"}},
			{"string", []string{"minLength", "maxLength", "pattern"}},
			{"array", []string{"items", "minItems", "maxItems", "uniqueItems"}},
			{"object", []string{"properties", "required", "additionalProperties"}},
		} {
			if slices.ContainsFunc(kind.words, func(w string) bool { _, has := schema[w]; return has }) {
				schema["type"] = kind.is
				break
			}
		}
	}
	properties, _ := schema["properties"].(map[string]any)
	for _, v := range properties {
		if s, ok := v.(map[string]any); ok {
			sayTypes(s)
		}
	}
	if s, ok := schema["items"].(map[string]any); ok {
		sayTypes(s)
	}
}

// errOutside keeps schemas from being fetched.
var errOutside = errors.New("schemas are not fetched from elsewhere")

type noLoader struct{}

func (noLoader) Load(string) (any, error) { return nil, errOutside }

// compile compiles a decoded schema.
func compile(v any) (*jsonschema.Schema, error) {
	c := jsonschema.NewCompiler()
	c.UseLoader(noLoader{})
	if err := c.AddResource("schema:tool", v); err != nil {
		return nil, fmt.Errorf("it is no JSON Schema: %w", err)
	}
	s, err := c.Compile("schema:tool")
	if err != nil {
		return nil, errors.New("it is no JSON Schema: " + firstLine(err))
	}
	return s, nil
}

var blanks = regexp.MustCompile(`\s+`)

func firstLine(err error) string {
	text := strings.ReplaceAll(err.Error(), "schema:tool", "")
	return strings.TrimSpace(blanks.ReplaceAllString(text, " "))
}

// withoutPatterns leaves out patterns in another dialect than is read here: they are
// the server's to judge.
func withoutPatterns(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, member := range v {
			if pattern, ok := member.(string); ok && name == "pattern" {
				if _, err := regexp.Compile(pattern); err != nil {
					continue
				}
			}
			out[name] = withoutPatterns(member)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, member := range v {
			out[i] = withoutPatterns(member)
		}
		return out
	}
	return v
}

// Input is what a tool takes from one agent: the schema that is shown, and what judges
// arguments by it. It is immutable, and safe for concurrent use.
type Input struct {
	// Shown is the input schema as the agent is shown it.
	Shown  json.RawMessage
	judge  *jsonschema.Schema
	pins   map[string]any
	names  map[string]bool   // that are governed
	folded map[string]string // the same without regard to case
	own    map[string]bool   // that the tool describes
}

// Terms are what holds for the arguments of one tool.
type Terms struct {
	// Overlays narrow; all of them hold.
	Overlays []*Overlay
	// AnyOf are conditions of which one has to hold; none for no condition.
	AnyOf []*Overlay
	// NoneOf are conditions of which none may hold.
	NoneOf []*Overlay
	// Watched are conditions that only are to be judged for certain.
	Watched []*Overlay
	// Pins are values that are filled in, by the name of the argument.
	Pins map[string]any
}

// Narrow lays terms over a tool's input schema. The error says why that cannot be
// done: then nothing is admitted.
func Narrow(schema json.RawMessage, terms Terms) (*Input, error) {
	if len(schema) > maxBase {
		return nil, &SchemaError{"", fmt.Sprintf("the tool's schema has %d bytes; %d are judged at most", len(schema), maxBase)}
	}
	v, err := Decode(schema)
	if err != nil {
		return nil, fmt.Errorf("read the tool's schema: %w", err)
	}
	base, ok := v.(map[string]any)
	if !ok {
		return nil, &SchemaError{"", "the tool's schema is no object"}
	}
	in := &Input{pins: terms.Pins, names: map[string]bool{}, folded: map[string]string{}, own: map[string]bool{}}
	collect(base, in.own)
	in.govern(terms)
	var merged any = base
	if len(terms.Pins) > 0 {
		if merged, err = withoutPinned(base, terms.Pins); err != nil {
			return nil, err
		}
	}
	for _, o := range terms.Overlays {
		if merged, err = mergeSchema(merged, o.schema, ""); err != nil {
			return nil, err
		}
	}
	if merged, err = conditions(merged, terms); err != nil {
		return nil, err
	}
	if merged == false {
		return nil, &ContradictionError{"", "nothing is left that the tool may be given"}
	}
	in.Shown = encode(merged)
	if in.judge, err = compile(withoutPatterns(merged)); err != nil {
		return nil, fmt.Errorf("the tool's schema: %w", err)
	}
	return in, nil
}

func (in *Input) govern(terms Terms) {
	for _, list := range [][]*Overlay{terms.Overlays, terms.AnyOf, terms.NoneOf, terms.Watched} {
		for _, o := range list {
			for name := range o.names {
				in.names[name] = true
			}
		}
	}
	for name := range terms.Pins {
		in.names[name] = true
	}
	for name := range in.names {
		in.folded[fold(name)] = name
	}
}

// withoutPinned takes arguments that Bouncer fills in out of what is shown.
func withoutPinned(base map[string]any, pins map[string]any) (any, error) {
	names := sortedKeys(pins)
	out := copyOf(base)
	need := slices.DeleteFunc(slices.Clone(list(out["required"])), func(v any) bool {
		name, ok := v.(string)
		return ok && slices.Contains(names, name)
	})
	if len(need) > 0 {
		out["required"] = need
	} else {
		delete(out, "required")
	}
	properties, _ := out["properties"].(map[string]any)
	closed := map[string]any{}
	for _, name := range names {
		schema, there := properties[name]
		if !there && base["additionalProperties"] == false {
			return nil, &ContradictionError{name, "it is pinned, but the tool has no such argument"}
		}
		if there {
			if err := fitsAlone(base, schema, pins[name]); err != nil {
				return nil, &ContradictionError{name, "the pinned value does not fit what the tool takes: " + err.Error()}
			}
		}
		closed[name] = false
	}
	return mergeSchema(out, map[string]any{"properties": closed}, "")
}

// fitsAlone holds a pinned value against what the tool says of the argument.
func fitsAlone(base map[string]any, schema, value any) error {
	alone := map[string]any{"allOf": []any{schema}}
	for _, name := range [...]string{"$defs", "definitions", "$schema"} {
		if v, has := base[name]; has {
			alone[name] = v
		}
	}
	s, err := compile(withoutPatterns(alone))
	if err != nil {
		return err
	}
	if err := s.Validate(value); err != nil {
		return errors.New(explain(err))
	}
	return nil
}

// conditions adds what has to hold, and what must not.
func conditions(merged any, terms Terms) (any, error) {
	var err error
	switch len(terms.AnyOf) {
	case 0:
	case 1:
		if merged, err = mergeSchema(merged, terms.AnyOf[0].schema, ""); err != nil {
			return nil, err
		}
	default:
		var any []any
		for _, o := range terms.AnyOf {
			any = append(any, o.schema)
		}
		if merged, err = mergeSchema(merged, map[string]interface{}{"anyOf": any}, ""); err != nil {
			return nil, err
		}
	}
	for _, o := range terms.NoneOf {
		if merged, err = mergeSchema(merged, map[string]any{"allOf": []any{map[string]any{"not": o.schema}}}, ""); err != nil {
			return nil, err
		}
	}
	return merged, nil
}

// ArgumentError says which argument is not admitted, and why.
type ArgumentError struct {
	Argument string // "" for all of them
	Why      string
}

func (e *ArgumentError) Error() string {
	if e.Argument == "" {
		return "the arguments: " + e.Why
	}
	return "argument " + e.Argument + ": " + e.Why
}

// Judge holds the arguments of a call against the schema that is shown, and returns
// them decoded. raw may be empty for none. The error is an ArgumentError.
func (in *Input) Judge(raw []byte) (map[string]any, error) {
	args, err := Arguments(raw)
	if err != nil {
		return nil, err
	}
	if err := in.certain(args); err != nil {
		return nil, err
	}
	if err := in.judge.Validate(args); err != nil {
		return nil, argumentError(err)
	}
	return args, nil
}

// Arguments decodes the arguments of a call; none are an empty object. The error is an
// ArgumentError.
func Arguments(raw []byte) (map[string]any, error) {
	if len(bytes.TrimSpace(raw)) == 0 || string(bytes.TrimSpace(raw)) == "null" {
		return map[string]any{}, nil
	}
	v, err := Decode(raw)
	if err != nil {
		return nil, &ArgumentError{"", err.Error()}
	}
	args, ok := v.(map[string]any)
	if !ok {
		return nil, &ArgumentError{"", "they must be an object"}
	}
	return args, nil
}

// Fits reports whether decoded arguments fit a condition.
func (o *Condition) Fits(args map[string]any) bool { return o.judge.Validate(args) == nil }

// Condition is an Overlay that can judge.
type Condition struct {
	*Overlay
	judge *jsonschema.Schema
}

// Compile makes a condition judge.
func (o *Overlay) Compile() (*Condition, error) {
	s, err := compile(o.schema)
	if err != nil {
		return nil, err
	}
	return &Condition{o, s}, nil
}

// fold is a name without regard to case, as the loosest readers of JSON take it.
func fold(name string) string {
	return strings.Map(func(r rune) rune {
		least := r
		for next := unicode.SimpleFold(r); next != r; next = unicode.SimpleFold(next) {
			least = min(least, next)
		}
		return least
	}, name)
}

// certain refuses names that a server may read as a governed one.
func (in *Input) certain(v any) error {
	switch v := v.(type) {
	case map[string]any:
		for name, member := range v {
			if like, has := in.folded[fold(name)]; has && !in.names[name] && !in.own[name] {
				return &ArgumentError{name, "it differs from " + like + " by its case only, and some servers do not tell them apart"}
			}
			if err := in.certain(member); err != nil {
				return err
			}
		}
	case []any:
		for _, member := range v {
			if err := in.certain(member); err != nil {
				return err
			}
		}
	}
	return nil
}

// Fill puts the pinned values among judged arguments and returns what is sent.
func (in *Input) Fill(args map[string]any) json.RawMessage {
	out := copyOf(args)
	for name, v := range in.pins {
		out[name] = v
	}
	return encode(out)
}

// Pinned are the names of the arguments that are filled in.
func (in *Input) Pinned() []string { return sortedKeys(in.pins) }

func argumentError(err error) error {
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) {
		return &ArgumentError{"", err.Error()}
	}
	leaf := deepest(v)
	return &ArgumentError{strings.Join(leaf.InstanceLocation, "."), explain(leaf)}
}

func deepest(v *jsonschema.ValidationError) *jsonschema.ValidationError {
	for len(v.Causes) > 0 {
		v = v.Causes[0]
	}
	return v
}

func explain(err error) string {
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) {
		return err.Error()
	}
	text := firstLine(deepest(v))
	if _, after, found := strings.Cut(text, "': "); found && strings.HasPrefix(text, "at '") {
		text = after
	}
	if _, after, found := strings.Cut(text, "- at '"); found {
		if _, rest, ok := strings.Cut(after, "': "); ok {
			text = rest
		}
	}
	if len(text) > 300 {
		text = strings.ToValidUTF8(text[:300], "") + "..."
	}
	return text
}
