package exam

import (
	"encoding/json"
	"slices"

	"bouncer/internal/core/evidence"
	"bouncer/internal/core/wire"
)

// Opening is the params of initialize.
func (r *Run) Opening() []byte {
	// Maps of texts cannot fail to be written.
	params, _ := json.Marshal(map[string]any{
		"protocolVersion": wire.NewestSession,
		"capabilities":    map[string]any{},
		"clientInfo":      r.Info(),
	})
	return params
}

// Info is how Bouncer introduces itself.
func (r *Run) Info() map[string]string {
	return map[string]string{"name": "bouncer", "version": r.Options.Version}
}

// ReadGreeting reads the result of initialize.
func ReadGreeting(raw []byte) (s evidence.Session) {
	var m struct {
		Result struct {
			ProtocolVersion string                     `json:"protocolVersion"`
			Capabilities    map[string]json.RawMessage `json:"capabilities"`
			ServerInfo      struct{ Name, Version string }
		}
	}
	// What is missing shows as empty, and is judged.
	_ = json.Unmarshal(raw, &m)
	s.Opened, s.Revision = true, m.Result.ProtocolVersion
	s.Name, s.Version = m.Result.ServerInfo.Name, m.Result.ServerInfo.Version
	for name := range m.Result.Capabilities {
		s.Capabilities = append(s.Capabilities, name)
	}
	slices.Sort(s.Capabilities)
	if s.Revision != "" && !wire.SpeaksSession(s.Revision) && !wire.SpeaksStateless(s.Revision) {
		s.Offered = []string{s.Revision}
	}
	return s
}

// ReadDiscovery reads the result of server/discover.
func ReadDiscovery(frame []byte) (s evidence.Session, ok bool) {
	var m struct {
		Result struct {
			SupportedVersions []string                   `json:"supportedVersions"`
			Capabilities      map[string]json.RawMessage `json:"capabilities"`
			Meta              map[string]json.RawMessage `json:"_meta"`
		}
	}
	if json.Unmarshal(frame, &m) != nil || len(m.Result.SupportedVersions) == 0 {
		return s, false
	}
	s.Opened = true
	if !slices.ContainsFunc(m.Result.SupportedVersions, wire.SpeaksStateless) {
		s.Offered = m.Result.SupportedVersions
	}
	s.Revision = wire.NewestStateless
	var info struct{ Name, Version string }
	// The name is only shown.
	_ = json.Unmarshal(m.Result.Meta[wire.MetaServer], &info)
	s.Name, s.Version = info.Name, info.Version
	for name := range m.Result.Capabilities {
		s.Capabilities = append(s.Capabilities, name)
	}
	slices.Sort(s.Capabilities)
	return s, true
}
