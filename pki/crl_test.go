package pki

import (
	"crypto/x509"
	"path/filepath"
	"testing"
	"time"

	"ullage/fleet/devices"
)

// The list holds what is revoked now, is signed by the issuing certificate, and is made
// anew when another is revoked, at most once a second.
func TestRevocations(t *testing.T) {
	now := noon
	a := authority(t, filepath.Join(t.TempDir(), "pki"), &now)
	var held []devices.Credential
	r := a.Revocations(func(time.Time) []devices.Credential { return held })
	list := func() *x509.RevocationList {
		t.Helper()
		der, err := r.DER()
		if err != nil {
			t.Fatal(err)
		}
		l, err := x509.ParseRevocationList(der)
		if err != nil || l.CheckSignatureFrom(a.issuing) != nil {
			t.Fatalf("the list is not signed by the issuing certificate: %v", err)
		}
		return l
	}
	first := list()
	if len(first.RevokedCertificateEntries) != 0 || !first.NextUpdate.Equal(now.Add(crlLife)) {
		t.Errorf("with nothing revoked it is %+v", first)
	}
	held = []devices.Credential{{ID: "a", Serial: "1f", RevokedAt: now}}
	now = now.Add(500 * time.Millisecond)
	if l := list(); len(l.RevokedCertificateEntries) != 0 {
		t.Error("it is made more than once a second")
	}
	now = now.Add(time.Second)
	second := list()
	if es := second.RevokedCertificateEntries; len(es) != 1 || es[0].SerialNumber.Int64() != 0x1f || second.Number.Cmp(first.Number) <= 0 {
		t.Errorf("with one revoked it is %+v", es)
	}
	// Another takes the place of one that is over: as many, and not the same.
	now = now.Add(time.Minute)
	held = []devices.Credential{{ID: "b", Serial: "2f", RevokedAt: now}}
	if es := list().RevokedCertificateEntries; len(es) != 1 || es[0].SerialNumber.Int64() != 0x2f {
		t.Errorf("with another revoked it is %+v", es)
	}
	now = now.Add(crlLife)
	if l := list(); !l.NextUpdate.After(now) {
		t.Errorf("a day later it is out of date: %s", l.NextUpdate)
	}
	held = []devices.Credential{{ID: "c", Serial: "no number", RevokedAt: now}}
	now = now.Add(time.Minute)
	if _, err := r.DER(); err == nil {
		t.Error("a serial number that is none is in the list")
	}
}
