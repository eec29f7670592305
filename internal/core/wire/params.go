package wire

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Keys of _meta that make up the envelope of a stateless request, and those
// that results and notifications of that era carry.
const (
	metaPrefix       = "io.modelcontextprotocol/"
	MetaVersion      = metaPrefix + "protocolVersion"
	MetaCaps         = metaPrefix + "clientCapabilities"
	MetaInfo         = metaPrefix + "clientInfo"
	MetaLevel        = metaPrefix + "logLevel"
	MetaServer       = metaPrefix + "serverInfo"
	MetaSubscription = metaPrefix + "subscriptionId"
)

// Meta is what a relay reads of params._meta.
type Meta struct {
	At Span // the whole object
	// Token is progressToken, raw.
	Token Span
	// Version is set when the request carries the envelope of the stateless era.
	Version    string
	HasVersion bool
	Caps, Info Span
	Level      string
}

// Params is what a relay reads of the params of a request.
type Params struct {
	// Subject is what the request is about (the name of a tool or prompt, a URI,
	// the id of a task), and SubjectAt where it stands, with its quotes.
	Subject   string
	SubjectAt Span
	Arguments Span
	Meta      Meta
	// InputResponses and RequestState belong to a further round of a request of
	// the stateless era.
	InputResponses Span
	RequestState   Span
	Ref            string // of a completion: RefPrompt or RefResource
	Task           Span   // the wish that a call runs as a task, in the revision 2025-11-25
}

var (
	paramNames = []string{"name", "arguments", "_meta", "uri", "inputResponses", "requestState", "taskId", "ref", "task"}
	metaNames  = []string{"progressToken", MetaVersion, MetaCaps, MetaInfo, MetaLevel}
	refNames   = []string{"name", "uri", "type"}
)

// SubjectKey returns the member of params that names what a request is about;
// "" for methods without one.
func SubjectKey(method string) string {
	switch method {
	case "tools/call", "prompts/get":
		return "name"
	case "resources/read", "resources/subscribe", "resources/unsubscribe":
		return "uri"
	case "tasks/get", "tasks/result", "tasks/cancel", "tasks/update":
		return "taskId"
	case "completion/complete":
		return "ref"
	}
	return ""
}

// ReadParams reads the params of a request with the given method. The error is
// a *FrameError with code CodeInvalidParams.
func ReadParams(b []byte, params Span, method string) (Params, error) {
	var p Params
	key := SubjectKey(method)
	if params.Empty() {
		if key != "" {
			return p, &FrameError{CodeInvalidParams, "params." + key + " is missing"}
		}
		return p, nil
	}
	at, err := pick(b, params, paramNames)
	if err != nil {
		return p, err
	}
	p.Arguments, p.InputResponses, p.RequestState, p.Task = at[1], at[4], at[5], at[8]
	// First, since it decides what the rest is held against.
	if p.Meta, err = readMeta(b, at[2]); err != nil {
		return p, err
	}
	switch key {
	case "name":
		p.SubjectAt = at[0]
	case "uri":
		p.SubjectAt = at[3]
	case "taskId":
		p.SubjectAt = at[6]
	case "ref":
		if at[7].Empty() || b[at[7].Start] != '{' {
			return p, &FrameError{CodeInvalidParams, "params.ref must name a prompt or a resource"}
		}
		if err := p.readRef(b, at[7]); err != nil {
			return p, err
		}
	}
	if key != "" {
		s, ok := StringAt(b, p.SubjectAt)
		if p.SubjectAt.Empty() || !ok || s == "" {
			return p, &FrameError{CodeInvalidParams, "params." + key + " is missing or no text"}
		}
		p.Subject = s
	}
	if !p.Arguments.Empty() && b[p.Arguments.Start] != '{' && b[p.Arguments.Start] != 'n' {
		return p, &FrameError{CodeInvalidParams, "params.arguments must be an object"}
	}
	return p, nil
}

// readRef reads what a completion is about: what its type says, and nothing else.
// With two subjects, one could be decided about and the other be forwarded.
func (p *Params) readRef(b []byte, at Span) error {
	ref, err := pick(b, at, refNames)
	if err != nil {
		return err
	}
	kind, _ := StringAt(b, ref[2])
	other := Span{}
	switch kind {
	case RefPrompt:
		p.SubjectAt, other = ref[0], ref[1]
	case RefResource:
		p.SubjectAt, other = ref[1], ref[0]
	default:
		return &FrameError{CodeInvalidParams, "params.ref.type must be " + RefPrompt + " or " + RefResource}
	}
	if !other.Empty() {
		return &FrameError{CodeInvalidParams, "params.ref names a prompt and a resource; its type is " + kind}
	}
	p.Ref = kind
	return nil
}

// What a completion can be about (MCP, completion).
const (
	RefPrompt   = "ref/prompt"
	RefResource = "ref/resource"
)

func readMeta(b []byte, meta Span) (Meta, error) {
	m := Meta{At: meta}
	if meta.Empty() {
		return m, nil
	}
	if b[meta.Start] != '{' {
		return m, &FrameError{CodeInvalidParams, "params._meta must be an object"}
	}
	at, err := pick(b, meta, metaNames)
	if err != nil {
		return m, err
	}
	m.Token, m.Caps, m.Info = at[0], at[2], at[3]
	if !m.Token.Empty() {
		switch c := b[m.Token.Start]; {
		case c == '"', c == '-', c >= '0' && c <= '9':
		default:
			return m, &FrameError{CodeInvalidParams, "_meta.progressToken must be a string or a number"}
		}
	}
	if !at[1].Empty() {
		m.HasVersion = true
		m.Version, _ = StringAt(b, at[1])
	}
	if !at[4].Empty() {
		m.Level, _ = StringAt(b, at[4])
	}
	return m, nil
}

