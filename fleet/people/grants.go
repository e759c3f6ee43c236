package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"slices"
	"strings"
	"time"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// KeySecret is what is kept of the secret of a key. It has 256 random bits, so that
// a slow hash would add nothing.
type KeySecret struct {
	Key  string
	Hash [sha256.Size]byte
}

// KeyUse is when a key was last used.
type KeyUse struct {
	Key  string
	At   time.Time
	From string
}

// keyPrefix stands before the secret of each key, so that one which got into a file
// can be found there.
const keyPrefix = "ullage-key-"

// CallerOfKey is what the journal calls the holder of a key. No person has a name
// with a space in it.
func CallerOfKey(name string) string { return "key " + name }

// keyOf is the key that a caller is called after; empty for a person.
func keyOf(caller string) string {
	name, ok := strings.CutPrefix(caller, CallerOfKey(""))
	if !ok {
		return ""
	}
	return name
}

// openGrants makes the registers of teams and keys.
func (g *Register) openGrants(ctx context.Context, o Options) error {
	teams, err := o.Records.Teams(ctx)
	if err != nil {
		return err
	}
	g.Teams = noun.New(noun.Options[person.Team]{Word: "team", Name: func(t person.Team) string { return t.Name },
		Check: func(t person.Team) error { return t.Check() }, Within: g.withinTeam, After: g.afterTeam, Stored: teams,
		Commits: o.Commits, Now: o.Now})
	keys, err := o.Records.Keys(ctx)
	if err != nil {
		return err
	}
	g.keys = noun.New(noun.Options[person.Key]{Word: "key", Name: func(k person.Key) string { return k.Name },
		Check: func(k person.Key) error { return k.Check() }, Within: g.withinKey, After: g.afterKey, Stored: keys,
		Commits: o.Commits, Now: o.Now})
	secrets, err := o.Records.KeySecrets(ctx)
	if err != nil {
		return err
	}
	kept := map[[sha256.Size]byte]KeySecret{}
	for _, s := range secrets {
		kept[s.Hash] = s
	}
	g.secrets = commit.NewTable(kept)
	factors, err := o.Records.Factors(ctx)
	if err != nil {
		return err
	}
	of := map[string]Factor{}
	for _, f := range factors {
		of[f.Person] = f
	}
	g.factors = commit.NewTable(of)
	uses, err := o.Records.KeyUses(ctx)
	if err != nil {
		return err
	}
	for _, u := range uses {
		g.uses[u.Key] = u
	}
	return nil
}

// grantAll tells the access of everybody.
func (g *Register) grantAll() {
	for _, p := range g.List() {
		g.regrant(p.Name)
	}
	for _, k := range g.keys.List() {
		g.access.Grant(CallerOfKey(k.Name), []person.Grant{k.Grant})
	}
}

// TeamsOf returns the teams of a person, by name; ok is false for whoever is no person, as a
// program with a key.
func (g *Register) TeamsOf(name string) (teams []string, ok bool) {
	if _, ok = g.Find(name); !ok {
		return nil, false
	}
	for _, t := range g.Teams.List() {
		if slices.Contains(t.People, name) {
			teams = append(teams, t.Name)
		}
	}
	return teams, true
}

// GrantsOf returns what somebody may: their own grants, and those of their teams.
func (g *Register) GrantsOf(name string) []Given {
	p, ok := g.Find(name)
	if !ok {
		return nil
	}
	return given(p, g.Teams.List())
}

// Given is a grant with the team that it comes from; their own where that is empty.
type Given struct {
	person.Grant
	Team string
}

func given(p person.Person, teams []person.Team) []Given {
	var out []Given
	for _, x := range p.Grants {
		out = append(out, Given{Grant: x})
	}
	for _, t := range teams {
		if slices.Contains(t.People, p.Name) {
			for _, x := range t.Grants {
				out = append(out, Given{x, t.Name})
			}
		}
	}
	return out
}

func plain(gs []Given) []person.Grant {
	out := make([]person.Grant, len(gs))
	for i, x := range gs {
		out[i] = x.Grant
	}
	return out
}

func (g *Register) regrant(name string) {
	g.access.Grant(name, plain(g.GrantsOf(name)))
	if g.granted != nil {
		g.granted(name)
	}
}

