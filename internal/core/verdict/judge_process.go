package verdict

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/report"
)

// processJudge judges a program that was started: what it says, how it ends.
type processJudge struct{ *judge }

// process judges a local process: what can be known without starting it, and what it did.
func (j processJudge) process() {
	p := j.e.Process
	switch {
	case p == nil:
		return
	case j.unstartable(p):
		return
	case !p.Started:
		j.add(diagnosis.NotExecutable, "the command could not be started"+because(p.StartErr), "run it by hand where Bouncer runs")
		return
	}
	s := j.e.Session
	opened := s != nil && s.Opened
	switch {
	case opened && j.noisy(p, s):
	case opened:
	case p.Exited && !p.EndedAtEOF:
		j.exited(p)
	default:
		j.silent(p, s)
	}
}

// command is how another command is given.
func (j processJudge) command(program string, args ...string) string {
	line := report.Quoted(program)
	for _, a := range args {
		line += " " + report.Quoted(a)
	}
	if j.e.Target.Server != "" {
		return "bouncer server update " + j.e.Target.Server + " -- " + line
	}
	if len(args) > 0 {
		return "give it as --command " + strings.Replace(line, " ", " -- ", 1)
	}
	return "give it as --command " + line
}

func because(err error) string {
	if err == nil {
		return ""
	}
	return ": " + evidence.Plain(err)
}

func (j processJudge) line() string {
	return diagnosis.Clip(strings.Join(append([]string{j.e.Target.Command}, j.e.Target.Args...), " "))
}

// unstartable judges what keeps a process from being started; true when it found
// something.
func (j processJudge) unstartable(p *evidence.Process) bool {
	t := j.e.Target
	switch {
	case p.Off:
		j.add(diagnosis.ProcessesOff, "no process is started where Bouncer runs: it was started with processes off",
			"reach the server at an address, or have whoever runs Bouncer start it with processes on")
	case p.DirMissing:
		j.add(
			diagnosis.DirMissing,
			"the working directory "+t.Dir+" is not there",
			"make it, or correct it: "+j.update("--dir DIRECTORY"),
			"looked for "+t.Dir,
		)
	case p.Relative:
		j.add(diagnosis.RelativePath, "the command "+t.Command+" is a relative path, which depends on where Bouncer was started",
			j.command("/ABSOLUTE/PATH", j.e.Target.Args...), "the command is "+t.Command)
	case p.WholeLine:
		words := strings.Fields(t.Command)
		remedy := j.command(words[0], append(words[1:], t.Args...)...)
		j.add(
			diagnosis.LineInCommand,
			"the command holds a whole command line: "+diagnosis.Clip(t.Command),
			remedy,
			"there is no program called "+diagnosis.Clip(t.Command),
		)
	case p.NotFound:
		j.add(
			diagnosis.CommandNotFound,
			"the command "+t.Command+" is not on the machine where Bouncer runs",
			"install it there, or give its path: "+j.command(
				"/ABSOLUTE/PATH",
				j.e.Target.Args...),
			"looked for it in the PATH that processes get",
		)
	case p.IsDir:
		j.add(
			diagnosis.NotExecutable,
			"the command "+t.Command+" is a directory",
			j.command("/ABSOLUTE/PATH", j.e.Target.Args...),
			p.Path+" is a directory",
		)
	case p.Denied:
		j.add(
			diagnosis.NotExecutable,
			"the command "+t.Command+" may not be executed",
			"chmod +x "+report.Quoted(p.Path),
			p.Path+" is there, and has no right to be executed",
		)
	case p.InterpreterMissing != "":
		why := ""
		if p.CarriageReturn {
			why = "its first line ends with a carriage return, as files of another system do; the interpreter is looked for with that in its name"
		}
		j.add(diagnosis.InterpreterGone, "the interpreter "+p.InterpreterMissing+" that "+t.Command+" names in its first line is not there",
			"install it where Bouncer runs, or correct the first line of "+p.Path, "the first line of "+p.Path+" names "+p.Interpreter, why)
	case p.Format != "":
		j.add(
			diagnosis.NotExecutable,
			"the system cannot run "+t.Command+": "+p.Format,
			"use a program for this machine; a script needs a first line like #!/usr/bin/env NAME",
			p.Path+": "+p.Format,
		)
	default:
		return false
	}
	return true
}

