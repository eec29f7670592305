package restmap

import (
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func parse(t *testing.T, doc string) *Document {
	t.Helper()
	d, err := Parse([]byte(doc))
	require.NoError(t, err)
	return d
}

// api is a document with one operation; rest is what belongs to it, in YAML flow
// style.
func api(version, path, method, rest string) string {
	return "openapi: " + version + "\ninfo: {title: Harbour, version: '1'}\nservers: [{url: 'https://{host}/v1', variables: {host: {default: api.example}}}]\npaths:\n  " + path + ":\n    " + method + ": " + rest + "\n"
}

func TestBadDocumentsAreToldWithTheirPlace(t *testing.T) {
	ok := "responses: {}"
	for name, row := range map[string]struct {
		doc, says string
		line      int
	}{
		"no document at all":       {"", "no object", 0},
		"a list":                   {"[1]", "no object", 0},
		"broken YAML":              {"openapi: 3.1.0\npaths: {\n", "neither JSON nor YAML", 2},
		"broken JSON":              {`{"openapi":"3.1.0",`, "neither JSON nor YAML", 1},
		"no version":               {"info: {}\npaths: {}", "openapi is missing", 1},
		"OpenAPI 2":                {"swagger: '2.0'", "convert it", 1},
		"a later version":          {"openapi: 4.0.0\npaths: {}", "not supported", 1},
		"no paths":                 {"openapi: 3.1.0\ninfo: {}", "paths is missing", 1},
		"no operations":            {"openapi: 3.1.0\npaths: {}", "no operations", 2},
		"a path without a slash":   {api("3.1.0", "items", "get", "{"+ok+"}"), "must begin with /", 5},
		"a reference to nothing":   {api("3.1.0", "/a", "get", "{parameters: [{$ref: '#/components/parameters/x'}]}"), "points to nothing", 6},
		"a reference to elsewhere": {api("3.1.0", "/a", "get", "{parameters: [{$ref: 'other.yaml#/x'}]}"), "leads out of the document", 6},
		"a parameter nowhere":      {api("3.1.0", "/a", "get", "{parameters: [{name: x, in: moon}]}"), "must be in path", 6},
		"a nameless parameter":     {api("3.1.0", "/a", "get", "{parameters: [{in: query}]}"), "no name", 6},
		"a path parameter missing": {api("3.1.0", "/a/{id}", "get", "{"+ok+"}"), "{id} is not described", 6},
		"one that is not in it":    {api("3.1.0", "/a", "get", "{parameters: [{name: id, in: path}]}"), "has no {id}", 6},
		"a body without content":   {api("3.1.0", "/a", "post", "{requestBody: {}}"), "no content", 6},
		"a schema that is a text":  {api("3.1.0", "/a", "get", "{parameters: [{name: x, in: query, schema: hello}]}"), "must be an object", 6},
		"a name used twice":        {api("3.1.0", "/a", "get", "{operationId: x}") + "    put: {operationId: x}\n", "used twice", 7},
		"aliases without an end":   {"openapi: 3.1.0\na: &a [x, x, x, x, x, x, x, x, x, x]\nb: &b [*a, *a, *a, *a, *a, *a, *a, *a, *a, *a]\nc: &c [*b, *b, *b, *b, *b, *b, *b, *b, *b, *b]\nd: &d [*c, *c, *c, *c, *c, *c, *c, *c, *c, *c]\ne: &e [*d, *d, *d, *d, *d, *d, *d, *d, *d, *d]\nf: [*e, *e, *e, *e, *e, *e, *e, *e, *e, *e]\npaths: {}", "unfold", 0},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Parse([]byte(row.doc))
			var e *Error
			if !assert.ErrorAs(t, err, &e) {
				return
			}
			assert.Contains(t, e.Error(), row.says)
			if row.line > 0 {
				assert.Equal(t, row.line, e.Line, e.Error())
			}
		})
	}
}

