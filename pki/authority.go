package pki

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/youmark/pkcs8"

	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// How long what an authority makes holds. Devices in the field outlive most plans:
// the root that they are flashed with holds for long, and signs but one certificate.
const (
	rootLife    = 25 * 365 * 24 * time.Hour
	issuingLife = 10 * 365 * 24 * time.Hour
	serverLife  = 398 * 24 * time.Hour
	// DeviceLife is how long the certificate of a device holds.
	DeviceLife = 2 * 365 * 24 * time.Hour
	// early is how much before it was made a certificate begins to hold: clocks differ.
	early = time.Hour
)

// Authority makes the certificates of the listeners for devices, and of devices. Its
// root key is under a passphrase and signs the issuing certificate alone; the issuing
// key works unattended. Both are files beside the databases, in no backup of those.
type Authority struct {
	root, issuing *x509.Certificate
	key           crypto.Signer // of the issuing certificate
	issuingPEM    []byte        // which stands behind every certificate that it signs
	// Those that gave way and hold still: devices that trust a root of before go on, and
	// certificates of before hold to their end. The keys of former issuing certificates
	// sign the lists of what is revoked of theirs, and nothing else.
	formerRoots   []*x509.Certificate
	formerIssuing []issuing
	cross         *x509.Certificate // the root, signed by the one before; nil for none
	roots         *x509.CertPool
	now           func() time.Time

	mu     sync.Mutex
	server map[string]*tls.Certificate // by the names that it has
}

// OpenAuthority reads the authority of a folder, or makes one. The passphrase of the
// root key is returned when it is made, and kept nowhere.
func OpenAuthority(dir string, now func() time.Time) (a *Authority, passphrase string, err error) {
	a = &Authority{now: now, server: map[string]*tls.Certificate{}}
	if _, err := os.Stat(filepath.Join(dir, "issuing.crt")); errors.Is(err, os.ErrNotExist) {
		if passphrase, err = makeAuthority(dir, now()); err != nil {
			return nil, "", fmt.Errorf("the service could not make an authority for certificates: %w", err)
		}
	}
	if a.root, err = certificateIn(filepath.Join(dir, "root.crt")); err != nil {
		return nil, "", err
	}
	pair, err := tls.LoadX509KeyPair(filepath.Join(dir, "issuing.crt"), filepath.Join(dir, "issuing.key"))
	if err != nil {
		return nil, "", fault.New(fault.Invalid, "the issuing certificate in %s cannot be used: %s", dir, err).
			Then("put the files back that were exported")
	}
	a.issuing, a.issuingPEM = pair.Leaf, inPEM(pair.Leaf)
	a.key, _ = pair.PrivateKey.(crypto.Signer)
	if err := a.issuing.CheckSignatureFrom(a.root); err != nil {
		return nil, "", fault.New(fault.Invalid, "the issuing certificate in %s was not made by the root certificate there: %s", dir, err).
			Then("put the files back that were exported")
	}
	if a.formerRoots, err = formers(dir, "root", now()); err != nil {
		return nil, "", err
	}
	if a.formerIssuing, err = formerIssuing(dir, now()); err != nil {
		return nil, "", err
	}
	if c, err := certificateIn(filepath.Join(dir, "cross.crt")); err == nil && len(a.formerRoots) > 0 && a.root.PublicKey.(*ecdsa.PublicKey).Equal(c.PublicKey) {
		a.cross = c
	}
	a.roots = x509.NewCertPool()
	for _, c := range append([]*x509.Certificate{a.root}, a.formerRoots...) {
		a.roots.AddCert(c)
	}
	return a, passphrase, nil
}

func certificateIn(path string) (*x509.Certificate, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.New(fault.Invalid, "the certificate %s cannot be read: %s", path, err).Then("put the files back that were exported")
	}
	block, _ := pem.Decode(b)
	if block == nil {
		return nil, fault.New(fault.Invalid, "%s holds no certificate in PEM", path).Then("put the files back that were exported")
	}
	return x509.ParseCertificate(block.Bytes)
}

