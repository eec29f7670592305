package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"bouncer/internal/core/team"
)

// Limits on what is kept of how servers did.
const (
	maxServerStates = 500  // of one server
	maxIncidents    = 1000 // in all; those that are over go first
)

// KeepServerState records that a server is in another state, and drops the oldest of its
// states.
func (t IncidentTx) KeepServerState(serverID string, v team.ServerState) error {
	err := t.exec(`INSERT OR REPLACE INTO server_states (server, at, state, cause, version)
		SELECT ?1, ?2, ?3, ?4, ?5 WHERE EXISTS (SELECT 1 FROM servers WHERE id = ?1)`, serverID, ms(v.At), v.State, v.Cause, v.Version)
	if err != nil {
		return fmt.Errorf("record the state of a server: %w", err)
	}
	return t.exec(`DELETE FROM server_states WHERE server = ?1 AND at < coalesce(
		(SELECT at FROM server_states WHERE server = ?1 ORDER BY at DESC LIMIT 1 OFFSET ?2), 0)`, serverID, maxServerStates-1)
}

// ServerStates returns the states that a server was in, the oldest first: those that began
// after a time, and the one before.
func (s *Store) ServerStates(ctx context.Context, serverID string, since time.Time) ([]team.ServerState, error) {
	return list(ctx, s.read, func(r scanner) (v team.ServerState, err error) {
		var at int64
		err = r.Scan(&at, &v.State, &v.Cause, &v.Version)
		v.At = fromMS(at)
		return v, err
	}, `SELECT at, state, cause, version FROM server_states WHERE server = ?1 AND at >= coalesce(
		(SELECT max(at) FROM server_states WHERE server = ?1 AND at <= ?2), 0) ORDER BY at`, serverID, ms(since))
}

const incidentColumns = `SELECT i.id, s.name, i.cause, i.title, i.remedy, i.who, i.evidence, i.first, i.since, i.last_good, i.until, i.reopened, i.notes
	FROM incidents i JOIN servers s ON s.id = i.server`

func scanIncident(r scanner) (v team.Incident, err error) {
	var evidence, notes string
	var first, since, good, until int64
	err = r.Scan(&v.ID, &v.Server, &v.Cause, &v.Title, &v.Remedy, &v.Who, &evidence, &first, &since, &good, &until, &v.Reopened, &notes)
	if err != nil {
		return v, err
	}
	v.First, v.Since = fromMS(first), fromMS(since)
	if good != 0 {
		at := fromMS(good)
		v.LastGood = &at
	}
	if until != 0 {
		at := fromMS(until)
		v.Until = &at
	}
	return v, errors.Join(json.Unmarshal([]byte(evidence), &v.Evidence), json.Unmarshal([]byte(notes), &v.Notes))
}

// Incidents returns incidents, those that last first, then the newest.
func (s *Store) Incidents(ctx context.Context, limit int) ([]team.Incident, error) {
	return list(ctx, s.read, scanIncident, incidentColumns+` ORDER BY i.until != 0, i.since DESC LIMIT ?`, limit)
}

// Incident returns one incident.
func (s *Store) Incident(ctx context.Context, id string) (team.Incident, error) {
	return first(ctx, s.read, scanIncident, incidentColumns+` WHERE i.id = ?`, id)
}

// LastIncident returns the newest incident of a cause at a server, ErrNotFound for none.
func (s *Store) LastIncident(ctx context.Context, serverID, cause string) (team.Incident, error) {
	return first(
		ctx,
		s.read,
		scanIncident,
		incidentColumns+` WHERE i.server = ? AND i.cause = ? ORDER BY i.since DESC LIMIT 1`,
		serverID,
		cause,
	)
}

// KeepIncident writes an incident as it is now, and drops the oldest that are over.
func (t IncidentTx) KeepIncident(serverID string, v team.Incident) error {
	evidence, err := json.Marshal(v.Evidence)
	if err != nil {
		return fmt.Errorf("write an incident: %w", err)
	}
	notes, err := json.Marshal(v.Notes)
	if err != nil {
		return fmt.Errorf("write an incident: %w", err)
	}
	at := func(when *time.Time) int64 {
		if when == nil {
			return 0
		}
		return ms(*when)
	}
	err = t.exec(
		`INSERT OR REPLACE INTO incidents
		(id, server, cause, title, remedy, who, evidence, first, since, last_good, until, reopened, notes)
		SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13 WHERE EXISTS (SELECT 1 FROM servers WHERE id = ?2)`,
		v.ID, serverID, v.Cause, v.Title, v.Remedy, v.Who, string(evidence), ms(v.First), ms(v.Since), at(v.LastGood), at(v.Until),
		v.Reopened, string(notes),
	)
	if err != nil {
		return fmt.Errorf("write an incident: %w", err)
	}
	return t.exec(`DELETE FROM incidents WHERE until != 0 AND id IN
		(SELECT id FROM incidents ORDER BY until = 0 DESC, since DESC LIMIT -1 OFFSET ?)`, maxIncidents)
}

// ResolveIncidents ends every incident that lasts at a server, and returns how many.
func (t IncidentTx) ResolveIncidents(serverID string, at time.Time) error {
	return t.exec(`UPDATE incidents SET until = ? WHERE server = ? AND until = 0`, ms(at), serverID)
}
