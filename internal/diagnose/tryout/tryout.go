// Package tryout has a person try a tool, a prompt or a resource without a model, as an
// agent: the request goes the way that the agent's would go, so that it meets the same
// rules, budgets, holds and credentials, and stands in the journal.
package tryout

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/near"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/diagnose/inside"
	"bouncer/internal/gate"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Bounds on trials: how many go on at a time, and how much of an answer is kept.
const (
	atOnce    = 16
	waiting   = 64
	maxEvents = 200
)

// Deps are what the service stands on.
type Deps struct {
	Agents   *agents.Service
	Registry *registry.Registry
	Serve    inside.Serve
	Version  string
}

// Service has things tried. It is safe for concurrent use.
type Service struct {
	Deps
	queue *gate.Queue
}

// New returns the service.
func New(d Deps) *Service {
	return &Service{d, gate.NewQueue("trials of tools", atOnce, waiting, 4*waiting)}
}

// Run tries something. An error is about the request; what the server or a rule says is in
// the answer.
func (svc *Service) Run(ctx context.Context, by team.Person, in apitype.Try) (apitype.Tried, error) {
	a, err := svc.Agents.Agent(ctx, by, in.Agent)
	if err != nil {
		return apitype.Tried{}, err
	}
	if !access.May(by, access.SpeakForAgents, a.Owner) {
		return apitype.Tried{}, &team.NotAllowedError{
			Why: "agent " + a.Name + " is not yours to speak for", Hint: "choose one of your own agents, or of the team",
		}
	}
	if len(in.Arguments) > 0 && !json.Valid(in.Arguments) {
		return apitype.Tried{}, &team.FieldError{Field: "arguments", Why: "is no JSON"}
	}
	leave, err := svc.queue.Enter(ctx, by.ID)
	if err != nil {
		return apitype.Tried{}, fmt.Errorf("wait to try a tool: %w", err)
	}
	defer leave()
	t, err := svc.find(a, in)
	if err != nil {
		return apitype.Tried{}, err
	}
	change := registry.Change{By: by, What: "tool.try", Subject: a.Name, After: t.server + "/" + t.name}
	if err := svc.Registry.Write(ctx, change, func(*store.Tx) error { return nil }); err != nil {
		return apitype.Tried{}, err
	}
	return svc.send(ctx, a, t, in)
}

// subject is what is tried, as the agent is offered it.
type subject struct {
	kind          tools.Kind
	server, name  string
	exposed       string
	method, key   string // of the request
	input, output json.RawMessage
}

// methods are how each kind is asked for: where it is found, with which method, and which
// member of the params names it.
var methods = map[string]struct {
	kinds       []tools.Kind
	method, key string
}{
	"tool":       {[]tools.Kind{tools.Tools}, "tools/call", "name"},
	"prompt":     {[]tools.Kind{tools.Prompts}, "prompts/get", "name"},
	"resource":   {[]tools.Kind{tools.Resources}, "resources/read", "uri"},
	"completion": {[]tools.Kind{tools.Prompts, tools.Templates}, "completion/complete", "ref"},
}

