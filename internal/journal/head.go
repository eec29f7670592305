package journal

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"bouncer/internal/calls"
	"bouncer/internal/core/team"
)

// Notary signs the head of the chain of calls, and verifies the chain. Whoever rules the
// machine can write another chain and sign it; a head that is kept elsewhere shows that.
type Notary struct {
	log  calls.Log
	key  ed25519.PrivateKey
	kept func(context.Context) (Kept, error) // what others keep; nil for none
	node string                              // whose journal it is; "" for a service that is one node
}

// Kept is what others keep of a journal.
type Kept struct {
	Heads  []team.SignedHead
	Before int // heads of chains that there were before this one
}

// NewNotary returns a Notary; seed is 32 bytes.
func NewNotary(log calls.Log, seed []byte) *Notary {
	return &Notary{log: log, key: ed25519.NewKeyFromSeed(seed)}
}

// Keeps has the chain, which is that of a node, be held against heads that others keep of it. It is to
// be called before anything is verified.
func (n *Notary) Keeps(node string, kept func(context.Context) (Kept, error)) {
	n.node, n.kept = node, kept
}

// signed is the text that a head's signature is over.
func signed(h team.ChainHead) []byte {
	return fmt.Appendf(nil, "bouncer journal head\n%d\n%s\n%s\n", h.Seal, h.Hash, h.At.UTC().Format(time.RFC3339Nano))
}

// Head returns the newest seal, signed (Ed25519, RFC 8032).
func (n *Notary) Head(ctx context.Context) (team.SignedHead, error) {
	h, err := n.log.Head(ctx)
	if err != nil {
		return team.SignedHead{}, fmt.Errorf("read the newest seal: %w", err)
	}
	public, _ := n.key.Public().(ed25519.PublicKey) // as it always is
	return team.SignedHead{
		ChainHead: h,
		Node:      n.node,
		Key:       base64.StdEncoding.EncodeToString(public),
		Signature: base64.StdEncoding.EncodeToString(ed25519.Sign(n.key, signed(h))),
	}, nil
}

// Verify holds every seal against its calls, and the chain against heads that others keep, and one
// that was kept; the zero value for none. One of another node's journal says nothing of this one.
func (n *Notary) Verify(ctx context.Context, given team.SignedHead) (team.ChainState, error) {
	hashes := map[int64][][]byte{}
	kept, err := n.elsewhere(ctx)
	if err != nil {
		return team.ChainState{}, err
	}
	elsewhere := len(kept.Heads)
	if given.Seal != 0 || given.Signature != "" {
		if err := Check(given); err != nil {
			return team.ChainState{}, err
		}
		if given.Node == n.node || given.Node == "" || n.node == "" {
			kept.Heads = append(slices.Clip(kept.Heads), given)
		}
	}
	for _, h := range kept.Heads {
		hash, _ := hex.DecodeString(h.Hash) // it was checked
		hashes[h.Seal] = append(hashes[h.Seal], hash)
	}
	v, err := n.log.Verify(ctx, hashes)
	if err != nil {
		return v, fmt.Errorf("verify the journal: %w", err)
	}
	v.Node, v.Kept, v.KeptBefore = n.node, elsewhere, kept.Before
	return v, nil
}

// elsewhere is what others keep, but for what nobody signed.
func (n *Notary) elsewhere(ctx context.Context) (kept Kept, err error) {
	if n.kept == nil {
		return kept, nil
	}
	if kept, err = n.kept(ctx); err != nil {
		return kept, fmt.Errorf("read what other nodes keep of the journal: %w", err)
	}
	kept.Heads = slices.DeleteFunc(kept.Heads, func(h team.SignedHead) bool { return Check(h) != nil })
	return kept, nil
}

// Check reports whether a head is signed by the key that it names, as a *team.FieldError.
func Check(h team.SignedHead) error {
	bad := func(why string) error { return &team.FieldError{Field: "head", Why: why} }
	key, err := base64.StdEncoding.DecodeString(h.Key)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return bad("has no key; it has to be as bouncer journal head wrote it")
	}
	signature, err := base64.StdEncoding.DecodeString(h.Signature)
	if hash, wrong := hex.DecodeString(h.Hash); err != nil || wrong != nil || h.Seal < 1 || len(hash) != 32 {
		return bad("is not as bouncer journal head wrote it")
	}
	if !ed25519.Verify(key, signed(h.ChainHead), signature) {
		return bad("was altered: its signature does not fit")
	}
	return nil
}
