package verdict

import (
	"crypto/x509"
	"errors"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/report"
)

var now = time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)

// seen is evidence of a server at an address, to be altered.
func seen(alter func(e *evidence.Evidence)) *evidence.Evidence {
	e := &evidence.Evidence{At: now, Target: evidence.Target{
		Server: "berths", URL: "https://berths.example/mcp", Transport: "streamable-http", Patience: 5 * time.Second, MessageLimit: 2 << 20,
	}}
	alter(e)
	return e
}

// told is all that a finding says, in one text.
func told(found []report.Found) string {
	var all []string
	for _, f := range found {
		text := string(f.Cause) + " | " + f.Title + " | " + f.Remedy + " | " + strings.Join(f.Evidence, " / ") + " | " + string(f.Who)
		if f.Fix != nil {
			text += " | fix " + f.Fix.Field + "=" + f.Fix.Value
		}
		all = append(all, text+" | "+strings.Join(f.Follows, " / "))
	}
	return strings.Join(all, " || ")
}

// judged is what was observed, and what has to be said of it: the cause and parts of its text, with
// "!" before a part that must not be in it. No cause stands for no finding.
type judged struct {
	alter func(e *evidence.Evidence)
	cause diagnosis.Cause
	says  []string
}

func check(t *testing.T, rows map[string]judged) {
	t.Helper()
	for name, row := range rows {
		found := Judge(seen(row.alter))
		if row.cause == "" {
			assert.Empty(t, found, name)
			continue
		}
		if !assert.NotEmpty(t, found, name) {
			continue
		}
		assert.Equal(t, row.cause, found[0].Cause, name)
		for _, part := range row.says {
			if not, is := strings.CutPrefix(part, "!"); is {
				assert.NotContains(t, told(found), not, name)
			} else {
				assert.Contains(t, told(found), part, name)
			}
		}
	}
}

// answer is an exchange with an answer.
func answer(p evidence.Purpose, status int, body string, header ...string) evidence.Exchange {
	x := evidence.Exchange{
		Purpose: p, Method: "POST", URL: "https://berths.example/mcp", Status: status, Body: body, Header: map[string]string{},
		Reply: evidence.ReadReply([]byte(body), 1), Whole: true, Size: len(body),
	}
	if body == "" {
		x.Reply = evidence.Reply{Shape: evidence.Nothing}
	}
	for i := 0; i < len(header); i += 2 {
		x.Header[header[i]] = header[i+1]
	}
	return x
}

// open is an exchange that opens a conversation, at an address.
func open(p evidence.Purpose, url string) evidence.Exchange {
	x := answer(p, 200, `{"jsonrpc":"2.0","id":1,"result":{}}`)
	x.Opened, x.URL = true, url
	return x
}

func probes(list ...evidence.Exchange) func(e *evidence.Evidence) {
	return func(e *evidence.Evidence) { e.Probes = list }
}

// The way to an address is judged step by step.
func TestTheWayToAnAddress(t *testing.T) {
	t.Parallel()
	at := func(url string) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) { e.Target.URL = url }
	}
	both := func(a, b func(e *evidence.Evidence)) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) { a(e); b(e) }
	}
	failed := &evidence.Step{Err: errors.New("no such host"), Took: time.Second}
	tls := func(h evidence.Handshake) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) { e.TLS = &h }
	}
	broken := evidence.Step{Err: errors.New("remote error: tls")}
	leaf := evidence.Certificate{Subject: "CN=x", Issuer: "CN=authority", Names: []string{"a.example", "b.example"}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(time.Hour)}
	late, early, own := leaf, leaf, leaf
	late.NotAfter, early.NotBefore, own.SelfSigned = now.Add(-time.Minute), now.Add(time.Minute), true
	nameless, starred := leaf, leaf
	nameless.Names, starred.Names = nil, []string{"*.example"}
	many := leaf
	many.Names = []string{"n1", "n2", "n3", "n4", "n5", "n6"}
	expired := x509.CertificateInvalidError{Reason: x509.Expired}
	other := x509.HostnameError{Certificate: &x509.Certificate{}, Host: "berths.example"}
	presented := func(verify error, chain ...evidence.Certificate) func(e *evidence.Evidence) {
		return tls(evidence.Handshake{Chain: chain, Verify: verify})
	}
	check(t, map[string]judged{
		"no address":     {at("berths"), diagnosis.NoAddress, []string{"bouncer server update berths --url https://HOST/PATH"}},
		"not to be read": {at("https://a b/"), diagnosis.NoAddress, nil},
		"another scheme": {at("ftp://berths.example/mcp"), diagnosis.WrongScheme, []string{"begins with ftp://", "https://berths.example/mcp"}},
		"http is fine":   {at("http://berths.example/mcp"), "", nil},
		"no name server": {func(e *evidence.Evidence) { e.Lookup = &evidence.Step{Timeout: true, Took: 2 * time.Second} }, diagnosis.NoSuchHost, []string{"was not answered", "no answer within 2s", "server owner"}},
		"no such name":   {func(e *evidence.Evidence) { e.Lookup = failed }, diagnosis.NoSuchHost, []string{"berths.example does not resolve", "https://HOST/mcp", "nothing could be connected to"}},
		"a name that is": {func(e *evidence.Evidence) { e.Lookup = &evidence.Step{} }, "", nil},
		"refused": {func(e *evidence.Evidence) {
			e.Connect = &evidence.Step{Err: syscall.ECONNREFUSED}
			e.Addresses = []string{"10.0.0.1", "10.0.0.2"}
		}, diagnosis.Refused, []string{"https://berths.example:PORT/mcp", "resolves to 10.0.0.1, 10.0.0.2"}},
		"refused, by name":   {func(e *evidence.Evidence) { e.Connect = &evidence.Step{Err: syscall.ECONNREFUSED} }, diagnosis.Refused, []string{"!resolves to"}},
		"no route":           {func(e *evidence.Evidence) { e.Connect = &evidence.Step{Err: syscall.ENETUNREACH} }, diagnosis.Unreachable, nil},
		"no answer":          {func(e *evidence.Evidence) { e.Connect = &evidence.Step{Timeout: true} }, diagnosis.ConnectTimeout, nil},
		"http on a TLS port": {tls(evidence.Handshake{Step: broken, First: []byte("HTTP/1.1 400")}), diagnosis.TLSOnPlain, []string{"http://berths.example/mcp", "!fix", "the handshake ended with", "the first bytes that came"}},
		"http, and it opens": {both(tls(evidence.Handshake{First: []byte("HTTP/1.1 400")}), probes(open(evidence.OtherScheme, "http://berths.example/mcp"))), diagnosis.TLSOnPlain, []string{"fix url=http://berths.example/mcp", "!the handshake ended with"}},
		"http, and it fails": {both(tls(evidence.Handshake{First: []byte("HTTP/1.1 400")}), probes(answer(evidence.OtherScheme, 500, ""))), diagnosis.TLSOnPlain, []string{"!fix"}},
		"SSH on a TLS port":  {tls(evidence.Handshake{Step: broken, First: []byte("SSH-2.0")}), diagnosis.OtherProtocol, []string{"speaks SSH"}},
		"an alert alone":     {tls(evidence.Handshake{Step: broken, First: []byte{0x15, 3}, Alert: 40}), diagnosis.HandshakeFails, []string{"handshake failure"}},
		"wants one":          {tls(evidence.Handshake{Step: broken, Asked: true}), diagnosis.ClientCertNeeded, []string{"--client-cert"}},
		"asks, and goes on":  {tls(evidence.Handshake{Asked: true, Chain: []evidence.Certificate{leaf}}), "", nil},
		"wants one, says so": {tls(evidence.Handshake{Step: broken, Alert: 116}), diagnosis.ClientCertNeeded, []string{"certificate required"}},
		"not this one":       {tls(evidence.Handshake{Step: broken, Asked: true, Given: true, Alert: 42}), diagnosis.ClientCertRefused, []string{"bad certificate"}},
		"takes this one":     {tls(evidence.Handshake{Asked: true, Given: true, Chain: []evidence.Certificate{leaf}}), "", nil},
		"too old":            {tls(evidence.Handshake{Step: broken, Alert: 70}), diagnosis.NoTLSVersion, nil},
		"breaks off":         {tls(evidence.Handshake{Step: broken}), diagnosis.HandshakeFails, []string{"!valid from"}},
		"breaks off later":   {tls(evidence.Handshake{Step: broken, Chain: []evidence.Certificate{leaf}, Verify: expired}), diagnosis.CertExpired, nil},
		"trusted":            {presented(nil, leaf), "", nil},
		"expired":            {presented(expired, late), diagnosis.CertExpired, []string{"a.example, b.example expired on 2026-11-27 07:59:00", "it is now 2026-11-27 08:00:00", "issued by CN=authority, valid from"}},
		"expired above":      {presented(expired, leaf, late), diagnosis.CertExpired, []string{"expired on 2026-11-27 07:59:00"}},
		"not yet":            {presented(expired, early), diagnosis.CertNotYet, []string{"2026-11-27 08:01:00"}},
		"not yet, above":     {presented(expired, leaf, early), diagnosis.CertNotYet, nil},
		"another reason":     {presented(x509.CertificateInvalidError{Reason: x509.TooManyIntermediates}, late), diagnosis.CertUntrusted, []string{"cannot be verified"}},
		"another name":       {presented(other, leaf), diagnosis.CertOtherName, []string{"--url https://a.example/mcp", "registrar"}},
		"a port stays":       {both(at("https://berths.example:8443/mcp"), presented(other, leaf)), diagnosis.CertOtherName, []string{"--url https://a.example:8443/mcp"}},
		"a star":             {presented(other, starred), diagnosis.CertOtherName, []string{"--url https://berths.example/mcp"}},
		"no names":           {presented(other, nameless), diagnosis.CertOtherName, []string{"for CN=x"}},
		"many names":         {presented(other, many), diagnosis.CertOtherName, []string{"n1, n2, n3, n4, n5,", "!n6"}},
		"signed by itself":   {presented(x509.UnknownAuthorityError{}, own), diagnosis.CertUntrusted, []string{"signed by itself"}},
		"unknown":            {presented(x509.UnknownAuthorityError{}, leaf), diagnosis.CertUntrusted, []string{"issued by CN=authority", "sends no further certificate"}},
		"unknown, of two":    {presented(x509.UnknownAuthorityError{}, leaf, own), diagnosis.CertUntrusted, []string{"issued by CN=authority", "!sends no further"}},
		"TLS, and http":      {both(at("http://berths.example/mcp"), presented(nil, leaf)), diagnosis.PlainOnTLS, []string{"fix url=https://berths.example/mcp"}},
		"TLS, not trusted":   {both(at("http://berths.example/mcp"), presented(other, leaf)), diagnosis.PlainOnTLS, []string{"!fix"}},
		"TLS that asks":      {both(at("http://berths.example/mcp"), tls(evidence.Handshake{Asked: true})), diagnosis.PlainOnTLS, []string{"!fix"}},
		"TLS that alerts":    {both(at("http://berths.example/mcp"), tls(evidence.Handshake{Alert: 40})), diagnosis.PlainOnTLS, nil},
		"no TLS, and http":   {both(at("http://berths.example/mcp"), tls(evidence.Handshake{Step: broken})), "", nil},
		"a greeting":         {func(e *evidence.Evidence) { e.Greeting = []byte("RFB 003") }, diagnosis.OtherProtocol, []string{"a remote desktop", "the first bytes"}},
		"a database":         {func(e *evidence.Evidence) { e.Greeting = []byte{0x4a, 0, 0, 0, 0x0a, '8'} }, diagnosis.OtherProtocol, []string{"a database"}},
		"nearly a database":  {func(e *evidence.Evidence) { e.Greeting = []byte{0x4a, 0, 0, 0, 0x0a} }, diagnosis.OtherProtocol, []string{"something else"}},
		"no database":        {func(e *evidence.Evidence) { e.Greeting = []byte{0x4a, 0, 0, 1, 0x0a, '8'} }, diagnosis.OtherProtocol, []string{"something else"}},
		"nor that":           {func(e *evidence.Evidence) { e.Greeting = []byte{0x4a, 0, 0, 0, 0x0b, '8'} }, diagnosis.OtherProtocol, []string{"something else"}},
	})
}

