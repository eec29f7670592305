// Package locker encrypts secrets at rest. Each value is sealed with a data key
// of its own (AES-256-GCM); the data key is wrapped with a key from a key set
// that is kept outside the database. Exchanging a key therefore touches only
// the wrapping.
package locker

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// Keys is the key set: the newest key wraps, all of them unwrap. It is safe for
// concurrent use.
type Keys struct {
	source string

	rotating sync.Mutex // held over one alteration of the set: read, added to and written at once

	mu     sync.RWMutex // guards what follows; never held while the source is read
	set    keySet
	shared bool // with the other nodes of a cluster
	told   func(key string)
}

type keySet struct {
	newest string
	keys   map[string][]byte
	file   keyFile
}

type keyFile struct {
	Keys []keyEntry `json:"keys"`
}

type keyEntry struct {
	ID  string `json:"id"`
	Key string `json:"key"`
}

// ErrKeyLost means that the key a value was sealed with is not in the key set.
var ErrKeyLost = errors.New("the key of this secret is not in the key set")

// LoadKeys reads the key set from a file, or from where a source says: env:NAME
// for a variable of the service, command:LINE for the output of a command. A
// file is created with one new key when it does not exist and create is set.
func LoadKeys(ctx context.Context, source string, create bool) (*Keys, error) {
	k := &Keys{source: source}
	raw, err := k.read(ctx)
	if errors.Is(err, fs.ErrNotExist) && create {
		k.set, err = keySet{keys: map[string][]byte{}}.with(newKey())
		if err != nil {
			return nil, err
		}
		return k, k.set.write(source)
	}
	if err != nil {
		return nil, err
	}
	k.set, err = readKeys(raw)
	return k, err
}

func (k *Keys) read(ctx context.Context) ([]byte, error) {
	switch kind, rest, _ := strings.Cut(k.source, ":"); kind {
	case "env":
		v, err := Outside(ctx, "env "+rest)
		return []byte(v.Reveal()), err
	case "command":
		v, err := Outside(ctx, "command "+rest)
		return []byte(v.Reveal()), err
	}
	return os.ReadFile(k.source)
}

// Share says that the other nodes of a cluster have the same key set, so that none is made
// here. inUse are keys that something is sealed with: the last of them in the set is in force, and
// one that comes after it is not before all nodes know it. told is called when one is put in force
// here, so that the others do the same.
func (k *Keys) Share(inUse []string, told func(key string)) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.shared, k.told = true, told
	for _, e := range k.set.file.Keys {
		if slices.Contains(inUse, e.ID) {
			k.set.newest = e.ID
		}
	}
}

// Look reads the key set anew that the nodes of a cluster share, so that a key which was added to it
// is known here. It is not in force yet.
func (k *Keys) Look(ctx context.Context) error {
	if !k.Shared() {
		return nil
	}
	raw, err := k.read(ctx)
	if err != nil {
		return err
	}
	next, err := readKeys(raw)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if first := k.set.file.Keys[0]; next.file.Keys[0] != first {
		return fmt.Errorf("its first key is no longer %s, by which the nodes of the cluster know each other", first.ID)
	}
	if _, there := next.keys[k.set.newest]; !there {
		return fmt.Errorf("it lacks the key %s, which is in force", k.set.newest)
	}
	next.newest = k.set.newest
	k.set = next
	return nil
}

// Next is the newest key that is known and not in force, which there is only where the nodes of a
// cluster share the set; "" for none.
func (k *Keys) Next() string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if last := k.set.file.Keys[len(k.set.file.Keys)-1].ID; last != k.set.newest {
		return last
	}
	return ""
}

// PutInForce has a key that is known wrap from now on, because another node of the cluster put it
// in force.
func (k *Keys) PutInForce(id string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, known := k.set.keys[id]; known && k.shared {
		k.set.newest = id
	}
}

// Shared reports whether the nodes of a cluster have the same set.
func (k *Keys) Shared() bool {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.shared
}

