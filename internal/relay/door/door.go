// Package door tells those who come without a valid pass what is wrong with what they
// show, as far as it helps nobody else, and remembers who was turned away.
package door

import (
	"fmt"
	"sort"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/looks"
	"bouncer/internal/core/team"
	"bouncer/internal/snapshot"
	"bouncer/internal/token"
)

// Why somebody is turned away.
const (
	NoPass       = "no-pass"
	NoScheme     = "scheme-missing"
	OtherScheme  = "another-scheme"
	Placeholder  = "placeholder"
	NotAPass     = "not-a-pass"
	Unknown      = "unknown"
	Revoked      = "revoked"
	Expired      = "expired"
	OtherAddress = "for-another-address"
)

// how is how a pass is shown.
const how = "Authorization: Bearer " + token.PassPrefix + "..."

// Refuse says what is wrong with what was shown. p is the pass that it is, whether valid
// or not; nil for none that is known. What it says of a pass is for whoever holds it.
func Refuse(auth string, inAddress bool, p *snapshot.Pass, agent string, now time.Time) (cause, text string) {
	switch {
	case p != nil && p.Revoked:
		// Whose it was is left out: it may have been revoked since somebody else has it.
		return Revoked, "this pass was revoked; its agent's owner makes another one with bouncer agent pass"
	case p != nil && !now.Before(p.Expires):
		return Expired, fmt.Sprintf(
			"this pass ended on %s; its owner makes another one: bouncer agent pass %s",
			p.Expires.UTC().Format("2006-01-02 15:04 MST"),
			agent,
		)
	case p != nil:
		return OtherAddress, "this pass is for the address " + p.Audience + " alone"
	case inAddress:
		return Unknown, "there is no pass in this address that is known here; it may have been copied incompletely"
	case auth == "":
		return NoPass, "show a valid pass: " + how + "; an agent's owner makes one with bouncer agent pass"
	}
	scheme, rest, several := strings.Cut(auth, " ")
	shown := strings.TrimSpace(rest)
	switch {
	case !several && strings.HasPrefix(auth, token.PassPrefix):
		return NoScheme, "the word Bearer is missing before the pass: " + how
	case !strings.EqualFold(scheme, "bearer"):
		return OtherScheme, "the Authorization header has another scheme than Bearer; a pass is shown as " + how
	case shown == "" || looks.Placeholder(shown):
		return Placeholder, "what is shown only stands for a pass; put the pass there: " + how
	case strings.HasPrefix(strings.ToLower(shown), "bearer "):
		return NoScheme, "the word Bearer stands there twice; a pass is shown as " + how
	case !strings.HasPrefix(shown, token.PassPrefix) && !strings.HasPrefix(shown, token.AccessPrefix):
		return NotAPass, "what is shown is no pass of Bouncer; passes begin with " + token.PassPrefix + ": " + how
	}
	return Unknown, "show a valid pass: this one is not known here. It was removed with its agent, is another Bouncer's, " +
		"or was copied incompletely"
}

// maxKept is how many different refusals are remembered, and maxClient how much of what
// a client calls itself.
const (
	maxKept   = 500
	maxClient = 120
)

// Log remembers who was turned away. The zero value is ready; it is safe for concurrent
// use.
type Log struct {
	mu   sync.Mutex // guards kept
	kept map[key]*team.TurnedAway
}

type key struct{ cause, from, client, agent, server string }

// Note remembers a refusal. Those that are alike are one, with a count.
func (l *Log) Note(now time.Time, cause, from, client, agent, server string) {
	if r := []rune(client); len(r) > maxClient {
		client = string(r[:maxClient])
	}
	k := key{cause, from, client, agent, server}
	l.mu.Lock()
	defer l.mu.Unlock()
	if have := l.kept[k]; have != nil {
		have.Last, have.Times = now, have.Times+1
		return
	}
	if l.kept == nil {
		l.kept = map[key]*team.TurnedAway{}
	}
	if len(l.kept) >= maxKept {
		l.forgetOldest()
	}
	l.kept[k] = &team.TurnedAway{
		First: now, Last: now, Times: 1, Cause: cause, From: from, Client: client, Agent: agent, Server: server,
	}
}

func (l *Log) forgetOldest() {
	var oldest key
	var at time.Time
	for k, v := range l.kept {
		if at.IsZero() || v.Last.Before(at) {
			oldest, at = k, v.Last
		}
	}
	delete(l.kept, oldest)
}

// List returns what is remembered, the latest first.
func (l *Log) List() []team.TurnedAway {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := make([]team.TurnedAway, 0, len(l.kept))
	for _, v := range l.kept {
		out = append(out, *v)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Last.After(out[j].Last) })
	return out
}