// What HTTP answers is judged by its status, its form, and what further probes showed.
func TestAnswersInDetail(t *testing.T) {
	t.Parallel()
	const first = evidence.Initialize
	elsewhere := open(evidence.OtherPath, "https://berths.example/other")
	cut := func(status int, body string, alter func(x *evidence.Exchange)) evidence.Exchange {
		x := answer(first, status, body)
		alter(&x)
		return x
	}
	silent := func(alter func(x *evidence.Exchange)) evidence.Exchange {
		x := evidence.Exchange{Purpose: first, Method: "POST", URL: "https://berths.example/mcp", Header: map[string]string{}}
		alter(&x)
		return x
	}
	timed := silent(func(x *evidence.Exchange) { x.Timeout = true })
	old := answer(evidence.Legacy, 200, "", "Content-Type", "text/event-stream")
	old.Endpoint, old.Reply = "/messages", evidence.Reply{}
	works, strange := old, old
	works.Opened, strange.Reply = true, evidence.Reply{Shape: evidence.Text}
	posted := func(status int) evidence.Exchange { return answer(evidence.Posted, status, "") }
	sse := func(list ...evidence.Exchange) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) { e.Target.Transport, e.Probes = "sse", list }
	}
	wants := func(endpoint string, list ...evidence.Exchange) func(e *evidence.Evidence) {
		x := old
		x.Endpoint = endpoint
		return sse(append([]evidence.Exchange{x}, list...)...)
	}
	legacy := func(status int, kind string) evidence.Exchange {
		return answer(evidence.Legacy, status, "", "Content-Type", kind)
	}
	at := func(url string, x evidence.Exchange) evidence.Exchange { x.URL = url; return x }
	check(t, map[string]judged{
		"nothing was asked":   {probes(), "", nil},
		"it opened":           {probes(open(first, "https://berths.example/mcp")), "", nil},
		"silent":              {probes(timed), diagnosis.NeverAnswers, []string{"answers nothing within 5s"}},
		"silent, but to GET":  {probes(timed, answer(evidence.PlainGet, 200, "hello")), diagnosis.NeverAnswers, []string{"answers a plain GET"}},
		"reset":               {probes(silent(func(x *evidence.Exchange) { x.Err = syscall.ECONNRESET })), diagnosis.StreamCut, []string{"closes the connection"}},
		"closed":              {probes(silent(func(x *evidence.Exchange) { x.Err = errors.New("unexpected EOF") })), diagnosis.StreamCut, []string{"closes the connection"}},
		"no HTTP":             {probes(silent(func(x *evidence.Exchange) { x.Err = errors.New("malformed HTTP response") })), diagnosis.OtherProtocol, nil},
		"breaks off":          {probes(silent(func(x *evidence.Exchange) { x.Err = errors.New("broken pipe") })), diagnosis.StreamCut, []string{"breaks off before"}},
		"UTF-16":              {probes(cut(200, "\xff\xfe{\x00", func(*evidence.Exchange) {})), diagnosis.EncodingBroken, []string{"!the header says"}},
		"gzip, and says so":   {probes(answer(first, 200, "\x1f\x8b\x08", "Content-Encoding", "br")), diagnosis.EncodingBroken, []string{"the header says br"}},
		"no gzip":             {probes(cut(200, "", func(x *evidence.Exchange) { x.BodyErr = errors.New("gzip: invalid header") })), diagnosis.EncodingBroken, []string{"says that it is compressed"}},
		"cut in the middle":   {probes(cut(200, "{", func(x *evidence.Exchange) { x.BodyErr = errors.New("EOF") })), diagnosis.StreamCut, []string{"1 bytes came"}},
		"begun, never ended":  {probes(cut(200, "{", func(x *evidence.Exchange) { x.BodyTimeout = true })), diagnosis.NeverAnswers, []string{"begins an answer"}},
		"ended by timeout":    {probes(cut(200, `{"jsonrpc":"2.0","id":2,"result":{}}`, func(x *evidence.Exchange) { x.BodyTimeout = true })), diagnosis.WrongID, nil},
		"a stream that ends":  {probes(cut(200, "", func(x *evidence.Exchange) { x.Reply.Event = true })), diagnosis.StreamCut, []string{"ends before the answer"}},
		"a stream of nothing": {probes(answer(first, 200, "", "Content-Type", "text/event-stream; x")), diagnosis.StreamCut, []string{"without a word"}},
		"nothing":             {probes(answer(first, 202, "")), diagnosis.NeverAnswers, []string{"takes the first message (202)"}},
		"nothing, but there":  {probes(answer(first, 200, ""), elsewhere), diagnosis.WrongPath, []string{"fix url=https://berths.example/other"}},
		"a batch":             {probes(answer(first, 200, `[{"jsonrpc":"2.0","id":1,"result":{}}]`)), diagnosis.Batch, nil},
		"broken JSON":         {probes(answer(first, 200, `{"a":`)), diagnosis.Malformed, []string{"broken JSON"}},
		"other JSON, there":   {probes(answer(first, 200, `{"a":1}`), elsewhere), diagnosis.NotJSONRPC, []string{"fix url=https://berths.example/other"}},
		"other JSON":          {probes(answer(first, 200, `{"a":1}`), answer(evidence.OtherPath, 404, ""), silent(func(x *evidence.Exchange) { x.Purpose = evidence.OtherPath })), diagnosis.NotJSONRPC, []string{"other paths were tried: /mcp 404", "!fix", "!/mcp 0"}},
		"a text":              {probes(answer(first, 200, "hello")), diagnosis.NotJSONRPC, []string{"!other paths"}},
		"a page, there":       {probes(answer(first, 200, "<html>"), elsewhere), diagnosis.HTMLPage, []string{"spoken at https://berths.example/other", "fix url"}},
		"a page":              {probes(answer(first, 404, "<html>")), diagnosis.WrongPath, nil},
		"a page, for 400":     {probes(answer(first, 400, "<html>")), diagnosis.HTMLPage, nil},
		"400":                 {probes(answer(first, 400, `{"error":"no"}`)), diagnosis.OtherStatus, []string{"status 400: no"}},
		"400, a message":      {probes(answer(first, 400, `{"jsonrpc":"2.0","id":1,"error":{"code":-32020,"message":"no"}}`)), diagnosis.HeadersRefused, nil},
		"400, of a token":     {probes(answer(first, 400, `{"error":"invalid token"}`)), diagnosis.NoCredential, nil},
		"418":                 {probes(answer(first, 418, "tea")), diagnosis.OtherStatus, nil},
		"418, a message":      {probes(answer(first, 418, `{"jsonrpc":"2.0","id":1,"error":{"code":1,"message":"tea"}}`)), diagnosis.InitRefused, nil},
		"200, of a token":     {probes(answer(first, 200, `{"jsonrpc":"2.0","id":1,"error":{"code":1,"message":"invalid token"}}`)), diagnosis.NoCredential, nil},
		"402":                 {probes(answer(first, 402, "")), diagnosis.Quota, []string{"wants to be paid"}},
		"407":                 {probes(answer(first, 407, "")), diagnosis.NoCredential, nil},
		"414":                 {probes(answer(first, 414, "")), diagnosis.RequestTooLarge, []string{"(414)"}},
		"431":                 {probes(answer(first, 431, "")), diagnosis.RequestTooLarge, nil},
		"501":                 {probes(answer(first, 501, "")), diagnosis.OtherStatus, nil},
		"520":                 {probes(answer(first, 520, "")), diagnosis.BadGateway, nil},
		"530":                 {probes(answer(first, 530, "")), diagnosis.BadGateway, nil},
		"531":                 {probes(answer(first, 531, "")), diagnosis.ServerError, nil},
		"519":                 {probes(answer(first, 519, "")), diagnosis.ServerError, nil},
		"500":                 {probes(answer(first, 500, ""), answer(evidence.Again, 500, "")), diagnosis.ServerError, []string{"fails again"}},
		"500, now and then":   {probes(answer(first, 500, ""), open(evidence.Again, "x")), diagnosis.ServerError, []string{"now and then"}},
		"503, for a while":    {probes(answer(first, 503, "", "Retry-After", "7", "Via", "edge", "Server", "front")), diagnosis.BadGateway, []string{"wait 7 s", "Via: edge", "Server: front"}},
		"502":                 {probes(answer(first, 502, "")), diagnosis.BadGateway, []string{"!wait", "!Via"}},
		"300":                 {probes(answer(first, 300, "", "Location", "/x")), diagnosis.Redirected, nil},
		"399":                 {probes(answer(first, 399, "")), diagnosis.Redirected, []string{"without saying where", "server owner"}},
		"to https": {func(e *evidence.Evidence) {
			e.Target.URL = "http://berths.example/mcp"
			e.Probes = []evidence.Exchange{at("http://berths.example/mcp", answer(first, 301, "", "Location", "https://berths.example/mcp?a=b"))}
		}, diagnosis.WrongScheme, []string{"fix url=https://berths.example/mcp |"}},
		"to https, and login": {func(e *evidence.Evidence) {
			e.Target.URL = "http://berths.example/mcp"
			e.Probes = []evidence.Exchange{at("http://berths.example/mcp", answer(first, 301, "", "Location", "https://berths.example/login"))}
		}, diagnosis.RedirectedToLogin, nil},
		"to http":            {probes(answer(first, 301, "", "Location", "http://berths.example/mcp")), diagnosis.Redirected, []string{"!fix"}},
		"with a way back":    {probes(answer(first, 302, "", "Location", "https://x.example/?return=1")), diagnosis.RedirectedToLogin, nil},
		"with another way":   {probes(answer(first, 302, "", "Location", "https://x.example/?redirect_to=1")), diagnosis.RedirectedToLogin, nil},
		"elsewhere":          {probes(answer(first, 302, "", "Location", "https://x.example/y?z=1")), diagnosis.Redirected, []string{"--url https://x.example/y"}},
		"not to be read":     {probes(answer(first, 302, "", "Location", "://")), diagnosis.Redirected, []string{"without saying where"}},
		"429":                {probes(answer(first, 429, "", "Retry-After", "30")), diagnosis.TooManyRequests, []string{"wait until 2026-11-27 08:00:30 UTC, and"}},
		"429, until a date":  {probes(answer(first, 429, "", "Retry-After", "Fri")), diagnosis.TooManyRequests, []string{"wait until Fri, and"}},
		"429, some time":     {probes(answer(first, 429, "")), diagnosis.TooManyRequests, []string{"wait a while"}},
		"429, of a plan":     {probes(answer(first, 429, `{"error":"monthly quota exceeded"}`)), diagnosis.Quota, nil},
		"429, of a plan too": {probes(answer(first, 429, `{"error":"monthly quota exceeded"}`, "Retry-After", "30")), diagnosis.TooManyRequests, nil},
		"404 of a host":      {probes(answer(first, 404, `{"error":"invalid host header"}`)), diagnosis.HostRefused, []string{"!localhost"}},
		"421, and localhost": {probes(answer(first, 421, ""), open(evidence.OtherHost, "https://berths.example/mcp")), diagnosis.HostRefused, []string{"it accepts localhost"}},
		"421, nor localhost": {probes(answer(first, 421, ""), answer(evidence.OtherHost, 421, "")), diagnosis.HostRefused, []string{"!localhost"}},
		"404, there":         {probes(answer(first, 404, ""), elsewhere), diagnosis.WrongPath, []string{"fix url=https://berths.example/other"}},
		"404, there by name": {probes(answer(first, 404, ""), func() evidence.Exchange { x := elsewhere; x.Endpoint = "/m"; return x }()), diagnosis.WrongPath, []string{"!fix"}},
		"405":                {probes(answer(first, 405, "", "Allow", "GET")), diagnosis.MethodRefused, []string{"it allows GET"}},
		"405 alone":          {probes(answer(first, 405, "")), diagnosis.MethodRefused, []string{"!it allows"}},
		"405 at /sse":        {probes(at("https://berths.example/sse/", answer(first, 405, "", "Allow", "GET")), elsewhere), diagnosis.StreamableThere, nil},
		"404 at /sse":        {probes(at("https://berths.example/sse", answer(first, 404, "", "Allow", "GET")), elsewhere), diagnosis.WrongPath, nil},
		"both transports":    {probes(answer(first, 405, ""), old, elsewhere), diagnosis.StreamableThere, []string{"the transport of 2024", "fix url"}},
		"the older one":      {probes(answer(first, 405, ""), works), diagnosis.LegacyOnly, []string{"fix transport=sse"}},
		"the older one, cut": {probes(answer(first, 405, ""), old), diagnosis.LegacyOnly, nil},
		"the older, found": {func(e *evidence.Evidence) {
			e.Target.Detect, e.Probes = true, []evidence.Exchange{answer(first, 405, ""), old, posted(404)}
		}, diagnosis.EndpointElsewhere, []string{"where nothing takes them (404)"}},
		"no older one":    {probes(answer(first, 405, ""), legacy(404, "")), diagnosis.MethodRefused, nil},
		"no content type": {probes(answer(first, 200, `{"jsonrpc":"2.0","id":1,"result":{}}`)), diagnosis.MediaWrong, []string{"labelled as nothing"}},
		"text as type":    {probes(answer(first, 200, `{"jsonrpc":"2.0","id":1,"result":{}}`, "Content-Type", "Text/Plain")), diagnosis.MediaWrong, []string{"labelled as text/plain"}},
		"JSON as type":    {probes(answer(first, 200, `{"jsonrpc":"2.0","id":1,"result":{}}`, "Content-Type", "application/json; x")), diagnosis.Malformed, []string{"cannot be used"}},
		"another version": {probes(answer(first, 200, `{"jsonrpc":"1.0","id":1,"result":{}}`, "Content-Type", "text/event-stream")), diagnosis.Malformed, []string{"JSON-RPC 2.0"}},

		"a stream that works":     {sse(works), "", nil},
		"no stream was asked":     {sse(answer(first, 404, "")), diagnosis.WrongPath, nil},
		"a stream, and it is new": {sse(legacy(405, ""), open(first, "https://berths.example/sse")), diagnosis.StreamableHere, []string{"fix transport=streamable-http"}},
		"a stream, elsewhere":     {sse(legacy(405, ""), elsewhere), diagnosis.StreamableThere, nil},
		"a stream, silent":        {sse(func() evidence.Exchange { x := timed; x.Purpose = evidence.Legacy; return x }()), diagnosis.NeverAnswers, nil},
		"a stream that is none":   {sse(legacy(200, "text/html")), diagnosis.NoLegacy, []string{"opens no event stream", "registrar"}},
		"a stream of no place":    {sse(legacy(200, "text/event-stream")), diagnosis.NoLegacy, []string{"does not say where", "server owner"}},
		"a stream that is gone":   {sse(legacy(404, "")), diagnosis.WrongPath, nil},
		"a strange stream":        {sse(strange), diagnosis.NotJSONRPC, nil},
		"no place to read":        {wants("://", posted(202)), diagnosis.EndpointElsewhere, []string{"that can be read"}},
		"another host":            {wants("https://x.example/m", posted(202)), diagnosis.EndpointElsewhere, []string{"https://x.example, where"}},
		"another scheme":          {wants("http://berths.example/m", posted(202)), diagnosis.EndpointElsewhere, []string{"http://berths.example, where"}},
		"the same host":           {wants("https://berths.example/m", posted(202)), diagnosis.NeverAnswers, []string{"takes a message"}},
		"nothing to be posted":    {wants("/m"), diagnosis.EndpointElsewhere, []string{"cannot be used"}},
		"nobody there":            {wants("/m", posted(405)), diagnosis.EndpointElsewhere, []string{"(405)"}},
		"taken in silence":        {wants("/m", posted(200)), diagnosis.NeverAnswers, nil},
		"not even taken":          {wants("/m", evidence.Exchange{Purpose: evidence.Posted, Step: evidence.Step{Timeout: true}}), diagnosis.NeverAnswers, nil},
		"turned away":             {wants("/m", posted(500)), diagnosis.ServerError, nil},
	})
}

