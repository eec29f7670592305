// Package cli is the command line: a table of commands, each a client of the
// API (but for serve, which is the service itself). Tables are for people,
// --json is for programs, errors are one sentence and a hint on stderr.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"golang.org/x/term"

	"bouncer/internal/client"
	"bouncer/internal/core/near"
	"bouncer/internal/terminal"
)

// Exit codes.
const (
	exitOK         = 0
	exitFailure    = 1 // the command failed for another reason
	exitUsage      = 2 // the command line is wrong
	exitNotAllowed = 3 // not signed in, or the role does not allow it
	exitNotFound   = 4 // nothing has that name
	exitNoService  = 5 // the Bouncer service cannot be reached
	exitNoServer   = 6 // a tool server cannot be reached as described
)

// Env is the world a command runs in.
type Env struct {
	In       io.Reader
	Out, Err io.Writer
	Getenv   func(string) string
	// Terminal reports whether In is a terminal; ReadSecret reads a line from it
	// without showing it.
	Terminal   func() bool
	ReadSecret func() (string, error)
	// Width is how many columns Out has, 0 when it is no terminal.
	Width     func() int
	ConfigDir string
}

// System is the environment of the process.
func System() *Env {
	dir, err := os.UserConfigDir()
	if err != nil {
		dir = "."
	}
	return &Env{
		In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv,
		Terminal: func() bool { return term.IsTerminal(int(os.Stdin.Fd())) },
		ReadSecret: func() (string, error) {
			b, err := term.ReadPassword(int(os.Stdin.Fd()))
			return string(b), err
		},
		Width: func() int {
			w, _, err := term.GetSize(int(os.Stdout.Fd()))
			if err != nil {
				return 0
			}
			return w
		},
		ConfigDir: filepath.Join(dir, "bouncer"),
	}
}

// command is one row of the table.
type command struct {
	noun, verb string // verb "" for a noun that is a command by itself
	args       string // for the usage line
	rest       string // what may follow after --, for the usage line
	short      string
	long       string
	example    string
	local      bool // no client of the API
	flags      func(*flag.FlagSet)
	run        func(ctx context.Context, t *task) error
}

func (c command) name() string { return strings.TrimSpace(c.noun + " " + c.verb) }

// task is one run of a command.
type task struct {
	*Env
	args   []string
	rest   []string        // what follows after --
	given  map[string]bool // flags that were set
	client *client.Client
	json   bool
}

// view is what a run prints of one thing, or of a list of them.
type view struct{ *task }

func (t *task) view() view { return view{t} }

// usageError is a wrong command line.
type usageError struct{ what, hint string }

func (e *usageError) Error() string { return e.what }

// failure is an error with its exit code and hint.
type failure struct {
	code       int
	what, hint string
}

func (e *failure) Error() string { return e.what }

func commands() []command {
	return slices.Concat(serveCommands(), loginCommands(), serverCommands(), agentCommands(), enrolCommands(),
		adoptCommands(), dialectCommands(), rosterCommands(), bridgeCommands(),
		ruleCommands(), labelCommands(), heldCommands(), budgetCommands(), reviewCommands(), secretCommands(),
		signInCommands(), journalCommands(), statsCommands(), checkupCommands(), incidentCommands(), whyCommands(), tryCommands(),
		exampleCommands(), tapeCommands(), copyCommands(), nodeCommands(), mailCommands(), completionCommands(), manualCommands(),
		[]command{doorCommand(), limitsCommand()}, personCommands())
}

// Main runs a command line and returns its exit code.
func Main(ctx context.Context, e *Env, args []string) int {
	if len(args) == 0 || args[0] != "bridge" { // whose output is the protocol's
		shown := *e
		shown.Out, shown.Err = terminal.NewWriter(e.Out), terminal.NewWriter(e.Err)
		e = &shown
	}
	err := dispatch(ctx, e, args)
	if err == nil || errors.Is(err, flag.ErrHelp) {
		return exitOK
	}
	if errors.Is(err, context.Canceled) {
		return exitFailure
	}
	code, hint := outcome(err)
	if err.Error() != "" {
		fmt.Fprintf(e.Err, "bouncer: %s\n", err)
	}
	if hint != "" {
		fmt.Fprintf(e.Err, "  hint: %s\n", hint)
	}
	return code
}

