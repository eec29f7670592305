package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"bouncer/internal/core/team"
)

const insertCall = `INSERT INTO calls (id, agent, person, server, tool, decision, rule,
	outcome, error, us, bytes_in, bytes_out, session, cut, arguments, result, times, control, seal)
	VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`

// CallKey is the order of a call in the journal: milliseconds since 1970 in the
// upper 48 bits, a count within the millisecond in the lower 16.
type CallKey int64

// ULID is the key as people see it: its upper half is the key, its lower half
// follows from the key.
func (k CallKey) ULID() string {
	var u ulid.ULID
	x := uint64(k)
	for i := 7; i >= 0; i-- {
		u[i] = byte(x)
		x >>= 8
	}
	// splitmix64, so that neighbouring ids do not look alike
	x = uint64(k) + 0x9e3779b97f4a7c15
	x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9
	x = (x ^ (x >> 27)) * 0x94d049bb133111eb
	x ^= x >> 31
	for i := 15; i >= 8; i-- {
		u[i] = byte(x)
		x >>= 8
	}
	return u.String()
}

// Time is when the call came in.
func (k CallKey) Time() time.Time { return fromMS(int64(k) >> 16) }

// ParseCallKey is the inverse of ULID.
func ParseCallKey(id string) (CallKey, error) {
	u, err := ulid.ParseStrict(strings.ToUpper(id))
	if err != nil {
		return 0, ErrNotFound
	}
	var x uint64
	for _, b := range u[:8] {
		x = x<<8 | uint64(b)
	}
	k := CallKey(x)
	if k < 0 || k.ULID() != u.String() {
		return 0, ErrNotFound
	}
	return k, nil
}

// KeyAt is the first key of a millisecond.
func KeyAt(t time.Time) CallKey { return CallKey(t.UnixMilli() << 16) }

// KeyedCall is a call with its place in the journal.
type KeyedCall struct {
	Key CallKey
	team.Call
}

// CallLog is the part of the state that holds the calls.
type CallLog struct{ store *Store }

// CallLog returns the part that holds the calls.
func (s *Store) CallLog() CallLog { return CallLog{s} }

// AppendCalls writes calls in one transaction, and the counts of those that are
// recorded already.
func (l CallLog) AppendCalls(ctx context.Context, calls []KeyedCall, repeats ...KeyedCall) error {
	return inTx(ctx, l.store.write, func(tx *sql.Tx) error {
		for i := range repeats {
			if _, err := tx.ExecContext(ctx, `UPDATE calls SET times = ? WHERE id = ?`, repeats[i].Times, int64(repeats[i].Key)); err != nil {
				return fmt.Errorf("count a refusal that repeats: %w", err)
			}
		}
		if len(calls) == 0 {
			return nil
		}
		seq, err := sealCalls(ctx, tx, calls)
		if err != nil {
			return err
		}
		insert := tx.StmtContext(ctx, l.store.insert)
		defer insert.Close()
		for i := range calls {
			c := &calls[i]
			if _, err := insert.ExecContext(ctx, int64(c.Key), c.Agent, c.Person, c.Server, c.Tool, c.Decision, c.Rule, c.Outcome, c.Error,
				c.Micros, c.BytesIn, c.BytesOut, c.Session, c.Cut, c.Arguments, c.Result, max(c.Times, 1), writeControl(c.Control), seq); err != nil {
				return err
			}
		}
		return nil
	})
}

// LastKey is after every key that there can be.
const LastKey = CallKey(1<<63 - 1)

// CallKeysAround returns the newest key below a key, and the oldest one from there
// on; 0 for none.
func (l CallLog) CallKeysAround(ctx context.Context, key CallKey) (below, above CallKey, err error) {
	var low, high sql.NullInt64
	err = l.store.read.QueryRowContext(ctx, `SELECT (SELECT max(id) FROM calls WHERE id < ?1), (SELECT min(id) FROM calls WHERE id >= ?1)`,
		int64(key)).Scan(&low, &high)
	return CallKey(low.Int64), CallKey(high.Int64), damaged(err)
}

// DropCallsBefore removes some of the oldest calls before a key, those of whole seals, and
// returns how many.
func (l CallLog) DropCallsBefore(ctx context.Context, before CallKey, most int) (n int, err error) {
	err = inTx(ctx, l.store.write, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, `DELETE FROM calls WHERE id IN (SELECT id
			FROM calls WHERE id < min(?1, (SELECT coalesce(min(first), ?1) FROM seals)) AND seal = 0 ORDER BY id LIMIT ?2)`, int64(before), most)
		if err != nil {
			return err
		}
		removed, err := res.RowsAffected()
		if err == nil && removed == 0 {
			removed, err = dropSealed(ctx, tx, before, most)
		}
		n = int(removed)
		return err
	})
	return n, err
}

