package approval_test

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/control/approval"
	"bouncer/internal/core/mask"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/team"
	"bouncer/internal/events"
	"bouncer/internal/gate"
	"bouncer/internal/held"
	"bouncer/internal/store"
)

// lobby is a room with a clock and a few people.
type lobby struct {
	*approval.Room
	t    *testing.T
	mu   sync.Mutex
	now  time.Time
	told []string
	// telling, unless nil, is what it takes until somebody is told that a call waits.
	telling chan struct{}
}

func (l *lobby) forward(d time.Duration) { l.mu.Lock(); l.now = l.now.Add(d); l.mu.Unlock() }

var (
	admin      = team.Person{ID: "1", Name: "marit", FullName: "Marit Aune", Role: team.Admin}
	maintainer = team.Person{ID: "2", Name: "joss", FullName: "Joss Penhale", Role: team.Maintainer}
	member     = team.Person{ID: "3", Name: "ottilie", FullName: "Ottilie Brandt", Role: team.Member}
	other      = team.Person{ID: "4", Name: "teo", FullName: "Teo Castellane", Role: team.Member}
	auditor    = team.Person{ID: "5", Name: "wren", FullName: "Wren Adair", Role: team.Auditor}
)

func enter(t *testing.T) *lobby {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "b.db"), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	l := &lobby{t: t, now: time.Unix(1_800_000_000, 0)}
	masker := mask.New([]string{"skf-4hg2Lq9vPz7Wm1Tx"})
	l.Room = approval.New(approval.Options{
		Store: s, Events: events.New(), Masker: func() *mask.Masker { return masker }, Book: &gate.Book{}, Log: slog.New(slog.DiscardHandler),
		Now: func() time.Time { l.mu.Lock(); defer l.mu.Unlock(); return l.now },
		Told: func(id string, decided bool) {
			if l.telling != nil && !decided {
				<-l.telling
			}
			l.mu.Lock()
			defer l.mu.Unlock()
			l.told = append(l.told, map[bool]string{false: "waits", true: "decided"}[decided])
		},
	})
	t.Cleanup(l.Close)
	return l
}

func request(agent, owner string, rule rules.Rule) held.Call {
	rule.ID, rule.Name, rule.Effect = "r", "look", rules.Hold
	rule.Agent, rule.Server, rule.Tool = "*", "*", "*"
	return held.Call{
		Rule: rule, AgentID: "id-" + agent, Agent: agent, Owner: owner, Server: "fuel", Tool: "order", Session: "s1",
		Arguments: json.RawMessage(`{"key":"skf-4hg2Lq9vPz7Wm1Tx"}`),
		Check: func(a json.RawMessage) (json.RawMessage, error) {
			if string(a) == `{"litres":1}` {
				return json.RawMessage(`{"litres":1,"by":"joss"}`), nil
			}
			return nil, errors.New("litres is too much")
		},
	}
}

type outcome struct {
	verdict held.Verdict
	err     error
}

// wait has a call wait, and returns its id and what becomes of it.
func (l *lobby) wait(ctx context.Context, c held.Call) (string, <-chan outcome) {
	l.t.Helper()
	before := len(l.list(admin))
	out := make(chan outcome, 1)
	go func() {
		v, err := l.Wait(ctx, c)
		out <- outcome{v, err}
	}()
	require.Eventually(l.t, func() bool { return len(l.list(admin)) > before }, 20*time.Second, time.Millisecond)
	list := l.list(admin)
	return list[len(list)-1].ID, out
}

func (l *lobby) list(by team.Person) []apitype.HeldCall {
	l.t.Helper()
	list, err := l.List(l.t.Context(), by, true)
	require.NoError(l.t, err)
	return list
}

func (l *lobby) decide(by team.Person, id string, d apitype.HeldDecision) error {
	_, err := l.Decide(l.t.Context(), by, id, d)
	return err
}

func field(err error) string {
	var fe *team.FieldError
	if errors.As(err, &fe) {
		return fe.Field
	}
	return ""
}

