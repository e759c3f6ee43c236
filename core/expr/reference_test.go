package expr

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/unit"
	"ullage/core/value"
)

// reference answers expressions from scratch over every reading there is. It is
// slow, short and shares no code with the windows of a State.
type reference struct {
	plan      *Plan
	now       int64
	activated int64
	names     []Sample           // everything but telemetry
	readings  map[int][]observed // by slot, in order of time, one for each time
}

type observed struct {
	at int64
	v  value.Value
}

// upTo returns the readings of a slot that are not newer than now.
func (r *reference) upTo(slot int) []observed {
	all := r.readings[slot]
	n := len(all)
	for n > 0 && all[n-1].at > r.now {
		n--
	}
	return all[:n]
}

func (r *reference) latest(slot int) (value.Value, bool) {
	if r.plan.names[slot].Name.Scope != "" {
		return r.names[slot].Value, r.names[slot].Value.Known()
	}
	got := r.upTo(slot)
	if len(got) == 0 || r.now-got[len(got)-1].at > r.plan.hold {
		return value.Value{}, false
	}
	return got[len(got)-1].v, true
}

// window returns the readings in (now−w, now], its true start, and how much of
// it is covered, with the integral over it.
func (r *reference) window(slot int, w int64) (in []observed, cover int64, area float64) {
	start := r.now - w
	if w > MaxExactWindow.Milliseconds() {
		p := paneWidth(w)
		k := start / p
		start = (k+1)*p - 1 // readings from the first whole pane on
	}
	all := r.upTo(slot)
	for i, x := range all {
		if x.at > start {
			in = append(in, x)
		}
		end := min(x.at+r.plan.hold, r.now)
		if i+1 < len(all) {
			end = min(end, all[i+1].at)
		}
		from := max(x.at, start)
		if w > MaxExactWindow.Milliseconds() {
			from = max(x.at, start+1)
		}
		if end > from {
			cover += end - from
			area += x.v.Num * float64(end-from)
		}
	}
	return in, cover, area
}

func (r *reference) num(n *node) (float64, bool) {
	ok := func(v float64, ok bool) (float64, bool) { return v, ok && finite(v) }
	switch n.op {
	case oNumber:
		return n.num, true
	case oNumberName:
		v, known := r.latest(int(n.slot))
		return v.Num, known
	case oConvert:
		v, known := r.num(n.kids[0])
		return ok(n.conv.Apply(v), known)
	case oNegate:
		v, known := r.num(n.kids[0])
		return -v, known
	case oAbs:
		v, known := r.num(n.kids[0])
		return math.Abs(v), known
	case oAdd, oSubtract, oMultiply, oDivide:
		a, k1 := r.num(n.kids[0])
		b, k2 := r.num(n.kids[1])
		switch {
		case !k1 || !k2:
			return 0, false
		case n.op == oAdd:
			return ok(a+b, true)
		case n.op == oSubtract:
			return ok(a-b, true)
		case n.op == oMultiply:
			return ok(a*b, true)
		}
		return ok(a/b, b != 0)
	case oAge:
		at := r.activated
		if got := r.upTo(int(n.slot)); len(got) > 0 {
			at = got[len(got)-1].at
		}
		return float64(max(0, r.now-at)) / 1000, true
	case oPrevious:
		got := r.upTo(int(n.slot))
		if _, known := r.latest(int(n.slot)); !known || len(got) < 2 {
			return 0, false
		}
		return got[len(got)-2].v.Num, true
	case oIfNumber:
		switch r.truth(n.kids[0]) {
		case True:
			return r.num(n.kids[1])
		case False:
			return r.num(n.kids[2])
		}
		a, ok1 := r.num(n.kids[1])
		b, ok2 := r.num(n.kids[2])
		return a, ok1 && ok2 && a == b
	case oTimeIn:
		return r.timeIn(n)
	case oWindow:
		spec := r.plan.windows[n.window]
		in, cover, area := r.window(int(n.slot), spec.width)
		if n.fn == wCount {
			return float64(len(in)), true
		}
		var vs []float64
		for _, x := range in {
			vs = append(vs, x.v.Num)
		}
		if n.fn == wMin || n.fn == wMax {
			if len(vs) == 0 {
				return 0, false
			}
			if n.fn == wMin {
				return slices.Min(vs), true
			}
			return slices.Max(vs), true
		}
		if 2*cover < spec.width {
			return 0, false
		}
		if n.fn == wMeanT {
			return area / float64(cover), true
		}
		if len(vs) == 0 {
			return 0, false
		}
		sum := 0.0
		for _, v := range vs {
			sum += v
		}
		mean := sum / float64(len(vs))
		first, last := in[0], in[len(in)-1]
		sorted := slices.Sorted(slices.Values(vs))
		switch n.fn {
		case wMean:
			return mean, true
		case wSum:
			return sum, true
		case wFirst:
			return vs[0], true
		case wLast:
			return vs[len(vs)-1], true
		case wDelta:
			return last.v.Num - first.v.Num, true
		case wRate:
			return (last.v.Num - first.v.Num) / (float64(last.at-first.at) / 3600 / 1000), len(vs) > 1
		case wStddev:
			squares := 0.0
			for _, v := range vs {
				squares += (v - mean) * (v - mean)
			}
			return math.Sqrt(squares / float64(len(vs)-1)), len(vs) > 1
		case wMedian:
			if m := len(sorted) / 2; len(sorted)%2 == 0 {
				return (sorted[m-1] + sorted[m]) / 2, true
			}
			return sorted[len(sorted)/2], true
		case wP95:
			return sorted[int(math.Ceil(0.95*float64(len(sorted))))-1], true
		}
	}
	panic(fmt.Sprintf("the reference has no op %d", n.op))
}

