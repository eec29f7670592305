package carry

import (
	"sync"
	"time"

	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/link"
	"bouncer/internal/snapshot"
)

// task is a call that a server carries out behind its answer: a task of revision
// 2025-11-25, or one of the extension of 2026-07-28.
type task struct {
	target *snapshot.Target
	link   link.Link
	used   time.Time
	holder gate.Holder
}

// tasks are those that agents may ask about. A task is of the session whose call
// began it, or of the agent where there is no session: nobody else sees it.
type tasks struct {
	gate *gate.Gate

	mu  sync.Mutex // guards all
	all map[taskKey]task
}

type taskKey struct{ holder, id string }

// Limits on tasks.
const idleTask = 24 * time.Hour

var taskLimits = gate.Limits{Agent: 1_000, Person: 2_000, All: 20_000}

// taskOf is the id of the task that an answer began; ok is false when it began none.
func (j *Call) taskOf(frame []byte, f wire.Frame) (id string, ok bool) {
	var at wire.Span
	switch kind, _ := wire.StringAt(frame, f.ResultType); {
	case kind == "task":
		at = wire.Member(frame, f.Result, "taskId")
	case j.caller.Session != nil && !j.params.Task.Empty():
		at = wire.Member(frame, wire.Member(frame, f.Result, "task"), "taskId")
	}
	if at.Empty() {
		return "", false
	}
	return wire.StringAt(frame, at)
}

// noteTask notes the task that an answer began, if it did; false when it cannot
// be noted.
func (j *Call) noteTask(frame []byte, f wire.Frame) bool {
	if !f.Error.Empty() || j.translation.Method != "tools/call" {
		return true
	}
	id, ok := j.taskOf(frame, f)
	if !ok {
		return true
	}
	t := &j.carrier.tasks
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil {
		t.all = map[taskKey]task{}
	}
	key := taskKey{j.caller.Holder(), id}
	old, twice := t.all[key]
	if twice && old.target.Server.ID != j.target.Server.ID {
		return false
	}
	holder := j.caller.GateHolder()
	if !twice && t.gate.Take(holder, 1) != nil {
		return false
	}
	t.all[key] = task{j.target, j.link, time.Now(), holder}
	return true
}

// task returns a task of the caller. Its server must still be within reach, and at
// the address where it is asked for.
func (carrier *Carrier) task(c *Caller, id string) (task, bool) {
	carrier.tasks.mu.Lock()
	defer carrier.tasks.mu.Unlock()
	key := taskKey{c.Holder(), id}
	t, ok := carrier.tasks.all[key]
	if !ok || (c.Scope != "" && c.Scope != t.target.Server.Name) {
		return t, false
	}
	t.used = time.Now()
	carrier.tasks.all[key] = t
	s := c.Snapshot.Servers[t.target.Server.Name]
	if s != nil {
		s = s.For(c.Agent)
	}
	if s == nil || s.ID != t.target.Server.ID || s.Paused {
		return t, false
	}
	// What rules hide of results now is hidden, whatever held when the task began.
	now := c.Snapshot.Decide(c.Agent, c.How, s, tools.Tools, tools.Tool{
		Name: t.target.Tool.Name, Raw: t.target.Tool.Raw, Fingerprint: t.target.Tool.Fingerprint,
	})
	if own := c.Catalog.Find(tools.Tools, t.target.Exposed); own != nil && own.Server.ID == s.ID {
		now = own
	}
	t.target = now
	return t, now.Admitted()
}

// drop forgets tasks that match.
func (t *tasks) drop(match func(taskKey, task) bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key, x := range t.all {
		if match(key, x) {
			delete(t.all, key)
			t.gate.Give(x.holder, 1)
		}
	}
}
