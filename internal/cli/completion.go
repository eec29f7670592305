package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/near"
	"bouncer/internal/core/team"
)

// scripts have a shell ask bouncer itself what can follow: the words that are typed so far
// are given after --, and each line that comes back is one that fits.
var scripts = map[string]string{
	"bash": `# Completion of bouncer for bash: source <(bouncer completion bash)
_bouncer() {
    local IFS=$'\n'
    COMPREPLY=($(bouncer completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _bouncer bouncer
`,
	"zsh": `#compdef bouncer
# Completion of bouncer for zsh: source <(bouncer completion zsh)
_bouncer() {
    local -a found
    found=(${(f)"$(bouncer completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)"})
    if (( ${#found} )); then
        compadd -- $found
    else
        _files
    fi
}
compdef _bouncer bouncer
`,
	"fish": `# Completion of bouncer for fish: bouncer completion fish | source
function __bouncer_words
    set -l typed (commandline -opc) (commandline -ct)
    bouncer completion words -- $typed[2..-1] 2>/dev/null
end
complete -c bouncer -a '(__bouncer_words)'
`,
}

// suggestTime is how long the service is asked for names while somebody types.
const suggestTime = 500 * time.Millisecond

func completionCommands() []command {
	return []command{{
		noun: "completion", args: "SHELL", rest: "WORDS...", local: true, short: "Write what has a shell complete commands, flags and names",
		long: `The shell is bash, zsh or fish. Its script asks bouncer itself what can follow, so that
names of servers and agents are those of the service that you are signed in at.`,
		example: "source <(bouncer completion bash)",
		run: func(ctx context.Context, t *task) error {
			if t.args[0] == "words" {
				for _, word := range t.suggest(ctx, t.rest) {
					fmt.Fprintln(t.Out, word)
				}
				return nil
			}
			script, ok := scripts[t.args[0]]
			if !ok {
				hint := "it is bash, zsh or fish"
				if best := near.Nearest(t.args[0], []string{"bash", "zsh", "fish"}); best != "" {
					hint = "perhaps " + best + " was meant"
				}
				return &usageError{"there is no completion for " + t.args[0], hint}
			}
			_, err := fmt.Fprint(t.Out, script)
			return err
		},
	}}
}

// suggest are the words that fit as the last one of those that are typed.
func (t *task) suggest(ctx context.Context, typed []string) []string {
	if len(typed) == 0 {
		typed = []string{""}
	}
	last := typed[len(typed)-1]
	c, before, found := commandOf(typed[:len(typed)-1])
	var out []string
	switch {
	case !found:
		out = next(typed[:len(typed)-1])
	case strings.HasPrefix(last, "-"):
		c.eachFlag(func(f *flag.Flag) { out = append(out, "--"+f.Name) })
	default:
		out = t.named(ctx, c.wants(before))
		if len(before) == 0 && c.verb == "" {
			out = append(out, next(typed[:len(typed)-1])...)
		}
	}
	out = slices.DeleteFunc(out, func(word string) bool { return word == "" || !strings.HasPrefix(word, last) })
	slices.Sort(out)
	return slices.Compact(out)
}

// commandOf is the command that words begin with, and what follows its name.
func commandOf(words []string) (c command, rest []string, ok bool) {
	for _, c := range commands() {
		name := strings.Fields(c.name())
		if len(words) >= len(name) && slices.Equal(words[:len(name)], name) && (c.verb != "" || !ok) {
			rest, ok = words[len(name):], true
			if c.verb != "" {
				return c, rest, true
			}
		}
	}
	if !ok {
		return c, nil, false
	}
	for _, c := range commands() {
		if c.noun == words[0] && c.verb == "" {
			return c, rest, true
		}
	}
	return c, nil, false
}

// next are the nouns, or the verbs of a noun.
func next(words []string) (out []string) {
	for _, c := range commands() {
		switch {
		case len(words) == 0:
			out = append(out, c.noun)
		case len(words) == 1 && c.noun == words[0]:
			out = append(out, c.verb)
		}
	}
	return out
}

// eachFlag goes through the flags of a command, with those that every one has.
func (c command) eachFlag(fn func(*flag.Flag)) {
	fs := flag.NewFlagSet(c.name(), flag.ContinueOnError)
	if !c.local {
		fs.String("address", "", "base `URL` of the service")
		fs.Bool("json", false, "write JSON for programs")
	}
	if c.flags != nil {
		c.flags(fs)
	}
	fs.VisitAll(fn)
}

// wants is what the next word of a command stands for: the name in its usage line, or the
// kind of value of the flag before it; "" for nothing that could be named here.
func (c command) wants(before []string) string {
	place, kind := 0, ""
	values := map[string]string{}
	c.eachFlag(func(f *flag.Flag) {
		if b, ok := f.Value.(interface{ IsBoolFlag() bool }); !ok || !b.IsBoolFlag() {
			values[f.Name], _ = flag.UnquoteUsage(f)
		}
	})
	for i := 0; i < len(before); i++ {
		word := before[i]
		if !strings.HasPrefix(word, "-") {
			place++
			continue
		}
		name, _, given := strings.Cut(strings.TrimLeft(word, "-"), "=")
		if v, takes := values[name]; takes && !given {
			if i++; i == len(before) {
				kind = v
			}
		}
	}
	if kind != "" {
		return strings.ToUpper(kind)
	}
	args := strings.Fields(strings.NewReplacer("[", "", "]", "", "...", "").Replace(c.args))
	if place >= len(args) {
		return ""
	}
	if args[place] == "NAME" {
		return strings.ToUpper(c.noun)
	}
	return args[place]
}

// named are the names of what is wanted, as the service knows them. Nobody is told that it
// cannot be asked: whoever types is not to be interrupted.
func (t *task) named(ctx context.Context, what string) (out []string) {
	service, err := t.connect("")
	if err != nil {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, suggestTime)
	defer stop()
	switch what {
	case "SERVER":
		var list []apitype.ServerInfo
		_ = service.Get(ctx, "/api/servers", &list)
		for _, s := range list {
			out = append(out, s.Name)
		}
	case "AGENT":
		var list []team.Agent
		_ = service.Get(ctx, "/api/agents", &list)
		for _, a := range list {
			out = append(out, a.Name)
		}
	case "PERSON":
		var list []team.Person
		_ = service.Get(ctx, "/api/people", &list)
		for _, p := range list {
			out = append(out, p.Name)
		}
	case "RULE":
		var list []team.Rule
		_ = service.Get(ctx, "/api/rules", &list)
		for _, r := range list {
			out = append(out, r.Name)
		}
	case "SECRET":
		var list []team.Secret
		_ = service.Get(ctx, "/api/secrets", &list)
		for _, s := range list {
			out = append(out, s.Name)
		}
	case "SHELL":
		out = []string{"bash", "zsh", "fish"}
	}
	return out
}
