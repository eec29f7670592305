// Package example keeps calls of tools as examples: with arguments that are known to mean
// something to the server, so that they can be tried again, and made by checkups.
package example

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/near"
	"bouncer/internal/core/team"
	"bouncer/internal/registry"
	"bouncer/internal/store"
)

// Bounds on examples: of one server, and of one's arguments in bytes.
const (
	maxExamples  = 50
	maxArguments = 64 << 10
)

// Service keeps examples. It is safe for concurrent use.
type Service struct {
	store    *store.Store
	registry *registry.Registry
	masker   func() *mask.Masker
}

// New returns the service.
func New(s *store.Store, r *registry.Registry, masker func() *mask.Masker) *Service {
	return &Service{s, r, masker}
}

// List returns the examples of a server, by their names.
func (svc *Service) List(ctx context.Context, server string) ([]team.Example, error) {
	_, list, err := svc.of(ctx, server)
	return list, err
}

func (svc *Service) of(ctx context.Context, server string) (team.Server, []team.Example, error) {
	s, err := svc.store.ServerByName(ctx, server)
	if err != nil {
		return s, nil, store.Explain(err, "server", server)
	}
	list, err := svc.store.Control().Examples(ctx, s.ID)
	if err != nil {
		return s, nil, fmt.Errorf("read the examples of server %s: %w", server, err)
	}
	if list == nil {
		list = []team.Example{}
	}
	return s, list, nil
}

// Get returns one example.
func (svc *Service) Get(ctx context.Context, server, name string) (team.Example, error) {
	_, list, err := svc.of(ctx, server)
	if err != nil {
		return team.Example{}, err
	}
	var names []string
	for _, v := range list {
		if v.Name == name {
			return v, nil
		}
		names = append(names, v.Name)
	}
	if best := near.Nearest(name, names); best != "" {
		return team.Example{}, &team.FieldError{
			Field: "example", Why: fmt.Sprintf("%q is none of server %s; perhaps %s was meant", name, server, best),
		}
	}
	return team.Example{}, &team.NotFoundError{Kind: "example", Name: name}
}

// Keep keeps a call as an example, in the place of one of the same name.
func (svc *Service) Keep(ctx context.Context, by team.Person, server, name string, in apitype.KeepExample) (team.Example, error) {
	v := team.Example{Server: server, Name: name, Tool: in.Tool, Arguments: in.Arguments, By: by.Name, At: time.Now().UTC()}
	if err := team.CheckName("name", name); err != nil {
		return v, err
	}
	if in.Tool == "" {
		return v, &team.FieldError{Field: "tool", Why: "is missing"}
	}
	if len(v.Arguments) == 0 {
		v.Arguments = json.RawMessage("{}")
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, v.Arguments); err != nil || compact.Bytes()[0] != '{' {
		return v, &team.FieldError{Field: "arguments", Why: "must be a JSON object"}
	}
	v.Arguments = compact.Bytes()
	if len(v.Arguments) > maxArguments {
		return v, &team.FieldError{Field: "arguments", Why: fmt.Sprintf("are longer than %d KiB", maxArguments>>10)}
	}
	if text := string(v.Arguments); svc.masker().Text(text) != text {
		return v, &team.FieldError{Field: "arguments", Why: "hold a secret that is kept in the locker; an example is shown to everybody"}
	}
	s, list, err := svc.of(ctx, server)
	if err != nil {
		return v, err
	}
	if len(list) >= maxExamples && !slices.ContainsFunc(list, func(o team.Example) bool { return o.Name == name }) {
		return v, &team.ConflictError{
			Field: "name", Why: fmt.Sprintf("server %s has %d examples, and has to do with them", server, maxExamples),
			Hint: "remove one: bouncer example remove " + server + " NAME",
		}
	}
	change := registry.Change{By: by, What: "example.keep", Subject: server, After: name + ": " + in.Tool}
	return v, svc.registry.Write(ctx, change, func(tx *store.Tx) error { return tx.KeepExample(s.ID, v) })
}

// Remove removes an example.
func (svc *Service) Remove(ctx context.Context, by team.Person, server, name string) error {
	v, err := svc.Get(ctx, server, name)
	if err != nil {
		return err
	}
	s, _, err := svc.of(ctx, server)
	if err != nil {
		return err
	}
	change := registry.Change{By: by, What: "example.remove", Subject: server, Before: name + ": " + v.Tool}
	return svc.registry.Write(ctx, change, func(tx *store.Tx) error {
		return store.Explain(tx.RemoveExample(s.ID, name), "example", name)
	})
}
