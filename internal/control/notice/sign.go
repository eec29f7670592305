package notice

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"time"
)

// KeyID names the key in signatures.
const KeyID = "bouncer-notices"

// sign puts a signature into the header of a request (HTTP Message Signatures, RFC 9421,
// with HMAC and SHA-256): over the method, the address and the digest of the body (RFC
// 9530), and the time.
func sign(header http.Header, key []byte, method, target string, body []byte, at time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;keyid="%s";alg="hmac-sha256"`, at.Unix(), KeyID)
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "\"@method\": %s\n\"@target-uri\": %s\n", method, target)
	fmt.Fprintf(mac, "\"content-digest\": %s\n\"@signature-params\": %s", digest, params)
	header.Set("Content-Digest", digest)
	header.Set("Signature-Input", "bouncer="+params)
	header.Set("Signature", "bouncer=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
