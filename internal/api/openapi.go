package api

import (
	"encoding/json"
	"net/http"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/apitype"
)

func (a *API) serveDoc(w http.ResponseWriter, _ *call) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(a.doc)
}

type object = map[string]any

var paramRE = regexp.MustCompile(`\{([a-z]+)\}`)

// describe makes the OpenAPI 3.1 document from the table of routes.
func (a *API) describe() ([]byte, error) {
	schemas := object{}
	paths := object{}
	failure := object{
		"description": "what went wrong, and what helps",
		"content":     object{"application/problem+json": object{"schema": schemaOf(reflect.TypeFor[apitype.Problem](), schemas)}},
	}
	for _, rt := range a.routes {
		op := object{
			"operationId": rt.id,
			"summary":     rt.summary,
			"responses":   object{strconv.Itoa(rt.status): a.success(rt, schemas), "default": failure},
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
				"content":  object{"application/json": object{"schema": schemaOf(reflect.TypeOf(rt.in), schemas)}},
			}
		}
		if rt.public {
			op["security"] = []object{}
		} else if rt.roles != nil {
			op["description"] = "For the roles " + roleWords(rt.roles) + "."
		}
		item, ok := paths[rt.path].(object)
		if !ok {
			item = object{}
			paths[rt.path] = item
		}
		item[strings.ToLower(rt.method)] = op
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
		"components": object{"schemas": schemas, "securitySchemes": object{
			"token":   object{"type": "http", "scheme": "bearer"},
			"session": object{"type": "apiKey", "in": "cookie", "name": Cookie},
		}},
	}, "", "  ")
}

func (a *API) success(rt route, schemas object) object {
	if rt.out == nil {
		return object{"description": "done"}
	}
	media, schema := "application/json", schemaOf(reflect.TypeOf(rt.out), schemas)
	if rt.id == "events" {
		media = "text/event-stream"
	}
	return object{"description": rt.summary, "content": object{media: object{"schema": schema}}}
}

// schemaOf describes a Go type as JSON Schema 2020-12. Named structs become
// components; their doc and enum tags become description and enum.
func schemaOf(t reflect.Type, schemas object) object {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return object{"type": "string", "format": "date-time"}
	case t.Kind() == reflect.Pointer:
		return schemaOf(t.Elem(), schemas)
	case t.Kind() == reflect.Struct:
		name := strings.ToUpper(t.Name()[:1]) + t.Name()[1:]
		if _, ok := schemas[name]; !ok {
			schemas[name] = object{} // set before the fields, so that recursion ends
			schemas[name] = structSchema(t, schemas)
		}
		return object{"$ref": "#/components/schemas/" + name}
	case t.Kind() == reflect.Slice:
		return object{"type": "array", "items": schemaOf(t.Elem(), schemas)}
	case t.Kind() == reflect.Map:
		return object{"type": "object"}
	case t.Kind() == reflect.String:
		return object{"type": "string"}
	case t.Kind() == reflect.Bool:
		return object{"type": "boolean"}
	case t.Kind() == reflect.Float64:
		return object{"type": "number"}
	case t.Kind() == reflect.Int, t.Kind() == reflect.Int64:
		return object{"type": "integer"}
	}
	return object{}
}

func structSchema(t reflect.Type, schemas object) object {
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
			s := schemaOf(f.Type, schemas)
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
