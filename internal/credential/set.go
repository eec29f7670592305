// Package credential holds the values and grants in use: what servers are given
// when Bouncer reaches them. A Value is a secret of the locker, or one that is
// read elsewhere when it is needed; a Grant is the tokens of one sign-in, kept
// fresh. A View of what is stored gathers them for a server and a holder into
// what a connection is given; committing the View puts it in force.
//
// Reading elsewhere and renewing happen in goroutines of the Set, once for all who
// wait, and never while a lock is held.
package credential

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/mask"
	"bouncer/internal/core/team"
	"bouncer/internal/egress"
	"bouncer/internal/events"
	"bouncer/internal/locker"
	"bouncer/internal/oauth"
	"bouncer/internal/oidc"
	"bouncer/internal/store"
)

// Options configure a Set. Those that say nothing else are required.
type Options struct {
	Store    *store.Store
	Keys     *locker.Keys
	OAuth    *oauth.Client
	Provider *oidc.Provider // nil for none
	Events   *events.Hub
	Masks    *mask.Set
	Log      *slog.Logger
	// Challenge asks a server without any credential, for the header of its refusal.
	Challenge func(ctx context.Context, s team.Server) http.Header
	// Redirect is Bouncer's own redirect address.
	Redirect string
	// ConnectLink is where a holder supplies a credential for a server.
	ConnectLink func(server string, h team.Holder, agent string) string
	// Now is the clock; nil is time.Now.
	Now func() time.Time
	// Lease waits for the right to renew the grant of a name, which one node at a time has, and
	// for what the others did before to be known here; nil for a service that is one node.
	Lease func(ctx context.Context, name string) (release func(), err error)
	// Shared is where nodes keep tokens for each other that are not in the register; nil for a
	// service that is one node. It goes with Lease.
	Shared Shared
	// NoCommands refuses values that a command supplies.
	NoCommands bool
}

// Set is the values and grants in force. It is safe for concurrent use.
type Set struct {
	o       Options
	ctx     context.Context // of reading elsewhere and of renewals
	cancel  context.CancelFunc
	working sync.WaitGroup
	serial  atomic.Uint64 // tells values apart in fingerprints

	mu       sync.Mutex // guards the maps; never held over any I/O
	values   map[string]*Value
	prepared map[string]*Value // about to be stored
	grants   map[string]*Grant
}

// New returns an empty Set; Close ends it.
func New(o Options) *Set {
	if o.Now == nil {
		o.Now = time.Now
	}
	s := &Set{o: o, values: map[string]*Value{}, prepared: map[string]*Value{}, grants: map[string]*Grant{}}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

// Close ends renewals under way and waits for them.
func (s *Set) Close() {
	s.cancel()
	s.working.Wait()
}

// Rows is what is stored of values, of who uses which, and of grants.
type Rows struct {
	Secrets []store.SealedSecret
	Own     []store.OwnSecret
	SignIns []store.StoredSignIn
	Agents  map[string]string // names by id
}

// View is what servers can be given by what is stored at one moment. It is used by
// one goroutine.
type View struct {
	set     *Set
	values  map[string]*Value // by id
	team    map[string]*Value // the team's, by name: only these can be named
	own     map[string]string // id of the secret by server id and holder
	signIns map[string]store.StoredSignIn
	agents  map[string]string
	used    map[string]bool // ids of the grants that were asked for
}

func rowKey(serverID string, h team.Holder) string { return serverID + "/" + h.Key() }

// View opens what is stored. Values that are in force already stay the same
// objects, so that what is known of them is kept. A secret that cannot be opened
// does not keep the rest from working; it fails when it is used.
func (s *Set) View(rows Rows) *View {
	v := &View{
		set:     s,
		values:  map[string]*Value{},
		team:    map[string]*Value{},
		own:     map[string]string{},
		signIns: map[string]store.StoredSignIn{},
		agents:  rows.Agents,
		used:    map[string]bool{},
	}
	var learnt []string
	for _, row := range rows.Secrets {
		value := s.value(row)
		v.values[row.ID] = value
		if !row.Own {
			v.team[row.Name] = value
		}
		present, prior := value.kept()
		learnt = append(learnt, present.Reveal(), prior.Reveal())
	}
	s.o.Masks.Learn(learnt...)
	for _, own := range rows.Own {
		v.own[rowKey(own.ServerID, own.Holder)] = own.SecretID
	}
	for _, row := range rows.SignIns {
		v.signIns[rowKey(row.ServerID, row.Holder)] = row
	}
	return v
}

// value opens a stored secret, or returns the one in force if it is the same.
func (s *Set) value(row store.SealedSecret) *Value {
	present, err := s.o.Keys.Open(row.Box)
	if err != nil {
		s.o.Log.Error("a secret cannot be opened", "secret", row.Name, "error", err)
	}
	broken := err
	if row.Source != "" {
		present, broken = locker.Secret{}, nil
	}
	var prior locker.Secret
	if row.Prior != nil && s.o.Now().Before(row.PriorUntil) {
		if prior, err = s.o.Keys.Open(*row.Prior); err != nil {
			s.o.Log.Error("the value before of a secret cannot be opened", "secret", row.Name, "error", err)
		}
	}
	s.mu.Lock()
	old := s.values[row.ID]
	if old == nil {
		old = s.prepared[row.ID]
	}
	s.mu.Unlock()
	if old != nil && old.is(row, present, prior, broken != nil) {
		return old
	}
	fresh := s.newValue(row.ID, row.Name, row.Kind, row.Source)
	fresh.present, fresh.prior, fresh.priorUntil, fresh.broken = present, prior, row.PriorUntil, broken
	if old != nil {
		fresh.used = old.used
	}
	return fresh
}

func (s *Set) newValue(id, name, kind, source string) *Value {
	return &Value{
		set: s, id: id, name: name, kind: kind, source: source, used: new(atomic.Int64),
		fingerprint: id + "#" + strconv.FormatUint(s.serial.Add(1), 36),
	}
}

// Commit puts a View in force: values and grants that it does not have are
// forgotten.
func (s *Set) Commit(v *View) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.values = make(map[string]*Value, len(v.values))
	for _, value := range v.values {
		s.values[value.id] = value
		delete(s.prepared, value.id)
	}
	for id := range s.grants {
		if !v.used[id] {
			delete(s.grants, id)
		}
	}
}

