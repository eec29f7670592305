package faults

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"
)

// rest are faults that the reasoning was not written for: other servers, runtimes and words
// for causes that are there, and causes that need a stage of their own.
func rest() []Fault {
	fixed := func(h http.Handler) func(*Stage) Case {
		return func(s *Stage) Case { return at(s.Serve(h) + "/mcp") }
	}
	says := func(text string) func(*Stage) Case {
		return func(s *Stage) Case {
			file := s.File("words.txt", text, 0o600)
			return run(s.Script("berths", fmt.Sprintf("cat %s >&2\nexit 1\n", file)))
		}
	}
	calling := func(h http.Handler, times int) func(*Stage) Case {
		return func(s *Stage) Case {
			c := at(s.Serve(h) + "/mcp")
			c.Tool, c.Arguments, c.Times = "list_berths", "{}", times
			return c
		}
	}
	erring := func(text string) *harbour {
		return &harbour{call: func(int) string { return fmt.Sprintf(`{"content":[{"type":"text","text":%q}],"isError":true}`, text) }}
	}
	listing := func(tools string) func(*Stage) Case { return fixed(&harbour{tools: tools}) }
	return []Fault{
		{Name: "packets that nobody answers", Cause: "address.connection-times-out", Slow: true, Start: crowded},
		{Name: "no route", Cause: "address.unreachable", Start: func(*Stage) Case { return at("http://255.255.255.255:4701/mcp") }},
		{Name: "an alert instead of a certificate", Cause: "tls.handshake-fails", Start: func(s *Stage) Case {
			c := greeting("\x15\x03\x03\x00\x02\x02\x28")(s)
			c.URL = strings.Replace(c.URL, "http:", "https:", 1)
			return c
		}},
		{Name: "headers and body differ, says the server", Cause: "protocol.headers-refused", Start: fixed(status(400, jsonType,
			`{"jsonrpc":"2.0","id":1,"error":{"code":-32020,"message":"Mcp-Method header does not match the body"}}`))},
		{Name: "a teapot", Cause: "http.unexpected-status", Start: fixed(status(418, "text/plain", "short and stout"))},
		{Name: "cut off during the call", Cause: "call.outcome-unknown", Start: calling(on("tools/call", &harbour{}, cutOff), 1)},
		{Name: "a package of Node that is not there", Cause: "launch.module-or-package-missing", Start: says(
			"node:internal/modules/esm/resolve:873\n  throw new ERR_MODULE_NOT_FOUND(packageName, fileURLToPath(base));\n        ^\n\n" +
				"Error [ERR_MODULE_NOT_FOUND]: Cannot find package 'zod' imported from /srv/berths/dist/index.js\n    at packageResolve\n\nNode.js v22.4.0\n")},
		{Name: "a gem that is not there", Cause: "launch.module-or-package-missing", Start: says(
			"<internal:/usr/lib/ruby/3.2.0/rubygems/core_ext/kernel_require.rb>:86:in `require': cannot load such file -- rack (LoadError)\n" +
				"\tfrom /srv/berths/server.rb:1:in `<main>'\n")},
		{Name: "a module of Perl that is not there", Cause: "launch.module-or-package-missing", Start: says(
			"Can't locate JSON/RPC.pm in @INC (you may need to install the JSON::RPC module) (@INC entries checked: /etc/perl) at berths.pl line 3.\n")},
		{Name: "a panic for want of a variable", Cause: "launch.required-setting-missing", Start: says(
			"thread 'main' panicked at src/main.rs:12:38:\nBERTHS_KEY must be set: NotPresent\nnote: run with `RUST_BACKTRACE=1`\n")},
		{Name: "a validation of settings", Cause: "launch.required-setting-missing", Start: says(
			"pydantic_core._pydantic_core.ValidationError: 1 validation error for Settings\nberths_api_key\n  Field required [type=missing]\n")},
		{Name: "an address in use, says Go", Cause: "launch.port-taken", Start: says(
			"2026/11/20 08:00:01 listening on :4801\npanic: listen tcp :4801: bind: address already in use\n\ngoroutine 1 [running]:\nmain.main()\n")},
		{Name: "an output that is closed", Cause: "protocol.never-answers", Slow: true, Start: func(s *Stage) Case {
			return run(s.Script("berths", "exec >&-\nexec sleep 60\n"))
		}},
		{Name: "a heap that is full, says the JVM", Cause: "launch.out-of-memory", Start: says(
			"Exception in thread \"main\" java.lang.OutOfMemoryError: Java heap space\n\tat harbour.Berths.load(Berths.java:41)\n")},
		{Name: "classes of a newer runtime", Cause: "launch.runtime-too-old", Start: says(
			"Error: LinkageError occurred while loading main class harbour.Berths\n\tjava.lang.UnsupportedClassVersionError: harbour/Berths has been " +
				"compiled by a more recent version of the Java Runtime (class file version 65.0)\n")},
		{Name: "a program of another machine", Cause: "launch.not-executable", Start: func(s *Stage) Case {
			return run(s.File("berths", "\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\xb7\x00\x01\x00\x00\x00"+
				strings.Repeat("\x00", 40), 0o700))
		}},
		{Name: "ended on a day", Cause: "auth.token-expired", Start: refusing(401, jsonType,
			`{"error":"invalid_token","error_description":"The access token expired at 2026-11-20T08:00:00Z"}`)(token)},
		{Name: "a key of the sandbox", Cause: "auth.key-of-another-environment", Start: refusing(403, jsonType,
			`{"message":"This is a sandbox key and cannot be used against the production API"}`)(token)},
		{Name: "another header, in words", Cause: "auth.wrong-header", Start: refusing(401, jsonType,
			`{"message":"Missing required header: X-Harbour-Key"}`)(token)},
		{Name: "another scheme, in words", Cause: "auth.scheme-word-wrong", Start: refusing(401, "text/plain",
			"Authorization header must start with 'Token '")(token)},
		{Name: "credits that are used up", Cause: "auth.quota-exhausted", Start: refusing(402, jsonType,
			`{"error":"Your plan's monthly credits are used up"}`)(token)},
		{Name: "a role that is missing", Cause: "auth.not-allowed", Start: refusing(403, jsonType,
			`{"error":"insufficient permissions: requires role berth-master"}`)(token)},
		{Name: "a signature by an unknown key", Cause: "auth.token-rejected", Start: refusing(401, jsonType,
			`{"error":"invalid_token","error_description":"Signature verification failed: no key with this kid"}`)(token)},
		{Name: "an audience, says a library", Cause: "auth.wrong-audience", Start: refusing(401, jsonType,
			`{"error":"jwt audience invalid. expected: https://berths.harbour.example"}`)(token)},
		{Name: "a key that was deleted", Cause: "auth.token-revoked", Start: refusing(401, jsonType,
			`{"message":"This key was deleted by its owner on 2026-11-02"}`)(token)},
		{Name: "time is up at the gateway", Cause: "http.bad-gateway", Start: fixed(status(504, jsonType,
			`{"message":"Endpoint request timed out"}`))},
		{Name: "a page of a portal", Cause: "http.html-page", Start: fixed(first("text/html; charset=utf-8",
			"<html><head><title>Guest network</title></head><body><form action=\"/accept\">Accept the terms</form></body></html>"))},
		{Name: "a word", Cause: "http.not-json-rpc", Start: fixed(first("text/plain", "OK"))},
		{Name: "compressed, and not said so", Cause: "http.encoding-broken", Start: fixed(unsaid())},
		{Name: "JSON that is called a page", Cause: "http.content-type-wrong", Start: fixed(relabelled("text/html"))},
		{Name: "a name with a blank", Cause: "protocol.invalid-tool-name", Start: listing(
			`[{"name":"list berths","inputSchema":{"type":"object"}}]`)},
		{Name: "a type that does not exist", Cause: "protocol.invalid-tool-schema", Start: listing(
			`[{"name":"list_berths","inputSchema":{"type":"objekt","properties":{}}}]`)},
		{Name: "messages for another host", Cause: "transport.message-endpoint-points-elsewhere", Start: func(s *Stage) Case {
			c := at(s.Serve(legacy("/sse", "/messages", "http://berths.internal.example:9000/messages")) + "/sse")
			c.Transport = "sse"
			return c
		}},
		{Name: "what stands behind has ended", Cause: "call.upstream-credential-ended", Start: calling(
			erring("port authority API returned 403: your access token is no longer valid, please log in again"), 1)},
		{Name: "a property that is required", Cause: "call.arguments-refused", Start: calling(
			erring("Input validation error: 'quay' is a required property"), 1)},
		{Name: "two calls, and then a limit", Cause: "call.works-then-fails", Start: calling(&harbour{call: func(n int) string {
			if n > 2 {
				return `{"code":-32000,"message":"rate limit reached, try again later"}`
			}
			return goodCall
		}}, 5)},
		{Name: "not acceptable, whatever is accepted", Cause: "http.not-acceptable", Start: fixed(status(406, jsonType,
			`{"jsonrpc":"2.0","error":{"code":-32000,"message":"Not Acceptable: Client must accept text/event-stream"},"id":null}`))},
	}
}

