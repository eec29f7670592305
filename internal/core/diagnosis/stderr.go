package diagnosis

import (
	"regexp"
	"strings"
)

// Words is what a process wrote to standard error, read: the line that decides, and
// what it is about where that is known.
type Words struct {
	Line  string
	Cause Cause  // a cause of the layer launch, or "" for no more than the line
	About string // the module, the file, the variable, the port or the package; "" when the line does not name it
}

// sign is one way in which programs tell why they end. The first group that matched is
// what it is about.
type sign struct {
	cause Cause
	re    *regexp.Regexp
}

// The signs, the most telling first: what names a cause counts more than the message of
// whatever was thrown, and that more than how a program is used.
var signs = []sign{
	{
		OutOfMemory,
		regexp.MustCompile(
			`(?i)((?:JavaScript )?heap out of memory|java\.lang\.OutOfMemoryError.*|runtime: out of memory.*|\bMemoryError\b.*|cannot allocate memory|` +
				`memory allocation of \d+ bytes failed|std::bad_alloc|out of memory: kill.*|System\.OutOfMemoryException.*|failed to allocate memory.*)`,
		),
	},
	{InterpreterGone, regexp.MustCompile(`^(?:/\S*/)?env: [‘'"\x60]?([^‘’'"\x60:]+?)(?:\\r)?[’'"\x60]?: No such file or directory`)},
	{InterpreterGone, regexp.MustCompile(`: ([^:\s]+?)(?:\^M)?: bad interpreter`)},
	{InterpreterGone, regexp.MustCompile(`cannot execute: required file not found()`)},
	{
		RuntimeTooOld,
		regexp.MustCompile(`(?:Unsupported class file major version|UnsupportedClassVersionError:?|class file version) ?(\S*.*)`),
	},
	{
		RuntimeTooOld,
		regexp.MustCompile(
			`(?i)((?:requires?|needs?|requiring|minimum|at least|must be|supported[^.]*:?)[^.]{0,40}(?:node(?:\.js)?|python|ruby|java|jdk|go|rustc|deno|bun|php|\.net|glibc)\b[^.\d]{0,25}(?:version )?[\^>=~v]*\s*\d+.*)`,
		),
	},
	{
		RuntimeTooOld,
		regexp.MustCompile(
			`(?i)((?:node(?:\.js)?|python|ruby|java|jdk|php|deno|bun|runtime)(?: version)? ?v?[\d.]* ?(?:is|was)? ?(?:too old|not supported|unsupported|no longer supported|outdated).*)`,
		),
	},
	{
		RuntimeTooOld,
		regexp.MustCompile(
			`((?:version ` + "`" + `GLIBC_\S+' not found|You must install or update \.NET.*|EBADENGINE.*|requires a different Python.*|Requires-Python.*|go: .*requires go >= \S+.*))`,
		),
	},
	{
		WaitsForInput,
		regexp.MustCompile(
			`(?i)(EOFError: EOF when reading a line|(?:stdin|standard input|the input device) is not a (?:tty|terminal).*|inappropriate ioctl for device.*|` +
				`(?:no tty present|a terminal is required|cannot open /dev/tty|could not open a tty|setRawMode is not a function|must be run (?:in|from) an? (?:interactive )?terminal|prompt\w* (?:was )?(?:cancel|abort)\w*).*)`,
		),
	},
	{
		RuntimeTooOld,
		regexp.MustCompile(
			`(SyntaxError: Unexpected token '?(?:\?\?=|\?\?|\?\.|\|\|=|&&=|\.)'?.*|ReferenceError: (?:fetch|structuredClone|WebSocket|Headers|ReadableStream|` +
				`AbortSignal|crypto) is not defined.*)`,
		),
	},
	{
		RuntimeTooOld,
		regexp.MustCompile(`((?:No such built-in module|ERR_UNKNOWN_BUILTIN_MODULE).*|No module named '(?:tomllib|zoneinfo|graphlib)'.*|` +
			`cannot import name '\w+' from '(?:typing|enum|datetime|asyncio|types|collections\.abc|itertools|functools)'.*|` +
			`module '(?:asyncio|typing|types|itertools|ast|datetime)' has no attribute '\w+'.*|unsupported operand type\(s\) for \|: 'type' and .*)`),
	},
	{
		PackageMissing,
		regexp.MustCompile(
			`(?:getaddrinfo |request to )?(?:ENOTFOUND|EAI_AGAIN|ECONNREFUSED|ETIMEDOUT)\S* ?(registry\.\S+|\S*(?:registry|pypi|index|proxy)\S*)`,
		),
	},
	{
		PackageMissing,
		regexp.MustCompile(`(?:No matching distribution found for|Could not find a version that satisfies the requirement) (\S+)`),
	},
	{ModuleMissing, regexp.MustCompile(`(?:ModuleNotFoundError|ImportError): No module named ['"]?([\w.\-]+)`)},
	{ModuleMissing, regexp.MustCompile(`cannot import name .* from ['"]([\w.\-]+)`)},
	{ScriptMissing, regexp.MustCompile(`can't open file ['"]?([^'"]+?)['"]?: \[Errno 2\]`)},
	{ScriptMissing, regexp.MustCompile(`Cannot find module '(/[^']+)'`)},
	{ModuleMissing, regexp.MustCompile(`Cannot find (?:module|package) ['"]([^'"]+)`)},
	{ModuleMissing, regexp.MustCompile(`cannot load such file -- (\S+)`)},
	{
		ModuleMissing,
		regexp.MustCompile(`(?:Relative import path|Import|Unable to resolve|Failed to resolve(?: module specifier)?) ['"]([^'"]+)['"]`),
	},
	{ModuleMissing, regexp.MustCompile(`Could not load file or assembly '([^',]+)`)},
	{ModuleMissing, regexp.MustCompile(`(?:Class|Interface|Trait) ['"]([^'"]+)['"] not found`)},
	{ModuleMissing, regexp.MustCompile(`(?:no required module provides package|Can't locate) ([\w./-]+)`)},
	{ModuleMissing, regexp.MustCompile(`Could not find or load main class (\S+)`)},
	{ScriptMissing, regexp.MustCompile(`Unable to access jarfile (\S+)`)},
	{ScriptMissing, regexp.MustCompile(`Module not found "(?:file://)?([^"]+)"`)},
	{ModuleMissing, regexp.MustCompile(`java\.lang\.(?:ClassNotFoundException|NoClassDefFoundError): (\S+)`)},
	{ModuleMissing, regexp.MustCompile(`error while loading shared libraries: ([^:]+):`)},
	{PackageMissing, regexp.MustCompile(`404 Not Found - GET \S*/([^/\s]+(?:%2[fF][^/\s]+)?)(?: - Not found)?$`)},
	{PackageMissing, regexp.MustCompile(`'([^'\s]+)' is not in (?:this|the npm) registry`)},
	{PackageMissing, regexp.MustCompile(`could not determine executable to run`)},
	{PackageMissing, regexp.MustCompile(`No matching version found for ([^\s@]*@?[^\s@]+)`)},
	{
		PackageMissing,
		regexp.MustCompile(`^(?:npm|pnpm|yarn) (?:ERR!|error|err) code (E401|E403|E404|ETARGET|EACCES|EINTEGRITY|ENOSPC|E5\d\d)\b`),
	},
	{PackageMissing, regexp.MustCompile(`(?:Because|because) (\S+) was not found in the package registry`)},
	{PackageMissing, regexp.MustCompile("Failed to spawn: `([^`]+)`")},
	{PackageMissing, regexp.MustCompile(`(?:ETIMEDOUT|ENOTFOUND|EAI_AGAIN|ECONNREFUSED).*(?:registry|pypi|proxy)`)},
	{PortTaken, regexp.MustCompile(`EADDRINUSE[^\n]*?:(\d{2,5})\b`)},
	{PortTaken, regexp.MustCompile(`(?i)address already in use[^\n]*?(?::|port )(\d{2,5})\b`)},
	{PortTaken, regexp.MustCompile(`(?i)port (\d{2,5})\b[^.\n]*(?:in use|taken|occupied|not available|unavailable)`)},
	{PortTaken, regexp.MustCompile(`(?i)EADDRINUSE|AddrInUse|address already in use|port (\d{2,5}) is already`)},
	{SettingMissing, regexp.MustCompile(`KeyError: ['"]([A-Z][A-Z0-9_]{2,})['"]`)},
	{
		SettingMissing,
		regexp.MustCompile(
			`(?i)(?:environment variable|env var|variable|setting)s? ['"` + "`" + `]?([A-Z][A-Z0-9_]{2,})['"` + "`" + `]? ?(?:is|was|are|must|has)? ?(?:not set|not found|missing|required|be set|undefined|unset|empty)`,
		),
	},
	{
		SettingMissing,
		regexp.MustCompile(
			`(?i)(?:missing|required|set|provide|no)(?: the| a| required)? (?:environment variable|env var|variable|API key|token)s?:? ['"` + "`" + `]?([A-Z][A-Z0-9_]{2,})`,
		),
	},
	{
		SettingMissing,
		regexp.MustCompile(
			`\b([A-Z][A-Z0-9]*_[A-Z0-9_]+)\b (?:environment variable )?(?:is|was|must|are)? ?(?:not set|not found|missing|required|be set|undefined)`,
		),
	},
	{
		SettingMissing,
		regexp.MustCompile(
			`(?i:set|provide|export|define|specify|configure|supply|missing|requires?|needs?|expected)\b[^.\n]{0,40}?\b([A-Z][A-Z0-9]*_[A-Z0-9_]+)\b`,
		),
	},
	{SettingMissing, regexp.MustCompile(`the following (?:required )?arguments (?:are required|were not provided): ?(.*)$`)},
	{
		SettingMissing,
		regexp.MustCompile(`(?:required flag|required option|missing required argument|flag needs an argument)[^:]*:? ?['"]?(\S*)`),
	},
	{SettingMissing, regexp.MustCompile(`\d+ validation errors? for \w*(?:Settings|Config|Env)\w*()$`)},
	{
		SettingMissing,
		regexp.MustCompile(`(?i)(?:missing|required) (?:required )?(?:option|argument|parameter|flag)s?:? ['"\x60]?(-{1,2}[a-z][\w-]*)`),
	},
	{SettingMissing, regexp.MustCompile(`^(?:Error: )?(?:Invalid|Missing) (?:environment|configuration)(?: variables)?:?()$`)},
	{ScriptMissing, regexp.MustCompile(`ENOENT: no such file or directory, \w+ '([^']+)'`)},
	{
		ScriptMissing,
		regexp.MustCompile(
			`(?:FileNotFoundError|Errno::ENOENT|NoSuchFileException|FileNotFoundException|NotADirectoryError)[^\n]*?[:@ ]['"]?([/.~\w][^\s'"()]*)['"]?(?: \(No such file.*)?$`,
		),
	},
	{ScriptMissing, regexp.MustCompile(`No such file or directory(?: \(os error 2\))?: ['"]?([/.~][^\s'"]*)`)},
	{ScriptMissing, regexp.MustCompile(`\bopen ([^:\s]+): (?:no such file or directory|permission denied)`)},
	{
		ScriptMissing,
		regexp.MustCompile(
			`(?i)(?:could not|cannot|failed to|unable to) (?:find|open|read|load|locate)(?: the)?(?: config\w*| file| database)* ['"\x60]?(/[^\s'"\x60:]+)`,
		),
	},
	{ScriptMissing, regexp.MustCompile(`^\S*sh: (?:\d+: |line \d+: )?(?:[^:]+: )?([^:\s]+): (?:command )?not found$`)},
	{ScriptMissing, regexp.MustCompile(`([^\s:'"]+): (?:No such file or directory|Permission denied)$`)},
	{"", regexp.MustCompile(`^Caused by: (.+)$`)},
	{"", regexp.MustCompile(`^(?:Exception in thread "[^"]*" |Unhandled exception[.:] ?|Uncaught |panic: |fatal error: |fatal: )(.+)$`)},
	{"", regexp.MustCompile(`^thread '[^']*'.* panicked at (.+)$`)},
	{"", regexp.MustCompile(`^(?:[a-zA-Z_][\w.]*\.)?[A-Z]\w*(?:Error|Exception|Exit|Warning): (.+)$`)},
	{"", regexp.MustCompile(`^Error(?: \[\w+\])?: (.+)$`)},
	{"", regexp.MustCompile(`^(?:npm (?:ERR!|error)|error|ERROR|Error|FATAL|fatal|\[error\]|✘|×)[: ]+(.{4,})$`)},
}

