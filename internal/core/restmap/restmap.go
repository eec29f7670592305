// Package restmap turns an OpenAPI document (3.0 or 3.1, JSON or YAML) into
// tools, and the call of a tool into an HTTP request.
//
// A Document lists the operations of a REST API. Each Operation has one input
// schema, made of its parameters and its body with references resolved, and
// knows how its arguments are laid out in a request. Nothing is fetched:
// references to other documents are errors.
package restmap

import (
	"encoding/json"
	"fmt"
	"iter"
	"regexp"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Limits on a document.
const (
	MaxDocument   = 8 << 20 // bytes
	maxOperations = 5_000
	maxDepth      = 60
	maxNodes      = 20_000 // of one operation's schema, with references resolved
)

// Error says what is wrong with a document, and where.
type Error struct {
	Line, Column int
	What         string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.What
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.What)
}

// Document is an OpenAPI document that was read.
type Document struct {
	Title, Version, Description string
	// Server is the first server's address; it may be relative.
	Server     string
	Schemes    []Scheme
	Operations []*Operation

	root *yaml.Node
	old  bool // 3.0
}

// Scheme is a way in which the API wants a credential.
type Scheme struct {
	Name string `json:"name"`
	Kind string `json:"kind" enum:"bearer,basic,header,query,cookie,other" doc:"how the credential is sent"`
	In   string `json:"in,omitempty" doc:"name of the header, parameter or cookie that carries it"`
}

// Operation is one operation of the API.
type Operation struct {
	// ID is its operationId, or "METHOD /path" where it has none.
	ID, Method, Path     string
	Summary, Description string
	Deprecated           bool
	// Problem says why it cannot be a tool; "" when it can.
	Problem string
	// Input is the JSON Schema of the arguments.
	Input json.RawMessage

	params []param
	body   *body
}

// param is where one argument goes.
type param struct {
	arg, name, in string
	required      bool
	style         string
	explode       bool
	json          bool // encoded as JSON, whatever it is
}

// body is how the body is made of the arguments.
type body struct {
	media    string
	arg      string   // the argument that is the whole body; "" when it is made of fields
	fields   []string // arguments that are members of the body
	need     []string // those of them that have to be there
	required bool
}

// ReadOnly reports whether the method promises to change nothing (RFC 9110,
// section 9.2.1).
func (o *Operation) ReadOnly() bool {
	return o.Method == "GET" || o.Method == "HEAD" || o.Method == "OPTIONS"
}

// Destructive reports whether what the method does may be hard to undo.
func (o *Operation) Destructive() bool { return o.Method == "DELETE" || o.Method == "PUT" }

// Idempotent reports whether doing it twice is the same as once (RFC 9110,
// section 9.2.2).
func (o *Operation) Idempotent() bool {
	return o.ReadOnly() || o.Method == "PUT" || o.Method == "DELETE"
}

var methods = []string{"get", "put", "post", "delete", "options", "head", "patch"}

// Parse reads a document. The error is an *Error.
func Parse(raw []byte) (*Document, error) {
	if len(raw) > MaxDocument {
		return nil, &Error{What: fmt.Sprintf("the document is larger than %d MiB", MaxDocument>>20)}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(raw, &doc); err != nil {
		line := 0
		if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
			_, _ = fmt.Sscan(m[1], &line)
		}
		return nil, &Error{
			Line:   line,
			Column: 1,
			What:   "this is neither JSON nor YAML: " + yamlLine.ReplaceAllString(strings.TrimPrefix(err.Error(), "yaml: "), ""),
		}
	}
	if len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return nil, &Error{What: "the document is no object; an OpenAPI document begins with openapi: 3.x"}
	}
	d := &Document{root: doc.Content[0]}
	if err := d.expansion(&doc, 0, new(int)); err != nil {
		return nil, err
	}
	version := d.root
	switch v := get(d.root, "openapi"); {
	case v == nil && get(d.root, "swagger") != nil:
		return nil, at(get(d.root, "swagger"), "this is OpenAPI 2; convert it to 3.0 or 3.1 first")
	case v == nil:
		return nil, at(version, "the member openapi is missing; this is no OpenAPI document")
	case strings.HasPrefix(v.Value, "3.0"):
		d.old = true
	case !strings.HasPrefix(v.Value, "3.1"):
		return nil, at(v, fmt.Sprintf("OpenAPI %.20q is not supported; 3.0 and 3.1 are", v.Value))
	}
	info := get(d.root, "info")
	d.Title, d.Version, d.Description = text(info, "title"), text(info, "version"), text(info, "description")
	if servers := get(d.root, "servers"); servers != nil && servers.Kind == yaml.SequenceNode && len(servers.Content) > 0 {
		d.Server = serverURL(servers.Content[0])
	}
	d.readSchemes()
	paths := get(d.root, "paths")
	if paths == nil || paths.Kind != yaml.MappingNode {
		return nil, at(d.root, "the member paths is missing or no object")
	}
	seen := map[string]*Operation{}
	for path, item := range members(paths) {
		if err := d.readPath(path, item, seen); err != nil {
			return nil, err
		}
	}
	if len(d.Operations) == 0 {
		return nil, at(paths, "the document has no operations")
	}
	sort.SliceStable(d.Operations, func(i, j int) bool { return d.Operations[i].Path < d.Operations[j].Path })
	return d, nil
}

