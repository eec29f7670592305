// Package team holds the nouns of what a team keeps in Bouncer: people, agents
// and their passes, servers, secrets, rules, and the record of calls and
// changes. They are plain data, as people and programs are shown them: a secret
// value, a pass or a password is never a field of any of them.
package team

import (
	"encoding/json"
	"fmt"
	"regexp"
	"time"

	"bouncer/internal/core/budget"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/rules"
)

// Role is what a person may do.
type Role string

// The roles, from the widest to the narrowest.
const (
	Admin      Role = "admin"      // everything, people included
	Maintainer Role = "maintainer" // servers, secrets, rules and all agents
	Member     Role = "member"     // the own agents and their calls
	Auditor    Role = "auditor"    // sees everything, alters nothing
)

// Roles lists every role.
var Roles = []Role{Admin, Maintainer, Member, Auditor}

// Person is a member of the team.
type Person struct {
	ID       string `json:"id"`
	Name     string `json:"name" doc:"short name, used to sign in"`
	FullName string `json:"fullName"`
	Role     Role   `json:"role" enum:"admin,maintainer,member,auditor"`
	// MustChange is set while the password is a one-time password.
	MustChange bool      `json:"mustChange" doc:"the password is a one-time password and has to be replaced first"`
	Elsewhere  bool      `json:"elsewhere" doc:"signs in at the identity provider, which also says the role"`
	Created    time.Time `json:"created"`
	Version    int       `json:"version" doc:"how often it was altered; to be given back with an alteration"`
}

// Login is a console session or a command-line token.
type Login struct {
	ID      string     `json:"id"`
	Person  string     `json:"person"`
	Kind    string     `json:"kind" enum:"console,token"`
	Label   string     `json:"label"`
	From    string     `json:"from" doc:"address that it was opened from"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Used    *time.Time `json:"used,omitempty"`
	Present bool       `json:"present" doc:"it is the one that asks"`
}

// Invitation lets somebody join the team by a link.
type Invitation struct {
	ID      string    `json:"id"`
	Role    Role      `json:"role" enum:"admin,maintainer,member,auditor"`
	Note    string    `json:"note" doc:"whom it is for"`
	By      string    `json:"by"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
	Taken   string    `json:"taken" doc:"name of the person who took it; empty while nobody has"`
	State   string    `json:"state" enum:"open,taken,expired"`
}

// Agent is one assistant in use.
type Agent struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Kind    string     `json:"kind" doc:"which assistant it is, in a word"`
	Owner   string     `json:"owner" doc:"name of the person who owns it; empty when the team does"`
	Expires *time.Time `json:"expires,omitempty" doc:"when the last of its valid passes ends"`
	Paused  bool       `json:"paused"`
	Created time.Time  `json:"created"`
	// Confirmed is set when somebody who may make rules stands for the name.
	Confirmed bool `json:"confirmed" doc:"an admin or a maintainer stands for its name, so that rules bind it that name agents by a pattern"`
	Passes    int  `json:"passes" doc:"how many passes are valid now"`
	// Finder and ContextTokens are about its list of tools.
	Finder        bool       `json:"finder" doc:"it searches its tools with two small ones instead of having all listed"`
	ContextTokens int        `json:"contextTokens" doc:"size of its context window in tokens; 0 for not known"`
	Seen          *time.Time `json:"seen,omitempty" doc:"when one of its passes was last shown"`
	Version       int        `json:"version" doc:"how often it was altered; to be given back with an alteration"`
}

// CheckContextTokens reports a size of a context window that cannot be, as a *FieldError.
func CheckContextTokens(n int) error {
	if n < 0 || n > 100_000_000 {
		return &FieldError{Field: "contextTokens", Why: "must be between 0 and 100,000,000"}
	}
	return nil
}