// Stack frames and the lines around them say where, and not why.
var frame = regexp.MustCompile(
	`^\s+at |^\s+File "|^goroutine \d|^\s+\S+\.(go|rs|rb|java):\d+|^\s*\^+\s*$|^Node\.js v\d|^note: run with|` +
		`^npm (?:ERR!|error) (?:A complete log|code|errno|syscall|path|dest)|^Traceback |^\s*throw |^    \S`,
)

// ReadStderr finds the decisive line of what a process wrote before it ended: by the
// usual ways in which runtimes, package runners and libraries say it, and not by its
// place. Without any sign it is the last line that is no stack frame.
func ReadStderr(text string) Words {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " \r\t")
	}
	for _, s := range signs {
		// What came last is why it ended; of a chain of causes the last is the root.
		for i := len(lines) - 1; i >= 0; i-- {
			m := s.re.FindStringSubmatch(lines[i])
			if m == nil || (s.cause == "" && frame.MatchString(lines[i])) {
				continue
			}
			w := Words{Line: strings.TrimSpace(lines[i]), Cause: s.cause}
			if s.cause == "" && newSyntax(lines[:i+1]) {
				w.Cause, w.About = RuntimeTooOld, strings.TrimSpace(lines[i])
			}
			if s.cause != "" && len(m) > 1 {
				w.About = strings.TrimSpace(m[1])
			}
			if w.Cause == SettingMissing && w.About == "" && i+1 < len(lines) {
				w.About = strings.TrimSpace(lines[i+1]) // they stand below
			}
			if strings.HasPrefix(w.Line, "thread '") && strings.HasSuffix(w.Line, ":") && i+1 < len(lines) {
				w.Line = strings.TrimSpace(lines[i+1]) // newer runtimes put the message there
			}
			return w
		}
	}
	for i := len(lines) - 1; i >= 0; i-- {
		if strings.TrimSpace(lines[i]) != "" && !frame.MatchString(lines[i]) {
			return Words{Line: strings.TrimSpace(lines[i])}
		}
	}
	return Words{}
}

