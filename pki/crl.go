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

// Revocations are the lists of the certificates that were revoked (RFC 5280, section 5), one
// of each issuing certificate that holds still, made when they are asked for.
type Revocations struct {
	authority *Authority
	revoked   func(time.Time) []devices.Credential

	mu     sync.Mutex
	lists  [][]byte
	at     time.Time
	many   int
	newest time.Time // when the latest of what is in them was revoked
}

// Revocations returns the lists of an authority; revoked tells which those are that would
// hold still.
func (a *Authority) Revocations(revoked func(time.Time) []devices.Credential) *Revocations {
	return &Revocations{authority: a, revoked: revoked}
}

// Lists returns the lists in DER as they are now, to a second: that of the present issuing
// certificate, and then those of former ones whose key was kept.
func (r *Revocations) Lists() ([][]byte, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.authority.now()
	if r.lists != nil && now.Sub(r.at) < crlEvery {
		return r.lists, nil
	}
	held := r.revoked(now)
	var newest time.Time
	for _, c := range held {
		if c.RevokedAt.After(newest) {
			newest = c.RevokedAt
		}
	}
	if r.lists != nil && len(held) == r.many && newest.Equal(r.newest) && now.Sub(r.at) < crlLife/2 {
		return r.lists, nil
	}
	var lists [][]byte
	for _, by := range append([]issuing{{r.authority.issuing, r.authority.key}}, r.authority.formerIssuing...) {
		if by.key == nil || now.After(by.certificate.NotAfter) {
			continue
		}
		der, err := by.list(held, now)
		if err != nil {
			return nil, err
		}
		lists = append(lists, der)
	}
	if len(lists) == 0 {
		return nil, fmt.Errorf("the issuing certificate ended on %s", r.authority.issuing.NotAfter.Format(time.RFC3339))
	}
	r.lists, r.at, r.many, r.newest = lists, now, len(held), newest
	return lists, nil
}

// list is the list of one issuing certificate. A serial number of which it is not known who
// has given it is in all of them: they are random, and nobody else's.
func (i issuing) list(held []devices.Credential, now time.Time) ([]byte, error) {
	list := &x509.RevocationList{Number: big.NewInt(now.UnixMilli()), ThisUpdate: now, NextUpdate: now.Add(crlLife)}
	for _, c := range held {
		if c.Issuer != "" && c.Issuer != keyID(i.certificate) {
			continue
		}
		serial, ok := new(big.Int).SetString(c.Serial, 16)
		if !ok {
			return nil, fmt.Errorf("the serial number %q of %s is none", c.Serial, c.ID)
		}
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: serial, RevocationTime: c.RevokedAt})
	}
	return x509.CreateRevocationList(rand.Reader, list, i.certificate, i.key)
}
