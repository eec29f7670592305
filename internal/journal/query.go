package journal

import (
	"context"
	"time"

	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/store"
)

// Reader answers questions about what is on record. It is safe for concurrent use.
type Reader struct{ store store.CallLog }

// NewReader returns a Reader.
func NewReader(s store.CallLog) *Reader { return &Reader{store: s} }

// Query selects calls of the journal.
type Query struct {
	Agent, Server, Tool, Decision, Outcome, Rule, Text string
	Since, Until                                       time.Time
	Before, After                                      string // ids
	Limit                                              int
}

// MaxCalls is the most calls that one question returns.
const MaxCalls = 500

func filter(by team.Person, q Query) (store.CallFilter, error) {
	f := store.CallFilter{
		Agent:    q.Agent,
		Server:   q.Server,
		Tool:     q.Tool,
		Decision: q.Decision,
		Outcome:  q.Outcome,
		Rule:     q.Rule,
		Text:     q.Text,
		Since:    q.Since,
		Until:    q.Until,
		Limit:    q.Limit,
	}
	switch access.ScopeOf(by.Role, access.SeeCalls) {
	case access.All:
	case access.Own:
		f.Owner = by.Name
	default:
		return f, &team.NotFoundError{Kind: "call"}
	}
	for _, c := range [...]struct {
		field, id string
		key       *store.CallKey
	}{{"before", q.Before, &f.Before}, {"after", q.After, &f.After}} {
		if c.id == "" {
			continue
		}
		key, err := store.ParseCallKey(c.id)
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
	rows, err := r.store.Calls(ctx, f)
	out := make([]team.Call, 0, len(rows))
	for _, r := range rows {
		out = append(out, r.Call)
	}
	return out, err
}

// Call returns one call in full.
func (r *Reader) Call(ctx context.Context, by team.Person, id string) (team.Call, error) {
	key, err := store.ParseCallKey(id)
	if err != nil {
		return team.Call{}, store.Explain(err, "call", id)
	}
	c, err := r.store.CallByKey(ctx, key)
	if err == nil && !access.May(by, access.SeeCalls, c.Person) {
		err = store.ErrNotFound
	}
	return c.Call, store.Explain(err, "call", id)
}

// Counts counts calls in equal steps of time.
func (r *Reader) Counts(ctx context.Context, by team.Person, q Query, step time.Duration) ([]team.Bucket, error) {
	f, err := filter(by, q)
	if err != nil {
		return nil, err
	}
	return r.store.CallCounts(ctx, f, step)
}
