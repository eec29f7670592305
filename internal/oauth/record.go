package oauth

import (
	"encoding/json"
	"fmt"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/locker"
)

// Record is what is kept, sealed, of a grant or of a client registration. It is
// bound to its issuer: nothing of it is shown to another.
type Record struct {
	Server    Metadata  `json:"authority"`
	Resource  string    `json:"resource"`
	Scopes    []string  `json:"resourceScopes,omitempty"`
	Guessed   bool      `json:"guessed,omitempty"`
	ClientID  string    `json:"clientId"`
	Secret    string    `json:"clientSecret,omitempty"`
	Key       string    `json:"signingKey,omitempty"`
	Method    string    `json:"method,omitempty"`
	Access    string    `json:"access"`
	Refresh   string    `json:"refresh,omitempty"`
	IDToken   string    `json:"idToken,omitempty"`
	Expires   time.Time `json:"expires"`
	Scope     string    `json:"scope,omitempty"`
	ProofKey  string    `json:"proofKey,omitempty"`
	ProofsDue bool      `json:"bound,omitempty"`
}

// NewRecord returns what is to be kept of tokens.
func NewRecord(m Metadata, id ClientIdentity, t Tokens) Record {
	return Record{
		Server: m, Resource: m.Resource, Scopes: m.ResourceScopes, Guessed: m.Guessed,
		ClientID: id.ID, Secret: id.Secret.Reveal(), Key: id.Key.Reveal(), Method: id.Method,
		Access: t.Access.Reveal(), Refresh: t.Refresh.Reveal(), IDToken: t.ID.Reveal(), Expires: t.Expires, Scope: t.Scope,
		ProofKey: id.Proof.Reveal(), ProofsDue: t.Bound,
	}
}

// OpenRecord opens a sealed Record.
func OpenRecord(keys *locker.Keys, box locker.Box) (Record, error) {
	var r Record
	raw, err := keys.Open(box)
	if err != nil {
		return r, fmt.Errorf("open a grant: %w", err)
	}
	if err := json.Unmarshal([]byte(raw.Reveal()), &r); err != nil {
		return r, fmt.Errorf("read a grant: %w", err)
	}
	return r, nil
}

// Seal seals the record as that of an id.
func (r Record) Seal(keys *locker.Keys, id string) (locker.Box, error) {
	raw, err := json.Marshal(r)
	if err != nil {
		return locker.Box{}, fmt.Errorf("write a grant: %w", err)
	}
	return keys.Seal(id, locker.NewSecret(string(raw)))
}

// Metadata is that of the authorization server, with what the resource said.
func (r Record) Metadata() Metadata {
	m := r.Server
	m.Resource, m.ResourceScopes, m.Guessed = r.Resource, r.Scopes, r.Guessed
	return m
}

// Client is who Bouncer is there.
func (r Record) Client() ClientIdentity {
	return ClientIdentity{
		ID:     r.ClientID,
		Secret: locker.NewSecret(r.Secret),
		Key:    locker.NewSecret(r.Key),
		Method: r.Method,
		Proof:  locker.NewSecret(r.ProofKey),
	}
}

// Tokens are those of the grant.
func (r Record) Tokens() Tokens {
	return Tokens{
		Access: locker.NewSecret(r.Access), Refresh: locker.NewSecret(r.Refresh), ID: locker.NewSecret(r.IDToken),
		Expires: r.Expires, Scope: r.Scope, Bound: r.ProofsDue,
	}
}

// Scheme is the word before the access token, with a blank.
func (r Record) Scheme() string {
	if r.ProofsDue {
		return "DPoP "
	}
	return "Bearer "
}

// Secrets are all values in it that must never be shown.
func (r Record) Secrets() []string {
	return []string{r.Secret, r.Key, r.ProofKey, r.Access, r.Refresh, r.IDToken}
}

// Cause names the cause behind an error.
func (e *Error) Cause() diagnosis.Cause {
	switch {
	case e.Code == "invalid_client" || e.Code == "unauthorized_client":
		return diagnosis.ClientWrong
	case e.Code == CodeIssuerChanged:
		return diagnosis.AuthorityChanged
	case e.Code == "invalid_grant":
		return diagnosis.SignInEnded
	case e.Code == "invalid_scope" || e.Code == "insufficient_scope":
		return diagnosis.ScopeMissing
	case e.Step == StepResource:
		return diagnosis.ResourceMetadata
	case e.Step == StepMetadata:
		return diagnosis.AuthorityMetadata
	case e.Step == StepRegister:
		return diagnosis.ClientRefused
	}
	return diagnosis.AuthorityFails
}
