// Package budget counts what agents use of their budgets, refuses what is over them, and
// keeps the budgets themselves. Counts are in memory, are written now and then, and outlive
// the service but for the last moments before a crash.
package budget

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"bouncer/internal/core/budget"
	"bouncer/internal/core/rules"
	"bouncer/internal/gate"
	"bouncer/internal/store"
)

// writeEvery is how often counts are written.
const writeEvery = 10 * time.Second

// forgotten is after how long a count is dropped that nobody uses any more: longer than
// the longest window.
const forgotten = 62 * 24 * time.Hour

// Limits on those who wait for their turn.
const (
	waitOfAgent = 64
	waitInAll   = 512
)

// Meter counts. It is safe for concurrent use; Start and Close frame its life.
type Meter struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time
	// Told is told of a budget that is spent, once for each window: whose call found it so,
	// the budget, and what there is to say. It must not block; nil for nobody.
	Told func(agentID, budget, text string)
	// Forgot is told of a budget that begins anew here; nil for nobody.
	Forgot func(budgetID string)
	stop   chan struct{}
	ended  chan struct{}

	mu   sync.Mutex // guards used and the counts in it; held over no I/O and no wait
	used map[key]*count
}

type key struct{ budget, whose string }

// count is what one uses of a budget.
type count struct {
	began        time.Time
	calls, bytes int64
	atOnce       int
	altered      bool             // since it was written
	untold       bool             // since other nodes were told
	elsewhere    map[string]share // what was used at other nodes, by their names
	told         bool             // that it is spent in this window
	queue        *gate.Queue
	slots        int // of the queue
}

// New returns a meter.
func New(s *store.Store, log *slog.Logger, now func() time.Time) *Meter {
	if now == nil {
		now = time.Now
	}
	return &Meter{store: s, log: log, now: now, stop: make(chan struct{}), ended: make(chan struct{}), used: map[key]*count{}}
}

// Start takes up the counts that were written, and has new ones written from now on.
func (m *Meter) Start(ctx context.Context) error {
	list, err := m.store.Control().BudgetUse(ctx)
	if err != nil {
		return fmt.Errorf("read what is used of budgets: %w", err)
	}
	for _, v := range list {
		m.used[key{v.Budget, v.Whose}] = &count{began: v.Began, calls: v.Calls, bytes: v.Bytes}
	}
	go m.run()
	return nil
}

func (m *Meter) run() {
	defer close(m.ended)
	t := time.NewTicker(writeEvery)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			m.write()
		case <-m.stop:
			m.write()
			return
		}
	}
}

// Close writes the counts.
func (m *Meter) Close() {
	close(m.stop)
	<-m.ended
}

func (m *Meter) write() {
	var list []store.BudgetUse
	m.mu.Lock()
	for k, c := range m.used {
		if c.altered {
			list = append(list, store.BudgetUse{Budget: k.budget, Whose: k.whose, Began: c.began, Calls: c.calls, Bytes: c.bytes})
			c.altered = false
		} else if c.atOnce == 0 && m.now().Sub(c.began) > forgotten {
			delete(m.used, k)
		}
	}
	m.mu.Unlock()
	if len(list) == 0 {
		return
	}
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	if err := m.store.Local(ctx, func(tx *store.Tx) error { return tx.KeepBudgetUse(list) }); err != nil {
		m.log.Error("what is used of budgets could not be written", "error", err)
	}
}

// count is that of one for whom a budget counts, in the window of now; the caller holds
// the lock.
func (m *Meter) count(b *budget.Budget, whose string, now time.Time) *count {
	k := key{b.ID, whose}
	c := m.used[k]
	if c == nil {
		c = &count{}
		m.used[k] = c
	}
	if b.Window != "" {
		if from, _ := budget.Span(b.Window, now); from.After(c.began) {
			c.began, c.calls, c.bytes, c.altered, c.told = from, 0, 0, true, false
		}
	}
	if b.Waits && (c.queue == nil || c.slots != b.AtOnce) {
		// Those who were in the old one leave it as it is.
		c.queue, c.slots = gate.NewQueue("calls that wait for budget "+b.Name, b.AtOnce, waitOfAgent, waitInAll), b.AtOnce
	}
	return c
}

