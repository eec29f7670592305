package diagnosis

import (
	"regexp"
	"strings"
)

// Words is what a process wrote to standard error, read: the line that decides, and
// what it is about where that is known.
type Words struct {
	Line  string
	Cause Cause  // ModuleMissing, ScriptMissing, SettingMissing, PortTaken, PackageMissing, or "" for no more than the line
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
	{ModuleMissing, regexp.MustCompile(`(?:ModuleNotFoundError|ImportError): No module named ['"]?([\w.\-]+)`)},
	{ModuleMissing, regexp.MustCompile(`cannot import name .* from ['"]([\w.\-]+)`)},
	{ScriptMissing, regexp.MustCompile(`can't open file ['"]?([^'"]+?)['"]?: \[Errno 2\]`)},
	{ScriptMissing, regexp.MustCompile(`Cannot find module '(/[^']+)'`)},
	{ModuleMissing, regexp.MustCompile(`Cannot find (?:module|package) ['"]([^'"]+)`)},
	{ModuleMissing, regexp.MustCompile(`cannot load such file -- (\S+)`)},
	{ModuleMissing, regexp.MustCompile(`Could not find or load main class (\S+)`)},
	{ScriptMissing, regexp.MustCompile(`Unable to access jarfile (\S+)`)},
	{ScriptMissing, regexp.MustCompile(`Module not found "(?:file://)?([^"]+)"`)},
	{ModuleMissing, regexp.MustCompile(`java\.lang\.(?:ClassNotFoundException|NoClassDefFoundError): (\S+)`)},
	{ModuleMissing, regexp.MustCompile(`error while loading shared libraries: ([^:]+):`)},
	{PackageMissing, regexp.MustCompile(`404 Not Found - GET \S*/([^/\s]+(?:%2[fF][^/\s]+)?)(?: - Not found)?$`)},
	{PackageMissing, regexp.MustCompile(`'([^'\s]+)' is not in (?:this|the npm) registry`)},
	{PackageMissing, regexp.MustCompile(`could not determine executable to run`)},
	{PackageMissing, regexp.MustCompile(`(?:Because|because) (\S+) was not found in the package registry`)},
	{PackageMissing, regexp.MustCompile("Failed to spawn: `([^`]+)`")},
	{PackageMissing, regexp.MustCompile(`(?:ETIMEDOUT|ENOTFOUND|EAI_AGAIN|ECONNREFUSED).*(?:registry|pypi|proxy)`)},
	{PortTaken, regexp.MustCompile(`EADDRINUSE[^\n]*?:(\d{2,5})\b`)},
	{PortTaken, regexp.MustCompile(`(?i)address already in use[^\n]*?(?::|port )(\d{2,5})\b`)},
	{PortTaken, regexp.MustCompile(`(?i)EADDRINUSE|address already in use|port (\d{2,5}) is already`)},
	{SettingMissing, regexp.MustCompile(`KeyError: ['"]([A-Z][A-Z0-9_]{2,})['"]`)},
	{SettingMissing, regexp.MustCompile(`(?i)(?:environment variable|env var|variable|setting)s? ['"` + "`" + `]?([A-Z][A-Z0-9_]{2,})['"` + "`" + `]? ?(?:is|was|are|must|has)? ?(?:not set|not found|missing|required|be set|undefined|unset|empty)`)},
	{SettingMissing, regexp.MustCompile(`(?i)(?:missing|required|set|provide|no)(?: the| a| required)? (?:environment variable|env var|variable|API key|token)s?:? ['"` + "`" + `]?([A-Z][A-Z0-9_]{2,})`)},
	{SettingMissing, regexp.MustCompile(`\b([A-Z][A-Z0-9]*_[A-Z0-9_]+)\b (?:environment variable )?(?:is|was|must|are)? ?(?:not set|not found|missing|required|be set|undefined)`)},
	{SettingMissing, regexp.MustCompile(`the following (?:required )?arguments (?:are required|were not provided): ?(.*)$`)},
	{SettingMissing, regexp.MustCompile(`(?:required flag|required option|missing required argument|flag needs an argument)[^:]*:? ?['"]?(\S*)`)},
	{ScriptMissing, regexp.MustCompile(`ENOENT: no such file or directory, \w+ '([^']+)'`)},
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
var frame = regexp.MustCompile(`^\s+at |^\s+File "|^goroutine \d|^\s+\S+\.(go|rs|rb|java):\d+|^\s*\^+\s*$|^Node\.js v\d|^note: run with|` +
	`^npm (?:ERR!|error) (?:A complete log|code|errno|syscall|path|dest)|^Traceback |^\s*throw |^    \S`)

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

const packageRemedy = "check the package's name and version, and that its registry can be reached"

// ofStderr explains what a process wrote before it ended.
func ofStderr(w Words) (message, remedy string) {
	about := w.About
	switch w.Cause {
	case ModuleMissing:
		return "a module or package that the program needs is not installed: " + about,
			"install " + about + " where Bouncer runs, in the environment that the command uses"
	case ScriptMissing:
		return "a file that it needs is not there, or may not be read: " + about,
			scriptRemedy
	case PackageMissing:
		if about == "" {
			return "the package runner found no such package, or nothing to run in it", packageRemedy
		}
		return "the package runner did not get " + about, packageRemedy
	case SettingMissing:
		return "a setting that it needs is missing: " + about,
			"give it: a variable with --env NAME=value, a secret one with --secret-env NAME --token, an argument after --"
	case PortTaken:
		if about == "" {
			return "the port that it listens on is taken", "let it listen on another port, or speak over its standard input and output"
		}
		return "the port " + about + " that it listens on is taken", "let it listen on another port, or speak over its standard input and output"
	}
	return "", ""
}