// pick returns the spans of the named members (eight at most) of the object
// under s, each at most once and exactly spelled.
func pick(b []byte, s Span, names []string) ([9]Span, error) {
	var at [9]Span
	err := Members(b, s, func(name string, v Span) error {
		n, err := guarded(names, name)
		if err != nil || n < 0 {
			return err
		}
		if !at[n].Empty() {
			return &FrameError{CodeInvalidParams, fmt.Sprintf("member %q is there twice", name)}
		}
		at[n] = v
		return nil
	})
	if err == nil {
		return at, nil
	}
	if fe := (*FrameError)(nil); errors.As(err, &fe) {
		return at, &FrameError{CodeInvalidParams, fe.What}
	}
	return at, &FrameError{CodeInvalidParams, err.Error()}
}

// Ask is a request to be written for a server: the agent's params as they came,
// but for what has to be another one on this hop.
type Ask struct {
	Method string
	Src    []byte // the agent's message, or Bouncer's own params
	Params Span   // empty for none
	P      Params
	// Subject is what the request is about, as the server knows it.
	Subject string
	// KeepInput passes on inputResponses and requestState as they came.
	KeepInput bool
	// Extra are further members of params, raw and without a leading comma.
	Extra []byte
}

// Append appends the request to dst. envelope are the raw members of _meta that
// a stateless server needs; nil for a session. The progress token, when the
// agent gave one, becomes the id.
func (a *Ask) Append(dst []byte, id uint64, envelope []byte) []byte {
	dst = append(dst, `{"jsonrpc":"2.0","id":`...)
	dst = strconv.AppendUint(dst, id, 10)
	dst = append(dst, `,"method":`...)
	dst = append(dst, Quote(a.Method)...)
	switch {
	case envelope == nil && a.Extra == nil && !a.P.Meta.HasVersion && a.P.InputResponses.Empty() && a.P.RequestState.Empty():
		if a.Params.Empty() {
			return append(dst, '}')
		}
		dst = append(dst, `,"params":`...)
		dst = Splice(dst, a.Src, a.Params, a.edits(id)...)
	default:
		dst = append(dst, `,"params":`...)
		dst = a.rebuild(dst, id, envelope)
	}
	return append(dst, '}')
}

// edits are the changes that leave the rest of the params as it is.
func (a *Ask) edits(id uint64) []Edit {
	var list [2]Edit
	n := 0
	if a.Subject != a.P.Subject {
		list[n] = Edit{a.P.SubjectAt, Quote(a.Subject)}
		n++
	}
	if !a.P.Meta.Token.Empty() {
		list[n] = Edit{a.P.Meta.Token, strconv.AppendUint(nil, id, 10)}
		n++
	}
	if n == 2 && list[0].Span.Start > list[1].Span.Start {
		list[0], list[1] = list[1], list[0]
	}
	return list[:n]
}

// rebuild writes params member by member.
func (a *Ask) rebuild(dst []byte, id uint64, envelope []byte) []byte {
	dst = append(dst, '{')
	first := true
	sep := func() {
		if !first {
			dst = append(dst, ',')
		}
		first = false
	}
	if !a.Params.Empty() {
		// The params were read before, so they are an object.
		_ = Members(a.Src, a.Params, func(name string, v Span) error {
			switch name {
			case "_meta":
				return nil
			case "inputResponses", "requestState":
				if !a.KeepInput {
					return nil
				}
			case "task":
				if envelope != nil {
					return nil // the stateless era has another way of tasks
				}
			}
			sep()
			dst = append(append(dst, Quote(name)...), ':')
			if s := a.P.SubjectAt; !s.Empty() && a.Subject != a.P.Subject && s.Start >= v.Start && s.End <= v.End {
				dst = Splice(dst, a.Src, v, Edit{s, Quote(a.Subject)})
				return nil
			}
			dst = append(dst, v.Of(a.Src)...)
			return nil
		})
	}
	if len(a.Extra) > 0 {
		sep()
		dst = append(dst, a.Extra...)
	}
	sep()
	dst = append(dst, `"_meta":{`...)
	first = true
	if len(envelope) > 0 {
		sep()
		dst = append(dst, envelope...)
	}
	if !a.P.Meta.Token.Empty() {
		sep()
		dst = append(dst, `"progressToken":`...)
		dst = strconv.AppendUint(dst, id, 10)
	}
	if !a.P.Meta.At.Empty() {
		_ = Members(a.Src, a.P.Meta.At, func(name string, v Span) error {
			if name == "progressToken" || isEnvelope(name) {
				return nil
			}
			sep()
			dst = append(append(append(dst, Quote(name)...), ':'), v.Of(a.Src)...)
			return nil
		})
	}
	return append(dst, '}', '}')
}

func isEnvelope(name string) bool {
	if !strings.HasPrefix(name, metaPrefix) {
		return false
	}
	switch name {
	case MetaVersion, MetaCaps, MetaInfo, MetaLevel, MetaServer, MetaSubscription:
		return true
	}
	return false
}

// Envelope renders the members of _meta that every stateless request carries.
// info is raw JSON or nil; level may be empty.
func Envelope(rev string, caps Caps, info []byte, level string) []byte {
	out := append([]byte(`"`+MetaVersion+`":`), Quote(rev)...)
	out = append(append(out, `,"`+MetaCaps+`":`...), caps.JSON(rev)...)
	if len(info) > 0 {
		out = append(append(out, `,"`+MetaInfo+`":`...), info...)
	}
	if level != "" {
		out = append(append(out, `,"`+MetaLevel+`":`...), Quote(level)...)
	}
	return out
}
