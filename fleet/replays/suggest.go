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

	"ullage/core/rule"
	"ullage/core/stats"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// Suggestion is a change of a rule that the data gives. It is computed from some of the
// devices and the first half of the time, and judged on others, or on the second half.
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

// halves are what suggestions are computed from, and what they are judged on.
type halves struct {
	fit, judge []string
	mid        time.Time
	on         string
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
	h := r.split(a, sets)
	if len(h.fit)+len(h.judge) == 0 {
		return []Suggestion{}, nil
	}
	fit := a
	fit.To = h.mid
	now, err := r.all(ctx, fit, h.fit, sets)
	if err != nil {
		return nil, err
	}
	var tries []Suggestion
	metric, limit, upward := compared(&a.Rule, sets)
	if metric != "" {
		noise, spread, err := r.noise(ctx, fit, h.fit, metric)
		if err != nil {
			return nil, err
		}
		if s, ok := deadband(a.Rule, noise, now); ok {
			tries = append(tries, s)
		}
		if s, ok := limitFrom(a.Rule, spread, limit, upward, now, h, fit); ok {
			tries = append(tries, s)
		}
	}
	if s, ok := onDelay(a.Rule, now); ok {
		tries = append(tries, s)
	}
	out := []Suggestion{}
	judge := a
	if len(h.judge) == 0 {
		judge.From = h.mid
		h.judge = h.fit
	} else {
		judge.From = h.mid
	}
	before, err := r.all(ctx, judge, h.judge, sets)
	if err != nil {
		return nil, err
	}
	for _, s := range tries {
		next, err := r.sets([]*rule.Rule{&s.Rule})
		if err != nil {
			continue // a condition that takes no deadband
		}
		changed := judge
		changed.Rule = s.Rule
		if s.After, err = r.all(ctx, changed, h.judge, next); err != nil {
			return nil, err
		}
		s.Before, s.JudgedOn = before, h.on
		out = append(out, s)
	}
	return append(out, extremes(a, now, before, h)...), nil
}

// split parts the devices of a rule into those that suggestions are computed from and those
// that they are judged on, and the time into two halves.
func (r *Replays) split(a Ask, sets map[string][]*set) halves {
	h := halves{mid: a.From.Add(a.To.Sub(a.From) / 2)}
	among := idSet(a.Devices)
	for _, d := range r.o.Devices.List() {
		if d.Status == devices.Retired || among != nil && !among[d.ID] || sets[d.Model] == nil {
			continue
		}
		x := fnv.New32a()
		x.Write([]byte(d.ID))
		if x.Sum32()%2 == 0 {
			h.fit = append(h.fit, d.ID)
		} else {
			h.judge = append(h.judge, d.ID)
		}
	}
	if len(h.fit) < 2 || len(h.judge) < 2 {
		h.fit, h.judge = append(h.fit, h.judge...), nil
		h.on = "the second half of the time, which it was not computed from"
		return h
	}
	h.on = fmt.Sprintf("%d other devices in the second half of the time, which it was not computed from", len(h.judge))
	return h
}

// all replays a rule on some devices, and adds up.
func (r *Replays) all(ctx context.Context, a Ask, ids []string, sets map[string][]*set) (Side, error) {
	sum := Side{Lost: math.NaN()}
	a.Live = false
	for _, id := range ids {
		if err := ctx.Err(); err != nil {
			return sum, err
		}
		one, err := r.device(ctx, a, id, sets)
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

// compared is what a rule compares first, where that is one metric with a limit.
func compared(r *rule.Rule, sets map[string][]*set) (metric string, limit float64, upward bool) {
	m := literal.FindStringSubmatch(strings.TrimSpace(r.Raise))
	if m != nil {
		limit, _ = strconv.ParseFloat(m[3], 64)
		return m[1], limit, m[2][0] == '>'
	}
	limit = math.NaN()
	for _, ss := range sets {
		for _, s := range ss {
			if s != nil && s.main.Metric != "" {
				return s.main.Metric, limit, !strings.Contains(r.Raise, "<")
			}
		}
	}
	return "", limit, false
}

// literal is a condition with one number that can be put in another's place.
var literal = regexp.MustCompile(`^([a-z][a-z0-9_]*) (>=?|<=?) (-?\d+(?:\.\d+)?)$`)

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

func figures(x float64) string { return strconv.FormatFloat(x, 'g', 3, 64) }

// deadband is three times the noise, for a rule with less whose alarms come in numbers.
func deadband(r rule.Rule, noise float64, now Side) (Suggestion, bool) {
	d, _ := strconv.ParseFloat(strconv.FormatFloat(nice(3*noise), 'g', 6, 64), 64)
	if math.IsNaN(noise) || noise <= 0 || r.Clear != "" || r.Deadband >= 0.8*d || now.Alarms == 0 {
		return Suggestion{}, false
	}
	r.Deadband = d
	return Suggestion{Kind: "deadband", Value: figures(d), Rule: r,
		Figures: fmt.Sprintf("the noise is ± %s; three times that is beyond it", figures(noise))}, true
}

var delays = []time.Duration{30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute}

// onDelay is longer than the alarms that are over before anybody could act, where these are
// many and the others last much longer.
func onDelay(r rule.Rule, now Side) (Suggestion, bool) {
	var lasted []float64
	for _, s := range now.Spans {
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
		on := r.OnDelay.Std() + d
		r.OnDelay = value.Duration(on)
		return Suggestion{Kind: "on_delay", Value: r.OnDelay.String(), Rule: r,
			Figures: fmt.Sprintf("%d of %d alarms were over within %s, before anybody could act", gone, len(lasted), value.Duration(d))}, true
	}
	return Suggestion{}, false
}

// limitFrom is a limit from the distribution, for a rule that is raised more than one part
// in twenty of the time.
func limitFrom(r rule.Rule, spread []float64, limit float64, upward bool, now Side, h halves, a Ask) (Suggestion, bool) {
	if math.IsNaN(limit) || len(spread) < 500 || len(h.fit) == 0 {
		return Suggestion{}, false
	}
	share := now.Raised.Seconds() / (a.To.Sub(a.From).Seconds() * float64(len(h.fit)))
	if share < 0.05 {
		return Suggestion{}, false
	}
	at := 0.995
	if !upward {
		at = 0.005
	}
	q := spread[int(at*float64(len(spread)-1))]
	q, _ = strconv.ParseFloat(strconv.FormatFloat(q, 'g', 3, 64), 64)
	if upward && q <= limit || !upward && q >= limit {
		return Suggestion{}, false
	}
	m := literal.FindStringSubmatch(strings.TrimSpace(r.Raise))
	r.Raise = fmt.Sprintf("%s %s %s", m[1], m[2], strconv.FormatFloat(q, 'f', -1, 64))
	return Suggestion{Kind: "limit", Value: strconv.FormatFloat(q, 'f', -1, 64), Rule: r,
		Figures: fmt.Sprintf("it is raised %.0f %% of the time; 99.5 %% of the readings are %s %s", share*100, map[bool]string{true: "below", false: "above"}[upward], figures(q))}, true
}

// extremes says of a rule that it never raises, or always.
func extremes(a Ask, now, later Side, h halves) []Suggestion {
	n := len(h.fit)
	if len(h.judge) > 0 && !strings.HasPrefix(h.on, "the second") {
		n += len(h.judge)
	}
	all := a.To.Sub(a.From) / 2 * time.Duration(max(n, 1))
	if strings.HasPrefix(h.on, "the second") {
		all *= 2
	}
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
