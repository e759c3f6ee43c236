package lifecycle

import (
	"cmp"
	"slices"
	"time"
)

// How well an alarm system works is measured after ISA-18.2 (clause 16), IEC 62682 and
// EEMUA 191: what one operator can take, and which few alarms make most of the load.

// What the measures are held to. The counts are for one operator.
const (
	TargetADay     = 144 // about one in 10 minutes; EEMUA 191: very likely to be acceptable
	MostADay       = 288 // the most that can be handled
	TargetInTen    = 10  // of the peak in 10 minutes
	TargetFlood    = 0.01
	TargetTopTen   = 0.05
	TargetStale    = 5
	FloodAbove     = 10 // alarms in 10 minutes that begin a flood
	FloodBelow     = 5  // and that end it
	ChatterTimes   = 3
	ChatterWithin  = 60 * time.Second
	FleetingWithin = 60 * time.Second
	StaleAfter     = 24 * time.Hour
	ten            = 10 * time.Minute
	maxWorst       = 10
)

// TargetPriorities is how alarms should be split over the priorities, the most pressing
// first (ISA-18.2, table 9, with its four priorities).
var TargetPriorities = [4]float64{0.01, 0.05, 0.15, 0.79}

// Annunciated is one alarm that called somebody.
type Annunciated struct {
	At           time.Time
	Returned     time.Time // zero while its condition holds
	Acknowledged time.Time // zero while nobody has
	Rule         string
	Subject      string // the device, or the group
	Rank         int    // of its priority, 1 to 4
}

// Worst is a rule or a device that makes much of the load.
type Worst struct {
	Name       string
	Alarms     int
	Share      float64 // of all
	Chattering int
	Fleeting   int
}

// Performance is how well an alarm system has worked over a span.
type Performance struct {
	From, To   time.Time
	Operators  int
	Alarms     int
	ADay       float64   // for one operator
	AnHour     float64   // for one operator
	Peak       int       // most in 10 minutes, for one operator
	PeakAt     time.Time // when those 10 minutes began
	Floods     int
	InFlood    time.Duration
	FloodShare float64
	Chattering int // alarms of which three or more of one rule and device came within 60 s
	Fleeting   int // that returned within 60 s before anybody acknowledged
	Stale      int // that hold, or held, for more than 24 h
	Priorities [4]int
	// TimeToAck is how long it took until somebody acknowledged: the median and the 95th
	// percentile of those that were; Unacknowledged is how many were not.
	TimeToAck, TimeToAck95 time.Duration
	Acknowledged           int
	Rules, Devices         []Worst // ten of each, the worst first
	TopTen                 float64 // the share of the ten worst rules on a device, of all
	Days                   []int   // alarms of each day from From on
}

// Measure works out how well it went. The alarms are in order of time.
func Measure(all []Annunciated, from, to time.Time, operators int) Performance {
	operators = max(operators, 1)
	p := Performance{From: from, To: to, Operators: operators, Alarms: len(all)}
	days := to.Sub(from).Hours() / 24
	p.Days = make([]int, max(int(days+0.999), 1))
	if days > 0 {
		p.ADay = float64(len(all)) / days / float64(operators)
		p.AnHour = p.ADay / 24
	}
	rules, devices, pairs := map[string]*Worst{}, map[string]*Worst{}, map[[2]string]*Worst{}
	last := map[[2]string][]int{} // of each rule and device, its alarms
	var acks []time.Duration
	chatters := make([]bool, len(all))
	for i, a := range all {
		if d := int(a.At.Sub(from).Hours() / 24); d >= 0 && d < len(p.Days) {
			p.Days[d]++
		}
		if a.Rank >= 1 && a.Rank <= 4 {
			p.Priorities[a.Rank-1]++
		}
		if !a.Acknowledged.IsZero() {
			p.Acknowledged++
			acks = append(acks, a.Acknowledged.Sub(a.At))
		}
		key := [2]string{a.Rule, a.Subject}
		mine := append(last[key], i)
		last[key] = mine
		if n := len(mine); n >= ChatterTimes && a.At.Sub(all[mine[n-ChatterTimes]].At) <= ChatterWithin {
			for _, k := range mine[n-ChatterTimes:] {
				chatters[k] = true
			}
		}
	}
	for i, a := range all {
		end := a.Returned
		if end.IsZero() {
			end = to
		}
		fleeting := !a.Returned.IsZero() && a.Returned.Sub(a.At) <= FleetingWithin && (a.Acknowledged.IsZero() || a.Acknowledged.After(a.Returned))
		if end.Sub(a.At) > StaleAfter {
			p.Stale++
		}
		for _, w := range []*Worst{worst(rules, a.Rule, a.Rule), worst(devices, a.Subject, a.Subject), worst(pairs, [2]string{a.Rule, a.Subject}, a.Rule+" "+a.Subject)} {
			w.Alarms++
			if chatters[i] {
				w.Chattering++
			}
			if fleeting {
				w.Fleeting++
			}
		}
		if chatters[i] {
			p.Chattering++
		}
		if fleeting {
			p.Fleeting++
		}
	}
	p.Rules, p.Devices = worstOf(rules, len(all)), worstOf(devices, len(all))
	for _, w := range worstOf(pairs, len(all)) {
		p.TopTen += w.Share
	}
	slices.Sort(acks)
	if n := len(acks); n > 0 {
		p.TimeToAck, p.TimeToAck95 = acks[n/2], acks[min(n*95/100, n-1)]
	}
	p.flood(all)
	return p
}

func worst[K comparable](in map[K]*Worst, key K, name string) *Worst {
	if in[key] == nil {
		in[key] = &Worst{Name: name}
	}
	return in[key]
}

func worstOf[K comparable](all map[K]*Worst, of int) []Worst {
	out := []Worst{}
	for _, w := range all {
		w.Share = float64(w.Alarms) / float64(of)
		out = append(out, *w)
	}
	slices.SortFunc(out, func(a, b Worst) int {
		return cmp.Or(cmp.Compare(b.Alarms, a.Alarms), cmp.Compare(a.Name, b.Name))
	})
	return out[:min(len(out), maxWorst)]
}

// flood finds the peak and the floods: more than ten alarms for one operator in ten
// minutes begin one, and it lasts until ten minutes have less than five.
func (p *Performance) flood(all []Annunciated) {
	first := 0
	flooding := false
	var since time.Time
	end := func(at time.Time) {
		flooding = false
		p.InFlood += at.Sub(since)
	}
	within := func(i int) int { return (i - first + p.Operators) / p.Operators } // of one operator, rounded up
	for i, a := range all {
		// Before this one comes, ten minutes may have gone by with few.
		for flooding && first < i && a.At.Sub(all[first].At) >= ten {
			out := all[first].At.Add(ten)
			first++
			if (i-first+p.Operators-1)/p.Operators < FloodBelow {
				end(out)
			}
		}
		for first < i && a.At.Sub(all[first].At) >= ten {
			first++
		}
		n := within(i)
		if n > p.Peak {
			p.Peak, p.PeakAt = n, all[first].At
		}
		if !flooding && n > FloodAbove {
			flooding, since = true, all[first].At
			p.Floods++
		}
	}
	for ; flooding && first < len(all); first++ {
		if (len(all)-first-1+p.Operators-1)/p.Operators < FloodBelow {
			out := all[first].At.Add(ten)
			if out.After(p.To) {
				out = p.To
			}
			end(out)
		}
	}
	if d := p.To.Sub(p.From); d > 0 {
		p.FloodShare = float64(p.InFlood) / float64(d)
	}
}
