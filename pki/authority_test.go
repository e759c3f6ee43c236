package pki

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/youmark/pkcs8"

	"ullage/fleet/fault"
)

func authority(t testing.TB, dir string, now *time.Time) *Authority {
	t.Helper()
	a, _, err := OpenAuthority(dir, func() time.Time { return *now })
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func first(t testing.TB, b []byte) *x509.Certificate {
	t.Helper()
	block, _ := pem.Decode(b)
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// It is made once, its root key opens with the passphrase alone, and nobody else can
// read what is secret.
func TestAuthorityIsKept(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "pki")
	now := func() time.Time { return noon }
	a, passphrase, err := OpenAuthority(dir, now)
	if err != nil || passphrase == "" {
		t.Fatalf("made with the passphrase %q, %v", passphrase, err)
	}
	b, again, err := OpenAuthority(dir, now)
	if err != nil || again != "" || string(a.Root()) != string(b.Root()) {
		t.Errorf("opened again: passphrase %q, %v", again, err)
	}
	for _, name := range []string{"root.key", "issuing.key"} {
		if info, err := os.Stat(filepath.Join(dir, name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s can be read by others: %v %v", name, info.Mode(), err)
		}
	}
	locked, err := os.ReadFile(filepath.Join(dir, "root.key"))
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(locked)
	if key, err := pkcs8.ParsePKCS8PrivateKey(block.Bytes, []byte(passphrase)); err != nil {
		t.Errorf("with the passphrase: %v", err)
	} else if !key.(*ecdsa.PrivateKey).PublicKey.Equal(a.root.PublicKey) {
		t.Error("the key is not that of the root certificate")
	}
	if _, err := pkcs8.ParsePKCS8PrivateKey(block.Bytes, []byte("another")); err == nil {
		t.Error("the root key opens with another passphrase")
	}
	// Files of another authority in between are noticed.
	other := filepath.Join(t.TempDir(), "pki")
	if _, _, err := OpenAuthority(other, now); err != nil {
		t.Fatal(err)
	}
	root, err := os.ReadFile(filepath.Join(other, "root.crt"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "root.crt"), root, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := OpenAuthority(dir, now); !fault.Is(err, fault.Invalid) {
		t.Errorf("with the root of another authority: %v", err)
	}
}

func TestServerCertificate(t *testing.T) {
	at := noon
	a := authority(t, filepath.Join(t.TempDir(), "pki"), &at)
	c, err := a.Server([]string{"devices.example.org"})
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(a.Root())
	between := x509.NewCertPool()
	between.AddCert(first(t, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Certificate[1]})))
	for _, name := range []string{"devices.example.org", "localhost", "127.0.0.1"} {
		if _, err := c.Leaf.Verify(x509.VerifyOptions{DNSName: name, Roots: roots, Intermediates: between, CurrentTime: at}); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	if again, _ := a.Server([]string{"devices.example.org"}); again != c {
		t.Error("another one is made while it holds")
	}
	at = at.Add(serverLife - ownSpare + time.Minute)
	if again, _ := a.Server([]string{"devices.example.org"}); again == c {
		t.Error("the same one is shown shortly before its end")
	}
}

// request makes a request for a certificate.
func request(t testing.TB, key crypto.Signer, change func(*x509.CertificateRequest)) []byte {
	t.Helper()
	r := &x509.CertificateRequest{Subject: pkix.Name{CommonName: "tank-fennimore-07"}}
	if change != nil {
		change(r)
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, r, key)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})
}

