package replay

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"ullage/core/rule"
)

// Dry works out what the responses of a rule would have done, without doing it, from what
// its alarms would have been.
type Dry struct {
	rule *rule.Rule
	of   []map[string][]act // by response, by device
	lost []int              // by response: acts for which there was no device
}

type act struct{ from, to time.Time }

// Done is what one response would have done.
type Done struct {
	Does    string
	Acts    int           // how often it would have acted on a device
	Devices int           // on how many
	Held    int           // how often it would have been held back by its limit
	Lasted  time.Duration // for how long settings would have been set, over all devices
	Nowhere int           // for how many alarms there was no device to act on
}

// NewDry returns a Dry for a rule.
func NewDry(r *rule.Rule) *Dry {
	d := &Dry{rule: r, of: make([]map[string][]act, len(r.Responses)), lost: make([]int, len(r.Responses))}
	for i := range d.of {
		d.of[i] = map[string][]act{}
	}
	return d
}

// Add takes the alarms of one device or group in, which end at a time at the latest. Devices
// are those on which each response acts.
func (d *Dry) Add(spans []Span, devices [][]string, end time.Time) {
	for i := range d.rule.Responses {
		x := &d.rule.Responses[i]
		for _, s := range spans {
			if (s.Suppressed || s.OutOfService) && x.Releases() {
				continue
			}
			a := act{s.From, s.To}
			if a.to.IsZero() {
				a.to = end
			}
			if x.Command != "" && x.Moment() == rule.WhenReturned {
				if s.To.IsZero() {
					continue
				}
				a.from = s.To
			}
			if i >= len(devices) || len(devices[i]) == 0 {
				d.lost[i]++
				continue
			}
			for _, id := range devices[i] {
				d.of[i][id] = append(d.of[i][id], a)
			}
		}
	}
}

// Sum returns what each response would have done.
func (d *Dry) Sum() []Done {
	out := make([]Done, 0, len(d.of))
	for i := range d.of {
		x := &d.rule.Responses[i]
		sum := Done{Does: x.Does(), Devices: len(d.of[i]), Nowhere: d.lost[i]}
		for _, id := range slices.Sorted(maps.Keys(d.of[i])) {
			acts := d.of[i][id]
			slices.SortFunc(acts, func(a, b act) int { return cmp.Or(a.from.Compare(b.from), a.to.Compare(b.to)) })
			var hour []time.Time // when it acted within the last hour
			var until time.Time  // to when time is counted already
			for _, a := range acts {
				hour = slices.DeleteFunc(hour, func(t time.Time) bool { return a.from.Sub(t) >= time.Hour })
				if len(hour) >= x.Most() {
					sum.Held++
					continue
				}
				hour = append(hour, a.from)
				sum.Acts++
				if from := later(a.from, until); x.Command == "" && a.to.After(from) {
					sum.Lasted += a.to.Sub(from)
					until = a.to
				}
			}
		}
		out = append(out, sum)
	}
	return out
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
