package settings

import (
	"context"
	"time"

	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Again sends a device what is intended for it once more, as a new revision: one that has
// refused some of it, or has drifted, may do better now.
func (b *Settings) Again(ctx context.Context, id, by string) (State, error) {
	var out State
	err := b.commits.Do(ctx, func(tx *commit.Tx) (err error) {
		out, err = b.again(tx, id, by)
		return err
	})
	return out, err
}

func (b *Settings) again(tx *commit.Tx, id, by string) (State, error) {
	d, ok := b.devices.In(tx, id)
	if !ok {
		return State{}, devices.Unknown(id)
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return State{}, err
	}
	was := b.in(tx, id)
	switch {
	case len(was.Intended) == 0:
		return State{}, fault.New(fault.Conflict, "nothing is sent to %s, so there is nothing to send again", id).On("device")
	case !was.Confirmed():
		return State{}, fault.New(fault.Conflict, "%s has not answered revision %d yet", id, was.Revision).Then("wait for its answer, or see why it is silent").On("device")
	case len(was.Drift()) == 0:
		return State{}, fault.New(fault.Conflict, "%s is as intended, so there is nothing to send again", id).On("device")
	}
	at := b.now()
	if !b.mayRevise(tx, id, at) {
		return State{}, fault.New(fault.TooMany, "%s has had as many revisions in this hour as a device may", id).Then("try again later").On("device")
	}
	s := *was
	b.next(&s)
	s.IntendedAt, s.DriftSince = at, time.Time{}
	tx.Tell(fact.New(at, fact.Settings{Again: true, Revision: s.Revision}).Of(id).By(by))
	b.put(tx, was, &s, m, at, true)
	return s, nil
}