// makeAuthority makes a root, and an issuing certificate that it has signed. What is
// written last is what is looked for, so that half of an authority is made again.
func makeAuthority(dir string, now time.Time) (passphrase string, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	made, err := makeCertificates(now, nil, nil, true)
	if err != nil {
		return "", err
	}
	for _, f := range made.files {
		if err := replace(filepath.Join(dir, f.name), pem.EncodeToMemory(&pem.Block{Type: f.kind, Bytes: f.der})); err != nil {
			return "", err
		}
	}
	return made.passphrase, nil
}

type pemFile struct {
	name, kind string
	der        []byte
}

type certificates struct {
	files      []pemFile // the one that is looked for last
	passphrase string    // of a new root key
}

// makeCertificates makes an issuing certificate, and with fresh a root; else old has
// signed it. Where a new root takes the place of old, that signs it too (cross.crt), so
// that whoever trusts old alone trusts what the new one signs.
func makeCertificates(now time.Time, old *x509.Certificate, oldKey *ecdsa.PrivateKey, fresh bool) (out certificates, err error) {
	// Something in the name tells authorities of two services apart.
	mark := strings.ToLower(rand.Text()[:6])
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return out, err
	}
	root, rootKey := old, oldKey
	if fresh {
		if rootKey, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return out, err
		}
		root = &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Ullage root " + mark},
			NotBefore: now.Add(-early), NotAfter: now.Add(rootLife), IsCA: true, BasicConstraintsValid: true, MaxPathLen: 2, // a root to come, and what it issues with
			KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
		der, err := x509.CreateCertificate(rand.Reader, root, root, rootKey.Public(), rootKey)
		if err != nil {
			return out, err
		}
		if root, err = x509.ParseCertificate(der); err != nil {
			return out, err
		}
		out.passphrase = rand.Text()
		locked, err := pkcs8.MarshalPrivateKey(rootKey, []byte(out.passphrase), &pkcs8.Opts{Cipher: pkcs8.AES256CBC,
			KDFOpts: pkcs8.PBKDF2Opts{SaltSize: 16, IterationCount: 600_000, HMACHash: crypto.SHA256}})
		if err != nil {
			return out, err
		}
		out.files = append(out.files, pemFile{"root.crt", "CERTIFICATE", der}, pemFile{"root.key", "ENCRYPTED PRIVATE KEY", locked})
		if old != nil {
			cross, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: serial(), Subject: root.Subject,
				NotBefore: now.Add(-early), NotAfter: old.NotAfter, IsCA: true, BasicConstraintsValid: true, MaxPathLen: 1,
				KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}, old, rootKey.Public(), oldKey)
			if err != nil {
				return out, err
			}
			out.files = append(out.files, pemFile{"cross.crt", "CERTIFICATE", cross})
		}
	}
	until := now.Add(issuingLife)
	if until.After(root.NotAfter) {
		until = root.NotAfter
	}
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Ullage issuing " + mark},
		NotBefore: now.Add(-early), NotAfter: until, IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign | x509.KeyUsageDigitalSignature}, root, key.Public(), rootKey)
	if err != nil {
		return out, err
	}
	open, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return out, err
	}
	out.files = append(out.files, pemFile{"issuing.key", "PRIVATE KEY", open}, pemFile{"issuing.crt", "CERTIFICATE", der})
	return out, nil
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)) // RFC 5280, 4.1.2.2
	if err != nil {
		panic(err) // the system gives no random bits, which crypto/rand says never to be
	}
	return n
}

// Root returns the certificates that devices trust, in PEM: the root, and those of before
// that hold still.
func (a *Authority) Root() []byte {
	return inPEM(append([]*x509.Certificate{a.root}, a.formerRoots...)...)
}

// Certificates are those of the authority in DER: the root, the issuing one, and after
// them those of before that hold still.
func (a *Authority) Certificates() [][]byte {
	out := [][]byte{a.root.Raw, a.issuing.Raw}
	for _, c := range a.formerRoots {
		out = append(out, c.Raw)
	}
	for _, f := range a.formerIssuing {
		out = append(out, f.certificate.Raw)
	}
	if a.cross != nil {
		out = append(out, a.cross.Raw)
	}
	return out
}

