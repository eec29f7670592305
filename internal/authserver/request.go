package authserver

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"time"
)

// authorizationRequest is a request of a program that waits for a person's consent.
type authorizationRequest struct {
	program   program
	redirect  string
	state     string
	challenge string
	audience  string // path of the resource
	until     time.Time
}

// carriedRequest is a request as the browser carries it: strangers make as many as
// they like, so none is kept here.
type carriedRequest struct {
	App       string `json:"a"`
	Name      string `json:"n"`
	Document  bool   `json:"d,omitempty"`
	Redirect  string `json:"r"`
	State     string `json:"s,omitempty"`
	Challenge string `json:"c"`
	Audience  string `json:"p"`
	Until     int64  `json:"u"`
	Serial    string `json:"i"` // tells requests apart that say the same
}

// strict takes one spelling of each text only.
var strict = base64.RawURLEncoding.Strict()

var errNoRequest = errors.New("it is no sign-in of a program that waits, or took too long")

// signer signs requests with a key of this start: after a restart a program begins
// again.
type signer struct{ key [32]byte }

func newSigner() *signer {
	s := &signer{}
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(s.key[:])
	return s
}

func (s *signer) sum(payload string) []byte {
	mac := hmac.New(sha256.New, s.key[:])
	_, _ = mac.Write([]byte(payload)) // a hash takes everything
	return mac.Sum(nil)[:16]
}

// sign writes a request into a text that only this service can make.
func (s *signer) sign(q authorizationRequest) string {
	var serial [9]byte
	_, _ = rand.Read(serial[:])
	// Texts and numbers cannot fail to be written.
	raw, _ := json.Marshal(carriedRequest{
		App: q.program.id, Name: q.program.name, Document: q.program.document, Redirect: q.redirect, State: q.state,
		Challenge: q.challenge, Audience: q.audience, Until: q.until.Unix(), Serial: base64.RawURLEncoding.EncodeToString(serial[:]),
	})
	payload := base64.RawURLEncoding.EncodeToString(raw)
	return payload + "." + base64.RawURLEncoding.EncodeToString(s.sum(payload))
}

// read is the reverse of sign; serial tells requests apart. The error is
// errNoRequest.
func (s *signer) read(text string, now time.Time) (q authorizationRequest, serial string, err error) {
	payload, mark, ok := strings.Cut(text, ".")
	shown, err := strict.DecodeString(mark)
	if !ok || err != nil || !hmac.Equal(shown, s.sum(payload)) {
		return q, "", errNoRequest
	}
	raw, err := strict.DecodeString(payload)
	if err != nil {
		return q, "", errNoRequest
	}
	var c carriedRequest
	if json.Unmarshal(raw, &c) != nil || now.Unix() > c.Until {
		return q, "", errNoRequest
	}
	return authorizationRequest{
		program: program{id: c.App, name: c.Name, document: c.Document}, redirect: c.Redirect, state: c.State,
		challenge: c.Challenge, audience: c.Audience, until: time.Unix(c.Until, 0),
	}, c.Serial, nil
}

// decided remembers which requests somebody has decided, so that each is decided
// once. Only people who are signed in put something here, and only so much each.
type decided struct {
	mu    sync.Mutex // guards what follows
	until map[string]time.Time
	of    map[string]string // person by serial
}

// maxDecided bounds the decisions that one person makes in a quarter of an hour.
const maxDecided = 100

// once notes a decision; false when it was made before, or the person makes too many.
func (d *decided) once(serial, person string, until, now time.Time) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.until == nil {
		d.until, d.of = map[string]time.Time{}, map[string]string{}
	}
	mine := 0
	for s, end := range d.until {
		if now.After(end) {
			delete(d.until, s)
			delete(d.of, s)
		} else if d.of[s] == person {
			mine++
		}
	}
	if _, twice := d.until[serial]; twice || mine >= maxDecided {
		return false
	}
	d.until[serial], d.of[serial] = until.Add(time.Minute), person
	return true
}

// issuedCode is a consent that waits for its code to be exchanged.
type issuedCode struct {
	authorizationRequest
	spent   bool
	consent consentOf
}

// codes are the codes that were given out, by their hash. They are kept in memory: a
// program begins again after a restart. People who are signed in make them, each
// after a decision.
type codes struct {
	mu     sync.Mutex // guards byHash
	byHash map[[32]byte]issuedCode
}

func (c *codes) put(hash [32]byte, code issuedCode, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.byHash == nil {
		c.byHash = map[[32]byte]issuedCode{}
	}
	for h, other := range c.byHash {
		if now.After(other.until) {
			delete(c.byHash, h)
		}
	}
	c.byHash[hash] = code
}

// take returns a code, which is spent from then on: it is remembered for a while, to
// notice a second use.
func (c *codes) take(hash [32]byte, now time.Time) (issuedCode, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	code, ok := c.byHash[hash]
	if ok && !code.spent {
		spent := code
		spent.spent, spent.until = true, now.Add(requestTime)
		c.byHash[hash] = spent
	}
	return code, ok
}

// documents are programs that are described by a document at their id, for a while.
type documents struct {
	mu   sync.Mutex // guards byID
	byID map[string]cachedProgram
}

type cachedProgram struct {
	program program
	until   time.Time
}

// maxDocuments bounds the documents that are kept; the one that ends first makes
// room.
const maxDocuments = 500

func (d *documents) get(id string, now time.Time) (program, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	have, ok := d.byID[id]
	return have.program, ok && now.Before(have.until)
}

func (d *documents) put(id string, p program, until time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.byID == nil {
		d.byID = map[string]cachedProgram{}
	}
	if len(d.byID) >= maxDocuments {
		first := ""
		for other, have := range d.byID {
			if first == "" || have.until.Before(d.byID[first].until) {
				first = other
			}
		}
		delete(d.byID, first)
	}
	d.byID[id] = cachedProgram{p, until}
}
