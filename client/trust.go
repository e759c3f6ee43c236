package client

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Trust says how the client knows the service over TLS. The zero value is as for any
// site: its certificate is from an authority that the system knows.
type Trust struct {
	// Fingerprint is the SHA-256 of the one certificate that is taken, in hexadecimal
	// digits with or without colons. Names, times and authorities count for nothing
	// then.
	Fingerprint string
	// Authority is the certificate of an authority in PEM that is believed beside
	// those of the system.
	Authority []byte
}

// Untrusted is the error of a service whose certificate is not the one to expect.
type Untrusted struct {
	Base string
	Got  string // SHA-256 of its certificate
	Want string // the one that was expected, if it was one
}

// Error says what was shown and what was expected.
func (u *Untrusted) Error() string {
	if u.Want != "" {
		return fmt.Sprintf("%s shows another certificate than the one that is known:\n  shown %s\n  known %s\nNothing was sent to it. If its certificate was renewed, sign in again.", u.Base, u.Got, u.Want)
	}
	return fmt.Sprintf("the certificate of %s is from nobody that this machine knows; its SHA-256 is\n  %s", u.Base, u.Got)
}

// NewTrusting returns a client that knows the service by more than New does.
func NewTrusting(base, token string, t Trust) (*Client, error) {
	c := New(base, token)
	config, err := t.config(c.base)
	if err != nil || config == nil {
		return c, err
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = config
	c.http.Transport = transport
	return c, nil
}

func (t Trust) config(base string) (*tls.Config, error) {
	switch {
	case t.Fingerprint != "":
		want, err := hex.DecodeString(strings.ReplaceAll(strings.TrimSpace(t.Fingerprint), ":", ""))
		if err != nil || len(want) != sha256.Size {
			return nil, fmt.Errorf("%q is no SHA-256 of a certificate; it is 64 hexadecimal digits, which the service prints when it starts",
				t.Fingerprint)
		}
		return &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, // what counts is below
			VerifyConnection: func(s tls.ConnectionState) error {
				if sum := sha256.Sum256(s.PeerCertificates[0].Raw); string(sum[:]) != string(want) {
					return &Untrusted{Base: base, Got: printed(sum[:]), Want: printed(want)}
				}
				return nil
			}}, nil
	case len(t.Authority) > 0:
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool() // there is none on this system
		}
		if !pool.AppendCertsFromPEM(t.Authority) {
			return nil, errors.New("the file of the authority holds no certificate in PEM")
		}
		return &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}, nil
	}
	return nil, nil
}

func printed(sum []byte) string {
	pairs := make([]string, len(sum))
	for i, b := range sum {
		pairs[i] = fmt.Sprintf("%02X", b)
	}
	return strings.Join(pairs, ":")
}

// Certificate asks a service over TLS for its certificate, without believing it: it
// returns its SHA-256, and whether an authority that the system knows vouches for it.
func Certificate(ctx context.Context, base string) (fingerprint string, known bool, err error) {
	if err := CheckAddress(base); err != nil {
		return "", false, err
	}
	u, err := url.Parse(base)
	if err != nil {
		return "", false, err
	}
	at := u.Host
	if u.Port() == "" {
		at = net.JoinHostPort(u.Hostname(), "443")
	}
	d := &tls.Dialer{NetDialer: &net.Dialer{Timeout: 10 * time.Second}, Config: &tls.Config{MinVersion: tls.VersionTLS12,
		ServerName: u.Hostname(), InsecureSkipVerify: true, // only looked at
		VerifyConnection: func(s tls.ConnectionState) error {
			leaf := s.PeerCertificates[0]
			sum := sha256.Sum256(leaf.Raw)
			fingerprint = printed(sum[:])
			between := x509.NewCertPool()
			for _, c := range s.PeerCertificates[1:] {
				between.AddCert(c)
			}
			_, bad := leaf.Verify(x509.VerifyOptions{DNSName: u.Hostname(), Intermediates: between})
			known = bad == nil
			return nil
		}}}
	conn, err := d.DialContext(ctx, "tcp", at)
	if err != nil {
		return "", false, &Unreachable{base, err}
	}
	return fingerprint, known, conn.Close()
}

// untrusted turns the network's error about a certificate into ours.
func untrusted(base string, err error) error {
	var u *Untrusted
	var c *tls.CertificateVerificationError
	switch {
	case errors.As(err, &u):
		return u
	case errors.As(err, &c) && len(c.UnverifiedCertificates) > 0:
		sum := sha256.Sum256(c.UnverifiedCertificates[0].Raw)
		return &Untrusted{Base: base, Got: printed(sum[:])}
	}
	return nil
}
