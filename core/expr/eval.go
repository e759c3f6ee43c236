package expr

import (
	"math"
	"slices"
	"strconv"
	"time"

	"ullage/core/value"
	"ullage/core/version"
)

// sample returns what a slot holds, if it is known: readings older than three
// times the expected interval are not.
func (s *State) sample(slot int32) (*Sample, bool) {
	if s.lookup != nil {
		s.find(slot)
	}
	x := &s.names[slot]
	if x.Value.Kind == value.None {
		return x, false
	}
	if x.At != 0 { // a reading
		if s.now-x.At > s.plan.hold {
			return x, false
		}
		s.until = min(s.until, x.At+s.plan.hold+1)
	}
	return x, true
}

func (s *State) wake(at int64) { s.until = min(s.until, max(at, s.now+1)) }

// poll makes the answer good until a window is to be looked at again: what is in it grows
// old. The moments do not depend on when it was looked at before, so that a replay looks at
// the same ones; they are other ones for other devices.
func (s *State) poll(width int64) {
	step := max(1000, width/paneCount)
	s.wake(s.now - (s.now-s.activated)%step + step)
}

// num works out a number. Overflow and division by zero are unknown.
func (s *State) num(n *node) (float64, bool) {
	switch n.op {
	case oNumber:
		return n.num, true
	case oNumberName:
		x, ok := s.sample(n.slot)
		return x.Value.Num, ok && (x.Value.Kind == value.Number)
	case oConvert:
		v, ok := s.num(n.kids[0])
		if v = n.conv.Apply(v); !finite(v) {
			return 0, false
		}
		return v, ok
	case oAdd, oSubtract, oMultiply, oDivide:
		a, ok1 := s.num(n.kids[0])
		b, ok2 := s.num(n.kids[1])
		if !ok1 || !ok2 {
			return 0, false
		}
		return calculate(n.op, a, b)
	case oNegate:
		v, ok := s.num(n.kids[0])
		return -v, ok
	case oAbs:
		v, ok := s.num(n.kids[0])
		return math.Abs(v), ok
	case oWindow:
		if s.plan.names[n.slot].Absent {
			return 0, false
		}
		s.poll(s.plan.windows[n.window].width)
		v, ok := s.look(int(n.window), n.fn)
		return v, ok && finite(v)
	case oTimeIn:
		s.poll(s.plan.conds[n.window].width)
		return s.timeIn(int(n.window))
	case oAge:
		if s.plan.names[n.slot].Absent {
			return 0, false
		}
		if n.num == 0 { // not compared with a fixed limit; see watchAge
			s.wake(s.now + 5000)
		}
		return s.age(n), true
	case oPrevious:
		x, ok := s.before(n.slot)
		return x.Num, ok && x.Kind == value.Number
	case oToNumber:
		t, ok := s.text(n.kids[0])
		if !ok {
			return 0, false
		}
		v, err := strconv.ParseFloat(t, 64)
		return v, err == nil && finite(v)
	case oNow:
		s.wake(s.now + 10_000)
		return float64(s.now) / 1000, true
	case oIfNumber:
		switch s.judge(n.kids[0], false, false).Truth {
		case True:
			return s.num(n.kids[1])
		case False:
			return s.num(n.kids[2])
		}
		if a, ok := s.num(n.kids[1]); ok { // the same either way
			if b, ok := s.num(n.kids[2]); ok && a == b {
				return a, true
			}
		}
	case oGroup:
		return s.group(n)
	}
	return 0, false
}

func calculate(o op, a, b float64) (float64, bool) {
	var v float64
	switch o {
	case oAdd:
		v = a + b
	case oSubtract:
		v = a - b
	case oMultiply:
		v = a * b
	default:
		if b == 0 {
			return 0, false
		}
		v = a / b
	}
	return v, finite(v)
}

// age returns seconds since the newest reading, or since activation.
func (s *State) age(n *node) float64 {
	at := s.activated
	if s.lookup != nil {
		s.find(n.slot)
	}
	if x := s.names[n.slot]; x.Value.Kind != value.None {
		at = x.At
	}
	return float64(max(0, s.now-at)) / 1000
}

// before returns the reading before the newest one, if the newest is known.
func (s *State) before(slot int32) (value.Value, bool) {
	if _, ok := s.sample(slot); !ok {
		return value.Value{}, false
	}
	x := s.previous[s.plan.previous[slot]].Value
	return x, x.Known()
}

