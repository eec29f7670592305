package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/assistants/enrol"
	"bouncer/internal/core/configfile"
	"bouncer/internal/core/dialect"
	"bouncer/internal/core/span"
	"bouncer/internal/core/team"
)

// secretsOf are the secrets of a file of an enrolment; none of one that cannot be read.
func secretsOf(raw []byte, e enrol.Enrolment) []string {
	f, err := configfile.Parse(raw, e.Dialect.Syntax)
	if err != nil {
		return nil
	}
	return secretsIn(f.Root)
}

// facts are what the service says about what was enrolled.
func (t atHome) facts(ctx context.Context) (enrol.Facts, error) {
	var about apitype.About
	if err := t.client.Get(ctx, "/api/about", &about); err != nil {
		return enrol.Facts{}, err
	}
	var servers []apitype.ServerInfo
	if err := t.client.Get(ctx, "/api/servers", &servers); err != nil {
		return enrol.Facts{}, err
	}
	passes := map[string][]team.Pass{}
	return enrol.Facts{
		Address: about.Address, Now: time.Now(),
		Pass: func(agent, id string) (string, time.Time, bool) {
			list, known := passes[agent]
			if !known {
				_ = t.client.Get(ctx, "/api/agents/"+seg(agent)+"/passes", &list) // an agent that is gone has none
				passes[agent] = list
			}
			at := slices.IndexFunc(list, func(p team.Pass) bool { return p.ID == id })
			if at < 0 {
				return "", time.Time{}, false
			}
			return list[at].State, list[at].Expires, true
		},
		Registered: func(e dialect.Entry) string { return registeredAs(servers, e) },
	}, nil
}

// registeredAs is the server that is reached at the address, or started with the
// command, of an entry; "" for none.
func registeredAs(servers []apitype.ServerInfo, e dialect.Entry) string {
	for _, s := range servers {
		if e.URL != "" && strings.TrimRight(s.URL, "/") == strings.TrimRight(e.URL, "/") {
			return s.Name
		}
		if e.Command != "" && s.Command == e.Command && slices.Equal(s.Args, e.Args) {
			return s.Name
		}
	}
	return ""
}

// runCheck tells what is wrong with what was enrolled, and exits with 1 for anything.
func (o *enrolment) runCheck(ctx context.Context, t atHome) error {
	list, err := t.book().List()
	if err != nil {
		return err
	}
	if o.config != "" {
		e, err := t.enrolmentOf(o.config, "")
		if err != nil {
			return err
		}
		list = []enrol.Enrolment{e}
	}
	facts, err := t.facts(ctx)
	if err != nil {
		return err
	}
	var problems []enrol.Problem
	for _, e := range list {
		problems = append(problems, t.machine().Check(e, facts)...)
	}
	if t.json {
		if problems == nil {
			problems = []enrol.Problem{}
		}
		if err := t.writeJSON(problems); err != nil {
			return err
		}
	} else if err := t.showProblems(list, problems); err != nil {
		return err
	}
	if len(problems) > 0 {
		return &failure{
			exitFailure, fmt.Sprintf("%d of %d enrolments have something wrong", affected(problems), len(list)), "each line says what mends it",
		}
	}
	return nil
}

func affected(problems []enrol.Problem) int {
	seen := map[string]bool{}
	for _, p := range problems {
		seen[p.Path] = true
	}
	return len(seen)
}

func (t atHome) showProblems(list []enrol.Enrolment, problems []enrol.Problem) error {
	if len(list) == 0 {
		return t.done("nothing was enrolled on this machine; bouncer enrol AGENT --config FILE does")
	}
	var rows [][]string
	for _, e := range list {
		bad := "in order"
		for _, p := range problems {
			if p.Path == e.Path {
				bad = "see below"
			}
		}
		rows = append(rows, []string{e.Agent, e.Dialect.Name, e.As, e.Path, bad})
	}
	if err := t.table([]string{"AGENT", "DIALECT", "AS", "FILE", "STATE"}, rows); err != nil {
		return err
	}
	for _, p := range problems {
		fmt.Fprintf(t.Out, "\n%s (%s)\n  what: %s\n  fix:  %s\n", p.Path, p.Cause, p.What, p.Fix)
		if p.Mended != "" {
			fmt.Fprintf(t.Out, "  with its end put back it would read:\n%s\n", indented(withoutSecrets(p.Mended)))
		}
	}
	return nil
}