// Ends returns when the root certificate and the issuing one end.
func (a *Authority) Ends() (root, issuing time.Time) { return a.root.NotAfter, a.issuing.NotAfter }

// RootFingerprint is the SHA-256 of it.
func (a *Authority) RootFingerprint() string { return Fingerprint(a.root.Raw) }

// Server returns the certificate of a listener that is reached by some names and
// addresses, and those of this machine. It is made when it is asked for, and again
// before it ends.
func (a *Authority) Server(names []string) (*tls.Certificate, error) {
	names = slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(names), around()...))))
	key := strings.Join(names, " ")
	a.mu.Lock()
	defer a.mu.Unlock()
	if c := a.server[key]; c != nil && a.now().Add(ownSpare).Before(c.Leaf.NotAfter) {
		return c, nil
	}
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := a.now()
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Ullage for devices"}, NotBefore: now.Add(-early),
		NotAfter: now.Add(serverLife), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else if n != "" {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.issuing, k.Public(), a.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	c := &tls.Certificate{Certificate: [][]byte{der, a.issuing.Raw}, PrivateKey: k, Leaf: leaf}
	if a.cross != nil { // for devices that trust the root of before alone
		c.Certificate = append(c.Certificate, a.cross.Raw)
	}
	a.server[key] = c
	return c, nil
}

// Issue makes a certificate for a device, of a new key (P-256), which is not kept.
func (a *Authority) Issue(device string) (devices.Issued, error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return devices.Issued{}, err
	}
	out, err := a.sign(device, k.Public())
	if err != nil {
		return out, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(k)
	out.Key = pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret})
	return out, err
}

// IssueFor makes a certificate for a device of the key in its request (PKCS #10, in
// PEM or DER). A request for other names than the device's id, and those that are said,
// is refused; the certificate is for the id in any case.
func (a *Authority) IssueFor(device string, csr []byte, names ...string) (devices.Issued, error) {
	r, err := requestFor(device, csr, names)
	if err != nil {
		return devices.Issued{}, err
	}
	return a.sign(device, r.PublicKey)
}

// Check says what is wrong with a request for a certificate of a device.
func (a *Authority) Check(device string, csr []byte, names ...string) error {
	_, err := requestFor(device, csr, names)
	return err
}

func requestFor(device string, csr []byte, names []string) (*x509.CertificateRequest, error) {
	r, err := ParseRequest(csr)
	if err == nil {
		err = checkNames(device, r, names)
	}
	return r, err
}

func (a *Authority) sign(device string, public crypto.PublicKey) (devices.Issued, error) {
	now := a.now()
	until := now.Add(DeviceLife).UTC().Truncate(time.Second) // as a certificate tells it
	if until.After(a.issuing.NotAfter) {
		until = a.issuing.NotAfter
	}
	number := serial()
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: number, Subject: pkix.Name{CommonName: device},
		NotBefore: now.Add(-early), NotAfter: until, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}, a.issuing, public, a.key)
	if err != nil {
		return devices.Issued{}, err
	}
	own := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	return devices.Issued{Hash: sha256.Sum256(der), Serial: number.Text(16), Issuer: keyID(a.issuing), ExpiresAt: until, Chain: slices.Concat(own, a.issuingPEM)}, nil
}

// keyID is by which an issuing certificate is known in those that it has signed (RFC 5280,
// section 4.2.1.1), in hexadecimal digits.
func keyID(issuing *x509.Certificate) string { return hex.EncodeToString(issuing.SubjectKeyId) }

// maxRequest is the largest request for a certificate that is read, in bytes.
const maxRequest = 16 << 10

