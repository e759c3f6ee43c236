package pki

import (
	"crypto/x509"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
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
		lists, err := r.Lists()
		if err != nil || len(lists) != 1 {
			t.Fatalf("%d lists, %v", len(lists), err)
		}
		l, err := x509.ParseRevocationList(lists[0])
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
	if _, err := r.Lists(); err == nil {
		t.Error("a serial number that is none is in the list")
	}
}

// Each issuing certificate has a list of its own, signed by itself, with what it has
// signed: who judges a certificate of before looks into its issuer's list (RFC 5280,
// section 6.3.3).
func TestRevocationsAfterARenewal(t *testing.T) {
	now := noon
	dir := filepath.Join(t.TempDir(), "pki")
	before, passphrase, err := OpenAuthority(dir, func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	issued := func(a *Authority) devices.Credential {
		t.Helper()
		i, err := a.Issue("hub-saltmarsh")
		if err != nil {
			t.Fatal(err)
		}
		if leaf := first(t, i.Chain); keyID(a.issuing) != i.Issuer || hex.EncodeToString(leaf.AuthorityKeyId) != i.Issuer {
			t.Fatalf("it says %s of an issuer that its certificate calls %x", i.Issuer, leaf.AuthorityKeyId)
		}
		return devices.Credential{ID: i.Serial, Serial: i.Serial, Issuer: i.Issuer, RevokedAt: now}
	}
	old := issued(before)
	now = now.Add(24 * time.Hour)
	if _, err := Renew(dir, passphrase, false, now); err != nil {
		t.Fatal(err)
	}
	after := authority(t, dir, &now)
	young, unknown := issued(after), devices.Credential{ID: "u", Serial: "abc", RevokedAt: now}
	r := after.Revocations(func(time.Time) []devices.Credential { return []devices.Credential{old, young, unknown} })
	lists, err := r.Lists()
	if err != nil || len(lists) != 2 {
		t.Fatalf("there are %d lists, %v", len(lists), err)
	}
	for k, c := range []struct {
		by   *x509.Certificate
		held devices.Credential
	}{{after.issuing, young}, {before.issuing, old}} {
		l, err := x509.ParseRevocationList(lists[k])
		if err != nil || l.CheckSignatureFrom(c.by) != nil {
			t.Fatalf("list %d is not signed by %s: %v", k, c.by.Subject, err)
		}
		var serials []string
		for _, e := range l.RevokedCertificateEntries {
			serials = append(serials, e.SerialNumber.Text(16))
		}
		if !slices.Equal(serials, []string{c.held.Serial, "abc"}) {
			t.Errorf("list %d has %v; it should have %s and what is nobody's", k, serials, c.held.Serial)
		}
	}
	// A former certificate that is over needs no list, and one whose key is not there has none.
	now = before.issuing.NotAfter.Add(time.Second)
	if lists, err := r.Lists(); err != nil || len(lists) != 1 {
		t.Errorf("when the former one is over there are %d lists, %v", len(lists), err)
	}
	keys, _ := filepath.Glob(filepath.Join(dir, "former-issuing-*.key"))
	if len(keys) != 1 || os.Remove(keys[0]) != nil {
		t.Fatalf("the keys of former ones are %v", keys)
	}
	now = noon.Add(48 * time.Hour)
	if lists, err := authority(t, dir, &now).Revocations(func(time.Time) []devices.Credential { return nil }).Lists(); err != nil || len(lists) != 1 {
		t.Errorf("without the former key there are %d lists, %v", len(lists), err)
	}
}
