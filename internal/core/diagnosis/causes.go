package diagnosis

import "sort"

// The causes that only a closer look can tell, besides those that reaching a server ends in.
const (
	WrongScheme       Cause = "address.scheme-wrong"
	OtherProtocol     Cause = "address.another-protocol"
	NoAddress         Cause = "address.not-an-address"
	CertNotYet        Cause = "tls.certificate-not-yet-valid"
	ClientCertNeeded  Cause = "tls.client-certificate-required"
	ClientCertRefused Cause = "tls.client-certificate-refused"
	NoTLSVersion      Cause = "tls.no-version-in-common"
	HandshakeFails    Cause = "tls.handshake-fails"
	RedirectedToLogin Cause = "http.redirected-to-a-login"
	RequestTooLarge   Cause = "http.request-too-large"
	NotAcceptable     Cause = "http.not-acceptable"
	MediaRefused      Cause = "http.content-type-refused"
	MediaWrong        Cause = "http.content-type-wrong"
	HostRefused       Cause = "http.host-or-origin-refused"
	EncodingBroken    Cause = "http.encoding-broken"
	LegacyOnly        Cause = "transport.speaks-only-legacy-sse"
	StreamableHere    Cause = "transport.speaks-streamable-http"
	StreamableThere   Cause = "transport.streamable-http-at-another-path"
	SessionLost       Cause = "transport.session-lost"
	StreamCloses      Cause = "transport.event-stream-keeps-closing"
	TokenRevoked      Cause = "auth.token-revoked"
	WrongAudience     Cause = "auth.wrong-audience"
	WrongHeader       Cause = "auth.wrong-header"
	SchemeMissing     Cause = "auth.scheme-word-missing"
	SchemeDoubled     Cause = "auth.scheme-word-doubled"
	SchemeOther       Cause = "auth.scheme-word-wrong"
	StrayCharacters   Cause = "auth.stray-characters"
	Placeholder       Cause = "auth.placeholder-never-replaced"
	OtherEnvironment  Cause = "auth.key-of-another-environment"
	HeaderStripped    Cause = "auth.header-stripped-on-the-way"
	Quota             Cause = "auth.quota-exhausted"
	RedirectMismatch  Cause = "auth.redirect-address-mismatch"
	ClockSkew         Cause = "auth.clock-skew"
	InterpreterGone   Cause = "launch.interpreter-missing"
	RuntimeTooOld     Cause = "launch.runtime-too-old"
	OutOfMemory       Cause = "launch.out-of-memory"
	StartsSlowly      Cause = "launch.starts-too-slowly"
	NeverFlushes      Cause = "launch.output-never-flushed"
	WaitsForInput     Cause = "launch.waits-for-input"
	ServesAPort       Cause = "launch.serves-a-port-instead"
	WrongID           Cause = "protocol.wrong-id"
	Batch             Cause = "protocol.unexpected-batch"
	ListNeverAnswered Cause = "protocol.listing-never-answered"
	SameName          Cause = "protocol.two-tools-of-one-name"
	BadSchema         Cause = "protocol.invalid-tool-schema"
	BadName           Cause = "protocol.invalid-tool-name"
	Crashes           Cause = "protocol.crashes-on-a-request"
	ToolError         Cause = "call.tool-reports-an-error"
	UpstreamEnded     Cause = "call.upstream-credential-ended"
	ResultTooLarge    Cause = "call.result-too-large"
	OutputBroken      Cause = "call.result-breaks-the-output-schema"
	ThenFails         Cause = "call.works-then-fails"
	NoSuchTool        Cause = "call.no-such-tool"
	PassUnknown       Cause = "door.pass-unknown"
	PassRevoked       Cause = "door.pass-revoked"
	PassExpired       Cause = "door.pass-expired"
	AgentPaused       Cause = "door.agent-paused"
	ServerPaused      Cause = "door.server-paused"
	NoRule            Cause = "door.no-rule-admits"
	RuleRefuses       Cause = "door.a-rule-refuses"
	HeldUndecided     Cause = "door.held-and-not-decided"
	BudgetSpent       Cause = "door.budget-spent"
	NeverConnected    Cause = "assistant.never-connected"
	OldPass           Cause = "assistant.still-uses-an-old-pass"
	OldList           Cause = "assistant.has-not-fetched-the-new-list"
	TooManyTools      Cause = "assistant.offered-more-tools-than-it-can-hold"
	GaveUp            Cause = "assistant.gave-up"
	FileMalformed     Cause = "assistant.file-malformed"
	EntryMissing      Cause = "assistant.entry-missing"
	EntryElsewhere    Cause = "assistant.entry-under-another-key"
	EntryStale        Cause = "assistant.entry-stale"
)