// Derive returns 32 bytes for a purpose, which all who have the same key set derive alike. They
// follow from its oldest key, by HKDF with SHA-256 (RFC 5869).
func (k *Keys) Derive(purpose string) ([]byte, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	oldest := k.set.keys[k.set.file.Keys[0].ID]
	out, err := hkdf.Key(sha256.New, oldest, nil, "bouncer "+purpose, 32)
	if err != nil {
		return nil, fmt.Errorf("derive a key for %s: %w", purpose, err)
	}
	return out, nil
}

// Kept reports whether Bouncer writes the key set itself.
func (k *Keys) Kept() bool {
	return !strings.HasPrefix(k.source, "env:") && !strings.HasPrefix(k.source, "command:")
}

func readKeys(raw []byte) (keySet, error) {
	s := keySet{keys: map[string][]byte{}}
	if err := json.Unmarshal(raw, &s.file); err != nil || len(s.file.Keys) == 0 {
		return s, errors.New("it is no key set, which looks like {\"keys\": [{\"id\": ..., \"key\": ...}]}")
	}
	for _, e := range s.file.Keys {
		key, err := base64.StdEncoding.DecodeString(e.Key)
		if err != nil || len(key) != 32 || e.ID == "" {
			return s, fmt.Errorf("it holds a malformed key %q; a key is 32 bytes in base64", e.ID)
		}
		s.keys[e.ID], s.newest = key, e.ID
	}
	return s, nil
}

// NewKey returns a key as it stands in a key set, in JSON.
func NewKey() (id, entry string) {
	e := newKey()
	raw, _ := json.Marshal(e) // two texts cannot fail to be written
	return e.ID, string(raw)
}

func newKey() keyEntry {
	return keyEntry{fmt.Sprintf("k%x", random(4)), base64.StdEncoding.EncodeToString(random(32))}
}

// with returns the set with a further key, the newest.
func (s keySet) with(e keyEntry) (keySet, error) {
	raw, err := json.Marshal(keyFile{append(slices.Clone(s.file.Keys), e)})
	if err != nil {
		return s, err
	}
	return readKeys(raw)
}

func (s keySet) write(path string) error {
	raw, err := json.MarshalIndent(s.file, "", "  ")
	if err != nil {
		return err
	}
	// Written aside and moved into place: half a key file would lose secrets.
	tmp, err := os.CreateTemp(filepath.Dir(path), ".keys-*")
	if err != nil {
		return err
	}
	_, werr := tmp.Write(append(raw, '\n'))
	if err := errors.Join(werr, tmp.Sync(), tmp.Close()); err != nil {
		return errors.Join(err, os.Remove(tmp.Name()))
	}
	return os.Rename(tmp.Name(), path)
}

// Rotate puts a further key in force, which wraps from now on: a new one in a key
// file, or the last one of what the source gives now. It returns its id. Nothing
// is wrapped anew yet. Where nodes share the set, all others have to know the key.
func (k *Keys) Rotate(ctx context.Context) (string, error) {
	k.rotating.Lock()
	defer k.rotating.Unlock()
	if k.Shared() {
		return k.rotateShared(ctx)
	}
	raw, err := k.read(ctx)
	if err != nil {
		return "", err
	}
	next, err := readKeys(raw)
	if err != nil {
		return "", err
	}
	if k.Kept() {
		if next, err = next.with(newKey()); err == nil {
			err = next.write(k.source)
		}
		if err != nil {
			return "", err
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if next.newest == k.set.newest {
		return "", errors.New("the key set has no newer key; add one at its end first")
	}
	k.set = next
	return next.newest, nil
}

// rotateShared puts the newest key in force that is known, here and at the other nodes.
func (k *Keys) rotateShared(ctx context.Context) (string, error) {
	if err := k.Look(ctx); err != nil {
		return "", err
	}
	next := k.Next()
	if next == "" {
		return "", errors.New("no key comes after the one in force")
	}
	k.PutInForce(next)
	k.told(next)
	return next, nil
}

// Retire drops all keys but the newest two from a key file. Everything must have
// been wrapped anew before. The key before the newest stays until the next time:
// a backup made before, and a value that was being stored meanwhile, need it.
func (k *Keys) Retire() error {
	k.rotating.Lock()
	defer k.rotating.Unlock()
	if !k.Kept() || k.Shared() {
		return nil // its keeper removes the old keys
	}
	k.mu.RLock()
	only := keySet{newest: k.set.newest, keys: map[string][]byte{}}
	only.file.Keys = slices.Clone(k.set.file.Keys[max(0, len(k.set.file.Keys)-2):])
	for _, e := range only.file.Keys {
		only.keys[e.ID] = k.set.keys[e.ID]
	}
	k.mu.RUnlock()
	if err := only.write(k.source); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.set = only
	return nil
}

// IDs returns the ids of the keys that are known, as they follow each other in the set.
func (k *Keys) IDs() []string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var out []string
	for _, e := range k.set.file.Keys {
		out = append(out, e.ID)
	}
	return out
}

// InForce returns the ids of the keys up to the one that wraps, which is the last.
func (k *Keys) InForce() []string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var out []string
	for _, e := range k.set.file.Keys {
		out = append(out, e.ID)
		if e.ID == k.set.newest {
			break
		}
	}
	return out
}

