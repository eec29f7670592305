package verdict

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/refusal"
	"bouncer/internal/core/report"
)

// httpJudge judges what HTTP answered, apart from credentials.
type httpJudge struct{ *judge }

// http judges the answer to the first message over HTTP.
func (j httpJudge) http() {
	x := j.e.Find(evidence.Initialize)
	switch {
	case j.ofAuth().lineBreak():
		return
	case j.legacy():
		return
	case x == nil || x.Opened:
		return
	case x.Status == 0:
		j.noAnswer(x)
		return
	}
	if j.wrongEnvelope(x) {
		return
	}
	j.status(x)
}

// legacy judges a target that is registered as an event stream; true when it found
// something, or the stream works.
func (j httpJudge) legacy() bool {
	if j.e.Target.Transport != "sse" {
		return false
	}
	x := j.e.Find(evidence.Legacy)
	switch {
	case x == nil:
		return false
	case x.Opened:
		return true
	case x.Endpoint != "" && x.Reply.Shape == "":
		j.endpoint(x)
		return true
	}
	if here := j.opened(evidence.Initialize); here != nil {
		j.add(diagnosis.StreamableHere, "the address speaks streamable HTTP, and is registered as an event stream",
			j.update("--transport streamable-http"), x.Told(), here.Told()).
			fix("transport", "streamable-http", "speaks streamable HTTP with the server")
		return true
	}
	if there := j.opened(evidence.OtherPath); there != nil {
		j.elsewhere(x, there)
		return true
	}
	switch {
	case x.Status == 0:
		j.noAnswer(x)
	case x.Status == 200 && !strings.HasPrefix(x.Header["Content-Type"], "text/event-stream"):
		j.add(
			diagnosis.NoLegacy,
			"the address opens no event stream",
			"check the path; such addresses often end in /sse: "+j.update("--url URL"),
			x.Told(),
		)
	case x.Status == 200 && x.Endpoint == "":
		j.add(diagnosis.NoLegacy, "the event stream does not say where messages go",
			"tell whoever runs the server; its first event must be named endpoint",
			x.Told()).
			by(diagnosis.ServerOwner)
	default:
		j.status(x)
	}
	return true
}

// endpoint judges an event stream of 2024 whose messages go wrong.
func (j httpJudge) endpoint(x *evidence.Exchange) {
	posted := j.e.Find(evidence.Posted)
	facts := []string{x.Told(), "its event endpoint says: " + x.Endpoint, posted.Told()}
	to, err := url.Parse(x.Endpoint)
	at, _ := url.Parse(x.URL)
	switch {
	case err != nil:
		j.add(
			diagnosis.EndpointElsewhere,
			"the event stream names no address for messages that can be read",
			"tell whoever runs the server",
			facts...)
	case to.Host != "" && at != nil && (to.Host != at.Host || to.Scheme != at.Scheme):
		j.add(
			diagnosis.EndpointElsewhere,
			fmt.Sprintf("the event stream wants its messages at %s://%s, where the credential must not go", to.Scheme, to.Host),
			"have the address corrected that the server gives out; a proxy before it may hide its own name from it",
			facts...)
	case posted == nil:
		j.add(
			diagnosis.EndpointElsewhere,
			"the event stream names an address for messages that cannot be used",
			"tell whoever runs the server",
			facts...)
	case posted.Status == 404 || posted.Status == 405:
		j.add(
			diagnosis.EndpointElsewhere,
			fmt.Sprintf("the event stream wants its messages at %s, where nothing takes them (%d)", x.Endpoint, posted.Status),
			"have the address corrected that the server gives out; a prefix that a proxy takes away is missing there",
			facts...)
	case posted.Status == 0 && posted.Timeout, posted.Status == 202 || posted.Status == 200:
		j.add(
			diagnosis.NeverAnswers,
			"the server takes a message and never answers on its event stream",
			"look into the server's log",
			facts...)
	default:
		j.status(posted)
	}
}

func (j httpJudge) opened(p evidence.Purpose) *evidence.Exchange {
	for _, x := range j.e.Each(p) {
		if x.Opened {
			return x
		}
	}
	return nil
}

