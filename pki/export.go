package pki

import (
	"archive/tar"
	"bytes"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/youmark/pkcs8"

	"ullage/fleet/fault"
)

// marked is the file that says when the keys were exported last.
const marked = "exported"

// workFactor is that of scrypt for the passphrase of an export: about a second.
const workFactor = 18

// files are those of an authority's folder that an export holds.
func files(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, e := range entries {
		if n := e.Name(); e.Type().IsRegular() && n != marked && !strings.HasSuffix(n, ".new") {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out, nil
}

// Export writes the files of an authority, with its keys and the master key: a tar file,
// encrypted with a passphrase (age, age-encryption.org/v1), which other programs open
// too. The folder is marked as exported.
func Export(dir string, w io.Writer, passphrase string, now time.Time) error {
	names, err := files(dir)
	if err == nil && !slices.Contains(names, "issuing.key") {
		err = fs.ErrNotExist
	}
	if err != nil {
		return fault.New(fault.NotFound, "there are no keys in %s", dir).Then("name the data folder of a service with --data")
	}
	r, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return err
	}
	r.SetWorkFactor(workFactor)
	sealed, err := age.Encrypt(w, r)
	if err != nil {
		return err
	}
	t := tar.NewWriter(sealed)
	for _, n := range names {
		b, err := os.ReadFile(filepath.Join(dir, n))
		if err == nil {
			err = t.WriteHeader(&tar.Header{Name: n, Mode: 0o600, Size: int64(len(b)), ModTime: now})
		}
		if err == nil {
			_, err = t.Write(b)
		}
		if err != nil {
			return err
		}
	}
	if err := errors.Join(t.Close(), sealed.Close()); err != nil {
		return err
	}
	return replace(filepath.Join(dir, marked), []byte(now.UTC().Format(time.RFC3339)+"\n"))
}

// Exported is when the keys of a folder were exported last, or changed in a way that asks
// for another export: the zero time then.
func Exported(dir string) time.Time {
	text, err := os.ReadFile(filepath.Join(dir, marked))
	if err != nil {
		return time.Time{}
	}
	at, err := time.Parse(time.RFC3339, strings.TrimSpace(string(text)))
	if err != nil {
		return time.Time{}
	}
	return at
}

// maxExport bounds what is read of an export, in bytes.
const maxExport = 4 << 20

// Import puts the files of an export into a folder that has none.
func Import(r io.Reader, dir, passphrase string) error {
	if names, err := files(dir); err == nil && len(names) > 0 {
		return fault.New(fault.Conflict, "there are keys in %s already", dir).Then("move them away first; they are not overwritten")
	}
	id, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return err
	}
	opened, err := age.Decrypt(io.LimitReader(r, maxExport), id)
	if err != nil {
		return fault.New(fault.Invalid, "the export cannot be opened: it is none, or the passphrase is another").Then("give the passphrase that was printed when it was made")
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for t := tar.NewReader(opened); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil || h.Name != filepath.Base(h.Name) || strings.HasPrefix(h.Name, ".") || h.Size > 1<<20 {
			return fault.New(fault.Invalid, "the export is not whole, or holds what does not belong there").Then("take another copy of it")
		}
		b, err := io.ReadAll(t)
		if err != nil {
			return fault.New(fault.Invalid, "the export breaks off").Then("take another copy of it")
		}
		if err := replace(filepath.Join(dir, h.Name), b); err != nil {
			return err
		}
	}
	return replace(filepath.Join(dir, marked), []byte(time.Now().UTC().Format(time.RFC3339)+"\n"))
}

// Renewed is what became of a renewal.
type Renewed struct {
	Root, Issuing *x509.Certificate
	Passphrase    string // of a new root key; empty where the root stayed
}

