package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/span"
)

// several is a flag that may be given more than once.
type several []string

func (s *several) String() string { return strings.Join(*s, ", ") }

func (s *several) Set(text string) error {
	*s = append(*s, text)
	return nil
}

// termFlags are the flags for what a rule can say besides its effect and its globs.
type termFlags struct {
	terms                  rules.Terms
	when, narrow           string
	begins, ends, holdFor  string
	pins, drop, hide, mask several
	they                   several
	disable, enable        bool
}

// texts are the flags that hold a text.
func (f *termFlags) texts() []struct {
	name, usage string
	of          func(*rules.Terms) *string
} {
	type row = struct {
		name, usage string
		of          func(*rules.Terms) *string
	}
	return []row{
		{"person", "only agents of this `person`", func(t *rules.Terms) *string { return &t.Person }},
		{"role", "only agents of people with this `role`", func(t *rules.Terms) *string { return &t.Role }},
		{"group", "only agents of people in this `group`", func(t *rules.Terms) *string { return &t.Group }},
		{"label", "only agents with this `label`", func(t *rules.Terms) *string { return &t.Label }},
		{"server-label", "only servers with this `label`", func(t *rules.Terms) *string { return &t.ServerLabel }},
		{"hint", "only tools of this `kind`: read-only, destructive, idempotent, open-world, or not-...",
			func(t *rules.Terms) *string { return &t.Hint }},
		{"tag", "only tools with this `tag`", func(t *rules.Terms) *string { return &t.Tag }},
		{"bundle", "only tools of this `bundle`", func(t *rules.Terms) *string { return &t.Bundle }},
		{"window", "`times` at which it holds, like 'mon-fri 22:00-06:00 Europe/Oslo'", func(t *rules.Terms) *string { return &t.Window }},
		{"client", "`glob` over what the program calls itself", func(t *rules.Terms) *string { return &t.Client }},
		{"revision", "`glob` over the revision of the protocol", func(t *rules.Terms) *string { return &t.Revision }},
		{"network", "`range` of addresses that requests come from, like 10.20.0.0/16", func(t *rules.Terms) *string { return &t.Network }},
		{"presence", "whether the agent's person is `there`: present or unattended", func(t *rules.Terms) *string { return &t.Presence }},
		{"title", "`title` that agents are shown instead", func(t *rules.Terms) *string { return &t.Title }},
		{"description", "`text` that agents are shown instead of the description", func(t *rules.Terms) *string { return &t.Description }},
	}
}

func (f *termFlags) add(fs *flag.FlagSet) {
	for _, row := range f.texts() {
		fs.StringVar(row.of(&f.terms), row.name, "", row.usage)
	}
	fs.StringVar(&f.when, "when", "", "`schema` (JSON Schema) that the arguments have to fit, or @FILE")
	fs.StringVar(&f.narrow, "narrow", "", "`schema` laid over the arguments: shown to agents and enforced, or @FILE")
	fs.StringVar(&f.begins, "begins", "", "`when` it begins: fri 18:00, 2026-12-04 18:00, 3d")
	fs.StringVar(&f.ends, "ends", "", "`when` it ends by itself")
	fs.Var(
		&f.pins,
		"pin",
		"`NAME=VALUE`: an argument that Bouncer fills in; VALUE is JSON or a text, which may hold ${person}, ${agent}, ${label:NAME}; can be repeated",
	)
	fs.Var(&f.hide, "hide", "`field` taken out of results, like items.*.address; can be repeated")
	fs.Var(&f.mask, "mask", "`field` of results whose text is replaced by stars; can be repeated")
	fs.IntVar(&f.terms.ResultKiB, "result-kib", 0, "results are cut to so many `KiB`")
	fs.IntVar(&f.terms.Order, "order", 0, "its `place` in lists, the smallest first; it decides nothing")
	fs.StringVar(&f.holdFor, "hold-for", "", "how `long` a held call waits; 5m if left out")
	fs.Var(&f.they, "decider", "who decides held calls: `group:NAME`, role:NAME or person:NAME; can be repeated")
	fs.BoolVar(&f.terms.OwnDecides, "own-decides", false, "the agent's own person may decide too")
	fs.BoolVar(&f.terms.AsksUser, "asks-user", false, "the agent's own user is asked instead, through the assistant, where it can ask")
	fs.BoolVar(&f.disable, "disable", false, "keep it, but have it decide nothing")
}

