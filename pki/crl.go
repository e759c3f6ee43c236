package pki

import (
	"crypto/rand"
	"crypto/x509"
	"fmt"
	"math/big"
	"sync"
	"time"

	"ullage/fleet/devices"
)

// crlLife is after how long a list of revoked certificates is out of date, and crlEvery
// how often it is made anew at most.
const (
	crlLife  = 24 * time.Hour
	crlEvery = time.Second
)

// Revocations is the list of the certificates that were revoked (RFC 5280, section 5),
// made when it is asked for.
type Revocations struct {
	authority *Authority
	revoked   func(time.Time) []devices.Credential

	mu     sync.Mutex
	der    []byte
	at     time.Time
	many   int
	newest time.Time // when the latest of them was revoked
}

// Revocations returns the list of an authority; revoked tells which those are that would
// hold still.
func (a *Authority) Revocations(revoked func(time.Time) []devices.Credential) *Revocations {
	return &Revocations{authority: a, revoked: revoked}
}

// DER returns the list as it is now, to a second.
func (r *Revocations) DER() ([]byte, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.authority.now()
	if r.der != nil && now.Sub(r.at) < crlEvery {
		return r.der, nil
	}
	held := r.revoked(now)
	var newest time.Time
	for _, c := range held {
		if c.RevokedAt.After(newest) {
			newest = c.RevokedAt
		}
	}
	if r.der != nil && len(held) == r.many && newest.Equal(r.newest) && now.Sub(r.at) < crlLife/2 {
		return r.der, nil
	}
	list := &x509.RevocationList{Number: big.NewInt(now.UnixMilli()), ThisUpdate: now, NextUpdate: now.Add(crlLife)}
	for _, c := range held {
		serial, ok := new(big.Int).SetString(c.Serial, 16)
		if !ok {
			return nil, fmt.Errorf("the serial number %q of %s is none", c.Serial, c.ID)
		}
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: serial, RevocationTime: c.RevokedAt})
	}
	der, err := x509.CreateRevocationList(rand.Reader, list, r.authority.issuing, r.authority.key)
	if err != nil {
		return nil, err
	}
	r.der, r.at, r.many, r.newest = der, now, len(held), newest
	return der, nil
}