var yamlLine = regexp.MustCompile(`line (\d+):? ?`)

// expansion bounds what aliases may unfold to.
func (d *Document) expansion(n *yaml.Node, depth int, count *int) error {
	if *count++; depth > 200 || *count > 1_000_000 {
		return at(n, "the document is nested too deeply, or its aliases unfold to too much")
	}
	for _, c := range n.Content {
		if err := d.expansion(c, depth+1, count); err != nil {
			return err
		}
	}
	if n.Kind == yaml.AliasNode {
		return d.expansion(n.Alias, depth+1, count)
	}
	return nil
}

func at(n *yaml.Node, what string) *Error {
	if n == nil {
		return &Error{What: what}
	}
	return &Error{Line: n.Line, Column: n.Column, What: what}
}

// get returns a member of an object, nil when it is not there.
func get(n *yaml.Node, key string) *yaml.Node {
	if n = plain(n); n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for name, value := range members(n) {
		if name.Value == key {
			return plain(value)
		}
	}
	return nil
}

// members are the names and values of an object, in their order.
func members(n *yaml.Node) iter.Seq2[*yaml.Node, *yaml.Node] {
	return func(yield func(name, value *yaml.Node) bool) {
		for pair := range slices.Chunk(n.Content, 2) {
			if !yield(pair[0], pair[1]) {
				return
			}
		}
	}
}

func plain(n *yaml.Node) *yaml.Node {
	if n != nil && n.Kind == yaml.AliasNode {
		return n.Alias
	}
	return n
}

func text(n *yaml.Node, key string) string {
	if v := get(n, key); v != nil && v.Kind == yaml.ScalarNode {
		return v.Value
	}
	return ""
}

func isTrue(n *yaml.Node, key string) bool { return text(n, key) == "true" }

// serverURL fills a server's variables in with their defaults.
func serverURL(n *yaml.Node) string {
	url := text(n, "url")
	vars := get(n, "variables")
	if vars != nil && vars.Kind == yaml.MappingNode {
		for name, value := range members(vars) {
			url = strings.ReplaceAll(url, "{"+name.Value+"}", text(value, "default"))
		}
	}
	return url
}

func (d *Document) readSchemes() {
	list := get(get(d.root, "components"), "securitySchemes")
	if list == nil || list.Kind != yaml.MappingNode {
		return
	}
	for name, value := range members(list) {
		n, err := d.resolve(value)
		if err != nil {
			continue // a scheme that cannot be read is one that is not used
		}
		s := Scheme{Name: name.Value, Kind: "other"}
		switch text(n, "type") {
		case "http":
			if k := strings.ToLower(text(n, "scheme")); k == "bearer" || k == "basic" {
				s.Kind = k
			}
		case "apiKey":
			s.Kind, s.In = text(n, "in"), text(n, "name")
		case "oauth2", "openIdConnect":
			s.Kind = "bearer"
		}
		d.Schemes = append(d.Schemes, s)
	}
}

// resolve follows references within the document.
func (d *Document) resolve(n *yaml.Node) (*yaml.Node, *Error) {
	for hops := 0; ; hops++ {
		n = plain(n)
		ref := get(n, "$ref")
		if ref == nil {
			return n, nil
		}
		if hops > 20 {
			return nil, at(ref, "the reference leads in a circle")
		}
		to, err := d.find(ref)
		if err != nil {
			return nil, err
		}
		n = to
	}
}

