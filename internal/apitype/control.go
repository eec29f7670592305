package apitype

import (
	"encoding/json"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
)

// ExplainQuery asks whether an agent may use a tool, and why.
type ExplainQuery struct {
	Agent  string `json:"agent"`
	Server string `json:"server" doc:"can be left out when tool is a name that agents see"`
	Tool   string `json:"tool" doc:"the server's own name, or the one that agents see"`
	// Arguments are those of a call; nil to ask about the tool.
	Arguments json.RawMessage `json:"arguments,omitempty" doc:"arguments of a call; left out to ask about the tool"`
	Client    string          `json:"client,omitempty" doc:"what the program calls itself; the agent's last one when left out"`
	Revision  string          `json:"revision,omitempty"`
	From      string          `json:"from,omitempty" doc:"address that the request comes from"`
	Present   bool            `json:"present,omitempty" doc:"whether the agent's person is there"`
}

// Explained is an explanation with what it is about.
type Explained struct {
	Agent    string `json:"agent"`
	Server   string `json:"server"`
	Tool     string `json:"tool"`
	Exposed  string `json:"exposed" doc:"the name on /mcp"`
	Contacts string `json:"contacts" doc:"who can change rules"`
	rules.Explanation
}

// LabelPatch alters what labels something has. Each list may be left out.
type LabelPatch struct {
	Kind   string   `json:"kind" enum:"agent,server,person,tool"`
	Name   string   `json:"name" doc:"name of the agent, the server or the person; the server's name for a tool"`
	Tool   string   `json:"tool,omitempty" doc:"the server's own name of the tool"`
	Add    []string `json:"add,omitempty"`
	Remove []string `json:"remove,omitempty"`
}

// NewBundle is a bundle to be added.
type NewBundle struct {
	Name    string        `json:"name"`
	Note    string        `json:"note,omitempty"`
	Entries []rules.Entry `json:"entries"`
}

// BundlePatch is what can be altered of a bundle; nil fields stay.
type BundlePatch struct {
	Note    *string        `json:"note,omitempty"`
	Entries *[]rules.Entry `json:"entries,omitempty"`
	Version *int           `json:"version,omitempty" doc:"the version that was read; without it the newest is altered"`
}

// BundleInfo is a bundle with what it comes to.
type BundleInfo struct {
	team.Bundle
	Tools  []string `json:"tools" doc:"the tools that it stands for now, as server/tool"`
	UsedBy []string `json:"usedBy" doc:"names of the rules and bundles that name it"`
}

// HeldCall is a call that waits, or waited, for somebody to decide.
type HeldCall struct {
	ID        string          `json:"id"`
	At        time.Time       `json:"at"`
	Until     time.Time       `json:"until" doc:"when it is refused if nobody decides"`
	State     string          `json:"state" enum:"waiting,admitted,refused,expired,cancelled"`
	Agent     string          `json:"agent"`
	Owner     string          `json:"owner" doc:"the agent's person; empty for the team"`
	Server    string          `json:"server"`
	Tool      string          `json:"tool" doc:"the server's own name"`
	Title     string          `json:"title,omitempty"`
	Effects   []string        `json:"effects,omitempty" doc:"what the tool does, by its tags and by what its server says: destructive, read-only, idempotent, open-world"`
	Arguments json.RawMessage `json:"arguments,omitempty" doc:"as they would be sent; secrets are masked"`
	Rule      string          `json:"rule" doc:"name of the rule that holds it"`
	Note      string          `json:"note,omitempty" doc:"note of that rule"`
	Mine      bool            `json:"mine" doc:"the person who asks may decide it"`
	Why       string          `json:"why,omitempty" doc:"why that person may not"`
	By        string          `json:"by,omitempty" doc:"who decided"`
	How       string          `json:"how,omitempty" enum:"once,session,calls,hour,changed,refuse,expired,cancelled"`
	Word      string          `json:"word,omitempty" doc:"what that person said to the agent"`
	Decided   *time.Time      `json:"decided,omitempty"`
	Before    []PastDecision  `json:"before,omitempty" doc:"past decisions on the like, newest first"`
}

// PastDecision is what was decided about a call of the same tool by the same agent.
type PastDecision struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	How  string    `json:"how"`
	Word string    `json:"word,omitempty"`
}

// HeldDecision is what a person decides about a held call.
type HeldDecision struct {
	How       string          `json:"how" enum:"once,session,calls,hour,changed,refuse"`
	Calls     int             `json:"calls,omitempty" doc:"for calls: how many more are admitted, 1 to 100"`
	Arguments json.RawMessage `json:"arguments,omitempty" doc:"for changed: the arguments that are sent instead"`
	Word      string          `json:"word,omitempty" doc:"a word to the agent"`
}

// StandingDecision is a decision about a held call that admits more of the like.
type StandingDecision struct {
	ID     string    `json:"id" doc:"that of the call that it was made about"`
	Agent  string    `json:"agent"`
	Server string    `json:"server"`
	Tool   string    `json:"tool"`
	Rule   string    `json:"rule"`
	By     string    `json:"by"`
	How    string    `json:"how" enum:"session,calls,hour"`
	Made   time.Time `json:"made"`
	Until  time.Time `json:"until" doc:"when it ends at the latest"`
	Left   int       `json:"left,omitempty" doc:"how many calls it still admits; left out for any number"`
	Mine   bool      `json:"mine" doc:"the person who asks may take it back"`
}

// ReachMatrix is the reach of many agents at a glance.
type ReachMatrix struct {
	Servers []ReachColumn `json:"servers"`
	Agents  []ReachRow    `json:"agents"`
}