func indented(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n    ")
}

// awaitContact waits until the assistant appears, and says what is seen of it, or what is
// most likely wrong.
func (o *enrolment) awaitContact(ctx context.Context, t atHome, agent string, p plan) error {
	if o.wait == 0 || t.json || (!t.Terminal() && !t.given["wait"]) {
		return nil
	}
	e, err := t.enrolmentOf(p.file.Real, o.entry)
	if err != nil {
		return err
	}
	fmt.Fprintf(t.Err, "waiting for %s to appear, up to %s (Ctrl-C ends the waiting; the file stays)\n", agent, span.Text(o.wait))
	ctx, cancel := context.WithTimeout(ctx, o.wait)
	defer cancel()
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		var seen team.Contact
		if err := t.client.Get(ctx, "/api/agents/"+seg(agent)+"/contact", &seen); err == nil && seen.Last.After(e.At) &&
			seen.Fetched != nil {
			return t.showContact(agent, seen)
		}
		select {
		case <-ctx.Done():
			return t.notSeen(context.WithoutCancel(ctx), agent, e)
		case <-ticker.C:
		}
	}
}

func toolCount(n int) string {
	if n == 1 {
		return "1 tool"
	}
	return fmt.Sprintf("%d tools", n)
}

func (t atHome) showContact(agent string, c team.Contact) error {
	who := strings.TrimSpace(c.Client + " " + c.Version)
	if who == "" {
		who = "an assistant without a name"
	}
	fetched := "and fetched " + toolCount(c.Tools)
	if c.Tools == 0 {
		fetched = "and fetched a list without tools: no rule admits one (bouncer agent reach " + agent + ")"
	}
	return t.done("%s is here: %s, revision %s, %s", agent, who, c.Revision, fetched)
}

// notSeen says what is most likely wrong when an assistant did not appear.
func (t atHome) notSeen(ctx context.Context, agent string, e enrol.Enrolment) error {
	likely := "the assistant was not started, or reads another file"
	if e.Dialect.Restart {
		likely = "it was not restarted since, or reads another file"
	}
	if facts, err := t.facts(ctx); err == nil {
		if problems := t.machine().Check(e, facts); len(problems) > 0 {
			likely = problems[0].What
		}
	}
	var turned []team.TurnedAway
	if err := t.client.Get(ctx, "/api/turned-away", &turned); err == nil {
		for _, away := range turned {
			if away.Last.After(e.At) {
				likely = fmt.Sprintf("somebody came without a valid pass meanwhile (%s, %s): bouncer journal door", away.Cause, away.Client)
			}
		}
	}
	return t.done("%s has not appeared yet. Most likely: %s. Later: bouncer agent show %s", agent, likely, agent)
}

// runWatch keeps an entry in its file, whatever rewrites it.
func (o *enrolment) runWatch(ctx context.Context, t atHome) error {
	e, err := t.enrolmentOf(o.config, o.entry)
	if err != nil {
		return err
	}
	file, err := enrol.Read(e.Path)
	if err != nil {
		return told2(o.config, err)
	}
	f, err := configfile.Parse(file.Raw, e.Dialect.Syntax)
	if err != nil {
		return told2(o.config, err)
	}
	node := f.Find(e.Dialect.At(e.Entry))
	if node == nil {
		return &failure{
			exitFailure,
			"the entry is not in the file now",
			fmt.Sprintf("bouncer enrol %s --config %s --yes", e.Agent, o.config),
		}
	}
	fmt.Fprintf(t.Err, "watching %s (Ctrl-C ends it)\n", o.config)
	keeper := enrol.Keeper{Enrolment: e, Wanted: node.Object(), Every: time.Second}
	return keeper.Run(ctx, func(what string) {
		fmt.Fprintf(t.Err, "%s %s\n", time.Now().Format(time.TimeOnly), what)
	})
}

// withoutSecrets is the text of a JSON file without its secrets.
func withoutSecrets(text string) string {
	f, err := configfile.Parse([]byte(text), configfile.JSON)
	if err != nil {
		return text
	}
	return without(text, secretsIn(f.Root))
}
