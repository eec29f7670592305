// Package tryout has a person try a tool, a prompt or a resource without a model, as an
// agent: the request goes the way that the agent's would go, so that it meets the same
// rules, budgets, holds and credentials, and stands in the journal.
package tryout

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"bouncer/internal/agents"
	"bouncer/internal/apitype"
	"bouncer/internal/core/access"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/near"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Bounds on trials: how many go on at a time, and how much of an answer is kept.
const (
	atOnce    = 16
	waiting   = 64
	maxAnswer = 32 << 20
	maxEvents = 200
)

// Deps are what the service stands on.
type Deps struct {
	Agents   *agents.Service
	Registry *registry.Registry
	// Serve serves a request as an agent, whose id it is given.
	Serve   func(w http.ResponseWriter, r *http.Request, agentID string)
	Version string
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
	return svc.send(ctx, a, t, in), nil
}

// subject is what is tried, as the agent is offered it.
type subject struct {
	kind          tools.Kind
	server, name  string
	exposed       string
	method, key   string // of the request
	input, output json.RawMessage
}

var methods = map[string]struct {
	kind        tools.Kind
	method, key string
}{
	"": {tools.Tools, "tools/call", "name"}, "tool": {tools.Tools, "tools/call", "name"},
	"prompt": {tools.Prompts, "prompts/get", "name"}, "resource": {tools.Resources, "resources/read", "uri"},
}

// find finds what is tried among what servers offer, whether it is within reach or not:
// what is not is refused on the way, with the words that the agent would be told.
func (svc *Service) find(a team.Agent, in apitype.Try) (t subject, err error) {
	m, ok := methods[in.Kind]
	if !ok {
		return t, &team.FieldError{Field: "kind", Why: "must be tool, prompt or resource"}
	}
	t.kind, t.method, t.key = m.kind, m.method, m.key
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
		for _, tool := range s.Offer.Lists[t.kind] {
			exposed := s.Exposes(t.kind, tool.Name)
			names = append(names, tool.Name, exposed)
			if exposed != in.Name && tool.Name != in.Name {
				continue
			}
			t.server, t.name, t.exposed = s.Name, tool.Name, exposed
			t.input, t.output = tool.Member("inputSchema"), tool.Member("outputSchema")
			if exposed == in.Name || in.Server != "" {
				return t, nil
			}
			own, where = t, append(where, s.Name)
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

// send sends the request on the agent's way, and reads what comes.
func (svc *Service) send(ctx context.Context, a team.Agent, t subject, in apitype.Try) apitype.Tried {
	arguments := in.Arguments
	if len(arguments) == 0 {
		arguments = json.RawMessage("{}")
	}
	params := map[string]any{t.key: t.exposed}
	if t.kind != tools.Resources {
		params["arguments"] = arguments
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
		wire.MetaCaps: map[string]any{"elicitation": map[string]any{}},
	}
	params["_meta"] = meta
	raw, err := json.Marshal(map[string]any{"jsonrpc": "2.0", "id": 1, "method": t.method, "params": params})
	out := apitype.Tried{
		Agent: a.Name, Server: t.server, Name: t.name, Sent: raw, Events: []apitype.TryEvent{}, Command: command(a.Name, t, in),
	}
	if err != nil {
		out.Error = "the request cannot be written: " + err.Error()
		return out
	}
	if t.kind == tools.Tools {
		out.Unfit = unfit(t.input, arguments)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://bouncer.invalid/mcp", bytes.NewReader(raw))
	if err != nil {
		out.Error = "the request cannot be made: " + err.Error()
		return out
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Accept", "application/json, text/event-stream")
	r.Header.Set(wire.HeaderVersion, wire.NewestStateless)
	r.Header.Set(wire.HeaderMethod, t.method)
	r.Header.Set(wire.HeaderName, wire.HeaderValue(t.exposed))
	w := &answer{header: http.Header{}, began: time.Now()}
	svc.Serve(w, r, a.ID)
	w.read(&out)
	if out.OK && t.kind == tools.Tools && len(t.output) > 0 && string(t.output) != "null" {
		out.Output = structured(t.output, out.Result)
	}
	return out
}

// command is the same on the command line.
func command(agent string, t subject, in apitype.Try) string {
	line := "bouncer tool try " + t.server + "/" + t.name + " --as " + agent
	switch t.kind {
	case tools.Resources:
		line = "bouncer tool try " + t.name + " --as " + agent + " --server " + t.server + " --kind resource"
	case tools.Prompts:
		line += " --kind prompt"
	}
	if len(in.Arguments) > 0 {
		line += " --arguments '" + strings.ReplaceAll(string(in.Arguments), "'", `'\''`) + "'"
	}
	return line
}

// answer takes what is answered, with the time of each part.
type answer struct {
	header http.Header
	began  time.Time

	mu     sync.Mutex // guards what follows
	status int
	body   []byte
	marks  []mark // where parts begin, and when they came
	over   bool
}

type mark struct {
	at int
	ms float64
}

// Header implements http.ResponseWriter.
func (w *answer) Header() http.Header { return w.header }

// WriteHeader implements http.ResponseWriter.
func (w *answer) WriteHeader(status int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.status == 0 {
		w.status = status
	}
}

// Write implements http.ResponseWriter.
func (w *answer) Write(p []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.body)+len(p) > maxAnswer {
		w.over = true
		return len(p), nil
	}
	w.marks = append(w.marks, mark{len(w.body), since(w.began)})
	w.body = append(w.body, p...)
	return len(p), nil
}

// Flush implements http.Flusher.
func (w *answer) Flush() {}

// SetReadDeadline and SetWriteDeadline are there for http.ResponseController; what is
// tried ends with its context.
func (w *answer) SetReadDeadline(time.Time) error  { return nil }
func (w *answer) SetWriteDeadline(time.Time) error { return nil }

func since(t time.Time) float64 { return float64(time.Since(t).Microseconds()) / 1000 }

// at is when the byte at a place came.
func (w *answer) at(place int) float64 {
	ms := 0.0
	for _, m := range w.marks {
		if m.at > place {
			break
		}
		ms = m.ms
	}
	return ms
}

// read reads the messages of the answer.
func (w *answer) read(out *apitype.Tried) {
	w.mu.Lock()
	defer w.mu.Unlock()
	out.MS = since(w.began)
	if w.over {
		out.Error = fmt.Sprintf("the answer is larger than %d MiB, and is not kept", maxAnswer>>20)
		return
	}
	if !strings.HasPrefix(w.header.Get("Content-Type"), "text/event-stream") {
		w.message(out, w.body, 0)
		return
	}
	reader := wire.NewEventReader(bytes.NewReader(w.body), maxAnswer)
	for {
		event, err := reader.Next()
		if err != nil {
			break
		}
		if len(event.Data) > 0 {
			w.message(out, bytes.Clone(event.Data), bytes.Index(w.body, event.Data))
		}
	}
	if out.Result == nil && out.Error == "" && out.Asks == nil {
		out.Error = "the answer broke off"
	}
}

// message takes one message.
func (w *answer) message(out *apitype.Tried, raw []byte, place int) {
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
			out.Events = append(out.Events, apitype.TryEvent{MS: w.at(max(0, place)), Method: m.Method, Params: m.Params})
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
			out.Asks, out.State = r.Requests, r.State
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
