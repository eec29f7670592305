package faults

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"time"
)

// further are other ways to have the same causes, in the words of other runtimes,
// gateways and frameworks.
func further() []Fault {
	fixed := func(h http.Handler) func(*Stage) Case {
		return func(s *Stage) Case { return at(s.Serve(h) + "/mcp") }
	}
	says := func(code int, text string) func(*Stage) Case {
		return func(s *Stage) Case {
			file := s.File("words.txt", text, 0o600)
			return run(s.Script("berths", fmt.Sprintf("cat %s >&2\nexit %d\n", file, code)))
		}
	}
	script := func(body string) func(*Stage) Case {
		return func(s *Stage) Case { return run(s.Script("berths", body)) }
	}
	problem := func(code int, title, detail string) http.HandlerFunc {
		return status(
			code,
			"application/problem+json",
			fmt.Sprintf(`{"type":"about:blank","title":%q,"status":%d,"detail":%q}`, title, code, detail),
		)
	}
	list := []Fault{
		// Answers.
		{
			Name:  "a single-page application",
			Cause: "http.html-page",
			Start: fixed(first("text/html", "<!doctype html>\n<html lang=\"en\"><body><div id=\"app\"></div></body></html>")),
		},
		{Name: "XML", Cause: "http.not-json-rpc", Start: fixed(first("application/xml", `<?xml version="1.0"?><berths/>`))},
		{Name: "a list in JSON", Cause: "http.not-json-rpc", Start: fixed(first(jsonType, `[{"id":1,"name":"north quay"}]`))},
		{
			Name:  "an error of GraphQL",
			Cause: "http.not-json-rpc",
			Start: fixed(first(jsonType, `{"errors":[{"message":"Must provide query string."}]}`)),
		},
		{Name: "a path with a slash too many, says the framework", Cause: "http.wrong-path", Start: func(s *Stage) Case {
			return at(s.Serve(only("/v1/mcp", &harbour{})) + "/v1")
		}},
		{Name: "gone for good", Cause: "http.wrong-path", Start: fixed(status(410, "text/plain", "Gone"))},
		{
			Name:  "no route, says the gateway",
			Cause: "http.wrong-path",
			Start: fixed(status(404, jsonType, `{"message":"no Route matched with those values"}`)),
		},
		{
			Name:  "POST is not implemented",
			Cause: "http.method-refused",
			Start: fixed(status(405, jsonType, `{"detail":"Method Not Allowed"}`, "Allow", "GET")),
		},
		{Name: "a login of the proxy", Cause: "http.redirected-to-a-login", Start: fixed(status(302, "text/html", "",
			"Location", "https://id.harbour.example/oauth2/start?rd=https%3A%2F%2Fberths"))},
		{Name: "another path on the same host", Cause: "http.redirected", Start: fixed(status(301, "", "", "Location", "/docs"))},
		{
			Name:  "rate limits of a gateway",
			Cause: "http.too-many-requests",
			Start: fixed(problem(429, "Too Many Requests", "Rate limit of 60 requests per minute exceeded")),
		},
		{
			Name:  "no healthy upstream",
			Cause: "http.bad-gateway",
			Start: fixed(status(503, "text/plain", "no healthy upstream", "Server", "edge")),
		},
		{
			Name:  "the origin does not answer",
			Cause: "http.bad-gateway",
			Start: fixed(status(522, "text/html", "<html><title>Connection timed out</title></html>")),
		},
		{
			Name:  "a traceback",
			Cause: "http.server-error",
			Start: fixed(
				status(500, "text/plain", "Traceback (most recent call last):\n  File \"app.py\", line 3\nZeroDivisionError: division by zero"),
			),
		},
		{
			Name:  "an error of the server in JSON-RPC",
			Cause: "http.server-error",
			Start: fixed(status(500, jsonType, `{"jsonrpc":"2.0","error":{"code":-32603,"message":"Internal server error"},"id":null}`)),
		},
		{
			Name:  "the Origin is refused",
			Cause: "http.host-or-origin-refused",
			Start: fixed(status(403, "text/plain", "Forbidden: Origin not allowed")),
		},
		{
			Name:  "the Host is no vhost",
			Cause: "http.host-or-origin-refused",
			Start: fixed(status(421, "text/html", "<html><h1>Misdirected Request</h1></html>")),
		},
		{
			Name:  "reset in the middle of the header",
			Cause: "http.stream-cut",
			Start: greeting("HTTP/1.1 200 OK\r\nContent-Type: application/js"),
		},
		{
			Name:  "an event stream cut in the middle of an event",
			Cause: "http.stream-cut",
			Start: fixed(first("text/event-stream", "event: message\ndata: {\"jsonrpc\":\"2.0\",\"id\":1,\"resu")),
		},
		{
			Name:  "chunks that break off",
			Cause: "http.stream-cut",
			Start: greeting(
				"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n20\r\n{\"jsonrpc\":\"2.0\",\"id\":1,\r\n",
			),
		},
		{
			Name:  "a header, and then nothing",
			Cause: "protocol.never-answers",
			Slow:  true,
			Start: fixed(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Content-Type", "text/event-stream")
				w.WriteHeader(200)
				_ = http.NewResponseController(w).Flush()
				forEver(w, r)
			})),
		},
		{
			Name:  "comments without end",
			Cause: "protocol.never-answers",
			Slow:  true,
			Start: fixed(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Content-Type", "text/event-stream")
				for range 600 {
					if _, err := io.WriteString(w, ": keep-alive\n\n"); err != nil || r.Context().Err() != nil {
						return
					}
					_ = http.NewResponseController(w).Flush()
					time.Sleep(100 * time.Millisecond)
				}
			})),
		},
		{Name: "two answers in one", Cause: "protocol.malformed", Start: fixed(first(jsonType, initialized+"\n"+initialized))},
		{Name: "single quotes", Cause: "protocol.malformed", Start: fixed(first(jsonType, strings.ReplaceAll(initialized, `"`, `'`)))},
		{Name: "a port of a database", Cause: "address.another-protocol", Start: greeting("J\x00\x00\x00\x0a8.0.36\x00\x0b\x00\x00\x00")},
		{
			Name:  "a port of HTTP/2 alone",
			Cause: "address.another-protocol",
			Start: greeting("\x00\x00\x12\x04\x00\x00\x00\x00\x00\x00\x03\x00\x00\x00\x64"),
		},
		{Name: "a port of FTP", Cause: "address.another-protocol", Start: greeting("220 harbour files ready\r\n")},
		{Name: "a TLS port that tells plain HTTP so", Cause: "tls.plain-http-on-a-tls-port", Start: func(s *Stage) Case {
			return at(strings.Replace(s.mixed().URL, "https:", "http:", 1) + "/mcp")
		}},
		// Credentials.
		{
			Name:  "a key is wanted, by its parameter",
			Cause: "auth.no-credential",
			Start: refusing(401, jsonType, `{"success":false,"message":"API key required"}`)(""),
		},
		{
			Name:  "log in first",
			Cause: "auth.no-credential",
			Start: refusing(401, "text/html", "<html><title>401 Authorization Required</title></html>")(""),
		},
		{Name: "a token is wanted, in the protocol", Cause: "auth.no-credential", Start: func(s *Stage) Case {
			return at(
				s.Serve(&harbour{answer: map[string]string{"initialize": `{"code":-32001,"message":"Unauthorized: missing bearer token"}`}}) + "/mcp",
			)
		}},
		{
			Name:  "rejected, by its signature",
			Cause: "auth.token-rejected",
			Start: refusing(401, jsonType, `{"message":"JWT signature verification failed"}`)(token),
		},
		{Name: "rejected, in the challenge", Cause: "auth.token-rejected",
			Start: refusing(
				401,
				"",
				"",
				"WWW-Authenticate",
				`Bearer error="invalid_token", error_description="The access token is invalid"`,
			)(
				token,
			)},
		{
			Name:  "rejected, with 403",
			Cause: "auth.not-allowed",
			Start: refusing(403, jsonType, `{"code":"FORBIDDEN","message":"User is not authorized to access this resource"}`)(token),
		},
		{
			Name:  "expired, by a gateway",
			Cause: "auth.token-expired",
			Start: refusing(401, jsonType, `{"message":"The incoming token has expired"}`)(token),
		},
		{
			Name:  "expired, in a code",
			Cause: "auth.token-expired",
			Start: refusing(401, jsonType, `{"error":{"code":"token_expired","type":"auth"}}`)(token),
		},
		{Name: "a session that ended", Cause: "auth.token-expired", Start: refusing(401, jsonType, `{"code":401,"msg":"jwt expired"}`)(token)},
		{
			Name:  "revoked, in a code",
			Cause: "auth.token-revoked",
			Start: refusing(401, jsonType, `{"ok":false,"error":"token_revoked"}`)(token),
		},
		{
			Name:  "an account that is suspended",
			Cause: "auth.token-revoked",
			Start: refusing(403, jsonType, `{"error":"Your account has been suspended"}`)(token),
		},
		{
			Name:  "rotated",
			Cause: "auth.token-revoked",
			Start: refusing(401, jsonType, `{"error":"This key was rotated on 2026-11-20 and is no longer valid"}`)(token),
		},
		{
			Name:  "for another audience, in words",
			Cause: "auth.wrong-audience",
			Start: refusing(401, jsonType, `{"detail":"Invalid audience"}`)(token),
		},
		{
			Name:  "for another resource",
			Cause: "auth.wrong-audience",
			Start: refusing(401, jsonType, `{"error":"invalid_token","error_description":"aud claim mismatch"}`)(token),
		},
		{
			Name:  "a permission of the token",
			Cause: "auth.scope-missing",
			Start: refusing(403, jsonType, `{"error":"insufficient_scope","error_description":"Requires scope fuel:read"}`)(token),
		},
		{
			Name:  "a token that may only read",
			Cause: "auth.scope-missing",
			Start: refusing(403, jsonType, `{"ok":false,"error":"missing_scope","needed":"berths:write","provided":"berths:read"}`)(token),
		},
		{
			Name:  "a header of another name, in words",
			Cause: "auth.wrong-header",
			Start: refusing(401, jsonType, `{"error":"Missing required header: X-Auth-Token"}`)(token),
		},
		{Name: "a header that is read, and nothing said", Cause: "auth.wrong-header", Start: taking(header("Api-Key", token), func(*Case) {})},
		{Name: "Bearer is expected, it says", Cause: "auth.scheme-word-missing", Start: func(s *Stage) Case {
			c := refusing(401, jsonType, `{"error":"Authorization header must start with 'Bearer '"}`)(token)(s)
			c.SecretHeader = "Authorization"
			return c
		}},
		{Name: "a small word twice", Cause: "auth.scheme-word-doubled", Start: func(s *Stage) Case {
			return refusing(401, jsonType, `{"error":"malformed token"}`)("bearer " + token)(s)
		}},
		{Name: "a tab before it", Cause: "auth.stray-characters", Start: taking(bearer(token), func(c *Case) { c.Token = "\t" + token })},
		{Name: "curly quotes", Cause: "auth.stray-characters", Start: taking(bearer(token), func(c *Case) { c.Token = "“" + token + "”" })},
		{Name: "a comma after it", Cause: "auth.stray-characters", Start: taking(bearer(token), func(c *Case) { c.Token = token + "," })},
		{
			Name:  "a placeholder with braces",
			Cause: "auth.placeholder-never-replaced",
			Start: refusing(401, "", "")("{{ secrets.BERTHS_TOKEN }}"),
		},
		{Name: "a placeholder with a dollar", Cause: "auth.placeholder-never-replaced", Start: refusing(401, "", "")("$BERTHS_TOKEN")},
		{Name: "dots", Cause: "auth.placeholder-never-replaced", Start: refusing(401, "", "")("hbr-...")},
		{
			Name:  "a live key at the sandbox",
			Cause: "auth.key-of-another-environment",
			Start: refusing(401, jsonType, `{"error":{"message":"You provided a live mode key to the sandbox"}}`)("hbr_live_4f2a9c81d7e6"),
		},
		{
			Name:  "forbidden by a role",
			Cause: "auth.not-allowed",
			Start: refusing(403, jsonType, `{"message":"Access denied: role harbour-guest may not use this service"}`)(token),
		},
		{
			Name:  "forbidden from here",
			Cause: "auth.not-allowed",
			Start: refusing(403, jsonType, `{"error":"Your IP address is not on the allowlist"}`)(token),
		},
		{
			Name:  "no seats",
			Cause: "auth.quota-exhausted",
			Start: refusing(403, jsonType, `{"error":"Your plan does not include API access"}`)(token),
		},
		{Name: "no money", Cause: "auth.quota-exhausted", Start: refusing(402, jsonType, `{"error":"insufficient credits"}`)(token)},
		{
			Name:  "a token of the future",
			Cause: "auth.clock-skew",
			Start: refusing(401, jsonType, `{"error":"Token used before issued"}`)(token),
		},
		{
			Name:  "the header does not arrive",
			Cause: "auth.header-stripped-on-the-way",
			Start: refusing(401, jsonType, `{"message":"No authorization header provided"}`)(token),
		},
		// Processes.
		{
			Name:  "a Ruby gem",
			Cause: "launch.module-or-package-missing",
			Start: says(
				1,
				"<internal:/usr/lib/ruby/rubygems/core_ext/kernel_require.rb>:136:in `require': cannot load such file -- harbour (LoadError)\n\tfrom berths.rb:1:in `<main>'\n",
			),
		},
		{
			Name:  "a Node module",
			Cause: "launch.module-or-package-missing",
			Start: says(
				1,
				"node:internal/modules/cjs/loader:1148\n  throw err;\n  ^\n\nError: Cannot find module 'harbour-sdk'\nRequire stack:\n- /srv/berths/index.js\n    at Module._resolveFilename (node:internal/modules/cjs/loader:1145:15) {\n  code: 'MODULE_NOT_FOUND',\n  requireStack: [ '/srv/berths/index.js' ]\n}\n\nNode.js v22.3.0\n",
			),
		},
		{
			Name:  "a Deno module",
			Cause: "launch.module-or-package-missing",
			Start: says(1, "error: Relative import path \"harbour\" not prefixed with / or ./ or ../\n    at file:///srv/berths/main.ts:1:20\n"),
		},
		{
			Name:  "a crate of .NET",
			Cause: "launch.module-or-package-missing",
			Start: says(
				131,
				"Unhandled exception. System.IO.FileNotFoundException: Could not load file or assembly 'Harbour.Tools, Version=1.0.0.0'. The system cannot find the file specified.\n",
			),
		},
		{
			Name:  "PHP without an extension",
			Cause: "launch.module-or-package-missing",
			Start: says(
				255,
				"PHP Fatal error:  Uncaught Error: Class \"Harbour\\Client\" not found in /srv/berths/index.php:7\nStack trace:\n#0 {main}\n",
			),
		},
		{
			Name:  "no such version of a package",
			Cause: "launch.package-runner-fails",
			Start: says(
				1,
				"npm error code ETARGET\nnpm error notarget No matching version found for berths-mcp@^9.0.0.\nnpm error notarget In most cases you or one of your dependencies are requesting\nnpm error notarget a package version that doesn't exist.\n",
			),
		},
		{
			Name:  "no such package of Python",
			Cause: "launch.package-runner-fails",
			Start: says(
				1,
				"  × No solution found when resolving tool dependencies:\n  ╰─▶ Because berths-mcp was not found in the package registry and you require berths-mcp, we can conclude that your requirements are unsatisfiable.\n",
			),
		},
		{
			Name:  "no rights at the registry",
			Cause: "launch.package-runner-fails",
			Start: says(
				1,
				"npm error code E401\nnpm error Incorrect or missing password.\nnpm error If you were trying to login, change your password, create an\n",
			),
		},
		{
			Name:  "Python is too old, by its syntax",
			Cause: "launch.runtime-too-old",
			Start: says(1, "  File \"/srv/berths/server.py\", line 40\n    match kind:\n          ^\nSyntaxError: invalid syntax\n"),
		},
		{
			Name:  "Python is too old, it says",
			Cause: "launch.runtime-too-old",
			Start: says(1, "ERROR: Package 'berths' requires a different Python: 3.8.10 not in '>=3.11'\n"),
		},
		{
			Name:  "Node is too old, by a function",
			Cause: "launch.runtime-too-old",
			Start: says(
				1,
				"/srv/berths/index.js:9\n  await fetch(url)\n        ^\n\nReferenceError: fetch is not defined\n    at main (/srv/berths/index.js:9:9)\n",
			),
		},
		{
			Name:  "glibc is too old",
			Cause: "launch.runtime-too-old",
			Start: says(1, "/srv/berths: /lib/x86_64-linux-gnu/libc.so.6: version `GLIBC_2.38' not found (required by /srv/berths)\n"),
		},
		{
			Name:  ".NET is not there",
			Cause: "launch.runtime-too-old",
			Start: says(
				150,
				"You must install or update .NET to run this application.\n\nApp: /srv/berths\nArchitecture: x64\nFramework: 'Microsoft.NETCore.App', version '9.0.0' (x64)\n",
			),
		},
		{
			Name:  "a variable, in a list",
			Cause: "launch.required-setting-missing",
			Start: says(
				1,
				"❌ Invalid environment variables:\n{ BERTHS_API_KEY: [ 'Required' ] }\n/srv/berths/env.js:22\n  throw new Error('Invalid environment variables')\n  ^\n\nError: Invalid environment variables\n    at file:///srv/berths/env.js:22:9\n",
			),
		},
		{
			Name:  "a variable, in pydantic's words",
			Cause: "launch.required-setting-missing",
			Start: says(
				1,
				"Traceback (most recent call last):\n  File \"/srv/berths/main.py\", line 5, in <module>\n    settings = Settings()\npydantic_core._pydantic_core.ValidationError: 1 validation error for Settings\nberths_api_key\n  Field required [type=missing, input_value={}, input_type=dict]\n    For further information visit https://errors.harbour.example/missing\n",
			),
		},
		{
			Name:  "a variable, please",
			Cause: "launch.required-setting-missing",
			Start: says(1, "Please set the BERTHS_API_KEY environment variable\n"),
		},
		{
			Name:  "an option of clap",
			Cause: "launch.required-setting-missing",
			Start: says(
				2,
				"error: the following required arguments were not provided:\n  --quay <QUAY>\n\nUsage: berths --quay <QUAY>\n\nFor more information, try '--help'.\n",
			),
		},
		{
			Name:  "an option of cobra",
			Cause: "launch.required-setting-missing",
			Start: says(1, "Error: required flag(s) \"quay\" not set\nUsage:\n  berths serve [flags]\n\nFlags:\n  -h, --help   help for serve\n"),
		},
		{
			Name:  "a port that is taken, in Go",
			Cause: "launch.port-taken",
			Start: says(1, "2026/11/03 08:00:00 listen tcp :9001: bind: address already in use\n"),
		},
		{
			Name:  "a port that is taken, in Java",
			Cause: "launch.port-taken",
			Start: says(
				1,
				"***************************\nAPPLICATION FAILED TO START\n***************************\n\nDescription:\n\nWeb server failed to start. Port 8080 was already in use.\n",
			),
		},
		{
			Name:  "a port that is taken, in Rust",
			Cause: "launch.port-taken",
			Start: says(
				101,
				"thread 'main' panicked at src/main.rs:14:10:\ncalled `Result::unwrap()` on an `Err` value: Os { code: 98, kind: AddrInUse, message: \"Address already in use\" }\nnote: run with `RUST_BACKTRACE=1` environment variable to display a backtrace\n",
			),
		},
		{
			Name:  "a file, in Node",
			Cause: "launch.file-missing",
			Start: says(
				1,
				"node:fs:573\n  return binding.open(\n                 ^\n\nError: ENOENT: no such file or directory, open '/etc/berths/quays.json'\n    at Object.openSync (node:fs:573:18) {\n  errno: -2,\n  code: 'ENOENT'\n}\n",
			),
		},
		{
			Name:  "a file, in Rust",
			Cause: "launch.file-missing",
			Start: says(
				1,
				"Error: failed to read configuration\n\nCaused by:\n    No such file or directory (os error 2): /etc/berths/quays.toml\n",
			),
		},
		{
			Name:  "a file, in Java",
			Cause: "launch.file-missing",
			Start: says(
				1,
				"Exception in thread \"main\" java.nio.file.NoSuchFileException: /etc/berths/quays.properties\n\tat java.base/sun.nio.fs.UnixException.translateToIOException(UnixException.java:92)\n",
			),
		},
		{
			Name:  "a Python script that is not there",
			Cause: "launch.file-missing",
			Start: says(2, "python3: can't open file '/srv/berths/sever.py': [Errno 2] No such file or directory\n"),
		},
		{
			Name:  "out of memory, in Python",
			Cause: "launch.out-of-memory",
			Start: says(1, "Traceback (most recent call last):\n  File \"/srv/berths/main.py\", line 7, in <module>\nMemoryError\n"),
		},
		{
			Name:  "out of memory, in Go",
			Cause: "launch.out-of-memory",
			Start: says(2, "fatal error: runtime: out of memory\n\nruntime stack:\nruntime.throw({0x4b1c3a, 0x16})\n"),
		},
		{Name: "aborted", Cause: "launch.killed-by-a-signal", Start: script("echo 'free(): invalid pointer' >&2\nkill -ABRT $$\n")},
		{Name: "killed from outside", Cause: "launch.killed-by-a-signal", Start: script("kill -KILL $$\n")},
		{
			Name:  "a help text",
			Cause: "launch.writes-something-else-on-stdout",
			Start: script("printf 'Usage: berths <command>\\n\\nCommands:\\n  serve   Serve over stdio\\n'\nexit 0\n"),
		},
		{
			Name:  "a log on standard output",
			Cause: "launch.writes-something-else-on-stdout",
			Start: script("echo '[info] starting berths'; echo '[info] ready'; cat >/dev/null\n"),
		},
		{
			Name:  "an interactive shell",
			Cause: "launch.writes-something-else-on-stdout",
			Start: script("printf 'Python 3.12.3 (main)\\nType \"help\" for more information.\\n'; cat >/dev/null\n"),
		},
		{
			Name:  "it builds for long",
			Cause: "launch.starts-too-slowly",
			Slow:  true,
			Start: script("i=0\nwhile [ $i -lt 300 ]; do i=$((i+1)); echo \"   Compiling berths-$i v0.1.0\" >&2; sleep 0.1; done\n"),
		},
		{
			Name:  "a long wait for the database",
			Cause: "launch.starts-too-slowly",
			Slow:  true,
			Start: script("while :; do echo 'waiting for database...' >&2; sleep 0.3; done\n"),
		},
		{
			Name:  "a passphrase",
			Cause: "launch.waits-for-input",
			Slow:  true,
			Start: script("printf 'Enter passphrase for key /home/teo/.ssh/id: ' >&2\nsleep 60\n"),
		},
		{
			Name:  "a menu",
			Cause: "launch.waits-for-input",
			Slow:  true,
			Start: script("printf '? Select a quay (Use arrow keys)\\n> north\\n  south\\n' \nsleep 60\n"),
		},
		{
			Name:  "install it first?",
			Cause: "launch.waits-for-input",
			Slow:  true,
			Start: script("printf 'Need to install the following packages:\\nberths-mcp@2.1.0\\nOk to proceed? (y) '\nsleep 60\n"),
		},
		{
			Name:  "it says that it serves",
			Cause: "launch.serves-a-port-instead",
			Slow:  true,
			Start: script("echo 'Server listening on http://localhost:3845/mcp' >&2\nsleep 60\n"),
		},
		{Name: "a symbolic link to nowhere", Cause: "launch.command-not-found", Start: func(s *Stage) Case {
			return run(filepath.Join(s.Dir, "bin", "berths"))
		}},
		{
			Name:  "a Windows program",
			Cause: "launch.not-executable",
			Start: func(s *Stage) Case { return run(s.File("berths.exe", "MZ\x90\x00\x03\x00\x00\x00\x04", 0o700)) },
		},
		{
			Name:  "a line with an option in the command",
			Cause: "launch.whole-command-line-in-the-command-field",
			Start: func(*Stage) Case { return run("npx -y berths-mcp") },
		},
		{Name: "a relative directory", Cause: "launch.relative-path", Start: func(*Stage) Case { return run("node_modules/.bin/berths") }},
		{Name: "resources that are not served", Cause: "protocol.capability-declared-but-not-served",
			Start: fixed(&harbour{capabilities: `{"tools":{},"resources":{}}`, answer: map[string]string{"resources/list": "-"}})},
		{Name: "a list that fails", Cause: "protocol.capability-declared-but-not-served",
			Start: fixed(&harbour{answer: map[string]string{"tools/list": `{"code":-32603,"message":"Internal error"}`}})},
		{
			Name:  "a broken list",
			Cause: "protocol.malformed",
			Start: fixed(on("tools/list", &harbour{}, first(jsonType, `{"jsonrpc":"2.0","id":2,"result":{"tools":[{"name":`))),
		},
		{
			Name:  "a list as a page",
			Cause: "protocol.malformed",
			Start: fixed(on("tools/list", &harbour{}, first("text/html", "<html></html>"))),
		},
		{
			Name:  "a list with 500",
			Cause: "http.server-error",
			Start: fixed(on("tools/list", &harbour{}, status(500, "text/plain", "Internal Server Error"))),
		},
		{
			Name:  "initialize for everybody, the list for some",
			Cause: "auth.no-credential",
			Start: fixed(on("tools/list", &harbour{}, status(401, jsonType, `{"error":"Unauthorized"}`, "WWW-Authenticate", "Bearer"))),
		},
		{
			Name:  "too many after the first",
			Cause: "http.too-many-requests",
			Start: fixed(on("tools/list", &harbour{}, status(429, "text/plain", "slow down", "Retry-After", "5"))),
		},
		{
			Name:  "a schema without a type",
			Cause: "protocol.invalid-tool-schema",
			Start: fixed(&harbour{tools: `[{"name":"a","inputSchema":{}}]`}),
		},
		{
			Name:  "a required that is no list",
			Cause: "protocol.invalid-tool-schema",
			Start: fixed(&harbour{tools: `[{"name":"a","inputSchema":{"type":"object","required":"quay"}}]`}),
		},
		{
			Name:  "a name that is too long",
			Cause: "protocol.invalid-tool-name",
			Start: fixed(&harbour{tools: fmt.Sprintf(`[{"name":%q,"inputSchema":{"type":"object"}}]`, strings.Repeat("berth", 40))}),
		},
		{
			Name:  "a name that is a number",
			Cause: "protocol.invalid-tool-name",
			Start: fixed(&harbour{tools: `[{"name":7,"inputSchema":{"type":"object"}}]`}),
		},
		{Name: "a scope in the protocol", Cause: "auth.scope-missing", Start: func(s *Stage) Case {
			return with(
				s.Serve(
					on("tools/list", &harbour{}, status(403, "", "", "WWW-Authenticate", `Bearer error="insufficient_scope", scope="berths:list"`)),
				)+"/mcp",
				token,
			)
		}},
	}
	return list
}

