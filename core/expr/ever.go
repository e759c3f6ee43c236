package expr

import "math"

// span is where a number can be.
type span struct{ low, high float64 }

var anywhere = span{math.Inf(-1), math.Inf(1)}

// Ever reports whether p can be true at all: not where it compares what a model lets a
// metric or a setting be with what is beyond that, or asks one metric to be in two places at
// once. What it cannot tell it takes to be possible.
func (p *Program) Ever() bool {
	canTrue, _ := p.can(p.root)
	return canTrue
}

// can tells whether a condition can be true, and whether it can be false.
func (p *Program) can(n *node) (canTrue, canFalse bool) {
	switch n.op {
	case oBool:
		return n.num != 0, n.num == 0
	case oNot:
		t, f := p.can(n.kids[0])
		return f, t
	case oOr:
		canFalse = true
		for _, k := range n.kids {
			t, f := p.can(k)
			canTrue, canFalse = canTrue || t, canFalse && f
		}
		return canTrue, canFalse
	case oAnd:
		canTrue = true
		within := map[int32]span{} // where each name has to be for all of them
		for _, k := range n.kids {
			t, f := p.can(k)
			canTrue, canFalse = canTrue && t, canFalse || f
			if slot, s, ok := p.bound(k); ok {
				was, known := within[slot]
				if !known {
					was = anywhere
				}
				within[slot] = span{max(was.low, s.low), min(was.high, s.high)}
				if within[slot].low > within[slot].high {
					canTrue = false
				}
			}
		}
		return canTrue, canFalse
	case oCompare:
		l, r := p.where(n.kids[0]), p.where(n.kids[1])
		switch n.rel {
		case rLess:
			return l.low < r.high, l.high >= r.low
		case rAtMost:
			return l.low <= r.high, l.high > r.low
		case rGreater:
			return l.high > r.low, l.low <= r.high
		case rAtLeast:
			return l.high >= r.low, l.low < r.high
		case rEqual:
			return l.low <= r.high && r.low <= l.high, true
		}
	}
	return true, true
}

// bound tells where a name has to be for a comparison with a fixed number to be true.
func (p *Program) bound(n *node) (slot int32, s span, ok bool) {
	if n.op != oCompare || n.kids[0].op != oNumberName || n.kids[1].op != oNumber {
		return 0, span{}, false
	}
	limit := n.kids[1].num
	switch s = anywhere; n.rel {
	case rLess:
		s.high = math.Nextafter(limit, math.Inf(-1))
	case rAtMost:
		s.high = limit
	case rGreater:
		s.low = math.Nextafter(limit, math.Inf(1))
	case rAtLeast:
		s.low = limit
	case rEqual:
		s = span{limit, limit}
	default:
		return 0, span{}, false
	}
	return n.kids[0].slot, s, true
}

// where tells where a number can be.
func (p *Program) where(n *node) span {
	switch n.op {
	case oNumber:
		return span{n.num, n.num}
	case oNumberName:
		i := p.plan.names[n.slot]
		out := anywhere
		if i.Low != nil {
			out.low = *i.Low
		}
		if i.High != nil {
			out.high = *i.High
		}
		return out
	case oGroup:
		if n.fn == gShare {
			return span{0, 100}
		}
	}
	return anywhere
}
