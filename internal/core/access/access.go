// Package access is who may do what to whose: one table of roles and actions, with how
// far each reaches. Routes, services, event streams and the console all ask it, so
// that there is one answer.
package access

import "bouncer/internal/core/team"

// Scope is how far something that a role may do reaches.
type Scope string

// The scopes, from the narrowest to the widest.
const (
	None Scope = ""
	Own  Scope = "own"  // what belongs to the person, or to one of their agents
	Team Scope = "team" // that, and what belongs to the team
	All  Scope = "all"
)

// Action is something that can be done, as noun.verb.
type Action string

// The actions. What is seen or kept without an owner has scope All or None.
const (
	SeePeople      Action = "people.see"
	KeepPeople     Action = "people.keep"
	SeeLogins      Action = "logins.see"
	EndLogins      Action = "logins.end"
	SeeServers     Action = "servers.see"
	SeeSetup       Action = "servers.see-setup" // headers, arguments, variables, standard error
	KeepServers    Action = "servers.keep"
	ReachInside    Action = "servers.reach-inside" // have sign-ins lead to private addresses
	SeeAgents      Action = "agents.see"
	KeepAgents     Action = "agents.keep"
	ConfirmAgents  Action = "agents.confirm" // stand for a name
	SpeakForAgents Action = "agents.speak"   // hold a pass, or lend the agent to a program
	SupplyAgents   Action = "agents.supply"  // decide which credential it uses of its own
	SeeRules       Action = "rules.see"
	KeepRules      Action = "rules.keep"
	SeeHeld        Action = "held.see"    // besides those that one may decide
	DecideHeld     Action = "held.decide" // as far as the rule says that one may
	SeeSecrets     Action = "secrets.see" // never their values
	AddSecrets     Action = "secrets.add"
	SourceSecrets  Action = "secrets.source" // have values read where the service runs
	InspectSecrets Action = "secrets.inspect"
	RotateSecrets  Action = "secrets.rotate"
	RemoveSecrets  Action = "secrets.remove"
	SeeSignIns     Action = "sign-ins.see"
	MakeSignIns    Action = "sign-ins.make"
	EndSignIns     Action = "sign-ins.end"
	SeeConsents    Action = "consents.see"
	EndConsents    Action = "consents.end"
	SeeCalls       Action = "calls.see"
	SeeChanges     Action = "changes.see"
	UndoChanges    Action = "changes.undo" // besides what undoing amounts to
	KeepRoster     Action = "roster.keep"  // besides people, which are the admins'
	SeeService     Action = "service.see"  // limits and what else concerns whoever runs it
	KeepLocker     Action = "locker.keep"
	Backup         Action = "backup.make"
	KeepNodes      Action = "nodes.keep"
)

// Row is one action with how far it reaches for each role.
type Row struct {
	Action                             Action
	Admin, Maintainer, Member, Auditor Scope
}

// Table is the whole of it.
var Table = []Row{
	{SeePeople, All, All, All, All},
	{KeepPeople, All, None, None, None},
	{SeeLogins, All, Own, Own, Own},
	{EndLogins, All, Own, Own, Own},
	{SeeServers, All, All, All, All},
	{SeeSetup, All, All, None, None},
	{KeepServers, All, All, None, None},
	{ReachInside, All, None, None, None},
	{SeeAgents, All, All, Own, All},
	{KeepAgents, All, All, Own, None},
	{ConfirmAgents, All, All, None, None},
	{SpeakForAgents, Team, Team, Own, None},
	{SupplyAgents, Team, Team, Own, None},
	{SeeRules, All, All, All, All},
	{KeepRules, All, All, None, None},
	{SeeHeld, All, All, Own, All},
	{DecideHeld, All, All, All, None},
	{SeeSecrets, All, All, Own, All},
	{AddSecrets, All, All, None, None},
	{SourceSecrets, All, None, None, None},
	{InspectSecrets, All, All, All, None},
	{RotateSecrets, Team, Team, Own, None},
	{RemoveSecrets, All, Team, Own, None},
	{SeeSignIns, All, All, Own, All},
	{MakeSignIns, Team, Team, Own, None},
	{EndSignIns, All, Team, Own, None},
	{SeeConsents, All, All, Own, All},
	{EndConsents, All, All, Own, None},
	{SeeCalls, All, All, Own, All},
	{SeeChanges, All, All, None, All},
	{UndoChanges, All, All, None, None},
	{KeepRoster, All, All, None, None},
	{SeeService, All, All, None, All},
	{KeepLocker, All, None, None, None},
	{Backup, All, None, None, None},
	{KeepNodes, All, None, None, None},
}

// byAction is the table to look things up in.
var byAction = func() map[Action]map[team.Role]Scope {
	out := map[Action]map[team.Role]Scope{}
	for _, r := range Table {
		out[r.Action] = map[team.Role]Scope{
			team.Admin: r.Admin, team.Maintainer: r.Maintainer, team.Member: r.Member, team.Auditor: r.Auditor,
		}
	}
	return out
}()

// ScopeOf is how far an action reaches for a role; None for what it may not do, and for
// an action that is in no row.
func ScopeOf(role team.Role, a Action) Scope { return byAction[a][role] }

// Roles are the roles that may do something at all, from the widest on.
func Roles(a Action) (out []team.Role) {
	for _, role := range team.Roles {
		if ScopeOf(role, a) != None {
			out = append(out, role)
		}
	}
	return out
}

// May reports whether somebody may do something to what belongs to owner: the name of
// a person, or "" for the team.
func May(by team.Person, a Action, owner string) bool {
	switch ScopeOf(by.Role, a) {
	case All:
		return true
	case Team:
		return owner == "" || owner == by.Name
	case Own:
		return owner != "" && owner == by.Name
	}
	return false
}

// Visible are those of some calls that somebody may see.
func Visible(calls []team.Call, p team.Person) []team.Call {
	if ScopeOf(p.Role, SeeCalls) == All {
		return calls
	}
	var own []team.Call
	for _, c := range calls {
		if May(p, SeeCalls, c.Person) {
			own = append(own, c)
		}
	}
	return own
}

// Of is how far everything reaches for a role, for those who show what can be done.
func Of(role team.Role) map[Action]Scope {
	out := map[Action]Scope{}
	for _, r := range Table {
		if s := ScopeOf(role, r.Action); s != None {
			out[r.Action] = s
		}
	}
	return out
}