// crowded is a port whose queue is full, so that further packets are dropped.
func crowded(s *Stage) Case {
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		panic(err)
	}
	s.Later(func() { _ = syscall.Close(fd) })
	if err := syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}); err != nil {
		panic(err)
	}
	if err := syscall.Listen(fd, 0); err != nil {
		panic(err)
	}
	name, err := syscall.Getsockname(fd)
	if err != nil {
		panic(err)
	}
	address := fmt.Sprintf("127.0.0.1:%d", name.(*syscall.SockaddrInet4).Port)
	for { // until one finds no place
		conn, err := net.DialTimeout("tcp", address, time.Second)
		if err != nil {
			break
		}
		s.Later(func() { _ = conn.Close() })
	}
	return at("http://" + address + "/mcp")
}

// cutOff closes the connection before an answer.
func cutOff(w http.ResponseWriter, _ *http.Request) {
	if conn, _, err := http.NewResponseController(w).Hijack(); err == nil {
		_ = conn.Close()
	}
}

// recorded is what a healthy server answers, to be sent otherwise.
type recorded struct {
	http.ResponseWriter
	body bytes.Buffer
	code int
}

func (r *recorded) Write(p []byte) (int, error) { return r.body.Write(p) }
func (r *recorded) WriteHeader(code int)        { r.code = code }

// unsaid compresses its answers without a word about it.
func unsaid() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		out := &recorded{ResponseWriter: w, code: 200}
		(&harbour{}).ServeHTTP(out, r)
		w.WriteHeader(out.code)
		z := gzip.NewWriter(w)
		_, _ = io.Copy(z, &out.body)
		_ = z.Close()
	})
}

// relabelled says of its answers that they are something else.
func relabelled(kind string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		out := &recorded{ResponseWriter: w, code: 200}
		(&harbour{}).ServeHTTP(out, r)
		w.Header().Set("Content-Type", kind)
		w.WriteHeader(out.code)
		_, _ = io.Copy(w, &out.body)
	})
}
