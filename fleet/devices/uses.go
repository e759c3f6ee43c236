package devices

import (
	"context"
	"sync"
	"time"

	"ullage/core/health"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fact"
)

// Use is when, from where and over which door a credential was used last.
type Use struct {
	Credential string
	At         time.Time
	From       string // network address, without a port
	Over       string // door, as in "mqtt, TLS 1.3"
	// Other is the address that it was used from before that one, and OtherAt when last.
	Other   string
	OtherAt time.Time
	// SharedAt is when it was used from both at once, which one device does not.
	SharedAt time.Time
}

const (
	// useEvery is after how long a use is stored again, and usesAtOnce how many are in one
	// commit.
	useEvery   = 15 * time.Minute
	usesAtOnce = 2000
	// backWithin is how soon a return to the address of before says that two use it: one
	// device that moves between networks goes to and fro more slowly.
	backWithin = 10 * time.Minute
	// sharedFor is how long a credential is shown as shared, and again told of.
	sharedFor = time.Hour
)

// uses holds how each credential is used. Whoever comes in writes here and waits for no
// disk.
type uses struct {
	mu    sync.Mutex
	of    map[string]*use
	dirty map[string]bool
}

type use struct {
	Use
	storedAt time.Time
}

// Used notes that a device came in with a credential, or goes on with it. Two that use
// one at once are known by the address that goes to and fro.
func (g *Registry) Used(device, credential, from, over string) {
	now := g.now()
	g.follows(credential)
	g.uses.mu.Lock()
	u := g.uses.of[credential]
	if u == nil {
		u = &use{Use: Use{Credential: credential}}
		g.uses.of[credential] = u
	}
	other := ""
	if u.From != "" && u.From != from {
		if from == u.Other && now.Sub(u.OtherAt) < backWithin {
			other = u.From
		}
		u.Other, u.OtherAt = u.From, u.At
	}
	changed := u.From != from || u.Over != over
	u.At, u.From, u.Over = now, from, over
	tell := other != "" && now.Sub(u.SharedAt) > sharedFor
	if other != "" {
		u.SharedAt = now
	}
	if changed || tell || now.Sub(u.storedAt) >= useEvery {
		g.uses.dirty[credential] = true
	}
	g.uses.mu.Unlock()
	if tell {
		g.commits.Go(func(tx *commit.Tx) error {
			tx.Tell(fact.New(now, fact.CredentialShared{Device: device, Credential: credential, From: from, Other: other}).Of(device))
			tx.After(func() { g.bus.Publish(event.Device{Device: device}) })
			return nil
		}, nil)
	}
}

// UseOf returns how a credential is used; the zero Use where it never was.
func (g *Registry) UseOf(credential string) Use {
	g.uses.mu.Lock()
	defer g.uses.mu.Unlock()
	if u := g.uses.of[credential]; u != nil {
		return u.Use
	}
	return Use{}
}

// Shared returns two addresses from which a credential of a device is used at once; ok
// is false where none is.
func (g *Registry) Shared(device string, now time.Time) (one, other string, ok bool) {
	ids, _ := g.tokens.Get(device)
	for _, id := range ids {
		if u := g.UseOf(id); !u.SharedAt.IsZero() && now.Sub(u.SharedAt) < sharedFor {
			if c, _ := g.credentials.Get(id); c.RevokedAt.IsZero() {
				return u.From, u.Other, true
			}
		}
	}
	return "", "", false
}

// SaveUses stores what has changed of the uses, some at a time; the rest comes next time.
func (g *Registry) SaveUses(ctx context.Context) error {
	now := g.now()
	var due []Use
	g.uses.mu.Lock()
	for id := range g.uses.dirty {
		if len(due) == usesAtOnce {
			break
		}
		u := g.uses.of[id]
		u.storedAt = now
		due = append(due, u.Use)
		delete(g.uses.dirty, id)
	}
	g.uses.mu.Unlock()
	if len(due) == 0 {
		return nil
	}
	return g.commits.Do(ctx, func(tx *commit.Tx) error {
		for _, u := range due {
			if _, ok := g.credentials.In(tx, u.Credential); ok {
				tx.Put(u)
			}
		}
		return nil
	})
}

// Ends returns when the last credential of a device ends; the zero time where one has no
// end, or none works.
func (g *Registry) Ends(device string, now time.Time) time.Time {
	ids, _ := g.tokens.Get(device)
	var last time.Time
	for _, id := range ids {
		c, ok := g.credentials.Get(id)
		if !ok || !c.RevokedAt.IsZero() || !c.ExpiresAt.IsZero() && now.After(c.ExpiresAt) && !last.IsZero() {
			continue
		}
		if c.ExpiresAt.IsZero() {
			return time.Time{}
		}
		if c.ExpiresAt.After(last) {
			last = c.ExpiresAt
		}
	}
	return last
}

// WarnOfEnds tells of the devices whose last credential ends soon, and of those whose
// did, each once.
func (g *Registry) WarnOfEnds(ctx context.Context) error {
	now := g.now()
	var due []Credential
	for _, c := range g.credentials.All() {
		if c.ExpiresAt.IsZero() || !c.RevokedAt.IsZero() || now.Before(c.ExpiresAt.Add(-health.EndsSoon)) || !c.told(now).IsZero() {
			continue
		}
		due = append(due, c)
	}
	for len(due) > 0 {
		part := due[:min(len(due), usesAtOnce)]
		due = due[len(part):]
		if err := g.commits.Do(ctx, func(tx *commit.Tx) error {
			for _, c := range part {
				c, ok := g.credentials.In(tx, c.ID)
				if d, there := g.devices.In(tx, c.Device); !ok || !there || !c.told(now).IsZero() {
					continue
				} else if ends := g.Ends(c.Device, now); d.Status != Retired && ends.Equal(c.ExpiresAt) {
					tx.Tell(fact.New(now, fact.CredentialEnds{Device: c.Device, Credential: c.ID, At: c.ExpiresAt, Over: !now.Before(c.ExpiresAt)}).Of(c.Device))
					tx.After(func() { g.bus.Publish(event.Device{Device: c.Device}) })
				}
				c.WarnedAt = now
				tx.Put(c)
				g.credentials.Set(tx, c.ID, c)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// told is when it was told that c ends, or, once it has, that it did.
func (c Credential) told(now time.Time) time.Time {
	if !now.Before(c.ExpiresAt) && c.WarnedAt.Before(c.ExpiresAt) {
		return time.Time{}
	}
	return c.WarnedAt
}
