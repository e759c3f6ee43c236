package pki

import (
	"crypto/tls"
	"crypto/x509"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/fleet/fault"
)

var noon = time.Date(2026, 10, 5, 12, 0, 0, 0, time.UTC)

// own makes a certificate and returns its files and the certificate.
func own(t *testing.T, dir string, at time.Time, names ...string) (string, string, *x509.Certificate) {
	t.Helper()
	certFile, keyFile, err := Own(dir, names, at)
	if err != nil {
		t.Fatal(err)
	}
	pair, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err != nil {
		t.Fatal(err)
	}
	return certFile, keyFile, pair.Leaf
}

// It stays the same over starts, and is made again only where it has to be.
func TestOwn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "tls")
	_, keyFile, first := own(t, dir, noon, "ullage.example.org")
	for _, name := range []string{"ullage.example.org", "localhost", "127.0.0.1", "::1"} {
		if err := first.VerifyHostname(name); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	if info, err := os.Stat(keyFile); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key can be read by others: %v %v", info.Mode(), err)
	}
	for _, c := range []struct {
		what  string
		at    time.Time
		name  string
		other bool
	}{
		{"a year later", noon.AddDate(1, 0, 0), "ullage.example.org", false},
		{"without a name", noon, "", false},
		{"with a name that it lacks", noon, "cellar.example.org", true},
		{"shortly before its end", noon.Add(ownLife - ownSpare), "cellar.example.org", true},
	} {
		var names []string
		if c.name != "" {
			names = []string{c.name}
		}
		_, _, is := own(t, dir, c.at, names...)
		if other := !is.Equal(first); other != c.other {
			t.Errorf("%s: another certificate: %v, want %v", c.what, other, c.other)
		}
		first = is
	}
}

// What is put in place of the files is in use for the next connection; what cannot
// be used is not.
func TestFilesAreReadAgain(t *testing.T) {
	at := noon
	certFile, keyFile, first := own(t, filepath.Join(t.TempDir(), "tls"), noon)
	f, err := Open(certFile, keyFile, slog.New(slog.DiscardHandler), func() time.Time { return at })
	if err != nil {
		t.Fatal(err)
	}
	if got, want := f.Fingerprint(), Fingerprint(first.Raw); got != want || strings.Count(got, ":") != 31 {
		t.Fatalf("fingerprint %s, want %s", got, want)
	}
	write := func(cert, key []byte) {
		t.Helper()
		for path, b := range map[string][]byte{certFile: cert, keyFile: key} {
			if err := os.WriteFile(path, b, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		at = at.Add(lookEvery)
	}
	write([]byte("no certificate"), []byte("no key"))
	if got := f.Fingerprint(); got != Fingerprint(first.Raw) {
		t.Errorf("what cannot be used is in use: %s", got)
	}
	cert, key, err := selfSigned([]string{"localhost"}, noon)
	if err != nil {
		t.Fatal(err)
	}
	write(cert, key)
	if got := f.Fingerprint(); got == Fingerprint(first.Raw) {
		t.Error("the new certificate is not in use")
	}
}

func TestOpenSaysWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	certFile, keyFile, _ := own(t, filepath.Join(dir, "a"), noon)
	_, another, _ := own(t, filepath.Join(dir, "b"), noon)
	for _, c := range []struct {
		cert, key string
		want      fault.Code
	}{
		{filepath.Join(dir, "none"), keyFile, fault.NotFound},
		{certFile, another, fault.Invalid},
		{keyFile, keyFile, fault.Invalid},
	} {
		if _, err := Open(c.cert, c.key, slog.New(slog.DiscardHandler), time.Now); !fault.Is(err, c.want) {
			t.Errorf("%s with %s: %v, want %s", c.cert, c.key, err, c.want)
		}
	}
}