// Who sees and who decides follows from the rule, the role and whose agent it is.
func TestWhoDecides(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		owner string
		rule  rules.Rule
		sees  string // of marit, joss, ottilie, teo, wren: the first letters
		may   string
	}{
		"usually":             {"ottilie", rules.Rule{}, "mjow", "mj"},
		"of the team":         {"", rules.Rule{}, "mjw", "mj"},
		"one's own":           {"joss", rules.Rule{}, "mjw", "m"},
		"one's own, allowed":  {"ottilie", rules.Rule{Terms: rules.Terms{OwnDecides: true}}, "mjow", "mjo"},
		"a person":            {"ottilie", rules.Rule{Terms: rules.Terms{Deciders: []string{"person:teo"}}}, "mjotw", "t"},
		"a role":              {"ottilie", rules.Rule{Terms: rules.Terms{Deciders: []string{"role:admin"}}}, "mjow", "m"},
		"a group of nobody":   {"", rules.Rule{Terms: rules.Terms{Deciders: []string{"group:dispatch"}}}, "mjw", ""},
		"auditors never":      {"", rules.Rule{Terms: rules.Terms{Deciders: []string{"person:wren"}}}, "mjw", ""},
		"members, not theirs": {"ottilie", rules.Rule{Terms: rules.Terms{Deciders: []string{"role:member"}}}, "mjotw", "t"},
	} {
		l := enter(t)
		id, out := l.wait(t.Context(), request("quill", row.owner, row.rule))
		sees, may := "", ""
		for _, p := range []team.Person{admin, maintainer, member, other, auditor} {
			list := l.list(p)
			err := l.decide(p, id, apitype.HeldDecision{How: "changed", Arguments: json.RawMessage(`{"litres":9}`)})
			var missing *team.NotFoundError
			var refused *team.NotAllowedError
			switch {
			case len(list) == 0:
				assert.ErrorAs(t, err, &missing, "%s, %s", name, p.Name)
				continue
			case list[0].Mine:
				assert.Equal(t, "arguments", field(err), "%s, %s may: only the arguments are wrong", name, p.Name)
				may += p.Name[:1]
			default:
				assert.ErrorAs(t, err, &refused, "%s, %s", name, p.Name)
				assert.NotEmpty(t, list[0].Why, "%s, %s", name, p.Name)
			}
			sees += p.Name[:1]
			assert.NotContains(t, string(list[0].Arguments), "skf-4hg2", name)
		}
		assert.Equal(t, []string{row.sees, row.may}, []string{sees, may}, name)
		l.Close()
		var undecided *held.UndecidedError
		require.ErrorAs(t, (<-out).err, &undecided, name)
		assert.Equal(t, held.Restarted, undecided.How)
	}
}

// A decision counts once, or for the like as it says: for a number of calls, for an hour,
// for the session; never for another agent, tool or rule.
func TestHowFarADecisionReaches(t *testing.T) {
	t.Parallel()
	l := enter(t)
	first := request("quill", "ottilie", rules.Rule{})
	admit := func(c held.Call, d apitype.HeldDecision) held.Verdict {
		t.Helper()
		id, out := l.wait(t.Context(), c)
		l.forward(3 * time.Second)
		require.NoError(t, l.decide(maintainer, id, d))
		var conflict *team.ConflictError
		assert.ErrorAs(t, l.decide(admin, id, d), &conflict, "never twice")
		got := <-out
		require.NoError(t, got.err)
		assert.Equal(t, 3*time.Second, got.verdict.Waited)
		return got.verdict
	}
	v := admit(first, apitype.HeldDecision{How: "once", Word: " go on "})
	assert.Equal(t, []any{true, "joss", "Joss Penhale", "go on"}, []any{v.Admitted, v.By, v.ByName, v.Word})
	assert.False(t, l.Covered(first))
	v = admit(first, apitype.HeldDecision{How: "changed", Arguments: json.RawMessage(`{"litres":1}`)})
	assert.JSONEq(t, `{"litres":1,"by":"joss"}`, string(v.Arguments))
	assert.False(t, admit(first, apitype.HeldDecision{How: "refuse"}).Admitted)

	admit(first, apitype.HeldDecision{How: "calls", Calls: 2})
	for range 2 {
		v, err := l.Wait(t.Context(), first)
		require.NoError(t, err)
		assert.Equal(t, []any{true, "calls", time.Duration(0)}, []any{v.Admitted, v.How, v.Waited})
	}
	assert.False(t, l.Covered(first), "they are used up")

	admit(first, apitype.HeldDecision{How: "hour"})
	for name, alter := range map[string]func(*held.Call){
		"another agent":   func(c *held.Call) { c.AgentID = "id-other" },
		"another tool":    func(c *held.Call) { c.Tool = "levels" },
		"another server":  func(c *held.Call) { c.Server = "tides" },
		"another rule":    func(c *held.Call) { c.Rule.ID = "q" },
		"an altered rule": func(c *held.Call) { c.Rule.Deciders = []string{"role:admin"} },
	} {
		c := first
		alter(&c)
		assert.False(t, l.Covered(c), name)
	}
	elsewhere := first
	elsewhere.Session = "s2"
	assert.True(t, l.Covered(elsewhere))
	l.forward(time.Hour - 4*time.Second)
	assert.True(t, l.Covered(first))
	l.forward(4 * time.Second)
	assert.False(t, l.Covered(first), "the hour is over")

	admit(first, apitype.HeldDecision{How: "session"})
	assert.True(t, l.Covered(first))
	assert.False(t, l.Covered(elsewhere))
	standing, err := l.Standing(t.Context(), member)
	require.NoError(t, err)
	require.Len(t, standing, 1)
	assert.Equal(t, []any{"session", "joss", false}, []any{standing[0].How, standing[0].By, standing[0].Mine})
	assert.Error(t, l.TakeBack(t.Context(), member, standing[0].ID))
	assert.Error(t, l.TakeBack(t.Context(), other, standing[0].ID))
	require.NoError(t, l.TakeBack(t.Context(), admin, standing[0].ID))
	assert.False(t, l.Covered(first))
	assert.Error(t, l.TakeBack(t.Context(), admin, standing[0].ID))
	// Without a session there is none for which it could stand.
	none := first
	none.Session = ""
	admit(none, apitype.HeldDecision{How: "session"})
	assert.False(t, l.Covered(none))
	assert.Equal(t, []string{"waits", "decided", "waits", "decided"}, l.told[:4])
}

