package devices

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Kind says by what a device shows who it is.
type Kind string

// The kinds of credentials.
const (
	Token       Kind = "token"       // a secret with 256 random bits
	Certificate Kind = "certificate" // X.509, of the service's own authority
)

// Credential is what is stored of a credential: of a token its id in clear and the
// SHA-256 of the whole, of a certificate the SHA-256 of it. A token has 256 random
// bits, so a slow hash would add nothing but an outage when a whole fleet reconnects.
type Credential struct {
	ID        string
	Device    string
	Kind      Kind
	Hash      [sha256.Size]byte
	Serial    string // of a certificate, in hexadecimal digits
	CreatedAt time.Time
	ExpiresAt time.Time // of a certificate
	RevokedAt time.Time
	WarnedAt  time.Time // when it was told last that it ends
	// Replaces is the credential that ends when this one is used first; empty for none.
	Replaces string
	// Issuer is the key identifier of what has signed a certificate, in hexadecimal digits;
	// empty where it is not known.
	Issuer string
}

// Issuer makes certificates for devices.
type Issuer interface {
	// Issue makes one of a new key, which it does not keep.
	Issue(device string) (Issued, error)
	// IssueFor makes one of the key in a request (PKCS #10).
	// Names are those that the request may be for, beside the device's id.
	IssueFor(device string, csr []byte, names ...string) (Issued, error)
	// Check says what is wrong with such a request.
	Check(device string, csr []byte, names ...string) error
}

// Issued is a certificate that was made for a device.
type Issued struct {
	Hash      [sha256.Size]byte
	Serial    string
	Issuer    string // key identifier of the certificate that has signed it
	ExpiresAt time.Time
	Chain     []byte // with the one that has signed it, in PEM
	Key       []byte // in PEM; nil where the device has it
}

// Wanted is the credential that somebody wants for a device; the zero Wanted is a
// token.
type Wanted struct {
	Kind    Kind
	Request []byte // of a key that the device has, for a certificate; one is made where it is empty
	// Bits are the TokenBytes that a token is made of; random ones where they are empty.
	Bits []byte
	// Names are those that a request may be for, beside the device's id.
	Names []string
	// Beside is a credential that works on where others end.
	Beside string
	// Replaces is a credential that ends when the new one is used first.
	Replaces string
	// Within is part of the commit of the credential; nil for nothing.
	Within func(*commit.Tx) error
}

// Given is a credential as it is handed over, this once.
type Given struct {
	ID        string
	Token     string
	Chain     []byte // of a certificate, in PEM
	Key       []byte // in PEM; nil where the device has it
	ExpiresAt time.Time
}

// make makes a credential, and what is stored of it.
func (g *Registry) make(device string, w Wanted, at time.Time) (Given, Credential, error) {
	switch w.Kind {
	case "", Token:
		if len(w.Request) > 0 {
			return Given{}, Credential{}, fault.New(fault.Invalid, "a request for a certificate came, and a token is asked for").
				Then("ask for a certificate, or leave the request out").On("csr")
		}
		if len(w.Bits) > 0 {
			token, c := newToken(device, w.Bits, at)
			return Given{ID: c.ID, Token: token}, c, nil
		}
		bits := make([]byte, TokenBytes)
		for {
			rand.Read(bits)
			token, c := newToken(device, bits, at)
			if _, taken := g.credentials.Get(c.ID); !taken { // of ten thousand tokens two have the same id once in a hundred times
				return Given{ID: c.ID, Token: token}, c, nil
			}
		}
	case Certificate:
	default:
		return Given{}, Credential{}, fault.New(fault.Invalid, "%q is no kind of credential", value.Clip(string(w.Kind), 40)).
			Then("there are %s and %s", Token, Certificate)
	}
	if g.issuer == nil {
		return Given{}, Credential{}, fault.New(fault.Conflict, "this service has no authority that makes certificates").
			Then("give the device a token")
	}
	issue := func() (Issued, error) { return g.issuer.Issue(device) }
	if len(w.Request) > 0 {
		issue = func() (Issued, error) { return g.issuer.IssueFor(device, w.Request, w.Names...) }
	}
	i, err := issue()
	if err != nil {
		return Given{}, Credential{}, err
	}
	c := Credential{ID: certificateID(i.Hash), Device: device, Kind: Certificate, Hash: i.Hash, Serial: i.Serial, Issuer: i.Issuer, CreatedAt: at, ExpiresAt: i.ExpiresAt}
	return Given{ID: c.ID, Chain: i.Chain, Key: i.Key, ExpiresAt: i.ExpiresAt}, c, nil
}

