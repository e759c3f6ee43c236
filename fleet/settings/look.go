package settings

import (
	"slices"
	"time"

	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fault"
)

// What devices are sent is looked at now and then: a device that has a document and does
// not answer is told of it again, and one that has drifted is sent it again where that is
// wanted.

// Drift says what is done where a device is not as it has confirmed to be.
type Drift struct {
	// SendAgain sends the intended settings again; else drift is only told.
	SendAgain bool
	// Most is how often at most in a day for one device.
	Most int
}

const (
	lookEvery    = 10 * time.Second
	tellFirst    = time.Minute // after which a device that has not answered is told again
	tellLast     = time.Hour   // the longest between two times
	repairsAfter = time.Minute // for which drift must last before it is repaired
)

// telling is how often a device was told of a revision again.
type telling struct {
	revision int64
	times    int
	next     time.Time
}

// looking is the bus's alone.
type looking struct {
	last     time.Time
	told     map[string]telling
	repaired map[string][]time.Time // in the last day
}

// look tells devices again that have not answered for a while: after a minute, two, four,
// up to an hour.
func (b *Settings) look(now time.Time) {
	l := &b.looking
	if now.Sub(l.last) < lookEvery && !now.Before(l.last) {
		return
	}
	l.last = now
	if l.told == nil {
		l.told, l.repaired = map[string]telling{}, map[string][]time.Time{}
	}
	var again, drifted []string
	for id, s := range b.states.All() {
		switch {
		case len(s.Intended) == 0:
		case !s.Confirmed():
			t := l.told[id]
			if t.revision != s.Revision {
				t = telling{revision: s.Revision, next: s.IntendedAt.Add(tellFirst)}
			}
			if !now.Before(t.next) {
				t.times++
				t.next = now.Add(min(tellFirst<<min(t.times, 10), tellLast))
				again = append(again, id)
			}
			l.told[id] = t
			continue
		case b.drift.SendAgain && !s.DriftSince.IsZero() && now.Sub(s.DriftSince) >= repairsAfter && b.mayRepair(id, now) && s.strays():
			drifted = append(drifted, id)
		}
		delete(l.told, id)
	}
	for id := range l.told {
		if _, there := b.states.Get(id); !there {
			delete(l.told, id)
		}
	}
	for _, id := range again {
		b.bus.Publish(event.Settings{Device: id, Again: true})
	}
	slices.Sort(drifted)
	for _, id := range drifted {
		l.repaired[id] = append(l.repaired[id], now)
		b.repair(id)
	}
}

// mayRepair reports whether a device was not sent its settings too often in the last day.
func (b *Settings) mayRepair(id string, now time.Time) bool {
	l := &b.looking
	l.repaired[id] = slices.DeleteFunc(l.repaired[id], func(t time.Time) bool { return now.Sub(t) >= 24*time.Hour })
	if len(l.repaired[id]) == 0 {
		delete(l.repaired, id)
	}
	return len(l.repaired[id]) < b.drift.Most
}

// strays reports whether a device has something otherwise that it has not refused.
func (s *State) strays() bool {
	for _, x := range s.Drift() {
		if _, refused := s.Refused[x.Name]; !refused {
			return true
		}
	}
	return false
}

// repair sends a device what is intended for it again.
func (b *Settings) repair(id string) {
	b.commits.Go(func(tx *commit.Tx) error {
		_, err := b.again(tx, id, "")
		return err
	}, func(err error) {
		if err != nil && !fault.Is(err, fault.Conflict) && !fault.Is(err, fault.Stopping) && !fault.Is(err, fault.TooMany) {
			b.log.Error("a device has drifted and was not sent its settings again", "device", id, "error", err)
		}
	})
}
