package verdict

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/refusal"
	"bouncer/internal/core/report"
	"bouncer/internal/core/wire"
)

// sessionJudge judges a conversation that was opened: its lists and calls.
type sessionJudge struct{ *judge }

var (
	revisionWords = regexp.MustCompile(
		`(?i)(?:protocol|version|revision)[^.]{0,40}(?:unsupported|not supported|mismatch|incompatible|unknown|invalid)|` +
			`(?:unsupported|incompatible|unknown|invalid)[^.]{0,20}(?:protocol|version|revision)`,
	)
	revisions = regexp.MustCompile(`20\d\d-\d\d-\d\d`)
)

// initRefused judges an error that initialize was answered with.
func (j sessionJudge) initRefused(e *evidence.RPCError, offered []string, facts ...string) {
	facts = append(facts, fmt.Sprintf("the error has the code %d: %s", e.Code, diagnosis.Clip(e.Message)))
	if len(offered) == 0 {
		offered = revisions.FindAllString(e.Data+" "+e.Message, 6)
	}
	r := refusal.ReadWords(e.Message+" "+e.Data, "")
	switch {
	case revisionWords.MatchString(e.Message) || e.Code == -32022 || e.Code == -32004 && len(offered) > 0:
		told := ""
		if len(offered) > 0 {
			told = "; it speaks " + strings.Join(slices.Compact(offered), ", ")
		}
		j.add(
			diagnosis.NoRevision,
			"the server speaks no revision of the protocol that Bouncer speaks"+told,
			"have the server brought up to date",
			facts...)
	case r.Quota, r.Credential && (r.Expired || r.Revoked || r.Missing != ""), e.Code == -32001 && r.Credential:
		x := &evidence.Exchange{
			Status:  401,
			Purpose: evidence.Initialize,
			Reply:   evidence.Reply{Error: e},
			Body:    e.Message,
			Header:  map[string]string{},
		}
		if first := j.e.Find(evidence.Initialize); first != nil {
			x.Method, x.URL, x.Sent, x.Took, x.Header = first.Method, first.URL, first.Sent, first.Took, first.Header
		}
		if len(j.ofAuth().sent()) > 0 && j.ofAuth().words(x, r) {
			return
		}
		if len(j.ofAuth().sent()) == 0 && j.e.Target.Command == "" {
			j.ofAuth().none(x, r)
			return
		}
		j.add(
			diagnosis.TokenRejected,
			"the server does not accept the credential: "+diagnosis.Clip(e.Message),
			"get a new one, and store it: "+j.rotate(),
			facts...)
	case e.Code == wire.CodeHeaderMismatch:
		j.add(diagnosis.HeadersRefused, "the server finds that the headers of a request differ from its body: "+diagnosis.Clip(e.Message),
			"tell whoever runs the server, or what stands before it and alters headers", facts...)
	default:
		j.add(diagnosis.InitRefused, fmt.Sprintf("the server refuses to open a session: %s (code %d)", diagnosis.Clip(e.Message), e.Code),
			"look into the server's log", facts...)
	}
}

// session judges what a conversation showed: several findings are possible.
func (j sessionJudge) session() {
	s := j.e.Session
	switch {
	case s.Refused != nil && !s.Opened:
		j.initRefused(s.Refused, s.Offered)
		return
	case s.Opened && s.Reply.ID != "":
		j.add(
			diagnosis.WrongID,
			"the answer does not carry the id of the request: "+s.Reply.ID,
			"tell whoever runs the server",
			"the answer to initialize: "+s.Reply.Quote,
		)
	case s.Opened && s.Reply.Version:
		j.add(
			diagnosis.Malformed,
			`the answers are no messages of JSON-RPC 2.0: their member jsonrpc is not "2.0"`,
			"tell whoever runs the server",
			s.Reply.Quote,
		)
	case s.Opened && s.Revision == "":
		j.add(
			diagnosis.Malformed,
			"the answer to initialize has no protocolVersion",
			"tell whoever runs the server",
			"it answered: "+s.Reply.Quote,
		)
	case s.Opened && len(s.Offered) > 0:
		j.add(
			diagnosis.NoRevision,
			"the server speaks no revision of the protocol that Bouncer speaks; it offers "+strings.Join(s.Offered, ", "),
			"have the server brought up to date",
			"Bouncer asked for "+j.e.Target.Revision,
		)
	}
	if len(j.found) > 0 || !s.Opened {
		return
	}
	if s.SessionLost {
		again := "; another could be opened"
		if !s.Reopened {
			again = ""
		}
		j.add(diagnosis.SessionLost, "the server forgets the session between two requests"+again,
			"have requests of one session sent to the same instance, or the sessions kept where all instances find them", j.asked()...)
		return
	}
	for i := range s.Asks {
		j.ask(&s.Asks[i])
	}
	if s.Listed {
		j.tools(s)
	}
	if s.StreamClosed >= 3 {
		j.add(
			diagnosis.StreamCloses,
			"the event stream for what the server tells by itself closes again and again",
			"have the limit for open streams raised in what stands before the server",
			fmt.Sprintf("it closed at once %d times in a row, without a word", s.StreamClosed),
		)
	}
}

