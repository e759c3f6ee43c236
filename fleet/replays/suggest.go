package replays

import (
	"context"
	"fmt"
	"hash/fnv"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/core/stats"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// Suggestion is a change of a rule that the data gives. It is computed from some of the
// devices, or of the time, and judged on the others.
type Suggestion struct {
	Kind    string // deadband, on_delay, limit, never or always
	Value   string // that the rule would get; empty where there is none to take
	Figures string // what it is computed from
	Rule    rule.Rule
	// Before and After are what the rule would have raised, without and with it, on what it
	// was not computed from; JudgedOn says what that is.
	Before, After Side
	JudgedOn      string
}

// Suggest computes suggestions for a rule over a span.
func (r *Replays) Suggest(ctx context.Context, a Ask) ([]Suggestion, error) {
	if err := r.bounded(&a); err != nil {
		return nil, err
	}
	if a.Rule.Each != "" {
		return nil, fault.New(fault.Invalid, "suggestions are for rules about single devices, and this one is about groups").Then("look at its replay")
	}
	sets, err := r.sets([]*rule.Rule{&a.Rule})
	if err != nil {
		return nil, err
	}
	select {
	case r.slots <- struct{}{}:
		defer func() { <-r.slots }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	one, other := r.split(a, sets)
	all := append(slices.Clone(one), other...)
	if len(all) == 0 {
		return []Suggestion{}, nil
	}
	now, err := r.all(ctx, a, one, sets)
	if err != nil {
		return nil, err
	}
	on := "the second half of the time, which it was not computed from"
	fit, judge := a, a
	mid := a.From.Add(a.To.Sub(a.From) / 2)
	before := now
	if len(other) > 0 {
		if before, err = r.all(ctx, a, other, sets); err != nil {
			return nil, err
		}
		if before.Alarms < now.Alarms { // it is judged where there is more to judge
			one, other, now, before = other, one, before, now
		}
		on = fmt.Sprintf("%d devices that it was not computed from", len(other))
	} else {
		fit.To, judge.From, other = mid, mid, one
		if before, err = r.all(ctx, judge, other, sets); err != nil {
			return nil, err
		}
	}
	var tries []Suggestion
	add := func(s Suggestion, ok bool) {
		if ok {
			s.Before, s.JudgedOn = before, on
			tries = append(tries, s)
		}
	}
	if m := compared.FindStringSubmatch(strings.TrimSpace(a.Rule.Raise)); m != nil {
		noise, spread, err := r.noise(ctx, fit, one, m[1])
		if err != nil {
			return nil, err
		}
		if before.Alarms > 0 {
			add(deadband(a.Rule, noise))
		}
		share := (now.Raised + before.Raised).Seconds() / (a.To.Sub(a.From).Seconds() * float64(len(all)))
		add(limitFrom(a.Rule, spread, m, share))
	}
	out := []Suggestion{}
	for _, s := range tries {
		if s.After, err = r.with(ctx, judge, s.Rule, other); err != nil {
			return nil, err
		}
		if s.After.Alarms < s.Before.Alarms || s.After.Chattering < s.Before.Chattering || s.After.Raised < s.Before.Raised/2 {
			out = append(out, s)
		}
	}
	// What is over before anybody acts is found in the first alarms, and judged on those that
	// came later.
	spans := append(slices.Clone(now.Spans), before.Spans...)
	slices.SortFunc(spans, func(x, y replay.Span) int { return x.From.Compare(y.From) })
	if s, ok := onDelay(a.Rule, spans[:len(spans)/2]); ok {
		later := a
		later.From = spans[len(spans)/2].From
		if s.Before, err = r.all(ctx, later, all, sets); err != nil {
			return nil, err
		}
		if s.After, err = r.with(ctx, later, s.Rule, all); err != nil {
			return nil, err
		}
		s.JudgedOn = "a later time, which it was not computed from"
		out = append(out, s)
	}
	return append(out, extremes(a, now, before, len(all))...), nil
}

// with replays another version of a rule.
func (r *Replays) with(ctx context.Context, a Ask, x rule.Rule, ids []string) (Side, error) {
	sets, err := r.sets([]*rule.Rule{&x})
	if err != nil {
		return Side{}, nil // a condition that takes no deadband: it is as if there were nothing to judge
	}
	a.Rule = x
	return r.all(ctx, a, ids, sets)
}

// split parts the devices of a rule in two; all of them are in the first where they are too
// few.
func (r *Replays) split(a Ask, sets map[string][]*set) (one, other []string) {
	among := idSet(a.Devices)
	for _, d := range r.o.Devices.List() {
		if d.Status == devices.Retired || among != nil && !among[d.ID] || sets[d.Model] == nil {
			continue
		}
		x := fnv.New32a()
		x.Write([]byte(d.ID))
		if x.Sum32()%2 == 0 {
			one = append(one, d.ID)
		} else {
			other = append(other, d.ID)
		}
	}
	if len(one) < 2 || len(other) < 2 {
		return append(one, other...), nil
	}
	return one, other
}

// all replays a rule on some devices, and adds up.
func (r *Replays) all(ctx context.Context, a Ask, ids []string, sets map[string][]*set) (Side, error) {
	sum := Side{Lost: math.NaN()}
	a.Live = false
	for _, id := range ids {
		if err := ctx.Err(); err != nil {
			return sum, err
		}
		one, err := r.device(ctx, a, id, sets, nil)
		if err != nil {
			return sum, err
		}
		if one != nil {
			sum.Alarms += one.This.Alarms
			sum.Chattering += one.This.Chattering
			sum.Suppressed += one.This.Suppressed
			sum.Raised += one.This.Raised
			sum.Spans = append(sum.Spans, one.This.Spans...)
		}
	}
	return sum, nil
}

// compared is a condition that begins with one metric and its limit, a number or a setting.
var compared = regexp.MustCompile(`^([a-z][a-z0-9_]*) (>=?|<=?) (-?\d+(?:\.\d+)?|(?:set|intended)\.[a-z][a-z0-9_]*)( and .*)?$`)

// maxNoise is how many readings the noise is worked out from, of one device.
const maxNoise = 50_000

// noise is how much a metric goes up and down by itself: of the differences between
// neighbours the median of the absolute ones (MAD), which spikes and slow changes do not
// move, as a standard deviation (Rousseeuw and Croux 1993, 1.4826 × MAD / √2). Spread is
// the values in order.
func (r *Replays) noise(ctx context.Context, a Ask, ids []string, metric string) (noise float64, spread []float64, err error) {
	var each []float64
	for _, id := range ids {
		cols, err := r.columns(ctx, id, []string{metric}, a.From, a.To)
		if err != nil {
			return 0, nil, err
		}
		var steps []float64
		last := math.NaN()
		step := max(len(cols[0].Values)/maxNoise, 1)
		for i, v := range cols[0].Values {
			if v.Kind != value.Number {
				continue
			}
			if i%step == 0 && len(spread) < 1_000_000 {
				spread = append(spread, v.Num)
			}
			if !math.IsNaN(last) && len(steps) < maxNoise {
				steps = append(steps, math.Abs(v.Num-last))
			}
			last = v.Num
		}
		if m, ok := stats.Median(steps); ok && len(steps) >= 20 {
			each = append(each, 1.4826*m/math.Sqrt2)
		}
	}
	slices.Sort(spread)
	// A deadband has to be enough for the noisier ones, too.
	slices.Sort(each)
	if len(each) == 0 {
		return math.NaN(), spread, nil
	}
	return each[min(len(each)*9/10, len(each)-1)], spread, nil
}

// nice rounds up to one or two digits, as people write a limit.
func nice(x float64) float64 {
	if x <= 0 || math.IsInf(x, 0) || math.IsNaN(x) {
		return x
	}
	unit := math.Pow(10, math.Floor(math.Log10(x))-1)
	n := math.Ceil(x/unit - 1e-9)
	if n > 20 {
		n = math.Ceil(n/5) * 5
	}
	return n * unit
}

// figures writes three digits of a number, as people read it.
func figures(x float64) string {
	short, _ := strconv.ParseFloat(strconv.FormatFloat(x, 'g', 3, 64), 64)
	return strconv.FormatFloat(short, 'f', -1, 64)
}

// deadband is three times the noise, for a rule that has less.
func deadband(r rule.Rule, noise float64) (Suggestion, bool) {
	d, _ := strconv.ParseFloat(strconv.FormatFloat(nice(3*noise), 'g', 6, 64), 64)
	if math.IsNaN(noise) || noise <= 0 || r.Clear != "" || r.Deadband >= 0.8*d {
		return Suggestion{}, false
	}
	r.Deadband = d
	return Suggestion{Kind: "deadband", Value: figures(d), Rule: r,
		Figures: fmt.Sprintf("the noise is ± %s; three times that is beyond it", figures(noise))}, true
}

var delays = []time.Duration{30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute}

// onDelay is longer than the alarms that are over before anybody could act, where these are
// many and the others last much longer.
func onDelay(r rule.Rule, spans []replay.Span) (Suggestion, bool) {
	var lasted []float64
	for _, s := range spans {
		if !s.To.IsZero() {
			lasted = append(lasted, s.To.Sub(s.From).Seconds())
		}
	}
	if len(lasted) < 5 {
		return Suggestion{}, false
	}
	slices.Sort(lasted)
	for _, d := range delays {
		gone, _ := slices.BinarySearch(lasted, d.Seconds())
		if share := float64(gone) / float64(len(lasted)); share < 0.5 {
			continue
		}
		if gone < len(lasted) && lasted[gone] < 2*d.Seconds() {
			continue // there is no gap; those that count would be late
		}
		r.OnDelay = value.Duration(r.OnDelay.Std() + d)
		return Suggestion{Kind: "on_delay", Value: r.OnDelay.String(), Rule: r,
			Figures: fmt.Sprintf("%d of %d alarms were over within %s, before anybody could act", gone, len(lasted), value.Duration(d))}, true
	}
	return Suggestion{}, false
}

// limitFrom is a limit from the distribution, for a rule that is raised more than one part
// in twenty of the time. M is what compared found in its condition.
func limitFrom(r rule.Rule, spread []float64, m []string, share float64) (Suggestion, bool) {
	limit, err := strconv.ParseFloat(m[3], 64)
	if err != nil || len(spread) < 500 || share < 0.05 {
		return Suggestion{}, false
	}
	upward := m[2][0] == '>'
	at, side := 0.995, "below"
	if !upward {
		at, side = 0.005, "above"
	}
	q := spread[int(at*float64(len(spread)-1))]
	q, _ = strconv.ParseFloat(strconv.FormatFloat(q, 'g', 3, 64), 64)
	if upward && q <= limit || !upward && q >= limit {
		return Suggestion{}, false
	}
	text := strconv.FormatFloat(q, 'f', -1, 64)
	r.Raise = m[1] + " " + m[2] + " " + text + m[4]
	return Suggestion{Kind: "limit", Value: text, Rule: r,
		Figures: fmt.Sprintf("it is raised %.0f %% of the time; 99.5 %% of the readings are %s %s", share*100, side, figures(q))}, true
}

// extremes says of a rule that it is never raised, or always.
func extremes(a Ask, now, later Side, n int) []Suggestion {
	all := a.To.Sub(a.From) * time.Duration(max(n, 1))
	raised := now.Raised + later.Raised
	none := Side{Lost: math.NaN()}
	switch {
	case now.Alarms+later.Alarms == 0 && raised == 0:
		return []Suggestion{{Kind: "never", Rule: a.Rule, Before: none, After: none, JudgedOn: "all of it",
			Figures: fmt.Sprintf("it would never have been raised in %d days on %d devices; look whether its limit can be reached at all", int(a.To.Sub(a.From).Hours()/24), n)}}
	case raised > all*9/10:
		return []Suggestion{{Kind: "always", Rule: a.Rule, Before: none, After: none, JudgedOn: "all of it",
			Figures: fmt.Sprintf("it would have been raised %.0f %% of the time; an alarm that is always there tells nothing", 100*raised.Seconds()/all.Seconds())}}
	}
	return nil
}