// noAnswer judges a connection on which no HTTP answer came.
func (j httpJudge) noAnswer(x *evidence.Exchange) {
	get, again := j.e.Find(evidence.PlainGet), j.e.Find(evidence.Again)
	facts := []string{x.Told(), get.Told(), again.Told()}
	switch {
	case x.Timeout && get.Answered():
		j.add(diagnosis.NeverAnswers, "the server answers a plain GET, but never the first message of the protocol",
			"look into the server's log; what answers may not be the MCP endpoint", facts...)
	case x.Timeout:
		j.add(
			diagnosis.NeverAnswers,
			fmt.Sprintf("the server takes the connection, and answers nothing within %s", report.Took(j.e.Target.Patience)),
			"look whether the server is alive; it may wait for something that stands behind it",
			facts...)
	case errors.Is(x.Err, syscall.ECONNRESET), strings.Contains(x.Err.Error(), "EOF"):
		j.add(
			diagnosis.StreamCut,
			"the server closes the connection without an answer",
			"look into the server's log; it may crash on the request",
			facts...)
	case strings.Contains(x.Err.Error(), "malformed HTTP"):
		j.add(
			diagnosis.OtherProtocol,
			"the port answers with something that is no HTTP",
			"correct the port: "+j.update("--url URL"),
			facts...)
	default:
		j.add(
			diagnosis.StreamCut,
			"the connection breaks off before an answer comes",
			"try again; if it stays, look into the server's log",
			facts...)
	}
}

// wrongEnvelope judges answers whose form is wrong whatever their status; true when it
// found something.
func (j httpJudge) wrongEnvelope(x *evidence.Exchange) bool {
	facts := []string{x.Told()}
	switch x.Reply.Shape {
	case evidence.Marked, evidence.Wide, evidence.NoUTF8, evidence.Compressed:
		why := string(x.Reply.Shape)
		if e := x.Header["Content-Encoding"]; e != "" {
			why += ", and the header says " + e
		}
		j.add(
			diagnosis.EncodingBroken,
			"the answer is encoded wrongly: "+why,
			"have the answer sent as UTF-8, and labelled as what it is",
			facts...)
		return true
	}
	if x.BodyErr != nil && strings.Contains(x.BodyErr.Error(), "gzip") {
		j.add(
			diagnosis.EncodingBroken,
			"the answer says that it is compressed, and is not",
			"have the header Content-Encoding corrected, often in a proxy",
			append(facts, evidence.Plain(x.BodyErr))...)
		return true
	}
	return false
}

// status judges an answer by its status, and by what the other probes showed.
func (j httpJudge) status(x *evidence.Exchange) {
	r := refusal.Read(x)
	switch s := x.Status; {
	case s == 401,
		s == 403,
		s == 407,
		s == 402,
		s == 421,
		(s == 400 || s == 422) && r.OfCredential(),
		s == 200 && r.OfCredential() && x.Reply.Error != nil:
		j.ofAuth().refused(x, r)
	case s >= 300 && s < 400:
		j.redirected(x)
	case s == 429:
		j.tooMany(x, r)
	case s == 404 || s == 405 || s == 410 || s == 501 || s == 400 && x.Reply.Shape != evidence.Message:
		j.path(x, r)
	case s == 406:
		j.add(diagnosis.NotAcceptable, "the server cannot answer in a form that the protocol has (406)",
			"have the server answer application/json or text/event-stream", x.Told())
	case s == 415:
		j.add(diagnosis.MediaRefused, "the server refuses a request in JSON (415)",
			"have application/json taken, often in what stands before the server", x.Told())
	case s == 413 || s == 414 || s == 431:
		j.add(diagnosis.RequestTooLarge, fmt.Sprintf("the server refuses a request of this size (%d)", s),
			"have the limit raised in what stands before the server; the first message has under 1 KiB", x.Told())
	case s == 502 || s == 503 || s == 504 || s >= 520 && s <= 530:
		j.gateway(x)
	case s >= 500:
		j.failed(x)
	case s >= 400 && x.Reply.Shape != evidence.Message:
		j.add(
			diagnosis.OtherStatus,
			fmt.Sprintf("the server answered with status %d%s", s, said(x)),
			"check that the address is that of an MCP endpoint",
			x.Told(),
		)
	default:
		j.content(x)
	}
}

