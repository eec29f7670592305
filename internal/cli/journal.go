package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/gate"
)

func journalCommands() []command {
	var filter callFilter
	var follow bool
	var limit int
	return []command{
		{
			noun: "journal", short: "List calls, newest last; --follow shows them as they happen",
			example: "bouncer journal --agent marit-quill --outcome refused --follow",
			flags: func(f *flag.FlagSet) {
				filter.define(f)
				f.IntVar(&limit, "limit", 50, "how `many`, 1 to 500")
				f.BoolVar(&follow, "follow", false, "go on with calls as they happen, until interrupted")
			},
			run: func(ctx context.Context, t *task) error {
				query, err := filter.query()
				if err != nil {
					return err
				}
				return showJournal(ctx, t, query, limit, follow)
			},
		},
		{
			noun: "journal", verb: "state", short: "Show whether calls are recorded, and how much is kept", example: "bouncer journal state",
			run: func(ctx context.Context, t *task) error {
				return fetch(ctx, t, "/api/journal", t.view().showJournalState)
			},
		},
		{
			noun: "journal", verb: "show", args: "ID", short: "Show one call in full", example: "bouncer journal show 01KAS3V4M0W5Z4T7Q2R8X9Y1AB",
			run: func(ctx context.Context, t *task) error {
				return fetch(ctx, t, "/api/calls/"+seg(t.args[0]), t.view().showCall)
			},
		},
		journalCountCommand(),
		journalExportCommand(),
		journalHeadCommand(),
		journalVerifyCommand(),
	}
}

func journalHeadCommand() command {
	return command{
		noun: "journal", verb: "head", short: "Write the newest seal of the journal, signed, to be kept elsewhere",
		long: `Calls are sealed in a chain of hashes as they are recorded. A head that is kept where
nobody who rules this machine can write shows later whether anything was altered,
removed or put in until then.`,
		example: "bouncer journal head > journal-head.json",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/journal/head", func(h team.SignedHead) error { return t.writeJSON(h) })
		},
	}
}

func journalVerifyCommand() command {
	var path string
	return command{
		noun: "journal", verb: "verify", short: "Verify that no recorded call was altered, removed or put in",
		long: `Every seal is held against its calls and the seal before. With --head the chain has to go
through the seal that was kept. Nodes of a cluster keep heads of each other's journals, and
it has to go through those too; each node has a journal of its own, and all are verified. What was
removed for its age is no gap: the chain begins behind it. Exit code: 0 when all is whole, 1 when
something is not.`,
		example: "bouncer journal verify --head journal-head.json",
		flags: func(f *flag.FlagSet) {
			f.StringVar(&path, "head", "", "`file` that bouncer journal head wrote, or - for standard input")
		},
		run: func(ctx context.Context, t *task) error {
			var kept team.SignedHead
			if path != "" {
				text, err := t.file(path)
				if err != nil {
					return err
				}
				if json.Unmarshal([]byte(text), &kept) != nil || kept.Seal == 0 {
					return &usageError{"the file " + path + " holds no head", "bouncer journal head writes one"}
				}
			}
			var v team.ChainState
			if err := t.client.Do(ctx, http.MethodPost, "/api/journal/verification", kept, &v); err != nil {
				return err
			}
			show := t.view().showChain
			if t.json {
				show = func(v team.ChainState) error { return t.writeJSON(v) }
			}
			if err := show(v); err != nil {
				return err
			}
			return verdictOf(v, kept)
		},
	}
}

// verdictOf is what to end with after verifying the journals of all nodes, against a head that was
// kept if there is one.
func verdictOf(v team.ChainState, kept team.SignedHead) error {
	const hint = "compare it with a copy that bouncer backup wrote"
	held := kept.Seal == 0 || kept.Node == ""
	for _, c := range append([]team.ChainState{v}, v.Others...) {
		held = held || c.Node == "" || c.Node == kept.Node
		switch {
		case c.Whole:
		case c.Node == "":
			return &failure{exitFailure, "the journal was altered", hint}
		default:
			return &failure{exitFailure, "the journal of " + c.Node + " was altered", hint}
		}
	}
	if !held {
		return &failure{
			exitFailure, "the head is that of the journal of " + kept.Node + ", which was not verified: that node did not answer",
			"see who is there with bouncer node list, and try again",
		}
	}
	return nil
}

func (t view) showChain(v team.ChainState) error {
	for _, c := range append([]team.ChainState{v}, v.Others...) {
		t.showOneChain(c)
	}
	return nil
}