// later is syntax that older runtimes of a language do not know, though they read the rest.
var later = regexp.MustCompile(
	`^\s*(?:match\s.+:|except\s*\*|type\s+\w+\s*=|with\s*\(|.*:=.*|.*\bawait\b.*|import\s+\w+\s+with\s.*|.*\busing\s.*)\s*$`,
)

// newSyntax reports whether an error of syntax, in the last of the lines, is about what a
// newer runtime knows.
func newSyntax(lines []string) bool {
	last := len(lines) - 1
	if !strings.Contains(lines[last], "SyntaxError") {
		return false
	}
	for _, line := range lines[max(0, last-4):last] {
		if later.MatchString(line) {
			return true
		}
	}
	return false
}

const packageRemedy = "check the package's name and version, and that its registry can be reached"

// OfStderr explains what a process wrote before it ended.
func OfStderr(w Words) (message, remedy string) {
	about := w.About
	switch w.Cause {
	case ModuleMissing:
		return "a module or package that the program needs is not installed: " + about,
			"install " + about + " where Bouncer runs, in the environment that the command uses"
	case ScriptMissing:
		return "a file that it needs is not there, or may not be read: " + about,
			ScriptRemedy
	case PackageMissing:
		if about == "" {
			return "the package runner found no such package, or nothing to run in it", packageRemedy
		}
		return "the package runner did not get " + about, packageRemedy
	case SettingMissing:
		return "a setting that it needs is missing: " + about,
			"give it: a variable with --env NAME=value, a secret one with --secret-env NAME --token, an argument after --"
	case OutOfMemory:
		return "it ran out of memory: " + about, "give it more with --memory MIB, or let it hold less"
	case InterpreterGone:
		if about == "" {
			return "the interpreter that the program names in its first line is not there", "install it where Bouncer runs"
		}
		return "the interpreter " + about + " is not there", "install " + about + " where Bouncer runs, or give its path as the command"
	case RuntimeTooOld:
		return "the runtime is too old for it: " + about, "install a newer one where Bouncer runs, and name it in the command"
	case WaitsForInput:
		return "it wants somebody to type at a terminal: " + about, "give what it asks for as an argument or a variable"
	case PortTaken:
		if about == "" {
			return "the port that it listens on is taken", "let it listen on another port, or speak over its standard input and output"
		}
		return "the port " + about + " that it listens on is taken", "let it listen on another port, or speak over its standard input and output"
	}
	return "", ""
}
