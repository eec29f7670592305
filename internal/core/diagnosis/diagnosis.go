// Package diagnosis turns evidence into findings. Evidence is what was observed
// while reaching a server; a finding names one root cause, who has to act, and
// the remedy. The functions are pure: they probe nothing.
package diagnosis

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"
	"time"
)

// Cause is a code of the form layer.cause.
type Cause string

// The causes that reaching a server can end in.
const (
	NoSuchHost        Cause = "address.name-does-not-resolve"
	Refused           Cause = "address.connection-refused"
	ConnectTimeout    Cause = "address.connection-times-out"
	Unreachable       Cause = "address.unreachable"
	CertUntrusted     Cause = "tls.certificate-not-trusted"
	CertExpired       Cause = "tls.certificate-expired"
	CertOtherName     Cause = "tls.certificate-for-another-name"
	PlainOnTLS        Cause = "tls.plain-http-on-a-tls-port"
	TLSOnPlain        Cause = "tls.tls-on-a-plain-http-port"
	WrongPath         Cause = "http.wrong-path"
	MethodRefused     Cause = "http.method-refused"
	Redirected        Cause = "http.redirected"
	HTMLPage          Cause = "http.html-page"
	NotJSONRPC        Cause = "http.not-json-rpc"
	TooManyRequests   Cause = "http.too-many-requests"
	ServerError       Cause = "http.server-error"
	BadGateway        Cause = "http.bad-gateway"
	OtherStatus       Cause = "http.unexpected-status"
	StreamCut         Cause = "http.stream-cut"
	NoCredential      Cause = "auth.no-credential"
	TokenRejected     Cause = "auth.token-rejected"
	NotAllowed        Cause = "auth.not-allowed"
	TokenExpired      Cause = "auth.token-expired"
	SignInNeeded      Cause = "auth.sign-in-needed"
	SignInEnded       Cause = "auth.refresh-no-longer-possible"
	ScopeMissing      Cause = "auth.scope-missing"
	ResourceMetadata  Cause = "auth.resource-metadata"
	AuthorityMetadata Cause = "auth.authorization-server-metadata"
	AuthorityChanged  Cause = "auth.another-authorization-server"
	ClientRefused     Cause = "auth.registration-refused"
	ClientWrong       Cause = "auth.client-id-or-secret-wrong"
	AuthorityFails    Cause = "auth.authorization-server-fails"
	ValueMissing      Cause = "auth.value-cannot-be-read"
	NeverAnswers      Cause = "protocol.never-answers"
	InitRefused       Cause = "protocol.initialization-refused"
	NoRevision        Cause = "protocol.no-revision-in-common"
	Malformed         Cause = "protocol.malformed"
	TooLarge          Cause = "protocol.message-too-large"
	EndlessPages      Cause = "protocol.endless-paging"
	NotServed         Cause = "protocol.capability-declared-but-not-served"
	CommandNotFound   Cause = "launch.command-not-found"
	NotExecutable     Cause = "launch.not-executable"
	DirMissing        Cause = "launch.working-directory-missing"
	RelativePath      Cause = "launch.relative-path"
	LineInCommand     Cause = "launch.whole-command-line-in-the-command-field"
	ExitsAtOnce       Cause = "launch.exits-at-once"
	ModuleMissing     Cause = "launch.module-or-package-missing"
	ScriptMissing     Cause = "launch.file-missing"
	PackageMissing    Cause = "launch.package-runner-fails"
	SettingMissing    Cause = "launch.required-setting-missing"
	PortTaken         Cause = "launch.port-taken"
	GluedArguments    Cause = "launch.arguments-glued-together"
	Killed            Cause = "launch.killed-by-a-signal"
	NoiseOnStdout     Cause = "launch.writes-something-else-on-stdout"
	OverLimit         Cause = "launch.over-its-limits"
	ProcessesOff      Cause = "launch.processes-are-off"
	TooManyProcesses  Cause = "launch.too-many-processes"
	NoNode            Cause = "launch.no-node-runs-it"
	NoLegacy          Cause = "transport.no-event-stream"
	EndpointElsewhere Cause = "transport.message-endpoint-points-elsewhere"
	HeadersRefused    Cause = "protocol.headers-refused"
	NotOffered        Cause = "protocol.not-offered"
	ArgumentsRefused  Cause = "call.arguments-refused"
	OutcomeUnknown    Cause = "call.outcome-unknown"
	CallTimeout       Cause = "call.times-out"
)