func dispatch(ctx context.Context, e *Env, args []string) error {
	all := commands()
	if len(args) == 0 || isHelp(args[0]) {
		return overview(e, all)
	}
	noun, rest := args[0], args[1:]
	var verbs []command
	for _, c := range all {
		if c.noun == noun {
			verbs = append(verbs, c)
		}
	}
	if len(verbs) == 0 {
		var nouns []string
		for _, c := range all {
			nouns = append(nouns, c.noun)
		}
		return &usageError{fmt.Sprintf("there is no command %q", noun), meant("bouncer ", noun, nouns) + "bouncer -h lists the commands"}
	}
	if len(rest) > 0 {
		for _, c := range verbs {
			if c.verb != "" && c.verb == rest[0] {
				return c.execute(ctx, e, rest[1:])
			}
		}
	}
	for _, c := range verbs {
		if c.verb == "" {
			if c.args == "" && len(rest) > 0 && !strings.HasPrefix(rest[0], "-") && len(verbs) > 1 {
				return &usageError{
					fmt.Sprintf("%s has no verb %q", noun, rest[0]),
					fmt.Sprintf("bouncer %s by itself does this: %s; it also has %s", noun, c.short, strings.Join(verbsOf(verbs), ", ")),
				}
			}
			return c.execute(ctx, e, rest)
		}
	}
	if len(rest) == 0 || isHelp(rest[0]) {
		return nounHelp(e, noun, verbs)
	}
	return &usageError{
		fmt.Sprintf("%s has no verb %q", noun, rest[0]),
		meant("bouncer "+noun+" ", rest[0], verbsOf(verbs)) + "bouncer " + noun + " -h lists the verbs",
	}
}

func verbsOf(all []command) []string {
	var verbs []string
	for _, c := range all {
		if c.verb != "" {
			verbs = append(verbs, c.verb)
		}
	}
	return verbs
}

// meant proposes the one of some names that is nearest to what was typed, or
// nothing when none is near.
func meant(before, typed string, names []string) string {
	if best := near.Nearest(typed, names); best != "" {
		return "perhaps " + before + best + " was meant; "
	}
	return ""
}

func isHelp(s string) bool { return s == "-h" || s == "--help" || s == "-help" || s == "help" }

func overview(e *Env, all []command) error {
	fmt.Fprint(e.Out, "Bouncer stands between a team's assistants and its tool servers.\n\nUsage: bouncer NOUN VERB [flags]\n\n")
	w := tabwriter.NewWriter(e.Out, 0, 0, 3, ' ', 0)
	for _, c := range all {
		fmt.Fprintf(w, "  %s\t%s\n", c.name(), c.short)
	}
	if err := w.Flush(); err != nil {
		return err
	}
	_, err := fmt.Fprint(e.Out, `
Every command has -h with an example. Most take --json for programs.
Exit codes: 0 done, 1 failed, 2 wrong command line, 3 not allowed, 4 not found,
5 the service cannot be reached, 6 a tool server cannot be reached.

Start here: bouncer serve, then bouncer login, then bouncer server register -h
`)
	return err
}

func nounHelp(e *Env, noun string, verbs []command) error {
	fmt.Fprintf(e.Out, "Usage: bouncer %s VERB [flags]\n\n", noun)
	w := tabwriter.NewWriter(e.Out, 0, 0, 3, ' ', 0)
	for _, c := range verbs {
		fmt.Fprintf(w, "  %s\t%s\n", c.name(), c.short)
	}
	if err := w.Flush(); err != nil {
		return err
	}
	_, err := fmt.Fprintf(e.Out, "\nExample: %s\n", verbs[0].example)
	return err
}