// said is what the body says, for people.
func said(x *evidence.Exchange) string {
	if words := diagnosis.Own(x.Body); words != "" {
		return ": " + words
	}
	return ""
}

// elsewhere says that the server is found at another path.
func (j httpJudge) elsewhere(x, there *evidence.Exchange) {
	f := j.add(diagnosis.WrongPath, fmt.Sprintf("nothing is served at this path (%d); the server answers at %s", x.Status, there.URL),
		j.update("--url "+report.Quoted(there.URL)), x.Told(), there.Told())
	if asksStream(x) || j.e.Target.Transport == "sse" {
		f.Cause, f.Title = diagnosis.StreamableThere, "the server speaks streamable HTTP at "+there.URL+", and not at this path"
	}
	if there.Endpoint == "" {
		f.fix("url", there.URL, "reaches the server at that path")
	}
}

// asksStream reports whether an answer is that of an endpoint for event streams only.
func asksStream(x *evidence.Exchange) bool {
	return x.Status == 405 && strings.Contains(x.Header["Allow"], "GET") && strings.HasSuffix(strings.TrimRight(x.URL, "/"), "/sse")
}

// path judges an address at which the protocol is not served.
func (j httpJudge) path(x *evidence.Exchange, r refusal.Refusal) {
	old := j.e.Find(evidence.Legacy)
	there := j.opened(evidence.OtherPath)
	switch {
	case r.Host:
		j.hostRefused(x)
	case there != nil && there.Endpoint == "" && old != nil && old.Endpoint != "":
		j.add(diagnosis.StreamableThere, "this path speaks the transport of 2024, and "+there.URL+" streamable HTTP",
			j.update("--url "+report.Quoted(there.URL)),
			x.Told(), old.Told(), there.Told()).
			fix("url", there.URL, "reaches the server at that path")
	case old != nil && old.Opened, old != nil && old.Endpoint != "" && !j.e.Target.Detect:
		j.add(diagnosis.LegacyOnly, "the address speaks only the event-stream transport of 2024-11-05", j.update("--transport sse"),
			x.Told(), old.Told()).
			fix("transport", "sse", "speaks the older transport with the server")
	case old != nil && old.Endpoint != "":
		j.endpoint(old)
	case there != nil:
		j.elsewhere(x, there)
	case x.Status == 405:
		allow := ""
		if a := x.Header["Allow"]; a != "" {
			allow = "it allows " + a
		}
		j.add(diagnosis.MethodRefused, "the address refuses POST (405), so it is no endpoint of streamable HTTP",
			"check the path: "+j.update("--url URL"), x.Told(), allow, old.Told())
	case x.Status == 404 || x.Status == 410:
		j.add(diagnosis.WrongPath, fmt.Sprintf("nothing is served at this path (%d), nor at the usual others", x.Status),
			"ask for the address of the MCP endpoint: "+j.update("--url URL"), j.tried(x)...)
	case x.Reply.Shape == evidence.Page:
		j.page(x)
	default:
		j.add(diagnosis.OtherStatus, fmt.Sprintf("the server answered with status %d%s", x.Status, said(x)),
			"check that the address is that of an MCP endpoint", j.tried(x)...)
	}
}

// tried are the exchanges at other paths, beside the one that failed.
func (j httpJudge) tried(x *evidence.Exchange) []string {
	facts := []string{x.Told()}
	var others []string
	for _, o := range j.e.Each(evidence.OtherPath) {
		if at, err := url.Parse(o.URL); err == nil && o.Status != 0 {
			others = append(others, at.Path+" "+strconv.Itoa(o.Status))
		}
	}
	if len(others) > 0 {
		facts = append(facts, "other paths were tried: "+strings.Join(others, ", "))
	}
	return facts
}

var loginWords = regexp.MustCompile(
	`(?i)(log[-_]?in|sign[-_]?in|sign[-_]?on|/sso|/auth|oauth|saml|openid|idp\.|/session/new|accounts?\.)`,
)

