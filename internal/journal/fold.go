package journal

import (
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/team"
)

// Refusals that repeat are one record with a count: an agent that is refused cannot
// fill the disk with that. After so many different ones in one span, all further
// refusals of the agent are one record too.
const (
	foldSpan     = time.Minute
	maxDistinct  = 100
	maxFolds     = 4096
	severalTools = "(several)"
	severalError = "further calls of this agent were refused within this minute"
)

// sameRefusal is what refusals have in common that are told as one.
type sameRefusal struct{ agent, server, tool, rule, why string }

type fold struct {
	row   calls.Record
	began time.Time
	dirty bool // its count is not stored yet
}

// folds are the refusals of the present minute. They belong to the writer.
type folds struct {
	now      func() time.Time
	bySame   map[sameRefusal]*fold
	distinct map[string]int // by agent
}

func newFolds(now func() time.Time) *folds {
	return &folds{now: now, bySame: map[sameRefusal]*fold{}, distinct: map[string]int{}}
}

// add counts a refusal in an earlier record; false when there is none, and then it
// is to be recorded as returned, perhaps for others as well.
func (f *folds) add(row calls.Record) (calls.Record, bool) {
	now := f.now()
	same := sameRefusal{row.Agent, row.Server, row.Tool, row.Rule, row.Error}
	if f.count(same, row.Times, now) {
		return row, true
	}
	if f.distinct[row.Agent] >= maxDistinct {
		same = sameRefusal{agent: row.Agent}
		if f.count(same, row.Times, now) {
			return row, true
		}
		row.Server, row.Tool, row.Rule, row.Error, row.Arguments, row.Session = "", severalTools, "", severalError, "", ""
	}
	if len(f.bySame) >= maxFolds {
		f.sweep(now)
	}
	if len(f.bySame) < maxFolds {
		f.bySame[same] = &fold{row: row, began: now}
		f.distinct[row.Agent]++
	}
	return row, false
}

func (f *folds) count(same sameRefusal, times int, now time.Time) bool {
	have := f.bySame[same]
	if have == nil {
		return false
	}
	if now.Sub(have.began) >= foldSpan {
		f.drop(same, have)
		return false
	}
	have.row.Times += max(times, 1)
	have.dirty = true
	return true
}

func (f *folds) drop(same sameRefusal, have *fold) {
	delete(f.bySame, same)
	if f.distinct[have.row.Agent]--; f.distinct[have.row.Agent] <= 0 {
		delete(f.distinct, have.row.Agent)
	}
}

// sweep forgets what is over, and all when nothing is: then some refusals are told
// twice.
func (f *folds) sweep(now time.Time) {
	for same, have := range f.bySame {
		if now.Sub(have.began) >= foldSpan && !have.dirty {
			f.drop(same, have)
		}
	}
}

// repeats are the counts that have to be stored, as calls with the key of their
// record.
func (f *folds) repeats() (out []calls.Record) {
	for _, have := range f.bySame {
		if have.dirty {
			have.dirty = false
			out = append(out, have.row)
		}
	}
	return out
}

// keyed notes under which key a refusal was recorded.
func (f *folds) keyed(row calls.Record) {
	for _, same := range [...]sameRefusal{{row.Agent, row.Server, row.Tool, row.Rule, row.Error}, {agent: row.Agent}} {
		if have := f.bySame[same]; have != nil && have.row.Key == 0 {
			have.row.Key, have.row.ID = row.Key, row.ID
			return
		}
	}
}

// foldable reports whether a record may be counted in another one.
func foldable(c team.Call) bool { return c.Outcome == team.OutcomeRefused }