// ReachColumn is the tools of one server.
type ReachColumn struct {
	Server string      `json:"server"`
	Labels []string    `json:"labels,omitempty"`
	Tools  []ReachTool `json:"tools"`
}

// ReachTool is one tool of a server.
type ReachTool struct {
	Name        string `json:"name"`
	Title       string `json:"title,omitempty"`
	Destructive bool   `json:"destructive,omitempty" doc:"by its tags, by what its server says, or for lack of a word"`
}

// ReachRow is what one agent's next calls would meet.
type ReachRow struct {
	Name   string   `json:"name"`
	Owner  string   `json:"owner"`
	Labels []string `json:"labels,omitempty"`
	Cells  []string `json:"cells" doc:"for each server a text with a letter for each of its tools: a answered, n answered within limits, h held, r refused, p paused, c no credential, u unreachable, s a budget is spent, - not offered to it"`
}

// Rehearsal is a change of the rules that is to be tried on what was and what is. A roster
// can be given instead of single changes.
type Rehearsal struct {
	Add    []NewRule    `json:"add,omitempty"`
	Update []RuleUpdate `json:"update,omitempty"`
	Remove []string     `json:"remove,omitempty" doc:"names of rules"`
	Roster string       `json:"roster,omitempty" doc:"a roster, whose rules are taken"`
	Prune  bool         `json:"prune,omitempty" doc:"rules that the roster does not name are removed"`
	Days   int          `json:"days,omitempty" doc:"over the calls of so many days; 0 for 7"`
}

// RuleUpdate is an alteration of one rule.
type RuleUpdate struct {
	Rule string `json:"rule" doc:"its name or its id"`
	RulePatch
}

// Rehearsed is what a change of the rules would make another decision.
type Rehearsed struct {
	Text         string           `json:"text" doc:"the result in words"`
	Days         int              `json:"days"`
	Calls        int              `json:"calls" doc:"calls that were looked at"`
	Refused      int              `json:"refused" doc:"calls that would be refused now"`
	Held         int              `json:"held" doc:"calls that would be held now"`
	Admitted     int              `json:"admitted" doc:"calls that would be admitted now"`
	Unclear      int              `json:"unclear" doc:"calls whose arguments matter and are not kept whole"`
	Gone         int              `json:"gone" doc:"calls by agents or of tools that are not there any more"`
	Groups       []RehearsedGroup `json:"groups" doc:"those calls by agent and tool, the most first"`
	ReachChanged int              `json:"reachChanged" doc:"pairs of agent and tool that would be another decision"`
	Reach        []RehearsedTool  `json:"reach" doc:"the first of those"`
	Takes        bool             `json:"takes" doc:"something would be taken away"`
}

// RehearsedTool is a tool of an agent with the decision before and after.
type RehearsedTool struct {
	Agent    string `json:"agent"`
	Server   string `json:"server"`
	Tool     string `json:"tool"`
	Before   string `json:"before" enum:"admit,hold,refuse"`
	After    string `json:"after" enum:"admit,hold,refuse"`
	Narrowed bool   `json:"narrowed,omitempty" doc:"the decision is the same, with other limits on its arguments"`
}

// RehearsedGroup is the calls of a tool by an agent that would be another decision.
type RehearsedGroup struct {
	RehearsedTool
	Calls   int               `json:"calls"`
	Samples []RehearsedSample `json:"samples"`
}

// RehearsedSample is one such call.
type RehearsedSample struct {
	ID        string    `json:"id"`
	At        time.Time `json:"at"`
	Arguments string    `json:"arguments" doc:"masked and bounded"`
}

// ReachDifference is what an agent can use at one time and could not at another.
type ReachDifference struct {
	Agent  string        `json:"agent"`
	Since  time.Time     `json:"since"`
	Until  time.Time     `json:"until"`
	Before int           `json:"before" doc:"tools that it could use then"`
	After  int           `json:"after" doc:"tools that it could use at the end"`
	Tools  []ReachChange `json:"tools" doc:"those that differ"`
}

// ReachChange is a tool of which the decision is another one at two times. It is by the
// rules and the tool lists alone, whatever the health of servers.
type ReachChange struct {
	Server string `json:"server"`
	Tool   string `json:"tool"`
	Before string `json:"before" doc:"admitted, within limits or held; empty for not at all"`
	After  string `json:"after" doc:"likewise"`
}

// HeldNotice is what is sent to an address outside about a held call. It is signed by HTTP
// Message Signatures (RFC 9421) with HMAC and SHA-256.
type HeldNotice struct {
	Notice   string    `json:"notice" enum:"held,decided,incident,incident-over,test" doc:"what happened; test for a trial"`
	At       time.Time `json:"at"`
	Call     *HeldCall `json:"call,omitempty" doc:"the call; mine is always false"`
	Deciders []string  `json:"deciders,omitempty" doc:"who may decide, like group:dispatch"`
	// Incident is what goes wrong, of a notice about it.
	Incident *team.Incident `json:"incident,omitempty"`
	Console  string         `json:"console" doc:"where it is decided"`
	Command  string         `json:"command,omitempty" doc:"what shows it on the command line"`
}

// NoticeState tells how the sending of notices goes.
type NoticeState struct {
	To      string     `json:"to" doc:"where notices go, without path and query; empty for nowhere"`
	Sent    int        `json:"sent" doc:"since the service started"`
	Failed  int        `json:"failed" doc:"likewise"`
	Error   string     `json:"error,omitempty" doc:"why the last one failed that did"`
	ErrorAt *time.Time `json:"errorAt,omitempty"`
}