// Pass is what an agent shows to be let in. The token itself is shown once and
// kept only as a hash.
type Pass struct {
	ID      string     `json:"id"`
	Agent   string     `json:"agent"`
	Kind    string     `json:"kind" enum:"pass,token,address" doc:"a pass; an access token of a program that signed in; a pass that is part of an address"`
	Label   string     `json:"label"`
	Hint    string     `json:"hint" doc:"the last characters of the token, to tell passes apart"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Revoked *time.Time `json:"revoked,omitempty"`
	Used    *time.Time `json:"used,omitempty" doc:"when it was last shown"`
	State   string     `json:"state" enum:"valid,expired,revoked"`
}

// StateAt tells whether the pass is valid, expired or revoked at a time.
func (p Pass) StateAt(now time.Time) string {
	switch {
	case p.Revoked != nil:
		return "revoked"
	case !now.Before(p.Expires):
		return "expired"
	}
	return "valid"
}

// Server is a tool server that the team registered.
type Server struct {
	ID        string   `json:"id"`
	Name      string   `json:"name"`
	Transport string   `json:"transport" enum:"streamable-http,sse,stdio,rest"`
	URL       string   `json:"url" doc:"address of the MCP endpoint, or the base address of a REST API; empty for a local process"`
	Command   string   `json:"command,omitempty" doc:"of a local process: a name in PATH, or an absolute path"`
	Args      []string `json:"args,omitempty" doc:"of a local process: its arguments"`
	Dir       string   `json:"dir,omitempty" doc:"of a local process: its working directory"`
	Env       []string `json:"env,omitempty" doc:"of a local process: its variables, as NAME=value"`
	SecretEnv string   `json:"secretEnv,omitempty" doc:"of a local process: the variable that carries the secret"`
	Secret    string   `json:"secret" doc:"name of the secret it is given; empty for none"`
	ServerOptions
	Document string    `json:"-"` // OpenAPI document of a REST API
	Issuer   string    `json:"issuer,omitempty" doc:"authorization server that was found for it, and that it is kept to"`
	Paused   bool      `json:"paused"`
	Created  time.Time `json:"created"`
	Version  int       `json:"version" doc:"how often it was altered; to be given back with an alteration"`
}

// ServerOptions are the settings of a server that most servers need none of.
type ServerOptions struct {
	Sharing      string   `json:"sharing,omitempty" enum:"auto,shared,private" doc:"whether agents share the conversation with it"`
	SecretHeader string   `json:"secretHeader,omitempty" doc:"header that carries the secret as it is; without one it is sent as a bearer token"`
	SecretQuery  string   `json:"secretQuery,omitempty" doc:"of a REST API: query parameter that carries the secret"`
	Headers      []string `json:"headers,omitempty" doc:"further headers, as Name: value"`
	CA           string   `json:"ca,omitempty" doc:"PEM of certificate authorities that are trusted for it, besides the system's"`
	ClientCert   string   `json:"clientCert,omitempty" doc:"PEM of the client certificate that is shown to it"`
	ClientKey    string   `json:"clientKey,omitempty" doc:"name of the secret that holds the key of the client certificate"`
	MemoryMiB    int      `json:"memoryMiB,omitempty" doc:"of a local process: how much memory it and what it starts may use together"`
	OpenFiles    int      `json:"openFiles,omitempty" doc:"of a local process: how many files each of its processes may have open"`
	Processes    int      `json:"processes,omitempty" doc:"of a local process: how many processes it may be, itself included"`
	CallLimits
	ToolLimits []ToolLimits `json:"toolLimits,omitempty" doc:"other limits for some of its tools; the first that fits counts"`
	// StartSeconds is for package runners that download first, and the like.
	StartSeconds int `json:"startSeconds,omitempty" doc:"of a local process: how long it may take to open a conversation; 0 for 30 s of silence"`

	MessageMiB int         `json:"messageMiB,omitempty" doc:"largest message that is taken from it; 0 for the setting message-limit"`
	Operations []Operation `json:"operations,omitempty" doc:"of a REST API: the operations that are tools"`
	Per        string      `json:"per,omitempty" enum:"team,person,agent" doc:"whose credential is used: the team's, each person's own, each agent's own; a more specific one always wins"`
	Places     []Place     `json:"places,omitempty" doc:"further secrets, and where they go"`
	SignIn     *SignInWay  `json:"signIn,omitempty" doc:"it is reached with an OAuth grant"`

	Placement string `json:"placement,omitempty" doc:"of a local process, in a cluster: everywhere, which is at every node, one, which is at one node at a time, or label:NAME, which is at every node with that label"`

	PrivateRanges []string `json:"privateRanges,omitempty" doc:"private address ranges, like 10.0.0.0/8, in which its authorization server may be; kept by admins"`
}

// CallLimits are how long a call may take and how much it may bring.
type CallLimits struct {
	CallSeconds int    `json:"callSeconds,omitempty" doc:"how long a call may take; 0 for the setting call-timeout"`
	ResultKiB   int    `json:"resultKiB,omitempty" doc:"largest result of a tool; 0 for as large as a message may be"`
	TooLarge    string `json:"tooLarge,omitempty" enum:"cut,refuse" doc:"what becomes of a larger result: cut it, with a note, or refuse it; refuse if left out"`
}

// ToolLimits are limits of some tools.
type ToolLimits struct {
	Tool string `json:"tool" doc:"glob over the server's own tool names"`
	CallLimits
}

// What becomes of a result that is too large.
const (
	TooLargeCut    = "cut"
	TooLargeRefuse = "refuse"
)

// Place is a further secret of a server, and where it goes.
type Place struct {
	How    string `json:"how" enum:"header,query,basic,variable,file"`
	Name   string `json:"name,omitempty" doc:"name of the header, the query parameter or the variable; a file's path is put into the variable"`
	Scheme string `json:"scheme,omitempty" doc:"of a header: word before the value"`
	Secret string `json:"secret" doc:"name of the secret"`
}

// SignInWay says how a grant at a server is come by.
type SignInWay struct {
	Grant        string `json:"grant" enum:"code,client,workload,assertion" doc:"code: somebody signs in with a browser; client: Bouncer has credentials of its own there; workload: the platform that Bouncer runs on vouches for it; assertion: the identity provider vouches for the person"`
	Scope        string `json:"scope,omitempty" doc:"scopes to ask for; what the server says if left out"`
	Issuer       string `json:"issuer,omitempty" doc:"the only authorization server that the client id is for"`
	ClientID     string `json:"clientId,omitempty" doc:"of a client registered by hand; without one Bouncer registers itself"`
	ClientSecret string `json:"clientSecret,omitempty" doc:"name of the secret that holds the client's secret"`
	SigningKey   string `json:"signingKey,omitempty" doc:"name of the secret that holds the private key for signed assertions"`
	Assertion    string `json:"assertion,omitempty" doc:"of workload: name of the secret that holds the platform's assertion, often one that is read from a file"`
}

// SignIn is an OAuth grant at a server.
type SignIn struct {
	ID        string     `json:"id,omitempty"`
	Server    string     `json:"server"`
	Person    string     `json:"person" doc:"whose it is; empty for the team's and for an agent's"`
	Agent     string     `json:"agent" doc:"agent that has a grant of its own"`
	State     string     `json:"state" enum:"valid,needed,ended,failing" doc:"needed: nobody has signed in yet; ended: somebody has to sign in again"`
	Grant     string     `json:"grant" enum:"code,client,workload,assertion"`
	Issuer    string     `json:"issuer"`
	Scope     string     `json:"scope"`
	Note      string     `json:"note" doc:"why it ended or fails"`
	Expires   *time.Time `json:"expires,omitempty" doc:"of the access token, which is renewed ahead of that where it can be"`
	Renews    bool       `json:"renews" doc:"it is renewed without anybody's doing"`
	Created   *time.Time `json:"created,omitempty"`
	Refreshed *time.Time `json:"refreshed,omitempty"`
	Mine      bool       `json:"mine" doc:"you can sign in for it"`
	Link      string     `json:"link,omitempty" doc:"where its holder signs in"`
}

// Consent is what a person agreed to: that a program speaks for an agent.
type Consent struct {
	ID       string     `json:"id"`
	App      string     `json:"app" doc:"client id of the program"`
	AppName  string     `json:"appName" doc:"what the program calls itself"`
	Agent    string     `json:"agent"`
	Person   string     `json:"person"`
	Resource string     `json:"resource"`
	Created  time.Time  `json:"created"`
	Used     *time.Time `json:"used,omitempty"`
	Revoked  *time.Time `json:"revoked,omitempty"`
	Why      string     `json:"why,omitempty" doc:"why it was revoked, when nobody did it"`
}

// Operation is an operation of a REST API that is a tool.
type Operation struct {
	ID          string `json:"id" doc:"its operationId, or METHOD /path"`
	Name        string `json:"name,omitempty" doc:"name of the tool, where it is another one"`
	Description string `json:"description,omitempty" doc:"description of the tool, where it is another one"`
}

// Stage is one timed step of reaching a server.
type Stage struct {
	Name   string  `json:"name" enum:"resolve,connect,tls,launch,initialize,tools"`
	Millis float64 `json:"ms" doc:"how long it took, in milliseconds"`
	OK     bool    `json:"ok"`
	Note   string  `json:"note,omitempty"`
}

// Health is what Bouncer last saw of a server.
type Health struct {
	State         string             `json:"state" enum:"connecting,ready,failing,paused,waiting" doc:"waiting: nobody has signed in to it yet"`
	Revision      string             `json:"revision" doc:"revision of the protocol that was negotiated"`
	ServerName    string             `json:"serverName"`
	ServerVersion string             `json:"serverVersion"`
	Tools         int                `json:"tools"`
	Prompts       int                `json:"prompts"`
	Resources     int                `json:"resources" doc:"resources and resource templates"`
	Edition       string             `json:"edition" doc:"digest of the tool list"`
	LeftOut       []string           `json:"leftOut,omitempty" doc:"tools that could not be taken, and why"`
	Finding       *diagnosis.Finding `json:"finding,omitempty" doc:"why it fails, when it does"`
	Stages        []Stage            `json:"stages,omitempty"`
	Stderr        string             `json:"stderr,omitempty" doc:"end of what a local process wrote to standard error, masked"`
	Noise         int                `json:"noise,omitempty" doc:"lines that a local process wrote to standard output and that are not the protocol"`
	PID           int                `json:"pid,omitempty" doc:"process that runs, of a server that is one"`
	Started       *time.Time         `json:"started,omitempty" doc:"when that process was started"`
	Node          string             `json:"node,omitempty" doc:"node at which the process runs, of a server that is placed at some"`
	Altered       string             `json:"altered,omitempty" doc:"file of a local process that changed since it was started, so that it still runs the code before"`
	Since         time.Time          `json:"since" doc:"when this state began"`
	Checked       time.Time          `json:"checked"`
}

// Edition is one recorded state of a server's tool list.
type Edition struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	Digest  string    `json:"digest"`
	Tools   int       `json:"tools"`
	Added   []string  `json:"added" doc:"tools that the edition before did not have"`
	Removed []string  `json:"removed" doc:"tools that only the edition before had"`
	Changed []string  `json:"changed" doc:"tools whose description is another one"`
}

// Secret is a stored credential, without its value.
type Secret struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Kind    string     `json:"kind" enum:"bearer,value,basic,environment,client-secret,private-key"`
	Owner   string     `json:"owner,omitempty" doc:"person whose own it is; empty for the team's and for an agent's"`
	Agent   string     `json:"agent,omitempty" doc:"agent whose own it is"`
	Source  string     `json:"source,omitempty" doc:"where the value is read when it is used: env NAME, file PATH or command LINE; empty when it is kept in the locker"`
	UsedBy  []string   `json:"usedBy" doc:"servers that are given it"`
	Facts   Facts      `json:"facts"`
	Ends    *time.Time `json:"ends,omitempty"`
	Warning string     `json:"warning,omitempty" doc:"what has to be done about it soon"`
	Used    *time.Time `json:"used,omitempty" doc:"when it was last sent, to the minute"`
	Created time.Time  `json:"created"`
	Rotated *time.Time `json:"rotated,omitempty"`
	Overlap *time.Time `json:"overlap,omitempty" doc:"until when the value before is still tried"`
}

// Own reports whether the secret is one person's or one agent's, and not the team's.
func (s Secret) Own() bool { return s.Owner != "" || s.Agent != "" }

// warnAhead is how long before its end a secret is warned about.
const warnAhead = 14 * 24 * time.Hour

// WarningAt says what has to be done about a secret that ends soon, or has ended; "" for nothing.
func (s Secret) WarningAt(now time.Time) string {
	switch {
	case s.Ends == nil:
		return ""
	case now.After(*s.Ends):
		return "it ended on " + s.Ends.Format(time.DateOnly) + "; get a new one and rotate it"
	case s.Ends.Sub(now) < 48*time.Hour:
		return fmt.Sprintf("it ends in %d hours; get a new one and rotate it", int(s.Ends.Sub(now).Hours()))
	case s.Ends.Sub(now) < warnAhead:
		return fmt.Sprintf("it ends in %d days; get a new one and rotate it", int(s.Ends.Sub(now).Hours()/24))
	}
	return ""
}

// Facts are what can be told of a value without showing it.
type Facts struct {
	Form     string   `json:"form,omitempty" doc:"jwt when it is a JSON Web Token, which was read but not verified"`
	Issuer   string   `json:"issuer,omitempty"`
	Audience []string `json:"audience,omitempty"`
	Scopes   []string `json:"scopes,omitempty"`
	Subject  string   `json:"subject,omitempty"`
	Notes    []string `json:"notes,omitempty" doc:"what was noticed and mended when it was entered"`
}

// Rule is a rule with who made it and when.
type Rule struct {
	ID      string    `json:"id"`
	Name    string    `json:"name" doc:"short name, for people"`
	Version int       `json:"version" doc:"counts alterations; given back with one, it guards against overwriting somebody else's"`
	Effect  string    `json:"effect" enum:"admit,hold,refuse"`
	Agent   string    `json:"agent" doc:"glob over agent names"`
	AgentID string    `json:"agentId,omitempty" doc:"agent that a rule with a plain name is for; whoever has the name later is not meant"`
	Server  string    `json:"server" doc:"glob over server names"`
	Tool    string    `json:"tool" doc:"glob over the server's own tool names"`
	Note    string    `json:"note"`
	By      string    `json:"by" doc:"name of the person who made it"`
	Created time.Time `json:"created"`
	rules.Terms
}

// Core is the rule as it decides; by is the full name of who made it.
func (r Rule) Core(by string) rules.Rule {
	return rules.Rule{
		ID: r.ID, Name: r.Name, Effect: rules.Effect(r.Effect), Agent: r.Agent, AgentID: r.AgentID, Server: r.Server, Tool: r.Tool,
		Note: r.Note, By: by, Terms: r.Terms,
	}
}

// Label is a word that maintainers put on an agent, a server or a tool, or a group that
// a person is in.
type Label struct {
	Kind    string `json:"kind" enum:"agent,server,person,tool"`
	Subject string `json:"-"` // id of the agent, the server or the person
	Name    string `json:"name" doc:"name of the agent, the server or the person; the server's name for a tool"`
	Tool    string `json:"tool,omitempty" doc:"the server's own name of the tool"`
	Label   string `json:"label"`
	Source  string `json:"source,omitempty" enum:"login" doc:"login for a group that the identity provider says; empty for what somebody set"`
}

// The kinds of what can have labels.
const (
	OnAgent  = "agent"
	OnServer = "server"
	OnPerson = "person"
	OnTool   = "tool"
)

// FromLogin is the source of groups that the identity provider says.
const FromLogin = "login"

// Bundle is a number of tools that rules can name as one.
type Bundle struct {
	ID      string        `json:"id"`
	Name    string        `json:"name"`
	Version int           `json:"version" doc:"counts alterations; given back with one, it guards against overwriting somebody else's"`
	Note    string        `json:"note"`
	Entries []rules.Entry `json:"entries" doc:"tools by globs, or other bundles"`
}

// Budget says how much agents may call.
type Budget struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Version int       `json:"version" doc:"counts alterations; given back with one, it guards against overwriting somebody else's"`
	Note    string    `json:"note"`
	By      string    `json:"by" doc:"name of the person who made it"`
	Created time.Time `json:"created"`
	budget.Allowance
}

// Core is the budget as it is counted.
func (b Budget) Core() budget.Budget {
	return budget.Budget{ID: b.ID, Name: b.Name, Note: b.Note, Allowance: b.Allowance}
}

// CallControl is what rules had to do with a call besides admitting or refusing it.
type CallControl struct {
	Narrowed []string `json:"narrowed,omitempty" doc:"names of the rules that narrowed it, filled something in or hid something"`
	Held     string   `json:"held,omitempty" doc:"name of the rule that held it"`
	By       string   `json:"by,omitempty" doc:"name of the person who decided the held call"`
	How      string   `json:"how,omitempty" doc:"how it was decided: once, session, calls, hour, changed, refuse; or expired, cancelled, restarted"`
	Word     string   `json:"word,omitempty" doc:"what that person had to say to the agent"`
	Asked    bool     `json:"asked,omitempty" doc:"it was the agent's own user, asked through the assistant"`
	WaitedMS int64    `json:"waitedMs,omitempty" doc:"how long it waited to be decided, in milliseconds"`
	Hidden   int      `json:"hidden,omitempty" doc:"fields taken out of its result"`
	Budget   string   `json:"budget,omitempty" doc:"name of the budget that it was over"`
}

// Dependent is a kind of things that hang on something which is to be removed, and
// what becomes of them.
type Dependent struct {
	Kind    string   `json:"kind" doc:"what they are, in the plural"`
	Names   []string `json:"names"`
	Becomes string   `json:"becomes" doc:"what a removal makes of them, in words"`
	Blocks  bool     `json:"blocks,omitempty" doc:"set when the removal is refused because of them"`
	Stays   bool     `json:"stays,omitempty" doc:"set when they are left as they are"`
}

// Call is one record of the journal.
type Call struct {
	ID        string    `json:"id"`
	At        time.Time `json:"at"`
	Agent     string    `json:"agent"`
	Person    string    `json:"person" doc:"owner of the agent; empty when the team owns it"`
	Server    string    `json:"server"`
	Tool      string    `json:"tool" doc:"the server's own name of the tool"`
	Decision  string    `json:"decision" enum:"admit,refuse" doc:"what became of it in the end; a held call was admitted or refused by somebody"`
	Rule      string    `json:"rule" doc:"id of the deciding rule; empty when no rule admits"`
	RuleName  string    `json:"ruleName,omitempty" doc:"name of that rule; left out when it is removed since"`
	Outcome   string    `json:"outcome" enum:"ok,tool-error,error,refused,cancelled,timeout,unreachable,no-credential"`
	Error     string    `json:"error,omitempty"`
	Micros    int64     `json:"us" doc:"how long it took at the door, in microseconds"`
	BytesIn   int       `json:"bytesIn" doc:"size of the arguments"`
	BytesOut  int       `json:"bytesOut" doc:"size of the answer"`
	Session   string    `json:"session,omitempty"`
	Arguments string    `json:"arguments,omitempty" doc:"masked and bounded; only in a single call"`
	Result    string    `json:"result,omitempty" doc:"masked and bounded; only in a single call"`
	Cut       bool      `json:"cut,omitempty" doc:"arguments or result are longer than what is kept"`
	Times     int       `json:"times" doc:"how often it happened within a minute; more than 1 for refusals that repeat"`
	// Control is nil for calls with which rules had nothing more to do.
	Control *CallControl `json:"control,omitempty" doc:"what rules had to do with it besides admitting or refusing it"`
}

// What can be decided about a call.
const (
	DecisionAdmit  = "admit"
	DecisionRefuse = "refuse"
)

// What can become of a call.
const (
	OutcomeOK          = "ok"
	OutcomeToolError   = "tool-error" // the tool says that it failed
	OutcomeError       = "error"      // an error of the protocol
	OutcomeRefused     = "refused"
	OutcomeCancelled   = "cancelled"
	OutcomeTimeout     = "timeout"
	OutcomeUnreachable = "unreachable"
	// OutcomeNoCredential is a call that was admitted, and for which there is none.
	OutcomeNoCredential = "no-credential"
)

// JournalState is how the journal does.
type JournalState struct {
	Mode      string     `json:"mode" enum:"normal,strict"`
	Recording bool       `json:"recording" doc:"false while calls cannot be recorded"`
	Why       string     `json:"why,omitempty" doc:"why calls cannot be recorded"`
	Since     *time.Time `json:"since,omitempty" doc:"since when they cannot"`
	Lost      int64      `json:"lost" doc:"calls since the start that ran and could not be recorded"`
	KeepDays  int        `json:"keepDays" doc:"for how many days records are kept; 0 for without a bound"`
	KeepBytes int64      `json:"keepBytes" doc:"how large the database may become; 0 for without a bound"`
	Bytes     int64      `json:"bytes" doc:"how large the database is"`
}

// ChainHead is the newest seal of the journal. Kept elsewhere, it shows later whether what
// was sealed until then is still as it was.
type ChainHead struct {
	Seal int64     `json:"seal" doc:"number of the seal; 0 for none"`
	At   time.Time `json:"at"`
	Hash string    `json:"hash" doc:"BLAKE2b-256, or SHA-256 for seals of before, in hexadecimal digits"`
}

// SignedHead is a ChainHead that can be kept elsewhere.
type SignedHead struct {
	ChainHead
	Node      string `json:"node,omitempty" doc:"node of the cluster whose journal it is"`
	Key       string `json:"key" doc:"Ed25519 public key, base64"`
	Signature string `json:"signature" doc:"over the number, the hash and the time of the seal, base64"`
}

// ChainState is what a verification of the journal found.
type ChainState struct {
	Node     string `json:"node,omitempty" doc:"node of the cluster whose journal it is"`
	Whole    bool   `json:"whole" doc:"nothing was altered, removed or put in"`
	Seals    int64  `json:"seals"`
	Records  int64  `json:"records" doc:"calls that are sealed"`
	Unsealed int64  `json:"unsealed" doc:"calls of before there were seals"`
	Dropped  int64  `json:"dropped" doc:"the last seal whose calls were removed for their age; 0 for none"`
	Kept     int    `json:"kept" doc:"heads that the nodes of the cluster keep of it, and that it was held against"`
	// KeptBefore counts heads of chains that the node had before it began its journal anew.
	KeptBefore int            `json:"keptBefore" doc:"heads of chains that this node had before it began its journal anew"`
	Head       ChainHead      `json:"head"`
	Problems   []ChainProblem `json:"problems" doc:"the first of what is wrong"`
	Others     []ChainState   `json:"others,omitempty" doc:"what the other nodes of the cluster found of their journals"`
}

// ChainProblem is something that is wrong with the journal.
type ChainProblem struct {
	Seal int64     `json:"seal" doc:"number of the seal; 0 where it concerns none"`
	At   time.Time `json:"at" doc:"when it was sealed"`
	What string    `json:"what"`
}

// Outcomes lists what can become of a call.
var Outcomes = []string{
	OutcomeOK, OutcomeToolError, OutcomeError, OutcomeRefused, OutcomeCancelled, OutcomeTimeout, OutcomeUnreachable, OutcomeNoCredential,
}

// TurnedAway are tries to come in without a valid pass that are alike.
type TurnedAway struct {
	First  time.Time `json:"first"`
	Last   time.Time `json:"last"`
	Times  int       `json:"times"`
	Cause  string    `json:"cause" enum:"no-pass,scheme-missing,another-scheme,placeholder,not-a-pass,unknown,revoked,expired,for-another-address"`
	From   string    `json:"from" doc:"address that it came from"`
	Client string    `json:"client,omitempty" doc:"what the client calls itself"`
	Agent  string    `json:"agent,omitempty" doc:"agent of a pass that was valid once"`
	Server string    `json:"server,omitempty" doc:"server whose address was asked"`
}

// States of a MachineCode.
const (
	CodeOpen  = "open"
	CodeUsed  = "used"
	CodeEnded = "ended"
)

// MachineCode is a one-time code with which an assistant on another machine is enrolled.
type MachineCode struct {
	ID      string     `json:"id"`
	Agent   string     `json:"agent"`
	Owner   string     `json:"owner" doc:"owner of the agent; empty for the team"`
	By      string     `json:"by" doc:"who made it"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Used    *time.Time `json:"used,omitempty"`
	From    string     `json:"from,omitempty" doc:"address that it was used from"`
	Host    string     `json:"host,omitempty" doc:"what the machine calls itself"`
	State   string     `json:"state" enum:"open,used,ended"`
}

