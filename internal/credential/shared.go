package credential

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"time"

	"bouncer/internal/locker"
	"bouncer/internal/oauth"
	"bouncer/internal/store"
)

// Shared keeps what one node was granted where all of them find it. What is kept is sealed.
type Shared interface {
	KeepGrant(ctx context.Context, name string, sealed []byte) error
	// KeptGrant is what was kept last; nil for nothing.
	KeptGrant(ctx context.Context, name string) ([]byte, error)
}

// sharedGrant is what a node keeps for the others.
type sharedGrant struct {
	At  time.Time // when it was granted
	Box locker.Box
}

// shares reports whether other nodes can use what this one is granted, and it is not in the
// register: nobody signed in for it.
func (g *Grant) shares(row store.StoredSignIn) bool {
	return g.set.o.Shared != nil && g.id != "" && row.ID == ""
}

// sharedName is what tokens are kept by for the other nodes: whose they are, and what they were
// asked for with. It is the same at all nodes, as the id of a grant is not.
func (g *Grant) sharedName() string {
	sum := sha256.Sum256([]byte(g.server.URL + fmt.Sprintf("%+v", *g.server.SignIn)))
	return fmt.Sprintf("%s/%s/%x", g.server.ID, g.holder.Key(), sum[:16])
}

// takeShared takes over tokens that another node was granted meanwhile. It reports false when
// there are none, or they are no better than those that are here.
func (g *Grant) takeShared(ctx context.Context) (bool, error) {
	name := g.sharedName()
	raw, err := g.set.o.Shared.KeptGrant(ctx, name)
	if err != nil || raw == nil {
		return false, err
	}
	var kept sharedGrant
	if err := json.Unmarshal(raw, &kept); err != nil {
		return false, fmt.Errorf("read what another node was granted: %w", err)
	}
	kept.Box.ID = name // what was sealed for another grant does not open
	r, err := oauth.OpenRecord(g.set.o.Keys, kept.Box)
	if err != nil {
		return false, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if r.Access == g.have.Access || !r.Expires.IsZero() && r.Expires.Sub(g.set.o.Now()) <= ahead(r, kept.At) {
		return false, nil
	}
	g.have, g.loaded, g.gotten, g.rejected = r, true, kept.At, ""
	g.set.o.Masks.Learn(r.Secrets()...)
	return true, nil
}

// share keeps tokens for the other nodes.
func (g *Grant) share(ctx context.Context, r oauth.Record) error {
	name := g.sharedName()
	box, err := r.Seal(g.set.o.Keys, name)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(sharedGrant{g.set.o.Now().UTC(), box})
	if err != nil {
		return fmt.Errorf("write what was granted: %w", err)
	}
	return g.set.o.Shared.KeepGrant(ctx, name, raw)
}
