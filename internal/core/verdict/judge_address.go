package verdict

import (
	"bytes"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"syscall"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/evidence"
	"bouncer/internal/core/report"
)

// addressJudge judges the way to the address: look-up, connection, TLS, first bytes.
type addressJudge struct{ *judge }

// address judges what is reached at an address, step by step on the way to it.
func (j addressJudge) address() {
	at, err := url.Parse(j.e.Target.URL)
	switch {
	case err != nil || at.Host == "":
		j.add(diagnosis.NoAddress, "the address is none: "+diagnosis.Clip(j.e.Target.URL), j.update("--url https://HOST/PATH"))
		return
	case at.Scheme != "http" && at.Scheme != "https":
		right := *at
		right.Scheme = "https"
		j.add(
			diagnosis.WrongScheme,
			fmt.Sprintf("the address begins with %s://, and the protocol is spoken over http and https", at.Scheme),
			j.update("--url "+report.Quoted(right.String())),
		)
		return
	}
	switch {
	case j.e.Lookup.Failed():
		j.lookup(at)
	case j.e.Connect.Failed():
		j.connect(at)
	case at.Scheme == "https" && j.e.TLS != nil && j.tls(at):
	case j.first(at):
	default:
		j.ofHTTP().http()
	}
}

func (j addressJudge) lookup(at *url.URL) {
	s := j.e.Lookup
	if s.Timeout {
		j.add(
			diagnosis.NoSuchHost,
			fmt.Sprintf("the look-up of the name %s was not answered", at.Hostname()),
			"check the name servers of the machine where Bouncer runs",
			fmt.Sprintf("no answer within %s", report.Took(s.Took)),
		).by(diagnosis.ServerOwner)
		return
	}
	j.add(diagnosis.NoSuchHost, fmt.Sprintf("the name %s does not resolve", at.Hostname()),
		"check the spelling of the host: "+j.update("--url "+at.Scheme+"://HOST"+at.EscapedPath()), evidence.Plain(s.Err)).
		follows("nothing could be connected to")
}

func (j addressJudge) connect(at *url.URL) {
	s := j.e.Connect
	where := at.Host
	var facts []string
	if len(j.e.Addresses) > 0 {
		facts = append(facts, fmt.Sprintf("%s resolves to %s", at.Hostname(), strings.Join(j.e.Addresses, ", ")))
	}
	switch {
	case errors.Is(s.Err, syscall.ECONNREFUSED):
		j.add(diagnosis.Refused, "nothing accepts connections at "+where,
			"start the server, or correct the port: "+j.update("--url "+at.Scheme+"://"+at.Hostname()+":PORT"+at.EscapedPath()),
			append(facts, fmt.Sprintf("the connection was refused after %s", report.Took(s.Took)))...)
	case errors.Is(s.Err, syscall.EHOSTUNREACH), errors.Is(s.Err, syscall.ENETUNREACH):
		j.add(diagnosis.Unreachable, "there is no route to "+where, "check the address, and the network between Bouncer and the server",
			append(facts, evidence.Plain(s.Err))...)
	default:
		j.add(diagnosis.ConnectTimeout, "the connection to "+where+" is not answered",
			"check the address and the port; something in between may drop the packets",
			append(facts, fmt.Sprintf("no answer to the connection within %s", report.Took(s.Took)))...)
	}
}

