package devices

import (
	"context"
	"crypto/hkdf"
	"crypto/sha256"
	"time"

	"ullage/core/join"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// OwnRenewals is how many credentials a device may have made for itself within an hour: each
// is kept, and a device may be anybody's.
const OwnRenewals = 6

// RenewToken gives a device another token for the one that it came with. It is made of the
// nonce of the device, so that a lost reply is had again with the same nonce. The one that
// it came with ends when the other is used first, and any that is older ends now.
func (g *Registry) RenewToken(ctx context.Context, id, credential, nonce string) (Given, error) {
	if len(g.master) == 0 {
		return Given{}, fault.New(fault.Conflict, "this service has no master key, of which tokens are renewed").Then("have a person give the device another token")
	}
	b, err := join.ParseNonce(nonce)
	if err != nil {
		return Given{}, fault.New(fault.Invalid, "%s", err).On("nonce")
	}
	bits, err := hkdf.Key(sha256.New, g.master, b, "ullage renewed token "+id+" "+credential, TokenBytes)
	if err != nil {
		return Given{}, err
	}
	w := Wanted{Bits: bits, Beside: credential, Replaces: credential}
	if given, ok := g.Same(id, w); ok {
		return given, nil
	}
	return g.Renew(ctx, id, w, true, id)
}

// maySelf refuses a device that renews what lets it in too often.
func (g *Registry) maySelf(ids []string, tx *commit.Tx, at time.Time) error {
	n := 0
	for _, i := range ids {
		if c, ok := g.credentials.In(tx, i); ok && at.Sub(c.CreatedAt) < time.Hour {
			n++
		}
	}
	if n < OwnRenewals {
		return nil
	}
	return fault.New(fault.TooMany, "%d credentials were made for it within the hour, which are the most", n).
		Then("keep the newest one in a place that outlives a restart, and renew it less often")
}

// follows ends the credential in whose place another has come that is used now.
func (g *Registry) follows(credential string) {
	c, _ := g.credentials.Get(credential)
	if c.Replaces == "" {
		return
	}
	if old, ok := g.credentials.Get(c.Replaces); ok && old.RevokedAt.IsZero() {
		g.revokeReplaced(c)
	}
}

// revokeReplaced takes back the credential that another one has replaced.
func (g *Registry) revokeReplaced(c Credential) {
	at := g.now()
	g.commits.Go(func(tx *commit.Tx) error {
		old, ok := g.credentials.In(tx, c.Replaces)
		if !ok || !old.RevokedAt.IsZero() || old.Device != c.Device {
			return nil
		}
		old.RevokedAt = at
		tx.Put(old)
		g.credentials.Set(tx, old.ID, old)
		tx.Tell(fact.New(at, fact.Revoked{Device: c.Device, Kind: string(old.Kind), Credential: old.ID}).Of(c.Device).By(c.Device))
		tx.After(func() { g.bus.Publish(event.Device{Device: c.Device}) })
		return nil
	}, nil)
}
