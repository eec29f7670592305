// Package budget says how much agents may call: how many calls and how many bytes in a
// stretch of time, and how many calls at a time. A budget is about agents and tools by the
// same words as a rule, and counts for each agent, for each person or for all together.
package budget

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"bouncer/internal/core/rules"
)

// For whom a budget counts.
const (
	PerAgent  = "agent"
	PerPerson = "person"
	PerAll    = "all"
)

// Stretches of time, as the calendar has them in UTC; weeks begin on Monday.
const (
	Minute = "minute"
	Hour   = "hour"
	Day    = "day"
	Week   = "week"
	Month  = "month"
)

var (
	pers    = []string{PerAgent, PerPerson, PerAll}
	windows = []string{Minute, Hour, Day, Week, Month}
)

// Allowance are what a budget says.
type Allowance struct {
	Agent  string `json:"agent" doc:"glob over agent names"`
	Label  string `json:"label,omitempty" doc:"only agents with this label"`
	Person string `json:"person,omitempty" doc:"only agents of this person"`
	Group  string `json:"group,omitempty" doc:"only agents of persons in this group"`
	Server string `json:"server" doc:"glob over server names"`
	Tool   string `json:"tool" doc:"glob over the server's own tool names"`
	Per    string `json:"per" enum:"agent,person,all" doc:"for whom it counts: each agent, each person with all their agents, or all together"`
	Window string `json:"window,omitempty" enum:"minute,hour,day,week,month" doc:"stretch of time for calls and KiB, by the calendar in UTC"`
	Calls  int    `json:"calls,omitempty" doc:"most calls in a window; 0 for any number"`
	KiB    int    `json:"kib,omitempty" doc:"most KiB of arguments and results in a window; 0 for any number"`
	AtOnce int    `json:"atOnce,omitempty" doc:"most calls at a time; 0 for any number"`
	Waits  bool   `json:"waits,omitempty" doc:"calls over atOnce wait, agents in turn, instead of being refused"`
}

// Budget is a budget with its name.
type Budget struct {
	ID, Name, Note string
	Allowance
}

// Check reports the first field that is not acceptable, as a *rules.FieldError.
func (b Budget) Check() error {
	if err := rules.CheckName(b.Name); err != nil {
		return err
	}
	bad := func(field, format string, args ...any) error {
		return &rules.FieldError{Field: field, Why: fmt.Sprintf(format, args...)}
	}
	for _, g := range [...]struct{ field, glob string }{{"agent", b.Agent}, {"server", b.Server}, {"tool", b.Tool}} {
		if g.glob == "" || len(g.glob) > rules.MaxGlob || strings.ContainsAny(g.glob, " \t\r\n") {
			return bad(g.field, `is %.60q; name one, or use "*" for all`, g.glob)
		}
	}
	for _, w := range [...]struct{ field, word string }{{"label", b.Label}, {"person", b.Person}, {"group", b.Group}} {
		if w.word != "" && rules.CheckLabel(w.field, w.word) != nil {
			return bad(w.field, "is %.60q, which is no name", w.word)
		}
	}
	switch {
	case !slices.Contains(pers, b.Per):
		return bad("per", "is %.40q; it must be one of %s", b.Per, strings.Join(pers, ", "))
	case b.Calls < 0 || b.KiB < 0 || b.AtOnce < 0 || b.AtOnce > 10_000:
		return bad("calls", "must not be below 0, nor must kib and atOnce")
	case b.Calls+b.KiB+b.AtOnce == 0:
		return bad("calls", "is missing, and so are kib and atOnce; say at least one")
	case b.Calls+b.KiB > 0 && !slices.Contains(windows, b.Window):
		return bad("window", "is %.40q; it must be one of %s", b.Window, strings.Join(windows, ", "))
	case b.Calls+b.KiB == 0 && b.Window != "":
		return bad("window", "goes together with calls or kib only")
	case b.Waits && b.AtOnce == 0:
		return bad("waits", "goes together with atOnce only")
	case len(b.Note) > 500:
		return bad("note", "is longer than 500 characters")
	}
	return nil
}

// About reports whether a budget is about calls of a tool by an agent. Whoever takes a
// name takes the budgets of it.
func (b *Budget) About(who rules.Subject, server, tool string) bool {
	return rules.Match(b.Agent, who.Name) && rules.Match(b.Server, server) && rules.Match(b.Tool, tool) &&
		(b.Label == "" || slices.Contains(who.Labels, b.Label)) && (b.Person == "" || b.Person == who.Owner) &&
		(b.Group == "" || slices.Contains(who.Groups, b.Group))
}

// Whose is the one for whom a call of an agent counts. Agents of the team's have no person
// and count for themselves.
func (b *Budget) Whose(who rules.Subject) string {
	switch {
	case b.Per == PerAll:
		return ""
	case b.Per == PerPerson && who.OwnerID != "":
		return who.OwnerID
	}
	return who.ID
}

// Span is the window that a time is in, from its first moment to that of the next one.
func Span(window string, at time.Time) (from, until time.Time) {
	at = at.UTC()
	y, m, d := at.Date()
	switch window {
	case Minute:
		from = at.Truncate(time.Minute)
		return from, from.Add(time.Minute)
	case Hour:
		from = at.Truncate(time.Hour)
		return from, from.Add(time.Hour)
	case Week:
		from = time.Date(y, m, d-(int(at.Weekday())+6)%7, 0, 0, 0, 0, time.UTC)
		return from, from.AddDate(0, 0, 7)
	case Month:
		from = time.Date(y, m, 1, 0, 0, 0, 0, time.UTC)
		return from, from.AddDate(0, 1, 0)
	}
	from = time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
	return from, from.AddDate(0, 0, 1)
}

// CallsText says how many calls are allowed in a window.
func (b *Budget) CallsText() string { return counted(b.Calls, "call") + " " + a(b.Window) }

// KiBText says how many KiB are allowed in a window.
func (b *Budget) KiBText() string { return fmt.Sprintf("%d KiB %s", b.KiB, a(b.Window)) }

func a(window string) string {
	if window == Hour {
		return "an hour"
	}
	return "a " + window
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Describe says what a budget allows, in words.
func (b Budget) Describe() string {
	parts := []string{}
	if b.Calls > 0 {
		parts = append(parts, b.CallsText())
	}
	if b.KiB > 0 {
		parts = append(parts, b.KiBText())
	}
	if b.AtOnce > 0 {
		text := counted(b.AtOnce, "call") + " at a time"
		if b.Waits {
			text += ", others wait in turn"
		}
		parts = append(parts, text)
	}
	whom := map[string]string{PerAgent: "for each agent", PerPerson: "for each person", PerAll: "in all"}[b.Per]
	text := strings.Join(parts, " and ") + " " + whom + ": " + b.Tool + " on " + b.Server + " for " + b.Agent
	for _, more := range [...][2]string{{" labelled ", b.Label}, {" of ", b.Person}, {" of people in group ", b.Group}} {
		if more[1] != "" {
			text += more[0] + more[1]
		}
	}
	return text
}

// SpentError says which budget a call is over, and until when.
type SpentError struct {
	Budget string
	What   string    // calls, bytes, calls at a time
	Until  time.Time // zero where it is not a matter of time
	Text   string
}

func (e *SpentError) Error() string { return e.Text }