// certificateID is what a certificate is called: the beginning of its SHA-256.
func certificateID(hash [sha256.Size]byte) string { return "crt-" + hex.EncodeToString(hash[:8]) }

// TokenBytes is how many random bytes a token is made of: four are its id.
const TokenBytes = 4 + 32 + 1

func newToken(device string, b []byte, at time.Time) (string, Credential) {
	id := hex.EncodeToString(b[:4])
	token := id + "." + base64.RawURLEncoding.EncodeToString(b[5:])
	return token, Credential{ID: id, Device: device, Kind: Token, Hash: sha256.Sum256([]byte(token)), CreatedAt: at}
}

// maxCredentials is how many credentials a device has that work: two for rotation, and
// one for a change of mind.
const maxCredentials = 3

// add makes a new credential part of a commit. One with its id must not be there: it would end
// without a word.
func (g *Registry) add(tx *commit.Tx, c Credential) error {
	if _, taken := g.credentials.In(tx, c.ID); taken {
		return fault.New(fault.Conflict, "there is a credential %s already", c.ID).Then("ask again, with another nonce if one was sent").On("nonce")
	}
	tx.Put(c)
	g.credentials.Set(tx, c.ID, c)
	return nil
}

// Rotate gives a device a new token. Older credentials keep working if keep is true,
// and stop at once if it is false.
func (g *Registry) Rotate(ctx context.Context, id string, keep bool, by string) (string, error) {
	given, err := g.Renew(ctx, id, Wanted{}, keep, by)
	return given.Token, err
}

// Renew gives a device another credential. Older ones keep working if keep is true,
// and stop at once if it is false.
func (g *Registry) Renew(ctx context.Context, id string, w Wanted, keep bool, by string) (Given, error) {
	at := g.now()
	if _, err := g.Get(id); err != nil {
		return Given{}, err
	}
	given, c, err := g.make(id, w, at)
	if err != nil {
		return Given{}, err
	}
	c.Replaces = w.Replaces
	err = g.commits.Do(ctx, func(tx *commit.Tx) error {
		if _, ok := g.devices.In(tx, id); !ok {
			return noDevice(id)
		}
		ids, _ := g.tokens.In(tx, id)
		if w.Beside != "" {
			if err := g.maySelf(ids, tx, at); err != nil {
				return err
			}
		}
		revoked, working := 0, 0
		for _, i := range ids {
			old, ok := g.credentials.In(tx, i)
			if !ok || !old.RevokedAt.IsZero() {
				continue
			}
			if keep && (w.Beside == "" || w.Beside == i) {
				if old.ExpiresAt.IsZero() || at.Before(old.ExpiresAt) {
					working++
				}
				continue
			}
			old.RevokedAt = at
			tx.Put(old)
			g.credentials.Set(tx, i, old)
			revoked++
		}
		if working >= maxCredentials {
			return fault.New(fault.Conflict, "%s has %d credentials that work, which are the most", id, working).
				Then("revoke one of them first, or let the new one take the place of all").On("credential")
		}
		if err := g.add(tx, c); err != nil {
			return err
		}
		g.tokens.Set(tx, id, append(slices.Clone(ids), c.ID))
		tx.Tell(fact.New(at, fact.Token{Device: id, Kind: string(c.Kind), Revoked: revoked}).Of(id).By(by))
		if w.Within != nil {
			if err := w.Within(tx); err != nil {
				return err
			}
		}
		tx.After(func() { g.bus.Publish(event.Device{Device: id}) })
		return nil
	})
	if err != nil {
		return Given{}, err
	}
	return given, nil
}