// find returns what a local reference points to (RFC 6901).
func (d *Document) find(ref *yaml.Node) (*yaml.Node, *Error) {
	path, ok := strings.CutPrefix(ref.Value, "#/")
	if !ok {
		return nil, at(ref, fmt.Sprintf("the reference %.80q leads out of the document; put everything into one document first", ref.Value))
	}
	n := d.root
	for _, part := range strings.Split(path, "/") {
		key := strings.ReplaceAll(strings.ReplaceAll(part, "~1", "/"), "~0", "~")
		next := get(n, key)
		if next == nil && n != nil && n.Kind == yaml.SequenceNode {
			i := -1
			if _, err := fmt.Sscan(key, &i); err == nil && i >= 0 && i < len(n.Content) {
				next = plain(n.Content[i])
			}
		}
		if n = next; n == nil {
			return nil, at(ref, fmt.Sprintf("the reference %.80q points to nothing", ref.Value))
		}
	}
	return n, nil
}

func (d *Document) readPath(key, value *yaml.Node, seen map[string]*Operation) error {
	if strings.HasPrefix(key.Value, "x-") {
		return nil
	}
	if !strings.HasPrefix(key.Value, "/") {
		return at(key, fmt.Sprintf("the path %.80q must begin with /", key.Value))
	}
	item, bad := d.resolve(value)
	if bad != nil {
		return bad
	}
	for _, m := range methods {
		n := get(item, m)
		if n == nil {
			continue
		}
		if len(d.Operations) == maxOperations {
			return at(n, fmt.Sprintf("the document has more than %d operations", maxOperations))
		}
		o := &Operation{
			ID:          text(n, "operationId"),
			Method:      strings.ToUpper(m),
			Path:        key.Value,
			Summary:     text(n, "summary"),
			Description: text(n, "description"),
			Deprecated:  isTrue(n, "deprecated"),
		}
		if o.ID == "" {
			o.ID = o.Method + " " + o.Path
		}
		if twin := seen[o.ID]; twin != nil {
			return at(get(n, "operationId"), fmt.Sprintf("the operationId %.80q is used twice", o.ID))
		}
		seen[o.ID] = o
		if err := d.readOperation(o, item, n); err != nil {
			return err
		}
		d.Operations = append(d.Operations, o)
	}
	return nil
}

// Find returns the operation with an id, nil when there is none.
func (d *Document) Find(id string) *Operation {
	for _, o := range d.Operations {
		if o.ID == id {
			return o
		}
	}
	return nil
}

// readParameter reads one parameter and its schema; nil for one that agents do not set.
func (d *Document) readParameter(o *Operation, p *yaml.Node, conv *converter) (*param, map[string]any, error) {
	q := &param{name: text(p, "name"), in: text(p, "in"), required: isTrue(p, "required"), style: text(p, "style")}
	if q.name == "" {
		return nil, nil, at(p, "a parameter has no name")
	}
	if in := strings.ToLower(q.name); q.in == "header" && (in == "accept" || in == "content-type" || in == "authorization") {
		return nil, nil, nil // described elsewhere in the document, and not for agents to set
	}
	switch q.in {
	case "path":
		q.required = true
		if !strings.Contains(o.Path, "{"+q.name+"}") {
			return nil, nil, at(p, fmt.Sprintf("the path %s has no {%s}", o.Path, q.name))
		}
	case "query", "header", "cookie":
	default:
		return nil, nil, at(p, fmt.Sprintf("the parameter %s is in %.20q; it must be in path, query, header or cookie", q.name, q.in))
	}
	if q.style == "" {
		q.style = map[string]string{"path": "simple", "header": "simple", "query": "form", "cookie": "form"}[q.in]
	}
	q.explode = q.style == "form"
	if e := get(p, "explode"); e != nil {
		q.explode = e.Value == "true"
	}
	schema := get(p, "schema")
	if content := get(p, "content"); schema == nil && content != nil && content.Kind == yaml.MappingNode && len(content.Content) > 0 {
		schema, q.json = get(content.Content[1], "schema"), true
	}
	s, bad := conv.schema(schema, nil, 0)
	if bad != nil {
		return nil, nil, bad
	}
	m, ok := s.(map[string]any)
	if !ok {
		m = map[string]any{}
	}
	if about := text(p, "description"); about != "" && m["description"] == nil {
		m["description"] = about
	}
	q.arg = q.name
	return q, m, nil
}