// find finds what is tried among what servers offer, whether it is within reach or not:
// what is not is refused on the way, with the words that the agent would be told.
func (svc *Service) find(a team.Agent, in apitype.Try) (t subject, err error) {
	m, ok := methods[cmp.Or(in.Kind, "tool")]
	if !ok {
		return t, &team.FieldError{Field: "kind", Why: "must be tool, prompt, resource or completion"}
	}
	if m.key == "ref" && in.Argument == "" {
		return t, &team.FieldError{Field: "argument", Why: "is missing: the one whose value is to be completed"}
	}
	t.kind, t.method, t.key = m.kinds[0], m.method, m.key
	now := svc.Registry.Current()
	known := now.Agents[a.ID]
	if known == nil {
		return t, &team.NotFoundError{Kind: "agent", Name: a.Name}
	}
	var names, where []string
	var own subject // the last that has the name as its own
	for _, s := range now.Sorted() {
		if in.Server != "" && s.Name != in.Server {
			continue
		}
		s = s.For(known)
		for _, kind := range m.kinds {
			for _, tool := range s.Offer.Lists[kind] {
				exposed := s.Exposes(kind, tool.Name)
				names = append(names, tool.Name, exposed)
				if exposed != in.Name && tool.Name != in.Name {
					continue
				}
				t.kind, t.server, t.name, t.exposed = kind, s.Name, tool.Name, exposed
				t.input, t.output = tool.Member("inputSchema"), tool.Member("outputSchema")
				if exposed == in.Name || in.Server != "" {
					return t, nil
				}
				own, where = t, append(where, s.Name)
			}
		}
	}
	switch {
	case len(where) == 1:
		return own, nil
	case len(where) > 1:
		return t, &team.ConflictError{
			Field: "server", Why: fmt.Sprintf("several servers have a tool %q: %s", in.Name, strings.Join(where, ", ")), Hint: "name the server",
		}
	}
	if t.kind == tools.Resources && in.Server != "" {
		t.server, t.name, t.exposed = in.Server, in.Name, tools.ExposeURI(in.Server, in.Name)
		return t, nil // a resource need not be listed
	}
	if best := near.Nearest(in.Name, names); best != "" {
		return t, &team.FieldError{Field: "name", Why: fmt.Sprintf("%q is nothing that is offered; perhaps %s was meant", in.Name, best)}
	}
	return t, &team.NotFoundError{Kind: "tool", Name: in.Name}
}

// params are those of the request, without its envelope.
func (t subject) params(in apitype.Try, arguments json.RawMessage) (map[string]any, error) {
	switch t.key {
	case "uri":
		return map[string]any{"uri": t.exposed}, nil
	case "name":
		return map[string]any{"name": t.exposed, "arguments": arguments}, nil
	}
	var known map[string]string
	if err := json.Unmarshal(arguments, &known); err != nil {
		return nil, &team.FieldError{Field: "arguments", Why: "of a completion must be texts"}
	}
	ref := map[string]string{"type": wire.RefPrompt, "name": t.exposed}
	if t.kind == tools.Templates {
		ref = map[string]string{"type": wire.RefResource, "uri": t.exposed}
	}
	begun := known[in.Argument]
	delete(known, in.Argument)
	return map[string]any{
		"ref": ref, "argument": map[string]string{"name": in.Argument, "value": begun}, "context": map[string]any{"arguments": known},
	}, nil
}

// capabilities are what a trial says that it can do: whoever tries answers by hand.
const capabilities = `{"elicitation":{"form":{},"url":{}},"sampling":{"tools":{}},"roots":{}}`

// send sends the request on the agent's way, and reads what comes.
func (svc *Service) send(ctx context.Context, a team.Agent, t subject, in apitype.Try) (apitype.Tried, error) {
	arguments := in.Arguments
	if len(arguments) == 0 {
		arguments = json.RawMessage("{}")
	}
	params, err := t.params(in, arguments)
	if err != nil {
		return apitype.Tried{}, err
	}
	if len(in.Answers) > 0 {
		params["inputResponses"] = in.Answers
	}
	if in.State != "" {
		params["requestState"] = in.State
	}
	info, _ := json.Marshal(map[string]string{"name": "bouncer-try", "version": svc.Version}) // texts cannot fail to be written
	meta := map[string]any{
		wire.MetaVersion: wire.NewestStateless, wire.MetaInfo: json.RawMessage(info), "progressToken": "try",
		wire.MetaCaps: json.RawMessage(capabilities), wire.MetaLevel: "debug",
	}
	params["_meta"] = meta
	raw, err := json.Marshal(map[string]any{"jsonrpc": "2.0", "id": 1, "method": t.method, "params": params})
	if err != nil {
		return apitype.Tried{}, fmt.Errorf("write the request: %w", err)
	}
	out := apitype.Tried{
		Agent: a.Name, Server: t.server, Name: t.name, Sent: raw, Events: []apitype.TryEvent{}, Command: command(a.Name, t, in),
	}
	if t.kind == tools.Tools {
		out.Unfit = unfit(t.input, arguments)
	}
	answer, err := inside.Send(ctx, svc.Serve, a.ID, raw, inside.Stateless(t.method, t.exposed))
	out.MS = answer.MS
	switch {
	case errors.Is(err, inside.ErrTooLarge):
		out.Error = err.Error()
		return out, nil
	case err != nil:
		return out, err
	}
	for _, m := range answer.Messages {
		message(&out, m)
	}
	if out.Result == nil && out.Error == "" && out.Asks == nil {
		out.Error = inside.ErrBrokeOff.Error()
	}
	if out.OK && t.kind == tools.Tools && len(t.output) > 0 && string(t.output) != "null" {
		out.Output = structured(t.output, out.Result)
	}
	return out, nil
}