// Uses returns when each value was last sent, in milliseconds since 1970, by the
// secret's id.
func (s *Set) Uses() map[string]int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make(map[string]int64, len(s.values))
	for id, v := range s.values {
		out[id] = v.used.Load()
	}
	return out
}

// Discover finds the authorization server of a server, with the challenge that it
// was found by. Errors are *oauth.Error.
func (s *Set) Discover(ctx context.Context, server team.Server) (oauth.Metadata, oauth.Challenge, error) {
	ctx = Inside(ctx, server)
	c, _ := oauth.ReadChallenge(s.o.Challenge(ctx, server))
	m, err := s.o.OAuth.Discover(ctx, server.URL, c)
	if w := server.SignIn; err == nil && w != nil {
		err = sameIssuer(m.Issuer, *w, server)
	}
	return m, c, err
}

// Inside returns a context in which the authorization server of a server may be in the
// private ranges that an admin allowed for it.
func Inside(ctx context.Context, server team.Server) context.Context {
	ranges := make([]netip.Prefix, 0, len(server.PrivateRanges))
	for _, text := range server.PrivateRanges {
		if p, err := netip.ParsePrefix(text); err == nil {
			ranges = append(ranges, p)
		}
	}
	return egress.Allow(ctx, ranges)
}

// sameIssuer holds the authorization server that a server names now against the one
// that its client id is for, and against the one it named when it first worked: a
// server that is taken over must not have Bouncer's credentials sent elsewhere.
func sameIssuer(named string, w team.SignInWay, s team.Server) error {
	same := func(a, b string) bool { return strings.TrimSuffix(a, "/") == strings.TrimSuffix(b, "/") }
	switch {
	case w.Issuer != "" && !same(named, w.Issuer):
		return &oauth.Error{
			Step:  oauth.StepMetadata,
			Final: true,
			Why: fmt.Sprintf("the server now names the authorization server %s, but its client id is for %s; "+
				"nothing was sent there", named, w.Issuer),
		}
	case w.Issuer == "" && s.Issuer != "" && !same(named, s.Issuer):
		return &oauth.Error{
			Step: oauth.StepMetadata,
			Code: oauth.CodeIssuerChanged,
			Why: fmt.Sprintf("the server now names the authorization server %s, and named %s before; nothing was sent there. "+
				"If that is right, an admin or a maintainer says so: bouncer server update %s --take-issuer", named, s.Issuer, s.Name),
		}
	}
	return nil
}