// Credentials that are lacking, refused, malformed, or not enough are told apart by what was sent,
// what the server says, and what further probes showed.
func TestCredentials(t *testing.T) {
	t.Parallel()
	const first = evidence.Initialize
	bearer := evidence.Credential{Form: evidence.Form{Header: "Authorization", Scheme: "Bearer"}}
	key := evidence.Credential{Form: evidence.Form{Header: "X-Api-Key"}}
	with := func(c evidence.Credential, list ...evidence.Exchange) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) { e.Credentials, e.Probes = []evidence.Credential{c}, list }
	}
	of := func(c evidence.Credential, alter func(c *evidence.Credential)) evidence.Credential {
		alter(&c)
		return c
	}
	says := func(status int, text string, header ...string) evidence.Exchange {
		body := ""
		if text != "" {
			body = `{"error":"` + text + `"}`
		}
		return answer(first, status, body, header...)
	}
	form := func(header, scheme string) evidence.Exchange {
		x := open(evidence.OtherHeader, "https://berths.example/mcp")
		x.Form = evidence.Form{Header: header, Scheme: scheme}
		return x
	}
	cleaned := open(evidence.Cleaned, "https://berths.example/mcp")
	claims := func(c evidence.Claims) evidence.Credential {
		return of(bearer, func(b *evidence.Credential) { b.Claims = &c })
	}
	date := func(off time.Duration) string { return now.Add(off).Format(httpDate) }
	authority := evidence.OAuthStep{What: evidence.AuthorityStep, Status: 200, Authorize: "/a", Token: "/t", Issuer: "https://id.example", Methods: []string{"S256"}}
	found := func(s evidence.OAuthStep, alter func(e *evidence.Evidence)) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) {
			e.Probes, e.OAuth = []evidence.Exchange{says(401, "")}, []evidence.OAuthStep{s}
			alter(e)
		}
	}
	self := func(*evidence.Evidence) {}
	register := authority
	register.Register = "/r"
	documents := authority
	documents.Documents = true
	at := func(url string, c evidence.Credential) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) {
			e.Target.URL, e.Credentials, e.Probes = url, []evidence.Credential{c}, []evidence.Exchange{says(401, "")}
		}
	}
	env := func(name string) evidence.Credential {
		return of(bearer, func(c *evidence.Credential) { c.Environment = name })
	}
	check(t, map[string]judged{
		"a line break":       {with(of(bearer, func(c *evidence.Credential) { c.Stray = evidence.LineBreak }), open(first, "x")), diagnosis.StrayCharacters, []string{"the value for Authorization"}},
		"a line break, else": {with(of(bearer, func(c *evidence.Credential) { c.Stray, c.Header = evidence.LineBreak, "" }), open(first, "x")), "", nil},
		"of a variable":      {with(of(bearer, func(c *evidence.Credential) { c.Stray, c.Variable = evidence.LineBreak, "KEY" }), says(401, "")), diagnosis.NoCredential, nil},
		"another blank":      {with(of(bearer, func(c *evidence.Credential) { c.Stray = "a blank within it" }), open(first, "x")), "", nil},

		"none":                 {probes(says(401, "")), diagnosis.NoCredential, []string{"wants a credential, and gets none (401)", "update berths --token"}},
		"none, not from here":  {probes(says(403, "your ip address is not allowed")), diagnosis.NotAllowed, []string{"from here"}},
		"none, 401, from here": {probes(says(401, "your ip address is not allowed")), diagnosis.NoCredential, nil},
		"none, forbidden":      {probes(says(403, "access restricted")), diagnosis.NoCredential, nil},
		"none, forbidden, signs in": {func(e *evidence.Evidence) {
			e.Target.SignIn, e.Probes = true, []evidence.Exchange{says(403, "restricted")}
		}, diagnosis.NotAllowed, nil},
		"none, basic":          {probes(says(401, "", "Www-Authenticate", `Basic realm="x"`)), diagnosis.NoCredential, []string{"a name and a password"}},
		"none, bearer":         {probes(says(401, "", "Www-Authenticate", `bearer`)), diagnosis.NoCredential, []string{"wants a credential, and"}},
		"none, another":        {probes(says(401, "", "Www-Authenticate", `Token`)), diagnosis.NoCredential, []string{"scheme Token", "header:Authorization Token=SECRET"}},
		"none, a header":       {probes(says(401, "missing X-Api-Key header")), diagnosis.NoCredential, []string{"in the header X-Api-Key", "--secret-header X-Api-Key --token"}},
		"none, another header": {probes(says(401, "x-harbour-pass is required")), diagnosis.NoCredential, []string{"--secret-header X-Harbour-Pass"}},
		"none, Authorization":  {probes(says(401, "authorization header is missing")), diagnosis.NoCredential, []string{"!in the header"}},
		"a sign-in":            {found(register, self), diagnosis.NoCredential, []string{"a sign-in at https://id.example", "update berths --sign-in code", "!--client-id"}},
		"by documents":         {found(documents, self), diagnosis.NoCredential, []string{"!--client-id"}},
		"by hand":              {found(authority, self), diagnosis.NoCredential, []string{"--client-id ID"}},
		"it signs in":          {found(register, func(e *evidence.Evidence) { e.Target.SignIn = true }), diagnosis.NoCredential, []string{"bouncer sign-in begin berths"}},
		"not registered":       {found(register, func(e *evidence.Evidence) { e.Target.Server = "" }), diagnosis.NoCredential, []string{"register it with --sign-in code"}},
		"of the token alone":   {found(evidence.OAuthStep{What: evidence.AuthorityStep, Status: 200, Token: "/t", Issuer: "https://id.example", Methods: []string{"none needed"}}, self), diagnosis.NoCredential, []string{"https://id.example"}},

		"rejected":             {with(bearer, says(401, "no")), diagnosis.TokenRejected, []string{"(401): no", "!without the credential"}},
		"the same without":     {with(bearer, says(401, "no"), answer(evidence.WithoutCredential, 401, `{"error":"no"}`)), diagnosis.TokenRejected, []string{"without the credential the server answers the same"}},
		"other words without":  {with(bearer, says(401, "no"), answer(evidence.WithoutCredential, 401, `{"error":"none"}`)), diagnosis.TokenRejected, []string{"initialize without the credential"}},
		"other status without": {with(bearer, says(401, "no"), answer(evidence.WithoutCredential, 403, `{"error":"no"}`)), diagnosis.TokenRejected, []string{"answered 403"}},
		"silent without":       {with(bearer, says(401, "no"), evidence.Exchange{Purpose: evidence.WithoutCredential}), diagnosis.TokenRejected, []string{"!initialize without the credential"}},
		"forbidden":            {with(bearer, says(403, "no")), diagnosis.NotAllowed, []string{"forbids this (403)"}},
		"not from here":        {with(bearer, says(403, "your ip address is blocked")), diagnosis.NotAllowed, []string{"from here (403)"}},
		"a host":               {with(bearer, says(403, "invalid host header")), diagnosis.HostRefused, nil},
		"a host, 401":          {with(bearer, says(401, "invalid host header")), diagnosis.TokenRejected, nil},

		"cleaned":            {with(bearer, says(401, ""), cleaned), diagnosis.StrayCharacters, []string{"something that does not belong"}},
		"cleaned of a quote": {with(of(bearer, func(c *evidence.Credential) { c.Stray = "quotes around it" }), says(401, ""), cleaned), diagnosis.StrayCharacters, []string{"but for quotes around it"}},
		"cleaned of a word":  {with(of(bearer, func(c *evidence.Credential) { c.Doubled = "Bearer" }), says(401, ""), cleaned), diagnosis.SchemeDoubled, []string{"Bearer is there twice: Bouncer writes"}},
		"cleaned, the second": {func(e *evidence.Evidence) {
			e.Credentials = []evidence.Credential{bearer, of(key, func(c *evidence.Credential) { c.Stray = "a comma" })}
			e.Probes = []evidence.Exchange{says(401, ""), cleaned}
		}, diagnosis.StrayCharacters, []string{"but for a comma"}},
		"in another header": {with(bearer, says(401, ""), form("X-Api-Key", "")), diagnosis.WrongHeader, []string{"fix secretHeader=X-Api-Key"}},
		"in Authorization":  {with(key, says(401, ""), form("authorization", "Bearer")), diagnosis.WrongHeader, []string{"from Authorization, and it is sent in X-Api-Key", "fix secretHeader= |"}},
		"once":              {with(of(bearer, func(c *evidence.Credential) { c.Doubled = "Bearer" }), says(401, ""), form("Authorization", "Bearer")), diagnosis.SchemeDoubled, []string{"writes it before"}},
		"with a word":       {with(of(bearer, func(c *evidence.Credential) { c.Scheme = "" }), says(401, ""), form("Authorization", "Token")), diagnosis.SchemeMissing, []string{"wants the word Token", "fix secretHeader= |"}},
		"with one it lacks": {with(of(bearer, func(c *evidence.Credential) { c.NoScheme = true }), says(401, ""), form("Authorization", "Bearer")), diagnosis.SchemeMissing, nil},
		"without a word":    {with(bearer, says(401, ""), form("Authorization", "")), diagnosis.SchemeOther, []string{"without the word Bearer", "fix secretHeader=Authorization"}},
		"with another word": {with(bearer, says(401, ""), form("Authorization", "Token")), diagnosis.SchemeOther, []string{"wants the word Token before the credential, and gets Bearer", "!fix"}},

		"a placeholder":       {with(of(bearer, func(c *evidence.Credential) { c.Placeholder = "<token>" }), says(401, "")), diagnosis.Placeholder, []string{"<token>"}},
		"an empty one":        {with(of(bearer, func(c *evidence.Credential) { c.Empty = true }), says(401, "")), diagnosis.NoCredential, []string{"is empty", "credential owner"}},
		"a word twice":        {with(of(bearer, func(c *evidence.Credential) { c.Doubled = "Token" }), says(401, "")), diagnosis.SchemeDoubled, []string{"Token is there twice |"}},
		"quotes":              {with(of(bearer, func(c *evidence.Credential) { c.Stray = "quotes around it" }), says(401, "")), diagnosis.StrayCharacters, []string{"there is quotes"}},
		"quotes, of no help":  {with(of(bearer, func(c *evidence.Credential) { c.Stray = "quotes around it" }), says(401, ""), answer(evidence.Cleaned, 401, "")), diagnosis.TokenRejected, nil},
		"no word":             {with(of(bearer, func(c *evidence.Credential) { c.NoScheme = true }), says(401, "bearer scheme required")), diagnosis.SchemeMissing, []string{"fix secretHeader="}},
		"no word, challenged": {with(of(bearer, func(c *evidence.Credential) { c.NoScheme = true }), says(401, "", "Www-Authenticate", "Bearer")), diagnosis.SchemeMissing, nil},
		"no word, another":    {with(of(bearer, func(c *evidence.Credential) { c.NoScheme = true }), says(401, "", "Www-Authenticate", `Bearer error="invalid_token"`)), diagnosis.TokenRejected, nil},
		"no word, and fine":   {with(of(bearer, func(c *evidence.Credential) { c.NoScheme = true }), says(401, "")), diagnosis.TokenRejected, nil},
		"basic":               {with(of(bearer, func(c *evidence.Credential) { c.Basic = "it is no base64" }), says(401, "")), diagnosis.TokenRejected, []string{"cannot be read: it is no base64"}},

		"expired":                 {with(claims(evidence.Claims{Expires: now.Add(-time.Hour)}), says(401, "token expired")), diagnosis.TokenExpired, []string{"on 2026-11-27 07:00:00 UTC, by what it says itself: token expired"}},
		"expired, not here":       {with(claims(evidence.Claims{Expires: now.Add(time.Hour)}), says(401, "token expired")), diagnosis.TokenExpired, []string{"!by what it says"}},
		"by its own words":        {with(claims(evidence.Claims{Expires: now.Add(-time.Second)}), says(401, "no")), diagnosis.TokenExpired, nil},
		"not yet by its own":      {with(claims(evidence.Claims{NotBefore: now.Add(61 * time.Second)}), says(401, "no")), diagnosis.ClockSkew, []string{"not valid yet", "valid from 2026-11-27 08:01:01"}},
		"nearly yet":              {with(claims(evidence.Claims{NotBefore: now.Add(60 * time.Second)}), says(401, "no")), diagnosis.TokenRejected, nil},
		"not issued yet":          {with(claims(evidence.Claims{Issued: now.Add(61 * time.Second)}), says(401, "no")), diagnosis.ClockSkew, []string{"issued 2026-11-27 08:01:01"}},
		"its clock is ahead":      {with(claims(evidence.Claims{Expires: now.Add(time.Minute)}), says(401, "token expired", "Date", date(2*time.Minute))), diagnosis.ClockSkew, []string{"the server's is 2m0s off", "valid until 2026-11-27 08:01:00"}},
		"ahead, by itself":        {with(claims(evidence.Claims{Expires: now.Add(time.Minute)}), says(401, "no", "Date", date(2*time.Minute))), diagnosis.ClockSkew, nil},
		"a little ahead":          {with(claims(evidence.Claims{Expires: now.Add(30 * time.Second)}), says(401, "token expired", "Date", date(59*time.Second))), diagnosis.TokenExpired, nil},
		"a minute ahead":          {with(bearer, says(401, "token expired", "Date", date(61*time.Second))), diagnosis.ClockSkew, nil},
		"not quite a minute":      {with(bearer, says(401, "token expired", "Date", date(60*time.Second))), diagnosis.TokenExpired, nil},
		"a minute behind":         {with(bearer, says(401, "token expired", "Date", date(-2*time.Minute))), diagnosis.TokenExpired, nil},
		"not yet, it says":        {with(bearer, says(401, "token not yet valid", "Date", date(-60*time.Second))), diagnosis.ClockSkew, []string{"the server's is -1m0s off"}},
		"not yet, in time":        {with(bearer, says(401, "token not yet valid")), diagnosis.ClockSkew, []string{"finds the token not valid yet: token not yet valid"}},
		"revoked":                 {with(bearer, says(401, "key revoked")), diagnosis.TokenRevoked, nil},
		"an audience":             {with(claims(evidence.Claims{Audience: []string{"a", "b"}}), says(401, "invalid audience")), diagnosis.WrongAudience, []string{"it says a, b", "audience is https://berths.example/mcp"}},
		"audiences elsewhere":     {with(claims(evidence.Claims{Audience: []string{"https://x.example/mcp", "https://y.example"}}), says(401, "no")), diagnosis.WrongAudience, nil},
		"one of them here":        {with(claims(evidence.Claims{Audience: []string{"https://x.example/mcp", "https://berths.example"}}), says(401, "no")), diagnosis.TokenRejected, nil},
		"one is a name":           {with(claims(evidence.Claims{Audience: []string{"berths"}}), says(401, "no")), diagnosis.TokenRejected, nil},
		"elsewhere, 403":          {with(claims(evidence.Claims{Audience: []string{"https://x.example/mcp"}}), says(403, "no")), diagnosis.NotAllowed, nil},
		"another environment":     {with(env("test"), says(401, "a test key was used")), diagnosis.OtherEnvironment, []string{"by its prefix for test"}},
		"the environment, a plan": {with(bearer, says(401, "this test key has used up its quota")), diagnosis.Quota, nil},
		"live at a trial":         {at("https://sandbox.berths.example/mcp", env("live")), diagnosis.OtherEnvironment, []string{"for live"}},
		"trial at a trial":        {at("https://sandbox.berths.example/mcp", env("test")), diagnosis.TokenRejected, nil},
		"trial at live":           {at("https://live.berths.example/mcp", env("test")), diagnosis.OtherEnvironment, nil},
		"trial at prod":           {at("https://prod.berths.example/mcp", env("test")), diagnosis.OtherEnvironment, nil},
		"live at live":            {at("https://live.berths.example/mcp", env("live")), diagnosis.TokenRejected, nil},
		"trial anywhere":          {at("https://berths.example/mcp", env("test")), diagnosis.TokenRejected, nil},
		"a scope":                 {with(claims(evidence.Claims{Scopes: []string{"a", "b"}}), says(403, "", "Www-Authenticate", `Bearer error="insufficient_scope", scope="c"`)), diagnosis.ScopeMissing, []string{"lacks the scope c; it has a b", "get one with the scope c"}},
		"a scope, signed in": {func(e *evidence.Evidence) {
			e.Target.SignIn = true
			with(bearer, says(403, "", "Www-Authenticate", `Bearer error="insufficient_scope", scope="c d"`))(e)
		}, diagnosis.ScopeMissing, []string{"--scope 'c d', and sign in again"}},
		"some scope":         {with(bearer, says(403, "insufficient scope")), diagnosis.ScopeMissing, []string{"lacks a scope |", "that the server names"}},
		"another header":     {with(bearer, says(401, "missing X-Harbour-Key header")), diagnosis.WrongHeader, []string{"X-Harbour-Key, and it is sent in Authorization"}},
		"another scheme":     {with(bearer, says(401, "unsupported authorization scheme", "Www-Authenticate", "Token")), diagnosis.SchemeOther, []string{"wants the word Token"}},
		"the same scheme":    {with(bearer, says(401, "unsupported authorization scheme", "Www-Authenticate", "bearer")), diagnosis.TokenRejected, nil},
		"stripped":           {with(bearer, says(401, "authorization header is missing")), diagnosis.HeaderStripped, []string{"Authorization is missing, and it was sent"}},
		"stripped, the same": {with(bearer, says(401, "authorization header is missing"), answer(evidence.WithoutCredential, 401, `{"error":"authorization header is missing"}`)), diagnosis.HeaderStripped, []string{"answers the same"}},
		"not stripped":       {with(bearer, says(401, "authorization header is missing"), answer(evidence.WithoutCredential, 401, `{"error":"none"}`)), diagnosis.TokenRejected, nil},
		"nor in status":      {with(bearer, says(401, "authorization header is missing"), answer(evidence.WithoutCredential, 403, `{"error":"authorization header is missing"}`)), diagnosis.TokenRejected, nil},
	})
	for flags, e := range map[string]evidence.Target{"bouncer server update berths --token": {Server: "berths"}, "give the new one with --token": {}} {
		assert.Equal(t, flags, (&judge{e: &evidence.Evidence{Target: e}}).rotate())
	}
	assert.Equal(t, "give it as --x", (&judge{e: &evidence.Evidence{}}).update("--x"))
}

