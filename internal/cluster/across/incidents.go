package across

import (
	"cmp"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/team"
)

// oneIncident is one for each cause at each server, whichever nodes see it: it lasts as long as one of
// them does, and what people have noted is together, wherever they did. What came so much later that it
// is another one for a node is another one here.
func oneIncident(_ *http.Request, bodies [][]byte) (any, error) {
	type key struct{ server, cause string }
	seen, order := map[key][]team.Incident{}, []key{}
	for _, body := range bodies {
		var list []team.Incident
		if err := json.Unmarshal(body, &list); err != nil {
			return nil, err
		}
		for _, i := range list {
			k := key{i.Server, i.Cause}
			if seen[k] == nil {
				order = append(order, k)
			}
			seen[k] = append(seen[k], i)
		}
	}
	out := []team.Incident{}
	for _, k := range order {
		for _, same := range apart(seen[k]) {
			out = append(out, joined(same))
		}
	}
	slices.SortStableFunc(out, func(a, b team.Incident) int {
		return cmp.Or(cmp.Compare(lasts(b), lasts(a)), b.Since.Compare(a.Since), strings.Compare(a.ID, b.ID))
	})
	return out, nil
}

// apart divides what nodes say of one cause at one server by time: where all of it was over for long
// enough, another incident begins.
func apart(list []team.Incident) (groups [][]team.Incident) {
	slices.SortStableFunc(list, func(a, b team.Incident) int { return a.First.Compare(b.First) })
	var until *time.Time // when all of the last group was over; nil while it is not
	for i, one := range list {
		if i == 0 || until != nil && one.First.Sub(*until) >= team.IncidentGoesOn {
			groups, until = append(groups, nil), one.Until
		}
		last := len(groups) - 1
		groups[last], until = append(groups[last], one), untilOf(until, one.Until)
	}
	return groups
}

// lasts is 1 for an incident that is not over.
func lasts(i team.Incident) int {
	if i.Until == nil {
		return 1
	}
	return 0
}

// joined is what several nodes say of one cause at one server. The one that is told of is that which
// lasts, and of several the one that began last; it is found under its id at the node that has it.
func joined(list []team.Incident) team.Incident {
	out := slices.MaxFunc(list, func(a, b team.Incident) int {
		return cmp.Or(cmp.Compare(lasts(a), lasts(b)), a.Since.Compare(b.Since), strings.Compare(a.ID, b.ID))
	})
	out.Notes = slices.Clone(out.Notes)
	for _, i := range list {
		if i.First.Before(out.First) {
			out.First = i.First
		}
		if lasts(i) == lasts(out) && i.Since.Before(out.Since) {
			out.Since = i.Since
		}
		out.LastGood, out.Until = later(out.LastGood, i.LastGood), untilOf(out.Until, i.Until)
		out.Reopened = max(out.Reopened, i.Reopened)
		if i.ID != out.ID {
			out.Notes = append(out.Notes, i.Notes...)
		}
	}
	slices.SortStableFunc(out.Notes, func(a, b team.IncidentNote) int { return a.At.Compare(b.At) })
	return out
}

// later is the later of two times; one that is not known is the earlier.
func later(a, b *time.Time) *time.Time {
	if a == nil || b != nil && b.After(*a) {
		return b
	}
	return a
}

// untilOf is when what two nodes see is over; nil while it lasts for one of them.
func untilOf(a, b *time.Time) *time.Time {
	if a == nil || b == nil {
		return nil
	}
	return later(a, b)
}

// turnedAway are those of all nodes who were turned away, the latest first.
func turnedAway(_ *http.Request, bodies [][]byte) (any, error) {
	out := []team.TurnedAway{}
	for _, body := range bodies {
		var list []team.TurnedAway
		if err := json.Unmarshal(body, &list); err != nil {
			return nil, err
		}
		for _, one := range list {
			at := slices.IndexFunc(out, func(have team.TurnedAway) bool {
				return have.Cause == one.Cause && have.From == one.From && have.Client == one.Client &&
					have.Agent == one.Agent && have.Server == one.Server
			})
			if at < 0 {
				out = append(out, one)
				continue
			}
			have := &out[at]
			have.Times += one.Times
			if one.First.Before(have.First) {
				have.First = one.First
			}
			if one.Last.After(have.Last) {
				have.Last = one.Last
			}
		}
	}
	slices.SortStableFunc(out, func(a, b team.TurnedAway) int { return b.Last.Compare(a.Last) })
	return out, nil
}
