package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/evidence"
	"bouncer/internal/diagnose/checkup/exam"
	"bouncer/internal/link"
)

// way is the way to an address.
type way struct {
	*exam.Run
	at     *url.URL
	dialed []string // addresses that the name resolves to
	roots  *x509.CertPool
	client []tls.Certificate
	forms  []attached
	web    *web
}

// travel goes as far as the way leads.
func (w *way) travel(ctx context.Context) error {
	if err := w.prepare(ctx); err != nil {
		return err
	}
	if !w.lookup(ctx) || !w.connect(ctx) {
		return ctx.Err()
	}
	if w.at.Scheme == "https" && !w.handshake(ctx, w.at) {
		w.otherScheme(ctx)
		return ctx.Err()
	}
	w.web = newWeb(w)
	defer w.web.close()
	return w.speak(ctx)
}

// prepare takes what is sent along and trusted.
func (w *way) prepare(ctx context.Context) error {
	w.roots, _ = x509.SystemCertPool() // without one only what is given is trusted
	if w.roots == nil {
		w.roots = x509.NewCertPool()
	}
	w.roots.AppendCertsFromPEM([]byte(w.Target.Server.CA))
	if err := w.attach(ctx); err != nil {
		return err
	}
	return w.certificate(ctx)
}

func (w *way) certificate(ctx context.Context) error {
	if w.Target.Server.ClientCert == "" || w.Target.Credential.ClientKey == nil {
		return nil
	}
	key, err := w.Target.Credential.ClientKey(ctx)
	if err != nil {
		return fmt.Errorf("read the key of the client certificate: %w", err)
	}
	pair, err := tls.X509KeyPair([]byte(w.Target.Server.ClientCert), []byte(key.Reveal()))
	if err != nil {
		return fmt.Errorf("use the client certificate: %w", err)
	}
	w.client = []tls.Certificate{pair}
	return nil
}

func (w *way) lookup(ctx context.Context) bool {
	host := w.at.Hostname()
	w.Tell("address", "looking up "+host)
	began := time.Now()
	if ip := net.ParseIP(host); ip != nil {
		w.dialed = []string{host}
		return true
	}
	lctx, stop := context.WithTimeout(ctx, min(connectTime, w.Options.Patience))
	defer stop()
	list, err := net.DefaultResolver.LookupHost(lctx, host)
	step := &evidence.Step{Took: time.Since(began), Err: err, Timeout: lctx.Err() != nil && ctx.Err() == nil}
	var dns *net.DNSError
	if errors.As(err, &dns) && dns.IsTimeout {
		step.Timeout = true
	}
	w.Evidence.Lookup, w.Evidence.Addresses, w.dialed = step, list, list
	if step.Failed() {
		w.Stage("address", exam.Failed, step.Took, fmt.Sprintf("%s does not resolve: %v", host, err))
		return false
	}
	return true
}

func (w *way) connect(ctx context.Context) bool {
	w.Tell("address", "connecting to "+w.at.Host)
	began := time.Now()
	conn, err := w.dial(ctx, w.at)
	step := &evidence.Step{Took: time.Since(began), Err: err, Timeout: link.IsTimeout(err)}
	w.Evidence.Connect = step
	if err != nil {
		w.Stage("address", exam.Failed, step.Took, fmt.Sprintf("the connection to %s failed: %v", w.at.Host, err))
		return false
	}
	_ = conn.Close() // it was only to see that somebody is there
	w.Stage("address", exam.OK, step.Took, fmt.Sprintf("%s takes connections", conn.RemoteAddr()))
	return true
}

// dial connects to an address in the time that connecting may take.
func (w *way) dial(ctx context.Context, at *url.URL) (net.Conn, error) {
	port := at.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[at.Scheme]
	}
	ctx, stop := context.WithTimeout(ctx, min(connectTime, w.Options.Patience))
	defer stop()
	var d net.Dialer
	return d.DialContext(ctx, "tcp", net.JoinHostPort(at.Hostname(), port))
}

// heard keeps the first bytes that come over a connection.
type heard struct {
	net.Conn
	mu    sync.Mutex // guards first
	first []byte
}

const firstBytes = 512

func (h *heard) Read(p []byte) (int, error) {
	n, err := h.Conn.Read(p)
	h.mu.Lock()
	defer h.mu.Unlock()
	if room := firstBytes - len(h.first); room > 0 && n > 0 {
		h.first = append(h.first, p[:min(n, room)]...)
	}
	return n, err
}

func (h *heard) bytes() []byte {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]byte(nil), h.first...)
}