// exited judges a process that ended before it opened a session.
func (j processJudge) exited(p *evidence.Process) {
	words := diagnosis.ReadStderr(p.Stderr)
	if words.Cause == "" && words.Line == "" {
		words = diagnosis.ReadStderr(string(p.Stdout))
	}
	facts := []string{j.ending(p)}
	if words.Line != "" {
		facts = append(facts, "it wrote: "+diagnosis.Clip(words.Line))
	}
	shape := evidence.ReadReply(p.Stdout, 0)
	switch {
	case p.OutOfMemory, words.Cause == diagnosis.OutOfMemory:
		j.add(
			diagnosis.OutOfMemory,
			"the process was ended for its memory",
			"let it hold less, or give it more: "+j.update("--memory MIB"),
			facts...)
	case p.Signal != "" && (words.Cause == "" || p.Code == 0):
		j.signalled(p, facts)
	case p.Code == 126 && words.Cause == "":
		j.add(diagnosis.NotExecutable, "what the command starts may not be executed"+j.wording(words), "check its rights", facts...)
	case words.Cause != "":
		j.worded(p, words, facts)
	case p.ScriptMissing:
		j.add(
			diagnosis.ScriptMissing,
			"the file "+p.Script+" that is to be run is not there",
			diagnosis.ScriptRemedy,
			append(facts, "looked for "+p.Script)...)
	case p.Glued != "":
		j.add(diagnosis.GluedArguments, "several arguments are glued together in one: "+diagnosis.Clip(p.Glued),
			"give each argument by itself, after --, without quotes around them all", facts...)
	case len(j.e.Target.Unset) > 0:
		j.add(
			diagnosis.SettingMissing,
			"the variable "+j.e.Target.Unset[0]+" still is a placeholder",
			j.update("--env "+j.e.Target.Unset[0]+"=VALUE"),
			facts...)
	case shape.Shape == evidence.Help || p.Helps():
		f := j.add(
			diagnosis.NoiseOnStdout,
			"the process writes how it is used, and ends: it wants other arguments",
			"give it the arguments with which it speaks the protocol over its standard input and output",
			append(facts, "it wrote: "+diagnosis.Clip(p.FirstWords()))...).by(diagnosis.Registrar)
		if shape.Shape != evidence.Help {
			f.Cause = diagnosis.SettingMissing
		}
	case j.badOutput(p, shape, facts):
	default:
		j.add(diagnosis.ExitsAtOnce, fmt.Sprintf("the process ends with code %d before it opens a session", p.Code)+j.wording(words),
			"run it by hand where Bouncer runs: "+j.line(), facts...)
	}
}

func (j processJudge) wording(w diagnosis.Words) string {
	if w.Line == "" {
		return ""
	}
	return ": " + diagnosis.Clip(w.Line)
}

func (j processJudge) ending(p *evidence.Process) string {
	switch {
	case p.Signal != "":
		return fmt.Sprintf("the process was ended by the signal %s after %s", p.Signal, report.Took(p.Took))
	default:
		return fmt.Sprintf("the process ended with code %d after %s", p.Code, report.Took(p.Took))
	}
}

func (j processJudge) signalled(p *evidence.Process, facts []string) {
	j.add(
		diagnosis.Killed,
		"the process was killed by the signal "+p.Signal,
		"look into the machine's log; a crash is told to whoever makes the program",
		facts...)
}

// worded judges a process by what it wrote before it ended.
func (j processJudge) worded(p *evidence.Process, w diagnosis.Words, facts []string) {
	message, remedy := diagnosis.OfStderr(w)
	switch w.Cause {
	case diagnosis.SettingMissing:
		name := w.About
		if strings.HasPrefix(name, "-") {
			remedy = "give it after --: " + j.command(j.e.Target.Command, append(slices.Clone(j.e.Target.Args), strings.Fields(name)[0],
				"VALUE")...)
		} else if isVariable.MatchString(name) {
			remedy = j.update("--env "+name+"=VALUE") + ", or for a secret: " + j.update("--secret-env "+name+" --token")
		}
	case diagnosis.ScriptMissing:
		if p.ScriptMissing {
			message = "the file " + p.Script + " that is to be run is not there"
			remedy = "correct the path; a relative one needs the working directory: " + j.update("--dir DIRECTORY")
		}
	case diagnosis.OutOfMemory:
		remedy = j.update("--memory MIB")
	}
	j.add(w.Cause, message, remedy, facts...)
}