func (t view) showOneChain(v team.ChainState) {
	whose := "the journal"
	if v.Node != "" {
		whose += " of " + v.Node
	}
	switch {
	case v.Whole && v.Seals == 0 && v.Dropped == 0:
		fmt.Fprintf(t.Out, "%s has no sealed calls yet\n", whose)
	case v.Whole:
		fmt.Fprintf(t.Out, "%s is whole, with %d calls up to %s (seals: %d)\n", whose, v.Records, clock(v.Head.At), v.Seals)
	default:
		fmt.Fprintf(t.Out, "%s was altered\n", whose)
	}
	if v.Kept > 0 {
		fmt.Fprintf(t.Out, "  held against what the nodes of the cluster keep of it (heads: %d)\n", v.Kept)
	}
	if v.KeptBefore > 0 {
		fmt.Fprintf(t.Out, "  they also keep something of a journal that this node had before it began anew (heads: %d)\n", v.KeptBefore)
	}
	if v.Dropped > 0 {
		fmt.Fprintf(t.Out, "  calls up to seal %d were removed for their age\n", v.Dropped)
	}
	if v.Unsealed > 0 {
		fmt.Fprintf(t.Out, "  %d calls are older than the first seal and not covered\n", v.Unsealed)
	}
	for _, p := range v.Problems {
		fmt.Fprintf(t.Out, "  seal %d of %s: %s\n", p.Seal, clock(p.At), p.What)
	}
}

func showJournal(ctx context.Context, t *task, v url.Values, limit int, follow bool) error {
	v.Set("limit", strconv.Itoa(limit))
	// What happens between the list and the first event must not be missed, so
	// the events are listened to first.
	var events <-chan struct{}
	if follow {
		var err error
		var stop context.CancelFunc
		ctx, stop = context.WithCancel(ctx)
		defer stop()
		if events, err = t.client.Listen(ctx, "calls"); err != nil {
			return err
		}
	}
	var list []team.Call
	if err := t.client.Get(ctx, "/api/calls?"+v.Encode(), &list); err != nil {
		return err
	}
	slices.Reverse(list)
	if !follow {
		if t.json {
			return t.writeJSON(list)
		}
		if len(list) == 0 {
			return t.done("no calls; run an assistant that is enrolled, or widen the filter")
		}
		return t.view().calls(list, true)
	}
	head, after := true, ""
	for {
		if len(list) > 0 {
			after = list[len(list)-1].ID
		}
		if err := t.view().followed(list, head); err != nil {
			return err
		}
		head = head && len(list) == 0
		if len(list) < pageSize {
			if _, open := <-events; !open {
				if ctx.Err() != nil {
					return nil
				}
				return &failure{exitNoService, "the service ended the stream of events", "run the command again"}
			}
		}
		w := url.Values{}
		for k, x := range v {
			w[k] = x
		}
		w.Set("limit", strconv.Itoa(pageSize))
		w.Del("since")
		if after != "" {
			w.Set("after", after)
		} else {
			w.Set("since", time.Now().Add(-time.Minute).UTC().Format(time.RFC3339))
		}
		list = nil
		if err := t.client.Get(ctx, "/api/calls?"+w.Encode(), &list); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		if after == "" {
			slices.Reverse(list)
		}
	}
}

// pageSize is the most calls that the service returns at once.
const pageSize = 500

func (t view) followed(list []team.Call, head bool) error {
	if !t.json {
		if len(list) == 0 {
			return nil
		}
		return t.calls(list, head)
	}
	for _, c := range list { // one object a line, for programs that read along
		raw, err := json.Marshal(c)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(t.Out, "%s\n", raw); err != nil {
			return err
		}
	}
	return nil
}

// calls writes calls in columns of fixed width, so that later lines of --follow
// fit under the first ones.
func (t view) calls(list []team.Call, head bool) error {
	const format = "%-14s  %-15s %-13s %-22s %-8s %-11s %9s  %s\n"
	if head {
		fmt.Fprintf(t.Out, format, "TIME", "AGENT", "SERVER", "TOOL", "DECISION", "OUTCOME", "TOOK", "ID / ERROR")
	}
	room := 120
	if w := t.Width(); w > 0 {
		room = w - 130 // what the other columns take
	}
	for _, c := range list {
		note := c.ID
		if c.Times > 1 {
			note += fmt.Sprintf("  %d times", c.Times)
		}
		if c.Error != "" && room > 15 {
			note += "  " + clip(c.Error, room)
		}
		server := c.Server
		if server == "" {
			server = "-"
		}
		row := []any{short(c.At), clip(c.Agent, 15), clip(server, 13), clip(c.Tool, 22), c.Decision, c.Outcome, took(c.Micros), note}
		if _, err := fmt.Fprintf(t.Out, format, row...); err != nil {
			return err
		}
	}
	return nil
}

// short is a time that leaves out the day when it is today.
func short(at time.Time) string {
	at = at.Local()
	if at.Format(time.DateOnly) == time.Now().Format(time.DateOnly) {
		return at.Format(time.TimeOnly)
	}
	return at.Format("01-02 15:04:05")
}

func took(us int64) string {
	switch {
	case us < 1000:
		return fmt.Sprintf("%d µs", us)
	case us < 10_000_000:
		return fmt.Sprintf("%.1f ms", float64(us)/1000)
	}
	return fmt.Sprintf("%.1f s", float64(us)/1e6)
}

