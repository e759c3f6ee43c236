package settings

import (
	"maps"
	"slices"
	"time"

	"ullage/fleet/commit"
	"ullage/fleet/fault"
)

// What is set on a device may end by itself, such as until tomorrow 06:00: then the device
// falls back to what stands below.

// MostAhead is how far ahead an override may end.
const MostAhead = 366 * 24 * time.Hour

// checkUntil says what is wrong with when an override ends; the zero time is for never.
func (b *Settings) checkUntil(until time.Time) error {
	switch now := b.now(); {
	case until.IsZero():
		return nil
	case !until.After(now):
		return fault.New(fault.Invalid, "%s is over already, so nothing was changed", until.Format(time.RFC3339)).Then("say a time to come, like 2h")
	case until.Sub(now) > MostAhead:
		return fault.New(fault.Invalid, "%s is more than a year away, so nothing was changed", until.Format(time.RFC3339)).Then("leave the end out")
	}
	return nil
}

// ends is when the first value of a state's override ends; the zero time for never.
func (s *State) ends() time.Time {
	var first time.Time
	for _, o := range s.OverriddenBy {
		if !o.Until.IsZero() && (first.IsZero() || o.Until.Before(first)) {
			first = o.Until
		}
	}
	return first
}

// noteEnd keeps in mind when something of a device's override ends.
func (b *Settings) noteEnd(id string, at time.Time) {
	b.stale.mu.Lock()
	defer b.stale.mu.Unlock()
	if b.stale.ends == nil {
		b.stale.ends = map[string]time.Time{}
	}
	if at.IsZero() {
		delete(b.stale.ends, id)
	} else {
		b.stale.ends[id] = at
	}
}

// endOverrides takes off what has ended by now, device by device.
func (b *Settings) endOverrides(now time.Time) {
	var ids []string
	b.stale.mu.Lock()
	for id, at := range b.stale.ends {
		if !now.Before(at) {
			ids = append(ids, id)
			delete(b.stale.ends, id) // it is noted again with the next change
		}
	}
	b.stale.mu.Unlock()
	slices.Sort(ids)
	for _, id := range ids {
		b.commits.Go(func(tx *commit.Tx) error { return b.end(tx, id, now) }, func(err error) {
			if err != nil && !fault.Is(err, fault.Stopping) {
				b.log.Error("an override has ended and was not taken off yet", "device", id, "error", err)
				b.noteEnd(id, now)
			}
		})
	}
}

func (b *Settings) end(tx *commit.Tx, id string, now time.Time) error {
	d, ok := b.devices.In(tx, id)
	if !ok {
		return nil
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return err
	}
	was := b.in(tx, id)
	s := *was
	s.Override, s.OverriddenBy = maps.Clone(s.Override), maps.Clone(s.OverriddenBy)
	var removed []string
	for name, o := range s.OverriddenBy {
		if !o.Until.IsZero() && !now.Before(o.Until) {
			delete(s.Override, name)
			delete(s.OverriddenBy, name)
			removed = append(removed, name)
		}
	}
	slices.Sort(removed)
	if len(removed) == 0 {
		return nil
	}
	return b.revise(tx, was, &s, d, m, "", "since it was set until then", nil, removed)
}
