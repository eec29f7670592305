// Package envelope seals what goes between nodes, or lies with the cluster's servers, with a key that
// all nodes have: the servers can neither read it nor make it up.
package envelope

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"

	"bouncer/internal/core/pack"
)

// Overhead is how many bytes an envelope has at most besides what is packed in it.
const Overhead = 64

// Sealer seals and opens (AES-256-GCM, packed before). It is safe for concurrent use.
type Sealer struct{ key cipher.AEAD }

// New returns a Sealer; the key has 32 bytes.
func New(key []byte) (*Sealer, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("use the key between nodes: %w", err)
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, fmt.Errorf("use the key between nodes: %w", err)
	}
	return &Sealer{gcm}, nil
}

// Seal seals a value, as JSON. It opens only for the same purpose.
func (s *Sealer) Seal(v any, purpose string) ([]byte, error) {
	plain, err := json.Marshal(v)
	if err != nil {
		return nil, fmt.Errorf("write what is to be sealed: %w", err)
	}
	nonce := make([]byte, s.key.NonceSize())
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(nonce)
	return s.key.Seal(nonce, nonce, pack.Pack(plain), []byte(purpose)), nil
}

// Open reads what was sealed for a purpose into v.
func (s *Sealer) Open(raw []byte, purpose string, v any) error {
	n := s.key.NonceSize()
	if len(raw) < n {
		return errors.New("it is too short")
	}
	packed, err := s.key.Open(nil, raw[:n], raw[n:], []byte(purpose))
	if err != nil {
		return fmt.Errorf("it is from nobody of the cluster: %w", err)
	}
	plain, err := pack.Unpack(packed)
	if err != nil {
		return fmt.Errorf("it is damaged: %w", err)
	}
	if err := json.Unmarshal(plain, v); err != nil {
		return fmt.Errorf("it is damaged: %w", err)
	}
	return nil
}
