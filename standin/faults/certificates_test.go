package faults

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http/httptest"
	"time"

	"bouncer/standin/loopback"
)

// authority signs certificates of the harbour.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	pem  string
}

func newKey() *ecdsa.PrivateKey {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err) // the system has randomness
	}
	return key
}

func newAuthority(name string) authority {
	a := authority{key: newKey()}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(
			1,
		), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &a.key.PublicKey, a.key)
	if err != nil {
		panic(err)
	}
	a.cert, _ = x509.ParseCertificate(raw) // it was written just now
	a.pem = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}))
	return a
}

// issue issues a certificate for a host, or for the loopback address when that is "".
func (a authority) issue(host string, from, to time.Time) tls.Certificate {
	key := newKey()
	template := &x509.Certificate{
		SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "berths"}, NotBefore: from, NotAfter: to,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}
	if host == "" {
		template.IPAddresses = []net.IP{net.IPv4(127, 0, 0, 1)}
	} else {
		template.DNSNames = []string{host}
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, a.cert, &key.PublicKey, a.key)
	if err != nil {
		panic(err)
	}
	return tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key}
}

// tlsCase serves the harbour over TLS with a configuration.
func tlsCase(s *Stage, conf *tls.Config, trust string) Case {
	server := httptest.NewUnstartedServer(&harbour{})
	server.Config.ErrorLog, server.TLS = quiet, conf
	server.StartTLS()
	s.Later(func() { loopback.End(server) })
	c := at(server.URL + "/mcp")
	c.CA = trust
	return c
}

func certificates() []Fault {
	serving := func(host string, from, to time.Duration, trusted bool) func(*Stage) Case {
		return func(s *Stage) Case {
			a := newAuthority("Harbour CA")
			now := time.Now()
			trust := ""
			if trusted {
				trust = a.pem
			}
			return tlsCase(
				s,
				&tls.Config{Certificates: []tls.Certificate{a.issue(host, now.Add(from), now.Add(to))}, MinVersion: tls.VersionTLS12},
				trust,
			)
		}
	}
	day := 24 * time.Hour
	return []Fault{
		{
			Name:  "signed by itself",
			Cause: "tls.certificate-not-trusted",
			Start: func(s *Stage) Case { return at(s.secure(&harbour{}).URL + "/mcp") },
		},
		{Name: "signed by the company", Cause: "tls.certificate-not-trusted", Start: serving("", -day, day, false)},
		{Name: "expired", Cause: "tls.certificate-expired", Start: serving("", -9*day, -2*day, true)},
		{Name: "expired, and signed by the company", Cause: "tls.certificate-expired", Start: serving("", -9*day, -2*day, false)},
		{Name: "not valid yet", Cause: "tls.certificate-not-yet-valid", Start: serving("", 2*day, 9*day, true)},
		{Name: "for another name", Cause: "tls.certificate-for-another-name", Start: serving("berths.harbour.example", -day, day, true)},
		{Name: "a client certificate is wanted", Cause: "tls.client-certificate-required", Start: func(s *Stage) Case {
			a := newAuthority("Harbour CA")
			return tlsCase(s, clientAuth(a, tls.VersionTLS13), a.pem)
		}},
		{Name: "a client certificate is wanted, in TLS 1.2", Cause: "tls.client-certificate-required", Start: func(s *Stage) Case {
			a := newAuthority("Harbour CA")
			return tlsCase(s, clientAuth(a, tls.VersionTLS12), a.pem)
		}},
		{Name: "only an old TLS", Cause: "tls.no-version-in-common", Start: func(s *Stage) Case {
			a := newAuthority("Harbour CA")
			conf := &tls.Config{
				Certificates: []tls.Certificate{a.issue("", time.Now().Add(-day), time.Now().Add(day))},
				MinVersion:   tls.VersionTLS10, MaxVersion: tls.VersionTLS11, //nolint:gosec // that is what is wrong with it
			}
			return tlsCase(s, conf, a.pem)
		}},
	}
}

func clientAuth(a authority, version uint16) *tls.Config {
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	return &tls.Config{
		Certificates: []tls.Certificate{a.issue("", time.Now().Add(-time.Hour), time.Now().Add(time.Hour))},
		ClientAuth:   tls.RequireAndVerifyClientCert, ClientCAs: pool, MinVersion: tls.VersionTLS12, MaxVersion: version,
	}
}

// trusted is a healthy server over TLS, whose authority is given.
func trusted(s *Stage) Case {
	a := newAuthority("Harbour CA")
	return tlsCase(s, &tls.Config{
		Certificates: []tls.Certificate{a.issue("", time.Now().Add(-time.Hour), time.Now().Add(time.Hour))}, MinVersion: tls.VersionTLS12,
	}, a.pem)
}