func (t view) showJournalState(s team.JournalState) error {
	state := "calls are recorded"
	if !s.Recording {
		state = "CALLS ARE NOT RECORDED: " + s.Why
		if s.Since != nil {
			state += " since " + clock(*s.Since)
		}
	}
	keeps := "without a bound"
	switch {
	case s.KeepDays > 0 && s.KeepBytes > 0:
		keeps = fmt.Sprintf("for %d days, and until the database has %d MiB", s.KeepDays, s.KeepBytes>>20)
	case s.KeepDays > 0:
		keeps = fmt.Sprintf("for %d days", s.KeepDays)
	case s.KeepBytes > 0:
		keeps = fmt.Sprintf("until the database has %d MiB", s.KeepBytes>>20)
	}
	for _, r := range [][2]string{
		{"state", state},
		{"mode", s.Mode},
		{"lost", fmt.Sprintf("%d calls since the start ran and could not be recorded", s.Lost)},
		{"kept", keeps},
		{"size", fmt.Sprintf("%.1f MiB", float64(s.Bytes)/(1<<20))},
	} {
		fmt.Fprintf(t.Out, "  %-6s %s\n", r[0], r[1])
	}
	return nil
}

func doorCommand() command {
	return command{
		noun: "journal", verb: "door", short: "Show who came without a valid pass since the start, the latest last", example: "bouncer journal door",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/turned-away", func(list []team.TurnedAway) error {
				if len(list) == 0 {
					return t.done("nobody was turned away since the start")
				}
				var rows [][]string
				for _, a := range slices.Backward(list) {
					rows = append(
						rows,
						[]string{clock(a.Last), a.Cause, strconv.Itoa(a.Times), a.From, clip(a.Client, 40), a.Agent, a.Server},
					)
				}
				return t.table([]string{"LAST", "CAUSE", "TIMES", "FROM", "CLIENT", "AGENT", "SERVER"}, rows)
			})
		},
	}
}

func limitsCommand() command {
	return command{
		noun: "limits", short: "Show how much is in use of everything that is bounded", example: "bouncer limits",
		run: func(ctx context.Context, t *task) error {
			return fetch(ctx, t, "/api/limits", func(list []gate.Usage) error {
				var rows [][]string
				for _, u := range list {
					number := func(n int64) string {
						switch {
						case n == 0:
							return ""
						case strings.HasPrefix(u.What, "bytes"):
							return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
						}
						return strconv.FormatInt(n, 10)
					}
					now := number(u.Now)
					if now == "" {
						now = "0"
					}
					rows = append(rows, []string{
						u.What, now, number(u.Most), number(u.Limit), number(u.Person), number(u.Agent), strconv.FormatInt(u.Refused, 10),
					})
				}
				return t.table([]string{"WHAT", "NOW", "MOST", "LIMIT", "PER PERSON", "PER AGENT", "REFUSED"}, rows)
			})
		},
	}
}

// controlWords say what rules had to do with a call.
func controlWords(c *team.CallControl) string {
	if c == nil {
		return ""
	}
	parts := []string{}
	if len(c.Narrowed) > 0 {
		parts = append(parts, "narrowed by "+strings.Join(c.Narrowed, ", "))
	}
	if c.Held != "" {
		text := "held by " + c.Held
		if c.By != "" {
			text += ", decided by " + c.By + " (" + c.How + ")"
		} else if c.How != "" {
			text += " (" + c.How + ")"
		}
		if c.Word != "" {
			text += ": " + c.Word
		}
		parts = append(parts, text)
	}
	if c.Hidden > 0 {
		parts = append(parts, fmt.Sprintf("%d fields of the result hidden", c.Hidden))
	}
	if c.Budget != "" {
		parts = append(parts, "over budget "+c.Budget)
	}
	return strings.Join(parts, "; ")
}

func (t view) showCall(c team.Call) error {
	who := c.Person
	if who == "" {
		who = "the team"
	}
	rule := c.RuleName
	if rule == "" {
		rule = c.Rule
	}
	if rule == "" {
		rule = "none"
	}
	for _, r := range [][2]string{
		{"id", c.ID},
		{"time", clock(c.At)},
		{"agent", c.Agent + " of " + who},
		{"server", c.Server},
		{"tool", c.Tool},
		{"decision", c.Decision + ", rule " + rule},
		{"control", controlWords(c.Control)},
		{"outcome", c.Outcome},
		{"times", map[bool]string{true: fmt.Sprintf("%d, within a minute", c.Times)}[c.Times > 1]},
		{"error", c.Error},
		{"took", took(c.Micros)},
		{"sizes", count(c.BytesIn) + " in, " + count(c.BytesOut) + " out"},
		{"arguments", c.Arguments}, {"result", c.Result},
	} {
		if r[1] != "" {
			fmt.Fprintf(t.Out, "  %-10s %s\n", r[0], clip(r[1], 10_000))
		}
	}
	if c.Cut {
		fmt.Fprintln(t.Out, "  (arguments or result are longer than what is kept)")
	}
	return nil
}
