// Package people keeps who may use the console and the API.
package people

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"log/slog"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/argon2"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// Password is what is kept of the password of a person.
type Password struct {
	Person string
	Salt   []byte
	Hash   []byte // argon2id
}

// Invitation lets somebody choose a password, once.
type Invitation struct {
	Hash      [sha256.Size]byte // of the secret in the link
	Person    string
	ExpiresAt time.Time
}

// Session is a sign-in that still holds.
type Session struct {
	Hash      [sha256.Size]byte // of the secret that the browser or CLI keeps
	Person    string
	Label     string // "console" or "command line"
	CreatedAt time.Time
	ExpiresAt time.Time
	Key       bool   // it is no sign-in, but a program with a key; Person is the key then
	From      string // address of the sign-in
}

// ID names a session for people; it is no secret.
func (s Session) ID() string {
	sum := sha256.Sum256(s.Hash[:])
	return hex.EncodeToString(sum[:8])
}

// Records reads what is stored. What changes is put into commits as the types here
// and person.Person.
type Records interface {
	People(context.Context) ([]person.Person, error)
	Passwords(context.Context) ([]Password, error)
	Invitations(context.Context) ([]Invitation, error)
	Sessions(context.Context) ([]Session, error)
	Teams(context.Context) ([]person.Team, error)
	Keys(context.Context) ([]person.Key, error)
	KeySecrets(context.Context) ([]KeySecret, error)
	KeyUses(context.Context) ([]KeyUse, error)
	Factors(context.Context) ([]Factor, error)
}

// Options are what a Register is made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Access  *access.Register
	// Granted is told whenever somebody may something else; it must be quick. Nil for
	// nobody.
	Granted func(name string)
	// Hash makes what is kept of a password; Hash of this package if it is nil. Another
	// makes the same elsewhere.
	Hash func(password string, salt []byte) []byte
	Log  *slog.Logger // nil for none
	Now  func() time.Time
}

// SessionLife is how long a sign-in holds.
const SessionLife = 30 * 24 * time.Hour

// Register holds people and their sessions. It answers from memory.
type Register struct {
	*noun.Register[person.Person]
	Teams   *noun.Register[person.Team]
	keys    *noun.Register[person.Key]
	access  *access.Register
	granted func(name string)
	commits *commit.Writer
	now     func() time.Time

	passwords   *commit.Table[string, Password]
	invitations *commit.Table[[sha256.Size]byte, Invitation]
	sessions    *commit.Table[[sha256.Size]byte, Session]
	secrets     *commit.Table[[sha256.Size]byte, KeySecret]
	factors     *commit.Table[string, Factor]

	log      *slog.Logger
	hash     func(password string, salt []byte) []byte
	throttle *throttle
	hashing  chan struct{}
	waiting  atomic.Int32 // sign-ins that wait for a hash, or have one made

	mu       sync.Mutex
	pending  map[string]pending
	codes    map[[sha256.Size]byte]waiting // with which screens are let in, by their hash
	failed   map[string]*failed
	uses     map[string]KeyUse             // by key
	unstored map[[sha256.Size]byte]Session // those that the disk had no room for
	watching map[[sha256.Size]byte]map[*watcher]bool
}

// Open reads everybody.
func Open(ctx context.Context, o Options) (*Register, error) {
	g := &Register{commits: o.Commits, now: o.Now, log: o.Log, throttle: newThrottle(),
		hashing: make(chan struct{}, atOnce()), failed: map[string]*failed{}, uses: map[string]KeyUse{}, pending: map[string]pending{}, codes: map[[sha256.Size]byte]waiting{}, access: o.Access, granted: o.Granted, unstored: map[[sha256.Size]byte]Session{},
		watching: map[[sha256.Size]byte]map[*watcher]bool{}}
	if g.hash = o.Hash; g.hash == nil {
		g.hash = Hash
	}
	if g.log == nil {
		g.log = slog.New(slog.DiscardHandler)
	}
	everybody, err := o.Records.People(ctx)
	if err != nil {
		return nil, err
	}
	g.Register = noun.New(noun.Options[person.Person]{Word: "person", Name: func(p person.Person) string { return p.Name },
		Check: func(p person.Person) error { return p.Check() }, Within: g.within, After: g.after, Stored: everybody, Commits: o.Commits,
		Now: o.Now})
	ps, err := o.Records.Passwords(ctx)
	if err != nil {
		return nil, err
	}
	passwords := map[string]Password{}
	for _, p := range ps {
		passwords[p.Person] = p
	}
	is, err := o.Records.Invitations(ctx)
	if err != nil {
		return nil, err
	}
	invitations := map[[sha256.Size]byte]Invitation{}
	for _, i := range is {
		invitations[i.Hash] = i
	}
	ss, err := o.Records.Sessions(ctx)
	if err != nil {
		return nil, err
	}
	sessions := map[[sha256.Size]byte]Session{}
	for _, s := range ss {
		sessions[s.Hash] = s
	}
	g.passwords, g.invitations, g.sessions = commit.NewTable(passwords), commit.NewTable(invitations), commit.NewTable(sessions)
	if err := g.openGrants(ctx, o); err != nil {
		return nil, err
	}
	g.grantAll()
	return g, nil
}

