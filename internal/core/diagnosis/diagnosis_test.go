package diagnosis

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

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
		"401 with one that ended":               {Evidence{Status: 401, HadCredential: true, CredentialEnded: time.Unix(1, 0)}, TokenExpired},
		"300":                                   {Evidence{Status: 300}, Redirected},
		"304 without a place":                   {Evidence{Status: 304}, Redirected},
		"400":                                   {Evidence{Status: 400}, OtherStatus},
		"502":                                   {Evidence{Status: 502}, BadGateway},
		"410":                                   {Evidence{Status: 410}, WrongPath},
		"a script that is not there":            {Evidence{What: ScriptMissing}, ScriptMissing},
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

// What was observed is part of the message where there is something, and leaves no colon where not.
func TestDetailsAreTold(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		e               Evidence
		message, remedy string
	}{
		{Evidence{}, "the server gave an answer that is not the protocol", "check that the address is that of an MCP endpoint"},
		{Evidence{Note: "a page"}, "the server gave an answer that is not the protocol: a page", ""},
		{Evidence{Status: 429}, "the server is receiving too many requests (429)", "wait and try again"},
		{Evidence{Status: 429, RetryAfter: "60 s"}, "the server is receiving too many requests (429)", "wait until 60 s has passed and try again"},
		{Evidence{What: ScriptMissing}, "a file that is to be run is not there", ScriptRemedy},
		{
			Evidence{What: ScriptMissing, Wrote: Words{Cause: ScriptMissing, About: "/srv/x.py"}, Note: "exit status 2"},
			"the process ends before it opens a session: a file that it needs is not there, or may not be read: /srv/x.py: exit status 2", "",
		},
	} {
		f := Explain(row.e)
		assert.Equal(t, row.message, f.Message)
		if row.remedy != "" {
			assert.Equal(t, row.remedy, f.Remedy)
		}
	}
	list := Catalog()
	assert.True(t, slices.IsSortedFunc(list, func(a, b Known) int { return strings.Compare(string(a.Cause), string(b.Cause)) }))
	assert.Greater(t, len(list), 50)
}
