package store

import (
	"context"
	"database/sql"
	"time"

	"bouncer/internal/core/team"
)

// StoredCode is a one-time code with what it is for.
type StoredCode struct {
	team.MachineCode
	ByID  string // of the person who made it
	Hours int    // for how long the pass is valid
}

const codeQuery = `SELECT c.id, c.agent, c.owner, p.name, c.by_id, c.hours, c.created, c.expires, c.used, c.origin, c.host
	FROM machine_codes c JOIN people p ON p.id = c.by_id`

func scanCode(r scanner) (v StoredCode, err error) {
	var created, expires int64
	var used sql.NullInt64
	err = r.Scan(&v.ID, &v.Agent, &v.Owner, &v.By, &v.ByID, &v.Hours, &created, &expires, &used, &v.From, &v.Host)
	v.Created, v.Expires = fromMS(created), fromMS(expires)
	if used.Valid {
		at := fromMS(used.Int64)
		v.Used = &at
	}
	return v, err
}

// MachineCodes returns the codes, newest first.
func MachineCodes(ctx context.Context, s *Store) ([]StoredCode, error) {
	return list(ctx, s.read, scanCode, codeQuery+` ORDER BY c.id DESC LIMIT 500`)
}

// MachineCode returns what a code is for.
func MachineCode(ctx context.Context, s *Store, hash []byte) (StoredCode, error) {
	return first(ctx, s.read, scanCode, codeQuery+` WHERE c.hash = ?`, hash)
}

// AddMachineCode stores a code.
func (t AgentTx) AddMachineCode(v StoredCode, hash []byte) error {
	return t.exec(`INSERT INTO machine_codes (id, hash, agent, owner, by_id, hours, created, expires) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		v.ID, hash, v.Agent, v.Owner, v.ByID, v.Hours, ms(v.Created), ms(v.Expires))
}

// TakeMachineCode notes that a code was used, and from where; one that was is
// ErrNotFound.
func (t AgentTx) TakeMachineCode(id, from, host string, at time.Time) error {
	return t.one(`UPDATE machine_codes SET used = ?, origin = ?, host = ? WHERE id = ? AND used IS NULL`, ms(at), from, host, id)
}

// FreeMachineCode lets a code be used after all.
func (t AgentTx) FreeMachineCode(id string) error {
	return t.exec(`UPDATE machine_codes SET used = NULL, origin = '', host = '' WHERE id = ?`, id)
}

// RemoveMachineCode takes a code back.
func (t AgentTx) RemoveMachineCode(id string) error {
	return t.one(`DELETE FROM machine_codes WHERE id = ?`, id)
}
