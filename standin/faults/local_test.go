package faults

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// launches are faults before a process speaks.
func launches() []Fault {
	says := func(code int, text string) func(*Stage) Case {
		return func(s *Stage) Case {
			file := s.File("words.txt", text, 0o600)
			return run(s.Script("berths", fmt.Sprintf("cat %s >&2\nexit %d\n", file, code)))
		}
	}
	node := func(text string) string {
		return "node:internal/process/esm_loader:97\n    internalBinding('errors').triggerUncaughtException(\n" +
			"                            ^\n\n" + text +
			"\n    at ESMLoader.resolve (node:internal/modules/esm/loader:842:11)\n    at async loadESM (node:internal/process/esm_loader:91:5)\n\nNode.js v18.19.0\n"
	}
	python := func(text string) string {
		return "Traceback (most recent call last):\n  File \"/srv/berths/server.py\", line 12, in <module>\n    main()\n" + text + "\n"
	}
	return []Fault{
		{Name: "a command that is not there", Cause: "launch.command-not-found", Start: func(*Stage) Case { return run("berths-server-mcp") }},
		{
			Name:  "an absolute path that is not there",
			Cause: "launch.command-not-found",
			Start: func(s *Stage) Case { return run(filepath.Join(s.Dir, "berths")) },
		},
		{
			Name:  "no right to be executed",
			Cause: "launch.not-executable",
			Start: func(s *Stage) Case { return run(s.File("berths", "#!/bin/sh\n", 0o600)) },
		},
		{Name: "a directory", Cause: "launch.not-executable", Start: func(s *Stage) Case { return run(s.Dir) }},
		{Name: "for another machine", Cause: "launch.not-executable", Start: func(s *Stage) Case {
			head := append([]byte("\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\xf3\x00\x01\x00\x00\x00"), make([]byte, 40)...)
			return run(s.File("berths", string(head), 0o700))
		}},
		{
			Name:  "a text without a first line",
			Cause: "launch.not-executable",
			Start: func(s *Stage) Case { return run(s.File("berths", "console.log(1)\n", 0o700)) },
		},
		{Name: "an interpreter that is not there", Cause: "launch.interpreter-missing", Start: func(s *Stage) Case {
			return run(s.File("berths", "#!/opt/python3.14/bin/python\nprint()\n", 0o700))
		}},
		{Name: "an interpreter that env does not find", Cause: "launch.interpreter-missing", Start: func(s *Stage) Case {
			return run(s.File("berths", "#!/usr/bin/env bun-1.9\n", 0o700))
		}},
		{Name: "a first line of another system", Cause: "launch.interpreter-missing", Start: func(s *Stage) Case {
			return run(s.File("berths", "#!/bin/sh\r\necho\r\n", 0o700))
		}},
		{Name: "a directory that is not there", Cause: "launch.working-directory-missing", Start: func(s *Stage) Case {
			c := run(s.Script("berths", "cat\n"))
			c.Dir = filepath.Join(s.Dir, "harbour")
			return c
		}},
		{Name: "a relative path", Cause: "launch.relative-path", Start: func(*Stage) Case { return run("./bin/berths") }},
		{
			Name:  "a whole command line",
			Cause: "launch.whole-command-line-in-the-command-field",
			Start: func(*Stage) Case { return run("sh /srv/berths/start.sh --stdio") },
		},
		{Name: "arguments glued together", Cause: "launch.arguments-glued-together", Start: func(s *Stage) Case {
			return run(
				s.Script("berths", "case \"$1\" in --quay) exec cat;; *) echo \"unknown option: $1\" >&2; exit 2;; esac\n"),
				"--quay north --verbose",
			)
		}},
		{
			Name:  "a Python module",
			Cause: "launch.module-or-package-missing",
			Start: says(1, python("ModuleNotFoundError: No module named 'harbour_tools'")),
		},
		{Name: "a Node package", Cause: "launch.module-or-package-missing",
			Start: says(1, node("Error [ERR_MODULE_NOT_FOUND]: Cannot find package 'harbour-sdk' imported from /srv/berths/index.js"))},
		{Name: "a Java class", Cause: "launch.module-or-package-missing",
			Start: says(
				1,
				"Error: Could not find or load main class harbour.berths.Main\nCaused by: java.lang.ClassNotFoundException: harbour.berths.Main\n",
			)},
		{Name: "a shared library", Cause: "launch.module-or-package-missing",
			Start: says(
				127,
				"/srv/berths: error while loading shared libraries: libtide.so.3: cannot open shared object file: No such file or directory\n",
			)},
		{Name: "a package that does not exist", Cause: "launch.package-runner-fails", Start: says(
			1,
			"npm error code E404\nnpm error 404 Not Found - GET https://registry.harbour.example/berths-mcp - Not found\nnpm error 404\nnpm error A complete log of this run can be found in: /root/.npm/_logs/x.log\n",
		)},
		{Name: "a registry that cannot be reached", Cause: "launch.package-runner-fails",
			Start: says(
				1,
				"npm error code ENOTFOUND\nnpm error network request to https://registry.harbour.example/berths failed, reason: getaddrinfo ENOTFOUND registry.harbour.example\n",
			)},
		{Name: "Node is too old, by its syntax", Cause: "launch.runtime-too-old",
			Start: says(
				1,
				"/srv/berths/index.js:31\n  this.quay ??= 'north';\n            ^^^\n\nSyntaxError: Unexpected token '??='\n    at wrapSafe (internal/modules/cjs/loader.js:1001:16)\n",
			)},
		{
			Name:  "Node is too old, it says",
			Cause: "launch.runtime-too-old",
			Start: says(1, "berths requires Node.js >= 20.10.0, but v16.20.2 is running.\n"),
		},
		{Name: "Java is too old", Cause: "launch.runtime-too-old", Start: says(
			1,
			"Error: LinkageError occurred while loading main class harbour.Main\n\tjava.lang.UnsupportedClassVersionError: harbour/Main has been compiled by a more recent version of the Java Runtime (class file version 65.0), this version of the Java Runtime only recognizes class file versions up to 61.0\n",
		)},
		{
			Name:  "Python is too old",
			Cause: "launch.runtime-too-old",
			Start: says(1, python("ImportError: cannot import name 'StrEnum' from 'enum' (/usr/lib/python3.10/enum.py)")),
		},
		{Name: "a variable, in Python", Cause: "launch.required-setting-missing", Start: says(1, python("KeyError: 'BERTHS_API_KEY'"))},
		{Name: "a variable, in Node", Cause: "launch.required-setting-missing",
			Start: says(
				1,
				"/srv/berths/index.js:4\n    throw new Error('BERTHS_API_KEY environment variable is required');\n    ^\n\nError: BERTHS_API_KEY environment variable is required\n    at Object.<anonymous> (/srv/berths/index.js:4:11)\n",
			)},
		{
			Name:  "a variable, in Go",
			Cause: "launch.required-setting-missing",
			Start: says(1, "2026/11/03 08:00:00 missing required environment variable HARBOUR_TOKEN\n"),
		},
		{Name: "an option", Cause: "launch.required-setting-missing",
			Start: says(2, "usage: berths [-h] --quay QUAY\nberths: error: the following arguments are required: --quay\n")},
		{Name: "a port that is taken, in Node", Cause: "launch.port-taken",
			Start: says(
				1,
				"node:events:495\n      throw er; // Unhandled 'error' event\n      ^\n\nError: listen EADDRINUSE: address already in use 127.0.0.1:6277\n    at Server.setupListenHandle [as _listen2] (node:net:1817:16)\n",
			)},
		{
			Name:  "a port that is taken, in Python",
			Cause: "launch.port-taken",
			Start: says(1, python("OSError: [Errno 98] Address already in use")),
		},
		{
			Name:  "a file, in Python",
			Cause: "launch.file-missing",
			Start: says(1, python("FileNotFoundError: [Errno 2] No such file or directory: '/etc/berths/quays.yaml'")),
		},
		{
			Name:  "a file, in Go",
			Cause: "launch.file-missing",
			Start: says(
				1,
				"panic: open /etc/berths/config.toml: no such file or directory\n\ngoroutine 1 [running]:\nmain.main()\n\t/src/main.go:21 +0x1d\n",
			),
		},
		{
			Name:  "a script that is not there",
			Cause: "launch.file-missing",
			Start: func(s *Stage) Case { return run("sh", filepath.Join(s.Dir, "sever.sh")) },
		},
		{Name: "it ends at once, without a word", Cause: "launch.exits-at-once", Start: says(1, "")},
		{Name: "it ends at once, with a word", Cause: "launch.exits-at-once", Start: says(1, "the tide gauge is dry\n")},
		{Name: "killed", Cause: "launch.killed-by-a-signal", Start: func(s *Stage) Case { return run(s.Script("berths", "kill -SEGV $$\n")) }},
		{Name: "out of memory, in Node", Cause: "launch.out-of-memory", Start: says(
			134,
			"<--- Last few GCs --->\n\nFATAL ERROR: Reached heap limit Allocation failed - JavaScript heap out of memory\n----- Native stack trace -----\n 1: 0xb85bc0 node::Abort() [node]\n",
		)},
		{
			Name:  "out of memory, in Java",
			Cause: "launch.out-of-memory",
			Start: says(1, "Exception in thread \"main\" java.lang.OutOfMemoryError: Java heap space\n\tat harbour.Main.main(Main.java:9)\n"),
		},
		{Name: "it starts slowly", Cause: "launch.starts-too-slowly", Slow: true, Start: func(s *Stage) Case {
			return run(
				s.Script("berths", "i=0\nwhile [ $i -lt 400 ]; do i=$((i+1)); echo \"Downloading berths-model ($i/400)\" >&2; sleep 0.1; done\n"),
			)
		}},
		{Name: "it computes for long", Cause: "launch.starts-too-slowly", Slow: true, Start: func(s *Stage) Case {
			return run(s.Script("berths", "while :; do :; done\n"))
		}},
		{
			Name:  "a banner before the protocol",
			Cause: "launch.writes-something-else-on-stdout",
			Start: func(s *Stage) Case { return s.part("banner") },
		},
		{Name: "another program", Cause: "launch.writes-something-else-on-stdout", Start: func(s *Stage) Case {
			return run(s.Script("berths", "echo 'Harbour berths 2.1 - type help'\ncat >/dev/null\n"))
		}},
		{Name: "a buffer", Cause: "launch.output-never-flushed", Slow: true, Start: func(s *Stage) Case { return s.part("buffer") }},
		{Name: "a question", Cause: "launch.waits-for-input", Slow: true, Start: func(s *Stage) Case {
			return run(s.Script("berths", "printf 'Enter your harbour password: ' >&2\nsleep 60\n"))
		}},
		{Name: "a question on standard output", Cause: "launch.waits-for-input", Slow: true, Start: func(s *Stage) Case {
			return run(s.Script("berths", "printf 'Accept the terms of the harbour? [y/N] '\nsleep 60\n"))
		}},
		{Name: "no terminal", Cause: "launch.waits-for-input", Start: says(1, python("EOFError: EOF when reading a line"))},
		{Name: "a port instead", Cause: "launch.serves-a-port-instead", Slow: true, Start: func(s *Stage) Case { return s.part("port") }},
	}
}

