package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"bouncer/internal/core/tools"
)

// Reviews are the modes of servers, and what was accepted of their lists, by the servers'
// ids and the tools' names. A server without a mode is trusted.
type Reviews struct {
	Modes    map[string]string
	Accepted map[string]map[string]tools.Tool
}

// Reviews returns how every server is reviewed.
func (s Control) Reviews(ctx context.Context) (Reviews, error) {
	out := Reviews{map[string]string{}, map[string]map[string]tools.Tool{}}
	type mode struct{ server, mode string }
	modes, err := list(ctx, s.read, func(r scanner) (m mode, err error) { return m, r.Scan(&m.server, &m.mode) },
		`SELECT server, mode FROM review_modes`)
	if err != nil {
		return out, err
	}
	for _, m := range modes {
		out.Modes[m.server] = m.mode
	}
	type accepted struct{ server, name, tool string }
	tooled, err := list(ctx, s.read, func(r scanner) (a accepted, err error) { return a, r.Scan(&a.server, &a.name, &a.tool) },
		`SELECT server, name, tool FROM accepted_tools`)
	if err != nil {
		return out, err
	}
	for _, a := range tooled {
		var t tools.Tool
		if err := json.Unmarshal([]byte(a.tool), &t); err != nil {
			return out, fmt.Errorf("read what was accepted of a server: %w", err)
		}
		if out.Accepted[a.server] == nil {
			out.Accepted[a.server] = map[string]tools.Tool{}
		}
		out.Accepted[a.server][a.name] = t
	}
	return out, nil
}

// SetReviewMode sets how a server's list is reviewed; "" for not at all.
func (t RuleTx) SetReviewMode(serverID, mode string) error {
	if mode == "" {
		return t.exec(`DELETE FROM review_modes WHERE server = ?`, serverID)
	}
	return t.exec(`INSERT INTO review_modes (server, mode) VALUES (?, ?) ON CONFLICT (server) DO UPDATE SET mode = excluded.mode`,
		serverID, mode)
}

// AcceptTools notes tools of a server as they were looked at.
func (t RuleTx) AcceptTools(serverID string, list []tools.Tool, by string, at time.Time) error {
	for _, tool := range list {
		raw, err := json.Marshal(tool)
		if err != nil {
			return fmt.Errorf("write what was accepted of a server: %w", err)
		}
		err = t.exec(`INSERT INTO accepted_tools (server, name, tool, by_name, at) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (server, name) DO UPDATE SET tool = excluded.tool, by_name = excluded.by_name, at = excluded.at`,
			serverID, tool.Name, string(raw), by, ms(at))
		if err != nil {
			return err
		}
	}
	return nil
}
