package journal

import (
	"context"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/access"
	"bouncer/internal/core/segment"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Reader answers questions about what is on record. It is safe for concurrent use.
type Reader struct{ log calls.Log }

// NewReader returns a Reader.
func NewReader(log calls.Log) *Reader { return &Reader{log} }

// Query selects calls of the journal.
type Query struct {
	Agent, Person, Server, Tool, Decision, Outcome, Rule, Text string
	Since, Until                                               time.Time
	Before, After                                              string // ids
	Limit                                                      int
}

// MaxCalls is the most calls that one question returns.
const MaxCalls = 500

func filter(by team.Person, q Query) (calls.Filter, error) {
	f := calls.Filter{Rule: q.Rule, Limit: q.Limit, Filter: segment.Filter{
		Agent: q.Agent, Person: q.Person, Server: q.Server, Tool: q.Tool, Decision: q.Decision, Outcome: q.Outcome, Text: q.Text,
		Since: q.Since, Until: q.Until,
	}}
	switch access.ScopeOf(by.Role, access.SeeCalls) {
	case access.All:
	case access.Own:
		f.Owner = by.Name
	default:
		return f, &team.NotFoundError{Kind: "call"}
	}
	for _, c := range [...]struct {
		field, id string
		key       *calls.Key
	}{{"before", q.Before, &f.Before}, {"after", q.After, &f.After}} {
		if c.id == "" {
			continue
		}
		key, err := segment.ParseKey(c.id)
		if err != nil {
			return f, &team.FieldError{Field: c.field, Why: "is not the id of a call"}
		}
		*c.key = key
	}
	return f, nil
}

// Calls returns the newest calls that the query selects and the person may see.
func (r *Reader) Calls(ctx context.Context, by team.Person, q Query) ([]team.Call, error) {
	f, err := filter(by, q)
	if err != nil {
		return nil, err
	}
	rows, err := r.log.Page(ctx, f)
	out := make([]team.Call, 0, len(rows))
	for _, r := range rows {
		out = append(out, r.Call)
	}
	return out, err
}

// Call returns one call in full.
func (r *Reader) Call(ctx context.Context, by team.Person, id string) (team.Call, error) {
	key, err := segment.ParseKey(id)
	if err != nil {
		return team.Call{}, &team.NotFoundError{Kind: "call", Name: id}
	}
	c, err := r.log.ByKey(ctx, key)
	if err == nil && !access.May(by, access.SeeCalls, c.Person) {
		err = store.ErrNotFound
	}
	if err != nil {
		return team.Call{}, store.Explain(err, "call", id)
	}
	return c.Call, nil
}

// Count counts the calls that the query selects and the person may see, and tells how many
// were found of how many that were gone through, until told returns false.
func (r *Reader) Count(ctx context.Context, by team.Person, q Query, told func(found, seen int) bool) (int, error) {
	f, err := filter(by, q)
	if err != nil {
		return 0, err
	}
	return r.log.Count(ctx, f, told)
}

// Export gives the calls that the query selects and the person may see to fn, in full, the
// oldest first.
func (r *Reader) Export(ctx context.Context, by team.Person, q Query, fn func(team.Call) error) error {
	f, err := filter(by, q)
	if err != nil {
		return err
	}
	return r.log.Export(ctx, f, func(r *calls.Record) error { return fn(r.Call) })
}

// maxSteps is the most steps that calls are counted in at once.
const maxSteps = 1000

// Counts counts calls in equal steps of time, of the last day where the query does not say since when.
func (r *Reader) Counts(ctx context.Context, by team.Person, q Query, step time.Duration) ([]team.Bucket, error) {
	now := time.Now()
	if q.Since.IsZero() {
		q.Since = now.Add(-24 * time.Hour)
	}
	if now.Sub(q.Since) > step*maxSteps {
		return nil, &team.FieldError{Field: "step", Why: "gives more than 1000 steps since then; make it longer"}
	}
	f, err := filter(by, q)
	if err != nil {
		return nil, err
	}
	return r.log.Counts(ctx, f, step)
}