func TestRequests(t *testing.T) {
	at := noon
	a := authority(t, filepath.Join(t.TempDir(), "pki"), &at)
	p256, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	p224, err := ecdsa.GenerateKey(elliptic.P224(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	rsa2048, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	good := request(t, p256, nil)
	block, _ := pem.Decode(good)
	forged := append([]byte{}, block.Bytes...)
	forged[len(forged)-1] ^= 1
	name := func(f func(*x509.CertificateRequest)) []byte { return request(t, p256, f) }
	for what, c := range map[string]struct {
		csr  []byte
		says string // nothing where it is taken
	}{
		"ECDSA P-256":     {good, ""},
		"in DER":          {block.Bytes, ""},
		"Ed25519":         {request(t, ed, nil), ""},
		"RSA 2048":        {request(t, rsa2048, nil), ""},
		"without a name":  {name(func(r *x509.CertificateRequest) { r.Subject = pkix.Name{} }), ""},
		"its own name":    {name(func(r *x509.CertificateRequest) { r.DNSNames = []string{"tank-fennimore-07"} }), ""},
		"P-224":           {request(t, p224, nil), "too weak"},
		"another's name":  {name(func(r *x509.CertificateRequest) { r.Subject.CommonName = "tank-fennimore-08" }), `common name "tank-fennimore-08"`},
		"a foreign DNS":   {name(func(r *x509.CertificateRequest) { r.DNSNames = []string{"ullage.example.org"} }), `name "ullage.example.org"`},
		"a foreign IP":    {name(func(r *x509.CertificateRequest) { r.IPAddresses = []net.IP{net.IPv4(192, 0, 2, 1)} }), `address "192.0.2.1"`},
		"a mail address":  {name(func(r *x509.CertificateRequest) { r.EmailAddresses = []string{"me@example.org"} }), "mail address"},
		"a URI":           {name(func(r *x509.CertificateRequest) { r.URIs = []*url.URL{{Scheme: "urn", Opaque: "x"}} }), "URI"},
		"a forged one":    {forged, "not signed with the key"},
		"a certificate":   {a.Root(), "holds a certificate"},
		"nothing":         {nil, "no request"},
		"some text":       {[]byte("please"), "no request"},
		"something after": {append(append([]byte{}, good...), "and more"...), "stands behind"},
		"a large one":     {make([]byte, maxRequest+1), "bytes"},
	} {
		i, err := a.IssueFor("tank-fennimore-07", c.csr)
		if c.says == "" {
			if err != nil || i.Key != nil || first(t, i.Chain).Subject.CommonName != "tank-fennimore-07" || len(first(t, i.Chain).DNSNames) > 0 {
				t.Errorf("%s: %v", what, err)
			}
			continue
		}
		if !fault.Is(err, fault.Invalid) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: got %v, want %q in it", what, err, c.says)
		}
	}
}

func TestJudge(t *testing.T) {
	at := noon
	a := authority(t, filepath.Join(t.TempDir(), "pki"), &at)
	stranger := authority(t, filepath.Join(t.TempDir(), "pki"), &at)
	mine, err := a.Issue("tank-fennimore-07")
	if err != nil {
		t.Fatal(err)
	}
	theirs, err := stranger.Issue("tank-fennimore-07")
	if err != nil {
		t.Fatal(err)
	}
	server, err := a.Server([]string{"localhost"})
	if err != nil {
		t.Fatal(err)
	}
	leaf := first(t, mine.Chain)
	_, _, own := own(t, filepath.Join(t.TempDir(), "tls"), noon)
	for what, c := range map[string]struct {
		shown []*x509.Certificate
		at    time.Time
		says  string
	}{
		"one of its own":         {[]*x509.Certificate{leaf}, noon, ""},
		"just made":              {[]*x509.Certificate{leaf}, noon.Add(-30 * time.Minute), ""},
		"with its chain":         {[]*x509.Certificate{leaf, a.issuing, a.root}, noon, ""},
		"over":                   {[]*x509.Certificate{leaf}, noon.Add(DeviceLife + time.Hour), "ended on 2028-"},
		"not yet":                {[]*x509.Certificate{leaf}, noon.AddDate(-1, 0, 0), "holds from 2026-"},
		"the clock of 1970":      {[]*x509.Certificate{leaf}, time.Unix(5, 0), "holds from 2026-"},
		"a stranger's":           {[]*x509.Certificate{first(t, theirs.Chain)}, noon, "not known here"},
		"a stranger's and ours":  {[]*x509.Certificate{first(t, theirs.Chain), a.issuing, a.root}, noon, "not known here"},
		"self-signed":            {[]*x509.Certificate{own}, noon, "not known here"},
		"of a listener":          {[]*x509.Certificate{server.Leaf}, noon, "cannot be used"},
		"the issuing one itself": {[]*x509.Certificate{a.issuing}, noon, ""},
	} {
		err := a.Judge(c.shown, c.at)
		switch {
		case c.says == "" && err != nil:
			t.Errorf("%s: %v", what, err)
		case c.says != "" && (!fault.Is(err, fault.Unauthenticated) || !strings.Contains(err.Error(), c.says)):
			t.Errorf("%s: got %v, want %q in it", what, err, c.says)
		}
	}
}

func FuzzParseRequest(f *testing.F) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		f.Fatal(err)
	}
	good := request(f, k, nil)
	f.Add(good)
	block, _ := pem.Decode(good)
	f.Add(block.Bytes)
	f.Add([]byte("-----BEGIN CERTIFICATE REQUEST-----\n-----END CERTIFICATE REQUEST-----\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := ParseRequest(b)
		if err == nil && (r == nil || r.CheckSignature() != nil) {
			t.Error("a request is taken that its key has not signed")
		}
		if err != nil && !fault.Is(err, fault.Invalid) {
			t.Errorf("refused with %v", err)
		}
	})
}