func TestSchemasAreResolved(t *testing.T) {
	d := parse(t, `
openapi: 3.0.3
info: {title: Harbour, version: '2'}
servers: [{url: /v1}]
components:
  securitySchemes:
    key: {type: apiKey, in: header, name: X-Key}
    token: {type: http, scheme: Bearer}
    who: {$ref: '#/components/securitySchemes/token'}
  schemas:
    Age: {type: integer, minimum: 0, exclusiveMinimum: true, nullable: true, example: 7}
    Kind: {type: string, enum: [a, b], nullable: true}
    Node:
      type: object
      required: [name, id]
      properties:
        id: {type: string, readOnly: true}
        name: {type: string}
        age: {$ref: '#/components/schemas/Age'}
        children: {type: array, items: {$ref: '#/components/schemas/Node'}}
      discriminator: {propertyName: name}
paths:
  /nodes:
    parameters: [{name: trace, in: header, schema: {type: string}}, {name: Authorization, in: header, schema: {type: string}}]
    post:
      operationId: addNode
      parameters: [{name: trace, in: header, required: true, description: where from, schema: {$ref: '#/components/schemas/Kind'}}]
      requestBody: {required: true, content: {application/json; charset=utf-8: {schema: {$ref: '#/components/schemas/Node'}}}}
`)
	assert.Equal(t, []Scheme{{"key", "header", "X-Key"}, {"token", "bearer", ""}, {"who", "bearer", ""}}, d.Schemes)
	assert.Equal(t, "/v1", d.Server)
	o := d.Find("addNode")
	require.NotNil(t, o)
	assert.JSONEq(t, `{"type":"object","additionalProperties":false,"required":["name","trace"],"properties":{
		"trace":{"type":["string","null"],"enum":["a","b",null],"description":"where from"},
		"name":{"type":"string"},"age":{"type":["integer","null"],"exclusiveMinimum":0},
		"children":{"type":"array","items":{"$ref":"#/$defs/Node"}}},
		"$defs":{"Node":{"type":"object","required":["name"],"properties":{"name":{"type":"string"},"age":{"type":["integer","null"],"exclusiveMinimum":0},"children":{"type":"array","items":{"$ref":"#/$defs/Node"}}}}}}`, string(o.Input))
	assert.False(t, o.ReadOnly())
	assert.Equal(t, "https://api.example/v1", parse(t, api("3.1.0", "/a", "get", "{}")).Server)
	deep := api(
		"3.1.0",
		"/a",
		"get",
		"{parameters: [{name: x, in: query, schema: "+strings.Repeat("{items: ", 80)+"{}"+strings.Repeat("}", 80)+"}]}",
	)
	_, err := Parse([]byte(deep))
	assert.ErrorContains(t, err, "unfolds to too much")
}

