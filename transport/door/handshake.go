package door

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"ullage/core/value"
	"ullage/transport/conns"
)

// maxHellos is how many names that clients asked for are remembered until their
// handshakes are over.
const maxHellos = 4096

// hellos remembers which name a client asked for in a handshake (RFC 6066, section
// 3), by its address. Nobody has shown anything then: the name is only what it says.
type hellos struct {
	mu    sync.Mutex
	names map[string]string
}

func (h *hellos) note(remote, name string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.names == nil || len(h.names) >= maxHellos {
		h.names = map[string]string{}
	}
	h.names[remote] = name
}

func (h *hellos) take(remote string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	name := h.names[remote]
	delete(h.names, remote)
	return name
}

// TLS returns the configuration of a listener for devices. A certificate is asked
// for and not verified in the handshake: it is judged right after it, with every
// connection anew, so that a refusal can be explained, and a revocation bites a
// resumed session too.
func (d *Door) TLS(certificate func(*tls.ClientHelloInfo) (*tls.Certificate, error)) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12,
		// Small devices take an answer with one read, or two: it is one record.
		DynamicRecordSizingDisabled: true,
		GetCertificate:              certificate, ClientAuth: tls.RequestClientCert,
		GetConfigForClient: func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
			d.hellos.note(hello.Conn.RemoteAddr().String(), value.Clip(hello.ServerName, 100))
			return nil, nil
		},
		VerifyConnection: func(tls.ConnectionState) error { return nil }}
}

// Handshake does that of a connection within a time. One that fails is told in the
// traffic, since a client that gives up in it never says who it is.
func (d *Door) Handshake(conn *tls.Conn, transport string, within time.Duration) error {
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	err := conn.HandshakeContext(ctx)
	d.Shaken(transport, conn.RemoteAddr().String(), err)
	return err
}

// Shaken tells that a handshake is over, and why it failed if it did.
func (d *Door) Shaken(transport, remote string, err error) {
	name := d.hellos.take(remote)
	if err == nil {
		return
	}
	if _, quiet := d.gate.failed(conns.HostOf(remote)); quiet {
		return
	}
	reason := explainHandshake(err)
	if name != "" {
		reason += fmt.Sprintf(" (it asked for the name %q, which nobody has verified)", name)
	}
	d.Note(transport, remote, "handshake", reason)
}

// explainHandshake says why a TLS handshake failed, and what to do.
func explainHandshake(err error) string {
	var alert tls.AlertError
	var plain tls.RecordHeaderError
	text := err.Error()
	switch {
	case errors.As(err, &plain), strings.Contains(text, "does not look like a TLS handshake"), strings.Contains(text, "HTTP request to an HTTPS server"):
		return "it does not speak TLS, and this listener does; use the port without TLS on this machine, or turn TLS on in the device"
	case strings.HasPrefix(text, "remote error: tls: "):
		return explainAlert(strings.TrimPrefix(text, "remote error: tls: "))
	case errors.As(err, &alert):
		return explainAlert(alert.Error())
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), text == "EOF", strings.Contains(text, "connection reset"),
		strings.Contains(text, "bad record MAC"): // an alert of a client that had no keys yet to say it with
		return "it gave up in the TLS handshake and did not say why; most do that when they do not trust the certificate: flash ca.crt of the bundle, and see that its clock is right"
	case errors.Is(err, context.DeadlineExceeded):
		return "the TLS handshake was not over in time"
	case strings.Contains(text, "unsupported versions"):
		return "it speaks no version of TLS that is taken; TLS 1.2 and 1.3 are"
	case strings.Contains(text, "no cipher suite"):
		return "it offers no cipher suite that is taken; those of TLS 1.3, and with ECDHE and AES-GCM or ChaCha20 of TLS 1.2, are"
	}
	return "the TLS handshake failed: " + value.Clip(text, 120)
}

// explainAlert tells an alert of the other side (RFC 8446, section 6).
func explainAlert(alert string) string {
	said := "it ended the TLS handshake with the alert " + value.Clip(alert, 60)
	switch {
	case strings.Contains(alert, "unknown certificate authority"):
		return said + ": it does not trust this service's certificate; flash ca.crt of its bundle"
	case strings.Contains(alert, "expired certificate"):
		return said + ": by its clock the certificate is over, or not yet valid; set its clock, for which there is the port that tells the time alone"
	case strings.Contains(alert, "bad certificate"), strings.Contains(alert, "unknown certificate"):
		return said + ": it does not take this service's certificate; is ca.crt that of its bundle, does it call the service by one of its names, and is its clock right?"
	case strings.Contains(alert, "protocol version"):
		return said + "; TLS 1.2 and 1.3 are spoken here"
	}
	return said
}

// Version is what a TLS version is called; empty without TLS.
func Version(s *tls.ConnectionState) string {
	if s == nil {
		return ""
	}
	return tls.VersionName(s.Version)
}
