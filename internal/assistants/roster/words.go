package roster

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/core/roster"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// words are the labels that somebody set: by kind and id, and of tools by their server's
// id and their name.
type words struct {
	of   map[string][]string
	tags map[string]map[string][]string
}

func (svc *Service) labels(ctx context.Context) (words, error) {
	out := words{map[string][]string{}, map[string]map[string][]string{}}
	list, err := svc.store.Control().Labels(ctx)
	if err != nil {
		return out, fmt.Errorf("read the labels: %w", err)
	}
	for _, l := range list {
		switch {
		case l.Source != "": // the identity provider's to say
		case l.Kind == team.OnTool:
			if out.tags[l.Subject] == nil {
				out.tags[l.Subject] = map[string][]string{}
			}
			out.tags[l.Subject][l.Tool] = append(out.tags[l.Subject][l.Tool], l.Label)
		default:
			out.of[l.Kind+l.Subject] = append(out.of[l.Kind+l.Subject], l.Label)
		}
	}
	return out, nil
}

// stageLabels writes the labels of what a step adds or alters, after the thing itself.
func stageLabels(st *stage, s roster.Step) error {
	set := func(kind, field, tool string, before, after []string) error {
		after = slices.Clone(after)
		slices.Sort(after)
		after = slices.Compact(after)
		for _, l := range after {
			if rules.CheckLabel(field, l) != nil {
				return &team.FieldError{Field: field, Why: fmt.Sprintf("has %.60q, which can be no label", l)}
			}
		}
		if !slices.Equal(before, after) {
			st.writes = append(st.writes, func(tx *store.Tx) error { return tx.SetLabelsOf(kind, s.Name, tool, after) })
		}
		return nil
	}
	switch s.Noun {
	case roster.AgentNoun:
		return set(team.OnAgent, "labels", "", st.now.Agents[s.Name].Labels, st.want.Agents[s.Name].Labels)
	case roster.PersonNoun:
		return set(team.OnPerson, "groups", "", st.now.People[s.Name].Groups, st.want.People[s.Name].Groups)
	}
	now, want := st.now.Servers[s.Name], st.want.Servers[s.Name]
	if err := set(team.OnServer, "labels", "", now.Labels, want.Labels); err != nil {
		return err
	}
	tools := []string{}
	for _, tags := range [...]map[string][]string{now.Tags, want.Tags} {
		for tool := range tags {
			tools = append(tools, tool)
		}
	}
	slices.Sort(tools)
	for _, tool := range slices.Compact(tools) {
		if err := set(team.OnTool, "tags."+tool, tool, now.Tags[tool], want.Tags[tool]); err != nil {
			return err
		}
	}
	return nil
}

// bundles are those that there will be.
func (st *stage) bundles() rules.Bundles {
	out := rules.Bundles{}
	for name, b := range st.now.Bundles {
		if _, named := st.want.Bundles[name]; named || !st.prune || st.want.Bundles == nil {
			out[name] = b.Entries
		}
	}
	for name, b := range st.want.Bundles {
		out[name] = b.Entries
	}
	return out
}

func (svc *Service) stageBundle(ctx context.Context, st *stage, s roster.Step) error {
	list, err := svc.store.Control().Bundles(ctx)
	if err != nil {
		return fmt.Errorf("read the bundles: %w", err)
	}
	at := slices.IndexFunc(list, func(b team.Bundle) bool { return b.Name == s.Name })
	if s.Do == roster.Remove {
		id := list[at].ID
		if by := st.names(s.Name); by != "" {
			return &team.ConflictError{
				Field: "name",
				Why:   "bundle " + s.Name + " is named by " + by,
				Hint:  "alter or remove that in the roster too",
			}
		}
		st.writes = append(st.writes, func(tx *store.Tx) error { return store.Explain(tx.RemoveBundle(id), "bundle", s.Name) })
		return nil
	}
	if err := st.bundles().Check(s.Name); err != nil {
		field, why, _ := strings.Cut(err.Error(), " ")
		return &team.FieldError{Field: field, Why: why}
	}
	b := team.Bundle{ID: team.NewID(), Name: s.Name}
	if at >= 0 {
		b = list[at]
	}
	b.Note, b.Entries = st.want.Bundles[s.Name].Note, st.want.Bundles[s.Name].Entries
	st.writes = append(st.writes, func(tx *store.Tx) error {
		if at >= 0 {
			return store.Explain(tx.UpdateBundle(b), "bundle", s.Name)
		}
		return store.Explain(tx.AddBundle(b), "bundle", s.Name)
	})
	return nil
}

func (svc *Service) stageBudget(ctx context.Context, st *stage, s roster.Step) error {
	list, err := svc.store.Control().Budgets(ctx)
	if err != nil {
		return fmt.Errorf("read the budgets: %w", err)
	}
	at := slices.IndexFunc(list, func(b team.Budget) bool { return b.Name == s.Name })
	if s.Do == roster.Remove {
		id := list[at].ID
		st.writes = append(st.writes, func(tx *store.Tx) error { return store.Explain(tx.RemoveBudget(id), "budget", s.Name) })
		return nil
	}
	b := team.Budget{ID: team.NewID(), Name: s.Name, Version: 1, By: st.by.Name, Created: st.at}
	if at >= 0 {
		b = list[at]
	}
	b.Note, b.Allowance = st.want.Budgets[s.Name].Note, st.want.Budgets[s.Name].Allowance
	var fe *rules.FieldError
	switch err := b.Core().Check(); {
	case errors.As(err, &fe):
		return &team.FieldError{Field: fe.Field, Why: fe.Why}
	case err != nil:
		return fmt.Errorf("check budget %s: %w", s.Name, err)
	}
	st.writes = append(st.writes, func(tx *store.Tx) error {
		if at >= 0 {
			return store.Explain(tx.UpdateBudget(b), "budget", s.Name)
		}
		return store.Explain(tx.AddBudget(b), "budget", s.Name)
	})
	return nil
}

// names tells what will name a bundle: a rule or another bundle.
func (st *stage) names(bundle string) string {
	all := st.want.Rules
	if all == nil {
		all = st.now.Rules
	}
	for name, r := range all {
		if r.Bundle == bundle {
			return "rule " + name
		}
	}
	for name, entries := range st.bundles() {
		if slices.ContainsFunc(entries, func(e rules.Entry) bool { return e.Bundle == bundle }) {
			return "bundle " + name
		}
	}
	return ""
}
