package people

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"encoding/base64"
	"image/png"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"ullage/fleet/commit"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Factor is the second factor of a person: a secret that an app on their phone has
// too, from which both compute a code that changes every 30 seconds (RFC 6238).
type Factor struct {
	Person string
	Secret string // base32, as the app takes it
	// Recovery are the hashes of the codes that work once in place of the app. They
	// have 80 random bits, so that a slow hash would add nothing.
	Recovery [][sha256.Size]byte
	// Step is the newest time step of which a code was used: none works twice.
	Step int64
}

const (
	factorStep    = 30 * time.Second
	recoveryCodes = 10
	pendingLife   = 15 * time.Minute
)

// pending is a second factor that is being set up: it counts once a code of it came.
type pending struct {
	secret string
	until  time.Time
}

// Setup is what the app of a person takes.
type Setup struct {
	Secret  string // to type in
	URI     string // otpauth, as apps read it
	Picture string // the same as a QR code: a data URI of a PNG
}

// BeginFactor makes a secret for whoever has a session and knows their password.
func (g *Register) BeginFactor(ctx context.Context, s Session, password, remote string) (Setup, error) {
	if s.Key {
		return Setup{}, fault.New(fault.NotAllowed, "a key has no second factor")
	}
	if _, err := g.matches(ctx, s.Person, password, remote); err != nil {
		return Setup{}, err
	}
	k, err := totp.Generate(totp.GenerateOpts{Issuer: "Ullage", AccountName: s.Person, Period: uint(factorStep.Seconds())})
	if err != nil {
		return Setup{}, err
	}
	img, err := k.Image(220, 220)
	if err != nil {
		return Setup{}, err
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return Setup{}, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for name, p := range g.pending { // forgotten ones go
		if g.now().After(p.until) {
			delete(g.pending, name)
		}
	}
	g.pending[s.Person] = pending{k.Secret(), g.now().Add(pendingLife)}
	return Setup{k.Secret(), k.URL(), "data:image/png;base64," + base64.StdEncoding.EncodeToString(b.Bytes())}, nil
}

// ConfirmFactor puts a second factor in force once its app has shown a right code, and
// returns the codes that work once without the app.
func (g *Register) ConfirmFactor(ctx context.Context, s Session, code, remote string) ([]string, error) {
	now := g.now()
	back, ok := g.throttle.attempt(s.Person, remote, "", now)
	if !ok {
		return nil, tooManyTries()
	}
	g.mu.Lock()
	p, begun := g.pending[s.Person]
	g.mu.Unlock()
	if !begun || now.After(p.until) {
		back()
		return nil, fault.New(fault.Conflict, "no second factor is being set up").Then("begin again").On("code")
	}
	step, right := stepOf(p.secret, code, now)
	if !right {
		return nil, wrongCode()
	}
	back()
	f := Factor{Person: s.Person, Secret: p.secret, Step: step}
	codes := make([]string, recoveryCodes)
	for i := range codes {
		var b [10]byte
		rand.Read(b[:])
		t := strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))
		codes[i] = t[:4] + "-" + t[4:8] + "-" + t[8:12] + "-" + t[12:]
		f.Recovery = append(f.Recovery, sha256.Sum256([]byte(t)))
	}
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		tx.Put(f)
		g.factors.Set(tx, f.Person, f)
		g.endSessions(tx, s.Person, s.Hash)
		tx.Tell(fact.New(now, fact.Factor{Name: s.Person, Done: fact.FactorSet}).By(s.Person))
		return nil
	})
	if err != nil {
		return nil, err
	}
	g.mu.Lock()
	delete(g.pending, s.Person)
	g.mu.Unlock()
	return codes, nil
}

// DropFactor takes the second factor off whoever has a session and shows both.
func (g *Register) DropFactor(ctx context.Context, s Session, password, code, remote string) error {
	p, err := g.matches(ctx, s.Person, password, remote)
	if err != nil {
		return err
	}
	if err := g.second(ctx, p.Person, code, remote); err != nil {
		return err
	}
	return g.RemoveFactor(ctx, s.Person, s.Person)
}

// RemoveFactor takes the second factor off somebody who has lost it, and ends their
// sign-ins unless they do so themselves.
func (g *Register) RemoveFactor(ctx context.Context, name, by string) error {
	return g.commits.Do(ctx, func(tx *commit.Tx) error {
		f, has := g.factors.In(tx, name)
		if !has {
			if _, ok := g.FindIn(tx, name); !ok {
				return g.Unknown(name)
			}
			return fault.New(fault.Conflict, "%s has no second factor", name).On("code")
		}
		tx.Put(commit.Delete{Record: f})
		g.factors.Drop(tx, name)
		if by != name {
			g.endSessions(tx, name, [sha256.Size]byte{})
		}
		tx.Tell(fact.New(g.now(), fact.Factor{Name: name, Done: fact.FactorOff}).By(by))
		return nil
	})
}

// HasFactor reports whether somebody has a second factor.
func (g *Register) HasFactor(name string) bool { _, has := g.factors.Get(name); return has }

// second asks for the second factor of somebody who has one. A code works once, and a
// wrong one counts as a wrong password does.
func (g *Register) second(ctx context.Context, name, code, remote string) error {
	if !g.HasFactor(name) {
		return nil
	}
	code = strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if code == "" {
		return fault.New(fault.Unauthenticated, "a code of your second factor is needed").
			Then("take it from the app on your phone, or use a recovery code").On("code")
	}
	now := g.now()
	back, ok := g.throttle.attempt(name, remote, g.familiar(ctx, name), now)
	if !ok {
		g.tell(name, remote, now, true)
		return tooManyTries()
	}
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		f, has := g.factors.In(tx, name)
		if !has {
			return nil // it was taken off just now
		}
		if step, right := stepOf(f.Secret, code, now); right && step > f.Step {
			f.Step = step
		} else if i := recovery(f, code); i >= 0 {
			f.Recovery = slices.Delete(slices.Clone(f.Recovery), i, i+1)
			tx.Tell(fact.New(now, fact.Factor{Name: name, Done: fact.RecoveryUsed, Left: len(f.Recovery)}).By(name))
		} else {
			return wrongCode()
		}
		tx.Put(f)
		g.factors.Set(tx, name, f)
		return nil
	})
	if err != nil {
		if fault.Is(err, fault.Unauthenticated) {
			g.tell(name, remote, now, false)
		}
		return err
	}
	back()
	return nil
}

func recovery(f Factor, code string) int {
	sum := sha256.Sum256([]byte(code))
	found := -1
	for i := range f.Recovery {
		if subtle.ConstantTimeCompare(sum[:], f.Recovery[i][:]) == 1 {
			found = i
		}
	}
	return found
}

// stepOf returns the time step that a code is of: this one, or one beside it, since
// clocks differ (RFC 6238, section 5.2).
func stepOf(secret, code string, now time.Time) (step int64, right bool) {
	for d := int64(-1); d <= 1; d++ {
		at := now.Add(time.Duration(d) * factorStep)
		want, err := totp.GenerateCodeCustom(secret, at, totp.ValidateOpts{Period: uint(factorStep.Seconds()), Digits: otp.DigitsSix})
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			step, right = at.Unix()/int64(factorStep.Seconds()), true
		}
	}
	return step, right
}

func wrongCode() error {
	return fault.New(fault.Unauthenticated, "the code is wrong, or was used before").Then("wait for the next one and try again").On("code")
}

func tooManyTries() error {
	return fault.New(fault.TooMany, "too many wrong passwords or codes came for this name or from this address").
		Then("wait a minute and try again").On("code")
}