// Who has to act.
type Who string

// Those who can have to act.
const (
	Registrar       Who = "registrar"        // whoever registered the server
	ServerOwner     Who = "server owner"     // whoever runs the server, or what stands before it
	CredentialOwner Who = "credential owner" // whoever supplied the credential
	AgentOwner      Who = "agent owner"
	Caller          Who = "caller" // whoever chose the arguments
	Nobody          Who = "nobody"
)

// actors are those in words.
var actors = map[Who]string{
	Registrar: registrar, ServerOwner: operator, CredentialOwner: "whoever supplied the credential",
	AgentOwner: "the owner of the agent", Caller: "the agent", Nobody: "nobody",
}

// Actor is that in words.
func (w Who) Actor() string { return actors[w] }

// Known is a cause, with what it means and who usually has to act.
type Known struct {
	Cause Cause
	Means string
	Who   Who
}

// usual is the catalog by cause.
var usual = func() map[Cause]Known {
	m := make(map[Cause]Known, len(catalog))
	for _, k := range catalog {
		m[k.Cause] = k
	}
	return m
}()

// WhoActs returns who usually has to act on a cause.
func (c Cause) WhoActs() Who {
	if k, ok := usual[c]; ok {
		return k.Who
	}
	return ServerOwner
}

// Catalog returns every cause, ordered by its code.
func Catalog() []Known {
	list := append([]Known{}, catalog...)
	sort.Slice(list, func(i, j int) bool { return list[i].Cause < list[j].Cause })
	return list
}