func (s *State) text(n *node) (string, bool) {
	switch n.op {
	case oText:
		return n.text, true
	case oTextName:
		x, ok := s.sample(n.slot)
		if !ok && s.plan.names[n.slot].Name.Scope == "label" {
			return "", !s.plan.access
		}
		return x.Value.Text, ok && x.Value.Kind == value.Text
	case oPreviousText:
		x, ok := s.before(n.slot)
		return x.Text, ok && x.Kind == value.Text
	case oIfText:
		switch s.judge(n.kids[0], false, false).Truth {
		case True:
			return s.text(n.kids[1])
		case False:
			return s.text(n.kids[2])
		}
		if a, ok := s.text(n.kids[1]); ok { // the same either way
			if b, ok := s.text(n.kids[2]); ok && a == b {
				return a, true
			}
		}
	}
	return "", false
}

// group answers a function over the members of a group.
func (s *State) group(n *node) (float64, bool) {
	known, sum, low, high := 0, 0.0, math.Inf(1), math.Inf(-1)
	var all []float64 // for the median alone
	for _, m := range s.members {
		m.now = max(m.now, s.now)
		m.until = math.MaxInt64
		v, ok := 0.0, false
		if n.fn == gShare || n.fn == gCount {
			t := m.judge(n.kids[0], false, false).Truth
			ok = t != Unknown
			if t == True {
				v = 1
			}
		} else {
			v, ok = m.num(n.kids[0])
		}
		s.until = min(s.until, m.until)
		if ok {
			known++
			sum += v
			if n.fn == gMedian {
				all = append(all, v)
			}
			low, high = min(low, v), max(high, v)
		}
	}
	half := len(s.members) > 0 && 2*known >= len(s.members)
	switch n.fn {
	case gCount:
		return sum, true
	case gShare:
		return 100 * sum / float64(max(known, 1)), half
	case gMean:
		return sum / float64(max(known, 1)), half && finite(sum)
	case gSum:
		return sum, half && finite(sum)
	case gMin:
		return low, known > 0
	case gMax:
		return high, known > 0
	case gMedian:
		slices.Sort(all)
		if k := len(all) / 2; len(all)%2 == 1 {
			return all[k], half
		} else if len(all) > 0 {
			return all[k-1] + (all[k]-all[k-1])/2, half
		}
	}
	return 0, false
}

// usual works out what a number is on a good day: telemetry at its usual
// value, everything else as it is.
func (s *State) usualOf(n *node) (float64, bool) {
	switch n.op {
	case oNumberName, oPrevious:
		if s.plan.names[n.slot].Name.Scope != "" {
			return s.num(n)
		}
		u := n.usual
		if math.IsNaN(u) && s.usual != nil {
			u = s.usual[n.slot]
		}
		return u, !math.IsNaN(u)
	case oWindow:
		u := n.usual
		if math.IsNaN(u) && s.usual != nil {
			u = s.usual[n.slot]
			switch n.fn {
			case wSum:
				if s.plan.schema.Interval == 0 {
					return 0, false
				}
				u *= float64(s.plan.windows[n.window].width) / float64(s.plan.schema.Interval.Milliseconds())
			case wCount:
				return 0, false
			}
		}
		return u, !math.IsNaN(u)
	case oTimeIn:
		return 0, true
	case oGroup:
		switch n.fn {
		case gShare, gCount:
			return 0, true
		case gSum:
			u, ok := s.usualOf(n.kids[0])
			return u * float64(len(s.members)), ok
		}
		return s.usualOf(n.kids[0])
	case oAge:
		return float64(s.plan.schema.Interval.Milliseconds()) / 1000, true
	case oConvert:
		v, ok := s.usualOf(n.kids[0])
		return n.conv.Apply(v), ok
	case oAdd, oSubtract, oMultiply, oDivide:
		a, ok1 := s.usualOf(n.kids[0])
		b, ok2 := s.usualOf(n.kids[1])
		if !ok1 || !ok2 {
			return 0, false
		}
		return calculate(n.op, a, b)
	case oNegate:
		v, ok := s.usualOf(n.kids[0])
		return -v, ok
	case oAbs:
		v, ok := s.usualOf(n.kids[0])
		return math.Abs(v), ok
	case oIfNumber:
		switch s.judge(n.kids[0], false, false).Truth {
		case True:
			return s.usualOf(n.kids[1])
		case False:
			return s.usualOf(n.kids[2])
		}
		a, ok1 := s.usualOf(n.kids[1])
		b, ok2 := s.usualOf(n.kids[2])
		return a, ok1 && ok2 && a == b
	}
	return s.num(n)
}

var nan = math.NaN()

// guard answers a condition in which no number decides: true is no limit that
// could be approached, false keeps everything behind it away.
func guard(t Truth) Answer {
	switch t {
	case True:
		return Answer{Truth: True, Margin: math.Inf(-1), usual: math.Inf(-1)}
	case False:
		return Answer{Truth: False, Margin: math.Inf(1), usual: math.Inf(1)}
	}
	return Answer{Margin: nan, usual: nan}
}

