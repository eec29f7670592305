// Package openapi describes the REST API as an OpenAPI 3.1 document. It is made from the
// same rows that requests are served by, and from the Go types of their bodies, so that it
// cannot say anything else than what is done.
package openapi

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Operation is one route: a method at a path.
type Operation struct {
	Method, Path string // of the path, parts in braces are parameters
	ID, Summary  string
	Description  string
	Public       bool // needs no sign-in
	Query        []Field
	In, Out      any    // zero values of the bodies; nil for none
	Status       int    // of success
	Media        string // of the answer, where it is no JSON
}

// Field is one parameter of the query.
type Field struct{ Name, Doc string }

// Service is what the document says of the whole.
type Service struct {
	Title, Version, Description string
	Address                     string // base URL
	Cookie                      string // name of the session's cookie
	Problem                     any    // zero value of the body that errors have (RFC 9457)
}

type object = map[string]any

var paramRE = regexp.MustCompile(`\{([a-z]+)\}`)

// Describe makes the document. It fails when two types want the name of one component.
func Describe(service Service, operations []Operation) ([]byte, error) {
	schemas := &components{schemas: object{}, types: map[string]reflect.Type{}}
	paths := object{}
	failure := object{
		"description": "what went wrong, and what helps",
		"content":     object{"application/problem+json": object{"schema": schemas.of(reflect.TypeOf(service.Problem))}},
	}
	for _, op := range operations {
		item, ok := paths[op.Path].(object)
		if !ok {
			item = object{}
			paths[op.Path] = item
		}
		item[strings.ToLower(op.Method)] = described(op, failure, schemas)
	}
	if schemas.clash != nil {
		return nil, schemas.clash
	}
	return json.MarshalIndent(object{
		"openapi":  "3.1.0",
		"info":     object{"title": service.Title, "version": service.Version, "description": service.Description},
		"servers":  []object{{"url": service.Address}},
		"security": []object{{"token": []string{}}, {"session": []string{}}},
		"paths":    paths,
		"components": object{"schemas": schemas.schemas, "securitySchemes": object{
			"token":   object{"type": "http", "scheme": "bearer"},
			"session": object{"type": "apiKey", "in": "cookie", "name": service.Cookie},
		}},
	}, "", "  ")
}

func described(op Operation, failure object, schemas *components) object {
	out := object{
		"operationId": op.ID,
		"summary":     op.Summary,
		"responses":   object{strconv.Itoa(op.Status): success(op, schemas), "default": failure},
	}
	params := []object{}
	for _, m := range paramRE.FindAllStringSubmatch(op.Path, -1) {
		params = append(params, object{"name": m[1], "in": "path", "required": true, "schema": object{"type": "string"}})
	}
	for _, q := range op.Query {
		params = append(params, object{"name": q.Name, "in": "query", "description": q.Doc, "schema": object{"type": "string"}})
	}
	if len(params) > 0 {
		out["parameters"] = params
	}
	if op.In != nil {
		out["requestBody"] = object{
			"required": true,
			"content":  object{"application/json": object{"schema": schemas.of(reflect.TypeOf(op.In))}},
		}
	}
	if op.Public {
		out["security"] = []object{}
	}
	if op.Description != "" {
		out["description"] = op.Description
	}
	return out
}

func success(op Operation, schemas *components) object {
	switch {
	case op.Media == "text/event-stream":
		return answer(op, op.Media, object{"type": "string"})
	case op.Media != "":
		return answer(op, op.Media, object{"type": "string", "contentMediaType": op.Media})
	case op.Out == nil:
		return object{"description": "done"}
	}
	return answer(op, "application/json", schemas.of(reflect.TypeOf(op.Out)))
}

func answer(op Operation, media string, schema object) object {
	return object{"description": op.Summary, "content": object{media: object{"schema": schema}}}
}

// components are the named schemas of the document. Programs are generated from
// their names, so that one name must always be the same type.
type components struct {
	schemas object
	types   map[string]reflect.Type
	clash   error // two types want one name
}

// of describes a Go type as JSON Schema 2020-12. Named structs become components;
// their doc and enum tags become description and enum.
func (c *components) of(t reflect.Type) object {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return object{"type": "string", "format": "date-time"}
	case t == reflect.TypeFor[json.RawMessage]():
		return object{} // anything
	case t.Kind() == reflect.Pointer:
		return c.of(t.Elem())
	case t.Kind() == reflect.Struct:
		return c.named(t)
	case t.Kind() == reflect.Slice:
		return object{"type": "array", "items": c.of(t.Elem())}
	case t.Kind() == reflect.Map:
		return object{"type": "object", "additionalProperties": c.of(t.Elem())}
	case t.Kind() == reflect.String:
		return object{"type": "string"}
	case t.Kind() == reflect.Bool:
		return object{"type": "boolean"}
	case t.Kind() == reflect.Float64:
		return object{"type": "number"}
	case t.Kind() == reflect.Int, t.Kind() == reflect.Int64, t.Kind() == reflect.Uint64:
		return object{"type": "integer"}
	}
	return object{}
}

func (c *components) named(t reflect.Type) object {
	name := strings.ToUpper(t.Name()[:1]) + t.Name()[1:]
	if known, ok := c.types[name]; !ok {
		c.types[name] = t // set before the fields, so that recursion ends
		c.schemas[name] = c.fields(t)
	} else if known != t {
		c.clash = fmt.Errorf("describe the API: %s and %s want the same name %s", known, t, name)
	}
	return object{"$ref": "#/components/schemas/" + name}
}

func (c *components) fields(t reflect.Type) object {
	props, required := object{}, []string{}
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for i := range t.NumField() {
			f := t.Field(i)
			if f.Anonymous {
				walk(f.Type)
				continue
			}
			name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			if name == "-" {
				continue
			}
			s := c.of(f.Type)
			if enum := f.Tag.Get("enum"); enum != "" {
				of := s
				if items, list := s["items"].(object); list {
					of = items
				}
				of["enum"] = strings.Split(enum, ",")
			}
			if doc := f.Tag.Get("doc"); doc != "" {
				s["description"] = doc
			}
			props[name] = s
			if !strings.Contains(options, "omitempty") {
				required = append(required, name)
			}
		}
	}
	walk(t)
	return object{"type": "object", "properties": props, "required": required, "additionalProperties": false}
}