// asked says how the requests of the conversation went.
func (j sessionJudge) asked() (facts []string) {
	for _, a := range j.e.Session.Asks {
		facts = append(facts, j.fact(&a))
	}
	return facts
}

func (j sessionJudge) fact(a *evidence.Ask) string {
	text := a.Method
	switch {
	case a.Timeout:
		text += fmt.Sprintf(" was not answered within %s", report.Took(a.Took))
	case a.Error != nil:
		text += fmt.Sprintf(
			" was answered with the error %d after %s: %s",
			a.Error.Code,
			report.Took(a.Took),
			diagnosis.Clip(a.Error.Message),
		)
	case a.Ended:
		text += fmt.Sprintf(" ended the process after %s", report.Took(a.Took))
	case a.Err != nil:
		text += " failed: " + evidence.Plain(a.Err)
	default:
		text += fmt.Sprintf(" was answered after %s", report.Took(a.Took))
	}
	if a.Status != 0 && a.Status != 200 {
		text += fmt.Sprintf(", with status %d", a.Status)
	}
	if a.Reply.Shape != "" && a.Reply.Shape != evidence.Message {
		text += ", with " + string(a.Reply.Shape) + ": " + a.Reply.Quote
	}
	return text
}

// ask judges one request within the conversation.
func (j sessionJudge) ask(a *evidence.Ask) {
	facts := []string{j.fact(a)}
	if p := j.e.Process; p != nil && a.Ended {
		facts = append(facts, j.ofProcess().ending(p))
		if w := diagnosis.ReadStderr(p.Stderr); w.Line != "" {
			facts = append(facts, "it wrote: "+diagnosis.Clip(w.Line))
		}
	}
	what := strings.TrimSuffix(a.Method, "/list")
	tell := "tell whoever runs the server"
	switch {
	case a.Ended, a.Err != nil && a.Status == 0 && !a.Timeout:
		j.add(
			diagnosis.Crashes,
			"the server ends on the request "+a.Method,
			"look into its log; it opens a session and does not outlive this",
			facts...)
	case a.Timeout:
		j.add(
			diagnosis.ListNeverAnswered,
			"the server opens a session, and never answers "+a.Method,
			"look what the server waits for there, in its log",
			facts...)
	case a.Endless != "":
		j.add(diagnosis.EndlessPages, "the list of "+what+" has no end: "+a.Endless, tell, facts...)
	case a.Bytes > j.e.Target.MessageLimit && j.e.Target.MessageLimit > 0:
		j.add(
			diagnosis.TooLarge,
			fmt.Sprintf("the answer to %s is larger than the %d MiB that are taken", a.Method, j.e.Target.MessageLimit>>20),
			"have it split into pages, or take larger ones: "+j.update("--message-limit MIB"),
			facts...)
	case a.Reply.ID != "":
		j.add(diagnosis.WrongID, "the answer to "+a.Method+" does not carry the id of the request: "+a.Reply.ID, tell, facts...)
	case a.Error != nil && a.Method == "tools/list" && slices.Contains(j.e.Session.Capabilities, "tools"),
		a.Error != nil && a.Error.Code == -32601:
		j.add(
			diagnosis.NotServed,
			fmt.Sprintf(
				"the server says that it has %s, and then refuses to list them: %s (code %d)",
				what,
				diagnosis.Clip(a.Error.Message),
				a.Error.Code,
			),
			"have the capability declared only where it is served",
			facts...)
	case a.Error != nil:
		j.add(
			diagnosis.NotServed,
			fmt.Sprintf("the server cannot list its %s: %s (code %d)", what, diagnosis.Clip(a.Error.Message), a.Error.Code),
			"look into the server's log",
			facts...)
	case a.Status == 404 || a.Status == 400:
		j.add(diagnosis.SessionLost, fmt.Sprintf("the server does not know the session that it has just opened (%d)", a.Status),
			"have requests of one session sent to the same instance", facts...)
	case a.Status == 429:
		j.add(diagnosis.TooManyRequests, "the server receives too many requests (429)", "wait a while and try again", facts...)
	case a.Status == 401 || a.Status == 403:
		x := &evidence.Exchange{
			Purpose: evidence.Lists,
			Method:  "POST",
			URL:     j.e.Target.URL,
			Status:  a.Status,
			Body:    a.Body,
			Reply:   a.Reply,
			Header:  a.Header,
		}
		x.Took = a.Took
		j.ofAuth().refused(x, refusal.Read(x))
	case a.Status >= 500:
		j.add(diagnosis.ServerError, fmt.Sprintf("the server fails on %s (%d)", a.Method, a.Status), "look into the server's log", facts...)
	case a.Status >= 300:
		j.add(diagnosis.OtherStatus, fmt.Sprintf("the server answers %s with status %d", a.Method, a.Status), tell, facts...)
	case a.Reply.Shape == evidence.Batched:
		j.add(diagnosis.Batch, "the server answers one request with a batch", tell, facts...)
	case a.Reply.Shape == evidence.Marked,
		a.Reply.Shape == evidence.Wide,
		a.Reply.Shape == evidence.NoUTF8,
		a.Reply.Shape == evidence.Compressed:
		j.add(diagnosis.EncodingBroken, "the answer to "+a.Method+" is "+string(a.Reply.Shape), "have it sent as UTF-8", facts...)
	case a.Reply.Shape == evidence.Nothing && a.Status == 0 && a.Reply.Quote == "" && a.Items == 0 && a.Pages == 0:
	case a.Reply.Shape != "" && a.Reply.Shape != evidence.Message:
		j.add(diagnosis.Malformed, "the answer to "+a.Method+" is "+string(a.Reply.Shape), tell, facts...)
	case a.Malformed != "":
		j.add(diagnosis.Malformed, "the answer to "+a.Method+" cannot be used: "+a.Malformed, tell, facts...)
	}
}

