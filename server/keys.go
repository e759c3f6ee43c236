package server

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"ullage/app"
	"ullage/fleet/fault"
	"ullage/pki"
)

// keysOf is the folder of a data folder that holds its keys.
func keysOf(data string) string { return filepath.Join(data, "pki") }

// ExportKeys writes the keys of a data folder into a new file, encrypted. An empty
// passphrase is made up, and returned.
func ExportKeys(data, file, passphrase string) (string, error) {
	if passphrase == "" {
		passphrase = rand.Text()
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", fault.New(fault.Conflict, "the export cannot be written: %s", err).Then("name another file; none is overwritten")
	}
	err = pki.Export(keysOf(data), f, passphrase, time.Now())
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(file)
		return "", err
	}
	return passphrase, nil
}

// ImportKeys puts the keys of an export into a data folder that has none.
func ImportKeys(data, file, passphrase string) error {
	f, err := os.Open(file)
	if err != nil {
		return fault.New(fault.NotFound, "the export cannot be read: %s", err)
	}
	defer f.Close()
	return pki.Import(f, keysOf(data), passphrase)
}

// RenewKeys makes another issuing certificate, and with root another root.
func RenewKeys(data, passphrase string, root bool) (pki.Renewed, error) {
	if _, err := os.Stat(filepath.Join(keysOf(data), "issuing.crt")); err != nil {
		return pki.Renewed{}, fault.New(fault.NotFound, "there is no authority in %s", keysOf(data)).Then("name the data folder of a service with --data")
	}
	return pki.Renew(keysOf(data), passphrase, root, time.Now())
}

// Authority is what can be said of an authority without its keys.
type Authority struct {
	Root        string     `json:"root"` // SHA-256
	RootUntil   time.Time  `json:"root_until"`
	Issuing     string     `json:"issuing"`
	IssuingEnds time.Time  `json:"issuing_until"`
	Former      int        `json:"former"` // certificates that gave way and hold still
	ExportedAt  *time.Time `json:"exported_at,omitempty"`
}

// AuthorityOf tells what there is in a data folder.
func AuthorityOf(data string) (Authority, error) {
	if _, err := os.Stat(filepath.Join(keysOf(data), "issuing.crt")); err != nil {
		return Authority{}, fault.New(fault.NotFound, "there is no authority in %s", keysOf(data)).Then("name the data folder of a service with --data")
	}
	a, _, err := pki.OpenAuthority(keysOf(data), time.Now)
	if err != nil {
		return Authority{}, err
	}
	cs := a.Certificates()
	root, err := x509.ParseCertificate(cs[0])
	if err != nil {
		return Authority{}, err
	}
	issuing, err := x509.ParseCertificate(cs[1])
	if err != nil {
		return Authority{}, err
	}
	out := Authority{Root: pki.Fingerprint(root.Raw), RootUntil: root.NotAfter, Issuing: pki.Fingerprint(issuing.Raw), IssuingEnds: issuing.NotAfter, Former: len(cs) - 2}
	if at := pki.Exported(keysOf(data)); !at.IsZero() {
		out.ExportedAt = &at
	}
	return out, nil
}

// Drilled is what a drill has found.
type Drilled struct {
	MadeAt       time.Time `json:"made_at"` // the backup
	Readings     int64     `json:"readings"`
	Devices      int       `json:"devices"`
	Certificates int       `json:"certificates"` // of devices, that work
	JoinKeys     int       `json:"join_keys"`
	Root         string    `json:"root"` // SHA-256
}

// Drill restores a backup and an export of keys into a folder of its own, sees whether a
// service would go on with them, and takes the folder away again.
func Drill(ctx context.Context, backup, keys, passphrase string) (d Drilled, err error) {
	dir, err := os.MkdirTemp("", "ullage-drill-")
	if err != nil {
		return d, err
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	r, err := Restore(ctx, backup, data)
	if err != nil {
		return d, err
	}
	d.MadeAt, d.Readings = r.MadeAt, r.Readings
	if err := ImportKeys(data, keys, passphrase); err != nil {
		return d, err
	}
	authority, made, err := pki.OpenAuthority(keysOf(data), time.Now)
	if err != nil {
		return d, err
	}
	if made != "" {
		return d, fault.New(fault.Invalid, "the export holds no authority").Then("export the keys again")
	}
	d.Root = authority.RootFingerprint()
	issued, err := authority.Issue("drill")
	if err != nil {
		return d, fmt.Errorf("no certificate could be made with the keys: %w", err)
	}
	block, _ := pem.Decode(issued.Chain)
	leaf, err := x509.ParseCertificate(block.Bytes)
	if err == nil {
		err = authority.Judge([]*x509.Certificate{leaf}, time.Now())
	}
	if err != nil {
		return d, fmt.Errorf("what was made with the keys does not hold: %w", err)
	}
	if _, err := os.Stat(filepath.Join(keysOf(data), "master.key")); err != nil {
		return d, fault.New(fault.Invalid, "the export holds no master key, so that join keys would be lost").Then("export the keys again")
	}
	master, err := pki.Master(keysOf(data))
	if err != nil {
		return d, err
	}
	a, err := app.New(ctx, app.Options{Dir: data, Issuer: authority, Judge: authority.Judge, Master: master})
	if err != nil {
		return d, err
	}
	defer func() { err = errors.Join(err, a.Close()) }()
	d.Devices, d.Certificates = a.Devices.Count(), a.Devices.Certificates()
	for _, k := range a.Joining.Keys() {
		d.JoinKeys++
		serial := "DRILL"
		if k.Listed > 0 {
			whole, err := a.Joining.Key(k.Name)
			if err != nil {
				return d, err
			}
			serial = whole.Serials[0]
		}
		if _, _, err := a.Joining.Labels(k.Name, []string{serial}); err != nil {
			if _, wrong := k.For(serial); wrong == nil { // the made-up serial fits its templates
				return d, err
			}
		}
	}
	return d, nil
}
