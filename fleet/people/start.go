package people

import (
	"context"
	"slices"
	"time"

	"ullage/core/person"
	"ullage/fleet/commit"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// StartOf returns the page with which somebody begins: their own, or the first that one
// of their teams has, by name; nil for none.
func (g *Register) StartOf(name string) *person.Start {
	p, ok := g.Find(name)
	if !ok || p.Start != nil {
		return p.Start
	}
	for _, t := range g.Teams.List() {
		if t.Start != nil && slices.Contains(t.People, name) {
			return t.Start
		}
	}
	return nil
}

// SetStart sets the page with which somebody begins; nil leaves it to their teams.
func (g *Register) SetStart(ctx context.Context, name string, s *person.Start) error {
	p, err := g.Get(name)
	if err != nil {
		return err
	}
	p.Start = s
	_, err = g.Put(ctx, p, noun.If{}, name)
	return err
}

// SetPreferences sets how somebody wants things shown.
func (g *Register) SetPreferences(ctx context.Context, name string, x person.Preferences) error {
	p, err := g.Get(name)
	if err != nil {
		return err
	}
	if x.Units = x.Units.Canonical(); len(x.Units) == 0 {
		x.Units = nil
	}
	if p.Preferences = &x; x.Theme == "" && len(x.Units) == 0 && x.Zone == "" && x.Week == "" {
		p.Preferences = nil
	}
	_, err = g.Put(ctx, p, noun.If{}, name)
	return err
}

// Prolong lets a sign-in that has half of its time behind it hold for the whole of it
// again, so that a screen stays signed in. It returns until when it holds.
func (g *Register) Prolong(ctx context.Context, s Session) (time.Time, error) {
	now := g.now()
	if s.Key || s.Label == "sign-on" || s.ExpiresAt.Sub(now) > SessionLife/2 {
		return s.ExpiresAt, nil
	}
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		held, ok := g.sessions.In(tx, s.Hash)
		if !ok {
			return fault.New(fault.Unauthenticated, "this sign-in is not known any more").Then("sign in again")
		}
		held.ExpiresAt = now.Add(SessionLife)
		tx.Put(held)
		g.sessions.Set(tx, held.Hash, held)
		return nil
	})
	return now.Add(SessionLife), err
}