var isVariable = regexp.MustCompile(`^[A-Z][A-Z0-9_]+$`)

// badOutput judges what stands on standard output instead of the protocol; true when it
// found something.
func (j processJudge) badOutput(p *evidence.Process, shape evidence.Reply, facts []string) bool {
	if len(strings.TrimSpace(string(p.Stdout))) == 0 {
		return false
	}
	facts = append(facts, "it wrote on its standard output: "+shape.Quote)
	switch shape.Shape {
	case evidence.Text, evidence.Page, evidence.Help, evidence.OtherJSON:
		j.add(diagnosis.NoiseOnStdout, "the process writes something else than the protocol to its standard output: "+shape.Quote,
			"have it write that to standard error; if it is another program, correct the command", facts...)
	case evidence.Marked, evidence.Wide, evidence.NoUTF8, evidence.Compressed:
		j.add(
			diagnosis.EncodingBroken,
			"the process writes "+string(shape.Shape)+" instead of UTF-8",
			"have it write UTF-8 without a byte-order mark",
			facts...)
	case evidence.Framed:
		j.add(
			diagnosis.Malformed,
			"the process frames its messages by headers, and not by lines",
			"have it write one message a line; it may have another mode for that",
			facts...)
	case evidence.Batched:
		j.add(diagnosis.Batch, "the process answers one request with a batch", "tell whoever makes the program", facts...)
	case evidence.BrokenJSON, evidence.SeveralLine:
		j.add(
			diagnosis.Malformed,
			"the process writes its messages over several lines, or broken",
			"have it write each message in one line",
			facts...)
	case evidence.Message:
		if shape := evidence.ReadReply(p.Stdout, 1); shape.ID != "" {
			j.add(
				diagnosis.WrongID,
				"the answer does not carry the id of the request: "+shape.ID,
				"tell whoever makes the program",
				facts...)
			return true
		}
		if !strings.Contains(strings.TrimSpace(string(p.Stdout)), "\n") {
			return false
		}
		j.add(diagnosis.Malformed, "the process writes its messages over several lines", "have it write each message in one line", facts...)
	default:
		return false
	}
	return true
}

// noisy judges a process that speaks the protocol, and other things besides; true when it
// found something.
func (j processJudge) noisy(p *evidence.Process, s *evidence.Session) bool {
	if len(s.Noise) == 0 {
		return false
	}
	j.add(
		diagnosis.NoiseOnStdout,
		"the process writes something else than the protocol to its standard output: "+diagnosis.Clip(s.Noise[0]),
		"have it write that to standard error; Bouncer passes over it, and other clients break on it",
		fmt.Sprintf("%d lines that are no messages", len(s.Noise)),
		"the first: "+diagnosis.Clip(s.Noise[0]),
	)
	return true
}

var (
	progress = regexp.MustCompile(
		`(?i)(download|install|fetch|resolv|compil|build|load|warm|import|migrat|index|start|init|connect|wait|pull|unpack|extract|\d+ ?%)`,
	)
	prompts = regexp.MustCompile(`(?i)(?:[:?>\]]|\)\s*[:?]?)\s*$`)
	asking  = regexp.MustCompile(
		`(?i)(password|passphrase|enter|type|choose|select|continue|proceed|confirm|press|\[y/n\]|\(y/n\)|yes/no|login|username|token|which|do you)`,
	)
	serves = regexp.MustCompile(
		`(?i)(?:listening|running|serving|started|ready|available|server)[^\n]*?(https?://[^\s"',]+|(?:port|:)\s*(\d{2,5}))`,
	)
)