// mixed is a TLS port that tells plain HTTP so, as a widespread server does.
func (s *Stage) mixed() *mixedServer {
	inner := s.secure(&harbour{})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	s.Later(func() { _ = l.Close() })
	target := strings.TrimPrefix(inner.URL, "https://")
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go pass(conn, target)
		}
	}()
	return &mixedServer{URL: "https://" + l.Addr().String()}
}

type mixedServer struct{ URL string }

// pass passes TLS on, and refuses plain HTTP in words.
func pass(conn net.Conn, target string) {
	defer conn.Close()
	head := make([]byte, 1)
	if _, err := io.ReadFull(conn, head); err != nil {
		return
	}
	if head[0] != 0x16 {
		buffer := make([]byte, 4096)
		_, _ = conn.Read(buffer)
		body := "<html><head><title>400 The plain HTTP request was sent to HTTPS port</title></head></html>"
		_, _ = fmt.Fprintf(
			conn,
			"HTTP/1.1 400 Bad Request\r\nContent-Type: text/html\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
			len(body),
			body,
		)
		return
	}
	out, err := net.Dial("tcp", target)
	if err != nil {
		return
	}
	defer out.Close()
	if _, err := out.Write(head); err != nil {
		return
	}
	go func() { _, _ = io.Copy(out, conn); _ = out.Close() }()
	_, _ = io.Copy(conn, out)
}