// timeIn asks the condition at every millisecond at which its answer can
// change: at each reading, and when each becomes too old.
func (r *reference) timeIn(n *node) (float64, bool) {
	spec := r.plan.conds[n.window]
	start := r.now - spec.width
	moments := []int64{max(start, r.activated), r.now}
	for _, slot := range spec.slots {
		for _, x := range r.upTo(slot) {
			moments = append(moments, x.at, x.at+r.plan.hold+1)
		}
	}
	moments = slices.DeleteFunc(moments, func(t int64) bool { return t < start || t > r.now })
	slices.Sort(moments)
	moments = slices.Compact(moments)
	var isTrue, isKnown int64
	for i := 0; i+1 < len(moments); i++ {
		then := *r
		then.now = moments[i]
		length := moments[i+1] - moments[i]
		switch then.truth(spec.node) {
		case True:
			isTrue += length
			isKnown += length
		case False:
			isKnown += length
		}
	}
	return float64(isTrue) / 1000, 2*isKnown >= spec.width
}

func (r *reference) truth(n *node) Truth {
	switch n.op {
	case oBool:
		return Of(n.num != 0)
	case oBoolName:
		if v, ok := r.latest(int(n.slot)); ok {
			return Of(v.Bool())
		}
		return Unknown
	case oNot:
		return r.truth(n.kids[0]).Not()
	case oAnd, oOr:
		decides, seen := False, map[Truth]bool{}
		if n.op == oOr {
			decides = True
		}
		for _, k := range n.kids {
			seen[r.truth(k)] = true
		}
		switch {
		case seen[decides]:
			return decides
		case seen[Unknown]:
			return Unknown
		}
		return decides.Not()
	case oCompare:
		a, k1 := r.num(n.kids[0])
		b, k2 := r.num(n.kids[1])
		if !k1 || !k2 {
			return Unknown
		}
		if !n.rel.ordered() && n.kids[0].typ.Kind == Number && (n.kids[0].computed() || n.kids[1].computed()) {
			return Of(nearly(a, b) == (n.rel == rEqual))
		}
		return Of(holds(n.rel, a, b))
	case oChanged:
		got := r.upTo(int(n.slot))
		if _, ok := r.latest(int(n.slot)); !ok || len(got) < 2 {
			return Unknown
		}
		return Of(got[len(got)-1].v != got[len(got)-2].v)
	case oHas:
		_, ok := r.latest(int(n.slot))
		return Of(ok)
	case oIfBool:
		switch r.truth(n.kids[0]) {
		case True:
			return r.truth(n.kids[1])
		case False:
			return r.truth(n.kids[2])
		}
		if a, b := r.truth(n.kids[1]), r.truth(n.kids[2]); a == b {
			return a
		}
		return Unknown
	}
	panic(fmt.Sprintf("the reference has no op %d", n.op))
}

