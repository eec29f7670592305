// Package egress makes the guarded outbound connections: requests to addresses
// that servers, authorization servers and programs have named. All of them are
// taken to be hostile.
package egress

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
	"slices"
	"syscall"
	"time"

	"bouncer/internal/core/endpoint"
)

// Limits on what is fetched from addresses that others name.
const (
	maxDocument = 1 << 20 // bytes of metadata and of token answers
	maxHops     = 3       // redirects of a metadata document
	fetchTime   = 15 * time.Second
)

// Client fetches from addresses that servers, authorization servers and
// clients have named. All of them are hostile: private, loopback and link-local
// addresses are refused when the connection is made, so that no name can be
// pointed there afterwards, unless an admin allowed their range. Redirects are
// followed for plain documents only, never with a credential. It is safe for
// concurrent use.
type Client struct {
	allowed []netip.Prefix
	trust   *tls.Config
	client  *http.Client
}

// New returns a Client that may reach the given private ranges; ca holds
// certificate authorities (PEM) to trust besides the system's.
func New(inside []netip.Prefix, ca []byte) *Client {
	conf := &tls.Config{MinVersion: tls.VersionTLS12}
	if len(ca) > 0 {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		pool.AppendCertsFromPEM(ca)
		conf.RootCAs = pool
	}
	o := &Client{allowed: inside, trust: conf}
	o.client = &http.Client{
		Timeout: fetchTime, Transport: o.transport(inside),
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return o
}

// transport makes connections to public addresses and to the given ranges.
func (o *Client) transport(inside []netip.Prefix) *http.Transport {
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		return Check(address, inside)
	}}
	return &http.Transport{
		DialContext: dialer.DialContext, TLSClientConfig: o.trust, ForceAttemptHTTP2: true, TLSHandshakeTimeout: 10 * time.Second,
		MaxIdleConns: 16, IdleConnTimeout: 30 * time.Second, MaxResponseHeaderBytes: 64 << 10,
	}
}

type insideKey struct{}

// Allow returns a context whose requests may reach some private ranges besides those
// that the client may reach anyway: those that an admin allowed for one server.
func Allow(ctx context.Context, inside []netip.Prefix) context.Context {
	if len(inside) == 0 {
		return ctx
	}
	return context.WithValue(ctx, insideKey{}, inside)
}

// do sends a request. What a context allows gets connections of its own, which are
// closed behind it: one that is kept would be there for requests without the right.
func (o *Client) do(req *http.Request) (*http.Response, error) {
	inside, _ := req.Context().Value(insideKey{}).([]netip.Prefix)
	if len(inside) == 0 {
		return o.client.Do(req)
	}
	transport := o.transport(append(slices.Clone(o.allowed), inside...))
	transport.DisableKeepAlives = true
	return (&http.Client{Timeout: o.client.Timeout, Transport: transport, CheckRedirect: o.client.CheckRedirect}).Do(req)
}

// Close gives the idle connections up.
func (o *Client) Close() { o.client.CloseIdleConnections() }

// special are ranges that are no public addresses though they look like some
// (RFC 6890 and the registries of special-purpose addresses).
var special = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"),
	netip.MustParsePrefix("100.64.0.0/10"), // carrier-grade NAT (RFC 6598)
	netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"),
	netip.MustParsePrefix("192.88.99.0/24"), // relays of 6to4 (RFC 7526)
	netip.MustParsePrefix("198.18.0.0/15"),
	netip.MustParsePrefix("198.51.100.0/24"),
	netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("::/96"), // addresses of version 4 in an old form
	netip.MustParsePrefix("100::/64"),
	netip.MustParsePrefix("2001::/23"), // Teredo among them (RFC 4380)
	netip.MustParsePrefix("2001:db8::/32"),
	netip.MustParsePrefix("3fff::/20"),
	netip.MustParsePrefix("5f00::/16"),
	netip.MustParsePrefix("64:ff9b:1::/48"), // NAT64 of one network (RFC 8215)
	netip.MustParsePrefix("fec0::/10"),
}

// Ranges of version 6 that lead to the address of version 4 within: where it begins.
var carrying = []struct {
	prefix netip.Prefix
	at     int
}{
	{netip.MustParsePrefix("64:ff9b::/96"), 12}, // NAT64 (RFC 6052)
	{netip.MustParsePrefix("2002::/16"), 2},     // 6to4 (RFC 3056)
}

// public reports whether an address can be reached by everybody, and leads nowhere
// else.
func public(ip netip.Addr) bool {
	if !ip.IsGlobalUnicast() || ip.IsPrivate() {
		return false
	}
	for _, p := range special {
		if p.Contains(ip) {
			return false
		}
	}
	for _, c := range carrying {
		if c.prefix.Contains(ip) {
			raw := ip.As16()
			return public(netip.AddrFrom4([4]byte(raw[c.at : c.at+4])))
		}
	}
	return true
}

// PrivateError says that an address is in a private range that is not allowed.
type PrivateError struct {
	Address netip.Addr
	Range   netip.Prefix
}

func (e *PrivateError) Error() string {
	return fmt.Sprintf("%s is in the private range %s, which no admin has allowed for sign-ins", e.Address, e.Range)
}

