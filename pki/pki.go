// Package pki makes and keeps the certificates of the service.
package pki

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/fleet/fault"
)

// Fingerprint is the SHA-256 of a certificate in DER, in pairs of digits with
// colons between them, which is how browsers show it.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	pairs := make([]string, len(sum))
	for i, b := range sum {
		pairs[i] = fmt.Sprintf("%02X", b)
	}
	return strings.Join(pairs, ":")
}

// How long a certificate that the service makes for itself holds, and how long
// before its end another one is made. Nobody but whoever compares the fingerprint
// trusts it, so that a long time costs nothing and a new one costs a comparison.
const (
	ownLife  = 10 * 365 * 24 * time.Hour
	ownSpare = 30 * 24 * time.Hour
)

// Own returns the files of the certificate that the service has made for itself,
// in a folder of its data. It makes one where there is none, where the one there
// is ends soon, and where it lacks one of the names; names may be addresses.
func Own(dir string, names []string, now time.Time) (certFile, keyFile string, err error) {
	certFile, keyFile = filepath.Join(dir, "console.crt"), filepath.Join(dir, "console.key")
	if pair, err := tls.LoadX509KeyPair(certFile, keyFile); err == nil && holds(pair.Leaf, names, now) {
		return certFile, keyFile, nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", "", err
	}
	cert, key, err := selfSigned(append(names, around()...), now)
	if err != nil {
		return "", "", err
	}
	// The key first: a certificate without its key is made again.
	for _, f := range []struct {
		path string
		pem  []byte
	}{{keyFile, key}, {certFile, cert}} {
		if err := replace(f.path, f.pem); err != nil {
			return "", "", err
		}
	}
	return certFile, keyFile, nil
}

// replace writes a file as a whole, and is done when it is on the disk.
func replace(path string, b []byte) error {
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

func holds(c *x509.Certificate, names []string, now time.Time) bool {
	return c != nil && now.Add(ownSpare).Before(c.NotAfter) && !slices.ContainsFunc(names, func(n string) bool {
		return c.VerifyHostname(n) != nil
	})
}

// around are the names and addresses of this machine now.
func around() []string {
	out := []string{"localhost", "127.0.0.1", "::1"}
	if h, err := os.Hostname(); err == nil {
		out = append(out, h)
	}
	addresses, _ := net.InterfaceAddrs() // a machine without any has the names above
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLinkLocalUnicast() {
			out = append(out, n.IP.String())
		}
	}
	return out
}

// selfSigned makes a certificate of a P-256 key (RFC 5280, RFC 5480).
func selfSigned(names []string, now time.Time) (cert, key []byte, err error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, nil, err
	}
	c := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Ullage console"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(ownLife), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	slices.Sort(names)
	for _, n := range slices.Compact(names) {
		if ip := net.ParseIP(n); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else if n != "" {
			c.DNSNames = append(c.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	if err != nil {
		return nil, nil, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), nil
}

// lookEvery is how often handshakes look whether the files are other ones.
const lookEvery = time.Second

// Files is a certificate and its key in files (PEM), which may be replaced while
// they are in use: from then on new connections get the new one. Where what is
// there cannot be used, the last one that could stays.
type Files struct {
	certFile, keyFile string
	log               *slog.Logger
	now               func() time.Time

	mu     sync.Mutex
	pair   *tls.Certificate
	stamp  [2]stamp
	looked time.Time
}

type stamp struct {
	at   time.Time
	size int64
}

// Open reads a certificate and its key.
func Open(certFile, keyFile string, log *slog.Logger, now func() time.Time) (*Files, error) {
	f := &Files{certFile: certFile, keyFile: keyFile, log: log, now: now}
	f.stamp = f.stamps()
	pair, err := tls.LoadX509KeyPair(certFile, keyFile)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fault.New(fault.NotFound, "a file of the certificate is missing: %s", err).
			Then("say where they are with tls_cert and tls_key")
	case err != nil:
		return nil, fault.New(fault.Invalid, "the certificate %s and the key %s cannot be used: %s", certFile, keyFile,
			err).Then("they are files in PEM, the key of that certificate and without a password")
	}
	f.pair, f.looked = &pair, now()
	return f, nil
}

func (f *Files) stamps() (out [2]stamp) {
	for i, path := range []string{f.certFile, f.keyFile} {
		if info, err := os.Stat(path); err == nil {
			out[i] = stamp{info.ModTime(), info.Size()}
		}
	}
	return out
}

// Get is for tls.Config.GetCertificate.
func (f *Files) Get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now := f.now(); now.Sub(f.looked) >= lookEvery {
		f.looked = now
		if is := f.stamps(); is != f.stamp {
			f.stamp = is
			if pair, err := tls.LoadX509KeyPair(f.certFile, f.keyFile); err != nil {
				f.log.Warn("the new certificate cannot be used; the one before stays", "file", f.certFile, "error", err)
			} else {
				f.pair = &pair
				f.log.Info("another certificate is in use", "file", f.certFile, "sha256", Fingerprint(pair.Certificate[0]))
			}
		}
	}
	return f.pair, nil
}

// Ends returns when the certificate in use ends.
func (f *Files) Ends() time.Time {
	pair, _ := f.Get(nil)
	return EndOf(pair)
}

// EndOf returns when a certificate ends; the zero time where that cannot be read.
func EndOf(pair *tls.Certificate) time.Time {
	if pair == nil || len(pair.Certificate) == 0 {
		return time.Time{}
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return time.Time{}
	}
	return leaf.NotAfter
}

// Fingerprint is that of the certificate in use.
func (f *Files) Fingerprint() string {
	pair, _ := f.Get(nil)
	return Fingerprint(pair.Certificate[0])
}