func mustUnit(symbol string) unit.Unit {
	u, err := unit.Lookup(symbol)
	if err != nil {
		panic(err)
	}
	return u
}

func usual(f float64) *float64 { return &f }

// cellar is the Schema of a tank probe with a few more things in it.
func cellar() *Schema {
	s := NewSchema("tank-probe 1.2.0", time.Minute)
	num := func(scope, key, symbol string, u *float64, decimals int) {
		s.Add(Info{Name: Name{scope, key}, Type: Type{Kind: Number, Unit: mustUnit(symbol)}, Usual: u,
			Decimals: decimals})
	}
	num("", "must_temp", "Cel", usual(22), 1)
	num("", "density", "g/L", usual(1045), 1)
	num("", "ullage", "cm", usual(37.5), 1)
	num("", "co2_flow", "L/min", usual(12.5), 1)
	num("", "rssi", "dBm", usual(-67), 0)
	num("", "pressure", "kPa", nil, 1)
	num("", "faults", "", nil, 0)
	num("", "ambient", "[degF]", nil, 1)
	num("set", "max_temp", "Cel", nil, 1)
	num("intended", "max_temp", "Cel", nil, 1)
	num("set", "report_every", "s", nil, 0)
	s.Add(Info{Name: Name{"", "fan_on"}, Type: Type{Kind: Bool}, Decimals: -1})
	s.Add(Info{Name: Name{"", "cycle"}, Type: Type{Kind: Text}, Values: []string{"idle", "filling", "pressing"},
		Closed: true, Decimals: -1})
	s.Add(Info{Name: Name{"", "Must-Temp"}, Type: Type{Kind: Number, Unit: mustUnit("Cel")}, Decimals: 1})
	s.Add(Info{Name: Name{"attr", "firmware"}, Type: Type{Kind: Text}, Decimals: -1})
	s.Add(Info{Name: Name{"raised", "must_too_warm"}, Type: Type{Kind: Bool}, Decimals: -1})
	s.Labelled(map[string][]string{"stage": {"empty", "fermenting", "resting"}, "site": {"fennimore", "kilnside"},
		"floor": {"1", "3"}})
	return s
}

// randomly writes a random condition over the cellar's Schema.
func randomly(r *rand.Rand, depth int) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	windows := []string{"1min", "5min", "10min", "1h", "90min", "3h"}
	var quantity func(d int) string
	quantity = func(d int) string { // in K or °C differences are avoided: density only
		switch r.IntN(9) {
		case 0:
			return pick("density", "pressure * 2 'g/L' / 1 'kPa'", "previous(density)")
		case 1:
			return fmt.Sprintf("%d", 1000+r.IntN(100))
		case 2:
			if d > 0 {
				return "(" + quantity(d-1) + ") + (" + pick("density", "2 'g/L'", "delta(density over 5min)") + ")"
			}
		case 3:
			if d > 0 {
				return "if " + randomly(r, d-1) + " then " + quantity(0) + " else density"
			}
		}
		fn := pick("mean", "weighted_mean", "min", "max", "first", "last", "median", "p95")
		w := pick(windows...)
		if fn == "median" || fn == "p95" {
			w = pick(windows[:4]...)
		}
		return fn + "(density over " + w + ")"
	}
	switch r.IntN(14) {
	case 0:
		return "must_temp > set.max_temp"
	case 1:
		return pick("fan_on", "changed(density)", "has(density)", "changed(cycle)")
	case 2:
		return "count(" + pick("density", "fan_on", "cycle") + " over " + pick(windows...) + ") < " +
			fmt.Sprint(r.IntN(40))
	case 3:
		return "age(" + pick("density", "must_temp") + ") > " + pick("90s", "3min", "10min")
	case 4:
		return "stddev(density over " + pick(windows...) + ") > " + fmt.Sprint(r.IntN(9))
	case 5:
		return "rate(must_temp over " + pick(windows...) + ") > " + fmt.Sprint(r.IntN(20)-10) + " 'K/h'"
	case 6:
		return "time_in(" + pick("must_temp > 22", "fan_on and density > 1040", "not fan_on",
			"density between 1030 and 1050 or must_temp < 20") + " over " + pick(windows...) + ") > " + pick("30s", "2min", "20min")
	case 7:
		return "mean(fan_on over " + pick(windows...) + ") > 0.5"
	case 8, 9, 10:
		if depth > 0 {
			return "(" + randomly(r, depth-1) + ") " + pick("and", "or") + " (" + randomly(r, depth-1) + ")"
		}
	case 11:
		if depth > 0 {
			return "not (" + randomly(r, depth-1) + ")"
		}
	case 12:
		if depth > 0 {
			return "if " + randomly(r, depth-1) + " then " + randomly(r, depth-1) + " else " + randomly(r, depth-1)
		}
	}
	return "density " + pick(">", "<", ">=", "<=") + " " + quantity(depth)
}