// tls judges the handshake; true when it found something.
func (j addressJudge) tls(at *url.URL) bool {
	h := j.e.TLS
	var facts []string
	if len(h.Chain) > 0 {
		c := h.Chain[0]
		facts = append(facts, fmt.Sprintf("the server presents a certificate for %s, issued by %s, valid from %s to %s",
			names(c), c.Issuer, report.Date(c.NotBefore), report.Date(c.NotAfter)))
	}
	if len(h.First) > 0 {
		facts = append(facts, "the first bytes that came: "+evidence.Quoted(h.First))
	}
	if h.Err != nil {
		facts = append(facts, "the handshake ended with: "+evidence.Plain(h.Err))
	}
	switch {
	case bytes.HasPrefix(h.First, []byte("HTTP/")):
		plain := *at
		plain.Scheme = "http"
		f := j.add(diagnosis.TLSOnPlain, "the port speaks plain HTTP, and the address says https",
			j.update("--url "+report.Quoted(plain.String()))+", if unprotected transport is meant", facts...)
		if x := j.e.Find(evidence.OtherScheme); x != nil && x.Opened {
			f.Evidence = append(f.Evidence, x.Told())
			f.fix("url", plain.String(), "reaches the server over plain HTTP")
		}
	case len(h.First) > 0 && h.First[0] != 0x15:
		j.otherProtocol(h.First, facts)
	case h.Alert == alertCertificateRequired, h.Asked && !h.Given && h.Failed():
		j.add(diagnosis.ClientCertNeeded, "the server wants a client certificate, and none is given",
			j.update("--client-cert FILE --client-key SECRET"), append(facts, h.AlertText())...)
	case h.Asked && h.Given && h.Failed():
		j.add(
			diagnosis.ClientCertRefused,
			"the server refuses the client certificate",
			"have a certificate issued that the server accepts: "+
				j.update("--client-cert FILE --client-key SECRET"),
			append(facts, h.AlertText())...)
	case h.Alert == alertProtocolVersion:
		j.add(diagnosis.NoTLSVersion, "the server speaks no version of TLS that is still safe",
			"have TLS 1.2 or newer switched on where the server's TLS ends", append(facts, h.AlertText())...)
	case h.Failed() && len(h.Chain) == 0:
		j.add(
			diagnosis.HandshakeFails,
			"TLS cannot be opened: "+h.Ending(),
			"look at what ends TLS before the server",
			append(facts, h.AlertText())...)
	case h.Verify != nil:
		j.verify(at, facts)
	default:
		return false
	}
	return true
}

func names(c evidence.Certificate) string {
	if len(c.Names) > 0 {
		return strings.Join(c.Names[:min(len(c.Names), 5)], ", ")
	}
	return c.Subject
}

// verify says why a chain is not trusted.
func (j addressJudge) verify(at *url.URL, facts []string) {
	h := j.e.TLS
	leaf := h.Chain[0]
	var host x509.HostnameError
	var unknown x509.UnknownAuthorityError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(h.Verify, &invalid) && invalid.Reason == x509.Expired:
		late := leaf
		for _, c := range h.Chain {
			if j.e.At.After(c.NotAfter) || j.e.At.Before(c.NotBefore) {
				late = c
				break
			}
		}
		if j.e.At.Before(late.NotBefore) {
			j.add(
				diagnosis.CertNotYet,
				fmt.Sprintf("the certificate for %s is valid only from %s on", names(late), report.Date(late.NotBefore)),
				"check the clock of the machine where Bouncer runs, and of the one that issued it",
				append(facts, "it is now "+report.Date(j.e.At))...)
			return
		}
		j.add(diagnosis.CertExpired, fmt.Sprintf("the certificate for %s expired on %s", names(late), report.Date(late.NotAfter)),
			"renew it where the server's TLS ends", append(facts, "it is now "+report.Date(j.e.At))...)
	case errors.As(h.Verify, &host):
		f := j.add(diagnosis.CertOtherName, fmt.Sprintf("the certificate is for %s, and the address says %s", names(leaf), at.Hostname()),
			"use a name that it is for: "+j.update("--url "+report.Quoted(withHost(at, leaf))), facts...)
		if at.Hostname() == "" {
			f.by(diagnosis.ServerOwner)
		}
	case errors.As(h.Verify, &unknown) && leaf.SelfSigned:
		j.add(diagnosis.CertUntrusted, "the certificate is signed by itself, and not trusted here",
			"give it, if it is the one that you expect: "+j.update("--ca FILE"), facts...)
	case errors.As(h.Verify, &unknown):
		missing := ""
		if len(h.Chain) == 1 {
			missing = "the server sends no further certificate; if its authority has intermediate ones, the server should send them"
		}
		j.add(diagnosis.CertUntrusted, fmt.Sprintf("the certificate is issued by %s, which is not trusted here", leaf.Issuer),
			"give the authority's certificate: "+j.update("--ca FILE"), append(facts, missing)...)
	default:
		j.add(diagnosis.CertUntrusted, "the certificate cannot be verified: "+evidence.Plain(h.Verify), j.update("--ca FILE"), facts...)
	}
}

