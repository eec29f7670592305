package why

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Differ compares two agents: the first difference on the way that matters, and the rest.
func (svc *Service) Differ(ctx context.Context, by team.Person, one, other, tool string) (d apitype.WhyDiffers, err error) {
	if d.One, err = svc.Ask(ctx, by, one, tool); err != nil {
		return d, err
	}
	if d.Other, err = svc.Ask(ctx, by, other, tool); err != nil {
		return d, err
	}
	tell(&d, one, other)
	return d, nil
}

// DifferPeople compares two people by the agent of each that was seen last, and by what
// they are.
func (svc *Service) DifferPeople(ctx context.Context, by team.Person, one, other, tool string) (d apitype.WhyDiffers, err error) {
	d.People = true
	agent, err := svc.agentOf(ctx, by, one)
	if err != nil {
		return d, err
	}
	against, err := svc.agentOf(ctx, by, other)
	if err != nil {
		return d, err
	}
	if agent == "" {
		return d, &team.ConflictError{
			Field: "name", Why: "no agent of " + one + " can be seen, so nothing works there", Hint: "name somebody for whom it works",
		}
	}
	if against == "" {
		d.One.Agent, d.More = agent, []string{}
		d.First = fmt.Sprintf("agent: %s has %s, and %s has none that can be seen; bouncer agent add makes one", one, agent, other)
		return d, nil
	}
	if d.One, err = svc.asked(ctx, by, one, agent, tool); err != nil {
		return d, err
	}
	if d.Other, err = svc.asked(ctx, by, other, against, tool); err != nil {
		return d, err
	}
	tell(&d, one, other)
	return d, nil
}

// asked answers for a person's agent, with what the person is among the steps.
func (svc *Service) asked(ctx context.Context, by team.Person, person, agent, tool string) (apitype.Why, error) {
	w, err := svc.Ask(ctx, by, agent, tool)
	if err != nil {
		return w, err
	}
	text, err := svc.describe(ctx, person)
	w.Steps = append(w.Steps, apitype.WhyStep{Name: "person", Outcome: ok, Text: text})
	return w, err
}

// agentOf is the agent of a person that was seen last, among those that may be seen; ""
// for none.
func (svc *Service) agentOf(ctx context.Context, by team.Person, person string) (string, error) {
	if _, err := svc.Store.PersonByName(ctx, person); err != nil {
		return "", store.Explain(err, "person", person)
	}
	list, err := svc.Agents.Agents(ctx, by)
	if err != nil {
		return "", fmt.Errorf("read the agents: %w", err)
	}
	best, last := "", time.Time{}
	for _, a := range list {
		if a.Owner != person {
			continue
		}
		seen := a.Created
		if c, known := svc.Contact(a.ID); known {
			seen = c.Last
		}
		if best == "" || seen.After(last) {
			best, last = a.Name, seen
		}
	}
	return best, nil
}

// describe is what rules can go by of a person.
func (svc *Service) describe(ctx context.Context, name string) (string, error) {
	p, err := svc.Store.PersonByName(ctx, name)
	if err != nil {
		return "", store.Explain(err, "person", name)
	}
	labels, err := svc.Store.Control().Labels(ctx)
	if err != nil {
		return "", fmt.Errorf("read the groups of people: %w", err)
	}
	var groups []string
	for _, l := range labels {
		if l.Kind == team.OnPerson && l.Subject == p.ID {
			groups = append(groups, l.Label)
		}
	}
	text := "role " + string(p.Role)
	if len(groups) > 0 {
		slices.Sort(groups)
		text += ", groups " + strings.Join(groups, ", ")
	}
	return text, nil
}

// compared are steps whose words matter even where both went well.
var compared = []string{"rule", "person"}

// tell finds what differs, in the order of the way.
func tell(d *apitype.WhyDiffers, one, other string) {
	d.More = []string{}
	var told []string
	for _, s := range d.One.Steps {
		at := slices.IndexFunc(d.Other.Steps, func(o apitype.WhyStep) bool { return o.Name == s.Name })
		switch {
		case at < 0 && s.Outcome == failed:
			told = append(told, fmt.Sprintf("%s: %s (%s), and nothing of it (%s)", s.Name, s.Text, one, other))
		case at >= 0 && s.Outcome != d.Other.Steps[at].Outcome,
			at >= 0 && slices.Contains(compared, s.Name) && s.Text != d.Other.Steps[at].Text:
			told = append(told, fmt.Sprintf("%s: %s (%s), %s (%s)", s.Name, s.Text, one, d.Other.Steps[at].Text, other))
		}
	}
	for _, s := range d.Other.Steps {
		if s.Outcome == failed && !slices.ContainsFunc(d.One.Steps, func(o apitype.WhyStep) bool { return o.Name == s.Name }) {
			told = append(told, fmt.Sprintf("%s: nothing of it (%s), and %s (%s)", s.Name, one, s.Text, other))
		}
	}
	if len(told) > 0 {
		d.First, d.More = told[0], told[1:]
	}
}
