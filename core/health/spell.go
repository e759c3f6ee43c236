package health

import "time"

// Spell is a time in which a device was off line; an End of zero is that it still is.
type Spell struct{ From, End time.Time }

// Away is how long and how often a device was off line.
type Away struct {
	Total, Longest time.Duration
	Spells         int
}

// AwayIn sums up what of some spells lies between two times.
func AwayIn(spells []Spell, from, to time.Time) Away {
	var out Away
	for _, s := range spells {
		a, z := s.From, s.End
		if z.IsZero() || z.After(to) {
			z = to
		}
		if a.Before(from) {
			a = from
		}
		if d := z.Sub(a); d > 0 {
			out.Total += d
			out.Longest = max(out.Longest, d)
			out.Spells++
		}
	}
	return out
}