// silent judges a process that runs, and opened no session in time.
func (j processJudge) silent(p *evidence.Process, s *evidence.Session) {
	facts := []string{fmt.Sprintf("the process runs, and has opened no session within %s", report.Took(p.Took))}
	if p.Stderr != "" {
		facts = append(facts, "it wrote last: "+diagnosis.Clip(lastLineOf(p.Stderr)))
	}
	if p.CPU > 0 {
		facts = append(facts, "it used "+report.Took(p.CPU)+" of computing time")
	}
	shape := evidence.ReadReply(p.Stdout, 1)
	text := lastLineOf(p.Stderr)
	if text == "" {
		text = lastLineOf(string(p.Stdout))
	}
	after := evidence.ReadReply(p.AfterEOF, 1)
	switch {
	case s != nil && s.Refused != nil:
		j.ofSession().initRefused(s.Refused, s.Offered, facts...)
	case len(p.Ports) > 0:
		j.port(p, facts)
	case len(p.AfterEOF) > 0 && (after.Shape == evidence.Message || after.Shape == evidence.BrokenJSON):
		j.add(diagnosis.NeverFlushes, "the process keeps its answers in a buffer, and gives them only when it ends",
			"have it flush after each message, or run it without a buffer (for Python: --env PYTHONUNBUFFERED=1)",
			append(facts, "when its input was closed it wrote: "+after.Quote)...)
	case p.Terminal, asking.MatchString(text) && prompts.MatchString(text) && !progress.MatchString(text), askingOut(p):
		j.add(
			diagnosis.WaitsForInput,
			"the process waits for somebody to type",
			"give what it asks for as an argument or a variable: "+j.line(),
			append(facts, "it asks: "+diagnosis.Clip(text))...)
	case j.badOutput(p, shape, facts):
	case serves.MatchString(p.Stderr + "\n" + string(p.Stdout)):
		j.port(p, facts)
	case p.LastWrote > 0 && p.Took-p.LastWrote < p.Took/2 && p.Stderr != "" || progress.MatchString(text) || p.Busy():
		doing := ""
		if text != "" {
			doing = "; last it wrote: " + diagnosis.Clip(text)
		}
		longer := max(60, int(j.e.Target.Patience.Seconds())*4)
		remedy := "give it longer (--patience), or have what it fetches installed beforehand where Bouncer runs"
		if j.e.Target.Server != "" {
			remedy = fmt.Sprintf(
				"%s, or have what it fetches installed beforehand where Bouncer runs",
				j.update(fmt.Sprintf("--start-time %ds",
					longer)),
			)
		}
		j.add(
			diagnosis.StartsSlowly,
			fmt.Sprintf("the process does not answer within the %s that it is given to start%s", report.Took(j.e.Target.Patience), doing),
			remedy,
			facts...).
			fix("startSeconds", strconv.Itoa(longer), "gives it longer to start")
	default:
		j.add(
			diagnosis.NeverAnswers,
			fmt.Sprintf("the process runs, and answers nothing within %s", report.Took(p.Took)),
			"run it by hand where Bouncer runs; it may want another argument to speak over its standard input and output: "+j.line(),
			facts...)
	}
}

func (j processJudge) port(p *evidence.Process, facts []string) {
	where := "a port"
	if len(p.Ports) > 0 {
		where = fmt.Sprintf("port %d", p.Ports[0])
		facts = append(facts, fmt.Sprintf("it listens on port %d", p.Ports[0]))
	} else if m := serves.FindStringSubmatch(p.Stderr + "\n" + string(p.Stdout)); m != nil {
		facts = append(facts, "it wrote: "+diagnosis.Clip(m[0]))
		where = m[1]
	}
	remedy := "give it the argument with which it speaks over its standard input and output, or run it by itself and register its address"
	if len(p.Ports) > 0 {
		remedy += fmt.Sprintf(", as http://127.0.0.1:%d/mcp", p.Ports[0])
	}
	j.add(
		diagnosis.ServesAPort,
		"the process listens on "+where+", and does not speak over its standard input and output",
		remedy,
		facts...)
}

func lastLineOf(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\r\n"), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

// askingOut reports whether standard output ends with a question, or with what there is
// to choose from.
func askingOut(p *evidence.Process) bool {
	lines := strings.Split(strings.TrimRight(string(p.Stdout), "\r\n"), "\n")
	for i, line := range lines[max(0, len(lines)-5):] {
		line = strings.TrimSpace(line)
		last := i == min(len(lines), 5)-1
		if asking.MatchString(line) && (last && prompts.MatchString(line) || strings.HasPrefix(line, "? ")) {
			return true
		}
	}
	return false
}
