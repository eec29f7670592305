package restmap

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// input is the schema that an operation's arguments have.
func input(t *testing.T, version, path, method, rest string) string {
	t.Helper()
	return string(parse(t, api(version, path, method, rest)).Operations[0].Input)
}

func parameter(schema string) string {
	return "{parameters: [{name: x, in: query, schema: " + schema + "}]}"
}

// Each keyword of a schema is taken over, left out or refused as what it is.
func TestKeywordsOfSchemas(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"true": "{}", "{}": "{}", "{items: true}": `{"items":true}`, "{not: false}": `{"not":false}`,
		"{allOf: [{type: string}, true]}":                    `{"allOf":[{"type":"string"},true]}`,
		"{properties: {a: {}, b: {readOnly: true}}}":         `{"properties":{"a":{}}}`,
		"{xml: {}, example: 1, minimum: 2}":                  `{"minimum":2}`,
		"{patternProperties: {'^a': {minimum: 1}}}":          `{"patternProperties":{"^a":{"minimum":1}}}`,
		"{required: [a], properties: {a: {readOnly: true}}}": `{"properties":{}}`,
		"{required: [a, b], properties: {a: {}}}":            `{"required":["a","b"],"properties":{"a":{}}}`,
		"{description: own}":                                 `{"description":"own"}`,
	} {
		var schema struct{ Properties map[string]json.RawMessage }
		require.NoError(t, json.Unmarshal([]byte(input(t, "3.1.0", "/a", "get", parameter(given))), &schema), given)
		assert.JSONEq(t, want, string(schema.Properties["x"]), given)
	}
	for given, says := range map[string]string{
		"[a]": "a schema must be an object", "{properties: [a]}": "properties must be an object", "{allOf: {}}": "allOf must be a list",
		"{oneOf: [7]}": "a schema must be an object", "{items: 7}": "a schema must be an object", "{properties: {a: 7}}": "a schema must be an object",
		"{minimum: .nan}": "minimum is not JSON",
	} {
		_, err := Parse([]byte(api("3.1.0", "/a", "get", parameter(given))))
		assert.ErrorContains(t, err, says, given)
	}
	old := input(t, "3.0.3", "/a", "get", parameter("{minimum: 1, exclusiveMinimum: false, maximum: 2, exclusiveMaximum: true}"))
	assert.Contains(t, old, `{"exclusiveMaximum":2,"minimum":1}`)
	assert.NotContains(t, input(t, "3.1.0", "/a", "get", parameter("{}")), "required")
	assert.NotContains(t, input(t, "3.1.0", "/a", "get", parameter("{}")), "$defs")
}

