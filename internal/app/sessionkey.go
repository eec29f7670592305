package app

import (
	"crypto/rand"
	"os"
	"path/filepath"

	"bouncer/internal/locker"
)

// sessionKeyFile holds the key that signs the ids of agents' sessions. Whoever reads it
// can go on with a session, and only together with its pass.
const sessionKeyFile = "session.key"

// sessionKey is the key of this data directory, made at the first start; nil when there is none
// and none can be kept: sessions end with the service then. The nodes of a cluster derive the
// same from the key set that they share, so that each can go on with the sessions of another.
func (svc *Service) sessionKey(keys *locker.Keys) ([]byte, error) {
	if svc.several != nil {
		return keys.Derive("sessions")
	}
	return svc.keyIn(sessionKeyFile, "sessions end with the service"), nil
}

// journalKeyFile holds the key that signs heads of the journal.
const journalKeyFile = "journal.key"

// journalKey is the seed of that key; one for this run only where none can be kept.
func (svc *Service) journalKey() []byte {
	if key := svc.keyIn(journalKeyFile, "heads of the journal are signed with another one after a restart"); key != nil {
		return key
	}
	key := make([]byte, 32)
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(key)
	return key
}

// keyIn reads a key of the data directory, and makes it at the first start; nil when it
// cannot be kept.
func (svc *Service) keyIn(file, otherwise string) []byte {
	path := filepath.Join(svc.Settings.Data, file)
	if key, err := os.ReadFile(path); err == nil && len(key) == 32 {
		return key
	}
	key := make([]byte, 32)
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(key)
	if err := os.WriteFile(path, key, 0o600); err != nil {
		svc.log.Warn("a key cannot be kept, so "+otherwise, "file", path, "error", err)
		return nil
	}
	return key
}