// Evidence is what one attempt to speak with a server showed. Zero fields were
// not observed.
type Evidence struct {
	Stage string // resolve, connect, tls, initialize, tools, call
	// Process is set when the server is a process and has no address.
	Process bool
	Server  string
	URL     string
	Err     error // of the network or of reading
	Timeout,
	HadCredential bool
	Status      int // HTTP
	ContentType string
	Location    string
	RetryAfter  string
	// CredentialEnded is when the credential ended, by what it says itself.
	CredentialEnded time.Time
	Challenge       string // WWW-Authenticate
	Body            string // first bytes, masked
	RPCCode         int
	RPCMessage      string
	// What is a fact already established by the reader of the answer.
	What Cause
	Note string
	// Wrote is what a process that ended wrote to standard error, read.
	Wrote Words
}

// OfCredential reports whether what is missing is a credential that works, which
// whoever holds it supplies.
func (c Cause) OfCredential() bool {
	switch c {
	case NoCredential, TokenRejected, TokenExpired, SignInNeeded, SignInEnded, ValueMissing:
		return true
	}
	return false
}

// Finding is one root cause, explained.
type Finding struct {
	Cause   Cause  `json:"cause" doc:"layer.cause, from the list of causes"`
	Message string `json:"message" doc:"what happened, in one sentence"`
	Remedy  string `json:"remedy" doc:"what helps"`
	Actor   string `json:"actor" doc:"who has to act: whoever registered the server, its operator, or the network's"`
}

func (f Finding) Error() string { return f.Message }

const (
	registrar = "whoever registered the server"
	operator  = "the server's operator"
	network   = "whoever runs the network"
)

// Explain names the cause behind the evidence.
func Explain(e Evidence) Finding {
	switch {
	case e.What != "":
		return known(e)
	case e.Status != 0:
		return byStatus(e)
	case e.Err != nil || e.Timeout:
		return byError(e)
	}
	return Finding{
		Malformed,
		fmt.Sprintf("the server gave an answer that is not the protocol%s", note(e)),
		"check that the address is that of an MCP endpoint",
		operator,
	}
}

func note(e Evidence) string {
	if e.Note == "" {
		return ""
	}
	return ": " + e.Note
}