// CheckRequest says what is wrong with a request for a certificate, before anything
// hangs on it.
func (g *Registry) CheckRequest(device string, csr []byte, names ...string) error {
	if g.issuer == nil {
		return fault.New(fault.Conflict, "this service has no authority that makes certificates").Then("give the device a token")
	}
	return g.issuer.Check(device, csr, names...)
}

// RenewMany gives some devices another credential each, at once as far as they go. Of
// those that it could not be given the error says why, and they stay as they are.
func (g *Registry) RenewMany(ctx context.Context, ids []string, w Wanted, keep bool, by string) ([]Given, []error) {
	given, errs := make([]Given, len(ids)), make([]error, len(ids))
	var wg sync.WaitGroup
	turns := make(chan struct{}, 64) // whoever waits for the disk together shares a commit
	for i, id := range ids {
		turns <- struct{}{}
		wg.Go(func() {
			defer func() { <-turns }()
			given[i], errs[i] = g.Renew(ctx, id, w, keep, by)
		})
	}
	wg.Wait()
	return given, errs
}

// Same returns the token of a device that is made of the same bits, if it works still.
func (g *Registry) Same(id string, w Wanted) (Given, bool) {
	token, c := newToken(id, w.Bits, g.now())
	held, ok := g.credentials.Get(c.ID)
	return Given{ID: c.ID, Token: token}, ok && held.Device == id && held.Hash == c.Hash && held.RevokedAt.IsZero()
}

// Replace gives a device new hardware: what it was let in by before ends, and its
// history, settings and labels stay. The serial of the new one may be empty.
func (g *Registry) Replace(ctx context.Context, id, serial string, w Wanted, by string) (Given, error) {
	if len(serial) > maxLabel || strings.ContainsFunc(serial, unicode.IsControl) {
		return Given{}, fault.New(fault.Invalid, "the serial is not one line of at most %d bytes", maxLabel).On("serial")
	}
	inner := w.Within
	w.Within = func(tx *commit.Tx) error {
		d, _ := g.devices.In(tx, id)
		if d.Status == Retired {
			return fault.New(fault.Conflict, "%s is retired, and that is for good", id).Then("onboard the hardware under another id").On("device")
		}
		was := ""
		if v := d.Attributes["serial"]; v.Known() {
			was = v.String()
		}
		tx.Tell(fact.New(g.now(), fact.Replaced{Device: id, Serial: serial, Was: was}).Of(id).By(by))
		if inner != nil {
			return inner(tx)
		}
		return nil
	}
	return g.Renew(ctx, id, w, false, by)
}

// Revoke ends a credential of a device at once, open connections too.
func (g *Registry) Revoke(ctx context.Context, id, credential, by string) error {
	at := g.now()
	return g.commits.Do(ctx, func(tx *commit.Tx) error {
		c, ok := g.credentials.In(tx, credential)
		if !ok || c.Device != id {
			return fault.New(fault.NotFound, "%s has no credential %q", id, value.Clip(credential, 60)).On("credential")
		}
		if !c.RevokedAt.IsZero() {
			return nil
		}
		c.RevokedAt = at
		tx.Put(c)
		g.credentials.Set(tx, c.ID, c)
		tx.Tell(fact.New(at, fact.Revoked{Device: id, Kind: string(c.Kind), Credential: c.ID}).Of(id).By(by))
		tx.After(func() { g.bus.Publish(event.Device{Device: id}) })
		return nil
	})
}

// Credentials returns the credentials of a device, the newest first.
func (g *Registry) Credentials(id string) []Credential {
	ids, _ := g.tokens.Get(id)
	var out []Credential
	for _, i := range ids {
		if c, ok := g.credentials.Get(i); ok {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b Credential) int {
		return cmp.Or(b.CreatedAt.Compare(a.CreatedAt), strings.Compare(a.ID, b.ID))
	})
	return out
}