func guardIf(t, negated bool) Answer { return guard(Of(t != negated)) }

// judge works out a condition, or its opposite where negated, and with margins
// how far it is from being true.
func (s *State) judge(n *node, negated, margins bool) Answer {
	switch n.op {
	case oCompare:
		return s.compare(n, negated, margins)
	case oNot:
		return s.judge(n.kids[0], !negated, margins)
	case oAnd, oOr:
		return s.joined(n, negated, margins)
	}
	return s.judgeOther(n, negated, margins)
}

func (s *State) joined(n *node, negated, margins bool) Answer {
	and := (n.op == oAnd) != negated
	out := s.judge(n.kids[0], negated, margins)
	for _, k := range n.kids[1:] {
		if !margins && (and && out.Truth == False || !and && out.Truth == True) {
			return out
		}
		out = join(and, out, s.judge(k, negated, margins))
	}
	return out
}

// judgeOther is apart so that the frame of judge, which is called over and
// over, stays small.
func (s *State) judgeOther(n *node, negated, margins bool) Answer {
	switch n.op {
	case oBool:
		return guardIf(n.num != 0, negated)
	case oBoolName:
		x, ok := s.sample(n.slot)
		if !ok || x.Value.Kind != value.Bool {
			return guard(Unknown)
		}
		return guardIf(x.Value.Num != 0, negated)
	case oPreviousBool:
		x, ok := s.before(n.slot)
		if !ok || x.Kind != value.Bool {
			return guard(Unknown)
		}
		return guardIf(x.Num != 0, negated)
	case oIfBool:
		c, a, b := s.judge(n.kids[0], false, margins), s.judge(n.kids[1], negated, margins), s.judge(n.kids[2], negated,
			margins)
		if c.Truth == Unknown {
			if a.Truth != b.Truth {
				return guard(Unknown)
			}
			return Answer{Truth: a.Truth, Margin: nan, usual: nan} // the same either way
		}
		return join(false, join(true, c, a), join(true, s.judge(n.kids[0], true, margins), b))
	case oCompareText:
		a, ok1 := s.text(n.kids[0])
		b, ok2 := s.text(n.kids[1])
		if !ok1 || !ok2 {
			return guard(Unknown)
		}
		return guardIf((a == b) == (n.rel == rEqual), negated)
	case oCompareBool:
		a, b := s.judge(n.kids[0], false, false).Truth, s.judge(n.kids[1], false, false).Truth
		if a == Unknown || b == Unknown {
			return guard(Unknown)
		}
		return guardIf((a == b) == (n.rel == rEqual), negated)
	case oCompareVersion:
		a, ok1 := s.text(n.kids[0])
		b, ok2 := s.text(n.kids[1])
		if !ok1 || !ok2 {
			return guard(Unknown)
		}
		c, ok := version.Compare(a, b)
		if !ok {
			return guard(Unknown)
		}
		return guardIf(holds(n.rel, float64(c), 0), negated)
	case oInNumbers:
		v, ok := s.num(n.kids[0])
		if !ok {
			return guard(Unknown)
		}
		for _, x := range n.nums {
			if x == v {
				return guardIf(true, negated)
			}
		}
		return guardIf(false, negated)
	case oInTexts, oLike:
		t, ok := s.text(n.kids[0])
		if !ok {
			return guard(Unknown)
		}
		if n.op == oLike {
			return guardIf(glob(n.text, t), negated)
		}
		for _, x := range n.texts {
			if x == t {
				return guardIf(true, negated)
			}
		}
		return guardIf(false, negated)
	case oChanged:
		x, ok := s.before(n.slot)
		if !ok {
			return guard(Unknown)
		}
		return guardIf(x != s.names[n.slot].Value, negated)
	case oHas:
		x, ok := s.sample(n.slot)
		if !ok && s.plan.access {
			return guard(Unknown)
		}
		return guardIf(ok && (x.Value.Kind != value.Text || x.Value.Text != "" ||
			s.plan.names[n.slot].Name.Scope != "label"), negated)
	case oDuring:
		if s.zone == nil {
			return guard(Unknown)
		}
		t := time.UnixMilli(s.now).In(s.zone)
		s.wake(s.now + 60_000 - s.now%60_000)
		return guardIf(n.week.contains(t), negated)
	}
	return guard(Unknown)
}

func holds(r relation, a, b float64) bool {
	switch r {
	case rEqual:
		return a == b
	case rNotEqual:
		return a != b
	case rLess:
		return a < b
	case rAtMost:
		return a <= b
	case rGreater:
		return a > b
	}
	return a >= b
}