// fill puts what was given over the terms that there are, and reports whether anything was.
func (f *termFlags) fill(t *task, terms *rules.Terms) (bool, error) {
	some := false
	take := func(name string, set func() error) error {
		if !t.given[name] {
			return nil
		}
		some = true
		return set()
	}
	for _, row := range f.texts() {
		_ = take(row.name, func() error { *row.of(terms) = *row.of(&f.terms); return nil })
	}
	steps := []struct {
		name string
		set  func() error
	}{
		{"when", func() (err error) { terms.When, err = t.schema("when", f.when); return err }},
		{"narrow", func() (err error) { terms.Narrow, err = t.schema("narrow", f.narrow); return err }},
		{"begins", func() (err error) { terms.Begins, err = moment("begins", f.begins); return err }},
		{"ends", func() (err error) { terms.Ends, err = moment("ends", f.ends); return err }},
		{"pin", func() error { return f.pin(terms) }},
		{"drop-pin", func() error { return f.dropPins(terms) }},
		{"hide", func() error { terms.Hide = listOf(f.hide); return nil }},
		{"mask", func() error { terms.Mask = listOf(f.mask); return nil }},
		{"result-kib", func() error { terms.ResultKiB = f.terms.ResultKiB; return nil }},
		{"order", func() error { terms.Order = f.terms.Order; return nil }},
		{"hold-for", func() error { return f.hold(terms) }},
		{"decider", func() error { terms.Deciders = listOf(f.they); return nil }},
		{"own-decides", func() error { terms.OwnDecides = f.terms.OwnDecides; return nil }},
		{"asks-user", func() error { terms.AsksUser = f.terms.AsksUser; return nil }},
		{"disable", func() error { terms.Disabled = f.disable; return nil }},
		{"enable", func() error { terms.Disabled = !f.enable; return nil }},
	}
	for _, s := range steps {
		if err := take(s.name, s.set); err != nil {
			return false, err
		}
	}
	return some, nil
}

// listOf is what a flag was given, where ” alone stands for nothing.
func listOf(s several) []string {
	return slices.DeleteFunc(slices.Clone(s), func(v string) bool { return v == "" })
}

func (f *termFlags) pin(terms *rules.Terms) error {
	pins := map[string]json.RawMessage{}
	for name, v := range terms.Pins {
		pins[name] = v
	}
	for _, p := range f.pins {
		name, value, ok := strings.Cut(p, "=")
		if !ok || name == "" {
			return &usageError{"--pin needs NAME=VALUE", "as in: --pin port=Skerrow"}
		}
		raw := json.RawMessage(value)
		if !json.Valid(raw) {
			// A text without quotes is what people type.
			raw, _ = json.Marshal(value)
		}
		pins[name] = raw
	}
	terms.Pins = pins
	return nil
}

func (f *termFlags) dropPins(terms *rules.Terms) error {
	pins := map[string]json.RawMessage{}
	for name, v := range terms.Pins {
		pins[name] = v
	}
	for _, name := range f.drop {
		if _, has := pins[name]; !has {
			return &usageError{"the rule pins no argument " + name, "bouncer rule show NAME shows what it pins"}
		}
		delete(pins, name)
	}
	terms.Pins = pins
	return nil
}

func (f *termFlags) hold(terms *rules.Terms) error {
	if f.holdFor == "" {
		terms.HoldSeconds = 0
		return nil
	}
	d, err := span.Parse(f.holdFor)
	if err != nil || d < time.Second {
		return &usageError{fmt.Sprintf("--hold-for is %q, which is no length of time", f.holdFor), "as in: --hold-for 10m"}
	}
	terms.HoldSeconds = int(d / time.Second)
	return nil
}

// schema reads a schema from the command line, or from a file named with @.
func (t *task) schema(name, text string) (json.RawMessage, error) {
	if path, from := strings.CutPrefix(text, "@"); from {
		var err error
		if text, err = t.file(path); err != nil {
			return nil, err
		}
	}
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	if !json.Valid([]byte(text)) {
		return nil, &usageError{
			"--" + name + " is no JSON",
			`put it in single quotes, as in: --` + name + ` '{"properties":{"litres":{"maximum":5000}}}', or name a file: @schema.json`,
		}
	}
	return json.RawMessage(text), nil
}

func moment(name, text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	at, err := span.Moment(text, time.Now())
	if err != nil {
		return nil, &usageError{"--" + name + ": " + err.Error(), "as in: --" + name + " 'fri 18:00'"}
	}
	at = at.UTC()
	return &at, nil
}

func ruleShowCommand() command {
	return command{
		noun: "rule", verb: "show", args: "NAME", short: "Show everything that a rule says, what it matches now, and what is odd about it",
		example: "bouncer rule show refuse-order-on-fuel",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/rules/"+seg(t.args[0]), t.view().showRule)
		},
	}
}