// Renew makes another issuing certificate, and with root another root, in the folder of
// an authority. Passphrase is that of the present root key. What was before stays
// trusted: certificates of devices hold to their end, and devices that trust the root of
// before alone trust the new one, since that one has signed it.
func Renew(dir, passphrase string, root bool, now time.Time) (Renewed, error) {
	old, _, err := OpenAuthority(dir, func() time.Time { return now })
	if err != nil {
		return Renewed{}, err
	}
	locked, err := os.ReadFile(filepath.Join(dir, "root.key"))
	if err != nil {
		return Renewed{}, err
	}
	block, _ := pem.Decode(locked)
	if block == nil {
		return Renewed{}, fault.New(fault.Invalid, "root.key in %s holds no key in PEM", dir).Then("put the files back that were exported")
	}
	oldKey, err := pkcs8.ParsePKCS8PrivateKeyECDSA(block.Bytes, []byte(passphrase))
	if err != nil {
		return Renewed{}, fault.New(fault.Invalid, "the root key does not open with this passphrase").Then("give the one that was printed when the authority was made")
	}
	next, err := makeCertificates(now, old.root, oldKey, root)
	if err != nil {
		return Renewed{}, err
	}
	// What was before stays beside it, named by when it gave way.
	stamp := now.UTC().Format("20060102T150405.000")
	var keep [][2]string
	keep = append(keep, [2]string{"issuing.crt", "former-issuing-" + stamp + ".crt"},
		[2]string{"issuing.key", "former-issuing-" + stamp + ".key"})
	if root {
		keep = append(keep, [2]string{"root.crt", "former-root-" + stamp + ".crt"}, [2]string{"root.key", "former-root-" + stamp + ".key"})
	}
	for _, k := range keep {
		b, err := os.ReadFile(filepath.Join(dir, k[0]))
		if err == nil {
			err = replace(filepath.Join(dir, k[1]), b)
		}
		if err != nil {
			return Renewed{}, err
		}
	}
	os.Remove(filepath.Join(dir, marked))
	for _, f := range next.files {
		if err := replace(filepath.Join(dir, f.name), pem.EncodeToMemory(&pem.Block{Type: f.kind, Bytes: f.der})); err != nil {
			return Renewed{}, err
		}
	}
	out := Renewed{Passphrase: next.passphrase}
	renewed, _, err := OpenAuthority(dir, func() time.Time { return now })
	if err != nil {
		return Renewed{}, fmt.Errorf("what was made does not open: %w", err)
	}
	out.Root, out.Issuing = renewed.root, renewed.issuing
	return out, nil
}

// formers returns the certificates of a kind that gave way, and hold still.
func formers(dir, kind string, now time.Time) ([]*x509.Certificate, error) {
	names, err := filepath.Glob(filepath.Join(dir, "former-"+kind+"-*.crt"))
	if err != nil {
		return nil, err
	}
	var out []*x509.Certificate
	for _, n := range names {
		c, err := certificateIn(n)
		if err != nil {
			return nil, err
		}
		if now.Before(c.NotAfter) {
			out = append(out, c)
		}
	}
	return out, nil
}

// issuing is a certificate with its key.
type issuing struct {
	certificate *x509.Certificate
	key         crypto.Signer // nil where it was not kept
}

// formerIssuing returns the issuing certificates that gave way, and hold still.
func formerIssuing(dir string, now time.Time) ([]issuing, error) {
	cs, err := formers(dir, "issuing", now)
	if err != nil {
		return nil, err
	}
	keys, err := filepath.Glob(filepath.Join(dir, "former-issuing-*.key"))
	if err != nil {
		return nil, err
	}
	out := make([]issuing, len(cs))
	for i, c := range cs {
		out[i].certificate = c
		for _, n := range keys {
			// Each certificate's own key, whatever the files are called.
			pair, err := tls.LoadX509KeyPair(strings.TrimSuffix(n, ".key")+".crt", n)
			if err != nil {
				return nil, fault.New(fault.Invalid, "the key of a former issuing certificate, %s, cannot be used: %s", n, err).
					Then("put the files back that were exported")
			}
			if pair.Leaf.Equal(c) {
				out[i].key, _ = pair.PrivateKey.(crypto.Signer)
			}
		}
	}
	return out, nil
}

func inPEM(cs ...*x509.Certificate) []byte {
	var b bytes.Buffer
	for _, c := range cs {
		_ = pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
	}
	return b.Bytes()
}
