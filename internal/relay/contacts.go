package relay

import (
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
)

// ContactOf returns how an agent was last seen; ok is false when it was not since the
// service started.
func ContactOf(d *Gateway, agentID string) (c team.Contact, ok bool) {
	c, ok = d.Contacts.Of(agentID)
	now := d.snapshot.Load()
	if !ok || now == nil || c.Fetched == nil {
		return c, ok
	}
	if a := now.Agents[agentID]; a != nil {
		if catalog := now.ReachOf(a, rules.Circumstances{}).Catalog(c.Server); catalog != nil {
			_, c.ListNow = catalog.Count(tools.Tools)
		}
		c.Stale = c.List != c.ListNow
	}
	return c, true
}
