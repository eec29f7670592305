package link

import (
	"sync"
	"time"
)

// Progress tells what is being opened right now: the step that each server is in, since
// when, and what its process wrote last. What is done is forgotten, so that it holds no
// more than there are attempts under way. The zero value is ready; nil keeps nothing. It
// is safe for concurrent use.
type Progress struct {
	mu  sync.Mutex // guards now
	now map[string]*Step
}

// Step is what one attempt at reaching a server is doing.
type Step struct {
	Stage string    // as in team.Stage
	Since time.Time // when the stage began
	Words string    // what the process wrote last; "" for none
	words func() string
}

// Enter says that an attempt at a server is in a stage; words tells what its process
// wrote last, and may be nil. The attempt leaves it by calling what is returned.
func (p *Progress) Enter(server, stage string, words func() string) (leave func()) {
	if p == nil {
		return func() {}
	}
	mine := &Step{Stage: stage, Since: time.Now(), words: words}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.now == nil {
		p.now = map[string]*Step{}
	}
	p.now[server] = mine // of several attempts, the one that began a stage last
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.now[server] == mine {
			delete(p.now, server)
		}
	}
}

// At returns what an attempt at a server is doing; ok is false when there is none.
func (p *Progress) At(server string) (s Step, ok bool) {
	if p == nil {
		return s, false
	}
	p.mu.Lock()
	now := p.now[server]
	p.mu.Unlock()
	if now == nil {
		return s, false
	}
	s = Step{Stage: now.Stage, Since: now.Since}
	if now.words != nil {
		s.Words = now.words()
	}
	return s, true
}