func (t view) showRule(r apitype.RuleInfo) error {
	pins := []string{}
	for name, v := range r.Pins {
		pins = append(pins, name+"="+string(v))
	}
	slices.Sort(pins)
	state := "in force"
	if r.Matches.Off != "" {
		state = "not in force: " + r.Matches.Off
	}
	for _, row := range [][2]string{
		{"name", r.Name}, {"id", r.ID}, {"says", r.Core("").Describe()}, {"state", state}, {"matches", r.Matches.Text},
		{"decided", fmt.Sprintf("%d calls in the last 7 days", r.Decided)},
		{"when", string(r.When)}, {"narrow", string(r.Narrow)}, {"pins", strings.Join(pins, ", ")}, {"hide", strings.Join(r.Hide, ", ")},
		{"mask", strings.Join(r.Mask, ", ")},
		{"title", r.Title}, {"description", r.Description},
		{"hold", map[bool]string{true: "for " + span.Text(r.Core("").HoldFor())}[r.Effect == string(rules.Hold)]},
		{"note", r.Note}, {"by", r.By},
	} {
		if row[1] != "" {
			fmt.Fprintf(t.Out, "  %-12s %s\n", row[0], clip(row[1], 4000))
		}
	}
	return t.warn(r.Warnings)
}

// warn tells what is odd about a rule.
func (t *task) warn(warnings []string) error {
	for _, w := range warnings {
		fmt.Fprintf(t.Out, "  note         %s\n", w)
	}
	return nil
}

func ruleExplainCommand() command {
	var in apitype.ExplainQuery
	var arguments string
	return command{
		noun: "rule", verb: "explain", args: "AGENT TOOL", short: "Explain whether an agent may use a tool, by which rule, and what would have to change",
		long: `TOOL is the name that agents see, or the server's own together with --server. With
--arguments the call with these arguments is decided, just as if the agent had made it.
Exit code: 0 when it is admitted or held, 1 when it is refused.`,
		example: "bouncer rule explain night-watch sailings__cancel_sailing --arguments '{\"sailing\":\"SK-0715\"}'",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&in.Server, "server", "", "`name` of the server")
			f.StringVar(&arguments, "arguments", "", "`JSON` of a call, or @FILE")
			f.StringVar(&in.Client, "client", "", "what the program calls `itself`")
			f.StringVar(&in.Revision, "revision", "", "`revision` of the protocol that it speaks")
			f.StringVar(&in.From, "from", "", "`address` that the request comes from")
			f.BoolVar(&in.Present, "present", false, "as if the agent's person were there")
		},
		run: func(ctx context.Context, t *task) error {
			in.Agent, in.Tool = t.args[0], t.args[1]
			if t.given["arguments"] {
				raw, err := t.schema("arguments", arguments)
				if err != nil {
					return err
				}
				in.Arguments = raw
			}
			var out apitype.Explained
			if err := t.client.Do(ctx, http.MethodPost, "/api/explanations", in, &out); err != nil {
				return err
			}
			show := t.view().showExplained
			if t.json {
				show = func(e apitype.Explained) error { return t.writeJSON(e) }
			}
			if err := show(out); err != nil {
				return err
			}
			if out.Effect == string(rules.Refuse) {
				return &failure{code: exitFailure}
			}
			return nil
		},
	}
}

func (t view) showExplained(e apitype.Explained) error {
	verb := map[string]string{"admit": "may use", "hold": "may use, once somebody admits the call,", "refuse": "may not use"}[e.Effect]
	fmt.Fprintf(t.Out, "%s %s %s of %s: %s\n", e.Agent, verb, e.Tool, e.Server, e.Why)
	for _, row := range [][2]string{
		{"it is shown", string(e.Input)}, {"filled in", strings.Join(e.Pinned, ", ")}, {"hidden", strings.Join(e.Hidden, ", ")},
	} {
		if row[1] != "" {
			fmt.Fprintf(t.Out, "  %-12s %s\n", row[0], clip(row[1], 4000))
		}
	}
	if len(e.Rules) > 0 {
		fmt.Fprintln(t.Out)
		var rows [][]string
		for _, r := range e.Rules {
			rows = append(rows, []string{r.Name, r.Effect, r.Part, strings.Join(r.Misses, "; ")})
		}
		if err := t.table([]string{"RULE", "EFFECT", "PART", "WHY NOT"}, rows); err != nil {
			return err
		}
	}
	if len(e.Change) > 0 {
		fmt.Fprintln(t.Out, "\nTo change that:")
		for _, c := range e.Change {
			fmt.Fprintf(t.Out, "  %s\n", c)
		}
		fmt.Fprintf(t.Out, "  (ask %s)\n", e.Contacts)
	}
	return nil
}
