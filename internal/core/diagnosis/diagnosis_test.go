package diagnosis

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
)

func wrapped(err error) error {
	return &url.Error{Op: "Post", URL: "http://x", Err: &net.OpError{Op: "dial", Err: fmt.Errorf("wrapped: %w", err)}}
}

// Look-alikes stand side by side: what differs is what tells them apart.
func TestExplainNamesOneCause(t *testing.T) {
	for name, row := range map[string]struct {
		e    Evidence
		want Cause
	}{
		"the name does not resolve":             {Evidence{Stage: "resolve", Err: wrapped(&net.DNSError{Name: "nowhere.example", IsNotFound: true})}, NoSuchHost},
		"the name server does not answer":       {Evidence{Stage: "resolve", Timeout: true, Err: wrapped(&net.DNSError{IsTimeout: true})}, ConnectTimeout},
		"nothing listens":                       {Evidence{Stage: "connect", Err: wrapped(syscall.ECONNREFUSED)}, Refused},
		"no route":                              {Evidence{Stage: "connect", Err: wrapped(syscall.EHOSTUNREACH)}, Unreachable},
		"packets are dropped":                   {Evidence{Stage: "connect", Timeout: true, Err: context.DeadlineExceeded}, ConnectTimeout},
		"it accepts and never answers":          {Evidence{Stage: "initialize", Timeout: true, Err: context.DeadlineExceeded}, NeverAnswers},
		"a tool takes too long":                 {Evidence{Stage: "call", Timeout: true, Err: context.DeadlineExceeded}, CallTimeout},
		"it breaks off before the session":      {Evidence{Stage: "initialize", Err: errors.New("EOF")}, StreamCut},
		"it breaks off in a call":               {Evidence{Stage: "call", Err: errors.New("EOF")}, OutcomeUnknown},
		"an unknown authority":                  {Evidence{Err: wrapped(x509.UnknownAuthorityError{})}, CertUntrusted},
		"a certificate for another name":        {Evidence{Err: wrapped(x509.HostnameError{Certificate: &x509.Certificate{}, Host: "x"})}, CertOtherName},
		"an expired certificate":                {Evidence{Err: wrapped(x509.CertificateInvalidError{Reason: x509.Expired})}, CertExpired},
		"https to a plain port":                 {Evidence{Err: wrapped(tls.RecordHeaderError{RecordHeader: [5]byte([]byte("HTTP/"))})}, TLSOnPlain},
		"http to a port that does not speak it": {Evidence{Err: errors.New("net/http: malformed HTTP response")}, PlainOnTLS},
		"401 without a credential":              {Evidence{Status: 401}, NoCredential},
		"401 with one":                          {Evidence{Status: 401, HadCredential: true}, TokenRejected},
		"403":                                   {Evidence{Status: 403, HadCredential: true}, NotAllowed},
		"404":                                   {Evidence{Status: 404}, WrongPath},
		"405":                                   {Evidence{Status: 405}, MethodRefused},
		"a redirect":                            {Evidence{Status: 302, Location: "/login"}, Redirected},
		"429":                                   {Evidence{Status: 429, RetryAfter: "60"}, TooManyRequests},
		"413":                                   {Evidence{Status: 413}, TooLarge},
		"500":                                   {Evidence{Status: 500}, ServerError},
		"503":                                   {Evidence{Status: 503}, BadGateway},
		"418":                                   {Evidence{Status: 418}, OtherStatus},
		"what the reader established comes first": {Evidence{What: HTMLPage, Status: 200}, HTMLPage},
		"an error answer to initialize":           {Evidence{What: InitRefused, RPCCode: -32602, RPCMessage: "no"}, InitRefused},
		"nothing at all was observed":             {Evidence{}, Malformed},
	} {
		t.Run(name, func(t *testing.T) {
			f := Explain(row.e)
			assert.Equal(t, row.want, f.Cause)
			for _, text := range []string{f.Message, f.Remedy, f.Actor} {
				assert.NotEmpty(t, text, "a finding says what happened, what helps, and who has to act")
			}
		})
	}
}