// ParseRequest reads a request for a certificate (PKCS #10, RFC 2986), in PEM or DER,
// and checks that its sender has the key, and that the key is strong enough.
func ParseRequest(csr []byte) (*x509.CertificateRequest, error) {
	wrong := func(format string, args ...any) error {
		return fault.New(fault.Invalid, format, args...).Then("make another one, such as with: openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj /CN=DEVICE").On("csr")
	}
	if len(csr) > maxRequest {
		return nil, wrong("the request for a certificate has %d bytes; %d are read", len(csr), maxRequest)
	}
	der := csr
	if block, rest := pem.Decode(csr); block != nil {
		if block.Type != "CERTIFICATE REQUEST" && block.Type != "NEW CERTIFICATE REQUEST" {
			return nil, wrong("the file holds a %s and no request for a certificate", strings.ToLower(value.Clip(block.Type, 40)))
		}
		if len(bytes.TrimSpace(rest)) > 0 {
			return nil, wrong("something stands behind the request for a certificate")
		}
		der = block.Bytes
	}
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return nil, wrong("it is no request for a certificate (PKCS #10): %s", value.Clip(err.Error(), 100))
	}
	if err := r.CheckSignature(); err != nil {
		return nil, wrong("the request is not signed with the key that it is for: %s", value.Clip(err.Error(), 100))
	}
	switch k := r.PublicKey.(type) {
	case *ecdsa.PublicKey:
		if k.Curve.Params().BitSize < 256 {
			return nil, wrong("its key is on the curve %s, which is too weak; P-256 is the least", k.Curve.Params().Name)
		}
	case ed25519.PublicKey:
	case *rsa.PublicKey:
		if n := k.N.BitLen(); n < 2048 || n > 8192 {
			return nil, wrong("its RSA key has %d bits; 2048 are the least and 8192 the most", n)
		}
	default:
		return nil, wrong("its kind of key is not taken; there are ECDSA from P-256, Ed25519 and RSA from 2048 bits")
	}
	return r, nil
}

// checkNames refuses names that are not the device's.
func checkNames(device string, r *x509.CertificateRequest, also []string) error {
	known := func(n string) bool { return n == device || slices.Contains(also, n) }
	foreign := func(what, name string) error {
		return fault.New(fault.Invalid, "the request is for the %s %q, and the device is %s", what, value.Clip(name, 60), device).
			Then("ask for the common name %s and nothing else", device).On("csr")
	}
	if cn := r.Subject.CommonName; cn != "" && !known(cn) {
		return foreign("common name", cn)
	}
	for _, n := range r.DNSNames {
		if !known(n) {
			return foreign("name", n)
		}
	}
	for _, n := range r.EmailAddresses {
		return foreign("mail address", n)
	}
	for _, n := range r.IPAddresses {
		return foreign("address", n.String())
	}
	for _, n := range r.URIs {
		return foreign("URI", n.String())
	}
	return nil
}

// Judge says what is wrong with a certificate that a device shows, for the engineer:
// who has signed it, and when it holds. The zero time of a device's clock is nobody's
// business here; the service's counts.
func (a *Authority) Judge(shown []*x509.Certificate, now time.Time) error {
	leaf := shown[0]
	between := x509.NewCertPool()
	between.AddCert(a.issuing)
	for _, f := range a.formerIssuing {
		between.AddCert(f.certificate)
	}
	for _, c := range shown[1:min(len(shown), 5)] {
		between.AddCert(c)
	}
	refuse := func(format string, args ...any) error { return fault.New(fault.Unauthenticated, format, args...) }
	switch {
	case now.After(leaf.NotAfter):
		return refuse("its certificate ended on %s; renew it, or give the device a new one", leaf.NotAfter.UTC().Format(time.RFC3339))
	case now.Before(leaf.NotBefore):
		return refuse("its certificate holds from %s on, which is to come; is the clock right of what has made it?", leaf.NotBefore.UTC().Format(time.RFC3339))
	}
	_, err := leaf.Verify(x509.VerifyOptions{Roots: a.roots, Intermediates: between, CurrentTime: now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	var unknown x509.UnknownAuthorityError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &unknown):
		return refuse("its certificate %q is signed by %q, an authority that is not known here; flash one of this service's",
			value.Clip(leaf.Subject.String(), 80), value.Clip(leaf.Issuer.String(), 80))
	}
	return refuse("its certificate %q cannot be used: %s", value.Clip(leaf.Subject.String(), 80), value.Clip(err.Error(), 120))
}

// Hash is what a certificate is known by: the SHA-256 of it.
func Hash(c *x509.Certificate) [sha256.Size]byte { return sha256.Sum256(c.Raw) }
