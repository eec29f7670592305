package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/journal"
	"bouncer/internal/store"
)

// habit is what an agent does again and again.
type habit struct {
	agent, person, server, tool string
	perDay                      float64
	hours                       [2]int // from, until; over midnight where from is later
	millis                      float64
	out                         int // bytes of the answer, about
	refused                     string
}

// habits are those of the scenario.
var habits = []habit{
	{"marit-quill", "marit", "sailings", "find_sailings", 46, [2]int{7, 17}, 4, 1800, ""},
	{"marit-quill", "marit", "sailings", "sailing_status", 30, [2]int{7, 17}, 18, 240, ""},
	{"marit-quill", "marit", "berths", "list_berths", 18, [2]int{8, 16}, 3, 900, ""},
	{"marit-quill", "marit", "sailings", "cancel_sailing", 1.2, [2]int{9, 15}, 0.4, 0, "sailings are cancelled by the night watch"},
	{"joss-quill", "joss", "fuel", "bunker_levels", 22, [2]int{8, 18}, 35, 600, ""},
	{"joss-quill", "joss", "fuel", "order_fuel", 1.5, [2]int{9, 16}, 120, 300, ""},
	{"joss-quill", "joss", "crew", "who_is_on_watch", 14, [2]int{8, 18}, 12, 400, ""},
	{"joss-quill", "joss", "tides", "tide_table", 12, [2]int{8, 18}, 6, 2600, ""},
	{"ottilie-parlour", "ottilie", "lost-property", "search_items", 24, [2]int{9, 17}, 9, 3200, ""},
	{"ottilie-parlour", "ottilie", "lost-property", "log_item", 6, [2]int{9, 17}, 14, 200, ""},
	{"ottilie-parlour", "ottilie", "crew", "who_is_on_watch", 5, [2]int{9, 17}, 12, 400, ""},
	{"night-watch", "", "tannoy", "announce", 16, [2]int{21, 6}, 60, 120, ""},
	{"night-watch", "", "sailings", "sailing_status", 40, [2]int{20, 6}, 18, 240, ""},
	{"quay-voice", "", "sailings", "find_sailings", 70, [2]int{6, 22}, 4, 1800, ""},
	{"quay-voice", "", "tides", "tide_table", 10, [2]int{6, 22}, 6, 2600, ""},
}

// trouble is when a server did not do.
type trouble struct {
	server      string
	daysAgo     int
	from, until time.Duration // of that day
	outcome     string
	cause       diagnosis.Cause
	title       string
	remedy      string
}

var troubles = []trouble{
	{
		"tannoy", 9, 4*time.Hour + 5*time.Minute, 5*time.Hour + 20*time.Minute, team.OutcomeUnreachable, diagnosis.Refused,
		"nothing accepts connections at 127.0.0.1:4702", "bouncer checkup tannoy",
	},
	{
		"fuel", 3, 9*time.Hour + 2*time.Minute, 11*time.Hour + 41*time.Minute, team.OutcomeTimeout, diagnosis.CallTimeout,
		"bunker_levels does not answer within 5m", "bouncer server update fuel --call-time 10m",
	},
}

const fortnightDays = 14

// midnight is the beginning of the day a number of days ago.
func midnight(now time.Time, daysAgo int) time.Time {
	return time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location()).AddDate(0, 0, -daysAgo)
}

// ill is the trouble that a server had at a time; nil for none.
func ill(now, at time.Time, server string) *trouble {
	for i, t := range troubles {
		day := midnight(now, t.daysAgo)
		if t.server == server && !at.Before(day.Add(t.from)) && at.Before(day.Add(t.until)) {
			return &troubles[i]
		}
	}
	return nil
}

// isNew reports whether the demo begins with nothing.
func isNew(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, "data", "bouncer.db"))
	return errors.Is(err, fs.ErrNotExist)
}

// past writes the fortnight before, as it would have been under the rules that there are: its
// calls, and what went wrong.
func (s *service) past(ctx context.Context, now time.Time) error {
	began := time.Now()
	deciding := map[habit]rule{}
	for _, h := range habits {
		var out struct{ Rule, RuleName string }
		err := s.call(ctx, http.MethodPost, "/api/explanations", object{"agent": h.agent, "server": h.server, "tool": h.tool}, &out)
		if err != nil {
			return fmt.Errorf("ask which rule decides about %s: %w", h.tool, err)
		}
		deciding[h] = rule{out.Rule, out.RuleName}
	}
	n, err := fortnight(ctx, s.dir, now, deciding)
	if err != nil {
		return err
	}
	fmt.Printf("a fortnight with %d calls was written in %.1f s\n", n, time.Since(began).Seconds())
	return remember(ctx, s.dir, now)
}

// rule is one that decides about a habit.
type rule struct{ id, name string }