func known(e Evidence) Finding {
	f := Finding{Cause: e.What, Actor: operator, Remedy: "tell the server's operator; Bouncer can do nothing about it"}
	switch e.What {
	case HTMLPage:
		f.Message = "the address answers with a web page instead of the protocol"
		f.Remedy, f.Actor = "use the address of the MCP endpoint; it often ends in /mcp", registrar
	case NotJSONRPC:
		f.Message = "the answer is not a JSON-RPC message" + note(e)
		f.Remedy, f.Actor = "check that the address is that of an MCP endpoint; it often ends in /mcp", registrar
	case InitRefused:
		f.Message = fmt.Sprintf("the server refused to open a session: %s (code %d)", e.RPCMessage, e.RPCCode)
	case NoRevision:
		f.Message = "the server speaks no revision of the protocol that Bouncer speaks" + note(e)
	case TooLarge:
		f.Message = "the server sent a message above the size limit" + note(e)
		f.Remedy = "ask for less, or raise message-limit in Bouncer's settings"
	case EndlessPages:
		f.Message = "the tool list has no end" + note(e)
	case NotServed:
		f.Message = fmt.Sprintf("the server says it has tools and then refuses to list them: %s (code %d)", e.RPCMessage, e.RPCCode)
	case CommandNotFound, NotExecutable, DirMissing, RelativePath, LineInCommand, ExitsAtOnce, Killed, NoiseOnStdout,
		ModuleMissing, ScriptMissing, PackageMissing, SettingMissing, PortTaken, GluedArguments,
		OutOfMemory, InterpreterGone, RuntimeTooOld, WaitsForInput:
		return launch(e)
	case OverLimit:
		return Finding{
			e.What,
			"the process went over its limits and was ended" + note(e),
			"raise the limit, or ask for less at a time",
			registrar,
		}
	case ProcessesOff:
		return Finding{
			e.What,
			"no process is started where Bouncer runs: it was started with processes off",
			"reach the server at an address, or have whoever runs Bouncer start it with processes on",
			"whoever runs Bouncer",
		}
	case TooManyProcesses:
		return Finding{
			e.What,
			"the process was not started" + note(e),
			"end some sessions or own credentials of this server, or let agents share it (bouncer server update --sharing shared)",
			registrar,
		}
	case NoNode:
		return Finding{
			e.What,
			"no node of the cluster can be had that runs the process" + note(e),
			"see which nodes are there (bouncer node list); where it is to run is said by bouncer server update --placement",
			"whoever runs Bouncer",
		}
	case NoLegacy:
		f.Message = "the address opens no event stream of the 2024-11-05 transport" + note(e)
		f.Remedy, f.Actor = "check the path of the URL; such addresses often end in /sse", registrar
	case EndpointElsewhere:
		f.Message = "the server wants its messages sent to another origin, where its credential must not go" + note(e)
	case HeadersRefused:
		f.Message = "the server found that the headers differ from the body, although they were made from it"
		f.Remedy = "its list of tools is read again; if it stays, tell the server's operator"
	case NotOffered:
		f.Message = "the server does not offer this" + note(e)
	case ArgumentsRefused:
		f.Message, f.Actor = "the arguments cannot be sent"+note(e), "the agent"
		f.Remedy = "call the tool with arguments that fit its schema"
	case OutcomeUnknown:
		f.Message = "the connection broke off before the answer came; whether the tool ran is not known" + note(e)
		f.Remedy = "look at the server before you repeat the call"
	case StreamCut:
		f.Message = "the server's answer broke off in the middle" + note(e)
	default:
		f.Message = "the server broke the protocol" + note(e)
	}
	return f
}

func launch(e Evidence) Finding {
	switch e.What {
	case CommandNotFound:
		return Finding{
			e.What,
			"the command is not on this machine" + note(e),
			"install it where Bouncer runs, or give its absolute path",
			registrar,
		}
	case NotExecutable:
		return Finding{e.What, "the command may not be executed" + note(e), "check the file and its permissions", registrar}
	case DirMissing:
		return Finding{
			e.What,
			"the working directory does not exist" + note(e),
			"make it, or register the server with another one",
			registrar,
		}
	case RelativePath:
		return Finding{
			e.What,
			"the command is a relative path, which depends on where Bouncer was started" + note(e),
			"give its absolute path",
			registrar,
		}
	case LineInCommand:
		return Finding{e.What, "the command holds a whole command line" + note(e), "give the command and each argument apart", registrar}
	case GluedArguments:
		return Finding{
			e.What,
			"several arguments are glued together in one" + note(e),
			"give each argument by itself: after -- in a shell without quotes around them all, or one a line",
			registrar,
		}
	case ScriptMissing:
		if e.Wrote.Cause == "" {
			return Finding{e.What, "a file that is to be run is not there" + note(e), ScriptRemedy, registrar}
		}
		return wrote(e)
	case ModuleMissing, PackageMissing, SettingMissing, PortTaken, OutOfMemory, InterpreterGone, RuntimeTooOld, WaitsForInput:
		return wrote(e)
	case Killed:
		return Finding{
			e.What,
			"the process was killed before it opened a session" + note(e),
			"look at the machine's memory and at what the process wrote",
			operator,
		}
	case NoiseOnStdout:
		return Finding{
			e.What,
			"the process writes something else than the protocol to its standard output" + note(e),
			"make it log to standard error",
			operator,
		}
	}
	return Finding{
		ExitsAtOnce,
		"the process ends before it opens a session" + note(e),
		"run the command by hand where Bouncer runs; settings it needs may be missing",
		registrar,
	}
}