func (c command) execute(ctx context.Context, e *Env, args []string) error {
	t := &task{Env: e, given: map[string]bool{}}
	fs := flag.NewFlagSet("bouncer "+c.name(), flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	var address string
	if !c.local {
		fs.StringVar(&address, "address", "", "base `URL` of the service; else BOUNCER_ADDRESS, else that of the last login")
		fs.BoolVar(&t.json, "json", false, "write JSON for programs")
	}
	if c.flags != nil {
		c.flags(fs)
	}
	if i := slices.Index(args, "--"); i >= 0 && c.rest != "" {
		args, t.rest = args[:i], args[i+1:]
	}
	// Names may stand before, between and after the flags.
	for len(args) > 0 {
		if err := fs.Parse(args); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return c.help(e, fs)
			}
			return c.wrongFlag(err, fs)
		}
		if args = fs.Args(); len(args) > 0 {
			t.args, args = append(t.args, args[0]), args[1:]
		}
	}
	fs.Visit(func(f *flag.Flag) { t.given[f.Name] = true })
	want, needed := len(strings.Fields(c.args)), 0
	for _, word := range strings.Fields(c.args) {
		if !strings.HasPrefix(word, "[") {
			needed++
		}
	}
	if len(t.args) > want && !strings.HasSuffix(c.args, "...]") {
		// The extra word is not repeated: it may be a secret.
		return &usageError{
			fmt.Sprintf("%s takes %s, and there is more on the command line", c.name(), words(c.args)),
			"secrets are read from a prompt or from standard input, never from an argument; bouncer " + c.name() + " -h shows an example",
		}
	}
	if len(t.args) < needed {
		return &usageError{fmt.Sprintf("%s needs %s", c.name(), words(c.args)), "as in: " + strings.SplitN(c.example, "\n", 2)[0]}
	}
	if !c.local {
		var err error
		if t.client, err = e.connect(address); err != nil {
			return err
		}
	}
	return inFlags(c.run(ctx, t), fs)
}

func words(args string) string {
	if args == "" {
		return "no arguments"
	}
	return args
}

func (c command) help(e *Env, fs *flag.FlagSet) error {
	usage := strings.TrimSpace("bouncer "+c.name()+" "+c.args) + " [flags]"
	if c.rest != "" {
		usage += " [-- " + c.rest + "]"
	}
	fmt.Fprintf(e.Out, "Usage: %s\n\n%s.\n", usage, c.short)
	if c.long != "" {
		fmt.Fprintf(e.Out, "%s\n", c.long)
	}
	fmt.Fprintf(e.Out, "\nExample:\n  %s\n", strings.ReplaceAll(c.example, "\n", "\n  "))
	some := false
	fs.VisitAll(func(*flag.Flag) { some = true })
	if !some {
		return nil
	}
	fmt.Fprint(e.Out, "\nFlags:\n")
	w := tabwriter.NewWriter(e.Out, 0, 0, 3, ' ', 0)
	fs.VisitAll(func(f *flag.Flag) {
		kind, text := flag.UnquoteUsage(f)
		text = strings.TrimPrefix(text, kind+": ")
		if f.DefValue != "" && f.DefValue != "false" {
			text += " (default " + f.DefValue + ")"
		}
		fmt.Fprintf(w, "  --%s\t%s\n", strings.TrimSpace(f.Name+" "+kind), text)
	})
	return w.Flush()
}

// table writes rows in aligned columns; empty cells become a dash.
func (t *task) table(head []string, rows [][]string) error {
	w := tabwriter.NewWriter(t.Out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, strings.Join(head, "\t"))
	for _, r := range rows {
		for i := range r {
			if r[i] == "" {
				r[i] = "-"
			}
			r[i] = terminal.Line(r[i]) // what others say must not look like further rows
		}
		fmt.Fprintln(w, strings.Join(r, "\t"))
	}
	return w.Flush()
}

// secret reads a secret from standard input, or asks for it on a terminal.
func (t *task) secret(prompt string) (string, error) {
	if t.Terminal() {
		fmt.Fprintf(t.Err, "%s: ", prompt)
		v, err := t.ReadSecret()
		fmt.Fprintln(t.Err)
		return v, err
	}
	raw, err := io.ReadAll(io.LimitReader(t.In, 64<<10))
	if err != nil {
		return "", err
	}
	if v := strings.TrimRight(string(raw), "\r\n"); v != "" {
		return v, nil
	}
	return "", &usageError{"standard input is empty, and the secret was expected there", "pipe it in, as in: bouncer ... < token.txt"}
}

// line asks for a line of text on a terminal.
func (t *task) line(prompt string) (string, error) {
	fmt.Fprintf(t.Err, "%s: ", prompt)
	var b []byte
	one := make([]byte, 1)
	for len(b) < 1000 {
		n, err := t.In.Read(one)
		if n == 1 && one[0] == '\n' {
			break
		}
		b = append(b, one[:n]...)
		if err != nil {
			if len(b) == 0 {
				return "", err
			}
			break
		}
	}
	return strings.TrimSpace(string(b)), nil
}