// Empty reports whether nobody exists yet.
func (g *Register) Empty() bool { return len(g.List()) == 0 }

// maxWaiting is how many sign-ins may wait for a hash at once. The last of them waits
// for a few seconds.
const maxWaiting = 100

// atOnce is how many hashes are made at a time: two at most, and no more than leave
// half of the processors to devices, since each takes one for some hundredths of
// a second.
func atOnce() int { return min(max(runtime.GOMAXPROCS(0)/2, 1), 2) }

// hashed has a hash made, or one compared: at its turn, and with a rest after one
// that was wrong. It fails where too many wait, or ctx ends.
func (g *Register) hashed(ctx context.Context, f func() (right bool)) error {
	defer g.waiting.Add(-1)
	if g.waiting.Add(1) > maxWaiting {
		return fault.New(fault.TooMany, "too many people are signing in at once").Then("try again in a moment").
			On("password")
	}
	select {
	case g.hashing <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	begun := time.Now()
	if !f() {
		time.Sleep(time.Since(begun)) // half of the time is for others
	}
	<-g.hashing
	return nil
}

// matches looks at a password, and returns what is kept of it.
func (g *Register) matches(ctx context.Context, name, password, remote string) (Password, error) {
	now := g.now()
	back, ok := g.throttle.attempt(name, remote, g.familiar(ctx, name), now)
	if !ok {
		g.tell(name, remote, now, true)
		return Password{}, fault.New(fault.TooMany, "too many wrong passwords came for this name or from this address").
			Then("wait a minute and try again").On("password")
	}
	p, known := g.passwords.Get(name)
	if !known {
		// Take as long as for a person who exists.
		p = Password{Salt: make([]byte, 16), Hash: make([]byte, 32)}
	}
	right := false
	if err := g.hashed(ctx, func() bool {
		right = subtle.ConstantTimeCompare(g.hash(password, p.Salt), p.Hash) == 1 && known
		return right
	}); err != nil {
		back()
		return Password{}, err
	}
	if !right {
		g.tell(name, remote, now, false)
		return Password{}, wrongPassword()
	}
	back()
	g.throttle.right(name, remote)
	return p, nil
}

func wrongPassword() error {
	return fault.New(fault.Unauthenticated, "name or password is wrong").Then("try again; nothing was changed").
		On("password")
}

// SignIn checks a password, and the code of a second factor where there is one, and returns the secret of a new session.
func (g *Register) SignIn(ctx context.Context, name, password, code, label, remote string) (string, Session, error) {
	p, err := g.matches(ctx, name, password, remote)
	if err == nil {
		err = g.second(ctx, name, code, remote)
	}
	if err != nil {
		return "", Session{}, err
	}
	return g.begin(ctx, p, label, remote)
}

// Barred reports whether sign-ins from an address are refused before anything of them
// is read, and tells of one that is. Those of familiar places are not among them.
func (g *Register) Barred(address string) error {
	now := g.now()
	if !g.throttle.full(address, now) {
		return nil
	}
	g.tell("", address, now, true)
	return fault.New(fault.TooMany, "too many wrong passwords came from this address").Then("wait a minute and try again").On("password")
}

// begin makes a session of whoever has a password, unless it is another one now.
func (g *Register) begin(ctx context.Context, p Password, label, remote string) (string, Session, error) {
	name, now := p.Person, g.now()
	var b [32]byte
	rand.Read(b[:])
	secret := base64.RawURLEncoding.EncodeToString(b[:])
	s := Session{Hash: sha256.Sum256([]byte(secret)), Person: name, Label: label, CreatedAt: now,
		ExpiresAt: now.Add(SessionLife), From: remote}
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		if is, there := g.passwords.In(tx, name); !there || !bytes.Equal(is.Hash, p.Hash) {
			return wrongPassword()
		}
		tx.Put(s)
		tx.Tell(fact.New(now, fact.SignIn{Name: name, With: label}).By(name))
		g.sessions.Set(tx, s.Hash, s)
		return nil
	})
	switch {
	case fault.Is(err, fault.Full):
		// Somebody has to make room, and must get in for that. The session ends with
		// the service.
		g.log.Error("a sign-in could not be stored and holds until the service stops", "person", name, "error", err)
		g.mu.Lock()
		g.unstored[s.Hash] = s
		g.mu.Unlock()
	case err != nil:
		return "", Session{}, err
	}
	return secret, s, nil
}

