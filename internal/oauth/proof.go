package oauth

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"net/url"
	"slices"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"bouncer/internal/locker"
	"bouncer/internal/token"
)

// newProofKey makes a key to prove possession with (RFC 9449), where the
// authority wants proofs; empty where it does not.
func newProofKey(a Metadata) (locker.Secret, error) {
	if !slices.Contains(a.Proofs, string(jose.ES256)) {
		return locker.Secret{}, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return locker.Secret{}, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return locker.NewSecret(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))), err
}

// Proof makes a proof of possession for one request (RFC 9449, section 4.2).
// access is the token that it goes with, empty at the token endpoint; nonce is
// the server's, if it gave one.
func Proof(key locker.Secret, method, address string, access locker.Secret, nonce string) (string, error) {
	private, alg, err := ReadPrivateKey(key.Reveal())
	if err != nil {
		return "", err
	}
	public, ok := private.(interface{ Public() crypto.PublicKey })
	if !ok {
		return "", x509.ErrUnsupportedAlgorithm
	}
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: alg, Key: private},
		(&jose.SignerOptions{}).WithType("dpop+jwt").WithHeader("jwk", jose.JSONWebKey{Key: public.Public()}),
	)
	if err != nil {
		return "", err
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	u.RawQuery, u.Fragment = "", ""
	claims := map[string]any{"jti": token.New(""), "htm": method, "htu": u.String(), "iat": time.Now().Unix()}
	if !access.Empty() {
		sum := sha256.Sum256([]byte(access.Reveal()))
		claims["ath"] = base64.RawURLEncoding.EncodeToString(sum[:])
	}
	if nonce != "" {
		claims["nonce"] = nonce
	}
	return jwt.Signed(signer).Claims(claims).Serialize()
}
