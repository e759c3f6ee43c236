package waves

import (
	"math"
	"slices"
	"time"

	"ullage/core/health"
)

// Wait is how long it takes, as a device is used to be, until a change that goes out now
// reaches it: nothing while it is on line. Off line, it is what is left of a spell of its usual
// length, which is the median of those that ended; where it has been away for longer than
// that, as long again as it has been; where no spell of it ever ended it is not known.
func Wait(spells []health.Spell, now time.Time) (wait time.Duration, known bool) {
	var ended []time.Duration
	var away time.Time
	for _, s := range spells {
		if s.End.IsZero() {
			away = s.From
		} else {
			ended = append(ended, s.End.Sub(s.From))
		}
	}
	switch {
	case away.IsZero():
		return 0, true
	case len(ended) == 0:
		return 0, false
	}
	slices.Sort(ended)
	usual, been := ended[len(ended)/2], now.Sub(away)
	if been < usual {
		return usual - been, true
	}
	return been, true
}

// Expected is how long a wave is expected to take until a share of its devices, in percent,
// is reached: the wait of the last of those that are needed. It is not known where too many
// waits are not.
func Expected(waits []time.Duration, unknown int, reached float64) (time.Duration, bool) {
	all := len(waits) + unknown
	need := int(math.Ceil(float64(all) * reached / 100))
	if need > len(waits) {
		return 0, false
	}
	if need == 0 {
		return 0, true
	}
	waits = slices.Sorted(slices.Values(waits))
	return waits[need-1], true
}
