package expr

import "math"

// Part is one part of an explained expression: what it is at one time on one
// device.
type Part struct {
	Text  string `json:"text" doc:"The part as written"`
	Value string `json:"value" doc:"What it is, with its unit; a dash if unknown"`
	Exact any    `json:"exact,omitempty" doc:"The same for programs: a number with all of its digits, a text, or a truth"`
	Known bool   `json:"known" doc:"Whether it is known"`
	Truth string `json:"truth,omitempty" enum:"true,false,unknown" doc:"For conditions"`
	// Headspace is the room that is left before a condition becomes true.
	Headspace *float64 `json:"headspace,omitempty" doc:"Room left before the condition becomes true: 1 at the usual value, 0 at the limit"`
	Note      string   `json:"note,omitempty" doc:"Why it is unknown, or what else there is to say"`
	Parts     []Part   `json:"parts,omitempty" doc:"What it is made of"`
}

// Explain works out p and every part of it.
func (p *Program) Explain(s *State) Part {
	s.until = math.MaxInt64
	return p.explain(s, p.root, p.tree)
}

func (p *Program) explain(s *State, n *node, tree *Node) Part {
	v := s.value(n)
	out := Part{Text: tree.String(), Value: p.say(n, v), Known: v.Known()}
	if v.Known() && finite(v.Num) {
		out.Exact = v.Any()
	}
	if n.typ.Kind == Bool {
		a := s.judge(n, false, true)
		out.Truth = a.Truth.String()
		if h, ok, reason := a.Headspace(); ok {
			out.Headspace, out.Note = &h, reason
		}
	}
	if !out.Known {
		out.Note = p.why(s, n)
	}
	if n.op == oTimeIn {
		c := p.plan.conds[n.window].node
		out.Parts = []Part{p.explain(s, c, c.src)}
		return out
	}
	if n.op == oGroup {
		return out
	}
	for _, k := range n.kids {
		switch {
		case k.op == oNumber && k.literal, k.op == oText, k.op == oBool:
			continue // a value written down explains itself
		case k.op == oConvert:
			part := p.explain(s, k.kids[0], k.src)
			if v := s.value(k); v.Known() {
				part.Note = "= " + p.say(k, v)
			}
			out.Parts = append(out.Parts, part)
			continue
		}
		out.Parts = append(out.Parts, p.explain(s, k, k.src))
	}
	return out
}

// tooLarge says so where all that a calculation is made of is known.
func (s *State) tooLarge(n *node) string {
	for _, k := range n.kids {
		if _, ok := s.num(k); !ok {
			return ""
		}
	}
	return "the result is larger than any number that can be held"
}

// why tells why a part is unknown.
func (p *Program) why(s *State, n *node) string {
	if n.slot < 0 {
		switch n.op {
		case oDivide:
			if b, ok := s.num(n.kids[1]); ok && b == 0 {
				return "division by zero"
			}
			return s.tooLarge(n)
		case oAdd, oSubtract, oMultiply, oConvert:
			return s.tooLarge(n)
		case oToNumber:
			if t, ok := s.text(n.kids[0]); ok {
				return quote(clip(t)) + " is no number"
			}
		case oGroup:
			return "less than half of the group is known"
		case oTimeIn:
			return "less than half of the window is known"
		}
		return ""
	}
	info := p.plan.names[n.slot]
	x := s.names[n.slot]
	switch {
	case info.Absent:
		return p.plan.schema.Title + " has no " + info.Name.String()
	case n.op == oWindow && (n.fn == wMin || n.fn == wMax):
		return "no reading in the window"
	case x.Value.Known() && info.Name.Scope == "" && s.now-x.At > p.plan.hold:
		return "its last reading is " + duration(math.Round(float64(s.now-x.At)/1000)*1000) + " old, expected every " +
			duration(float64(p.plan.schema.Interval.Milliseconds()))
	case n.op == oWindow:
		return "less than half of the window is covered"
	case x.Value.Known():
		return ""
	case info.Name.Scope == "":
		return "never reported"
	case info.Name.Scope == "attr":
		return "the device has not told it"
	}
	return "not given"
}