func (g *Register) afterTeam(old, next *person.Team) {
	for _, t := range []*person.Team{old, next} {
		if t != nil {
			for _, name := range t.People {
				g.regrant(name)
			}
		}
	}
}

// withinTeam keeps an owner, and people who exist.
func (g *Register) withinTeam(tx *commit.Tx, old, next *person.Team) error {
	if next != nil {
		for _, name := range next.People {
			if _, ok := g.FindIn(tx, name); !ok {
				return fault.New(fault.Invalid, "there is no person %q", name).Then("invite them first").On("team")
			}
		}
	}
	teams := slices.DeleteFunc(g.Teams.In(tx), func(t person.Team) bool { return old != nil && t.Name == old.Name })
	if next != nil {
		teams = append(teams, *next)
	}
	if old != nil && !g.owned(tx, g.In(tx), teams) {
		return fault.New(fault.Conflict, "without that no owner is left who can sign in").
			Then("make somebody else an owner first").On("team")
	}
	return nil
}

// owned reports whether there is an owner who can sign in.
func (g *Register) owned(tx *commit.Tx, people []person.Person, teams []person.Team) bool {
	return slices.ContainsFunc(people, func(p person.Person) bool {
		_, chosen := g.passwords.In(tx, p.Name)
		return chosen && person.Most(plain(given(p, teams))) == person.Owner
	})
}

// MakeKey makes a key and returns its secret, which is not kept and cannot be shown
// again.
func (g *Register) MakeKey(ctx context.Context, k person.Key, by string) (person.Key, string, error) {
	if k.ExpiresAt != nil && !k.ExpiresAt.After(g.now()) {
		return k, "", fault.New(fault.Invalid, "the key would have run out already").Then("give it a time to come").On("expires_at")
	}
	now := g.now().UTC()
	k.MadeAt, k.MadeBy, k.UsedAt, k.UsedFrom, k.Screens = &now, by, nil, "", 0
	if err := k.Check(); err != nil {
		return k, "", fault.New(fault.Invalid, "%s", err).On("key")
	}
	var b [32]byte
	rand.Read(b[:])
	secret := keyPrefix + base64.RawURLEncoding.EncodeToString(b[:])
	kept := KeySecret{k.Name, sha256.Sum256([]byte(secret))}
	if k.Page != "" {
		secret = ""
	}
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		if _, ok := g.keys.FindIn(tx, k.Name); ok {
			return fault.New(fault.Conflict, "there is a key %s already", k.Name).Then("choose another name, or remove that one first").On("key")
		}
		if secret != "" {
			tx.Put(kept)
			g.secrets.Set(tx, kept.Hash, kept)
		}
		return g.keys.Stage(tx, []person.Key{k}, by)
	})
	return k, secret, err
}

// Keys returns the keys, by name.
func (g *Register) Keys() []person.Key {
	all := g.keys.List()
	for i := range all {
		all[i] = g.used(all[i])
	}
	return all
}

// Key returns one key.
func (g *Register) Key(name string) (person.Key, error) {
	k, err := g.keys.Get(name)
	return g.used(k), err
}

