// Package people keeps who may use the console and the API.
package people

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"ullage/fleet/fault"
	"ullage/fleet/journal"
)

// Person is somebody who may sign in.
type Person struct {
	Name      string
	Salt      []byte
	Hash      []byte // argon2id of the password
	CreatedAt time.Time
}

// Session is a sign-in that still holds.
type Session struct {
	Hash      [sha256.Size]byte // of the secret that the browser or CLI keeps
	Person    string
	Label     string // "console" or "command line"
	CreatedAt time.Time
	ExpiresAt time.Time
}

// Records stores people and sessions.
type Records interface {
	People() ([]Person, error)
	SavePerson(Person, journal.Entry) error
	Sessions() ([]Session, error)
	SaveSession(Session, journal.Entry) error
	DeleteSession(hash [sha256.Size]byte) error
}

// SessionLife is how long a sign-in holds.
const SessionLife = 30 * 24 * time.Hour

// Register holds people and their sessions. It answers from memory.
type Register struct {
	records Records
	now     func() time.Time

	mu       sync.RWMutex
	people   map[string]Person
	sessions map[[sha256.Size]byte]Session
	failures map[string][]time.Time
	hashing  chan struct{}
}

// Open reads everybody.
func Open(r Records, now func() time.Time) (*Register, error) {
	g := &Register{records: r, now: now, people: map[string]Person{}, sessions: map[[sha256.Size]byte]Session{},
		failures: map[string][]time.Time{}, hashing: make(chan struct{}, 2)}
	ps, err := r.People()
	if err != nil {
		return nil, err
	}
	for _, p := range ps {
		g.people[p.Name] = p
	}
	ss, err := r.Sessions()
	if err != nil {
		return nil, err
	}
	for _, s := range ss {
		g.sessions[s.Hash] = s
	}
	return g, nil
}

// Empty reports whether nobody exists yet.
func (g *Register) Empty() bool {
	g.mu.RLock()
	defer g.mu.RUnlock()
	return len(g.people) == 0
}

var personName = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,62}$`)

// Add makes a person. An empty password is replaced by a generated one, which
// is returned and not kept.
func (g *Register) Add(name, password, by string) (string, error) {
	if !personName.MatchString(name) {
		return "", fault.New(fault.Invalid, "%q is no name to sign in with", name).Then("use small letters, digits, dots and hyphens")
	}
	if password == "" {
		var b [12]byte
		rand.Read(b[:])
		password = base64.RawURLEncoding.EncodeToString(b[:])
	} else if len(password) < 10 {
		return "", fault.New(fault.Invalid, "the password has %d characters", len(password)).Then("use at least 10")
	}
	p := Person{Name: name, Salt: make([]byte, 16), CreatedAt: g.now()}
	rand.Read(p.Salt)
	p.Hash = hash(password, p.Salt)
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, ok := g.people[name]; ok {
		return "", fault.New(fault.Conflict, "%s exists already", name)
	}
	text := by + " let " + name + " in"
	if by == "" {
		text = "the first sign-in, " + name + ", was made"
	}
	if err := g.records.SavePerson(p, journal.New(g.now(), journal.Access, "", by, text)); err != nil {
		return "", err
	}
	g.people[name] = p
	return password, nil
}

// failureWindow and maxFailures bound password guessing from one address.
const (
	failureWindow = time.Minute
	maxFailures   = 10
)

// SignIn checks a password and returns the secret of a new session.
func (g *Register) SignIn(name, password, label, remote string) (string, Session, error) {
	now := g.now()
	g.mu.Lock()
	recent := g.failures[remote][:0]
	for _, t := range g.failures[remote] {
		if now.Sub(t) < failureWindow {
			recent = append(recent, t)
		}
	}
	g.failures[remote] = recent
	if len(recent) == 0 {
		delete(g.failures, remote)
	}
	p, ok := g.people[name]
	g.mu.Unlock()
	if len(recent) >= maxFailures {
		return "", Session{}, fault.New(fault.TooMany, "too many wrong passwords came from this address").Then("wait a minute and try again")
	}
	if !ok {
		// Take as long as for a person who exists.
		p = Person{Salt: make([]byte, 16), Hash: make([]byte, 32)}
	}
	g.hashing <- struct{}{}
	right := subtle.ConstantTimeCompare(hash(password, p.Salt), p.Hash) == 1 && ok
	<-g.hashing
	if !right {
		g.mu.Lock()
		g.failures[remote] = append(g.failures[remote], now)
		g.mu.Unlock()
		return "", Session{}, fault.New(fault.Unauthenticated, "name or password is wrong").Then("try again; nothing was changed")
	}
	var b [32]byte
	rand.Read(b[:])
	secret := base64.RawURLEncoding.EncodeToString(b[:])
	s := Session{Hash: sha256.Sum256([]byte(secret)), Person: name, Label: label, CreatedAt: now, ExpiresAt: now.Add(SessionLife)}
	text := fmt.Sprintf("%s signed in with the %s", name, label)
	if err := g.records.SaveSession(s, journal.New(now, journal.Access, "", name, text)); err != nil {
		return "", Session{}, err
	}
	g.mu.Lock()
	g.sessions[s.Hash] = s
	g.mu.Unlock()
	return secret, s, nil
}

// Who returns the session of a secret.
func (g *Register) Who(secret string) (Session, error) {
	sum := sha256.Sum256([]byte(strings.TrimSpace(secret)))
	g.mu.RLock()
	s, ok := g.sessions[sum]
	g.mu.RUnlock()
	switch {
	case secret == "":
		return Session{}, fault.New(fault.Unauthenticated, "nobody is signed in").Then("sign in first")
	case !ok:
		return Session{}, fault.New(fault.Unauthenticated, "this sign-in is not known any more").Then("sign in again")
	case g.now().After(s.ExpiresAt):
		return Session{}, fault.New(fault.Unauthenticated, "this sign-in has run out").Then("sign in again")
	}
	return s, nil
}

// SignOut ends a session.
func (g *Register) SignOut(s Session) error {
	if err := g.records.DeleteSession(s.Hash); err != nil {
		return err
	}
	g.mu.Lock()
	delete(g.sessions, s.Hash)
	g.mu.Unlock()
	return nil
}

// hash is argon2id with the parameters RFC 9106 section 4 recommends for
// little memory, cut to 19 MiB and two passes as OWASP does.
func hash(password string, salt []byte) []byte {
	return argon2.IDKey([]byte(password), salt, 2, 19*1024, 1, 32)
}