// StateAt tells whether the code can be used at a time.
func (c MachineCode) StateAt(now time.Time) string {
	switch {
	case c.Used != nil:
		return CodeUsed
	case !now.Before(c.Expires):
		return CodeEnded
	}
	return CodeOpen
}

// Contact is how an agent was last seen since the service started.
type Contact struct {
	First    time.Time  `json:"first"`
	Last     time.Time  `json:"last"`
	Times    int        `json:"times" doc:"how often it introduced itself"`
	Client   string     `json:"client" doc:"what the assistant calls itself"`
	Version  string     `json:"version"`
	Revision string     `json:"revision" doc:"of the protocol, as it is spoken with the agent"`
	Pass     string     `json:"pass" doc:"id of the pass that was shown"`
	Tools    int        `json:"tools" doc:"how many tools the list had that it fetched last"`
	Fetched  *time.Time `json:"fetched,omitempty" doc:"when it fetched a list of tools last"`
	Server   string     `json:"server,omitempty" doc:"the only server that it was the list of; all within reach if left out"`
	List     string     `json:"list,omitempty" doc:"which list that was; another one is offered when this differs from listNow"`
	ListNow  string     `json:"listNow,omitempty" doc:"the list that is offered now, at the same address"`
	Stale    bool       `json:"stale" doc:"it has not fetched the present list"`
}

