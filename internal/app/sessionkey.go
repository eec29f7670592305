package app

import (
	"crypto/rand"
	"os"
	"path/filepath"
)

// sessionKeyFile holds the key that signs the ids of agents' sessions. Whoever reads it
// can go on with a session, and only together with its pass.
const sessionKeyFile = "session.key"

// sessionKey is the key of this data directory, made at the first start. nil when there
// is none and none can be kept: sessions end with the service then.
func (svc *Service) sessionKey() []byte {
	path := filepath.Join(svc.Settings.Data, sessionKeyFile)
	if key, err := os.ReadFile(path); err == nil && len(key) == 32 {
		return key
	}
	key := make([]byte, 32)
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(key)
	if err := os.WriteFile(path, key, 0o600); err != nil {
		svc.log.Warn("the key of sessions cannot be kept, so they end with the service", "error", err)
		return nil
	}
	return key
}