var catalog = []Known{
	{NoAddress, "the address is none that can be reached", Registrar},
	{WrongScheme, "the address says http where the server wants https, or no scheme that exists", Registrar},
	{NoSuchHost, "the name of the host does not resolve", Registrar},
	{Refused, "nothing accepts connections there", ServerOwner},
	{ConnectTimeout, "the connection is not answered", ServerOwner},
	{Unreachable, "there is no route to the address", ServerOwner},
	{OtherProtocol, "the port speaks another protocol than HTTP", Registrar},
	{CertUntrusted, "the certificate is not signed by an authority that is trusted here", Registrar},
	{CertExpired, "the certificate has expired", ServerOwner},
	{CertNotYet, "the certificate is not valid yet", ServerOwner},
	{CertOtherName, "the certificate is for another name", Registrar},
	{PlainOnTLS, "the address says http, and the port speaks TLS", Registrar},
	{TLSOnPlain, "the address says https, and the port speaks plain HTTP", Registrar},
	{ClientCertNeeded, "the server wants a client certificate", Registrar},
	{ClientCertRefused, "the server refuses the client certificate", CredentialOwner},
	{NoTLSVersion, "there is no version of TLS in common", ServerOwner},
	{HandshakeFails, "TLS cannot be opened", ServerOwner},
	{WrongPath, "nothing is served at this path", Registrar},
	{MethodRefused, "the address refuses POST", Registrar},
	{Redirected, "the address redirects elsewhere", Registrar},
	{RedirectedToLogin, "the address redirects to a login page", Registrar},
	{HTMLPage, "the address answers with a web page", Registrar},
	{NotJSONRPC, "the answer is no message of the protocol", Registrar},
	{TooManyRequests, "the server receives too many requests", ServerOwner},
	{RequestTooLarge, "the server refuses a request of this size", ServerOwner},
	{NotAcceptable, "the server cannot answer in a form that the protocol has", ServerOwner},
	{MediaRefused, "the server refuses JSON as the form of a request", ServerOwner},
	{MediaWrong, "the answer is labelled as something else than it is", ServerOwner},
	{ServerError, "the server failed", ServerOwner},
	{BadGateway, "what stands before the server answers for it", ServerOwner},
	{HostRefused, "the server refuses the Host or the Origin", ServerOwner},
	{StreamCut, "the answer breaks off", ServerOwner},
	{EncodingBroken, "the answer is encoded wrongly", ServerOwner},
	{OtherStatus, "the server answered with a status that says nothing more", ServerOwner},
	{LegacyOnly, "the address speaks only the transport of 2024", Registrar},
	{StreamableHere, "the address speaks streamable HTTP, and is registered as an event stream", Registrar},
	{StreamableThere, "the server speaks streamable HTTP at another path", Registrar},
	{NoLegacy, "the address opens no event stream", Registrar},
	{EndpointElsewhere, "the event stream wants its messages elsewhere", ServerOwner},
	{SessionLost, "the server forgets the session", ServerOwner},
	{StreamCloses, "the event stream closes again and again", ServerOwner},
	{NoCredential, "the server wants a credential and gets none", Registrar},
	{TokenRejected, "the server does not accept the credential", CredentialOwner},
	{TokenExpired, "the credential has ended", CredentialOwner},
	{TokenRevoked, "the credential was revoked", CredentialOwner},
	{WrongAudience, "the token is for another server", CredentialOwner},
	{ScopeMissing, "the token lacks a scope", CredentialOwner},
	{WrongHeader, "the credential is sent in another header than the server reads", Registrar},
	{SchemeMissing, "there is no scheme word before the credential", Registrar},
	{SchemeDoubled, "the scheme word is there twice", CredentialOwner},
	{SchemeOther, "the server wants another scheme word", Registrar},
	{StrayCharacters, "blanks, quotes or the like are around the credential", CredentialOwner},
	{Placeholder, "the credential is a placeholder that was never replaced", CredentialOwner},
	{OtherEnvironment, "the credential is for another environment", CredentialOwner},
	{HeaderStripped, "something on the way takes the credential out", ServerOwner},
	{NotAllowed, "the credential is valid, and this is forbidden to it", ServerOwner},
	{Quota, "a quota or a plan is used up", CredentialOwner},
	{SignInNeeded, "somebody has to sign in first", CredentialOwner},
	{SignInEnded, "the sign-in has ended and cannot be renewed", CredentialOwner},
	{ResourceMetadata, "the server's resource metadata is missing or does not fit", ServerOwner},
	{AuthorityMetadata, "the authorization server's metadata is missing or does not fit", ServerOwner},
	{AuthorityChanged, "the authorization server is another one than before", Registrar},
	{AuthorityFails, "the authorization server fails", ServerOwner},
	{ClientRefused, "the authorization server registers no client", ServerOwner},
	{ClientWrong, "the client's id or secret is wrong", CredentialOwner},
	{RedirectMismatch, "Bouncer's address is not among the client's redirect addresses", CredentialOwner},
	{ClockSkew, "clocks differ", ServerOwner},
	{ValueMissing, "the value of the credential cannot be read", CredentialOwner},
	{CommandNotFound, "the command is not there", Registrar},
	{NotExecutable, "the command may not or cannot be executed", Registrar},
	{InterpreterGone, "the interpreter that the program names is not there", Registrar},
	{DirMissing, "the working directory is not there", Registrar},
	{RelativePath, "a relative path depends on where Bouncer was started", Registrar},
	{LineInCommand, "the command holds a whole command line", Registrar},
	{GluedArguments, "several arguments are one", Registrar},
	{ExitsAtOnce, "the process ends at once", Registrar},
	{ModuleMissing, "a module or package is not installed", Registrar},
	{PackageMissing, "the package runner does not get the package", Registrar},
	{ScriptMissing, "a file that is needed is not there", Registrar},
	{RuntimeTooOld, "the runtime is too old for the program", Registrar},
	{SettingMissing, "a setting that is needed is missing", Registrar},
	{PortTaken, "the port that it listens on is taken", Registrar},
	{Killed, "the process was killed by a signal", ServerOwner},
	{OutOfMemory, "the process was ended for its memory", Registrar},
	{OverLimit, "the process went over its limits", Registrar},
	{StartsSlowly, "the process takes longer to start than it is given", Registrar},
	{NoiseOnStdout, "the process writes something else than the protocol", ServerOwner},
	{NeverFlushes, "the process keeps its answers in a buffer", ServerOwner},
	{WaitsForInput, "the process waits for somebody to type", Registrar},
	{ServesAPort, "the process listens on a port instead", Registrar},
	{ProcessesOff, "no process is started here", Registrar},
	{TooManyProcesses, "too many processes run", Registrar},
	{NoNode, "no node that runs the process can be had", Registrar},
	{NeverAnswers, "no answer comes", ServerOwner},
	{NoRevision, "there is no revision of the protocol in common", ServerOwner},
	{InitRefused, "the server refuses to open a session", ServerOwner},
	{WrongID, "answers carry another id than the request", ServerOwner},
	{Malformed, "the frames are not those of the protocol", ServerOwner},
	{Batch, "a batch comes where none may", ServerOwner},
	{NotServed, "something is declared and not served", ServerOwner},
	{NotOffered, "the server does not offer this", Nobody},
	{ListNeverAnswered, "the list never comes", ServerOwner},
	{EndlessPages, "a list has no end", ServerOwner},
	{SameName, "two tools have one name", ServerOwner},
	{BadSchema, "the schema of a tool is none", ServerOwner},
	{BadName, "the name of a tool is none", ServerOwner},
	{TooLarge, "a message is above the size limit", ServerOwner},
	{HeadersRefused, "the server finds that headers and body differ", ServerOwner},
	{Crashes, "the server ends on a request", ServerOwner},
	{ArgumentsRefused, "the arguments do not fit the tool", Caller},
	{NoSuchTool, "the server has no such tool", Caller},
	{ToolError, "the tool reports an error", ServerOwner},
	{UpstreamEnded, "the server's own credential for what stands behind it has ended", ServerOwner},
	{CallTimeout, "the tool does not answer in time", ServerOwner},
	{OutcomeUnknown, "the connection broke off during a call", ServerOwner},
	{ResultTooLarge, "the result is larger than is taken", Registrar},
	{OutputBroken, "the result does not fit the schema that the tool declares", ServerOwner},
	{ThenFails, "calls go well, and then they fail", ServerOwner},
	{PassUnknown, "the pass is none that is known here", AgentOwner},
	{PassRevoked, "the pass was revoked", AgentOwner},
	{PassExpired, "the pass has ended", AgentOwner},
	{AgentPaused, "the agent is paused", AgentOwner},
	{ServerPaused, "the server is paused", Registrar},
	{NoRule, "no rule admits it", Registrar},
	{RuleRefuses, "a rule refuses it", Registrar},
	{HeldUndecided, "a call was held, and nobody decided in time", Registrar},
	{BudgetSpent, "a budget is spent", AgentOwner},
	{FileMalformed, "the assistant's file cannot be read", AgentOwner},
	{EntryMissing, "Bouncer's entry is not in the assistant's file", AgentOwner},
	{EntryElsewhere, "Bouncer's entry stands under a key that the assistant does not read", AgentOwner},
	{EntryStale, "Bouncer's entry is of another address, is switched off, or another one wins", AgentOwner},
	{NeverConnected, "the assistant never came in", AgentOwner},
	{OldPass, "the assistant shows an old pass", AgentOwner},
	{OldList, "the assistant has an old list of tools", AgentOwner},
	{TooManyTools, "the assistant is offered more tools than it can hold", AgentOwner},
	{GaveUp, "the assistant gives up before the answer comes", AgentOwner},
}
