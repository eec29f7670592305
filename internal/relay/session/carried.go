package session

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"strings"
	"sync"

	"bouncer/internal/core/wire"
)

// Seal writes the ids of sessions so that a session outlives the service: what a session
// needs to go on is in the id that the agent shows, signed, since most clients do not
// open another session when theirs is gone. It opens nothing by itself: the pass is
// looked at as always.
type Seal struct {
	key [32]byte

	mu   sync.Mutex // guards what follows
	left []string   // ids of sessions that agents have ended, the newest last
}

// maxLeft is how many sessions that were ended are remembered, so that they do not come
// back.
const maxLeft = 4096

// NewSeal returns a seal with a key; without one, sessions end with the service.
func NewSeal(key []byte) *Seal {
	s := &Seal{}
	if copy(s.key[:], key) < len(s.key) {
		// crypto/rand.Read never fails: it ends the program instead.
		_, _ = rand.Read(s.key[:])
	}
	return s
}

// carried is a session as its id carries it.
type carried struct {
	Pass     string          `json:"p"`
	Scope    string          `json:"s,omitempty"`
	Revision string          `json:"r"`
	Caps     wire.Caps       `json:"c"`
	Info     json.RawMessage `json:"i,omitempty"`
}

// maxCarriedInfo is the longest description of a client that an id carries.
const maxCarriedInfo = 512

// strict takes one spelling of each text only.
var strict = base64.RawURLEncoding.Strict()

// ID is what the agent shows for a session that is open.
func (s *Seal) ID(n *Session) string {
	c := carried{Pass: n.PassID, Scope: n.Scope, Revision: n.Revision, Caps: n.Caps}
	if len(n.Info) <= maxCarriedInfo {
		c.Info = n.Info
	}
	// Texts and numbers cannot fail to be written; the info was read as JSON.
	raw, _ := json.Marshal(c)
	text := n.Id + "." + strict.EncodeToString(raw)
	return text + "." + s.sign(text)
}

func (s *Seal) sign(text string) string {
	mac := hmac.New(sha256.New, s.key[:])
	_, _ = mac.Write([]byte(text)) // a hash takes everything
	return strict.EncodeToString(mac.Sum(nil)[:16])
}

// Short is the id by which a session is known here.
func Short(shown string) string {
	id, _, _ := strings.Cut(shown, ".")
	return id
}

// Read returns the session that an id carries, for the pass and the address that it was
// opened with; nil for an id that was not given out, is somebody else's, or whose
// session was ended.
func (s *Seal) Read(shown, passID, scope string) *Session {
	at := strings.LastIndexByte(shown, '.')
	if at < 0 || !hmac.Equal([]byte(shown[at+1:]), []byte(s.sign(shown[:at]))) {
		return nil
	}
	id, payload, ok := strings.Cut(shown[:at], ".")
	raw, err := strict.DecodeString(payload)
	var c carried
	if !ok || err != nil || json.Unmarshal(raw, &c) != nil || c.Pass != passID || c.Scope != scope || !wire.SpeaksSession(c.Revision) {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, gone := range s.left {
		if gone == id {
			return nil
		}
	}
	return &Session{Id: id, Scope: c.Scope, Revision: c.Revision, Caps: c.Caps, Info: c.Info}
}

// Left notes that an agent has ended a session.
func (s *Seal) Left(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.left) >= maxLeft {
		s.left = append(s.left[:0], s.left[1:]...)
	}
	s.left = append(s.left, id)
}
