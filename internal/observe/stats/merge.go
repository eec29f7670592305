package stats

import (
	"errors"
	"fmt"

	"bouncer/internal/apitype"
	"bouncer/internal/core/histogram"
)

// ErrDiffer is returned for answers that are not to the same question.
var ErrDiffer = errors.New("these figures are not of the same time")

// Merge adds up answers to one question, which have to be with how long calls took (Query.Took); the
// sum is without, unless that is wanted. A group that an answer left out, since it has so many larger
// ones, is not in the sum either.
func Merge(answers []apitype.Stats, took bool) (out apitype.Stats, err error) {
	if len(answers) == 0 {
		return out, ErrDiffer
	}
	out = answers[0]
	total, points := &sum{}, make([]sum, len(out.Points))
	groups, names := map[string]*sum{}, []string{}
	for _, a := range answers {
		if !a.Since.Equal(out.Since) || a.Step != out.Step || a.By != out.By || len(a.Points) != len(points) {
			return apitype.Stats{}, ErrDiffer
		}
		if err := total.put(a.Total); err != nil {
			return apitype.Stats{}, err
		}
		for i := range points {
			if err := points[i].put(a.Points[i].Figures); err != nil {
				return apitype.Stats{}, err
			}
		}
		for _, g := range a.Groups {
			if groups[g.Name] == nil {
				groups[g.Name] = &sum{}
				names = append(names, g.Name)
			}
			if err := groups[g.Name].put(g.Figures); err != nil {
				return apitype.Stats{}, err
			}
		}
	}
	out.Total = total.figures(took)
	out.Points = make([]apitype.StatsPoint, len(points))
	for i := range points {
		out.Points[i] = apitype.StatsPoint{At: answers[0].Points[i].At, Figures: points[i].figures(took)}
	}
	out.Groups = []apitype.StatsGroup{}
	for _, name := range names {
		out.Groups = append(out.Groups, apitype.StatsGroup{Name: name, Figures: groups[name].figures(took)})
	}
	out.Groups = largest(out.Groups)
	return out, nil
}

// put adds figures that were told.
func (s *sum) put(f apitype.Figures) error {
	took, err := histogram.Decode(f.Took)
	if err != nil {
		return fmt.Errorf("read how long calls took: %w", err)
	}
	s.merge(&sum{f, took})
	return nil
}