// story makes readings of an hour or some, with gaps.
func story(r *rand.Rand, plan *Plan, start int64) []observation {
	var out []observation
	at := map[int]int64{}
	for slot, n := range plan.Names() {
		if n.Name.Scope != "" {
			continue
		}
		t := start + r.Int64N(60_000)
		v := 1045.0
		for range 40 + r.IntN(260) {
			t += 1000 + r.Int64N(90_000)
			if r.IntN(40) == 0 {
				t += r.Int64N(1_200_000)
			}
			v += float64(r.IntN(21)-10) / 4
			x := value.OfNumber(v)
			switch n.Type.Kind {
			case Bool:
				x = value.OfBool(r.IntN(3) > 0)
			case Text:
				x = value.OfText([]string{"idle", "pressing"}[r.IntN(2)])
			default:
				if n.Name.Key == "must_temp" {
					x = value.OfNumber(22 + (v-1045)/8)
				}
			}
			out = append(out, observation{slot, t, x})
		}
		at[slot] = t
	}
	slices.SortStableFunc(out, func(a, b observation) int { return cmp.Compare(a.at, b.at) })
	return out
}

type observation struct {
	slot int
	at   int64
	v    value.Value
}

func (r *reference) take(o observation) {
	list := r.readings[o.slot]
	i, found := slices.BinarySearchFunc(list, o.at, func(x observed, at int64) int { return cmp.Compare(x.at, at) })
	if found {
		list[i].v = o.v
		return
	}
	r.readings[o.slot] = slices.Insert(list, i, observed{o.at, o.v})
}

// close reports whether two answers of a number may be of one value.
func alike(a, b float64) bool {
	return a == b || math.Abs(a-b) <= 1e-9*math.Max(1, math.Max(math.Abs(a), math.Abs(b)))
}

// refill makes a State anew from everything that was read, in the room of an old one if there is one.
func refill(plan *Plan, ref *reference, now int64, s *State) *State {
	if s == nil {
		s = plan.NewState(value.FromMillis(ref.activated))
	} else {
		s.Renew(value.FromMillis(ref.activated))
	}
	var all []observation
	for slot, list := range ref.readings {
		for i, x := range list {
			if i >= len(list)-2 || x.at >= now-plan.Reach().Milliseconds() {
				all = append(all, observation{slot, x.at, x.v})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b observation) int {
		return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.slot, b.slot))
	})
	for slot, x := range ref.names {
		if x.Value.Known() {
			s.Set(slot, x)
		}
	}
	for _, o := range all {
		s.Observe(o.slot, o.at, o.v)
	}
	s.Advance(value.FromMillis(now))
	return s
}