// tools judges what the list holds, one finding for each kind of flaw.
func (j sessionJudge) tools(s *evidence.Session) {
	var twice, schemas, bad []string
	for _, t := range s.Tools {
		if t.Twice {
			twice = append(twice, t.Name)
		}
		if t.Schema != "" {
			schemas = append(schemas, fmt.Sprintf("%s: %s", t.Name, t.Schema))
		}
		if t.Bad != "" {
			bad = append(bad, fmt.Sprintf("%q: %s", diagnosis.Clip(t.Name), t.Bad))
		}
	}
	left := "agents do not get them"
	if len(twice) > 0 {
		j.add(
			diagnosis.SameName,
			"two tools have one name: "+strings.Join(bounded(twice), ", "),
			"have one of them renamed; agents reach only the first",
			bounded(twice)...)
	}
	if len(schemas) > 0 {
		j.add(diagnosis.BadSchema, "the schema of a tool is none: "+schemas[0], "have inputSchema corrected: an object of JSON Schema",
			bounded(schemas)...).
			follows(left)
	}
	if len(bad) > 0 {
		j.add(diagnosis.BadName, "the name of a tool is none: "+bad[0], "have it renamed: 1 to 128 letters, digits, and . _ -",
			bounded(bad)...).
			follows(left)
	}
}

func bounded(list []string) []string { return list[:min(len(list), 10)] }

var (
	argumentWords = regexp.MustCompile(
		`(?i)(?:invalid|missing|unexpected|unknown|bad|wrong|required)[^.]{0,30}(?:argument|param|input|field|property|value)|` +
			`(?:argument|param|input|field|property)\w*[^.]{0,40}(?:invalid|missing|required|must|should|expected|unknown|not (?:valid|allowed|a))|validation (?:error|failed)|schema`,
	)
	upstreamWords = regexp.MustCompile(
		`(?i)\b401\b|unauthori[sz]ed|(?:token|credential|api[- ]?key|session|secret|certificate)s?\b[^.]{0,40}(?:expired|ended|revoked|invalid|rejected)|` +
			`(?:expired|revoked|invalid)[^.]{0,20}(?:token|credential|api[- ]?key)|authentication (?:failed|error|required)|invalid_grant|re-?authenticate|log ?in again`,
	)
)