// Whoever decides at once does not have others hear of the decision first.
func TestTheOrderOfWhatIsTold(t *testing.T) {
	t.Parallel()
	l := enter(t)
	l.telling = make(chan struct{})
	id, out := l.wait(t.Context(), request("a", "ottilie", rules.Rule{}))
	decided := make(chan error, 1)
	go func() { decided <- l.decide(admin, id, apitype.HeldDecision{How: "once"}) }()
	require.Eventually(t, func() bool { return len(l.list(admin)) == 0 }, 20*time.Second, time.Millisecond)
	close(l.telling)
	require.NoError(t, <-decided)
	assert.True(t, (<-out).verdict.Admitted)
	assert.Equal(t, []string{"waits", "decided"}, l.told)
}

// What cannot be decided is said by its field; time and a caller that leaves end the wait;
// and no agent fills the room for the others.
func TestTheRoomIsBounded(t *testing.T) {
	t.Parallel()
	l := enter(t)
	id, out := l.wait(t.Context(), request("quill", "ottilie", rules.Rule{Terms: rules.Terms{HoldSeconds: 1}}))
	for name, row := range map[string]struct {
		d     apitype.HeldDecision
		field string
	}{
		"no way":             {apitype.HeldDecision{}, "how"},
		"another way":        {apitype.HeldDecision{How: "always"}, "how"},
		"no calls":           {apitype.HeldDecision{How: "calls"}, "calls"},
		"too many calls":     {apitype.HeldDecision{How: "calls", Calls: 101}, "calls"},
		"no arguments":       {apitype.HeldDecision{How: "changed"}, "arguments"},
		"too much":           {apitype.HeldDecision{How: "changed", Arguments: json.RawMessage(`{"litres":2}`)}, "arguments"},
		"arguments for once": {apitype.HeldDecision{How: "once", Arguments: json.RawMessage(`{}`)}, "arguments"},
		"a long word":        {apitype.HeldDecision{How: "once", Word: string(make([]byte, 501))}, "word"},
	} {
		assert.Equal(t, row.field, field(l.decide(admin, id, row.d)), name)
	}
	var undecided *held.UndecidedError
	require.ErrorAs(t, (<-out).err, &undecided)
	assert.Equal(t, held.Expired, undecided.How)
	var conflict *team.ConflictError
	assert.ErrorAs(t, l.decide(admin, id, apitype.HeldDecision{How: "once"}), &conflict, "it is too late")

	ctx, leave := context.WithCancelCause(t.Context())
	_, out = l.wait(ctx, request("quill", "ottilie", rules.Rule{}))
	gone := errors.New("it left")
	leave(gone)
	assert.ErrorIs(t, (<-out).err, gone)

	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	for range 20 {
		l.wait(ctx, request("quill", "ottilie", rules.Rule{}))
	}
	_, err := l.Wait(ctx, request("quill", "ottilie", rules.Rule{}))
	require.ErrorAs(t, err, &undecided)
	assert.Contains(t, undecided.Why, "wait until some are decided")
	_, _ = l.wait(ctx, request("parlour", "teo", rules.Rule{})) // somebody else's
}
