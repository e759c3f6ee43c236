package expr

import "math"

// Threshold is a condition that compares one metric with a limit that stays what it is. It
// is asked for many values one after the other, without a State; a replay goes through the
// quiet part of a history by it.
type Threshold struct {
	Slot  int     // of the metric
	fixed float64 // the other side
	left  bool    // the metric stands on the left
	shift float64 // of the right side
	rel   relation
	usual float64 // of the metric; NaN where it is not known
	// Headspace is offset + scale × value, from 0 to 1.
	offset, scale float64
}

// Threshold returns p as one, with the limit that s has; false if p is anything else.
func (p *Program) Threshold(s *State) (Threshold, bool) {
	n, negated := p.root, false
	for n.op == oNot {
		n, negated = n.kids[0], !negated
	}
	if n.op != oCompare || !n.rel.ordered() || n.aged || n.kids[0].typ.Kind != Number {
		return Threshold{}, false
	}
	metric := func(n *node) bool { return n.op == oNumberName && s.plan.names[n.slot].Name.Scope == "" }
	fixed := func(n *node) bool {
		return n.op == oNumber || n.op == oNumberName && s.plan.names[n.slot].Name.Scope == "set"
	}
	l, r := n.kids[0], n.kids[1]
	t := Threshold{rel: n.rel}
	m, f := l, r
	switch {
	case metric(l) && fixed(r):
		t.left = true
	case metric(r) && fixed(l):
		m, f = r, l
	default:
		return Threshold{}, false
	}
	v, ok := s.side(f)
	if !ok {
		return Threshold{}, false
	}
	t.Slot, t.fixed = int(m.slot), v
	if u, ok := s.usualOf(m); ok && !m.still {
		t.usual = u
	} else {
		t.usual = math.NaN()
	}
	if m.still {
		return Threshold{}, false
	}
	if n.shift != 0 {
		if t.shift = n.shift; n.rel == rGreater || n.rel == rAtLeast {
			t.shift = -n.shift
		}
	}
	if negated {
		t.rel = n.rel.opposite()
	}
	t.scales()
	return t, true
}

// Holds reports whether the condition is true for a value.
func (t *Threshold) Holds(v float64) bool {
	if t.left {
		return holds(t.rel, v, t.fixed+t.shift)
	}
	return holds(t.rel, t.fixed, v+t.shift)
}

// Headspace is the share of room that is left at a value, as Answer.Headspace tells it; NaN
// where it is not known.
func (t *Threshold) Headspace(v float64) float64 { return min(max(t.offset+t.scale*v, 0), 1) }

// scales works out what Headspace needs: the room at a value over that at the usual one.
func (t *Threshold) scales() {
	span := t.fixed + t.shift - t.usual
	if !t.left {
		span = t.usual + t.shift - t.fixed
	}
	away := span
	if t.rel == rLess || t.rel == rAtMost {
		away = -span
	}
	switch {
	case math.IsNaN(span) || math.IsInf(span, 0):
		t.offset, t.scale = math.NaN(), math.NaN()
	case away <= 0: // the usual value is at or beyond the limit
		t.offset, t.scale = 0, 0
	case t.left:
		t.offset, t.scale = (t.fixed+t.shift)/span, -1/span
	default:
		t.offset, t.scale = (t.shift-t.fixed)/span, 1/span
	}
}

// Hold is how long a reading is known of which no other follows, in ms.
func (p *Plan) Hold() int64 { return p.hold }