// Schemas are followed as deep and as far as is said, and no further.
func TestHowFarSchemasAreFollowed(t *testing.T) {
	t.Parallel()
	nested := func(n int) string { return strings.Repeat("{items: ", n) + "{}" + strings.Repeat("}", n) }
	for way, around := range map[string][2]string{"items": {"", ""}, "in a list": {"{allOf: [", "]}"}, "in an object": {"{properties: {a: ", "}}"}} {
		used := 0
		if around[0] != "" {
			used = 1
		}
		_, err := Parse([]byte(api("3.1.0", "/a", "get", parameter(around[0]+nested(maxDepth-used)+around[1]))))
		assert.NoError(t, err, way)
		_, err = Parse([]byte(api("3.1.0", "/a", "get", parameter(around[0]+nested(maxDepth-used+1)+around[1]))))
		assert.ErrorContains(t, err, "unfolds to too much", way)
	}
	wide := func(n int) string { return "{allOf: [" + strings.TrimSuffix(strings.Repeat("{},", n), ",") + "]}" }
	_, err := Parse([]byte(api("3.1.0", "/a", "get", parameter(wide(maxNodes-1)))))
	assert.NoError(t, err)
	_, err = Parse([]byte(api("3.1.0", "/a", "get", parameter(wide(maxNodes)))))
	assert.ErrorContains(t, err, "unfolds to too much")

	chain := func(n int) string {
		var list []string
		for i := range n {
			list = append(list, fmt.Sprintf("p%d: {$ref: '#/x-p/p%d'}", i, i+1))
		}
		return api("3.1.0", "/a", "get", "{parameters: [{$ref: '#/x-p/p0'}]}") + "x-p: {" + strings.Join(append(list, fmt.Sprintf("p%d: {name: x, in: query}", n)), ", ") + "}\n"
	}
	_, err = Parse([]byte(chain(20)))
	assert.NoError(t, err)
	_, err = Parse([]byte(chain(21)))
	assert.ErrorContains(t, err, "leads in a circle")

	deep := func(n int) string {
		return api("3.1.0", "/a", "get", "{}") + "x-deep: " + strings.Repeat("[", n) + strings.Repeat("]", n) + "\n"
	}
	const above = 2 // of what is nested: the document and the object that it is
	_, err = Parse([]byte(deep(200 - above + 1)))
	assert.NoError(t, err)
	_, err = Parse([]byte(deep(200 - above + 2)))
	assert.ErrorContains(t, err, "nested too deeply")
	alias := func(n int) string {
		return "x-a: &a " + strings.Repeat("[", n) + strings.Repeat("]", n) + "\nx-b: " + strings.Repeat("[", 100) + "*a" + strings.Repeat("]", 100) + "\n" +
			api("3.1.0", "/a", "get", "{}")
	}
	_, err = Parse([]byte(alias(50)))
	assert.NoError(t, err)
	_, err = Parse([]byte(alias(120)))
	assert.ErrorContains(t, err, "nested too deeply")
}

// References point to members and to entries of lists.
func TestReferences(t *testing.T) {
	t.Parallel()
	refer := func(to string) error {
		_, err := Parse([]byte(api("3.1.0", "/a", "get", "{parameters: [{$ref: '"+to+"'}]}") +
			"x-list: [{name: x, in: query}, {name: y, in: query}]\nx-a/b~c: {name: z, in: query}\n"))
		return err
	}
	for _, good := range []string{"#/x-list/0", "#/x-list/1", "#/x-a~1b~0c"} {
		assert.NoError(t, refer(good), good)
	}
	for _, bad := range []string{"#/x-list/2", "#/x-list/-1", "#/x-list/one", "#/x-list/", "#/info/title/0", "#/nothing/0"} {
		assert.ErrorContains(t, refer(bad), "points to nothing", bad)
	}
}

func TestWhatMethodsMean(t *testing.T) {
	t.Parallel()
	for method, want := range map[string][3]bool{
		"GET": {true, false, true}, "HEAD": {true, false, true}, "OPTIONS": {true, false, true}, "POST": {}, "PATCH": {},
		"PUT": {false, true, true}, "DELETE": {false, true, true},
	} {
		o := &Operation{Method: method}
		assert.Equal(t, want, [3]bool{o.ReadOnly(), o.Destructive(), o.Idempotent()}, method)
	}
}

func TestWaysOfCredentials(t *testing.T) {
	t.Parallel()
	d := parse(t, api("3.1.0", "/b", "get", "{}")+"  /a: {post: {}}\ncomponents: {securitySchemes: {a: {type: http, scheme: BASIC}, b: {type: http, scheme: digest}, "+
		"c: {type: http, scheme: bearer}, d: {type: oauth2}, e: {type: openIdConnect}, f: {type: apiKey, in: cookie, name: c}, g: {type: mutualTLS}, h: {$ref: '#/x'}}}\n")
	kinds := ""
	for _, s := range d.Schemes {
		kinds += s.Name + " " + s.Kind + " " + s.In + ","
	}
	assert.Equal(t, "a basic ,b other ,c bearer ,d bearer ,e bearer ,f cookie c,g other ,", kinds)
	assert.Equal(t, []string{"/a", "/b"}, []string{d.Operations[0].Path, d.Operations[1].Path}, "in the order of their paths")
	assert.Empty(t, parse(t, "openapi: 3.1.0\nservers: []\npaths: {/a: {get: {}}}").Server)
	assert.Equal(t, "the document has no place", (&Error{What: "the document has no place"}).Error())
	_, err := Parse([]byte(strings.Repeat(" ", MaxDocument+1)))
	assert.ErrorContains(t, err, "larger than")
	_, err = Parse([]byte(api("3.1.0", "/a", "get", "{}") + "#" + strings.Repeat("x", MaxDocument-len(api("3.1.0", "/a", "get", "{}"))-1)))
	assert.NoError(t, err, "as large as it may be")
}

