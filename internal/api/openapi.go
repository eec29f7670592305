package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
)

func (a *API) serveDoc(w http.ResponseWriter, _ *call) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(a.doc)
}

type object = map[string]any

var paramRE = regexp.MustCompile(`\{([a-z]+)\}`)

// describe makes the OpenAPI 3.1 document from the table of routes.
func (a *API) describe() ([]byte, error) {
	schemas := &components{schemas: object{}, types: map[string]reflect.Type{}}
	paths := object{}
	failure := object{
		"description": "what went wrong, and what helps",
		"content":     object{"application/problem+json": object{"schema": schemas.of(reflect.TypeFor[apitype.Problem]())}},
	}
	for _, rt := range a.routes {
		op := object{
			"operationId": rt.id,
			"summary":     rt.summary,
			"responses":   object{strconv.Itoa(rt.status): success(rt, schemas), "default": failure},
		}
		params := []object{}
		for _, m := range paramRE.FindAllStringSubmatch(rt.path, -1) {
			params = append(params, object{"name": m[1], "in": "path", "required": true, "schema": object{"type": "string"}})
		}
		for _, q := range rt.query {
			params = append(params, object{"name": q.name, "in": "query", "description": q.doc, "schema": object{"type": "string"}})
		}
		if len(params) > 0 {
			op["parameters"] = params
		}
		if rt.in != nil {
			op["requestBody"] = object{
				"required": true,
				"content":  object{"application/json": object{"schema": schemas.of(reflect.TypeOf(rt.in))}},
			}
		}
		if rt.public {
			op["security"] = []object{}
		} else if roles := access.Roles(rt.action); !rt.self && len(roles) < len(team.Roles) {
			op["description"] = "For the roles " + roleWords(roles) + "."
		}
		item, ok := paths[rt.path].(object)
		if !ok {
			item = object{}
			paths[rt.path] = item
		}
		item[strings.ToLower(rt.method)] = op
	}
	if schemas.clash != nil {
		return nil, schemas.clash
	}
	return json.MarshalIndent(object{
		"openapi": "3.1.0",
		"info": object{
			"title":       "Bouncer",
			"version":     a.o.Version,
			"description": "The register, the rules and the journal of Bouncer.",
		},
		"servers":  []object{{"url": a.o.Address}},
		"security": []object{{"token": []string{}}, {"session": []string{}}},
		"paths":    paths,
		"components": object{"schemas": schemas.schemas, "securitySchemes": object{
			"token":   object{"type": "http", "scheme": "bearer"},
			"session": object{"type": "apiKey", "in": "cookie", "name": Cookie},
		}},
	}, "", "  ")
}

func success(rt route, schemas *components) object {
	switch {
	case rt.media == "text/event-stream":
		return answer(rt, rt.media, object{"type": "string"})
	case rt.media != "":
		return answer(rt, rt.media, object{"type": "string", "contentMediaType": rt.media})
	case rt.out == nil:
		return object{"description": "done"}
	}
	return answer(rt, "application/json", schemas.of(reflect.TypeOf(rt.out)))
}

func answer(rt route, media string, schema object) object {
	return object{"description": rt.summary, "content": object{media: object{"schema": schema}}}
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
				s["enum"] = strings.Split(enum, ",")
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