// readOperation reads parameters and body and makes one input schema of them.
func (d *Document) readOperation(o *Operation, item, n *yaml.Node) error {
	props, required := map[string]any{}, []string{}
	conv := &converter{d: d}
	var nodes []*yaml.Node
	for _, list := range []*yaml.Node{get(item, "parameters"), get(n, "parameters")} {
		if list != nil && list.Kind == yaml.SequenceNode {
			nodes = append(nodes, list.Content...)
		}
	}
	// An operation's own parameter replaces that of its path.
	at2 := map[string]int{}
	var params []*yaml.Node
	for _, raw := range nodes {
		p, bad := d.resolve(raw)
		if bad != nil {
			return bad
		}
		key := text(p, "in") + " " + text(p, "name")
		if i, twice := at2[key]; twice {
			params[i] = p
			continue
		}
		at2[key] = len(params)
		params = append(params, p)
	}
	for _, p := range params {
		q, schema, bad := d.readParameter(o, p, conv)
		if bad != nil {
			return bad
		}
		if q == nil {
			continue
		}
		if _, taken := props[q.arg]; taken {
			q.arg = q.in + "_" + q.name
		}
		props[q.arg] = schema
		if q.required {
			required = append(required, q.arg)
		}
		o.params = append(o.params, *q)
	}
	for _, m := range pathParam.FindAllStringSubmatch(o.Path, -1) {
		if _, there := at2["path "+m[1]]; !there {
			return at(n, fmt.Sprintf("the path parameter {%s} is not described", m[1]))
		}
	}
	more, err := d.readBody(o, n, conv, props)
	if err != nil {
		return err
	}
	required = append(required, more...)
	sort.Strings(required)
	schema := map[string]any{"type": "object", "properties": props, "additionalProperties": false}
	if len(required) > 0 {
		schema["required"] = required
	}
	if len(conv.defs) > 0 {
		schema["$defs"] = conv.defs
	}
	raw, e := json.Marshal(schema)
	if e != nil {
		return at(n, "the schema cannot be written: "+e.Error())
	}
	o.Input = raw
	return nil
}

var pathParam = regexp.MustCompile(`\{([^{}]+)\}`)

// readBody adds the body's members, or the body as a whole, to the arguments.
func (d *Document) readBody(o *Operation, n *yaml.Node, conv *converter, props map[string]any) (required []string, err error) {
	raw := get(n, "requestBody")
	if raw == nil {
		return nil, nil
	}
	rb, bad := d.resolve(raw)
	if bad != nil {
		return nil, bad
	}
	content := get(rb, "content")
	if content == nil || content.Kind != yaml.MappingNode || len(content.Content) == 0 {
		return nil, at(rb, "the request body has no content")
	}
	media, node := chooseMedia(content)
	if media == "" {
		o.Problem = "its body is " + content.Content[0].Value + ", which cannot be made of arguments"
		return nil, nil
	}
	s, bad := conv.schema(get(node, "schema"), nil, 0)
	if bad != nil {
		return nil, bad
	}
	b := &body{media: media, required: isTrue(rb, "required")}
	o.body = b
	m, _ := s.(map[string]any)
	fields, _ := m["properties"].(map[string]any)
	flat := m["type"] == "object" && len(fields) > 0 && m["allOf"] == nil && m["oneOf"] == nil && m["anyOf"] == nil && media != "text/plain"
	for name := range fields {
		if _, taken := props[name]; taken {
			flat = false
		}
	}
	if !flat {
		b.arg = "body"
		for i := 2; props[b.arg] != nil; i++ {
			b.arg = fmt.Sprintf("body%d", i)
		}
		if m == nil {
			m = map[string]any{}
		}
		if about := text(rb, "description"); about != "" && m["description"] == nil {
			m["description"] = about
		}
		props[b.arg] = m
		if b.required {
			required = append(required, b.arg)
		}
		return required, nil
	}
	for name, f := range fields {
		props[name] = f
		b.fields = append(b.fields, name)
	}
	sort.Strings(b.fields)
	if list, ok := m["required"].([]any); ok && b.required {
		for _, r := range list {
			if name, ok := r.(string); ok && fields[name] != nil {
				required = append(required, name)
				b.need = append(b.need, name)
			}
		}
	}
	return required, nil
}

// chooseMedia returns the best media type that a body can be made in.
func chooseMedia(content *yaml.Node) (string, *yaml.Node) {
	best, media, node := 0, "", (*yaml.Node)(nil)
	for key, value := range members(content) {
		name, _, _ := strings.Cut(strings.ToLower(key.Value), ";")
		rank := 0
		switch name = strings.TrimSpace(name); {
		case name == "application/json", name == "*/*":
			rank, name = 4, "application/json"
		case strings.HasSuffix(name, "+json"):
			rank = 3
		case name == "application/x-www-form-urlencoded":
			rank = 2
		case name == "text/plain":
			rank = 1
		}
		if rank > best {
			best, media, node = rank, name, plain(value)
		}
	}
	return media, node
}

// converter makes JSON Schema 2020-12 of a document's schemas.
type converter struct {
	d     *Document
	nodes int
	defs  map[string]any // schemas that hold themselves
}