func (j httpJudge) redirected(x *evidence.Exchange) {
	from, _ := url.Parse(x.URL)
	location := x.Header["Location"]
	to, err := from.Parse(location)
	if err != nil || location == "" {
		j.add(diagnosis.Redirected, fmt.Sprintf("the address redirects without saying where to (%d)", x.Status),
			"tell whoever runs the server", x.Told()).
			by(diagnosis.ServerOwner)
		return
	}
	facts := []string{x.Told(), "it redirects to " + shortURL(to)}
	sameHost := to.Hostname() == from.Hostname()
	switch {
	case sameHost && from.Scheme == "http" && to.Scheme == "https" && !loginWords.MatchString(to.Path):
		remedy := j.update("--url " + report.Quoted(shortURL(to)))
		j.add(diagnosis.WrongScheme, "the server wants https, and the address says http", remedy, facts...).
			fix("url", shortURL(to), "reaches the server over TLS")
	case loginWords.MatchString(to.Host+to.Path) || strings.Contains(to.RawQuery, "redirect") || strings.Contains(to.RawQuery, "return"):
		j.add(diagnosis.RedirectedToLogin, "the address redirects to a login page for people: "+shortURL(to),
			"use an address that agents can use, or have whoever runs the server let the MCP endpoint past its login", facts...)
	default:
		j.add(
			diagnosis.Redirected,
			fmt.Sprintf("the address redirects to %s (%d); a credential is never carried there", shortURL(to), x.Status),
			"register that address, if you trust it: "+j.update("--url "+report.Quoted(shortURL(to))),
			facts...)
	}
}

// shortURL is an address without what it carries in its query.
func shortURL(u *url.URL) string {
	short := *u
	short.RawQuery, short.Fragment, short.User = "", "", nil
	return short.String()
}

func (j httpJudge) tooMany(x *evidence.Exchange, r refusal.Refusal) {
	wait := x.Header["Retry-After"]
	until := ""
	if n, err := strconv.Atoi(wait); err == nil {
		until = "until " + report.Date(j.e.At.Add(time.Duration(n)*time.Second))
	} else if wait != "" {
		until = "until " + wait
	}
	if r.Quota && until == "" {
		j.add(diagnosis.Quota, "a quota is used up"+said(x), "look at the plan that the credential belongs to", x.Told())
		return
	}
	remedy := "wait a while and try again"
	if until != "" {
		remedy = "wait " + until + ", and try again"
	}
	j.add(diagnosis.TooManyRequests, "the server receives too many requests (429)"+said(x), remedy, x.Told())
}

func (j httpJudge) gateway(x *evidence.Exchange) {
	remedy := "look whether the server runs behind it, or ask whoever runs it"
	if wait := x.Header["Retry-After"]; wait != "" {
		remedy = "wait " + wait + " s, as it says; then " + remedy
	}
	again := j.e.Find(evidence.Again)
	facts := []string{x.Told(), again.Told()}
	for _, name := range []string{"Via", "Server"} {
		if v := x.Header[name]; v != "" {
			facts = append(facts, name+": "+v)
		}
	}
	j.add(
		diagnosis.BadGateway,
		fmt.Sprintf("something before the server answers for it (%d): the server is down or in maintenance", x.Status),
		remedy,
		facts...)
}

func (j httpJudge) failed(x *evidence.Exchange) {
	again := j.e.Find(evidence.Again)
	note := "the same request fails again"
	if again != nil && again.Opened {
		note = "the same request went well at a second try, so it fails now and then"
	}
	j.add(
		diagnosis.ServerError,
		fmt.Sprintf("the server failed (%d)%s", x.Status, said(x)),
		"look into the server's log",
		x.Told(),
		note,
	)
}

func (j httpJudge) page(x *evidence.Exchange) {
	if there := j.opened(evidence.OtherPath); there != nil {
		f := j.add(diagnosis.HTMLPage, "the address answers with a web page; the protocol is spoken at "+there.URL,
			j.update("--url "+report.Quoted(there.URL)), x.Told(), there.Told())
		f.fix("url", there.URL, "reaches the server at that path")
		return
	}
	j.add(diagnosis.HTMLPage, "the address answers with a web page instead of the protocol",
		"use the address of the MCP endpoint; it often ends in /mcp: "+j.update("--url URL"), j.tried(x)...)
}