// fortnight writes the calls of the last two weeks into the journal, where there are none
// yet. They are the same each time, but for the day that it is.
func fortnight(ctx context.Context, dir string, now time.Time, deciding map[habit]rule) (n int, err error) {
	s, err := store.Open(ctx, filepath.Join(dir, "data", "bouncer.db"), store.Options{})
	if err != nil {
		return 0, fmt.Errorf("open the journal: %w", err)
	}
	log := calls.NewWriter(s)
	j, err := journal.New(ctx, log, journal.Options{From: log, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return 0, errors.Join(fmt.Errorf("open the journal: %w", err), s.Close())
	}
	chance := rand.New(rand.NewPCG(4680, 2026)) //nolint:gosec // what is invented is to be the same each time
	for _, at := range moments(chance, now) {
		c := at.call(chance, now)
		c.Rule, c.RuleName = deciding[at.habit].id, deciding[at.habit].name
		if err = j.Record(ctx, &journal.Entry{Call: c}); err != nil {
			break
		}
		n++
	}
	j.Close()
	return n, errors.Join(err, s.Close())
}

// moment is one call to be.
type moment struct {
	habit
	at time.Time
}

// moments are the calls of the fortnight in the order of time: minute by minute, as likely
// as each agent's habits make them.
func moments(chance *rand.Rand, now time.Time) (list []moment) {
	for at := midnight(now, fortnightDays-1); at.Before(now.Add(-time.Minute)); at = at.Add(time.Minute) {
		weekend := 1.0
		if day := at.Weekday(); day == time.Saturday || day == time.Sunday {
			weekend = 0.3
		}
		for _, h := range habits {
			length := (h.hours[1] - h.hours[0] + 24) % 24
			if (at.Hour()-h.hours[0]+24)%24 >= length {
				continue
			}
			often := h.perDay / float64(length*60)
			if h.person != "" {
				often *= weekend
			}
			if chance.Float64() < often {
				list = append(list, moment{h, at.Add(time.Duration(chance.IntN(50_000)) * time.Millisecond)})
			}
		}
	}
	return list
}

// call is what became of it.
func (m moment) call(chance *rand.Rand, now time.Time) team.Call {
	length := m.millis * math.Exp(chance.NormFloat64()*0.5)
	c := team.Call{
		At: m.at, Agent: m.agent, Person: m.person, Server: m.server, Tool: m.tool, Decision: team.DecisionAdmit, Outcome: team.OutcomeOK,
		Micros: int64(1000 * length), BytesIn: 40 + chance.IntN(80), BytesOut: m.out/2 + chance.IntN(m.out+1), Times: 1,
	}
	t := ill(now, m.at, m.server)
	switch {
	case m.refused != "":
		c.Decision, c.Outcome, c.BytesOut, c.Error = team.DecisionRefuse, team.OutcomeRefused, 0, "refused by a rule: "+m.refused
	case t != nil && t.outcome == team.OutcomeTimeout:
		c.Outcome, c.Error, c.BytesOut, c.Micros = t.outcome, t.title, 0, int64(5*time.Minute/time.Microsecond)
	case t != nil:
		c.Outcome, c.Error, c.BytesOut = t.outcome, t.title, 0
	case chance.Float64() < 0.012:
		c.Outcome, c.Error = team.OutcomeToolError, "the tool reports an error"
	case chance.Float64() < 0.004:
		c.Outcome, c.Error, c.BytesOut = team.OutcomeCancelled, "the agent cancelled the call", 0
	}
	return c
}

// remember writes what went wrong in that time, once the servers are there.
func remember(ctx context.Context, dir string, now time.Time) error {
	s, err := store.Open(ctx, filepath.Join(dir, "data", "bouncer.db"), store.Options{})
	if err != nil {
		return fmt.Errorf("open the state: %w", err)
	}
	defer s.Close()
	for _, t := range troubles {
		server, err := s.ServerByName(ctx, t.server)
		if err != nil {
			return fmt.Errorf("find server %s: %w", t.server, err)
		}
		day := midnight(now, t.daysAgo)
		began, good, over := day.Add(t.from), day.Add(t.from-2*time.Minute), day.Add(t.until)
		incident := team.Incident{
			ID: team.NewID(), Server: t.server, Cause: string(t.cause), Title: t.title, Remedy: t.remedy, Who: string(t.cause.WhoActs()),
			Evidence: []string{t.title}, First: began, Since: began, LastGood: &good, Until: &over, Notes: []team.IncidentNote{},
		}
		err = s.Update(ctx, func(tx *store.Tx) error {
			for _, v := range []team.ServerState{
				{At: day.AddDate(0, 0, -1), State: team.StateReady}, {At: began, State: team.StateFailing, Cause: string(t.cause)},
				{At: over, State: team.StateReady},
			} {
				if err := tx.KeepServerState(server.ID, v); err != nil {
					return err
				}
			}
			return tx.KeepIncident(server.ID, incident)
		})
		if err != nil {
			return fmt.Errorf("remember what went wrong with server %s: %w", t.server, err)
		}
	}
	return nil
}