// Size is how many bytes of the database are in use. What was removed is used again
// before the file grows.
func (l CallLog) Size(ctx context.Context) (int64, error) {
	var pages, free, size int64
	err := l.store.read.QueryRowContext(ctx, `SELECT p.page_count, f.freelist_count, s.page_size
		FROM pragma_page_count p, pragma_freelist_count f, pragma_page_size s`).Scan(&pages, &free, &size)
	return (pages - free) * size, err
}

// CallFilter selects calls; empty fields select all.
type CallFilter struct {
	Agent, Server, Tool, Decision, Outcome, Rule string
	Owner                                        string // only calls of this person's agents
	Text                                         string // in the tool name, the error, the arguments or the result
	Since, Until                                 time.Time
	Before                                       CallKey // only older ones: for the next page
	After                                        CallKey // only newer ones: to follow
	Limit                                        int
}

// DecisionHeld selects calls that a rule held, whatever became of them.
const DecisionHeld = "held"

func (f CallFilter) where() (string, []any) {
	terms, args := []string{"1"}, []any{}
	if f.Decision == DecisionHeld {
		f.Decision, terms = "", append(terms, `instr(control, '"held":') > 0`)
	}
	add := func(term string, arg any) { terms, args = append(terms, term), append(args, arg) }
	for _, c := range [...]struct{ column, value string }{
		{"agent", f.Agent}, {"server", f.Server}, {"decision", f.Decision}, {"outcome", f.Outcome}, {"person", f.Owner},
	} {
		if c.value != "" {
			add(c.column+" = ?", c.value)
		}
	}
	if f.Rule != "" {
		terms, args = append(terms, "rule IN (?, (SELECT r.id FROM rules r WHERE r.name = ?))"), append(args, f.Rule, f.Rule)
	}
	if f.Tool != "" {
		add("tool GLOB ?", f.Tool)
	}
	if f.Text != "" {
		terms = append(terms, `(instr(lower(tool), ?) OR instr(lower(error), ?) OR instr(lower(arguments), ?) OR instr(lower(result), ?))`)
		t := strings.ToLower(f.Text)
		args = append(args, t, t, t, t)
	}
	if !f.Since.IsZero() {
		add("id >= ?", int64(KeyAt(f.Since)))
	}
	if !f.Until.IsZero() {
		add("id < ?", int64(KeyAt(f.Until)))
	}
	if f.Before != 0 {
		add("id < ?", int64(f.Before))
	}
	if f.After != 0 {
		add("id > ?", int64(f.After))
	}
	return strings.Join(terms, " AND "), args
}

const callColumns = `id, agent, person, server, tool, decision, rule, coalesce((SELECT r.name FROM rules r WHERE r.id = calls.rule), ''),
	outcome, error, us, bytes_in, bytes_out, session, cut, times, control`

func scanCall(r scanner, more ...any) (v KeyedCall, err error) {
	var key int64
	var control string
	err = r.Scan(append([]any{&key, &v.Agent, &v.Person, &v.Server, &v.Tool, &v.Decision, &v.Rule, &v.RuleName, &v.Outcome, &v.Error,
		&v.Micros, &v.BytesIn, &v.BytesOut, &v.Session, &v.Cut, &v.Times, &control}, more...)...)
	v.Key = CallKey(key)
	v.ID, v.At = v.Key.ULID(), v.Key.Time()
	if err == nil && control != "" {
		err = json.Unmarshal([]byte(control), &v.Control)
	}
	return v, err
}

// writeControl writes what rules had to do with a call; most calls have nothing of it.
func writeControl(c *team.CallControl) string {
	if c == nil {
		return ""
	}
	// Texts and numbers cannot fail to be written.
	raw, _ := json.Marshal(c)
	return string(raw)
}

// Calls returns the newest calls that the filter selects, newest first, without
// arguments and results; with After set, the oldest of the newer ones.
func (l CallLog) Calls(ctx context.Context, f CallFilter) ([]KeyedCall, error) {
	where, args := f.where()
	order := "DESC"
	if f.After != 0 {
		order = "ASC"
	}
	return list(ctx, l.store.read, func(r scanner) (KeyedCall, error) { return scanCall(r) },
		`SELECT `+callColumns+` FROM calls WHERE `+where+` ORDER BY id `+order+` LIMIT ?`, append(args, f.Limit)...)
}