const ScriptRemedy = "check the path; a relative one needs the working directory (--dir)"

// wrote explains the end of a process by its Own words.
func wrote(e Evidence) Finding {
	message, remedy := OfStderr(e.Wrote)
	return Finding{e.What, "the process ends before it opens a session: " + message + note(e), remedy, registrar}
}

// byStatus is the finding for an answer with an HTTP status, with the server's Own words.
func byStatus(e Evidence) Finding {
	f := ofStatus(e)
	f.Message += says(e)
	if e.Status != 401 && e.Status != 403 {
		return f
	}
	if header := WantsHeader(e); header != "" {
		f.Remedy = fmt.Sprintf("it wants %s: bouncer server update %s --secret-header %s", header, e.Server, header)
		if !e.HadCredential {
			f.Remedy += " --token"
		}
		f.Actor = registrar
	} else if scheme := WantsScheme(e); scheme != "" && e.Status == 401 {
		f.Remedy = fmt.Sprintf(
			"it wants the word %s before it: bouncer server update %s --also 'header:Authorization %s=SECRET'", scheme, e.Server, scheme,
		)
	}
	return f
}

func ofStatus(e Evidence) Finding {
	switch s := e.Status; {
	case s == 401 && !e.HadCredential:
		return Finding{
			NoCredential,
			"the server wants a credential and none is registered (401)",
			"give the server a token with bouncer server update " + e.Server + " --token",
			registrar,
		}
	case s == 401 && !e.CredentialEnded.IsZero():
		return Finding{
			TokenExpired,
			fmt.Sprintf(
				"the registered token ended on %s, by what it says itself; the server rejects it (401)",
				e.CredentialEnded.UTC().Format("2006-01-02 15:04 MST"),
			),
			"get a new token and store it with bouncer secret rotate",
			registrar,
		}
	case s == 401:
		return Finding{
			TokenRejected,
			"the server rejected the registered token (401)" + challenge(e),
			"get a new token and store it with bouncer secret rotate",
			registrar,
		}
	case s == 403:
		return Finding{
			NotAllowed,
			"the server knows the credential but forbids this (403)" + challenge(e),
			"ask the server's operator for the permission that is missing, or use another token",
			operator,
		}
	case s == 404 || s == 410:
		return Finding{
			WrongPath,
			fmt.Sprintf("nothing is served at this path (%d)", s),
			"check the path of the URL; MCP endpoints often end in /mcp",
			registrar,
		}
	case s == 405:
		return Finding{
			MethodRefused,
			"the address refuses POST (405), so it is no streamable HTTP endpoint",
			"check the path of the URL; it may be an address of the older event-stream transport",
			registrar,
		}
	case s >= 300 && s < 400:
		return Finding{
			Redirected,
			fmt.Sprintf("the address redirects to %s (%d); credentials are never carried along", e.Location, s),
			"register the address it redirects to, if you trust it",
			registrar,
		}
	case s == 429:
		f := Finding{TooManyRequests, "the server is receiving too many requests (429)", "wait and try again", operator}
		if e.RetryAfter != "" {
			f.Remedy = "wait until " + e.RetryAfter + " has passed and try again"
		}
		return f
	case s == 413:
		return Finding{TooLarge, "the server refuses a request of this size (413)", "send smaller arguments", registrar}
	case s == 502 || s == 503 || s == 504:
		return Finding{
			BadGateway,
			fmt.Sprintf("something in front of the server answers for it (%d): it is down or in maintenance", s),
			"try again later, or ask the server's operator",
			operator,
		}
	case s >= 500:
		return Finding{ServerError, fmt.Sprintf("the server failed (%d)", s), "look into the server's log, or ask its operator", operator}
	}
	return Finding{
		OtherStatus,
		fmt.Sprintf("the server answered with status %d", e.Status),
		"check that the address is that of an MCP endpoint",
		registrar,
	}
}

