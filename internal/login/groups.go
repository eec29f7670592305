package login

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// maxGroups bounds the groups of one person that are kept.
const maxGroups = 100

// keepGroups notes the groups that the identity provider says somebody is in, for rules
// to go by. Names that a rule could not hold are left out.
func (svc *Service) keepGroups(ctx context.Context, p team.Person, said []string) error {
	groups := []string{}
	for _, g := range said {
		g = strings.ToLower(strings.TrimSpace(g))
		if rules.CheckLabel("group", g) == nil && !slices.Contains(groups, g) && len(groups) < maxGroups {
			groups = append(groups, g)
		}
	}
	slices.Sort(groups)
	list, err := svc.store.Control().Labels(ctx)
	if err != nil {
		return fmt.Errorf("read the groups of %s: %w", p.Name, err)
	}
	before := []string{}
	for _, l := range list {
		if l.Kind == team.OnPerson && l.Subject == p.ID && l.Source == team.FromLogin {
			before = append(before, l.Label)
		}
	}
	slices.Sort(before)
	if slices.Equal(before, groups) {
		return nil
	}
	return svc.registry.Write(ctx, registry.Change{
		By: p, What: "person.groups", Subject: p.Name, Before: strings.Join(before, ", "), After: strings.Join(groups, ", "),
		Topics: []string{"people", "labels", "rules"},
	}, func(tx *store.Tx) error { return tx.SetLabels(team.OnPerson, p.ID, "", team.FromLogin, groups) })
}