// Revoked returns the certificates that were revoked and would hold still.
func (g *Registry) Revoked(now time.Time) []Credential {
	var out []Credential
	for _, c := range g.credentials.All() {
		if c.Kind == Certificate && !c.RevokedAt.IsZero() && now.Before(c.ExpiresAt) {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b Credential) int { return strings.Compare(a.Serial, b.Serial) })
	return out
}

// Certificates is how many certificates work.
func (g *Registry) Certificates() (n int) {
	for _, c := range g.credentials.All() {
		if c.Kind == Certificate && c.RevokedAt.IsZero() {
			n++
		}
	}
	return n
}

const errNoToken = "the token does not match"

func refuse(format string, args ...any) (Device, error) {
	return Device{}, fault.New(fault.Unauthenticated, format, args...)
}

// known refuses an id that no device has.
func (g *Registry) known(claimed string) error {
	if claimed == "" || g.Knows(claimed) {
		return nil
	}
	return fault.New(fault.Unauthenticated, "there is no device %q; onboard it first, or correct the id that it claims",
		value.Clip(claimed, 63))
}

// Authenticate returns the device that a token belongs to. If claimed is not
// empty the token must be that device's. The error's sentence tells everything
// and is for the engineer; its Ref is what the stranger may hear.
func (g *Registry) Authenticate(claimed, token string) (Device, error) {
	id, _, dotted := strings.Cut(token, ".")
	if err := g.known(claimed); err != nil {
		return Device{}, err
	}
	if token == "" {
		return refuse("no token was given; the user name is the device id and the password its token")
	}
	if !dotted {
		return refuse("%s: what was given is no Ullage token, which has a dot after its first eight letters",
			errNoToken)
	}
	c, known := g.credentials.Get(id)
	known = known && c.Kind == Token
	sum := sha256.Sum256([]byte(token))
	if !known || subtle.ConstantTimeCompare(sum[:], c.Hash[:]) != 1 {
		why := errNoToken
		if known {
			why += fmt.Sprintf(": its id %s is of %s, the rest is wrong", id, c.Device)
		} else {
			why += ": no token with this id was ever given out"
		}
		return refuse("%s; give the device a new one and flash that", why)
	}
	return g.admit(claimed, c)
}

// AuthenticateCertificate returns the device and the credential of a certificate that
// the authority has made; who shows it has its key, and it holds now.
func (g *Registry) AuthenticateCertificate(claimed string, hash [sha256.Size]byte) (Device, Credential, error) {
	if err := g.known(claimed); err != nil {
		return Device{}, Credential{}, err
	}
	c, known := g.credentials.Get(certificateID(hash))
	if !known || c.Kind != Certificate || c.Hash != hash {
		_, err := refuse("its certificate is of this service's authority, and no device has it; was the service restored from an older backup? Give the device a new one")
		return Device{}, Credential{}, err
	}
	d, err := g.admit(claimed, c)
	return d, c, err
}

// admit judges a credential whose holder has shown that it is theirs.
func (g *Registry) admit(claimed string, c Credential) (Device, error) {
	if claimed != "" && c.Device != claimed {
		return refuse("the %s is %s's, and the device says it is %s; was the wrong bundle flashed?", c.Kind, c.Device, claimed)
	}
	d, _ := g.devices.Get(c.Device)
	switch {
	case !c.RevokedAt.IsZero():
		return refuse("the %s was revoked on %s; flash the newer one", c.Kind, c.RevokedAt.UTC().Format(time.RFC3339))
	case d.Status == Suspended:
		return refuse("%s is suspended; let it in again first", d.ID)
	case d.Status == Retired:
		return refuse("%s is retired; onboard it under another id if it is to come back", d.ID)
	}
	return d, nil
}

// MayStay reports whether a session that came in with a credential may go on.
func (g *Registry) MayStay(id, credential string) (string, bool) {
	d, known := g.devices.Get(id)
	c, valid := g.credentials.Get(credential)
	switch {
	case !known || d.Status == Retired:
		return "the device was retired", false
	case d.Status == Suspended:
		return "the device was suspended", false
	case !valid || !c.RevokedAt.IsZero():
		return fmt.Sprintf("its %s was revoked", cmp.Or(c.Kind, Token)), false
	}
	return "", true
}