func withHost(at *url.URL, c evidence.Certificate) string {
	right := *at
	if len(c.Names) > 0 && !strings.Contains(c.Names[0], "*") {
		right.Host = c.Names[0]
		if port := at.Port(); port != "" {
			right.Host += ":" + port
		}
	}
	return right.String()
}

// first judges what came before there was HTTP; true when it found something.
func (j addressJudge) first(at *url.URL) bool {
	if at.Scheme == "http" && j.e.TLS != nil && (len(j.e.TLS.Chain) > 0 || j.e.TLS.Alert != 0 || j.e.TLS.Asked) {
		secure := *at
		secure.Scheme = "https"
		f := j.add(
			diagnosis.PlainOnTLS,
			"the port speaks TLS, and the address says http",
			j.update("--url "+report.Quoted(secure.String())),
			j.e.Find(evidence.Initialize).Told(),
			"the same port answers a TLS handshake",
		)
		if j.e.TLS.Verify == nil && len(j.e.TLS.Chain) > 0 {
			f.fix("url", secure.String(), "reaches the server over TLS")
		}
		return true
	}
	if len(j.e.Greeting) > 0 {
		j.otherProtocol(j.e.Greeting, []string{"the first bytes that came: " + evidence.Quoted(j.e.Greeting)})
		return true
	}
	return false
}

// otherProtocols are the first bytes of protocols that are found on wrong ports.
var otherProtocols = []struct{ prefix, name string }{
	{"SSH-", "SSH"}, {"220 ", "SMTP or FTP"}, {"220-", "SMTP or FTP"}, {"+OK", "POP3 or a key-value store"}, {"* OK", "IMAP"},
	{"-ERR", "a key-value store"}, {"-DENIED", "a key-value store"}, {"AMQP", "AMQP"}, {"ERROR\r\n", "a memory cache"},
	{
		"\x00\x00\x00\x12\x04",
		"HTTP/2 only",
	}, {"\x00\x00\x00\x18\x04", "HTTP/2 only"}, {"\x00\x00\x06\x04", "HTTP/2 only"}, {"\x00\x00\x0c\x04", "HTTP/2 only"},
	{
		"\x00\x00\x18\x04",
		"HTTP/2 only",
	}, {"\x00\x00\x12\x04", "HTTP/2 only"}, {"\x00\x00\x00\x04", "HTTP/2 only"}, {"INFO {", "a message broker"},
	{"E\x00\x00\x00", "a database"}, {"\x15\x03", "TLS"}, {"RFB ", "a remote desktop"}, {"@RSYNCD", "a file copy daemon"},
	{"{", "messages by lines, without HTTP"},
}

func (j addressJudge) otherProtocol(first []byte, facts []string) {
	name := "something else than HTTP"
	for _, p := range otherProtocols {
		if bytes.HasPrefix(first, []byte(p.prefix)) {
			name = p.name
			break
		}
	}
	if len(first) > 5 && first[3] == 0 && first[4] == 0x0a {
		name = "a database" // the greeting of one, after the length of its packet
	}
	j.add(
		diagnosis.OtherProtocol,
		"the port speaks "+name+", and no HTTP",
		"correct the port: "+j.update("--url https://HOST:PORT/PATH"),
		facts...)
}

// Alerts of TLS (RFC 8446, section 6).
const (
	alertProtocolVersion     = 70
	alertCertificateRequired = 116
)
