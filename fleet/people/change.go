package people

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"slices"
	"strings"
	"time"

	"ullage/core/person"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// shown fills in what the service knows of a person.
func (g *Register) shown(p person.Person, sessions map[string]int) person.Person {
	_, chosen := g.passwords.Get(p.Name)
	chosen = chosen || p.Subject != ""
	p.Invited, p.Sessions, p.SecondFactor = !chosen, sessions[p.Name], g.HasFactor(p.Name)
	c := g.access.Caller(p.Name, "")
	p.Role, p.Limited, p.Teams = c.Role(), c.Role() != "" && !c.MayAll(person.Viewer), nil
	for _, t := range g.Teams.List() {
		if slices.Contains(t.People, p.Name) {
			p.Teams = append(p.Teams, t.Name)
		}
	}
	return p
}

func (g *Register) held() map[string]int {
	n := map[string]int{}
	for _, s := range g.sessions.All() {
		if g.now().Before(s.ExpiresAt) {
			n[s.Person]++
		}
	}
	return n
}

// Everybody returns all people, by name, with what the service knows of them.
func (g *Register) Everybody() []person.Person {
	all, n := g.List(), g.held()
	for i := range all {
		all[i] = g.shown(all[i], n)
	}
	return all
}

// One returns a person likewise.
func (g *Register) One(name string) (person.Person, error) {
	p, err := g.Get(name)
	if err != nil {
		return p, err
	}
	return g.shown(p, g.held()), nil
}

// Put lets somebody in, or changes what they may do. Whoever is new gets in by an
// invitation.
func (g *Register) Put(ctx context.Context, p person.Person, cond noun.If, by string) (noun.Saved[person.Person], error) {
	return g.Register.Put(ctx, g.own(p), cond, by)
}

// own leaves out what is the service's to say.
func (g *Register) own(p person.Person) person.Person {
	old, had := g.Find(p.Name)
	p.Invited, p.Sessions, p.JoinedAt = false, 0, old.JoinedAt
	p.Role, p.Limited, p.Teams, p.SecondFactor = "", false, nil, false
	p.Subject = old.Subject
	if len(p.Grants) == 0 {
		p.Grants = nil
	}
	if !had {
		now := g.now().UTC()
		p.JoinedAt = &now
	}
	return p
}

// within keeps an owner, and takes away with a person what lets them in.
func (g *Register) within(tx *commit.Tx, old, next *person.Person) error {
	if old == nil {
		return nil
	}
	left := slices.DeleteFunc(g.In(tx), func(p person.Person) bool { return p.Name == old.Name })
	if next != nil {
		left = append(left, *next)
	}
	teams := g.Teams.In(tx)
	if person.Most(plain(given(*old, teams))) == person.Owner && !g.owned(tx, left, teams) {
		return fault.New(fault.Conflict, "%s is the last owner who can sign in", old.Name).
			Then("make somebody else an owner first").On("person")
	}
	if next != nil {
		return nil
	}
	if p, ok := g.passwords.In(tx, old.Name); ok {
		tx.Put(commit.Delete{Record: p})
		g.passwords.Drop(tx, old.Name)
	}
	if f, ok := g.factors.In(tx, old.Name); ok {
		tx.Put(commit.Delete{Record: f})
		g.factors.Drop(tx, old.Name)
	}
	g.dropInvitations(tx, old.Name)
	g.endSessions(tx, old.Name, [sha256.Size]byte{})
	for _, t := range teams {
		if i := slices.Index(t.People, old.Name); i >= 0 {
			t.People = slices.Delete(slices.Clone(t.People), i, i+1)
			if err := g.Teams.StageUntold(tx, t); err != nil {
				return err
			}
		}
	}
	return nil
}

// after takes in what somebody may now.
func (g *Register) after(old, next *person.Person) {
	if next != nil {
		g.regrant(next.Name)
	} else {
		g.regrant(old.Name)
	}
}

func (g *Register) dropInvitations(tx *commit.Tx, name string) {
	for _, i := range values(g.invitations) {
		if i, ok := g.invitations.In(tx, i.Hash); ok && i.Person == name {
			tx.Put(commit.Delete{Record: i})
			g.invitations.Drop(tx, i.Hash)
		}
	}
}

// endSessions ends those of a person but for one.
func (g *Register) endSessions(tx *commit.Tx, name string, but [sha256.Size]byte) {
	g.mu.Lock()
	for hash, s := range g.unstored {
		if s.Person == name && hash != but {
			delete(g.unstored, hash)
			tx.After(func() { g.ended(hash) })
		}
	}
	g.mu.Unlock()
	for _, s := range values(g.sessions) {
		if s, ok := g.sessions.In(tx, s.Hash); ok && s.Person == name && s.Hash != but {
			tx.Put(commit.Delete{Record: s})
			g.sessions.Drop(tx, s.Hash)
			tx.After(func() { g.ended(s.Hash) })
		}
	}
}

// Add makes a person with a password, the first one as an owner. An empty password
// is replaced by a generated one, which is returned and not kept.
func (g *Register) Add(ctx context.Context, name, password string, role person.Role, by string) (string, error) {
	p := person.Person{Name: name, Grants: []person.Grant{{Role: role}}}
	if err := p.Check(); err != nil {
		return "", fault.New(fault.Invalid, "%s", err).On("person")
	}
	if password == "" {
		var b [12]byte
		rand.Read(b[:])
		password = base64.RawURLEncoding.EncodeToString(b[:])
	} else if err := person.CheckPassword(password, name); err != nil {
		return "", fault.New(fault.Invalid, "%s", err).On("password")
	}
	kept := g.made(name, password)
	p = g.own(p)
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		if _, ok := g.FindIn(tx, name); ok {
			return fault.New(fault.Conflict, "%s exists already", name).On("person")
		}
		tx.Put(kept)
		g.passwords.Set(tx, name, kept)
		tx.Tell(fact.New(g.now(), fact.Person{Name: name, First: by == ""}).By(by))
		if err := g.StageUntold(tx, p); err != nil {
			return err
		}
		tx.After(func() { g.regrant(name) })
		return nil
	})
	if err != nil {
		return "", err
	}
	return password, nil
}

