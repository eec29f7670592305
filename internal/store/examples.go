package store

import (
	"context"

	"bouncer/internal/core/team"
)

// Examples returns the examples of a server, by their names.
func (s Control) Examples(ctx context.Context, serverID string) ([]team.Example, error) {
	return list(ctx, s.read, func(r scanner) (v team.Example, err error) {
		var at int64
		var arguments string
		err = r.Scan(&v.Server, &v.Name, &v.Tool, &arguments, &v.By, &at)
		v.Arguments, v.At = []byte(arguments), fromMS(at)
		return v, err
	}, `SELECT s.name, e.name, e.tool, e.arguments, e.by, e.at FROM examples e JOIN servers s ON s.id = e.server
		WHERE e.server = ? ORDER BY e.name`, serverID)
}

// KeepExample writes an example of a server, in the place of one of the same name.
func (t ServerTx) KeepExample(serverID string, v team.Example) error {
	return t.exec(`INSERT OR REPLACE INTO examples (server, name, tool, arguments, by, at) VALUES (?, ?, ?, ?, ?, ?)`,
		serverID, v.Name, v.Tool, string(v.Arguments), v.By, ms(v.At))
}

// RemoveExample removes an example; ErrNotFound for none.
func (t ServerTx) RemoveExample(serverID, name string) error {
	return t.one(`DELETE FROM examples WHERE server = ? AND name = ?`, serverID, name)
}
