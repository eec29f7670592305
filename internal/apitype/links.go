package apitype

import "bouncer/internal/core/team"

// ConnectLink is the page of the console where a holder supplies a credential for
// a server. agent is the name of the holder that is an agent.
func ConnectLink(base, server string, h team.Holder, agent string) string {
	at := base + ConnectPath + server
	switch {
	case h.Agent != "":
		return at + "?agent=" + agent
	case h.Person == "":
		return at + "?for=team"
	}
	return at
}