// schema converts one schema. stack are the references being resolved.
// It is one switch over what a schema can be.
func (c *converter) schema(n *yaml.Node, stack []string, depth int) (any, *Error) {
	n = plain(n)
	if n == nil {
		return map[string]any{}, nil
	}
	if c.nodes++; c.nodes > maxNodes || depth > maxDepth {
		return nil, at(n, "the schema unfolds to too much; describe the operation with a smaller one")
	}
	if n.Kind == yaml.ScalarNode && (n.Value == "true" || n.Value == "false") {
		return n.Value == "true", nil
	}
	if n.Kind != yaml.MappingNode {
		return nil, at(n, "a schema must be an object")
	}
	if ref := get(n, "$ref"); ref != nil {
		return c.reference(ref, stack, depth)
	}
	out := map[string]any{}
	for name, value := range members(n) {
		key, v := name.Value, plain(value)
		switch key {
		case "discriminator", "xml", "externalDocs", "example", "nullable":
			continue // not of JSON Schema
		case "properties", "patternProperties", "dependentSchemas":
			if v.Kind != yaml.MappingNode {
				return nil, at(v, key+" must be an object")
			}
			m := map[string]any{}
			for name, property := range members(v) {
				if isTrue(property, "readOnly") {
					continue // answers have it, requests do not
				}
				s, err := c.schema(property, stack, depth+1)
				if err != nil {
					return nil, err
				}
				m[name.Value] = s
			}
			out[key] = m
		case "items", "additionalProperties", "not", "contains", "propertyNames", "if", "then", "else",
			"unevaluatedProperties", "unevaluatedItems":
			s, err := c.schema(v, stack, depth+1)
			if err != nil {
				return nil, err
			}
			out[key] = s
		case "allOf", "anyOf", "oneOf", "prefixItems":
			if v.Kind != yaml.SequenceNode {
				return nil, at(v, key+" must be a list")
			}
			list := []any{}
			for _, e := range v.Content {
				s, err := c.schema(e, stack, depth+1)
				if err != nil {
					return nil, err
				}
				list = append(list, s)
			}
			out[key] = list
		default:
			var any any
			if err := v.Decode(&any); err != nil {
				return nil, at(v, key+" cannot be read")
			}
			if _, err := json.Marshal(any); err != nil {
				return nil, at(v, key+" is not JSON")
			}
			out[key] = any
		}
	}
	c.trim(n, out)
	return out, nil
}

// trim makes a schema of OpenAPI 3.0 one of JSON Schema, and drops requirements
// of members that requests do not have.
func (c *converter) trim(n *yaml.Node, out map[string]any) {
	if c.d.old {
		for key, limit := range map[string]string{"exclusiveMinimum": "minimum", "exclusiveMaximum": "maximum"} {
			if b, ok := out[key].(bool); ok {
				delete(out, key)
				if b && out[limit] != nil {
					out[key] = out[limit]
					delete(out, limit)
				}
			}
		}
		if t, ok := out["type"].(string); ok && isTrue(n, "nullable") {
			out["type"] = []any{t, "null"}
			if list, ok := out["enum"].([]any); ok {
				out["enum"] = append(list, nil)
			}
		}
	}
	props, _ := out["properties"].(map[string]any)
	list, ok := out["required"].([]any)
	if !ok || props == nil {
		return
	}
	kept := []any{}
	source := get(n, "properties")
	for _, r := range list {
		name, _ := r.(string)
		if _, there := props[name]; there || get(source, name) == nil {
			kept = append(kept, r)
		}
	}
	if len(kept) == 0 {
		delete(out, "required")
	} else {
		out["required"] = kept
	}
}

// reference puts what a reference points to in its place. A schema that holds
// itself becomes a definition.
func (c *converter) reference(ref *yaml.Node, stack []string, depth int) (any, *Error) {
	for _, s := range stack {
		if s != ref.Value {
			continue
		}
		name := ref.Value[strings.LastIndexByte(ref.Value, '/')+1:]
		if c.defs == nil {
			c.defs = map[string]any{}
		}
		if _, there := c.defs[name]; !there {
			c.defs[name] = map[string]any{} // set first, so that recursion ends
			n, err := c.d.find(ref)
			if err != nil {
				return nil, err
			}
			s, err := c.schema(n, []string{ref.Value}, depth+1)
			if err != nil {
				return nil, err
			}
			c.defs[name] = s
		}
		return map[string]any{"$ref": "#/$defs/" + name}, nil
	}
	n, err := c.d.find(ref)
	if err != nil {
		return nil, err
	}
	return c.schema(n, append(append([]string(nil), stack...), ref.Value), depth+1)
}