// values copies a table, so that it is not locked while something is done with it.
func values[K comparable, V any](t *commit.Table[K, V]) []V {
	var out []V
	for _, v := range t.All() {
		out = append(out, v)
	}
	return out
}

func (g *Register) made(name, password string) Password {
	p := Password{Person: name, Salt: make([]byte, 16)}
	rand.Read(p.Salt)
	p.Hash = g.hash(password, p.Salt)
	return p
}

// InvitationLife is how long an invitation may be used.
const InvitationLife = 7 * 24 * time.Hour

// Invite makes a secret by which somebody chooses a password, once. An invitation
// of before does not count any more; a password that they have holds until then.
func (g *Register) Invite(ctx context.Context, name, by string) (secret string, expires time.Time, err error) {
	var b [24]byte
	rand.Read(b[:])
	secret = base64.RawURLEncoding.EncodeToString(b[:])
	i := Invitation{Hash: sha256.Sum256([]byte(secret)), Person: name, ExpiresAt: g.now().Add(InvitationLife)}
	err = g.commits.Do(ctx, func(tx *commit.Tx) error {
		p, ok := g.FindIn(tx, name)
		if !ok {
			return g.Unknown(name)
		}
		if p.Subject != "" {
			return fault.New(fault.Conflict, "%s signs on with %s and has no password here", name, providerOf(p.Subject)).On("person")
		}
		g.dropInvitations(tx, name)
		tx.Put(i)
		g.invitations.Set(tx, i.Hash, i)
		tx.Tell(fact.New(g.now(), fact.Invited{Name: name}).By(by))
		return nil
	})
	return secret, i.ExpiresAt, err
}

// Invited returns who an invitation is for.
func (g *Register) Invited(secret string) (Invitation, error) {
	i, ok := g.invitations.Get(sha256.Sum256([]byte(strings.TrimSpace(secret))))
	if !ok || g.now().After(i.ExpiresAt) {
		return Invitation{}, notInvited()
	}
	return i, nil
}

func notInvited() error {
	return fault.New(fault.NotFound, "this invitation is not known: it was used, has run out or was replaced").
		Then("ask for another one").On("invitation")
}

// Activate sets the password of who was invited, and ends their sign-ins.
func (g *Register) Activate(ctx context.Context, secret, password string) (string, error) {
	i, err := g.Invited(secret)
	if err != nil {
		return "", err
	}
	return i.Person, g.set(ctx, i.Person, password, [sha256.Size]byte{}, func(tx *commit.Tx) error {
		if _, still := g.invitations.In(tx, i.Hash); !still {
			return notInvited()
		}
		return nil
	})
}

// ChangePassword sets another password of whoever has a session, and ends their
// other ones.
func (g *Register) ChangePassword(ctx context.Context, s Session, old, password, remote string) error {
	if _, err := g.matches(ctx, s.Person, old, remote); err != nil {
		return err
	}
	return g.set(ctx, s.Person, password, s.Hash, func(*commit.Tx) error { return nil })
}

func (g *Register) set(ctx context.Context, name, password string, keep [sha256.Size]byte, check func(*commit.Tx) error) error {
	if err := person.CheckPassword(password, name); err != nil {
		return fault.New(fault.Invalid, "%s", err).On("password")
	}
	var kept Password
	if err := g.hashed(ctx, func() bool { kept = g.made(name, password); return true }); err != nil {
		return err
	}
	return g.commits.Do(ctx, func(tx *commit.Tx) error {
		if _, there := g.FindIn(tx, name); !there {
			return notInvited()
		}
		if err := check(tx); err != nil {
			return err
		}
		g.dropInvitations(tx, name)
		g.endSessions(tx, name, keep)
		tx.Put(kept)
		g.passwords.Set(tx, name, kept)
		tx.Tell(fact.New(g.now(), fact.PasswordChosen{Name: name}).By(name))
		return nil
	})
}

// Sessions returns the sign-ins of somebody that hold, the newest first; of all
// people if name is empty.
func (g *Register) Sessions(name string) []Session {
	var out []Session
	for _, s := range g.sessions.All() {
		if (name == "" || s.Person == name) && g.now().Before(s.ExpiresAt) {
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(a, b Session) int {
		return cmp.Or(b.CreatedAt.Compare(a.CreatedAt), strings.Compare(a.ID(), b.ID()))
	})
	return out
}

// End ends a sign-in by its id; of one person if name is not empty.
func (g *Register) End(ctx context.Context, id, name, by string) error {
	for _, s := range g.Sessions(name) {
		if s.ID() != id {
			continue
		}
		err := g.commits.Do(ctx, func(tx *commit.Tx) error {
			tx.Put(commit.Delete{Record: s})
			g.sessions.Drop(tx, s.Hash)
			tx.Tell(fact.New(g.now(), fact.SessionEnded{Name: s.Person, With: s.Label}).By(by))
			return nil
		})
		if err == nil {
			g.ended(s.Hash)
		}
		return err
	}
	return fault.New(fault.NotFound, "there is no such sign-in; it may have ended").On("session")
}