func TestArgumentsAreLaidOut(t *testing.T) {
	for name, row := range map[string]struct {
		path, method, rest, args string
		want                     Request
		err                      string
	}{
		"a path parameter is escaped":        {"/items/{id}", "get", "{parameters: [{name: id, in: path, schema: {type: string}}]}", `{"id":"a/b c?"}`, Request{Path: "/items/a%2Fb%20c%3F"}, ""},
		"a list in the path":                 {"/items/{id}", "get", "{parameters: [{name: id, in: path}]}", `{"id":[1,2]}`, Request{Path: "/items/1%2C2"}, ""},
		"an empty path parameter":            {"/items/{id}", "get", "{parameters: [{name: id, in: path}]}", `{"id":""}`, Request{}, "cannot stand in the path"},
		"a path that climbs":                 {"/items/{id}", "get", "{parameters: [{name: id, in: path}]}", `{"id":".."}`, Request{}, "cannot stand in the path"},
		"a path that climbs, behind a slash": {"/items/{id}", "get", "{parameters: [{name: id, in: path}]}", `{"id":"../admin/keys"}`, Request{}, "cannot stand in the path"},
		"a path that climbs when decoded":    {"/items/{id}", "get", "{parameters: [{name: id, in: path}]}", `{"id":"a/%2e%2e/keys"}`, Request{}, "cannot stand in the path"},
		"two that climb together":            {"/items/{a}{b}/x", "get", "{parameters: [{name: a, in: path}, {name: b, in: path}]}", `{"a":"..","b":"x"}`, Request{}, "cannot stand in the path"},
		"a query list, exploded":             {"/a", "get", "{parameters: [{name: c, in: query}]}", `{"c":["x","y&z"]}`, Request{Path: "/a", Query: url.Values{"c": {"x", "y&z"}}}, ""},
		"a query list, joined":               {"/a", "get", "{parameters: [{name: c, in: query, explode: false}]}", `{"c":["x","y"]}`, Request{Path: "/a", Query: url.Values{"c": {"x,y"}}}, ""},
		"a query list with pipes":            {"/a", "get", "{parameters: [{name: c, in: query, style: pipeDelimited}]}", `{"c":["x","y"]}`, Request{Path: "/a", Query: url.Values{"c": {"x|y"}}}, ""},
		"a deep object":                      {"/a", "get", "{parameters: [{name: f, in: query, style: deepObject}]}", `{"f":{"b":2,"a":"x"}}`, Request{Path: "/a", Query: url.Values{"f[a]": {"x"}, "f[b]": {"2"}}}, ""},
		"an object in the query":             {"/a", "get", "{parameters: [{name: f, in: query}]}", `{"f":{"a":1}}`, Request{Path: "/a", Query: url.Values{"a": {"1"}}}, ""},
		"JSON in the query":                  {"/a", "get", "{parameters: [{name: f, in: query, content: {application/json: {schema: {}}}}]}", `{"f":{"a":[1]}}`, Request{Path: "/a", Query: url.Values{"f": {`{"a":[1]}`}}}, ""},
		"numbers and booleans":               {"/a", "get", "{parameters: [{name: n, in: query}, {name: b, in: query}]}", `{"n":12345678901234567890,"b":true}`, Request{Path: "/a", Query: url.Values{"n": {"12345678901234567890"}, "b": {"true"}}}, ""},
		"null is left out":                   {"/a", "get", "{parameters: [{name: n, in: query}]}", `{"n":null}`, Request{Path: "/a"}, ""},
		"a missing one":                      {"/a", "get", "{parameters: [{name: n, in: query, required: true}]}", `{}`, Request{}, "argument n is missing"},
		"one that nobody knows":              {"/a", "get", "{parameters: [{name: n, in: query}]}", `{"m":1}`, Request{}, "argument m is not known"},
		"a header":                           {"/a", "get", "{parameters: [{name: X-Desk, in: header}]}", `{"X-Desk":"north"}`, Request{Path: "/a", Header: [][2]string{{"X-Desk", "north"}}}, ""},
		"a header with a line end":           {"/a", "get", "{parameters: [{name: X-Desk, in: header}]}", `{"X-Desk":"a\r\nX-Evil: 1"}`, Request{}, "no header can carry"},
		"cookies":                            {"/a", "get", "{parameters: [{name: a, in: cookie}, {name: b, in: cookie}]}", `{"a":"1","b":"2"}`, Request{Path: "/a", Header: [][2]string{{"Cookie", "a=1; b=2"}}}, ""},
		"a cookie with a semicolon":          {"/a", "get", "{parameters: [{name: a, in: cookie}]}", `{"a":"1; admin=1"}`, Request{}, "no cookie can carry"},
		"body members":                       {"/a/{id}", "put", "{parameters: [{name: id, in: path}], requestBody: {required: true, content: {application/json: {schema: {type: object, required: [x], properties: {x: {type: string}, y: {}}}}}}}", `{"id":"1","x":"v","y":[1.0]}`, Request{Path: "/a/1", Media: "application/json", Body: []byte(`{"x":"v","y":[1.0]}`)}, ""},
		"a body whose member clashes":        {"/a/{id}", "put", "{parameters: [{name: id, in: path}], requestBody: {content: {application/json: {schema: {type: object, properties: {id: {}}}}}}}", `{"id":"1","body":{"id":2}}`, Request{Path: "/a/1", Media: "application/json", Body: []byte(`{"id":2}`)}, ""},
		"a body that is a list":              {"/a", "post", "{requestBody: {required: true, content: {application/json: {schema: {type: array}}}}}", `{"body":[1,2]}`, Request{Path: "/a", Media: "application/json", Body: []byte(`[1,2]`)}, ""},
		"a body left out":                    {"/a", "post", "{requestBody: {content: {application/json: {schema: {type: object, properties: {x: {}}}}}}}", `{}`, Request{Path: "/a"}, ""},
		"a required body left out":           {"/a", "post", "{requestBody: {required: true, content: {text/plain: {schema: {type: string}}}}}", `{}`, Request{}, "argument body is missing"},
		"a form":                             {"/a", "post", "{requestBody: {content: {application/x-www-form-urlencoded: {schema: {type: object, properties: {x: {}, y: {}}}}}}}", `{"x":"a b","y":[1,2]}`, Request{Path: "/a", Media: "application/x-www-form-urlencoded", Body: []byte(`x=a+b&y=1&y=2`)}, ""},
		"a text":                             {"/a", "post", "{requestBody: {content: {text/plain: {schema: {type: string}}}}}", `{"body":"plain"}`, Request{Path: "/a", Media: "text/plain", Body: []byte("plain")}, ""},
		"two parameters of one name":         {"/a/{id}", "get", "{parameters: [{name: id, in: path}, {name: id, in: query}]}", `{"id":"1","query_id":"2"}`, Request{Path: "/a/1", Query: url.Values{"id": {"2"}}}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			o := parse(t, api("3.1.0", row.path, row.method, row.rest)).Operations[0]
			require.Empty(t, o.Problem)
			got, err := o.Request([]byte(row.args))
			if row.err != "" {
				require.ErrorContains(t, err, row.err)
				return
			}
			require.NoError(t, err)
			row.want.Method = strings.ToUpper(row.method)
			if row.want.Query == nil {
				row.want.Query = url.Values{}
			}
			assert.Equal(t, row.want, *got)
		})
	}
}