// processes are faults of processes that speak.
func processes() []Fault {
	return []Fault{
		{
			Name:  "silence",
			Cause: "protocol.never-answers",
			Slow:  true,
			Start: func(s *Stage) Case { return run(s.Script("berths", "sleep 60\n")) },
		},
		{
			Name:  "it reads, and says nothing",
			Cause: "protocol.never-answers",
			Slow:  true,
			Start: func(s *Stage) Case { return run(s.Script("berths", "cat >/dev/null\nsleep 60\n")) },
		},
		{Name: "it ends on the list, locally", Cause: "protocol.crashes-on-a-request", Start: func(s *Stage) Case { return s.part("crash") }},
		{Name: "messages over several lines", Cause: "protocol.malformed", Slow: true, Start: func(s *Stage) Case { return s.part("pretty") }},
		{Name: "messages framed by headers", Cause: "protocol.malformed", Slow: true, Start: func(s *Stage) Case { return s.part("framed") }},
		{Name: "a byte-order mark, locally", Cause: "http.encoding-broken", Slow: true, Start: func(s *Stage) Case { return s.part("marked") }},
		{Name: "UTF-16, locally", Cause: "http.encoding-broken", Slow: true, Start: func(s *Stage) Case { return s.part("wide") }},
		{Name: "an id of its own, locally", Cause: "protocol.wrong-id", Start: func(s *Stage) Case { return s.part("id") }},
		{
			Name:  "a list that never comes, locally",
			Cause: "protocol.listing-never-answered",
			Slow:  true,
			Start: func(s *Stage) Case { return s.part("mute") },
		},
		{Name: "a process that refuses", Cause: "protocol.initialization-refused", Start: func(s *Stage) Case { return s.part("refuse") }},
	}
}