func TestIncrementalEqualsReference(t *testing.T) {
	rounds := 150
	if testing.Short() {
		rounds = 60
	}
	asked, known, restarts, margins := 0, 0, 0, 0
	for seed := range rounds {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		plan := NewPlan(cellar())
		var programs []*Program
		for range 4 {
			src := randomly(r, 2)
			p, found := plan.Compile(src, ForRule)
			if p == nil {
				t.Fatalf("%s: %v", src, found)
			}
			programs = append(programs, p)
		}
		start := int64(1_772_000_000_000)
		ref := &reference{plan: plan, activated: start, now: start, names: make([]Sample, len(plan.Names())),
			readings: map[int][]observed{}}
		s := plan.NewState(value.FromMillis(start))
		if slot, ok := plan.Slot(Name{"set", "max_temp"}); ok {
			x := Sample{Value: value.OfNumber(23)}
			ref.names[slot] = x
			s.Set(slot, x)
		}
		observations := story(r, plan, start)
		// Some come late, some twice, some again with another value.
		for range len(observations) / 12 {
			i := r.IntN(len(observations))
			j := min(len(observations)-1, i+r.IntN(6))
			o := observations[i]
			switch r.IntN(3) {
			case 0:
				copy(observations[i:j], observations[i+1:j+1])
				observations[j] = o
			case 1:
				observations = slices.Insert(observations, j, o)
			default:
				if o.v.Kind == value.Number {
					o.v.Num += 3
				}
				observations = slices.Insert(observations, j+1, o)
			}
		}
		for i, o := range observations {
			ref.take(o)
			s.Observe(o.slot, o.at, o.v)
			ref.now = max(ref.now, o.at)
			if s.Late() || r.IntN(150) == 0 {
				old := s
				if restarts++; restarts%2 == 0 {
					old = nil
				}
				s = refill(plan, ref, ref.now, old)
			}
			if r.IntN(5) == 0 { // time passes
				next := ref.now + r.Int64N(240_000)
				if i+1 < len(observations) {
					next = min(next, max(ref.now, observations[i+1].at-1))
				}
				ref.now = next
				s.Advance(value.FromMillis(next))
			}
			if r.IntN(4) != 0 {
				continue
			}
			for _, p := range programs {
				a := p.Judge(s)
				want := ref.truth(p.root)
				asked++
				if want != Unknown {
					known++
				}
				if a.Truth != want && !closeCall(ref, p.root) {
					t.Fatalf("seed %d, reading %d: %s is %s, the reference says %s", seed, i, p.Source, a.Truth, want)
				}
				if quick := p.Truth(s); quick != a.Truth {
					t.Fatalf("%s is %s with margins and %s without", p.Source, a.Truth, quick)
				}
				if a.Margin > 0 && a.Truth != False || a.Margin < 0 && a.Truth != True {
					t.Fatalf("seed %d: %s is %s with margin %g", seed, p.Source, a.Truth, a.Margin)
				}
				if finite(a.Margin) {
					margins++
				}
				numbers(p.root, func(n *node) {
					got, ok1 := s.num(n)
					want, ok2 := ref.num(n)
					if ok1 != ok2 || ok1 && !alike(got, want) {
						t.Fatalf("seed %d, reading %d: in %s, %s is %v %v, the reference says %v %v", seed, i, p.Source,
							n.src, got, ok1, want, ok2)
					}
				})
			}
		}
	}
	t.Logf("%d answers compared, %d known, %d with a margin, over %d restarts", asked, known, margins, restarts)
	if known < asked/2 || margins < asked/4 || restarts < rounds {
		t.Error("too few answers were known to mean anything")
	}
}

func numbers(n *node, yield func(*node)) {
	if n.op == oWindow || n.op == oTimeIn || n.op == oAge || n.op == oPrevious {
		yield(n)
	}
	for _, k := range n.kids {
		numbers(k, yield)
	}
}

// closeCall reports whether a comparison in n is so close that rounding may
// decide it.
func closeCall(r *reference, n *node) bool {
	if n.op == oCompare {
		a, ok1 := r.num(n.kids[0])
		b, ok2 := r.num(n.kids[1])
		if ok1 && ok2 && alike(a, b) && a != b {
			return true
		}
		if ok1 && ok2 && alike(a, b) && strings.Contains(n.src.String(), "(") {
			return true
		}
	}
	return slices.ContainsFunc(n.kids, func(k *node) bool { return closeCall(r, k) })
}
