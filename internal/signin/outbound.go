package signin

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
	"time"
)

// Limits on what is fetched from addresses that others name.
const (
	maxDocument = 1 << 20 // bytes of metadata and of token answers
	maxHops     = 3       // redirects of a metadata document
	fetchTime   = 15 * time.Second
)

// Outbound fetches from addresses that servers, authorization servers and
// clients have named. All of them are hostile: private, loopback and link-local
// addresses are refused when the connection is made, so that no name can be
// pointed there afterwards, unless an admin allowed their range. Redirects are
// followed for plain documents only, never with a credential. It is safe for
// concurrent use.
type Outbound struct {
	inside []netip.Prefix
	client *http.Client
}

// NewOutbound returns an Outbound that may reach the given private ranges; ca
// holds certificate authorities (PEM) to trust besides the system's.
func NewOutbound(inside []netip.Prefix, ca []byte) *Outbound {
	o := &Outbound{inside: inside}
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: o.control}
	conf := &tls.Config{MinVersion: tls.VersionTLS12}
	if len(ca) > 0 {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		pool.AppendCertsFromPEM(ca)
		conf.RootCAs = pool
	}
	o.client = &http.Client{
		Timeout: fetchTime,
		Transport: &http.Transport{
			DialContext: dialer.DialContext, TLSClientConfig: conf, ForceAttemptHTTP2: true, TLSHandshakeTimeout: 10 * time.Second,
			MaxIdleConns: 16, IdleConnTimeout: 30 * time.Second, MaxResponseHeaderBytes: 64 << 10,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return o
}

// Close gives the idle connections up.
func (o *Outbound) Close() { o.client.CloseIdleConnections() }

// AddressError says that an address may not be reached.
type AddressError struct{ Address, Why string }

func (e *AddressError) Error() string { return e.Address + " " + e.Why }

// shared is the range of carrier-grade NAT (RFC 6598), which is no public
// address either.
var shared = netip.MustParsePrefix("100.64.0.0/10")

// control refuses connections to where nobody outside may send Bouncer.
func (o *Outbound) control(_, address string, _ syscall.RawConn) error {
	ap, err := netip.ParseAddrPort(address)
	if err != nil {
		return &AddressError{address, "is no address"}
	}
	ip := ap.Addr().Unmap()
	for _, p := range o.inside {
		if p.Contains(ip) {
			return nil
		}
	}
	if ip.IsGlobalUnicast() && !ip.IsPrivate() && !shared.Contains(ip) {
		return nil
	}
	return &AddressError{ip.String(), "is a private, loopback or link-local address, which an admin has not allowed (setting private-ranges)"}
}

// CheckEndpoint reports why an address may be used for no step of a sign-in: it
// has to be https, or http on the machine itself (OAuth 2.1, section 1.5).
func CheckEndpoint(raw string) error {
	u, err := url.Parse(raw)
	switch {
	case err != nil || u.Host == "" || len(raw) > 2000:
		return &AddressError{clip(raw), "is no address"}
	case u.User != nil || u.Fragment != "":
		return &AddressError{clip(raw), "holds a user name or a fragment"}
	case u.Scheme == "https":
		return nil
	case u.Scheme == "http" && loopback(u.Hostname()):
		return nil
	}
	return &AddressError{clip(raw), "is not https"}
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || (ip != nil && ip.IsLoopback())
}

func clip(s string) string {
	if len(s) > 200 {
		s = s[:200] + "..."
	}
	return strings.ToValidUTF8(s, "")
}

// StatusError is an answer that is no success.
type StatusError struct {
	Address string
	Status  int
}

func (e *StatusError) Error() string { return fmt.Sprintf("%s answered %d", clip(e.Address), e.Status) }

// document reads a JSON document from an address. Redirects to another origin
// are refused.
func (o *Outbound) document(ctx context.Context, address string, into any) error {
	at := address
	for hop := 0; ; hop++ {
		if err := CheckEndpoint(at); err != nil {
			return err
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
		if err != nil {
			return err
		}
		req.Header.Set("Accept", "application/json")
		res, err := o.client.Do(req)
		if err != nil {
			return unwrapURL(err)
		}
		raw, err := readLimited(res)
		if err != nil {
			return fmt.Errorf("%s: %w", clip(at), err)
		}
		if to := res.Header.Get("Location"); res.StatusCode >= 300 && res.StatusCode < 400 && to != "" {
			next, err := req.URL.Parse(to)
			if err != nil || next.Host != req.URL.Host || next.Scheme != req.URL.Scheme {
				return &AddressError{clip(at), "redirects to another origin"}
			}
			if hop == maxHops {
				return &AddressError{clip(address), fmt.Sprintf("redirects more than %d times", maxHops)}
			}
			at = next.String()
			continue
		}
		if res.StatusCode != http.StatusOK {
			return &StatusError{at, res.StatusCode}
		}
		if err := json.Unmarshal(raw, into); err != nil {
			return fmt.Errorf("%s is no JSON document of the expected form: %w", clip(at), err)
		}
		return nil
	}
}

// post sends a form or a JSON body and returns the answer. It follows no
// redirect.
func (o *Outbound) post(ctx context.Context, address, contentType string, body []byte, header http.Header) (int, []byte, error) {
	status, raw, _, err := o.exchange(ctx, address, contentType, body, header)
	return status, raw, err
}

// exchange is post with the header of the answer.
func (o *Outbound) exchange(ctx context.Context, address, contentType string, body []byte, header http.Header) (int, []byte, http.Header, error) {
	if err := CheckEndpoint(address); err != nil {
		return 0, nil, nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return 0, nil, nil, err
	}
	req.GetBody = nil // what may have been acted upon is not sent again
	for k, v := range header {
		req.Header[k] = v
	}
	req.Header.Set("Content-Type", contentType)
	req.Header.Set("Accept", "application/json")
	res, err := o.client.Do(req)
	if err != nil {
		return 0, nil, nil, unwrapURL(err)
	}
	raw, err := readLimited(res)
	if err == nil && res.StatusCode < 300 && len(raw) > 0 {
		if media, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type")); media != "" && media != "application/json" {
			err = fmt.Errorf("the answer is %s instead of JSON", clip(media))
		}
	}
	return res.StatusCode, raw, res.Header, err
}

func readLimited(res *http.Response) ([]byte, error) {
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxDocument+1))
	if err == nil && len(raw) > maxDocument {
		err = fmt.Errorf("the answer is larger than %d bytes", maxDocument)
	}
	return raw, err
}

// unwrapURL drops the address that net/http puts before its errors: a query may
// hold a secret.
func unwrapURL(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}
