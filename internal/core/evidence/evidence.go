// Package evidence is what a checkup observed of a tool server: each step on the way to
// it, with what was sent, what came back and how long it took. It judges nothing, and it
// holds no secret: of credentials only the form is kept, and texts are masked by whoever
// collects them. Zero fields were not observed.
package evidence

import (
	"time"

	"bouncer/internal/core/diagnosis"
)

// Evidence is everything that one checkup observed.
type Evidence struct {
	Target      Target
	At          time.Time
	Credentials []Credential
	Lookup      *Step
	Addresses   []string // what the name resolves to
	Connect     *Step
	TLS         *Handshake
	// Greeting are the first bytes that came from a port that speaks something else.
	Greeting []byte
	Probes   []Exchange
	OAuth    []OAuthStep
	Process  *Process
	Session  *Session
	Call     *Call
}

// Target is what was looked at, without its secrets.
type Target struct {
	Server    string // name of a registered server; "" for one that is not registered
	Transport string // as in team.Server
	Detect    bool   // the transport was to be found out
	URL       string
	Command   string
	Args      []string
	Dir       string
	Env       []string // names of its variables
	// Unset are variables whose value still is a placeholder.
	Unset []string
	// Missing says that the target is reached with a sign-in and nobody has signed in, or
	// that a value cannot be read; in words.
	Missing string
	// Unusable says why its credential could not be had, where that is known more exactly.
	Unusable *diagnosis.Finding
	// SignIn is set when it is reached with a sign-in.
	SignIn bool
	// Patience is how long an answer was waited for.
	Patience time.Duration
	// MessageLimit is the largest message that is taken, in bytes.
	MessageLimit int
	// Revision is the newest revision that Bouncer asked for.
	Revision string
}

// Step is one thing that was done, and how it went.
type Step struct {
	Took time.Duration
	Err  error
	// Timeout is set when the time was up.
	Timeout bool
}

// Failed reports whether it went wrong.
func (s *Step) Failed() bool { return s != nil && (s.Err != nil || s.Timeout) }

// Handshake is how TLS was opened, without trusting anything first.
type Handshake struct {
	Step
	// Other is set when it was tried because the address says http.
	Other bool
	// Chain is what the server presented, its own certificate first.
	Chain []Certificate
	// Verify says why the chain is not trusted for the host now; nil when it is.
	Verify error
	// Asked is set when the server asked for a client certificate; Given when there was one.
	Asked, Given bool
	// Alert is the TLS alert with which the server ended it; 0 for none.
	Alert int
	// First are the first bytes that came instead of a handshake.
	First []byte
}

// Certificate is what a certificate says of itself.
type Certificate struct {
	Subject, Issuer     string
	Names               []string
	NotBefore, NotAfter time.Time
	SelfSigned          bool
}

// Purpose says why a request was sent.
type Purpose string

// The purposes of requests, besides opening a conversation.
const (
	Initialize        Purpose = "initialize"
	WithoutCredential Purpose = "initialize without the credential"
	OtherHeader       Purpose = "initialize with the credential in another form"
	Cleaned           Purpose = "initialize with the credential cleaned"
	OtherPath         Purpose = "initialize at another path"
	PlainGet          Purpose = "plain GET"
	StreamGet         Purpose = "GET of an event stream"
	OtherHost         Purpose = "initialize with another Host"
	OtherScheme       Purpose = "initialize with the other scheme"
	Again             Purpose = "the same once more"
	Legacy            Purpose = "event stream of the transport of 2024"
	Posted            Purpose = "message to the endpoint of the event stream"
	Lists             Purpose = "a list"
)

// Exchange is one request over HTTP, and its answer.
type Exchange struct {
	Step
	Purpose Purpose
	Method  string
	URL     string
	// Sent names the headers in which a credential was sent.
	Sent []string
	// Form is the form of the credential, of OtherHeader: the header, and the word before
	// the value.
	Form Form

	Status      int // 0 when no answer came
	Header      map[string]string
	Body        string // first bytes, masked
	Size        int    // bytes that were read
	Whole       bool   // the body was read to its end
	BodyErr     error
	BodyTimeout bool
	// Reply is the form of what was answered.
	Reply Reply
	// Endpoint is where an event stream of 2024 wants messages.
	Endpoint string
	// Redirects are the addresses within one origin that were followed.
	Redirects []string
	// Opened is set when the answer opens a conversation.
	Opened bool
}

// Answered reports whether an HTTP answer came.
func (x *Exchange) Answered() bool { return x != nil && x.Status != 0 }

// Form is how a credential is sent: in which header, after which word.
type Form struct {
	Header, Scheme string
	Query          string
}

// Find returns the first exchange for a purpose; nil for none.
func (e *Evidence) Find(p Purpose) *Exchange {
	for i := range e.Probes {
		if e.Probes[i].Purpose == p {
			return &e.Probes[i]
		}
	}
	return nil
}

