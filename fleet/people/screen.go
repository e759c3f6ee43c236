package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"maps"
	"time"

	"ullage/core/person"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

const (
	// codeLife is how long a screen may be let in with a code.
	codeLife = 15 * time.Minute
	// maxCodes bounds the codes that wait, and maxAsking those of one address.
	maxCodes  = 500
	maxAsking = 20
)

// screenLabel is what the session of a screen is called.
const screenLabel = "screen"

// Screen reports whether a session is that of a screen, which sees one page.
func (s Session) Screen() bool { return s.Label == screenLabel }

// waiting is a code with which a screen may be let in.
type waiting struct {
	key     string            // that it is let in with; empty while nobody has said so
	asked   [sha256.Size]byte // hash of the secret of the screen that shows the code; zero where an owner has made it
	from    string            // address of that screen
	expires time.Time
}

// codes takes out what is over; g.mu is held.
func (g *Register) codesNow() map[[sha256.Size]byte]waiting {
	now := g.now()
	maps.DeleteFunc(g.codes, func(_ [sha256.Size]byte, w waiting) bool { return now.After(w.expires) })
	return g.codes
}

func newCode() string {
	var b [8]byte
	rand.Read(b[:])
	return person.ScreenCode(b)
}

// ScreenCode makes a code with which one screen can be let in to show the page of a
// key, once and within some minutes.
func (g *Register) ScreenCode(name string) (code string, expires time.Time, err error) {
	k, err := g.keys.Get(name)
	if err != nil {
		return "", expires, err
	}
	if k.Page == "" {
		return "", expires, notForScreens(name)
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	codes := g.codesNow()
	if len(codes) >= maxCodes {
		return "", expires, fault.New(fault.TooMany, "%d codes for screens wait to be used, which are the most", len(codes)).Then("try again in some minutes")
	}
	code = newCode()
	expires = g.now().Add(codeLife)
	codes[sha256.Sum256([]byte(code))] = waiting{key: name, expires: expires}
	return code, expires, nil
}

func notForScreens(name string) error {
	return fault.New(fault.Invalid, "the key %s is for programs: it has no page", name).
		Then("make one that has a page").On("key")
}

// AskedScreen is a screen that asks to be let in.
type AskedScreen struct {
	Code    string // that it shows
	Secret  string // that it keeps, and comes back with
	Expires time.Time
}

// AskScreen gives a screen a code to show until somebody lets it in.
func (g *Register) AskScreen(from string) (AskedScreen, error) {
	var b [32]byte
	rand.Read(b[:])
	out := AskedScreen{Code: newCode(), Secret: base64.RawURLEncoding.EncodeToString(b[:]), Expires: g.now().Add(codeLife)}
	g.mu.Lock()
	defer g.mu.Unlock()
	codes, mine := g.codesNow(), 0
	for _, w := range codes {
		if w.from == from {
			mine++
		}
	}
	if len(codes) >= maxCodes || mine >= maxAsking {
		return out, fault.New(fault.TooMany, "too many screens ask to be let in").Then("try again in some minutes")
	}
	codes[sha256.Sum256([]byte(out.Code))] = waiting{asked: sha256.Sum256([]byte(out.Secret)), from: from, expires: out.Expires}
	return out, nil
}

// LetIn lets in the screen that shows a code, with a key.
func (g *Register) LetIn(name, typed string) (from string, err error) {
	k, err := g.keys.Get(name)
	if err != nil {
		return "", err
	}
	if k.Page == "" {
		return "", notForScreens(name)
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	codes := g.codesNow()
	hash := sha256.Sum256([]byte(person.ReadCode(typed)))
	w, ok := codes[hash]
	if !ok || w.asked == [sha256.Size]byte{} {
		return "", fault.New(fault.NotFound, "no screen shows this code now").Then("look at the screen again; a code is shown for 15 minutes").On("code")
	}
	w.key = name
	codes[hash] = w
	return w.from, nil
}

// EnterScreen makes the session of a screen: of a code that an owner has made, or of
// the secret of a screen whose code somebody has let in. What is used is used up.
func (g *Register) EnterScreen(ctx context.Context, given, remote string) (string, Session, error) {
	now := g.now()
	back, ok := g.throttle.attempt("screen at "+remote, remote, "", now)
	if !ok {
		return "", Session{}, fault.New(fault.TooMany, "too many wrong codes came from this address").Then("wait a minute and try again").On("code")
	}
	g.mu.Lock()
	codes, hash := g.codesNow(), sha256.Sum256([]byte(person.ReadCode(given)))
	w, ok := codes[hash]
	if ok && w.asked != [sha256.Size]byte{} { // what is seen on a screen lets nobody in
		ok = false
	}
	if !ok {
		secret := sha256.Sum256([]byte(given))
		for h, x := range codes {
			if x.asked == secret {
				hash, w, ok = h, x, true
			}
		}
	}
	if ok && w.key == "" {
		g.mu.Unlock()
		back()
		return "", Session{}, fault.New(fault.NotAllowed, "nobody has let this screen in yet").On("waiting")
	}
	if ok {
		delete(codes, hash)
	}
	g.mu.Unlock()
	if !ok {
		return "", Session{}, fault.New(fault.NotFound, "this code lets no screen in: it is used, too old, or none").
			Then("have another one made").On("code")
	}
	back()
	var b [32]byte
	rand.Read(b[:])
	secret := base64.RawURLEncoding.EncodeToString(b[:])
	s := Session{Hash: sha256.Sum256([]byte(secret)), Person: CallerOfKey(w.key), Label: screenLabel, CreatedAt: now,
		ExpiresAt: now.Add(SessionLife), From: remote}
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		if _, there := g.keys.FindIn(tx, w.key); !there {
			return fault.New(fault.NotFound, "the key %s was taken away", w.key).On("code")
		}
		tx.Put(s)
		tx.Tell(fact.New(now, fact.SignIn{Name: s.Person, With: screenLabel}).By(s.Person))
		g.sessions.Set(tx, s.Hash, s)
		return nil
	})
	return secret, s, err
}

// PageOf returns the page that the screens of a session's key show.
func (g *Register) PageOf(s Session) (*person.Shown, error) {
	k, err := g.keys.Get(keyOf(s.Person))
	if err != nil {
		return nil, err
	}
	return person.ParseShown(k.Page)
}

// SetPage has the screens of a key show another page.
func (g *Register) SetPage(ctx context.Context, name, page, by string) error {
	k, err := g.keys.Get(name)
	if err != nil {
		return err
	}
	if k.Page == "" || page == "" {
		return notForScreens(name)
	}
	k.Page = page
	_, err = g.keys.Put(ctx, k, noun.If{}, by)
	return err
}