// Each step of OAuth is judged by itself.
func TestStepsOfOAuth(t *testing.T) {
	t.Parallel()
	step := func(what string, alter func(s *evidence.OAuthStep)) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) {
			s := evidence.OAuthStep{What: what, URL: "https://id.example/x", Status: 200}
			alter(&s)
			e.Probes, e.OAuth = []evidence.Exchange{answer(evidence.Initialize, 401, "")}, []evidence.OAuthStep{s}
		}
	}
	code := func(status int, code, text string) func(s *evidence.OAuthStep) {
		return func(s *evidence.OAuthStep) { s.Status, s.Code, s.Text = status, code, text }
	}
	failed := func(s *evidence.OAuthStep) { s.Status, s.Err = 0, errors.New("reset") }
	good := func(s *evidence.OAuthStep) {
		s.Servers, s.Token, s.Authorize, s.Methods, s.Issuer = []string{"https://id.example"}, "/t", "/a", []string{"plain", "S256"}, "https://id.example"
	}
	but := func(alter func(s *evidence.OAuthStep)) func(s *evidence.OAuthStep) {
		return func(s *evidence.OAuthStep) { good(s); alter(s) }
	}
	const resource, authority = evidence.ResourceStep, evidence.AuthorityStep
	check(t, map[string]judged{
		"a resource":            {step(resource, good), diagnosis.NoCredential, nil},
		"no resource":           {step(resource, but(func(s *evidence.OAuthStep) { s.Status = 404 })), diagnosis.ResourceMetadata, []string{"cannot be had", "nobody can sign in"}},
		"a silent resource":     {step(resource, failed), diagnosis.ResourceMetadata, []string{"cannot be had"}},
		"a broken resource":     {step(resource, but(func(s *evidence.OAuthStep) { s.Malformed = true })), diagnosis.ResourceMetadata, []string{"is no JSON"}},
		"another resource":      {step(resource, but(func(s *evidence.OAuthStep) { s.Resource, s.Expected = "https://a", "https://b" })), diagnosis.ResourceMetadata, []string{"is for https://a, and the address is https://b", "--url https://a"}},
		"the same resource":     {step(resource, but(func(s *evidence.OAuthStep) { s.Resource = "https://a" })), diagnosis.NoCredential, nil},
		"no servers":            {step(resource, but(func(s *evidence.OAuthStep) { s.Servers = nil })), diagnosis.ResourceMetadata, []string{"names no authorization server"}},
		"an authority":          {step(authority, good), diagnosis.NoCredential, nil},
		"a silent authority":    {step(authority, failed), diagnosis.AuthorityMetadata, []string{"cannot be had"}},
		"a failing one":         {step(authority, but(func(s *evidence.OAuthStep) { s.Status = 500 })), diagnosis.AuthorityMetadata, []string{"cannot be had"}},
		"no authority":          {step(authority, but(func(s *evidence.OAuthStep) { s.Status = 499 })), diagnosis.AuthorityMetadata, []string{"is not there (499)"}},
		"a broken one":          {step(authority, but(func(s *evidence.OAuthStep) { s.Malformed = true })), diagnosis.AuthorityMetadata, []string{"is no JSON"}},
		"another one":           {step(authority, but(func(s *evidence.OAuthStep) { s.Expected = "https://b" })), diagnosis.AuthorityMetadata, []string{"is of https://id.example, and https://b was asked"}},
		"no token endpoint":     {step(authority, but(func(s *evidence.OAuthStep) { s.Token = "" })), diagnosis.AuthorityMetadata, []string{"lacks an endpoint"}},
		"no authorize":          {step(authority, but(func(s *evidence.OAuthStep) { s.Authorize = "" })), diagnosis.AuthorityMetadata, []string{"lacks an endpoint"}},
		"none is needed":        {step(authority, but(func(s *evidence.OAuthStep) { s.Authorize, s.Methods = "", []string{"none needed"} })), diagnosis.NoCredential, nil},
		"no proof":              {step(authority, but(func(s *evidence.OAuthStep) { s.Methods = []string{"plain"} })), diagnosis.AuthorityMetadata, []string{"S256"}},
		"no methods":            {step(authority, but(func(s *evidence.OAuthStep) { s.Methods = nil })), diagnosis.NoCredential, nil},
		"registered":            {step(evidence.RegisterStep, code(201, "", "")), diagnosis.NoCredential, nil},
		"registered, 200":       {step(evidence.RegisterStep, code(200, "", "")), diagnosis.NoCredential, nil},
		"not registered":        {step(evidence.RegisterStep, code(400, "", "no")), diagnosis.ClientRefused, []string{"by itself: no", "--client-id ID"}},
		"register times out":    {step(evidence.RegisterStep, func(s *evidence.OAuthStep) { s.Timeout = true }), diagnosis.ClientRefused, []string{"by itself |"}},
		"register fails":        {step(evidence.RegisterStep, func(s *evidence.OAuthStep) { s.Err = errors.New("x") }), diagnosis.ClientRefused, nil},
		"a page to sign in":     {step(evidence.AuthorizeStep, good), diagnosis.NoCredential, nil},
		"no page":               {step(evidence.AuthorizeStep, failed), diagnosis.AuthorityFails, []string{"when somebody is to sign in"}},
		"page 500":              {step(evidence.AuthorizeStep, code(500, "", "oops")), diagnosis.AuthorityFails, []string{"to sign in: oops"}},
		"page 499":              {step(evidence.AuthorizeStep, code(499, "", "oops")), diagnosis.AuthorityFails, []string{"refuses to begin a sign-in (499): oops"}},
		"page 400":              {step(evidence.AuthorizeStep, code(400, "", "")), diagnosis.AuthorityFails, []string{"(400)"}},
		"page 399":              {step(evidence.AuthorizeStep, code(399, "", "")), diagnosis.NoCredential, nil},
		"page of a redirect":    {step(evidence.AuthorizeStep, func(s *evidence.OAuthStep) { code(400, "", "redirect_uri is unknown")(s); s.Expected = "https://b/cb" }), diagnosis.RedirectMismatch, []string{"have https://b/cb added"}},
		"a redirect, by code":   {step(evidence.AuthorizeStep, code(302, "invalid_redirect_uri", "")), diagnosis.RedirectMismatch, nil},
		"a redirect, spoken of": {step(evidence.AuthorizeStep, code(200, "", "your redirect_uri")), diagnosis.NoCredential, nil},
		"page of a client":      {step(evidence.AuthorizeStep, code(400, "", "unknown client")), diagnosis.ClientWrong, []string{"know the client: unknown client"}},
		"a client, elsewhere":   {step(evidence.AuthorizeStep, func(s *evidence.OAuthStep) { s.Status, s.Location = 302, "https://x/?error=invalid_client" }), diagnosis.ClientWrong, nil},
		"page of a scope":       {step(evidence.AuthorizeStep, code(302, "invalid_scope", "")), diagnosis.ScopeMissing, []string{"--scope 'SCOPE'"}},
		"a token":               {step(evidence.TokenStep, good), diagnosis.NoCredential, nil},
		"token silent":          {step(evidence.TokenStep, failed), diagnosis.AuthorityFails, []string{"when a token is asked for"}},
		"token 500":             {step(evidence.TokenStep, code(500, "", "")), diagnosis.AuthorityFails, []string{"when a token"}},
		"token 499":             {step(evidence.TokenStep, code(499, "", "")), diagnosis.AuthorityFails, []string{"gives no token (499)"}},
		"token timed out":       {step(evidence.TokenStep, func(s *evidence.OAuthStep) { s.Timeout = true }), diagnosis.AuthorityFails, nil},
		"token too early":       {step(evidence.TokenStep, code(400, "", "assertion is not yet valid")), diagnosis.ClockSkew, nil},
		"token, no client":      {step(evidence.TokenStep, code(400, "invalid_client", "")), diagnosis.ClientWrong, nil},
		"token, no right":       {step(evidence.TokenStep, code(400, "unauthorized_client", "")), diagnosis.ClientWrong, nil},
		"token, 401":            {step(evidence.TokenStep, code(401, "", "")), diagnosis.ClientWrong, nil},
		"token, a scope":        {step(evidence.TokenStep, code(400, "invalid_scope", "")), diagnosis.ScopeMissing, nil},
		"token, a target":       {step(evidence.TokenStep, code(400, "invalid_target", "")), diagnosis.WrongAudience, []string{"have https://berths.example/mcp allowed"}},
		"token, an audience":    {step(evidence.TokenStep, code(400, "", "wrong audience")), diagnosis.WrongAudience, nil},
		"token, a redirect":     {step(evidence.TokenStep, code(400, "invalid_grant", "redirect_uri differs")), diagnosis.RedirectMismatch, nil},
		"refresh ended":         {step(evidence.RefreshStep, code(400, "invalid_grant", "redirect_uri differs")), diagnosis.SignInEnded, []string{"sign in again"}},
		"refreshed":             {step(evidence.RefreshStep, good), diagnosis.NoCredential, nil},
	})
}

