// Package apitype is the contract of the REST API: what requests and answers hold,
// once, for the service, its client and its description. The nouns of the team
// (package team) are answers as they are; what is here is what only the API says.
package apitype

import (
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
)

// NewPass is a pass to be made.
type NewPass struct {
	Label string `json:"label,omitempty"`
	Days  int    `json:"days" doc:"for how long it is valid, up to 366, together with the hours"`
	Hours int    `json:"hours,omitempty" doc:"and for how many hours"`
	// InAddress makes a pass for agents that can set no header.
	InAddress bool `json:"inAddress,omitempty" doc:"a pass that is part of an address, for an agent that can set no header (setting address-passes)"`
}

// IssuedPass is a pass with its token.
type IssuedPass struct {
	Pass  team.Pass `json:"pass"`
	Token string    `json:"token" doc:"what the agent shows; given out this once"`
	URL   string    `json:"url,omitempty" doc:"address with the pass in it"`
}

// NewAgent is an agent to be added.
type NewAgent struct {
	Name  string `json:"name"`
	Kind  string `json:"kind,omitempty" doc:"which assistant it is, in a word"`
	Owner string `json:"owner,omitempty" doc:"name of the owner; empty for the team"`
}

// NewMachineCode asks for a one-time code with which an assistant on another machine is
// enrolled.
type NewMachineCode struct {
	Agent    string `json:"agent" doc:"name of the agent; it is made when the code is used, unless it is there"`
	Team     bool   `json:"team,omitempty" doc:"a new agent belongs to the team instead of you"`
	Hours    int    `json:"hours,omitempty" doc:"for how long the code can be used; 24 if left out"`
	PassDays int    `json:"passDays,omitempty" doc:"for how long the pass is valid; 90 if left out"`
}

// MachineInvited is a code, with what it is for.
type MachineInvited struct {
	Invitation team.MachineCode `json:"invitation"`
	Code       string           `json:"code" doc:"to be passed on; shown this once"`
}

// Redemption uses a code.
type Redemption struct {
	Code string `json:"code"`
	Host string `json:"host,omitempty" doc:"what the machine calls itself; shown to whoever made the code"`
	Kind string `json:"kind,omitempty" doc:"which assistant it is, in a word"`
}

// Redeemed is what a code gives.
type Redeemed struct {
	Agent   string    `json:"agent"`
	Address string    `json:"address" doc:"base URL of the service"`
	Pass    team.Pass `json:"pass"`
	Token   string    `json:"token" doc:"what the agent shows; given out this once"`
}

// Returned is a pass that a machine gives back.
type Returned struct {
	Token string `json:"token"`
}

// AgentPatch is what can be altered of an agent; nil fields stay.
type AgentPatch struct {
	Kind   *string `json:"kind,omitempty"`
	Owner  *string `json:"owner,omitempty" doc:"empty for the team"`
	Paused *bool   `json:"paused,omitempty"`
	// Confirmed can be set by admins and maintainers only.
	Confirmed *bool `json:"confirmed,omitempty" doc:"stand for the agent's name, so that rules bind it that name agents by a pattern; admins and maintainers only"`
	// Finder has two small tools listed, to search the others and to call them.
	Finder        *bool `json:"finder,omitempty" doc:"it searches its tools with two small ones instead of having all listed"`
	ContextTokens *int  `json:"contextTokens,omitempty" doc:"size of its context window in tokens; 0 for not known"`
	Version       *int  `json:"version,omitempty" doc:"the version that was read; without it the newest is altered"`
}

// ReachedTool is one tool with whether an agent can use it, and why.
type ReachedTool struct {
	Server      string `json:"server"`
	Tool        string `json:"tool" doc:"the server's own name"`
	Exposed     string `json:"exposed" doc:"the name on /mcp"`
	Title       string `json:"title"`
	Description string `json:"description"`
	Destructive bool   `json:"destructive" doc:"the server says so"`
	ReadOnly    bool   `json:"readOnly" doc:"the server says so"`
	// Tags are what maintainers say of it.
	Tags     []string `json:"tags,omitempty"`
	Admitted bool     `json:"admitted"`
	Effect   string   `json:"effect" enum:"admit,hold,refuse"`
	Depends  bool     `json:"depends,omitempty" doc:"its arguments can make it another decision"`
	Narrowed []string `json:"narrowed,omitempty" doc:"names of the rules that narrow it"`
	Next     string   `json:"next" enum:"answer,held,refused,paused,no-credential,unreachable,spent" doc:"what the agent's next call would meet"`
	Rule     string   `json:"rule" doc:"id of the deciding rule; empty when no rule admits"`
	RuleName string   `json:"ruleName" doc:"name of that rule"`
	Why      string   `json:"why"`
	Lacks    string   `json:"lacks,omitempty" doc:"what stands in the way though it is admitted, in words"`
}

// RuleInfo is a rule with what it is about now.
type RuleInfo struct {
	team.Rule
	Matches  rules.Matches `json:"matches"`
	Decided  int           `json:"decided" doc:"calls of the last seven days that it decided"`
	Warnings []string      `json:"warnings,omitempty" doc:"what is odd about it"`
}

// NewRule is a rule to be added.
type NewRule struct {
	Name   string `json:"name,omitempty" doc:"short name; made of what the rule says when left out"`
	Effect string `json:"effect" enum:"admit,hold,refuse"`
	Agent  string `json:"agent" doc:"glob over agent names"`
	Server string `json:"server" doc:"glob over server names"`
	Tool   string `json:"tool" doc:"glob over the server's own tool names"`
	Note   string `json:"note,omitempty" doc:"why, in a sentence; agents are told"`
	// Anyway accepts a rule that matches nothing yet.
	Anyway bool `json:"anyway,omitempty" doc:"add it though it matches nothing yet"`
	rules.Terms
}

// RulePatch is what can be altered of a rule; nil fields stay.
type RulePatch struct {
	Name   *string `json:"name,omitempty"`
	Effect *string `json:"effect,omitempty" enum:"admit,hold,refuse"`
	Agent  *string `json:"agent,omitempty" doc:"glob over agent names"`
	Server *string `json:"server,omitempty" doc:"glob over server names"`
	Tool   *string `json:"tool,omitempty" doc:"glob over the server's own tool names"`
	Note   *string `json:"note,omitempty" doc:"why, in a sentence; agents are told"`
	// Terms replaces all of them.
	Terms   *rules.Terms `json:"terms,omitempty" doc:"everything else that it says, as a whole; left out, that stays"`
	Anyway  bool         `json:"anyway,omitempty" doc:"alter it though it matches nothing then"`
	Version *int         `json:"version,omitempty" doc:"the version that was read; without it the newest is altered"`
}

// ConsentRequest is what a person is asked to agree to.
type ConsentRequest struct {
	App      string         `json:"app" doc:"client id of the program"`
	AppName  string         `json:"appName" doc:"what the program calls itself; nobody has checked it"`
	Document bool           `json:"document" doc:"the program is described at its client id, so that the host of that address vouches for it"`
	Returns  string         `json:"returns" doc:"host that the answer goes to"`
	Resource string         `json:"resource"`
	Agents   []ConsentAgent `json:"agents" doc:"the agents it can be"`
}

// ConsentAgent is an agent that a program can be.
type ConsentAgent struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind"`
	Owner   string   `json:"owner"`
	Tools   []string `json:"tools" doc:"what it can reach there"`
	Changes []string `json:"changes" doc:"those that destroy or alter, by what the servers say"`
}

// Decision is what a person answers.
type Decision struct {
	Agent string `json:"agent,omitempty" doc:"which agent the program is; empty to decline"`
}
