// Package waves works out how a change goes out to many devices: which device is in which
// wave, when the next one begins, and when a gate stops it. It computes alone; who is
// reached, and what holds, is told to it.
package waves

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"

	"ullage/core/expr"
	"ullage/core/value"
)

// Plan says how a change goes out.
type Plan struct {
	Waves  []Size         `yaml:"waves,omitempty" json:"waves,omitempty" maxItems:"50" doc:"The waves before the last; whoever is left is the last. With none, all at once"`
	Per    string         `yaml:"per,omitempty" json:"per,omitempty" maxLength:"80" doc:"Label by which devices are grouped: percents and counts of waves, and at_most, are of each group" example:"label.site"`
	Order  string         `yaml:"order,omitempty" json:"order,omitempty" enum:"hash,headspace" doc:"In which order devices are taken: by a hash of their ids, which is the default, or those with the most headspace first"`
	AtMost int            `yaml:"at_most,omitempty" json:"at_most,omitempty" minimum:"1" maximum:"100000" doc:"How many devices of a group, or of all, may be on their way at once"`
	During string         `yaml:"during,omitempty" json:"during,omitempty" maxLength:"400" doc:"Only in these hours of the week, in the zone of each device's site" example:"Mon-Fri 06:00-18:00"`
	Start  time.Time      `yaml:"start,omitempty" json:"start,omitzero" doc:"When it begins; at once if it is left out"`
	Spread value.Duration `yaml:"spread,omitempty" json:"spread,omitempty" doc:"Over which time the devices of a wave are offered the change, so that they do not act all at once" example:"10min"`
	Gate   Gate           `yaml:"gate,omitempty" json:"gate,omitzero" doc:"What must hold after each wave"`
	Broken string         `yaml:"broken,omitempty" json:"broken,omitempty" enum:"stop,undo_wave,undo" doc:"What is done when a gate breaks: it stops, which is the default, and the wave or all of it is undone"`
}

// Size says who is in a wave: one of its fields.
type Size struct {
	Count   int      `yaml:"count,omitempty" json:"count,omitempty" minimum:"0" doc:"So many devices, of each group where the plan has groups"`
	Percent float64  `yaml:"percent,omitempty" json:"percent,omitempty" minimum:"0" maximum:"100" doc:"So many of all devices, or of each group"`
	Where   string   `yaml:"where,omitempty" json:"where,omitempty" maxLength:"2000" doc:"Those for which this is true when it begins"`
	Devices []string `yaml:"devices,omitempty" json:"devices,omitempty" maxItems:"10000" doc:"These"`
}

// Gate says what must hold over the devices of a wave, and for how long.
type Gate struct {
	Conditions []string       `yaml:"conditions,omitempty" json:"conditions,omitempty" maxItems:"20" doc:"Conditions over the devices of the wave that were reached"`
	Soak       value.Duration `yaml:"soak,omitempty" json:"soak,omitempty" doc:"For how long they must hold; at least four expected intervals of the slowest device"`
	Reached    float64        `yaml:"reached,omitempty" json:"reached,omitempty" minimum:"0" maximum:"100" doc:"Percent of the wave that must be reached; 90 where nothing is said"`
	Within     value.Duration `yaml:"within,omitempty" json:"within,omitempty" doc:"How long the gate waits for it, after all of the wave were offered the change; the soak and an hour where nothing is said"`
}

// Usual are the conditions of a gate of which nothing is said.
var Usual = []string{`share(device.applied) >= 95 '%'`, `count_of(device.refused) == 0`, `count_of(device.alarmed) == 0`}

// The bounds of a plan.
const (
	UsualReached = 90.0
	UsualWithin  = time.Hour
	// Intervals is how many expected intervals of the slowest device a soak has at least.
	Intervals = 4
)

var perLabel = regexp.MustCompile(`^label\.[a-z][a-z0-9_]*$`)