// content judges what came with a good status, or as a message.
func (j httpJudge) content(x *evidence.Exchange) {
	facts := []string{x.Told()}
	if x.BodyTimeout && x.Reply.Shape != evidence.Message {
		j.add(diagnosis.NeverAnswers, "the server begins an answer and never gives it", "look into the server's log",
			append(facts, fmt.Sprintf("%d bytes came within %s", x.Size, report.Took(j.e.Target.Patience)))...)
		return
	}
	if x.BodyErr != nil {
		j.add(diagnosis.StreamCut, "the answer breaks off in the middle", "look into the server's log, or that of what stands before it",
			append(facts, fmt.Sprintf("%d bytes came, then: %s", x.Size, evidence.Plain(x.BodyErr)))...)
		return
	}
	switch x.Reply.Shape {
	case evidence.Message:
		j.message(x)
	case evidence.Page:
		j.page(x)
	case evidence.Nothing:
		switch {
		case x.Reply.Event && x.Whole:
			j.add(diagnosis.StreamCut, "the event stream ends before the answer", "look into the server's log", facts...)
		case strings.HasPrefix(x.Header["Content-Type"], "text/event-stream"):
			j.add(
				diagnosis.StreamCut,
				"the event stream ends without a word",
				"look into the server's log, or that of what stands before it",
				facts...)
		case j.opened(evidence.OtherPath) != nil:
			j.elsewhere(x, j.opened(evidence.OtherPath))
		default:
			j.add(diagnosis.NeverAnswers, fmt.Sprintf("the server takes the first message (%d) and answers nothing", x.Status),
				"check that the address is that of an MCP endpoint; look into the server's log", facts...)
		}
	case evidence.Batched:
		j.add(diagnosis.Batch, "the server answers one request with a batch", "tell whoever runs the server", facts...)
	case evidence.BrokenJSON:
		j.add(diagnosis.Malformed, "the answer is broken JSON", "tell whoever runs the server", facts...)
	case evidence.OtherJSON:
		if there := j.opened(evidence.OtherPath); there != nil {
			f := j.add(diagnosis.NotJSONRPC, "the answer is JSON, but no message of the protocol, which is spoken at "+there.URL,
				j.update("--url "+report.Quoted(there.URL)), x.Told(), there.Told())
			f.fix("url", there.URL, "reaches the server at that path")
			return
		}
		j.add(
			diagnosis.NotJSONRPC,
			"the answer is JSON, but no message of the protocol",
			"check that the address is that of an MCP endpoint: "+j.update("--url URL"),
			j.tried(x)...)
	default:
		j.add(diagnosis.NotJSONRPC, "the answer is "+string(x.Reply.Shape)+", and no message of the protocol",
			"check that the address is that of an MCP endpoint: "+j.update("--url URL"), j.tried(x)...)
	}
}

// message judges a message that did not open a conversation.
func (j httpJudge) message(x *evidence.Exchange) {
	kind := strings.ToLower(x.Header["Content-Type"])
	switch {
	case x.Reply.ID != "":
		j.add(
			diagnosis.WrongID,
			"the answer does not carry the id of the request: "+x.Reply.ID,
			"tell whoever runs the server",
			x.Told(),
		)
	case x.Reply.Result && !strings.HasPrefix(kind, "application/json") && !strings.HasPrefix(kind, "text/event-stream"):
		label := kind
		if label == "" {
			label = "nothing"
		}
		j.add(
			diagnosis.MediaWrong,
			"the answer is a message, and is labelled as "+label,
			"have it labelled as application/json",
			x.Told(),
		)
	case x.Reply.Version:
		j.add(
			diagnosis.Malformed,
			`the answer is no message of JSON-RPC 2.0: its member jsonrpc is not "2.0"`,
			"tell whoever runs the server",
			x.Told(),
		)
	case x.Reply.Error != nil:
		j.ofSession().initRefused(x.Reply.Error, nil, x.Told())
	default:
		j.add(diagnosis.Malformed, "the answer to the first message cannot be used", "tell whoever runs the server", x.Told())
	}
}

func (j httpJudge) hostRefused(x *evidence.Exchange) {
	facts := []string{x.Told()}
	remedy := "have the name that is used in the address added to those that the server accepts"
	if o := j.e.Find(evidence.OtherHost); o != nil && o.Opened {
		facts = append(facts, o.Told())
		remedy += "; it accepts localhost"
	}
	j.add(diagnosis.HostRefused, "the server refuses the name or the origin that it is reached under"+said(x), remedy, facts...)
}
