// Package labels keeps the words that rules go by: labels of agents and servers, groups of
// people, tags of tools, and bundles of tools that are named as one. Only who may make
// rules gives them, so that nobody chooses what binds them.
package labels

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Service keeps labels and bundles. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
}

// New returns the service.
func New(s *store.Store, r *registry.Registry) *Service { return &Service{s, r} }

// Limits on what is kept.
const (
	maxLabels  = 50
	maxBundles = 500
)

var kinds = []string{team.OnAgent, team.OnServer, team.OnPerson, team.OnTool}

// List returns every label, group and tag, with the names of what has it.
func (svc *Service) List(ctx context.Context) ([]team.Label, error) {
	list, err := svc.store.Control().Labels(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the labels: %w", err)
	}
	names, err := svc.names(ctx)
	if err != nil {
		return nil, err
	}
	out := []team.Label{}
	for _, l := range list {
		if l.Name = names[kindOf(l.Kind)+l.Subject]; l.Name != "" {
			out = append(out, l)
		}
	}
	slices.SortStableFunc(out, func(a, b team.Label) int {
		return strings.Compare(a.Kind+"\x00"+a.Name+"\x00"+a.Tool, b.Kind+"\x00"+b.Name+"\x00"+b.Tool)
	})
	return out, nil
}

// kindOf is what the subject of a label is: a tag's is its server.
func kindOf(kind string) string {
	if kind == team.OnTool {
		return team.OnServer
	}
	return kind
}

// names are those of agents, servers and people, by kind and id.
func (svc *Service) names(ctx context.Context) (map[string]string, error) {
	agents, errA := svc.store.Agents(ctx, time.Now())
	servers, errS := svc.store.Servers(ctx)
	people, errP := svc.store.People(ctx)
	if err := errors.Join(errA, errS, errP); err != nil {
		return nil, fmt.Errorf("read the register: %w", err)
	}
	out := map[string]string{}
	for _, a := range agents {
		out[team.OnAgent+a.ID] = a.Name
	}
	for _, s := range servers {
		out[team.OnServer+s.ID] = s.Name
	}
	for _, p := range people {
		out[team.OnPerson+p.ID] = p.Name
	}
	return out, nil
}

// find returns the id of what a label is to be on.
func (svc *Service) find(ctx context.Context, kind, name string) (string, error) {
	names, err := svc.names(ctx)
	if err != nil {
		return "", err
	}
	for key, have := range names {
		if id, ok := strings.CutPrefix(key, kindOf(kind)); ok && have == name {
			return id, nil
		}
	}
	return "", &team.NotFoundError{Kind: kindOf(kind), Name: name}
}

// Alter adds and removes labels; they are in force when this returns. It returns those
// that are there then.
func (svc *Service) Alter(ctx context.Context, by team.Person, p apitype.LabelPatch) ([]team.Label, error) {
	p.Tool = strings.TrimSpace(p.Tool)
	if err := svc.check(p); err != nil {
		return nil, err
	}
	id, err := svc.find(ctx, p.Kind, p.Name)
	if err != nil {
		return nil, err
	}
	list, err := svc.store.Control().Labels(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the labels: %w", err)
	}
	before, fixed := []string{}, []string{}
	for _, l := range list {
		switch {
		case l.Kind != p.Kind || l.Subject != id || l.Tool != p.Tool:
		case l.Source != "":
			fixed = append(fixed, l.Label)
		default:
			before = append(before, l.Label)
		}
	}
	after := slices.Clone(before)
	for _, l := range p.Add {
		if !slices.Contains(after, l) {
			after = append(after, l)
		}
	}
	for _, l := range p.Remove {
		switch {
		case slices.Contains(after, l):
			after = slices.DeleteFunc(after, func(have string) bool { return have == l })
		case slices.Contains(fixed, l):
			return nil, &team.ConflictError{
				Field: "remove", Why: "the identity provider says that " + p.Name + " is in group " + l,
				Hint: "take " + p.Name + " out of it there; it counts from the next sign-in on",
			}
		default:
			return nil, &team.NotFoundError{Kind: "label", Name: l}
		}
	}
	if len(after) > maxLabels {
		return nil, &team.FieldError{Field: "add", Why: fmt.Sprintf("makes %d labels; %d are the most", len(after), maxLabels)}
	}
	slices.Sort(after)
	subject := strings.TrimSuffix(p.Name+"/"+p.Tool, "/")
	err = svc.registry.Write(ctx, registry.Change{
		By: by, What: "label.set", Subject: p.Kind + " " + subject, Before: strings.Join(before, ", "), After: strings.Join(after, ", "),
		Topics: []string{"labels", "rules", "agents", "servers", "people"},
		Revert: registry.Revert(team.RevertLabels, id, p.Kind+" "+subject, 0, apitype.LabelPatch{
			Kind: p.Kind, Name: p.Name, Tool: p.Tool, Add: missing(before, after), Remove: missing(after, before),
		}),
	}, func(tx *store.Tx) error { return tx.SetLabels(p.Kind, id, p.Tool, "", after) })
	if err != nil {
		return nil, err
	}
	all, err := svc.List(ctx)
	return slices.DeleteFunc(all, func(l team.Label) bool { return l.Kind != p.Kind || l.Name != p.Name || l.Tool != p.Tool }), err
}

// PutBack undoes an alteration, if the name still belongs to what was altered.
func (svc *Service) PutBack(ctx context.Context, by team.Person, id string, p apitype.LabelPatch) error {
	have, err := svc.find(ctx, p.Kind, p.Name)
	if err == nil && have != id {
		err = &team.NotFoundError{Kind: kindOf(p.Kind), Name: p.Name}
	}
	if err == nil {
		_, err = svc.Alter(ctx, by, p)
	}
	return err
}

// missing is what is in the first list and not in the second.
func missing(from, in []string) (out []string) {
	for _, v := range from {
		if !slices.Contains(in, v) {
			out = append(out, v)
		}
	}
	return out
}

func (svc *Service) check(p apitype.LabelPatch) error {
	switch {
	case !slices.Contains(kinds, p.Kind):
		return &team.FieldError{Field: "kind", Why: fmt.Sprintf("is %.40q; it must be one of %s", p.Kind, strings.Join(kinds, ", "))}
	case p.Kind == team.OnTool && p.Tool == "":
		return &team.FieldError{Field: "tool", Why: "is missing; name a tool of the server"}
	case p.Kind != team.OnTool && p.Tool != "":
		return &team.FieldError{Field: "tool", Why: "goes together with kind = tool only"}
	case len(p.Add)+len(p.Remove) == 0:
		return &team.FieldError{Field: "add", Why: "is empty, and so is remove; say which labels"}
	}
	for field, list := range map[string][]string{"add": p.Add, "remove": p.Remove} {
		for _, l := range list {
			if err := labelError(rules.CheckLabel(field, l)); err != nil {
				return err
			}
		}
	}
	if p.Kind == team.OnTool {
		s := svc.registry.Current().Servers[p.Name]
		if s == nil {
			return &team.NotFoundError{Kind: "server", Name: p.Name}
		}
		known, there := 0, false
		for _, list := range s.Offer.Lists {
			for _, t := range list {
				known++
				there = there || t.Name == p.Tool
			}
		}
		if known > 0 && !there && len(p.Add) > 0 {
			return &team.NotFoundError{Kind: "tool", Name: p.Name + "/" + p.Tool}
		}
	}
	return nil
}

func labelError(err error) error {
	var fe *rules.FieldError
	if errors.As(err, &fe) {
		return &team.FieldError{Field: fe.Field, Why: fe.Why}
	}
	return err
}