// Rewrap wraps a data key with the newest key.
func (k *Keys) Rewrap(name, keyID string, wrapped []byte) (string, []byte, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	key, ok := k.set.keys[keyID]
	if !ok {
		return "", nil, fmt.Errorf("%w: key %s", ErrKeyLost, keyID)
	}
	data, err := unseal(key, wrapped, "key "+keyID+" "+name)
	if err != nil {
		return "", nil, err
	}
	out, err := seal(k.set.keys[k.set.newest], data, "key "+k.set.newest+" "+name)
	return k.set.newest, out, err
}

func random(n int) []byte {
	b := make([]byte, n)
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(b)
	return b
}

// Box is a sealed value as it is kept.
type Box struct {
	ID      string // of what the value belongs to; it opens under no other
	KeyID   string // which key of the key set wraps the data key
	DataKey []byte // wrapped
	Value   []byte // encrypted with the data key
}

// Seal encrypts a value. The id binds the box to what it belongs to: it cannot be
// opened under another one.
func (k *Keys) Seal(id string, s Secret) (Box, error) {
	k.mu.RLock()
	set := k.set
	k.mu.RUnlock()
	data := random(32)
	wrapped, err := seal(set.keys[set.newest], data, "key "+set.newest+" "+id)
	if err != nil {
		return Box{}, err
	}
	value, err := seal(data, []byte(s.Reveal()), "value "+id)
	return Box{id, set.newest, wrapped, value}, err
}

// Open decrypts a box.
func (k *Keys) Open(b Box) (Secret, error) {
	k.mu.RLock()
	key, ok := k.set.keys[b.KeyID]
	k.mu.RUnlock()
	if !ok {
		return Secret{}, fmt.Errorf("%w: key %s", ErrKeyLost, b.KeyID)
	}
	data, err := unseal(key, b.DataKey, "key "+b.KeyID+" "+b.ID)
	if err != nil {
		return Secret{}, err
	}
	value, err := unseal(data, b.Value, "value "+b.ID)
	if err != nil {
		return Secret{}, err
	}
	return NewSecret(string(value)), nil
}

func aead(key []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCMWithRandomNonce(block)
}

func seal(key, plain []byte, with string) ([]byte, error) {
	c, err := aead(key)
	if err != nil {
		return nil, err
	}
	return c.Seal(nil, nil, plain, []byte(with)), nil
}

func unseal(key, sealed []byte, with string) ([]byte, error) {
	c, err := aead(key)
	if err != nil {
		return nil, err
	}
	plain, err := c.Open(nil, nil, sealed, []byte(with))
	if err != nil {
		return nil, errors.New("a secret cannot be decrypted: it was altered, or the key file is another one")
	}
	return plain, nil
}