// computed reports whether a number comes out of a calculation, which leaves a
// rest: 25.3 - 21.3 is not quite 4.
func (n *node) computed() bool { return n.op != oNumber && n.op != oNumberName }

// nearly compares what was calculated, to nine digits.
func nearly(a, b float64) bool {
	return math.Abs(a-b) <= max(1e-9*max(math.Abs(a), math.Abs(b)), 1e-12) || a == b
}

// side works out one side of a comparison; the two plainest are at hand.
func (s *State) side(n *node) (float64, bool) {
	switch n.op {
	case oNumber:
		return n.num, true
	case oNumberName:
		x, ok := s.sample(n.slot)
		return x.Value.Num, ok && x.Value.Kind == value.Number
	}
	return s.num(n)
}

// usualSide is what one side is on a good day, where it is v now.
func (s *State) usualSide(n *node, v float64) (float64, bool) {
	if n.still {
		return v, true
	}
	if n.usual == n.usual { // known from the model
		return n.usual, true
	}
	return s.usualOf(n)
}

func (s *State) compare(n *node, negated, margins bool) Answer {
	l, r := n.kids[0], n.kids[1]
	a, ok1 := s.side(l)
	b, ok2 := s.side(r)
	if !ok1 || !ok2 {
		return guard(Unknown)
	}
	rel := n.rel
	if n.shift != 0 {
		// The deadband moves the limit away from where the condition is true.
		if rel == rGreater || rel == rAtLeast {
			b -= n.shift
		} else if rel.ordered() {
			b += n.shift
		}
	}
	if n.aged {
		s.watchAge(n, b)
	}
	if negated {
		rel = rel.opposite()
	}
	t := Of(holds(rel, a, b))
	if !rel.ordered() && l.typ.Kind == Number && (l.computed() || r.computed()) {
		t = Of(nearly(a, b) == (rel == rEqual))
	}
	if !rel.ordered() || l.typ.Kind == Time {
		return guard(t)
	}
	if !margins {
		return Answer{Truth: t, leaf: n}
	}
	ua, ok1 := s.usualSide(l, a)
	ub, ok2 := s.usualSide(r, b)
	room, span := b-a, ub-ua
	if !ok1 || !ok2 || !finite(span) {
		return Answer{Truth: t, Margin: nan, usual: nan, leaf: n}
	}
	if rel == rLess || rel == rAtMost {
		room, span = -room, -span
	}
	switch {
	case span > 0:
		return Answer{Truth: t, Margin: bounded(room / span), usual: 1, leaf: n}
	case span < 0:
		return Answer{Truth: t, Margin: bounded(room / -span), usual: -1, leaf: n}
	}
	return Answer{Truth: t, leaf: n}
}

func bounded(f float64) float64 {
	if f > math.MaxFloat64 {
		return math.MaxFloat64
	}
	if f < -math.MaxFloat64 {
		return -math.MaxFloat64
	}
	return f
}

// watchAge makes the answer good until the very moment at which an age passes
// a fixed limit.
func (s *State) watchAge(n *node, limit float64) {
	for i, k := range n.kids {
		if k.op != oAge || k.num == 0 {
			continue
		}
		if i == 1 {
			limit, _ = s.num(n.kids[0])
		}
		if left := limit - s.age(k); left >= 0 && left < 1e9 {
			s.wake(s.now + int64(math.Ceil(left*1000)) + 1)
		}
	}
}

// join is and, or else or, of two answers. The margin of an and is the larger
// one, of an or the smaller; where one is not known, so is the result, unless
// the other alone decides.
func join(and bool, a, b Answer) Answer {
	decides := True
	if and {
		decides = False
	}
	switch {
	case a.Truth == b.Truth && a.Truth != Unknown:
		switch {
		case a.Margin != a.Margin || b.Margin != b.Margin: // one of them is NaN
			if a.Truth != decides {
				a.Margin, a.usual = nan, nan
			} else if a.Margin != a.Margin {
				return b // either keeps the whole where it is; one is enough
			}
			return a
		case (a.Margin >= b.Margin) == and:
			return widen(and, a, b.usual)
		}
		return widen(and, b, a.usual)
	case a.Truth == decides:
		return widen(and, a, b.usual)
	case b.Truth == decides:
		return widen(and, b, a.usual)
	}
	return guard(Unknown)
}

// widen joins what the two would be at their usual values into the one that
// decides now.
func widen(and bool, out Answer, with float64) Answer {
	switch {
	case with != with:
	case out.usual != out.usual, (with > out.usual) == and:
		out.usual = with
	}
	return out
}