func (g *Register) used(k person.Key) person.Key {
	k.Screens = 0
	if k.Page != "" {
		for _, s := range g.sessions.All() {
			if s.Person == CallerOfKey(k.Name) && g.now().Before(s.ExpiresAt) {
				k.Screens++
			}
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if u, ok := g.uses[k.Name]; ok {
		at := u.At.UTC()
		k.UsedAt, k.UsedFrom = &at, u.From
	}
	return k
}

// RemoveKey takes a key away; what goes on with it ends.
func (g *Register) RemoveKey(ctx context.Context, name string, cond noun.If, by string) error {
	return g.keys.Remove(ctx, name, cond, by)
}

// withinKey takes away with a key what lets programs in.
func (g *Register) withinKey(tx *commit.Tx, old, next *person.Key) error {
	if next != nil {
		return nil
	}
	for _, s := range values(g.secrets) {
		if s.Key == old.Name {
			tx.Put(commit.Delete{Record: s})
			g.secrets.Drop(tx, s.Hash)
			tx.After(func() { g.ended(s.Hash) })
		}
	}
	g.endSessions(tx, CallerOfKey(old.Name), [sha256.Size]byte{})
	tx.Put(commit.Delete{Record: KeyUse{Key: old.Name}})
	tx.After(func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		delete(g.uses, old.Name)
	})
	return nil
}

func (g *Register) afterKey(old, next *person.Key) {
	if next != nil {
		g.access.Grant(CallerOfKey(next.Name), []person.Grant{next.Grant})
		return
	}
	g.access.Grant(CallerOfKey(old.Name), nil)
}

// useEvery is how often the use of a key is stored.
const useEvery = 5 * time.Minute

// byKey returns the session of a key's secret.
func (g *Register) byKey(secret, from string) (Session, error) {
	s, ok := g.secrets.Get(sha256.Sum256([]byte(secret)))
	k, there := g.keys.Find(s.Key)
	switch {
	case !ok || !there:
		return Session{}, fault.New(fault.Unauthenticated, "this key is not known").Then("it may have been removed; ask for another one")
	case k.ExpiresAt != nil && g.now().After(*k.ExpiresAt):
		return Session{}, fault.New(fault.Unauthenticated, "the key %s has run out", k.Name).Then("ask for another one")
	}
	until := g.now().Add(SessionLife)
	if k.ExpiresAt != nil {
		until = *k.ExpiresAt
	}
	g.use(KeyUse{k.Name, g.now(), from})
	return Session{Hash: s.Hash, Person: CallerOfKey(k.Name), Label: "key", CreatedAt: g.now(), ExpiresAt: until, Key: true}, nil
}

// use notes that a key was used.
func (g *Register) use(u KeyUse) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if was := g.uses[u.Key]; u.At.Sub(was.At) < useEvery && was.From == u.From {
		return
	}
	g.uses[u.Key] = u
	g.commits.Go(func(tx *commit.Tx) error {
		if _, ok := g.keys.FindIn(tx, u.Key); ok {
			tx.Put(u)
		}
		return nil
	}, func(err error) {
		if err != nil {
			g.log.Error("the use of a key is not stored", "error", err)
		}
	})
}

// Caller returns who a session speaks for, from an address.
func (g *Register) Caller(s Session, from string) access.Caller {
	return g.access.Caller(s.Person, from)
}

// isKey reports whether a secret is that of a key.
func isKey(secret string) bool { return strings.HasPrefix(secret, keyPrefix) }

// On is a grant with what it says of a device.
type On struct {
	Given
	Reaches bool
	Why     string
}

// Explain tells what each grant of somebody says of a device.
func (g *Register) Explain(name string, d devices.Device) ([]On, error) {
	grants := g.GrantsOf(name)
	if key, ok := strings.CutPrefix(name, CallerOfKey("")); ok {
		k, err := g.keys.Get(key)
		if err != nil {
			return nil, err
		}
		grants = []Given{{Grant: k.Grant}}
	} else if _, err := g.Get(name); err != nil {
		return nil, err
	}
	out := make([]On, len(grants))
	for i, x := range grants {
		out[i] = On{Given: x, Reaches: true, Why: "it is for all devices"}
		if x.Access == "" {
			continue
		}
		a, err := person.NewAccess(x.Access)
		if err != nil {
			return nil, fault.New(fault.Internal, "%s", err)
		}
		out[i].Reaches = a.Reaches(d.ID, d.Model, d.Labels)
		var facts []string
		for _, n := range a.Names() {
			facts = append(facts, n+" is "+valueOf(n, d))
		}
		out[i].Why = strings.Join(facts, ", ")
		if len(facts) == 0 {
			out[i].Why = "it asks for nothing of the device"
		}
	}
	return out, nil
}

func valueOf(name string, d devices.Device) string {
	switch key, isLabel := strings.CutPrefix(name, "label."); {
	case name == "device.id":
		return d.ID
	case name == "device.model":
		return d.Model
	case isLabel && d.Labels[key] != "":
		return d.Labels[key]
	}
	return "missing, and grants nothing"
}

// Owners returns the names of the owners, who can grant what others lack.
func (g *Register) Owners() []string {
	out := []string{}
	for _, p := range g.List() {
		if g.access.Caller(p.Name, "").MayAll(person.Owner) {
			out = append(out, p.Name)
		}
	}
	return out
}

// Reached returns the devices that an access reaches now, by id.
func (g *Register) Reached(a *person.Access) []string { return g.access.Reached(a) }