// command is the same on the command line.
func command(agent string, t subject, in apitype.Try) string {
	line := "bouncer tool try " + t.server + "/" + t.name + " --as " + agent
	switch t.kind {
	case tools.Resources, tools.Templates:
		line = "bouncer tool try " + t.name + " --as " + agent + " --server " + t.server + " --kind " + in.Kind
	case tools.Prompts:
		line += " --kind " + in.Kind
	}
	if in.Argument != "" {
		line += " --argument " + in.Argument
	}
	if len(in.Arguments) > 0 {
		line += " --arguments '" + strings.ReplaceAll(string(in.Arguments), "'", `'\''`) + "'"
	}
	return line
}

// message takes one message.
func message(out *apitype.Tried, one inside.Message) {
	raw := one.Raw
	var m struct {
		Method string          `json:"method"`
		Params json.RawMessage `json:"params"`
		Result json.RawMessage `json:"result"`
		Error  *struct {
			Code    int    `json:"code"`
			Message string `json:"message"`
		} `json:"error"`
	}
	if json.Unmarshal(raw, &m) != nil {
		out.Error = "the answer is no message: " + evidence.Quoted(raw)
		return
	}
	switch {
	case m.Method != "":
		if len(out.Events) < maxEvents {
			out.Events = append(out.Events, apitype.TryEvent{MS: one.MS, Method: m.Method, Params: m.Params})
		}
	case m.Error != nil:
		out.Error, out.Code = m.Error.Message, m.Error.Code
	default:
		var r struct {
			Type     string          `json:"resultType"`
			Failed   bool            `json:"isError"`
			Requests json.RawMessage `json:"inputRequests"`
			State    string          `json:"requestState"`
		}
		_ = json.Unmarshal(m.Result, &r) // what is not there is empty
		if len(r.Requests) > 0 {
			out.Asks, out.Draft, out.State = r.Requests, draft(r.Requests), r.State
			return
		}
		out.Result, out.OK = m.Result, !r.Failed
	}
}

// structured says why the structured content of a result does not fit its schema.
func structured(schema, result json.RawMessage) string {
	var m struct {
		Structured json.RawMessage `json:"structuredContent"`
	}
	if json.Unmarshal(result, &m) != nil || len(m.Structured) == 0 {
		return "there is no structured content, and the tool declares a schema of it"
	}
	return unfit(schema, m.Structured)
}

// unfit says why a value does not fit a schema; "" when it does, and when the schema is
// none that can be used.
func unfit(schema, value json.RawMessage) string {
	if len(schema) == 0 {
		return ""
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(schema))
	if err != nil {
		return ""
	}
	compiler := jsonschema.NewCompiler()
	compiler.UseLoader(jsonschema.SchemeURLLoader{}) // nothing is fetched
	if compiler.AddResource("tool:schema", doc) != nil {
		return ""
	}
	s, err := compiler.Compile("tool:schema")
	if err != nil {
		return ""
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(value))
	if err != nil {
		return "it is no JSON"
	}
	if err := s.Validate(v); err != nil {
		lines := strings.Split(strings.TrimSpace(err.Error()), "\n")
		return evidence.Quoted([]byte(strings.TrimLeft(lines[len(lines)-1], "- ")))
	}
	return ""
}