// Bucket is a count of calls within one step of time.
type Bucket struct {
	At      time.Time `json:"at"`
	OK      int       `json:"ok"`
	Refused int       `json:"refused"`
	Failed  int       `json:"failed"`
}

// Change is one recorded alteration of Bouncer's own state.
type Change struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	Person  string    `json:"person"`
	What    string    `json:"what" doc:"noun and verb, as in server.register"`
	Subject string    `json:"subject"`
	Before  string    `json:"before,omitempty"`
	After   string    `json:"after,omitempty"`
	// Undoable is for whoever asks.
	Undoable bool    `json:"undoable" doc:"you can undo it, if nothing was altered there since"`
	Revert   *Revert `json:"-"`
}

// Kinds of Revert.
const (
	RevertAgent     = "agent"
	RevertPerson    = "person"
	RevertServer    = "server"
	RevertRule      = "rule"
	RevertRuleAdded = "rule-added"
	RevertRuleGone  = "rule-gone"
	RevertLabels    = "labels"

	RevertBundle      = "bundle"
	RevertBundleAdded = "bundle-added"
	RevertBundleGone  = "bundle-gone"
	RevertBudget      = "budget"
	RevertBudgetAdded = "budget-added"
	RevertBudgetGone  = "budget-gone"
	RevertReview      = "review-mode"
)