// What a conversation shows is judged request by request, and so are the tools that are listed.
func TestConversations(t *testing.T) {
	t.Parallel()
	session := func(alter func(s *evidence.Session)) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) {
			e.Session = &evidence.Session{Opened: true, Revision: "2025-06-18", Capabilities: []string{"tools"}}
			alter(e.Session)
		}
	}
	refused := func(code int, message, data string, alter func(e *evidence.Evidence)) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) {
			e.Session = &evidence.Session{Refused: &evidence.RPCError{Code: code, Message: message, Data: data}}
			alter(e)
		}
	}
	self := func(*evidence.Evidence) {}
	sent := func(e *evidence.Evidence) {
		e.Credentials = []evidence.Credential{{Form: evidence.Form{Header: "Authorization", Scheme: "Bearer"}}}
	}
	ask := func(alter func(a *evidence.Ask)) func(e *evidence.Evidence) {
		return session(func(s *evidence.Session) {
			a := evidence.Ask{Method: "prompts/list", Status: 200, Reply: evidence.Reply{Shape: evidence.Message}, Items: 1, Pages: 1}
			a.Took = time.Second
			alter(&a)
			s.Asks = []evidence.Ask{a}
		})
	}
	ended := func(alter func(e *evidence.Evidence)) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) {
			alter(e)
			e.Process = &evidence.Process{Exited: true, Code: 3, Stderr: "the tide is out"}
		}
	}
	status := func(n int) func(a *evidence.Ask) {
		return func(a *evidence.Ask) { a.Status, a.Reply = n, evidence.Reply{} }
	}
	shape := func(s evidence.Shape) func(a *evidence.Ask) { return func(a *evidence.Ask) { a.Reply.Shape = s } }
	rpc := func(code int) func(a *evidence.Ask) {
		return func(a *evidence.Ask) { a.Error = &evidence.RPCError{Code: code, Message: "no"} }
	}
	tools := func(list ...evidence.Tool) func(e *evidence.Evidence) {
		return session(func(s *evidence.Session) { s.Listed, s.Tools = true, list })
	}
	var twelve []evidence.Tool
	for _, name := range strings.Split("abcdefghijkl", "") {
		twelve = append(twelve, evidence.Tool{Name: name, Twice: true})
	}
	check(t, map[string]judged{
		"a good one":         {session(func(*evidence.Session) {}), "", nil},
		"not opened":         {session(func(s *evidence.Session) { s.Opened, s.StreamClosed = false, 9 }), "", nil},
		"another revision":   {refused(-32602, "Unsupported protocol version", `["2024-01-01","2024-01-01"]`, self), diagnosis.NoRevision, []string{"it speaks 2024-01-01 |"}},
		"a revision by code": {refused(-32022, "no", "", self), diagnosis.NoRevision, []string{"!it speaks"}},
		"by the other code":  {refused(-32004, "no", "2024-01-01", self), diagnosis.NoRevision, nil},
		"a code of nothing":  {refused(-32004, "no", "", self), diagnosis.InitRefused, []string{"no (code -32004)"}},
		"revisions offered": {func(e *evidence.Evidence) {
			refused(-32022, "no", "2024-01-01", self)(e)
			e.Session.Offered = []string{"2023-01-01"}
		}, diagnosis.NoRevision, []string{"it speaks 2023-01-01 |"}},
		"headers differ":        {refused(-32020, "no", "", self), diagnosis.HeadersRefused, nil},
		"a quota":               {refused(1, "quota used up", "", sent), diagnosis.Quota, nil},
		"an ended token":        {refused(1, "the token has expired", "", sent), diagnosis.TokenExpired, nil},
		"no token":              {refused(-32001, "unauthorized", "", self), diagnosis.NoCredential, nil},
		"a token is no good":    {refused(-32001, "unauthorized", "", sent), diagnosis.TokenRejected, []string{"does not accept the credential: unauthorized"}},
		"a token, another code": {refused(-32000, "unauthorized", "", sent), diagnosis.InitRefused, nil},
		"expired, of no token":  {refused(1, "the licence has expired", "", sent), diagnosis.InitRefused, nil},
		"of a process":          {func(e *evidence.Evidence) { refused(-32001, "unauthorized", "", self)(e); e.Target.Command = "berths" }, diagnosis.TokenRejected, nil},
		"refused, and opened":   {session(func(s *evidence.Session) { s.Refused = &evidence.RPCError{Code: 1} }), "", nil},
		"another id":            {session(func(s *evidence.Session) { s.Reply.ID = "its id is 2" }), diagnosis.WrongID, nil},
		"another version":       {session(func(s *evidence.Session) { s.Reply.Version = true }), diagnosis.Malformed, []string{"JSON-RPC 2.0"}},
		"no revision":           {session(func(s *evidence.Session) { s.Revision = "" }), diagnosis.Malformed, []string{"no protocolVersion"}},
		"none that is known":    {session(func(s *evidence.Session) { s.Offered = []string{"a", "b"} }), diagnosis.NoRevision, []string{"it offers a, b"}},
		"lost":                  {session(func(s *evidence.Session) { s.SessionLost = true }), diagnosis.SessionLost, []string{"!another"}},
		"lost, opened again": {session(func(s *evidence.Session) {
			s.SessionLost, s.Reopened = true, true
			s.Asks = []evidence.Ask{{Method: "tools/list", Status: 404}}
		}), diagnosis.SessionLost, []string{"another could be opened", "tools/list was answered after 0s, with status 404"}},
		"closes":       {session(func(s *evidence.Session) { s.StreamClosed = 3 }), diagnosis.StreamCloses, []string{"3 times"}},
		"closes twice": {session(func(s *evidence.Session) { s.StreamClosed = 2 }), "", nil},

		"an answer":           {ask(func(*evidence.Ask) {}), "", nil},
		"it ends":             {ended(ask(func(a *evidence.Ask) { a.Ended = true })), diagnosis.Crashes, []string{"on the request prompts/list", "ended the process after 1s", "it wrote: the tide is out"}},
		"it ends, in silence": {ask(func(a *evidence.Ask) { a.Ended = true }), diagnosis.Crashes, []string{"!it wrote"}},
		"it breaks off":       {ask(func(a *evidence.Ask) { a.Err, a.Status = errBroken, 0 }), diagnosis.Crashes, []string{"failed: unexpected EOF"}},
		"it breaks off later": {ask(func(a *evidence.Ask) { a.Err = errBroken }), "", nil},
		"it never answers":    {ask(func(a *evidence.Ask) { a.Timeout, a.Err, a.Status = true, errBroken, 0 }), diagnosis.ListNeverAnswered, []string{"was not answered within 1s"}},
		"no end":              {ask(func(a *evidence.Ask) { a.Endless = "the same page again" }), diagnosis.EndlessPages, []string{"list of prompts has no end: the same page again"}},
		"too large":           {ask(func(a *evidence.Ask) { a.Bytes = 2<<20 + 1 }), diagnosis.TooLarge, []string{"larger than the 2 MiB"}},
		"as large as may be":  {ask(func(a *evidence.Ask) { a.Bytes = 2 << 20 }), "", nil},
		"without a limit":     {func(e *evidence.Evidence) { ask(func(a *evidence.Ask) { a.Bytes = 1 })(e); e.Target.MessageLimit = 0 }, "", nil},
		"an answer to others": {ask(func(a *evidence.Ask) { a.Reply.ID = "its id is 2" }), diagnosis.WrongID, []string{"to prompts/list"}},
		"not served":          {ask(rpc(-32601)), diagnosis.NotServed, []string{"says that it has prompts", "with the error -32601 after 1s: no"}},
		"not listed":          {ask(rpc(-32603)), diagnosis.NotServed, []string{"cannot list its prompts"}},
		"tools not listed":    {ask(func(a *evidence.Ask) { rpc(-32603)(a); a.Method = "tools/list" }), diagnosis.NotServed, []string{"says that it has tools"}},
		"tools not promised": {func(e *evidence.Evidence) {
			ask(func(a *evidence.Ask) { rpc(-32603)(a); a.Method = "tools/list" })(e)
			e.Session.Capabilities = nil
		}, diagnosis.NotServed, []string{"cannot list its tools"}},
		"404":     {ask(status(404)), diagnosis.SessionLost, []string{"(404)"}},
		"400":     {ask(status(400)), diagnosis.SessionLost, nil},
		"429":     {ask(status(429)), diagnosis.TooManyRequests, nil},
		"401":     {ask(status(401)), diagnosis.NoCredential, nil},
		"403":     {ask(status(403)), diagnosis.NoCredential, nil},
		"500":     {ask(status(500)), diagnosis.ServerError, []string{"fails on prompts/list (500)"}},
		"499":     {ask(status(499)), diagnosis.OtherStatus, []string{"with status 499"}},
		"300":     {ask(status(300)), diagnosis.OtherStatus, nil},
		"299":     {ask(status(299)), "", nil},
		"a batch": {ask(shape(evidence.Batched)), diagnosis.Batch, nil},
		"a mark":  {ask(shape(evidence.Marked)), diagnosis.EncodingBroken, nil},
		"UTF-16":  {ask(shape(evidence.Wide)), diagnosis.EncodingBroken, nil},
		"Latin-1": {ask(shape(evidence.NoUTF8)), diagnosis.EncodingBroken, nil},
		"gzip":    {ask(shape(evidence.Compressed)), diagnosis.EncodingBroken, nil},
		"a text":  {ask(func(a *evidence.Ask) { a.Reply = evidence.Reply{Shape: evidence.Text, Quote: "hello"} }), diagnosis.Malformed, []string{": hello"}},
		"nothing": {ask(shape(evidence.Nothing)), diagnosis.Malformed, nil},
		"nothing at all": {ask(func(a *evidence.Ask) {
			*a = evidence.Ask{Method: "prompts/list", Reply: evidence.Reply{Shape: evidence.Nothing}}
		}), "", nil},
		"nothing, by HTTP": {ask(func(a *evidence.Ask) {
			*a = evidence.Ask{Method: "prompts/list", Status: 200, Reply: evidence.Reply{Shape: evidence.Nothing}}
		}), diagnosis.Malformed, nil},
		"nothing, in words": {ask(func(a *evidence.Ask) {
			*a = evidence.Ask{Method: "prompts/list", Reply: evidence.Reply{Shape: evidence.Nothing, Quote: "x"}}
		}), diagnosis.Malformed, nil},
		"nothing, of items": {ask(func(a *evidence.Ask) {
			*a = evidence.Ask{Method: "prompts/list", Items: 1, Reply: evidence.Reply{Shape: evidence.Nothing}}
		}), diagnosis.Malformed, nil},
		"nothing, of pages": {ask(func(a *evidence.Ask) {
			*a = evidence.Ask{Method: "prompts/list", Pages: 1, Reply: evidence.Reply{Shape: evidence.Nothing}}
		}), diagnosis.Malformed, nil},
		"of no use": {ask(func(a *evidence.Ask) { a.Malformed = "prompts is no list" }), diagnosis.Malformed, []string{"cannot be used: prompts is no list"}},

		"good tools":       {tools(evidence.Tool{Name: "a"}), "", nil},
		"one name":         {tools(evidence.Tool{Name: "a", Twice: true}), diagnosis.SameName, []string{"one name: a |"}},
		"many of one name": {tools(twelve...), diagnosis.SameName, []string{"a, b, c, d, e, f, g, h, i, j |"}},
		"a schema":         {tools(evidence.Tool{Name: "a", Schema: "is none"}), diagnosis.BadSchema, []string{"a: is none", "agents do not get them"}},
		"a name":           {tools(evidence.Tool{Name: "a b", Bad: "has a blank"}), diagnosis.BadName, []string{`"a b": has a blank`}},
		"not to the end":   {session(func(s *evidence.Session) { s.Tools = twelve }), "", nil},
	})
	all := Judge(seen(tools(evidence.Tool{Name: "a", Twice: true, Schema: "is none", Bad: "is bad"})))
	assert.Len(t, all, 3, "one for each kind of flaw")
}