// Bodies that are no object, or whose members are taken, are an argument of their own.
func TestBodiesOfTheirOwn(t *testing.T) {
	t.Parallel()
	for rest, want := range map[string]string{
		"{parameters: [{name: body, in: query}, {name: body2, in: query}], requestBody: {content: {text/plain: {schema: {type: string}}}}}": `"body3":{"type":"string"}`,
		"{requestBody: {description: what, content: {text/plain: {schema: {type: string}}}}}":                                               `"body":{"description":"what","type":"string"}`,
		"{requestBody: {description: what, content: {text/plain: {schema: {type: string, description: own}}}}}":                             `"body":{"description":"own","type":"string"}`,
		"{requestBody: {description: what, content: {application/json: {schema: true}}}}":                                                   `"body":{"description":"what"}`,
		"{requestBody: {content: {application/json: {schema: {type: object}}}}}":                                                            `"body":{"type":"object"}`,
		"{requestBody: {content: {application/json: {schema: {type: object, properties: {a: {}}, allOf: [{}]}}}}}":                          `"body":{"allOf":[{}],`,
		"{requestBody: {content: {application/json: {schema: {type: object, properties: {a: {}}, oneOf: [{}]}}}}}":                          `"body":{"oneOf":[{}],`,
		"{requestBody: {content: {application/json: {schema: {type: object, properties: {a: {}}, anyOf: [{}]}}}}}":                          `"body":{"anyOf":[{}],`,
		"{requestBody: {content: {text/plain: {schema: {type: object, properties: {a: {}}}}}}}":                                             `"body":{`,
		"{requestBody: {content: {application/json: {schema: {properties: {a: {}}}}}}}":                                                     `"body":{`,
		"{requestBody: {content: {application/json: {schema: {type: object, properties: {a: {}}}}}}}":                                       `"properties":{"a":{}}`,
		"{requestBody: {content: {text/plain: {schema: {type: string}}, application/hal+json: {schema: {type: array}}}}}":                   `"body":{"type":"array"}`,
		"{requestBody: {content: {'*/*': {schema: {type: array}}, application/hal+json: {schema: {type: string}}}}}":                        `"body":{"type":"array"}`,
	} {
		assert.Contains(t, input(t, "3.1.0", "/a", "post", rest), want, rest)
	}
}

// Arguments may be left out altogether, and lists of pairs keep an order.
func TestArgumentsInOrder(t *testing.T) {
	t.Parallel()
	o := parse(t, api("3.1.0", "/a", "get", "{parameters: [{name: f, in: query, explode: false}, {name: n, in: header}]}")).Operations[0]
	got, err := o.Request(nil)
	require.NoError(t, err)
	assert.Empty(t, got.Query)
	got, err = o.Request([]byte(`{"f":{"c":3,"a":"x","b":null},"n":"\u00e9"}`))
	require.NoError(t, err)
	assert.Equal(t, url.Values{"f": {"a,x,b,null,c,3"}}, got.Query)
	_, err = o.Request([]byte(`[]`))
	assert.ErrorContains(t, err, "the arguments are no object")
	assert.Equal(t, "", scalar(nil))

	long := strings.Repeat("x", 64)
	assert.Equal(t, long, toolName(long))
	assert.Equal(t, long, toolName(long+"y"))
	d := parse(t, api("3.1.0", "/a", "get", "{operationId: a, description: D}")+"    put: {operationId: b, summary: S}\n")
	list, err := d.Tools([]Pick{{ID: "b", Name: "z"}, {ID: "a", Name: "y"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"y", "z"}, []string{list[0].Name, list[1].Name})
	assert.NotContains(t, string(list[0].Raw), `"title"`)
	assert.Contains(t, string(list[1].Raw), `"title":"S"`)
}