func challenge(e Evidence) string {
	if e.Challenge == "" {
		return ""
	}
	return ", saying " + e.Challenge
}

// byError is the finding for what failed below the protocol. It is one list from the
// special to the general, and is read as one.
func byError(e Evidence) Finding {
	var dns *net.DNSError
	var unknown x509.UnknownAuthorityError
	var invalid x509.CertificateInvalidError
	var host x509.HostnameError
	var record tls.RecordHeaderError
	text := ""
	if e.Err != nil {
		text = e.Err.Error()
	}
	switch {
	case errors.As(e.Err, &dns) && !dns.IsTimeout:
		return Finding{
			NoSuchHost,
			fmt.Sprintf("the name %s does not resolve", dns.Name),
			"check the spelling of the host in the URL",
			registrar,
		}
	case errors.Is(e.Err, syscall.ECONNREFUSED):
		return Finding{
			Refused,
			"nothing accepts connections at this address and port",
			"start the server, or check the port of the URL",
			operator,
		}
	case errors.Is(e.Err, syscall.EHOSTUNREACH), errors.Is(e.Err, syscall.ENETUNREACH):
		return Finding{
			Unreachable,
			"there is no route to this address",
			"check the address and the network between Bouncer and the server",
			network,
		}
	case errors.As(e.Err, &unknown):
		return Finding{
			CertUntrusted,
			"the server's certificate is signed by an authority that is not trusted here",
			"give its certificate with --ca FILE, or add it to the system's trust store",
			registrar,
		}
	case errors.As(e.Err, &host):
		return Finding{
			CertOtherName,
			"the server's certificate is for another name than the URL's host",
			"use the name the certificate is for",
			registrar,
		}
	case errors.As(e.Err, &invalid) && invalid.Reason == x509.Expired:
		return Finding{
			CertExpired,
			"the server's certificate is expired or not yet valid",
			"ask the server's operator to renew it",
			operator,
		}
	case errors.As(e.Err, &record) && string(record.RecordHeader[:]) == "HTTP/":
		return Finding{
			TLSOnPlain,
			"the port speaks plain HTTP, but the URL says https",
			"write http:// in the URL, if that is meant",
			registrar,
		}
	case strings.Contains(text, "malformed HTTP response"):
		return Finding{PlainOnTLS, "the port does not speak plain HTTP", "write https:// in the URL", registrar}
	case e.Timeout && (e.Stage == "connect" || e.Stage == "resolve" || e.Stage == "tls"):
		return Finding{
			ConnectTimeout,
			"the connection is not answered in time",
			"check the address; a firewall in between may drop the packets",
			network,
		}
	case e.Timeout && e.Stage == "call":
		return Finding{
			CallTimeout,
			"the tool did not answer in time" + note(e) + "; whether it ran is not known",
			"give it longer, if the tool needs that: bouncer server update " + e.Server + " --call-time 15m",
			operator,
		}
	case e.Timeout && e.Process:
		return Finding{
			NeverAnswers,
			"the process runs but does not answer in time" + note(e),
			"run the command by hand where Bouncer runs; it may wait for something, or still be downloading",
			registrar,
		}
	case e.Timeout:
		return Finding{
			NeverAnswers,
			"the server accepts the connection but does not answer in time" + note(e),
			"check that the server is alive, and that the address is that of its MCP endpoint",
			operator,
		}
	case e.Stage == "call":
		return Finding{
			OutcomeUnknown,
			"the connection broke off before the answer came; whether the tool ran is not known",
			"look at the server before you repeat the call",
			operator,
		}
	}
	return Finding{
		StreamCut,
		"the connection broke off before an answer came",
		"try again; if it stays, look into the server's log",
		operator,
	}
}