// Calls are judged by what came of them, also of the first that failed after good ones.
func TestCallsInDetail(t *testing.T) {
	t.Parallel()
	call := func(alter func(c *evidence.Call)) func(e *evidence.Evidence) {
		return func(e *evidence.Evidence) {
			e.Session = &evidence.Session{Opened: true, Listed: true, Revision: "2025-06-18"}
			e.Call = &evidence.Call{Tool: "list", Times: 1}
			e.Call.Took = time.Second
			alter(e.Call)
		}
	}
	said := func(text string) func(c *evidence.Call) {
		return func(c *evidence.Call) { c.Failed, c.Text = true, text }
	}
	status := func(n int, body string) func(c *evidence.Call) {
		return func(c *evidence.Call) { c.Status, c.Body = n, body }
	}
	after := func(alter func(c *evidence.Call)) func(e *evidence.Evidence) {
		return call(func(c *evidence.Call) { c.Times, c.Good = 4, 3; alter(c) })
	}
	check(t, map[string]judged{
		"good":                {call(func(*evidence.Call) {}), "", nil},
		"good, 299":           {call(status(299, "")), "", nil},
		"300":                 {call(func(c *evidence.Call) { c.Status, c.Failed = 300, true }), diagnosis.ToolError, nil},
		"no such":             {call(func(c *evidence.Call) { c.NoSuch, c.Times = true, 0 }), diagnosis.NoSuchTool, []string{"list was not called", "bouncer server tools berths"}},
		"no such, no server":  {func(e *evidence.Evidence) { call(func(c *evidence.Call) { c.NoSuch = true })(e); e.Target.Server = "" }, diagnosis.NoSuchTool, []string{"one of those that it lists"}},
		"broken off":          {call(func(c *evidence.Call) { c.Err = errBroken }), diagnosis.OutcomeUnknown, []string{"and failed: unexpected EOF"}},
		"broken, with status": {call(func(c *evidence.Call) { c.Err, c.Status = errBroken, 500 }), diagnosis.ServerError, []string{"(500)"}},
		"broken, in time":     {call(func(c *evidence.Call) { c.Err, c.Timeout = errBroken, true }), diagnosis.CallTimeout, []string{"within 1s"}},
		"broken, cut":         {call(func(c *evidence.Call) { c.Err, c.Cut, c.Limit = errBroken, true, 4096 }), diagnosis.ResultTooLarge, []string{"the 4 KiB"}},
		"ended": {func(e *evidence.Evidence) {
			call(func(c *evidence.Call) { c.Ended, c.Err = true, errBroken })(e)
			e.Process = &evidence.Process{Exited: true, Stderr: "out"}
		}, diagnosis.Crashes, []string{"it wrote: out"}},
		"ended, unseen":      {call(func(c *evidence.Call) { c.Ended = true }), diagnosis.Crashes, []string{"!it wrote"}},
		"no fit":             {call(func(c *evidence.Call) { c.Unfit, c.Failed = "quay is missing", true }), diagnosis.ArgumentsRefused, []string{"fit list: quay is missing"}},
		"no fit, it says":    {call(said("invalid argument quay")), diagnosis.ArgumentsRefused, []string{"says: invalid argument quay"}},
		"no fit, elsewhere":  {call(said("invalid argument: token expired")), diagnosis.UpstreamEnded, nil},
		"an error":           {call(func(c *evidence.Call) { c.Error = &evidence.RPCError{Code: -32000, Message: "no"} }), diagnosis.ToolError, []string{"with the error -32000: no"}},
		"an error, upstream": {call(func(c *evidence.Call) { c.Error = &evidence.RPCError{Code: -32000, Message: "token expired"} }), diagnosis.UpstreamEnded, []string{"is accepted"}},
		"401":                {call(status(401, "")), diagnosis.NoCredential, nil},
		"403":                {call(status(403, "")), diagnosis.NoCredential, nil},
		"429":                {call(status(429, "")), diagnosis.TooManyRequests, nil},
		"400":                {call(status(400, "")), diagnosis.ServerError, []string{"(400)"}},
		"output":             {call(func(c *evidence.Call) { c.Output = "free is no number" }), diagnosis.OutputBroken, []string{"free is no number"}},
		"then ended":         {after(func(c *evidence.Call) { c.Ended = true }), diagnosis.ThenFails, []string{"goes well 3 times, and then fails: the server ends", "was called 4 times, and the first 3 went well"}},
		"then 429":           {after(status(429, "")), diagnosis.ThenFails, []string{"too many requests |"}},
		"then 429, a while":  {after(func(c *evidence.Call) { c.Status, c.Retry = 429, "7 s" }), diagnosis.ThenFails, []string{"asks to wait 7 s"}},
		"then it says so":    {after(said("rate limit")), diagnosis.ThenFails, []string{"too many requests"}},
		"then it says it":    {after(said("too many calls")), diagnosis.ThenFails, []string{"too many requests"}},
		"then silence":       {after(func(c *evidence.Call) { c.Timeout = true }), diagnosis.ThenFails, []string{"no longer answers"}},
		"then words":         {after(said("no more")), diagnosis.ThenFails, []string{"fails: no more"}},
		"then nothing":       {after(func(c *evidence.Call) { c.Failed = true }), diagnosis.ThenFails, []string{"and then fails |"}},
	})
	unlisted := seen(call(func(c *evidence.Call) { c.Failed = true }))
	unlisted.Session.Listed, unlisted.Session.StreamClosed = false, 3
	assert.Len(t, Judge(unlisted), 1, "what stands before it hides the call")
	e := seen(call(func(c *evidence.Call) { c.Failed = true }))
	e.Session.StreamClosed = 3
	assert.Len(t, Judge(e), 2, "what does not stand before it does not")
}