// tellEvery is how often failed sign-ins of one person from one address are told.
const tellEvery = time.Minute

// tell tells of failed sign-ins, in the log and in the journal. What stood for a
// name is not told where nobody is called so: it may have been a password.
func (g *Register) tell(name, remote string, now time.Time, unseen bool) {
	if _, ok := g.Find(name); !ok {
		name = ""
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	key := name + "\x00" + remote
	f := g.failed[key]
	if f == nil {
		if len(g.failed) >= maxBuckets {
			clear(g.failed)
		}
		f = &failed{}
		g.failed[key] = f
	}
	f.times++
	if now.Sub(f.told) < tellEvery {
		return
	}
	told := fact.SignInFailed{Name: name, From: remote, Times: f.times, Unseen: unseen}
	f.times, f.told = 0, now
	g.log.Warn("a sign-in failed", "person", name, "address", remote, "times", told.Times)
	g.commits.Go(func(tx *commit.Tx) error {
		tx.Tell(fact.New(now, told))
		return nil
	}, func(err error) {
		if err != nil {
			g.log.Error("a failed sign-in is not in the journal", "error", err)
		}
	})
}

// failed are the failed sign-ins of one person from one address that were not
// told yet.
type failed struct {
	times int
	told  time.Time
}

// OnEnd has end called once the session is over: signed out, or run out. The
// caller calls stop when it does not care any more.
func (g *Register) OnEnd(s Session, end func()) (stop func()) {
	timer := time.AfterFunc(s.ExpiresAt.Sub(g.now()), end)
	w := &watcher{end}
	g.mu.Lock()
	if g.watching[s.Hash] == nil {
		g.watching[s.Hash] = map[*watcher]bool{}
	}
	g.watching[s.Hash][w] = true
	g.mu.Unlock()
	_, held := g.sessions.Get(s.Hash)
	if s.Key {
		_, held = g.secrets.Get(s.Hash)
	}
	if !held { // it may have ended just before
		g.mu.Lock()
		_, held = g.unstored[s.Hash]
		g.mu.Unlock()
		if !held {
			end()
		}
	}
	return func() {
		timer.Stop()
		g.mu.Lock()
		defer g.mu.Unlock()
		if delete(g.watching[s.Hash], w); len(g.watching[s.Hash]) == 0 {
			delete(g.watching, s.Hash)
		}
	}
}

type watcher struct{ end func() }

// ended tells those that watch a session.
func (g *Register) ended(hash [sha256.Size]byte) {
	g.mu.Lock()
	all := g.watching[hash]
	delete(g.watching, hash)
	g.mu.Unlock()
	for w := range all {
		w.end()
	}
}

// Who returns the session of a secret, or of a key's, that came from an address.
func (g *Register) Who(secret, from string) (Session, error) {
	if isKey(secret) {
		return g.byKey(secret, from)
	}
	sum := sha256.Sum256([]byte(strings.TrimSpace(secret)))
	s, ok := g.sessions.Get(sum)
	if !ok {
		g.mu.Lock()
		s, ok = g.unstored[sum]
		g.mu.Unlock()
	}
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
func (g *Register) SignOut(ctx context.Context, s Session) error {
	g.mu.Lock()
	delete(g.unstored, s.Hash)
	g.mu.Unlock()
	defer g.ended(s.Hash)
	if _, stored := g.sessions.Get(s.Hash); !stored {
		return nil
	}
	return g.commits.Do(ctx, func(tx *commit.Tx) error {
		tx.Put(commit.Delete{Record: s})
		g.sessions.Drop(tx, s.Hash)
		return nil
	})
}

// Hash is argon2id with the parameters RFC 9106 section 4 recommends for
// little memory, cut to 19 MiB and two passes as OWASP does.
func Hash(password string, salt []byte) []byte {
	return argon2.IDKey([]byte(password), salt, 2, 19*1024, 1, 32)
}
