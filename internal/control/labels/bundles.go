package labels

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bouncer/internal/apitype"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Bundles returns every bundle, with the tools that it stands for now.
func (svc *Service) Bundles(ctx context.Context) ([]apitype.BundleInfo, error) {
	list, err := svc.store.Control().Bundles(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the bundles: %w", err)
	}
	used, err := svc.store.Control().Rules(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the rules: %w", err)
	}
	out := []apitype.BundleInfo{}
	for _, b := range list {
		out = append(out, apitype.BundleInfo{Bundle: b, Tools: svc.standsFor(b.Name, mapped(list)), UsedBy: usedBy(b.Name, used, list)})
	}
	return out, nil
}

// Bundle returns one bundle.
func (svc *Service) Bundle(ctx context.Context, name string) (apitype.BundleInfo, error) {
	list, err := svc.Bundles(ctx)
	if err != nil {
		return apitype.BundleInfo{}, err
	}
	at := slices.IndexFunc(list, func(b apitype.BundleInfo) bool { return b.Name == name })
	if at < 0 {
		return apitype.BundleInfo{}, &team.NotFoundError{Kind: "bundle", Name: name}
	}
	return list[at], nil
}

func mapped(list []team.Bundle) rules.Bundles {
	out := rules.Bundles{}
	for _, b := range list {
		out[b.Name] = b.Entries
	}
	return out
}

func usedBy(name string, used []team.Rule, list []team.Bundle) []string {
	out := []string{}
	for _, r := range used {
		if r.Bundle == name {
			out = append(out, "rule "+r.Name)
		}
	}
	for _, b := range list {
		if slices.ContainsFunc(b.Entries, func(e rules.Entry) bool { return e.Bundle == name }) {
			out = append(out, "bundle "+b.Name)
		}
	}
	return out
}

// standsFor are the tools of a bundle now, as server/tool.
func (svc *Service) standsFor(name string, all rules.Bundles) []string {
	out := []string{}
	entries, err := all.Flatten(name)
	if err != nil {
		return out
	}
	for _, s := range svc.registry.Current().Sorted() {
		for _, kind := range tools.Kinds {
			for _, o := range s.Objects(kind) {
				if slices.ContainsFunc(
					entries,
					func(e rules.Entry) bool { return rules.Match(e.Server, s.Name) && rules.Match(e.Tool, o.Name) },
				) {
					out = append(out, s.Name+"/"+o.Name)
				}
			}
		}
	}
	return out
}

// AddBundle adds a bundle.
func (svc *Service) AddBundle(ctx context.Context, by team.Person, n apitype.NewBundle) (apitype.BundleInfo, error) {
	b := team.Bundle{ID: team.NewID(), Name: n.Name, Version: 1, Note: strings.TrimSpace(n.Note), Entries: n.Entries}
	list, err := svc.checkBundle(ctx, b)
	if err != nil {
		return apitype.BundleInfo{}, err
	}
	if _, taken := mapped(list)[b.Name]; taken {
		return apitype.BundleInfo{}, &team.ConflictError{
			Field: "name", Why: "there is a bundle " + b.Name + " already", Hint: "choose another name",
		}
	}
	if len(list) >= maxBundles {
		return apitype.BundleInfo{}, &team.FieldError{
			Field: "name",
			Why:   fmt.Sprintf("is one too many; %d bundles are the most", maxBundles),
		}
	}
	err = svc.registry.Write(ctx, registry.Change{
		By: by, What: "bundle.add", Subject: b.Name, After: words(b.Entries), Topics: []string{"bundles", "rules"},
		Revert: registry.Revert(team.RevertBundleAdded, b.ID, b.Name, 1, nil),
	}, func(tx *store.Tx) error { return tx.AddBundle(b) })
	if err != nil {
		return apitype.BundleInfo{}, err
	}
	return svc.Bundle(ctx, b.Name)
}

// UpdateBundle alters a bundle. Rules that name it are about its tools at once.
func (svc *Service) UpdateBundle(ctx context.Context, by team.Person, name string, p apitype.BundlePatch) (apitype.BundleInfo, error) {
	have, err := svc.Bundle(ctx, name)
	if err != nil {
		return apitype.BundleInfo{}, err
	}
	b, was := have.Bundle, have.Bundle
	if p.Version != nil {
		b.Version = *p.Version
	}
	if p.Note != nil {
		b.Note = strings.TrimSpace(*p.Note)
	}
	if p.Entries != nil {
		b.Entries = *p.Entries
	}
	if _, err := svc.checkBundle(ctx, b); err != nil {
		return apitype.BundleInfo{}, err
	}
	err = store.Explain(svc.registry.Write(ctx, registry.Change{
		By: by, What: "bundle.update", Subject: name, Before: words(was.Entries), After: words(b.Entries), Topics: []string{"bundles", "rules"},
		Revert: registry.Revert(team.RevertBundle, b.ID, name, b.Version+1, apitype.BundlePatch{Note: &was.Note, Entries: &was.Entries}),
	}, func(tx *store.Tx) error { return tx.UpdateBundle(b) }), "bundle", name)
	if err != nil {
		return apitype.BundleInfo{}, err
	}
	return svc.Bundle(ctx, name)
}

// RemoveBundle removes a bundle that nothing names any more.
func (svc *Service) RemoveBundle(ctx context.Context, by team.Person, name string) error {
	have, err := svc.Bundle(ctx, name)
	if err != nil {
		return err
	}
	if len(have.UsedBy) > 0 {
		return &team.ConflictError{
			Field: "name", Why: "bundle " + name + " is named by " + strings.Join(have.UsedBy, ", "), Hint: "alter or remove those first",
		}
	}
	return store.Explain(svc.registry.Write(ctx, registry.Change{
		By: by, What: "bundle.remove", Subject: name, Before: words(have.Entries), Topics: []string{"bundles", "rules"},
		Revert: registry.Revert(
			team.RevertBundleGone,
			have.ID,
			name,
			0,
			apitype.NewBundle{Name: name, Note: have.Note, Entries: have.Entries},
		),
	}, func(tx *store.Tx) error { return tx.RemoveBundle(have.ID) }), "bundle", name)
}

// checkBundle checks a bundle beside the others, and returns those.
func (svc *Service) checkBundle(ctx context.Context, b team.Bundle) ([]team.Bundle, error) {
	if len(b.Note) > 500 {
		return nil, &team.FieldError{Field: "note", Why: "is longer than 500 characters"}
	}
	list, err := svc.store.Control().Bundles(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the bundles: %w", err)
	}
	all := mapped(list)
	all[b.Name] = b.Entries
	err = all.Check(b.Name)
	var fe *rules.FieldError
	if errors.As(err, &fe) {
		field := fe.Field
		if field == "bundle" {
			field = "entries"
		}
		return list, &team.FieldError{Field: field, Why: fe.Why}
	}
	return list, err
}

func words(entries []rules.Entry) string {
	out := []string{}
	for _, e := range entries {
		if e.Bundle != "" {
			out = append(out, "bundle "+e.Bundle)
		} else {
			out = append(out, e.Server+"/"+e.Tool)
		}
	}
	return strings.Join(out, ", ")
}
