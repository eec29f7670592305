package budget

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/rules"
)

func TestWindowsAreThoseOfTheCalendar(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 3, 1, 23, 59, 30, 5, time.FixedZone("", 3600)) // a Sunday, 22:59 in UTC
	for window, want := range map[string][2]string{
		Minute: {"2026-03-01T22:59:00Z", "2026-03-01T23:00:00Z"}, Hour: {"2026-03-01T22:00:00Z", "2026-03-01T23:00:00Z"},
		Day: {"2026-03-01T00:00:00Z", "2026-03-02T00:00:00Z"}, Week: {"2026-02-23T00:00:00Z", "2026-03-02T00:00:00Z"},
		Month: {"2026-03-01T00:00:00Z", "2026-04-01T00:00:00Z"},
	} {
		from, until := Span(window, at)
		assert.Equal(t, want, [2]string{from.Format(time.RFC3339), until.Format(time.RFC3339)}, window)
		again, _ := Span(window, until.Add(-time.Nanosecond))
		assert.Equal(t, from, again, window)
		next, _ := Span(window, until)
		assert.Equal(t, until, next, window)
	}
}

func TestWhomABudgetIsAbout(t *testing.T) {
	t.Parallel()
	voice := rules.Subject{ID: "a1", Name: "quay-voice", Labels: []string{"voice"}}
	quill := rules.Subject{ID: "a2", Name: "joss-quill", Owner: "joss", OwnerID: "p1", Groups: []string{"dispatch"}}
	all := Allowance{Agent: "*", Server: "*", Tool: "*"}
	for name, row := range map[string]struct {
		alter func(*Allowance)
		want  [2]bool
	}{
		"all": {func(*Allowance) {}, [2]bool{true, true}}, "a label": {func(t *Allowance) { t.Label = "voice" }, [2]bool{true, false}},
		"a name": {func(t *Allowance) { t.Agent = "*-quill" }, [2]bool{false, true}}, "a person": {func(t *Allowance) { t.Person = "joss" }, [2]bool{false, true}},
		"a group": {func(t *Allowance) { t.Group = "dispatch" }, [2]bool{false, true}}, "another server": {func(t *Allowance) { t.Server = "tides" }, [2]bool{}},
		"another tool": {func(t *Allowance) { t.Tool = "order_*" }, [2]bool{}},
	} {
		b := Budget{Allowance: all}
		row.alter(&b.Allowance)
		assert.Equal(t, row.want, [2]bool{b.About(voice, "sailings", "find"), b.About(quill, "sailings", "find")}, name)
	}
	for per, want := range map[string][2]string{PerAgent: {"a1", "a2"}, PerPerson: {"a1", "p1"}, PerAll: {"", ""}} {
		b := Budget{Allowance: Allowance{Per: per}}
		assert.Equal(t, want, [2]string{b.Whose(voice), b.Whose(quill)}, per)
	}
}

func TestBudgetsThatCannotBe(t *testing.T) {
	t.Parallel()
	good := Budget{Name: "voice", Allowance: Allowance{Agent: "*", Server: "*", Tool: "*", Per: PerAgent, Window: Minute, Calls: 30, AtOnce: 2}}
	require.NoError(t, good.Check())
	assert.Equal(t, "30 calls a minute and 2 calls at a time for each agent: * on * for *", good.Describe())
	for field, alter := range map[string]func(*Budget){
		"name": func(b *Budget) { b.Name = "Voice" }, "agent": func(b *Budget) { b.Agent = "" }, "tool": func(b *Budget) { b.Tool = "a b" },
		"per": func(b *Budget) { b.Per = "team" }, "window": func(b *Budget) { b.Window = "year" }, "label": func(b *Budget) { b.Label = "A B" },
		"calls": func(b *Budget) { b.Calls, b.AtOnce, b.Window = 0, 0, "" }, "waits": func(b *Budget) { b.AtOnce, b.Waits = 0, true },
	} {
		b := good
		alter(&b)
		var fe *rules.FieldError
		require.ErrorAs(t, b.Check(), &fe, field)
		assert.Equal(t, field, fe.Field)
	}
	for what, alter := range map[string]func(*Budget){
		"window goes together with calls": func(b *Budget) { b.Calls = 0 },
		"must be one of minute":           func(b *Budget) { b.Calls, b.KiB, b.Window = 0, 1, "" },
		"must not be below 0":             func(b *Budget) { b.KiB = -1 },
		"nor must kib and atOnce":         func(b *Budget) { b.AtOnce = 10_001 },
		"say at least one":                func(b *Budget) { b.Calls, b.KiB, b.AtOnce, b.Window = 0, 0, 0, "" },
		"is longer than 500":              func(b *Budget) { b.Note = strings.Repeat("x", 501) },
		`name one, or use "*"`:            func(b *Budget) { b.Server = strings.Repeat("s", rules.MaxGlob+1) },
	} {
		b := good
		alter(&b)
		assert.ErrorContains(t, b.Check(), what)
	}
	// What is just acceptable, in all ways in which amounts go together.
	for _, alter := range []func(*Budget){
		func(b *Budget) {
			b.AtOnce, b.Note, b.Server = 10_000, strings.Repeat("x", 500), strings.Repeat("s", rules.MaxGlob)
		},
		func(b *Budget) { b.Calls, b.KiB = 0, 7 },
		func(b *Budget) { b.Calls, b.KiB, b.AtOnce = 7, 7, 0 },
		func(b *Budget) { b.Calls, b.KiB, b.AtOnce, b.Window, b.Waits = 0, 0, 1, "", true },
		func(b *Budget) { b.Calls, b.KiB, b.AtOnce = 1, 0, 1 },
		func(b *Budget) { b.Calls, b.KiB, b.AtOnce = 0, 1, 1 },
	} {
		b := good
		alter(&b)
		assert.NoError(t, b.Check())
	}
}

func TestBudgetsInWords(t *testing.T) {
	t.Parallel()
	for want, allowed := range map[string]Allowance{
		"1 call an hour for each person":                       {Per: PerPerson, Window: Hour, Calls: 1},
		"20 KiB a day in all":                                  {Per: PerAll, Window: Day, KiB: 20},
		"2 calls a week and 1 KiB a week for each agent":       {Per: PerAgent, Window: Week, Calls: 2, KiB: 1},
		"1 call at a time, others wait in turn in all":         {Per: PerAll, AtOnce: 1, Waits: true},
		"3 calls a month and 2 calls at a time for each agent": {Per: PerAgent, Window: Month, Calls: 3, AtOnce: 2},
	} {
		allowed.Agent, allowed.Server, allowed.Tool, allowed.Group = "voice", "fuel", "order", "dispatch"
		assert.Equal(t, want+": order on fuel for voice of people in group dispatch", Budget{Allowance: allowed}.Describe())
	}
}