// Remedy says who can allow it, how, and what that opens.
func (e *PrivateError) Remedy() string {
	return fmt.Sprintf("an admin can allow it for this server alone with --private-range %s (bouncer server register, or bouncer server "+
		"update), or for sign-ins at every server with the setting private-ranges; what the server names can then be reached in that range",
		e.Range)
}

// Check refuses connections to where nobody outside may send Bouncer: an address with its
// port, as dialled. The error is a *PrivateError, or an *endpoint.AddressError.
func Check(address string, inside []netip.Prefix) error {
	ap, err := netip.ParseAddrPort(address)
	if err != nil {
		return &endpoint.AddressError{Address: address, Why: "is no address"}
	}
	ip := ap.Addr().Unmap().WithZone("")
	for _, p := range inside {
		if p.Contains(ip) {
			return nil
		}
	}
	if public(ip) {
		return nil
	}
	return &PrivateError{Address: ip, Range: rangeOf(ip)}
}

// CheckRange reports why a range cannot be allowed: it has to be private, and no
// larger than the private ranges that there are.
func CheckRange(p netip.Prefix) error {
	if !p.IsValid() || public(p.Addr()) || rangeOf(p.Addr()).Bits() > p.Bits() {
		return &endpoint.AddressError{Address: p.String(), Why: "is no private range, like 10.0.0.0/8 or 192.168.7.0/24"}
	}
	return nil
}

// StatusError is an answer that is no success.
type StatusError struct {
	Address string
	Status  int
}

func (e *StatusError) Error() string {
	return fmt.Sprintf("%s answered %d", endpoint.Clip(e.Address), e.Status)
}

// GetJSON reads a JSON document from an address. Redirects to another origin
// are refused.
func (o *Client) GetJSON(ctx context.Context, address string, into any) error {
	at := address
	for hop := 0; ; hop++ {
		if err := endpoint.CheckEndpoint(at); err != nil {
			return err
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
		if err != nil {
			return err
		}
		req.Header.Set("Accept", "application/json")
		res, err := o.do(req)
		if err != nil {
			return unwrapURL(err)
		}
		raw, err := readLimited(res)
		if err != nil {
			return fmt.Errorf("%s: %w", endpoint.Clip(at), err)
		}
		if to := res.Header.Get("Location"); res.StatusCode >= 300 && res.StatusCode < 400 && to != "" {
			next, err := req.URL.Parse(to)
			if err != nil || next.Host != req.URL.Host || next.Scheme != req.URL.Scheme {
				return &endpoint.AddressError{Address: endpoint.Clip(at), Why: "redirects to another origin"}
			}
			if hop == maxHops {
				return &endpoint.AddressError{Address: endpoint.Clip(address), Why: fmt.Sprintf("redirects more than %d times", maxHops)}
			}
			at = next.String()
			continue
		}
		if res.StatusCode != http.StatusOK {
			return &StatusError{at, res.StatusCode}
		}
		if err := json.Unmarshal(raw, into); err != nil {
			return fmt.Errorf("%s is no JSON document of the expected form: %w", endpoint.Clip(at), err)
		}
		return nil
	}
}

// Post sends a form or a JSON body and returns the answer. It follows no
// redirect.
func (o *Client) Post(ctx context.Context, address, contentType string, body []byte, header http.Header) (int, []byte, error) {
	status, raw, _, err := o.Exchange(ctx, address, contentType, body, header)
	return status, raw, err
}

// Exchange is post with the header of the answer.
func (o *Client) Exchange(
	ctx context.Context,
	address, contentType string,
	body []byte,
	header http.Header,
) (int, []byte, http.Header, error) {
	if err := endpoint.CheckEndpoint(address); err != nil {
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
	res, err := o.do(req)
	if err != nil {
		return 0, nil, nil, unwrapURL(err)
	}
	raw, err := readLimited(res)
	if err == nil && res.StatusCode < 300 && len(raw) > 0 {
		if media, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type")); media != "" && media != "application/json" {
			err = fmt.Errorf("the answer is %s instead of JSON", endpoint.Clip(media))
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
	var inside *PrivateError
	if errors.As(err, &inside) {
		return inside // it names the address itself
	}
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// rangeOf is the range that an address that is not public belongs to.
func rangeOf(ip netip.Addr) netip.Prefix {
	for _, prefix := range private {
		if prefix.Contains(ip) {
			return prefix
		}
	}
	for _, prefix := range special {
		if prefix.Contains(ip) {
			return prefix
		}
	}
	return netip.PrefixFrom(ip, ip.BitLen())
}

// private are the ranges that networks of one's own are made of (RFC 1918, 4193,
// 3927, 4291).
var private = []netip.Prefix{
	netip.MustParsePrefix("127.0.0.0/8"),
	netip.MustParsePrefix("10.0.0.0/8"),
	netip.MustParsePrefix("172.16.0.0/12"),
	netip.MustParsePrefix("192.168.0.0/16"),
	netip.MustParsePrefix("169.254.0.0/16"),
	netip.MustParsePrefix("fc00::/7"),
	netip.MustParsePrefix("fe80::/10"),
	netip.MustParsePrefix("::1/128"),
}