// Play plays a part and returns true, when the variable asks for one: a process that
// speaks over its standard input and output, and goes wrong.
func Play() bool {
	name := os.Getenv(PartVariable)
	if name == "" {
		return false
	}
	h := &harbour{}
	out := io.Writer(os.Stdout)
	line := func(text string) { _, _ = io.WriteString(out, text+"\n") }
	var kept []string
	switch name {
	case "banner":
		line("Harbour berths 2.1 ready")
	case "port":
		return playPort()
	case "early":
		line(`{"jsonrpc":"2.0","method":"notifications/message","params":{"level":"info","data":"starting"}}`)
	case "large":
		h.tools = fmt.Sprintf(`[{"name":"list_berths","description":"%s","inputSchema":{"type":"object"}}]`, strings.Repeat("x", 3<<20))
	case "slow":
		time.Sleep(1500 * time.Millisecond)
	case "chatty":
		_, _ = io.WriteString(os.Stderr, "WARN deprecated option\nINFO listening for messages\n")
	case "refuse":
		h.answer = map[string]string{"initialize": `{"code":-32603,"message":"licence file cannot be read"}`}
	}
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		var m message
		if json.Unmarshal(lines.Bytes(), &m) != nil {
			continue
		}
		text := h.reply(m)
		if text == "" {
			continue
		}
		switch {
		case name == "crash" && m.Method == "tools/list":
			_, _ = io.WriteString(
				os.Stderr,
				"panic: runtime error: index out of range [3] with length 3\n\ngoroutine 1 [running]:\nmain.list()\n\t/src/list.go:9\n",
			)
			os.Exit(2)
		case name == "mute" && m.Method == "tools/list":
			continue
		case name == "buffer":
			kept = append(kept, text)
		case name == "pretty":
			var v any
			_ = json.Unmarshal([]byte(text), &v)
			raw, _ := json.MarshalIndent(v, "", "  ")
			line(string(raw))
		case name == "framed":
			fmt.Fprintf(out, "Content-Length: %d\r\n\r\n%s", len(text), text)
		case name == "marked":
			line("\ufeff" + text)
		case name == "wide":
			wide := make([]byte, 0, 2*len(text))
			for _, c := range []byte(text + "\n") {
				wide = append(wide, c, 0)
			}
			_, _ = out.Write(wide)
		case name == "id":
			line(strings.Replace(text, `"id":`, `"id":100`, 1))
		case name == "windows":
			_, _ = io.WriteString(out, text+"\r\n")
		default:
			line(text)
		}
	}
	for _, text := range kept {
		line(text)
	}
	return true
}

func playPort() bool {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return true
	}
	fmt.Fprintf(os.Stderr, "INFO: Berths running on http://%s (press CTRL+C to quit)\n", l.Addr())
	server := &http.Server{Handler: &harbour{}, ReadHeaderTimeout: time.Minute}
	_ = server.Serve(l)
	return true
}