func TestOnlyPickedOperationsBecomeTools(t *testing.T) {
	d := parse(
		t,
		api(
			"3.1.0",
			"/items/{id}",
			"get",
			"{operationId: get.item, summary: Show, description: More., deprecated: true, parameters: [{name: id, in: path}]}",
		)+
			"    delete: {parameters: [{name: id, in: path}]}\n    put: {operationId: putPhoto, parameters: [{name: id, in: path}], requestBody: {content: {image/png: {}}}}\n",
	)
	list, err := d.Tools([]Pick{{ID: "get.item"}, {"DELETE /items/{id}", "drop_item", "Drops it."}})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "drop_item", list[0].Name)
	assert.Equal(t, "get_item", list[1].Name)
	var raw struct {
		Title, Description string
		Annotations        map[string]bool
	}
	require.NoError(t, json.Unmarshal(list[1].Raw, &raw))
	assert.Equal(t, "Show\n\nMore.\n\n(deprecated)", raw.Description)
	assert.Equal(t, map[string]bool{"readOnlyHint": true, "destructiveHint": false, "idempotentHint": true}, raw.Annotations)
	require.NoError(t, json.Unmarshal(list[0].Raw, &raw))
	assert.Equal(t, "Drops it.", raw.Description)
	assert.True(t, raw.Annotations["destructiveHint"])
	for name, row := range map[string]struct {
		picks []Pick
		says  string
	}{
		"not there":      {[]Pick{{ID: "nothing"}}, "is not in the document"},
		"no tool":        {[]Pick{{ID: "putPhoto"}}, "cannot be a tool: its body is image/png"},
		"twice":          {[]Pick{{ID: "get.item"}, {ID: "get.item"}}, "a second tool"},
		"a name with /":  {[]Pick{{ID: "get.item", Name: "a/b"}}, "names are"},
		"one name twice": {[]Pick{{ID: "get.item", Name: "x"}, {ID: "DELETE /items/{id}", Name: "x"}}, "a second tool"},
	} {
		_, err := d.Tools(row.picks)
		var e *PickError
		require.ErrorAs(t, err, &e, name)
		assert.Contains(t, e.Error(), row.says, name)
	}
}

// Whatever a document and a model's arguments hold, the request stays below its
// path and its headers are single lines.
func FuzzDocument(f *testing.F) {
	f.Add(
		[]byte(
			api(
				"3.1.0",
				"/a/{id}",
				"post",
				"{parameters: [{name: id, in: path}, {name: h, in: header}, {name: q, in: query}, {name: c, in: cookie}], requestBody: {content: {application/json: {schema: {type: object, properties: {x: {}}}}}}}",
			),
		),
		[]byte(`{"id":"../x","h":"a\nb","q":[1],"x":{}}`),
	)
	f.Add([]byte(`{"openapi":"3.0.0","paths":{"/x":{"get":{"parameters":[{"$ref":"#/paths/~1x/get/parameters/0"}]}}}}`), []byte(`{}`))
	f.Fuzz(func(t *testing.T, doc, args []byte) {
		d, err := Parse(doc)
		if err != nil {
			return
		}
		for _, o := range d.Operations {
			if o.Problem != "" {
				continue
			}
			if !json.Valid(o.Input) {
				t.Fatalf("the schema of %s is not JSON: %s", o.ID, o.Input)
			}
			r, err := o.Request(args)
			if err != nil {
				continue
			}
			for _, h := range r.Header {
				if strings.ContainsAny(h[1], "\r\n") {
					t.Fatalf("a header of two lines: %q", h)
				}
			}
			if strings.Count(r.Path, "/") != strings.Count(o.Path, "/") {
				t.Fatalf("%s became %s", o.Path, r.Path)
			}
		}
	})
}