// Check checks p alone.
func (p *Plan) Check() error {
	switch {
	case p.Per != "" && !perLabel.MatchString(p.Per):
		return fmt.Errorf("per: %q is no label; write label.site", value.Clip(p.Per, 60))
	case p.Order != "" && p.Order != "hash" && p.Order != "headspace":
		return fmt.Errorf("order is hash or headspace, not %q", value.Clip(p.Order, 40))
	case p.Broken != "" && p.Broken != "stop" && p.Broken != "undo_wave" && p.Broken != "undo":
		return fmt.Errorf("broken is stop, undo_wave or undo, not %q", value.Clip(p.Broken, 40))
	case p.AtMost < 0 || p.Spread < 0 || p.Gate.Soak < 0 || p.Gate.Within < 0:
		return fmt.Errorf("a time or a number of the plan is below zero")
	case p.Spread.Std() > 7*24*time.Hour || p.Gate.Soak.Std() > 31*24*time.Hour || p.Gate.Within.Std() > 31*24*time.Hour:
		return fmt.Errorf("a spread is 7 days at most, and a soak and within 31 days")
	case p.Gate.Reached < 0 || p.Gate.Reached > 100:
		return fmt.Errorf("reached is a percent, 0 to 100")
	}
	if p.During != "" {
		if _, err := expr.ParseWeek(p.During); err != nil {
			return fmt.Errorf("during: %w", err)
		}
	}
	for i, w := range p.Waves {
		said := 0
		for _, is := range []bool{w.Count != 0, w.Percent != 0, w.Where != "", len(w.Devices) > 0} {
			if is {
				said++
			}
		}
		if said != 1 || w.Count < 0 || w.Percent < 0 || w.Percent > 100 {
			return fmt.Errorf("wave %d: say one of count, percent, where and devices", i+1)
		}
	}
	for _, src := range p.Gate.Conditions {
		if _, found := expr.Parse(src); len(found.Errors()) > 0 {
			return fmt.Errorf("gate, %s: %w", src, found.Errors())
		}
	}
	return nil
}

// Conditions returns those of the gate, or the usual ones.
func (p *Plan) Conditions() []string {
	if len(p.Gate.Conditions) == 0 {
		return Usual
	}
	return p.Gate.Conditions
}

// Soak returns for how long the gate must hold, for devices of which the slowest reports so
// often.
func (p *Plan) Soak(slowest time.Duration) time.Duration {
	return max(p.Gate.Soak.Std(), Intervals*slowest)
}

func (p *Plan) within(soak time.Duration) time.Duration {
	if p.Gate.Within > 0 {
		return max(p.Gate.Within.Std(), soak)
	}
	return soak + UsualWithin
}

func (p *Plan) least() float64 {
	if p.Gate.Reached == 0 {
		return UsualReached / 100
	}
	return p.Gate.Reached / 100
}

// Candidate is a device that the change is for.
type Candidate struct {
	ID        string
	Group     string  // the label of Per; empty where there are no groups
	Headspace float64 // NaN where it is not known
	Matches   []bool  // by wave: whether it is chosen by where or by name
}

// Assign puts every candidate into one wave; whoever is in none that the plan names is in
// the last. The same candidates give the same waves. Salt makes it another order for another
// change.
func (p *Plan) Assign(all []Candidate, salt string) [][]string {
	hash := func(id string) uint64 {
		h := fnv.New64a()
		h.Write([]byte(salt + "\x00" + id))
		return h.Sum64()
	}
	left := slices.Clone(all)
	slices.SortFunc(left, func(a, b Candidate) int {
		if p.Order == "headspace" {
			if d := cmp.Compare(known(b.Headspace), known(a.Headspace)); d != 0 {
				return d
			}
		}
		return cmp.Or(cmp.Compare(hash(a.ID), hash(b.ID)), strings.Compare(a.ID, b.ID))
	})
	sizes := map[string]int{} // of groups
	for _, c := range all {
		sizes[p.group(c)]++
	}
	var out [][]string
	for i, w := range p.Waves {
		room := map[string]int{}
		for g, n := range sizes {
			room[g] = w.Count
			if w.Percent > 0 {
				room[g] = int(math.Ceil(float64(n) * w.Percent / 100))
			}
		}
		var wave []string
		left = slices.DeleteFunc(left, func(c Candidate) bool {
			take := false
			if w.Where != "" || len(w.Devices) > 0 {
				take = i < len(c.Matches) && c.Matches[i]
			} else if g := p.group(c); room[g] > 0 {
				room[g]--
				take = true
			}
			if take {
				wave = append(wave, c.ID)
			}
			return take
		})
		out = append(out, wave)
	}
	var rest []string
	for _, c := range left {
		rest = append(rest, c.ID)
	}
	return append(out, rest)
}

func (p *Plan) group(c Candidate) string {
	if p.Per == "" {
		return ""
	}
	return c.Group
}

// known puts an unknown headspace last.
func known(x float64) float64 {
	if math.IsNaN(x) {
		return -1
	}
	return x
}
