package oauth

import (
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/team"
)

// Limits on authorizations under way.
const (
	pendingTime  = 10 * time.Minute
	lostAfter    = 5 * time.Second
	maxPending   = 2_000
	maxOfPerson  = 20 // or of one address, of somebody who is not signed in
	maxProblems  = 500
	maxBackBytes = 300
)

// PendingAuthorization is an authorization under way. It belongs to the browser
// that began it.
type PendingAuthorization[T any] struct {
	*Authorization
	// About is what the authorization is for.
	About T
	// Person is the id of who began it; "" for somebody who is not signed in.
	Person string
	// From is the address that it was begun from, of somebody who is not signed in.
	From string
	// Back is the page of the console to come back to; "" for none.
	Back    string
	browser [sha256.Size]byte
	until   time.Time
}

// Pending keeps authorizations under way, until their answer comes or they take
// too long. They are kept in memory: after a restart people begin again. It is
// safe for concurrent use; NewPending makes one.
type Pending[T any] struct {
	now func() time.Time

	mu      sync.Mutex // guards byState
	byState map[string]PendingAuthorization[T]
}

// NewPending returns an empty Pending; now is the clock, and nil is time.Now.
func NewPending[T any](now func() time.Time) *Pending[T] {
	if now == nil {
		now = time.Now
	}
	return &Pending[T]{now: now, byState: map[string]PendingAuthorization[T]{}}
}

// Put keeps an authorization for the browser that shows what is given; false when
// too many are under way.
func (p *Pending[T]) Put(a PendingAuthorization[T], browser string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	now, mine := p.now(), 0
	for state, other := range p.byState {
		if now.After(other.until) {
			delete(p.byState, state)
		} else if other.Person == a.Person && other.From == a.From {
			mine++
		}
	}
	if len(p.byState) >= maxPending || mine >= maxOfPerson {
		return false
	}
	a.browser, a.until, a.Back = sha256.Sum256([]byte(browser)), now.Add(pendingTime), pageOnly(a.Back)
	p.byState[a.State] = a
	return true
}

// pageOnly keeps only what is a page of the console.
func pageOnly(back string) string {
	if !strings.HasPrefix(back, "/") || strings.HasPrefix(back, "//") || strings.ContainsAny(back, "\\\r\n") || len(back) > maxBackBytes {
		return ""
	}
	return back
}

// Take takes an authorization out: every answer is looked at once.
func (p *Pending[T]) Take(state string) (PendingAuthorization[T], bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	a, ok := p.byState[state]
	delete(p.byState, state)
	return a, ok && p.now().Before(a.until)
}

// Lost reports whether a person began an authorization that matches a moment ago,
// and never came back: the authorization server may no longer know who Bouncer
// is, and tell only the person so.
func (p *Pending[T]) Lost(person string, match func(T) bool) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, a := range p.byState {
		if a.Person == person && match(a.About) && a.until.Sub(p.now()) < pendingTime-lostAfter {
			return true
		}
	}
	return false
}

// BegunIn reports whether a browser is the one that began the authorization.
func (a PendingAuthorization[T]) BegunIn(browser string) bool {
	shown := sha256.Sum256([]byte(browser))
	return browser != "" && subtle.ConstantTimeCompare(shown[:], a.browser[:]) == 1
}

// Problems keeps why authorizations failed, to be shown to whoever tried. The
// oldest make room. It is safe for concurrent use; the zero value is ready.
type Problems struct {
	mu    sync.Mutex // guards what follows
	byID  map[string]team.SignInProblem
	order []string
}

// Add keeps a problem and returns its number.
func (p *Problems) Add(problem team.SignInProblem) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.byID == nil {
		p.byID = map[string]team.SignInProblem{}
	}
	id := strings.ToLower(team.NewID())
	p.byID[id] = problem
	if p.order = append(p.order, id); len(p.order) > maxProblems {
		delete(p.byID, p.order[0])
		p.order = p.order[1:]
	}
	return id
}

// Get returns a problem by its number. The error is a *team.NotFoundError.
func (p *Problems) Get(id string) (team.SignInProblem, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	problem, ok := p.byID[id]
	if !ok {
		return problem, &team.NotFoundError{Kind: "sign-in problem", Name: id}
	}
	return problem, nil
}

// ProblemOf puts an error into words for whoever tried.
func ProblemOf(err error) team.SignInProblem {
	var e *Error
	if errors.As(err, &e) {
		what := e.Why
		if what != "" {
			what = strings.ToUpper(what[:1]) + what[1:]
		}
		return team.SignInProblem{What: what, Hint: e.Remedy(), Step: e.Step, Code: e.Code}
	}
	return team.SignInProblem{What: err.Error(), Hint: "try again; the service's log says more"}
}
