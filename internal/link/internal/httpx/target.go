package httpx

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"bouncer/internal/link"
	"bouncer/internal/link/internal/direct"
	"bouncer/internal/locker"
)

// Target is where a server is and what it is given.
type Target struct {
	Server string // name, for messages
	URL    string
	Secret locker.Secret // empty for none
	// SecretHeader carries the secret as it is; "" sends it as a bearer token.
	SecretHeader string
	Headers      [][2]string // sent with every request
	CA           []byte      // PEM of authorities to trust besides the system's
	Cert         []byte      // PEM of a client certificate
	// ClientKey gives the certificate's private key (PEM) when a connection is made;
	// nil for none.
	ClientKey func(context.Context) (locker.Secret, error)
	// Credentials are attached to every request besides; nil for none.
	Credentials link.Credentials
	// Used is told when a request is sent; nil for nobody.
	Used link.Used
	// Ends is when the secret ends, where it says so itself.
	Ends time.Time
}

// EndedAt is when the secret ended; zero while it has not, or does not say.
func (t Target) EndedAt() time.Time {
	if t.Ends.IsZero() || time.Now().Before(t.Ends) {
		return time.Time{}
	}
	return t.Ends
}

// HasCredential reports whether requests carry a credential.
func (t Target) HasCredential() bool { return !t.Secret.Empty() || t.Credentials != nil }

// NewTransport returns the way to the target. What is wrong with certificates was
// found when the target was described, so it is not repeated here.
func (t Target) NewTransport(o link.Options) *http.Transport {
	dialer := &net.Dialer{Timeout: o.ConnectTimeout, KeepAlive: 30 * time.Second}
	conf := &tls.Config{MinVersion: tls.VersionTLS12}
	if len(t.CA) > 0 {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		pool.AppendCertsFromPEM(t.CA)
		conf.RootCAs = pool
	}
	if len(t.Cert) > 0 && t.ClientKey != nil {
		conf.GetClientCertificate = t.clientCertificate
	}
	return &http.Transport{
		Proxy:                  http.ProxyFromEnvironment,
		DialContext:            dialer.DialContext,
		TLSClientConfig:        conf,
		TLSHandshakeTimeout:    o.ConnectTimeout,
		ForceAttemptHTTP2:      true,
		MaxIdleConns:           256,
		MaxIdleConnsPerHost:    256,
		IdleConnTimeout:        90 * time.Second,
		DisableCompression:     true,
		MaxResponseHeaderBytes: 64 << 10,
		// Messages of some KiB go out and come in with one system call each.
		WriteBufferSize: 32 << 10,
		ReadBufferSize:  32 << 10,
	}
}

// direct is the way that short requests take; nil when only the other one can: with TLS, through a
// proxy, or to a name that is not written in ASCII.
func (t Target) direct(as *http.Transport) *direct.Transport {
	u, err := url.Parse(t.URL)
	if err != nil || u.Scheme != "http" || strings.ContainsFunc(u.Host, func(r rune) bool { return r >= utf8.RuneSelf }) {
		return nil
	}
	if proxy, err := as.Proxy(&http.Request{URL: u}); err != nil || proxy != nil {
		return nil
	}
	return direct.New(net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "80")), direct.Options{
		Dial: as.DialContext, MaxIdle: as.MaxIdleConnsPerHost, IdleTimeout: as.IdleConnTimeout, MaxHeaderBytes: as.MaxResponseHeaderBytes,
	})
}

// clientCertificate is asked for in the handshake, so that a key that is kept
// elsewhere is read when a connection is made and at no other time.
func (t Target) clientCertificate(asked *tls.CertificateRequestInfo) (*tls.Certificate, error) {
	key, err := t.ClientKey(asked.Context())
	if err != nil {
		return nil, fmt.Errorf("read the key of the client certificate: %w", err)
	}
	pair, err := tls.X509KeyPair(t.Cert, []byte(key.Reveal()))
	if err != nil {
		return nil, fmt.Errorf("pair the client certificate with its key: %w", err)
	}
	return &pair, nil
}

// SetHeaders adds what every request to the target carries.
func (t Target) SetHeaders(h http.Header, version string) {
	h["User-Agent"] = []string{"bouncer/" + version}
	for _, e := range t.Headers {
		h[http.CanonicalHeaderKey(e[0])] = append(h[http.CanonicalHeaderKey(e[0])], e[1])
	}
	switch {
	case t.Secret.Empty():
	case t.SecretHeader != "":
		h[http.CanonicalHeaderKey(t.SecretHeader)] = []string{t.Secret.Reveal()}
	default:
		h["Authorization"] = []string{"Bearer " + t.Secret.Reveal()}
	}
}