// Revert is what puts a change back: an alteration of the one that was altered, as long
// as it has the version that the change left it with.
type Revert struct {
	Kind    string          `json:"kind"`
	ID      string          `json:"id"`
	Name    string          `json:"name"`
	Version int             `json:"version"`
	Patch   json.RawMessage `json:"patch,omitempty"`
}

// FieldError names the field of an input that cannot be accepted, and the fix.
type FieldError struct{ Field, Why string }

func (e *FieldError) Error() string { return e.Field + " " + e.Why }

// NotFoundError says that nothing of that kind has that name.
type NotFoundError struct{ Kind, Name string }

func (e *NotFoundError) Error() string { return fmt.Sprintf("there is no %s %q", e.Kind, e.Name) }

// NotAllowedError says what somebody's role does not allow, and whom to ask.
type NotAllowedError struct{ Why, Hint string }

func (e *NotAllowedError) Error() string { return e.Why }

// ConflictError says why a change clashes with what is there, and what helps.
type ConflictError struct{ Field, Why, Hint string }

func (e *ConflictError) Error() string { return e.Why }

var nameRE = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// CheckName reports whether a name that people type is acceptable: 1 to 32
// lower-case letters, digits and single dashes inside. The error is a
// *FieldError for the given field.
func CheckName(field, name string) error {
	if !nameRE.MatchString(name) {
		return &FieldError{
			field,
			fmt.Sprintf("is %q; names are 1 to 32 lower-case letters, digits and dashes, and begin and end with a letter or digit", name),
		}
	}
	return nil
}