// DecidedBy counts the calls since a time that each rule decided, by the rule's id.
func (l CallLog) DecidedBy(ctx context.Context, since time.Time) (map[string]int, error) {
	type count struct {
		rule string
		n    int
	}
	counts, err := list(ctx, l.store.read, func(r scanner) (c count, err error) { return c, r.Scan(&c.rule, &c.n) },
		`SELECT rule, sum(times) FROM calls WHERE id >= ? AND rule <> '' GROUP BY rule`, int64(KeyAt(since)))
	out := make(map[string]int, len(counts))
	for _, c := range counts {
		out[c.rule] = c.n
	}
	return out, err
}

// ToolKey is a tool of a server.
type ToolKey struct{ Server, Tool string }

// UsedBy counts the calls of each tool that an agent was admitted to since a time.
func (l CallLog) UsedBy(ctx context.Context, agent string, since time.Time) (map[ToolKey]int, error) {
	type count struct {
		key ToolKey
		n   int
	}
	counts, err := list(ctx, l.store.read, func(r scanner) (c count, err error) { return c, r.Scan(&c.key.Server, &c.key.Tool, &c.n) },
		`SELECT server, tool, sum(times) FROM calls WHERE agent = ? AND id >= ? AND decision = 'admit' GROUP BY server, tool`,
		agent, int64(KeyAt(since)))
	out := make(map[ToolKey]int, len(counts))
	for _, c := range counts {
		out[c.key] = c.n
	}
	return out, err
}

// Recent gives the newest calls since a time to fn, newest first, with their arguments.
func (l CallLog) Recent(ctx context.Context, since time.Time, most int, fn func(KeyedCall) error) error {
	rows, err := l.store.read.QueryContext(
		ctx,
		`SELECT `+callColumns+`, arguments, result FROM calls WHERE id >= ? ORDER BY id DESC LIMIT ?`,
		int64(KeyAt(since)),
		most,
	)
	if err != nil {
		return damaged(err)
	}
	defer rows.Close()
	for rows.Next() {
		var arguments, result string
		v, err := scanCall(rows, &arguments, &result)
		if err != nil {
			return damaged(err)
		}
		v.Arguments = arguments
		if err := fn(v); err != nil {
			return err
		}
	}
	return damaged(rows.Err())
}

// HeldBefore returns the newest calls of a tool by an agent since a time that somebody
// decided about.
func (l CallLog) HeldBefore(ctx context.Context, since time.Time, agent, server, tool string, most int) ([]KeyedCall, error) {
	return list(ctx, l.store.read, func(r scanner) (KeyedCall, error) { return scanCall(r) },
		`SELECT `+callColumns+` FROM calls
		WHERE id >= ? AND agent = ? AND server = ? AND tool = ? AND control LIKE '%"by":%' ORDER BY id DESC LIMIT ?`,
		int64(KeyAt(since)), agent, server, tool, most)
}

// CallByKey returns one call in full.
func (l CallLog) CallByKey(ctx context.Context, key CallKey) (KeyedCall, error) {
	var arguments, result string
	v, err := first(ctx, l.store.read, func(r scanner) (KeyedCall, error) { return scanCall(r, &arguments, &result) },
		`SELECT `+callColumns+`, arguments, result FROM calls WHERE id = ?`, int64(key))
	v.Arguments, v.Result = arguments, result
	return v, err
}

// CallCounts counts the selected calls in equal steps from f.Since on; steps
// without calls are left out.
func (l CallLog) CallCounts(ctx context.Context, f CallFilter, step time.Duration) ([]team.Bucket, error) {
	if step < time.Second {
		return nil, fmt.Errorf("a step of %v is too short", step)
	}
	where, args := f.where()
	from, width := ms(f.Since), step.Milliseconds()
	return list(ctx, l.store.read, func(r scanner) (b team.Bucket, err error) {
		var at int64
		err = r.Scan(&at, &b.OK, &b.Refused, &b.Failed)
		b.At = fromMS(from + at*width)
		return b, err
	}, fmt.Sprintf(`SELECT ((id >> 16) - %d) / %d, sum(outcome = 'ok'), sum(times * (outcome = 'refused')), sum(outcome NOT IN ('ok', 'refused'))
		FROM calls WHERE %s GROUP BY 1 ORDER BY 1`, from, width, where), args...)
}