// Each returns all exchanges for a purpose.
func (e *Evidence) Each(p Purpose) (list []*Exchange) {
	for i := range e.Probes {
		if e.Probes[i].Purpose == p {
			list = append(list, &e.Probes[i])
		}
	}
	return list
}

// OAuthStep is one step of OAuth on its own.
type OAuthStep struct {
	Step
	What   string // one of the steps below
	URL    string
	Status int
	Code   string // the error code of the answer (RFC 6749, section 5.2)
	Text   string // its own words, masked
	// Found is what a document says.
	Resource, Issuer string
	Servers          []string
	Authorize, Token string
	Register         string
	Methods          []string // of proving the code (RFC 7636)
	Expected         string   // what Resource or Issuer should have been
	Location         string
	Malformed        bool // it was no JSON
	Documents        bool // clients can describe themselves by an address
	Rotated          bool // another refresh token was issued
	Scopes           []string
	Date             time.Time // what the other side's clock says
}

// The steps of OAuth.
const (
	ResourceStep  = "resource metadata"
	AuthorityStep = "authorization server metadata"
	RegisterStep  = "registration of the client"
	AuthorizeStep = "authorization"
	TokenStep     = "token"
	RefreshStep   = "refresh"
)

// Process is what was seen of a local process.
type Process struct {
	// What can be known without starting it.
	DirMissing  bool
	Path        string // where the command was found; "" when it was not
	NotFound    bool
	Denied      bool // it is there, and may not be executed
	IsDir       bool
	Relative    bool
	WholeLine   bool   // the command holds arguments
	Program     string // the first word of such a line
	Interpreter string // of its first line; "" for none
	// InterpreterMissing is the interpreter, or what env looks for, that is not there.
	InterpreterMissing string
	CarriageReturn     bool   // the first line ends with one
	Format             string // why the system cannot run the file
	Script             string // the file that a runtime is to run
	ScriptMissing      bool
	Glued              string // an argument that holds several
	StartErr           error
	Off                bool // no process is started here

	// What it did.
	Started bool
	Took    time.Duration // until its answer, or until it ended or was given up
	Exited  bool
	Code    int
	Signal  string
	Core    bool
	// OutOfMemory is set when the system or its limits ended it for its memory.
	OutOfMemory bool
	// Stdout is the beginning of what it wrote there, raw but masked.
	Stdout      []byte
	Stderr      string // head and tail, masked
	LastWrote   time.Duration
	CPU         time.Duration // that it used until it was given up
	Running     bool          // it, or what it started, was computing then, and not waiting
	Ports       []int         // that it, or what it started, listens on
	Terminal    bool          // it has the terminal open
	AfterEOF    []byte        // what it wrote to standard output after its input was closed
	EndedAtEOF  bool
	LeftBehind  int // processes that outlived it
	SilentLimit bool
}

// Session is what a conversation showed.
type Session struct {
	Opened   bool
	Revision string
	// Offered are the revisions that the server names when it refuses ours.
	Offered       []string
	Name, Version string
	Capabilities  []string
	Refused       *RPCError // of initialize
	// Reply is the form of the answer to initialize.
	Reply Reply
	Noise []string // lines before it, or between, that are no protocol
	Asks  []Ask    // what was asked after it
	Tools []Tool
	// Listed is set when the tool list was read to its end.
	Listed bool
	// Stream is what became of the event stream that servers may offer.
	StreamClosed int // how many times in a row it closed at once, without a word
	// SessionLost is set when the server forgot the session between two requests;
	// Reopened when another could be opened.
	SessionLost, Reopened bool
}

// RPCError is an error of JSON-RPC.
type RPCError struct {
	Code    int
	Message string
	Data    string
}

// Ask is one request within a conversation.
type Ask struct {
	Step
	Method string
	Pages  int
	Items  int
	Bytes  int
	Error  *RPCError
	Reply  Reply
	Status int // over HTTP
	Body   string
	Header map[string]string
	// Endless says why the pages were given up.
	Endless string
	// Ended is set when the process ended on it.
	Ended bool
	// Malformed says what is wrong with its result.
	Malformed string
}

// Tool is a tool as it is listed.
type Tool struct {
	Name   string
	Twice  bool
	Schema string // what is wrong with its schema; "" for nothing
	Bad    string // what is wrong with its name
}

// Call is one call of a tool.
type Call struct {
	Step
	Tool  string
	Times int // how many were made
	// Good is how many went well before the first that did not.
	Good    int
	Error   *RPCError
	Failed  bool // the tool reports an error of its own
	Text    string
	Bytes   int
	Status  int
	Body    string
	Output  string // what of the output schema the result breaks
	Ended   bool
	Cut     bool
	Limit   int // in bytes, that it went over
	Refused []string
	// Retry is how long the server asks to wait.
	Retry string
	// Unfit says why its arguments do not fit the schema that the server lists.
	Unfit string
	// NoSuch is set when the server lists no such tool.
	NoSuch bool
}