// spent says what of a budget is used up.
func (c *count) spent(b *budget.Budget, now time.Time) *budget.SpentError {
	_, until := budget.Span(b.Window, now)
	e := &budget.SpentError{Budget: b.Name, Until: until}
	again := fmt.Sprintf("; again at %s", until.Format("2006-01-02 15:04:05 MST"))
	calls, bytes, atOnce := c.total(b, now)
	switch {
	case b.Calls > 0 && calls >= int64(b.Calls):
		e.What, e.Text = "calls", fmt.Sprintf("budget %s is spent: %s%s", b.Name, b.CallsText(), again)
	case b.KiB > 0 && bytes >= int64(b.KiB)<<10:
		e.What, e.Text = "bytes", fmt.Sprintf("budget %s is spent: %s%s", b.Name, b.KiBText(), again)
	case b.AtOnce > 0 && !b.Waits && atOnce >= b.AtOnce:
		e.What, e.Until = "calls at a time", time.Time{}
		e.Text = fmt.Sprintf("budget %s allows %d calls at a time, and as many are under way; wait until one has ended", b.Name, b.AtOnce)
	default:
		return nil
	}
	return e
}

// Take counts a call against its budgets, all or none, and waits for its turn where a
// budget has calls wait. done counts what it brought, once. Errors are *budget.SpentError,
// *gate.FullError and those of the context.
func (m *Meter) Take(ctx context.Context, list []*budget.Budget, who rules.Subject) (done func(bytes int), err error) {
	now := m.now()
	m.mu.Lock()
	counts := make([]*count, len(list))
	for i, b := range list {
		counts[i] = m.count(b, b.Whose(who), now)
		if e := counts[i].spent(b, now); e != nil {
			first := !counts[i].told && !e.Until.IsZero()
			counts[i].told = counts[i].told || first
			m.mu.Unlock()
			if first && m.Told != nil {
				m.Told(who.ID, b.Name, e.Text)
			}
			return nil, e
		}
	}
	queues := []*gate.Queue{}
	for i, b := range list {
		counts[i].calls++
		counts[i].atOnce++
		counts[i].altered, counts[i].untold = counts[i].altered || b.Window != "", true
		if b.Waits {
			queues = append(queues, counts[i].queue)
		}
	}
	m.mu.Unlock()
	finish := func(bytes int) {
		m.mu.Lock()
		defer m.mu.Unlock()
		for _, c := range counts {
			c.atOnce--
			c.bytes += int64(bytes)
			c.untold = true
		}
	}
	leaves := []func(){}
	leave := func() {
		for _, l := range leaves {
			l()
		}
	}
	for _, q := range queues {
		l, err := q.Enter(ctx, who.ID)
		if err != nil {
			leave()
			finish(0)
			return nil, err
		}
		leaves = append(leaves, l)
	}
	var once sync.Once
	return func(bytes int) { once.Do(func() { leave(); finish(bytes) }) }, nil
}

// Spent reports which budget a call would be over now; nil for none.
func (m *Meter) Spent(list []*budget.Budget, who rules.Subject) *budget.SpentError {
	now := m.now()
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, b := range list {
		if e := m.count(b, b.Whose(who), now).spent(b, now); e != nil {
			return e
		}
	}
	return nil
}

// Use is what is used of a budget now, by whom it counts for.
type Use struct {
	Whose        string
	Calls, Bytes int64
	AtOnce       int
}

// Uses returns what is used of a budget in the present window.
func (m *Meter) Uses(b *budget.Budget) (out []Use) {
	now := m.now()
	m.mu.Lock()
	defer m.mu.Unlock()
	for k := range m.used {
		if k.budget == b.ID {
			c := m.count(b, k.whose, now)
			calls, bytes, atOnce := c.total(b, now)
			out = append(out, Use{k.whose, calls, bytes, atOnce})
		}
	}
	return out
}

// Reset forgets what is used of a budget.
func (m *Meter) Reset(budgetID string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for k, c := range m.used {
		if k.budget == budgetID {
			c.calls, c.bytes, c.altered, c.untold, c.elsewhere = 0, 0, true, true, nil
		}
	}
}