// call judges a call that was asked for.
func (j sessionJudge) call() {
	c := j.e.Call
	if c == nil || len(j.found) > 0 && !j.e.Session.Listed {
		return
	}
	facts := []string{j.called(c)}
	if p := j.e.Process; p != nil && c.Ended {
		facts = append(facts, j.ofProcess().ending(p))
		if w := diagnosis.ReadStderr(p.Stderr); w.Line != "" {
			facts = append(facts, "it wrote: "+diagnosis.Clip(w.Line))
		}
	}
	text := c.Text
	if c.Error != nil {
		text = c.Error.Message
	}
	switch {
	case !wrong(c):
		return
	case c.NoSuch:
		j.add(diagnosis.NoSuchTool, "the server lists no tool "+c.Tool, j.seeTools(), facts...)
	case c.Good > 0:
		j.thenFails(c, text, facts)
	case !c.Ended && c.Err != nil && c.Status == 0 && !c.Timeout && !c.Cut:
		j.add(diagnosis.OutcomeUnknown, "the connection broke off before the answer of "+c.Tool+" came; whether it ran is not known",
			"look at the server before the call is made again", facts...)
	case c.Ended:
		j.add(diagnosis.Crashes, "the server ends on the call of "+c.Tool, "look into its log", facts...)
	case c.Cut:
		j.add(diagnosis.ResultTooLarge, fmt.Sprintf("the result of %s is larger than the %d KiB that are taken", c.Tool, c.Limit>>10),
			"ask for less, or take more: "+j.update("--message-limit MIB"), facts...)
	case c.Timeout:
		j.add(
			diagnosis.CallTimeout,
			fmt.Sprintf("%s does not answer within %s", c.Tool, report.Took(c.Took)),
			"give it longer, if it needs that: "+j.update("--call-time 15m"),
			facts...)
	case c.Unfit != "" || c.Error != nil && c.Error.Code == -32602 || argumentWords.MatchString(text) && !upstreamWords.MatchString(text):
		j.add(
			diagnosis.ArgumentsRefused,
			"the arguments do not fit "+c.Tool+": "+first(c.Unfit, diagnosis.Clip(text)),
			"call it with arguments that fit its schema",
			facts...)
	case c.Status == 401 || c.Status == 403 || c.Status == 429:
		x := &evidence.Exchange{
			Purpose: "call",
			Method:  "POST",
			URL:     j.e.Target.URL,
			Status:  c.Status,
			Body:    c.Body,
			Header:  map[string]string{},
		}
		x.Took = c.Took
		j.ofHTTP().status(x)
	case c.Status >= 400:
		j.add(
			diagnosis.ServerError,
			fmt.Sprintf("the server fails on the call of %s (%d)", c.Tool, c.Status),
			"look into the server's log",
			facts...)
	case (c.Failed || c.Error != nil) && upstreamWords.MatchString(text):
		j.add(diagnosis.UpstreamEnded,
			c.Tool+" cannot reach what stands behind the server, whose credential there has ended: "+diagnosis.Clip(text),
			"have the server's own credential renewed, where the server is set up", facts...).
			follows("the credential that Bouncer gives to the server is accepted")
	case c.Failed || c.Error != nil:
		j.add(
			diagnosis.ToolError,
			c.Tool+" reports an error: "+diagnosis.Clip(text),
			"look at what it says, and into the server's log",
			facts...)
	case c.Output != "":
		j.add(
			diagnosis.OutputBroken,
			"the result of "+c.Tool+" does not fit the schema that it declares: "+c.Output,
			"have outputSchema or the result corrected",
			facts...)
	}
}

func first(list ...string) string {
	for _, s := range list {
		if s != "" {
			return s
		}
	}
	return ""
}

func (j sessionJudge) called(c *evidence.Call) string {
	if c.Times == 0 {
		return c.Tool + " was not called"
	}
	text := fmt.Sprintf("%s was called %d times", c.Tool, c.Times)
	if c.Times == 1 {
		text = c.Tool + " was called"
	}
	if c.Good > 0 {
		text += fmt.Sprintf(", and the first %d went well", c.Good)
	}
	text += ", the last took " + report.Took(c.Took)
	switch {
	case c.Error != nil:
		text += fmt.Sprintf(" and was answered with the error %d: %s", c.Error.Code, diagnosis.Clip(c.Error.Message))
	case c.Text != "":
		text += " and says: " + diagnosis.Clip(c.Text)
	case c.Err != nil:
		text += " and failed: " + evidence.Plain(c.Err)
	}
	return text
}

// seeTools says where the tools are listed.
func (j sessionJudge) seeTools() string {
	if j.e.Target.Server != "" {
		return "see what there is: bouncer server tools " + j.e.Target.Server
	}
	return "call one of those that it lists"
}

// thenFails judges calls of which the first went well.
func (j sessionJudge) thenFails(c *evidence.Call, text string, facts []string) {
	why := ""
	switch r := refusal.ReadWords(text+" "+c.Body, ""); {
	case c.Ended:
		why = ": the server ends"
	case c.Status == 429, strings.Contains(r.Text, "rate"), strings.Contains(r.Text, "too many"):
		why = ": it receives too many requests"
		if c.Retry != "" {
			why += ", and asks to wait " + c.Retry
		}
	case c.Timeout:
		why = ": it no longer answers"
	case text != "":
		why = ": " + diagnosis.Clip(text)
	}
	j.add(diagnosis.ThenFails, fmt.Sprintf("%s goes well %d times, and then fails%s", c.Tool, c.Good, why),
		"look into the server's log for what it runs out of; fewer calls may help: bouncer budget add -h", facts...)
}

// wrong reports whether anything about a call is.
func wrong(c *evidence.Call) bool {
	return c.NoSuch || c.Error != nil || c.Failed || c.Step.Failed() || c.Ended || c.Cut || c.Output != "" || c.Status >= 300
}
