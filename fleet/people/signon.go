package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"slices"
	"time"

	"ullage/core/person"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// SignOn is somebody whom a provider of identities vouches for.
type SignOn struct {
	// Subject names them at the provider for ever, with the provider's address.
	Subject string
	Name    string // to be called by here
	Role    person.Role
	Teams   []string // that they are in
	// Of are all teams whose people the provider decides; they are taken out of those
	// that are not among Teams.
	Of []string
}

// SignOn makes a session of somebody whom a provider vouches for, who is made if they
// are new, and takes over what they may do now. Whoever has a password here, or comes
// from elsewhere, is another person: a provider takes over nobody.
func (g *Register) SignOn(ctx context.Context, x SignOn, remote string) (string, Session, error) {
	p := person.Person{Name: x.Name, Subject: x.Subject, Note: "Signs on with " + providerOf(x.Subject)}
	if x.Role != "" {
		p.Grants = person.Grants{{Role: x.Role}}
	}
	if err := p.Check(); err != nil {
		return "", Session{}, fault.New(fault.Invalid, "%s", err).On("person")
	}
	now := g.now()
	var b [32]byte
	rand.Read(b[:])
	secret := base64.RawURLEncoding.EncodeToString(b[:])
	s := Session{Hash: sha256.Sum256([]byte(secret)), Person: p.Name, Label: "sign-on", CreatedAt: now, ExpiresAt: now.Add(SignOnLife), From: remote}
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		was, had := g.FindIn(tx, p.Name)
		if had && was.Subject != x.Subject {
			return fault.New(fault.NotAllowed, "there is another person called %s here", p.Name).
				Then("ask an owner to take that one away, or to change the name at the provider").On("person")
		}
		if had { // the note, grants beside the role and what they prefer are people's to say
			p.Note, p.JoinedAt, p.Start, p.Preferences = was.Note, was.JoinedAt, was.Start, was.Preferences
			for _, grant := range was.Grants {
				if grant.Access != "" {
					p.Grants = append(p.Grants, grant)
				}
			}
		} else {
			p = g.own(p)
			p.Subject = x.Subject
			tx.Tell(fact.New(now, fact.Person{Name: p.Name}))
		}
		if err := g.StageUntold(tx, p); err != nil {
			return err
		}
		for _, t := range g.Teams.In(tx) {
			in, due := slices.Index(t.People, p.Name), slices.Contains(x.Teams, t.Name)
			switch {
			case !slices.Contains(x.Of, t.Name) || (in >= 0) == due:
				continue
			case due:
				t.People = append(slices.Clone(t.People), p.Name)
			default:
				t.People = slices.Delete(slices.Clone(t.People), in, in+1)
			}
			if err := g.Teams.Stage(tx, []person.Team{t}, p.Name); err != nil {
				return err
			}
		}
		tx.Put(s)
		g.sessions.Set(tx, s.Hash, s)
		tx.Tell(fact.New(now, fact.SignIn{Name: p.Name, With: s.Label}).By(p.Name))
		tx.After(func() { g.regrant(p.Name) })
		return nil
	})
	return secret, s, err
}

// SignOnLife is how long a sign-in by a provider holds: what the provider takes away
// is taken over by the next.
const SignOnLife = 12 * time.Hour

func providerOf(subject string) string {
	for i := range subject {
		if subject[i] == '|' {
			return subject[:i]
		}
	}
	return subject
}
