// Package locker encrypts secrets at rest. Each value is sealed with a data key
// of its own (AES-256-GCM); the data key is wrapped with a key from a key set
// that is kept outside the database. Exchanging a key therefore touches only
// the wrapping.
package locker

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode"
)

// Keys is the key set: the newest key wraps, all of them unwrap.
type Keys struct {
	newest string
	keys   map[string][]byte
}

type keyFile struct {
	Keys []struct {
		ID  string `json:"id"`
		Key string `json:"key"`
	} `json:"keys"`
}

// ErrKeyLost means that the key a value was sealed with is not in the key set.
var ErrKeyLost = errors.New("the key of this secret is not in the key file")

// LoadKeys reads the key set from a file and creates the file with one new key
// when it does not exist and create is set.
func LoadKeys(path string, create bool) (*Keys, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && create {
		return createKeys(path)
	}
	if err != nil {
		return nil, err
	}
	var f keyFile
	if err := json.Unmarshal(raw, &f); err != nil || len(f.Keys) == 0 {
		return nil, fmt.Errorf("the key file %s cannot be read as a key set", path)
	}
	k := &Keys{keys: map[string][]byte{}}
	for _, e := range f.Keys {
		key, err := base64.StdEncoding.DecodeString(e.Key)
		if err != nil || len(key) != 32 || e.ID == "" {
			return nil, fmt.Errorf("the key file %s holds a malformed key %q", path, e.ID)
		}
		k.keys[e.ID], k.newest = key, e.ID
	}
	return k, nil
}

func createKeys(path string) (*Keys, error) {
	key, id := random(32), fmt.Sprintf("k%x", random(4))
	raw, err := json.MarshalIndent(map[string]any{"keys": []map[string]string{{"id": id, "key": base64.StdEncoding.EncodeToString(key)}}}, "", "  ")
	if err != nil {
		return nil, err
	}
	// Written aside and moved into place: half a key file would lose secrets.
	tmp, err := os.CreateTemp(filepath.Dir(path), ".keys-*")
	if err != nil {
		return nil, err
	}
	_, werr := tmp.Write(append(raw, '\n'))
	if err := errors.Join(werr, tmp.Sync(), tmp.Close()); err != nil {
		return nil, errors.Join(err, os.Remove(tmp.Name()))
	}
	if err := os.Rename(tmp.Name(), path); err != nil {
		return nil, err
	}
	return &Keys{newest: id, keys: map[string][]byte{id: key}}, nil
}

func random(n int) []byte {
	b := make([]byte, n)
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(b)
	return b
}

// Box is a sealed value.
type Box struct {
	KeyID   string
	DataKey []byte
	Value   []byte
}

// Seal encrypts a value. The name binds the box to what it belongs to: it
// cannot be opened under another one.
func (k *Keys) Seal(name string, s Secret) (Box, error) {
	data := random(32)
	wrapped, err := seal(k.keys[k.newest], data, "key "+k.newest+" "+name)
	if err != nil {
		return Box{}, err
	}
	value, err := seal(data, []byte(s.Reveal()), "value "+name)
	return Box{k.newest, wrapped, value}, err
}

// Open decrypts a box that was sealed under the same name.
func (k *Keys) Open(name string, b Box) (Secret, error) {
	key, ok := k.keys[b.KeyID]
	if !ok {
		return Secret{}, fmt.Errorf("%w: key %s", ErrKeyLost, b.KeyID)
	}
	data, err := unseal(key, b.DataKey, "key "+b.KeyID+" "+name)
	if err != nil {
		return Secret{}, err
	}
	value, err := unseal(data, b.Value, "value "+name)
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

// ReadValue takes a secret that is no HTTP token, such as the value of an
// environment variable: only line ends around it go.
func ReadValue(raw string) (Secret, error) {
	v := strings.Trim(raw, "\r\n")
	switch {
	case strings.TrimSpace(v) == "":
		return Secret{}, errors.New("is empty")
	case len(v) > MaxToken:
		return Secret{}, fmt.Errorf("is longer than %d bytes", MaxToken)
	case strings.ContainsRune(v, 0):
		return Secret{}, errors.New("has a zero byte, which no variable can carry")
	}
	return NewSecret(v), nil
}

// MaxToken is the longest token that is accepted, in bytes.
const MaxToken = 16 << 10

// ReadToken tidies a bearer token as people paste it: surrounding blanks, quotes
// and a scheme word go. What is left must be usable as a header value; the error
// says what is wrong without repeating the value.
func ReadToken(raw string) (Secret, error) {
	t := strings.TrimSpace(raw)
	if len(t) > 1 && (t[0] == '"' || t[0] == '\'') && t[len(t)-1] == t[0] {
		t = strings.TrimSpace(t[1 : len(t)-1])
	}
	for len(t) > 7 && strings.EqualFold(t[:7], "bearer ") {
		t = strings.TrimSpace(t[7:])
	}
	switch {
	case t == "":
		return Secret{}, errors.New("is empty")
	case len(t) > MaxToken:
		return Secret{}, fmt.Errorf("is longer than %d bytes", MaxToken)
	case strings.HasPrefix(t, "${") || strings.HasPrefix(t, "<") && strings.HasSuffix(t, ">"):
		return Secret{}, errors.New("is a placeholder; paste the token itself")
	case strings.ContainsFunc(t, unicode.IsSpace):
		return Secret{}, errors.New("has a blank or a line break inside; paste the token alone")
	case bytes.ContainsFunc([]byte(t), func(r rune) bool { return r < 0x21 || r > 0x7e }):
		return Secret{}, errors.New("has characters that no HTTP header can carry")
	}
	return NewSecret(t), nil
}
