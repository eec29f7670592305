package diagnosis

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// The decisive line is found by what it says, in the words of the usual runtimes.
func TestReadStderr(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		text  string
		cause Cause
		about string
		line  string
	}{
		"python, a module": {
			"Traceback (most recent call last):\n  File \"/opt/berths/main.py\", line 3, in <module>\n    import harbour_tools\nModuleNotFoundError: No module named 'harbour_tools'\n",
			ModuleMissing, "harbour_tools", "ModuleNotFoundError: No module named 'harbour_tools'",
		},
		"python, a variable": {
			"Traceback (most recent call last):\n  File \"/x.py\", line 3, in <module>\n    key = os.environ[\"BERTHS_KEY\"]\n  File \"<frozen os>\", line 714, in __getitem__\nKeyError: 'BERTHS_KEY'\n",
			SettingMissing, "BERTHS_KEY", "KeyError: 'BERTHS_KEY'",
		},
		"python, no script": {
			"python3: can't open file '/srv/berths/sever.py': [Errno 2] No such file or directory\n", ScriptMissing, "/srv/berths/sever.py", "",
		},
		"python, anything": {
			"INFO starting\nTraceback (most recent call last):\n  File \"/x.py\", line 1\n    main()\nharbour.TideError: the gauge is dry\n\n", "", "", "harbour.TideError: the gauge is dry",
		},
		"node, no script": {
			"node:internal/modules/cjs/loader:1148\n  throw err;\n  ^\n\nError: Cannot find module '/srv/berths/sever.js'\n    at Module._resolveFilename (node:internal)\n  code: 'MODULE_NOT_FOUND',\n}\n\nNode.js v22.1.0\n",
			ScriptMissing, "/srv/berths/sever.js", "Error: Cannot find module '/srv/berths/sever.js'",
		},
		"node, a package": {
			"Error [ERR_MODULE_NOT_FOUND]: Cannot find package 'harbour' imported from /srv/berths/x.js\n    at y\n\nNode.js v22.1.0\n", ModuleMissing, "harbour", "",
		},
		"node, anything": {
			"/srv/x.js:4\nthrow new Error('the gauge is dry')\n^\n\nError: the gauge is dry\n    at Object.<anonymous> (/srv/x.js:4:7)\n    at node:internal\n\nNode.js v22.1.0\n", "", "", "Error: the gauge is dry",
		},
		"node, a port": {
			"Error: listen EADDRINUSE: address already in use :::8080\n    at Server.setupListenHandle\n\nNode.js v22.1.0\n", PortTaken, "8080", "",
		},
		"go, a panic": {"panic: the gauge is dry\n\ngoroutine 1 [running]:\nmain.main()\n\t/srv/main.go:7 +0x39\nexit status 2\n", "", "", "panic: the gauge is dry"},
		"go, a port":  {"2026/11/26 listen tcp 127.0.0.1:9001: bind: address already in use\n", PortTaken, "", ""},
		"java, causes": {
			"Exception in thread \"main\" java.lang.RuntimeException: cannot start\n\tat harbour.Main.main(Main.java:5)\nCaused by: java.io.IOException: the gauge is dry\n\t... 1 more\n", "", "", "Caused by: java.io.IOException: the gauge is dry",
		},
		"java, no archive":    {"Error: Unable to access jarfile /srv/berths.jar\n", ScriptMissing, "/srv/berths.jar", ""},
		"rust, a panic":       {"thread 'main' panicked at src/main.rs:4:5:\nthe gauge is dry\nnote: run with `RUST_BACKTRACE=1` environment variable to display a backtrace\n", "", "", "the gauge is dry"},
		"ruby, a module":      {"<internal:kernel>:136:in `require': cannot load such file -- harbour (LoadError)\n\tfrom x.rb:1:in `<main>'\n", ModuleMissing, "harbour", ""},
		"a package runner":    {"npm error code E404\nnpm error 404 Not Found - GET https://registry.example/harbour-tools - Not found\nnpm error 404\nnpm error A complete log of this run can be found in: /x.log\n", PackageMissing, "harbour-tools", ""},
		"nothing to run":      {"npm error could not determine executable to run\nnpm error A complete log of this run can be found in: /x\n", PackageMissing, "", ""},
		"no such package":     {"  × No solution found when resolving tool dependencies:\n  ╰─▶ Because harbour-tools was not found in the package registry and you require it\n", PackageMissing, "harbour-tools", ""},
		"a variable, plainly": {"error: environment variable BERTHS_KEY is not set\nusage: berths [flags]\n", SettingMissing, "BERTHS_KEY", ""},
		"a variable, first":   {"BERTHS_KEY is required\n", SettingMissing, "BERTHS_KEY", ""},
		"a usage text":        {"usage: berths [-h] --quay QUAY\nberths: error: the following arguments are required: --quay\n", SettingMissing, "--quay", ""},
		"a usage text below":  {"error: the following required arguments were not provided:\n  --quay <QUAY>\n\nUsage: berths --quay <QUAY>\n\nFor more information, try '--help'.\n", SettingMissing, "--quay <QUAY>", ""},
		"a shell":             {"sh: 1: harbour: not found\n", ScriptMissing, "harbour", ""},
		"a library":           {"/srv/berths: error while loading shared libraries: libtide.so.3: cannot open shared object file: No such file or directory\n", ModuleMissing, "libtide.so.3", ""},
		"python, syntax of today": {
			"  File \"/x.py\", line 3\n    match quay:\n          ^\nSyntaxError: invalid syntax\n", RuntimeTooOld, "SyntaxError: invalid syntax", "",
		},
		"python, syntax of today, last line but four": {
			"    match quay:\na\nb\nc\nSyntaxError: invalid syntax\n", RuntimeTooOld, "SyntaxError: invalid syntax", "",
		},
		"python, syntax of never": {
			"    match quay:\na\nb\nc\nd\nSyntaxError: invalid syntax\n", "", "", "SyntaxError: invalid syntax",
		},
		"node, syntax of today, alone": {"SyntaxError: Unexpected token\n", "", "", "SyntaxError: Unexpected token"},
		"a variable that stands below": {"Error: Missing environment variables:\n  BERTHS_KEY\n", SettingMissing, "BERTHS_KEY", ""},
		"a variable that is not said":  {"Missing configuration:", SettingMissing, "", "Missing configuration:"},
		"rust, without a message":      {"thread 'main' panicked at src/main.rs:4:5:", "", "", "thread 'main' panicked at src/main.rs:4:5:"},
		"in the first line":            {"berths: the gauge is dry\n    at quay\n", "", "", "berths: the gauge is dry"},
		"a frame that looks like it":   {"Error: the gauge is dry\n    at Error: not this one\nTraceback Error: x\n", "", "", "Error: the gauge is dry"},
		"memory":                       {"FATAL ERROR: Reached heap limit Allocation failed - JavaScript heap out of memory\n", OutOfMemory, "", ""},
		"an interpreter":               {"/usr/bin/env: 'quayscript': No such file or directory\n", InterpreterGone, "quayscript", ""},
		"only words":                   {"starting\nthe gauge is dry\n\n", "", "", "the gauge is dry"},
		"nothing":                      {"\n \n", "", "", ""},
	} {
		w := ReadStderr(row.text)
		assert.Equal(t, row.cause, w.Cause, name)
		if row.about != "" || row.cause != OutOfMemory {
			assert.Equal(t, row.about, w.About, name)
		}
		if row.line != "" {
			assert.Equal(t, row.line, w.Line, name)
		}
		message, remedy := OfStderr(w)
		assert.Equal(t, row.cause != "", message != "" && remedy != "", name)
	}
}

// Where it is known what is missing, it is named; where not, the sentence does without.
func TestWhatAProcessWroteIsExplained(t *testing.T) {
	t.Parallel()
	for cause, want := range map[Cause][2]string{
		PackageMissing:  {"the package runner found no such package, or nothing to run in it", "the package runner did not get 8080"},
		InterpreterGone: {"the interpreter that the program names in its first line is not there", "the interpreter 8080 is not there"},
		PortTaken:       {"the port that it listens on is taken", "the port 8080 that it listens on is taken"},
	} {
		for i, about := range [...]string{"", "8080"} {
			message, remedy := OfStderr(Words{Cause: cause, About: about})
			assert.Equal(t, want[i], message)
			assert.NotEmpty(t, remedy)
		}
	}
}
