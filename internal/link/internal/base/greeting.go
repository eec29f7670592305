package base

import (
	"encoding/json"
	"slices"
	"strings"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

// ClientInfo is Bouncer's name and version, as servers are told.
func (l *Base) ClientInfo() []byte {
	// Maps of strings cannot fail to be written.
	raw, _ := json.Marshal(map[string]string{"name": "bouncer", "version": l.Options.Version})
	return raw
}

// InitializeParams is the params of initialize.
func (l *Base) InitializeParams() []byte {
	params, _ := json.Marshal(map[string]any{
		"protocolVersion": wire.NewestSession,
		"capabilities":    json.RawMessage(l.Caps.JSON(wire.NewestSession)),
		"clientInfo":      json.RawMessage(l.ClientInfo()),
	})
	return params
}

// capabilities are those that a server declares.
type capabilities struct {
	Tools       *struct{ ListChanged bool }
	Prompts     *struct{ ListChanged bool }
	Resources   *struct{ ListChanged, Subscribe bool }
	Completions *struct{}
	Logging     *struct{}
	Tasks       *struct{}
	Extensions  map[string]json.RawMessage
}

func (c capabilities) fill(g *link.Greeting) {
	if c.Tools != nil {
		g.Tools, g.ToolsChanged = true, c.Tools.ListChanged
	}
	if c.Prompts != nil {
		g.Prompts, g.PromptsChanged = true, c.Prompts.ListChanged
	}
	if c.Resources != nil {
		g.Resources, g.ResourcesChanged, g.Subscribe = true, c.Resources.ListChanged, c.Resources.Subscribe
	}
	_, g.TaskExtension = c.Extensions[wire.TasksExtension]
	g.Completions, g.Logging, g.Tasks = c.Completions != nil, c.Logging != nil, c.Tasks != nil
}

func (l *Base) ReadGreeting(frame []byte, f wire.Frame) (link.Greeting, error) {
	if !f.Error.Empty() {
		e := wire.ReadError(frame, f.Error)
		return link.Greeting{}, l.Fail(
			diagnosis.Evidence{Stage: "initialize", What: diagnosis.InitRefused, RPCCode: e.Code, RPCMessage: l.Short(e.Message)},
			nil,
		)
	}
	var r struct {
		ProtocolVersion string
		Capabilities    capabilities
		ServerInfo      struct{ Name, Version string }
		Instructions    string
	}
	if err := json.Unmarshal(f.Result.Of(frame), &r); err != nil || r.ProtocolVersion == "" {
		return link.Greeting{}, l.Fail(
			diagnosis.Evidence{Stage: "initialize", What: diagnosis.Malformed, Note: "its answer to initialize has no protocolVersion"},
			err,
		)
	}
	if !wire.SpeaksSession(r.ProtocolVersion) {
		return link.Greeting{}, l.Fail(
			diagnosis.Evidence{Stage: "initialize", What: diagnosis.NoRevision, Note: "it offers " + l.Short(r.ProtocolVersion)},
			nil,
		)
	}
	g := link.Greeting{
		Revision:     r.ProtocolVersion,
		Name:         l.Short(r.ServerInfo.Name),
		Version:      l.Short(r.ServerInfo.Version),
		Instructions: Bounded(r.Instructions),
	}
	r.Capabilities.fill(&g)
	return g, nil
}

// ReadDiscovery reads the answer to server/discover. ok is false when the server
// does not speak a stateless revision that Bouncer speaks.
func (l *Base) ReadDiscovery(result []byte) (g link.Greeting, ok bool) {
	var r struct {
		SupportedVersions []string
		Capabilities      capabilities
		Instructions      string
		Meta              map[string]json.RawMessage `json:"_meta"`
	}
	if json.Unmarshal(result, &r) != nil || !slices.ContainsFunc(r.SupportedVersions, wire.SpeaksStateless) {
		return g, false
	}
	var info struct{ Name, Version string }
	// The name is only shown, so one that cannot be read is no fault.
	_ = json.Unmarshal(r.Meta[wire.MetaServer], &info)
	g = link.Greeting{
		Revision:     wire.NewestStateless,
		Name:         l.Short(info.Name),
		Version:      l.Short(info.Version),
		Instructions: Bounded(r.Instructions),
	}
	r.Capabilities.fill(&g)
	return g, true
}

// Bounded cuts what a server says to agents about itself.
func Bounded(s string) string {
	if len(s) > 16<<10 {
		return strings.ToValidUTF8(s[:16<<10], "")
	}
	return s
}