// handshake opens TLS without trusting anything, and tells whether one may trust it.
func (w *way) handshake(ctx context.Context, at *url.URL) bool {
	w.Tell("tls", "opening TLS to "+at.Host)
	h := &evidence.Handshake{Given: len(w.client) > 0, Other: w.at.Scheme == "http"}
	w.Evidence.TLS = h
	began := time.Now()
	raw, err := w.dial(ctx, at)
	if err != nil {
		h.Step = evidence.Step{Took: time.Since(began), Err: err, Timeout: link.IsTimeout(err)}
		return false
	}
	defer raw.Close()
	ear := &heard{Conn: raw}
	conn := tls.Client(ear, &tls.Config{
		ServerName: at.Hostname(), MinVersion: tls.VersionTLS12,
		InsecureSkipVerify: true, //nolint:gosec // it is verified below, and nothing is sent before
		GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
			h.Asked = true
			if len(w.client) > 0 {
				return &w.client[0], nil
			}
			return &tls.Certificate{}, nil
		},
	})
	hctx, stop := context.WithTimeout(ctx, min(connectTime, w.Options.Patience))
	defer stop()
	err = conn.HandshakeContext(hctx)
	if err == nil && h.Asked {
		err = refusedLater(conn)
	}
	h.Step = evidence.Step{Took: time.Since(began), Err: err, Timeout: hctx.Err() != nil && ctx.Err() == nil}
	h.Alert = alertOf(err)
	if err != nil {
		h.First = ear.bytes()
		if len(h.First) > 0 && (h.First[0] == 0x15 || h.First[0] == 0x16) {
			h.First = nil // that is TLS
		}
	}
	for _, c := range conn.ConnectionState().PeerCertificates {
		h.Chain = append(h.Chain, describe(c))
	}
	w.verify(conn.ConnectionState().PeerCertificates, h, at.Hostname())
	return w.told(h)
}

// told writes the stage.
func (w *way) told(h *evidence.Handshake) bool {
	var facts []string
	for _, c := range h.Chain {
		facts = append(facts, fmt.Sprintf("a certificate for %s, issued by %s, valid until %s", strings.Join(c.Names, ", "), c.Issuer,
			c.NotAfter.Format("2006-01-02")))
	}
	switch {
	case h.Failed():
		w.Stage("tls", exam.Failed, h.Took, append(facts, fmt.Sprint(h.Err))...)
		return false
	case h.Verify != nil:
		w.Stage("tls", exam.Failed, h.Took, append(facts, h.Verify.Error())...)
		return false
	}
	w.Stage("tls", exam.OK, h.Took, facts...)
	return true
}

// refusedLater waits a moment for the alert with which a server of TLS 1.3 refuses a
// client only after the handshake (RFC 8446, section 4.4.2.4).
func refusedLater(conn *tls.Conn) error {
	_ = conn.SetReadDeadline(time.Now().Add(streamTime))
	_, err := conn.Read(make([]byte, 1))
	if link.IsTimeout(err) {
		return nil
	}
	return err
}

func (w *way) verify(chain []*x509.Certificate, h *evidence.Handshake, host string) {
	if len(chain) == 0 {
		return
	}
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, h.Verify = chain[0].Verify(x509.VerifyOptions{Roots: w.roots, Intermediates: between, DNSName: host, CurrentTime: w.Evidence.At})
	var unknown x509.UnknownAuthorityError
	if !errors.As(h.Verify, &unknown) {
		return
	}
	// What it is valid for is told before who signed it: both are wrong with test
	// certificates, and the name and the dates are what somebody has to mend then.
	for _, c := range chain {
		if w.Evidence.At.After(c.NotAfter) || w.Evidence.At.Before(c.NotBefore) {
			h.Verify = x509.CertificateInvalidError{Cert: c, Reason: x509.Expired}
			return
		}
	}
	if err := chain[0].VerifyHostname(host); err != nil {
		h.Verify = err
	}
}

func describe(c *x509.Certificate) evidence.Certificate {
	out := evidence.Certificate{
		Subject: c.Subject.String(), Issuer: c.Issuer.String(), Names: c.DNSNames, NotBefore: c.NotBefore, NotAfter: c.NotAfter,
		SelfSigned: c.CheckSignatureFrom(c) == nil || c.Subject.String() == c.Issuer.String(),
	}
	for _, ip := range c.IPAddresses {
		out.Names = append(out.Names, ip.String())
	}
	return out
}

// alertTexts are how the TLS package calls the alerts that it gets.
var alertTexts = map[string]int{
	"handshake failure": 40, "bad certificate": 42, "unsupported certificate": 43, "revoked certificate": 44, "expired certificate": 45,
	"unknown certificate": 46, "unknown certificate authority": 48, "access denied": 49, "protocol version not supported": 70,
	"insufficient security level": 71, "internal error": 80, "unrecognized name": 112, "certificate required": 116,
}

func alertOf(err error) int {
	if err == nil {
		return 0
	}
	if strings.Contains(err.Error(), "selected unsupported protocol version") {
		return 70
	}
	_, text, ok := strings.Cut(err.Error(), "remote error: tls: ")
	if !ok {
		return 0
	}
	return alertTexts[text]
}

// otherScheme looks whether the port speaks the protocol without TLS. Nothing secret
// goes along.
func (w *way) otherScheme(ctx context.Context) {
	h := w.Evidence.TLS
	if h == nil || !strings.HasPrefix(string(h.First), "HTTP/") {
		return
	}
	plain := *w.at
	plain.Scheme = "http"
	w.forms = nil
	w.web = newWeb(w)
	defer w.web.close()
	w.web.probe(ctx, evidence.OtherScheme, plain.String())
}
