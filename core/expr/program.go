package expr

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"ullage/core/unit"
	"ullage/core/value"
)

// Program is a checked expression, ready to be answered for States of the Plan
// it was compiled in.
type Program struct {
	// Source is the canonical form.
	Source string
	// Type is what the expression gives.
	Type Type
	// Timed says that the answer can change by the passing of time alone, other
	// than by values becoming too old.
	Timed bool
	// Raised are the rules that the expression asks about.
	Raised []string
	// Bare are the metrics that a number without unit was compared with.
	Bare []Name
	// Cost says what it takes to answer it.
	Cost Cost

	plan *Plan
	root *node
	tree *Node
}

// Cost is what an expression costs. Steps are nodes to be worked out for one
// answer; Windows and Bytes are what every device carries for it.
type Cost struct {
	Steps   int `json:"steps" doc:"Parts to be worked out for one answer"`
	Windows int `json:"windows" doc:"Windows that every device carries"`
	Bytes   int `json:"bytes" doc:"Memory that every device carries for them at its expected interval"`
}

// Compile parses and checks src in a Plan of its own.
func Compile(src string, s *Schema, purpose Purpose) (*Program, Findings) {
	return NewPlan(s).Compile(src, purpose)
}

// Compile parses src and checks it against the Plan's Schema. The Program is
// nil if there are errors; warnings may come with it.
func (p *Plan) Compile(src string, purpose Purpose) (*Program, Findings) {
	tree, found := Parse(src)
	broken := len(found.Errors()) > 0
	c := &checker{plan: p, schema: p.schema, purpose: purpose}
	p.access = p.access || purpose == ForAccess
	trial := *p
	if broken { // checked all the same, for what else is wrong, but nothing is kept
		c.plan = NewPlan(p.schema)
	}
	var root *node
	if purpose == ForMessage || purpose == ForGroupMessage || purpose == ForDerived {
		root = c.check(tree)
	} else {
		root = c.condition(tree)
	}
	found = append(found, c.found...)
	found = p.schema.unquoted(src, found)
	slices.SortStableFunc(found, func(a, b Finding) int { return a.Span.Start - b.Span.Start })
	found.place(src)
	if len(found.Errors()) > 0 {
		if !broken {
			trial.index = map[Name]int{}
			for i, n := range trial.names {
				trial.index[n.Name] = i
			}
			*p = trial
		}
		return nil, found
	}
	out := &Program{Source: tree.String(), Type: root.typ, Timed: c.timed, Raised: c.raised, Bare: c.bare, plan: p,
		root: root, tree: tree}
	out.Cost = Cost{Steps: c.nodes, Windows: c.windows, Bytes: p.bytes(root)}
	return out, found
}

// bytes estimates the memory for the windows under n.
func (p *Plan) bytes(n *node) int {
	total := 0
	series := map[int32]int64{}
	var walk func(n *node)
	walk = func(n *node) {
		switch n.op {
		case oWindow:
			w := p.windows[n.window]
			total += 200
			if w.panes >= 0 {
				total += (paneCount + 1) * 144
			} else {
				series[n.slot] = max(series[n.slot], w.width)
			}
			if w.needs&needOrder != 0 && p.schema.Interval > 0 {
				total += int(w.width/p.schema.Interval.Milliseconds()) * 12
			}
		case oTimeIn:
			total += 64 + 16*8
		}
		for _, k := range n.kids {
			walk(k)
		}
	}
	walk(n)
	for _, span := range series {
		readings := int64(60)
		if p.schema.Interval > 0 {
			readings = span/p.schema.Interval.Milliseconds() + 1
		}
		total += int(min(readings, maxRing)) * 16
	}
	return total
}

// Plan returns the Plan that p was compiled in.
func (p *Program) Plan() *Plan { return p.plan }

// Uses returns the slots of the names in p, each once.
func (p *Program) Uses() []int {
	var out []int
	var walk func(n *node)
	walk = func(n *node) {
		if n.slot >= 0 && !slices.Contains(out, int(n.slot)) {
			out = append(out, int(n.slot))
		}
		if n.op == oTimeIn {
			walk(p.plan.conds[n.window].node)
		}
		for _, k := range n.kids {
			walk(k)
		}
	}
	walk(p.root)
	return out
}

// WithDeadband returns the Program that says whether the condition of p has
// gone far enough for an alarm to return: its opposite, with every limit moved
// back by d. d is in the unit of the first comparison's left side, or in the
// difference of it; comparisons in other units of that dimension convert. It
// is an error if the comparisons have no one dimension.
func (p *Program) WithDeadband(d float64) (*Program, error) {
	if d == 0 {
		m := *p
		m.root = &node{op: oNot, kids: []*node{p.root}, typ: Type{Kind: Bool}, src: p.tree, slot: -1, window: -1,
			usual: nan}
		return &m, nil
	}
	var first *node
	var fail error
	var shift func(n *node) *node
	shift = func(n *node) *node {
		m := *n
		m.kids = make([]*node, len(n.kids))
		for i, k := range n.kids {
			if n.op == oGroup || n.op == oIfNumber || n.op == oIfText {
				m.kids[i] = k
				continue
			}
			m.kids[i] = shift(k)
		}
		if n.op != oCompare || !n.rel.ordered() || n.kids[0].typ.Kind != Number {
			return &m
		}
		u := n.kids[0].typ.Unit.Difference()
		if first == nil {
			first = &m
		}
		to := first.kids[0].typ.Unit.Difference()
		conv, err := to.To(u)
		if err != nil {
			fail = fmt.Errorf("a deadband needs one dimension in all comparisons, and there are %s and %s; write clear instead", to.Dimension, u.Dimension)
			return &m
		}
		m.shift = conv.Apply(d)
		return &m
	}
	root := shift(p.root)
	switch {
	case first == nil:
		return nil, fmt.Errorf("a deadband needs a comparison with <, <=, > or >=, and %s has none", clip(p.Source))
	case fail != nil:
		return nil, fail
	}
	m := *p
	m.root = &node{op: oNot, kids: []*node{root}, typ: Type{Kind: Bool}, src: p.tree, slot: -1, window: -1, usual: nan}
	return &m, nil
}

// Answer is what a condition gives at one time.
type Answer struct {
	Truth Truth
	// Margin is how far the condition is from becoming true, 1 at the usual
	// values and 0 at the limit; below 0 the limit has been passed. It is
	// positive only if Truth is False and negative only if it is True. NaN while
	// it is not known; infinite where no number decides.
	Margin float64
	// Until is when, nothing arriving, the answer may be another, in ms.
	Until int64

	usual float64
	leaf  *node
}

// Judge answers a condition at the time of s.
func (p *Program) Judge(s *State) Answer {
	s.until = math.MaxInt64
	a := s.judge(p.root, false, true)
	a.Until = s.until
	return a
}

// Truth answers a condition at the time of s, without margin. It is for
// selecting among many devices.
func (p *Program) Truth(s *State) Truth {
	s.until = math.MaxInt64
	return s.judge(p.root, false, false).Truth
}

// Headspace returns the share of room that is left, 0…1, and whether it is
// known; the reason tells why it is 0 where the value alone does not.
func (a Answer) Headspace() (h float64, known bool, reason string) {
	switch {
	case math.IsNaN(a.Margin), a.leaf == nil:
		return 0, false, ""
	case a.usual <= 0 && !math.IsInf(a.Margin, 0):
		return 0, true, "the usual value is at or beyond the limit"
	case math.IsInf(a.Margin, 0):
		return 0, false, ""
	}
	return min(max(a.Margin, 0), 1), true, ""
}

// Decider is the comparison that decides a margin.
type Decider struct {
	Of     string // the side that moves, as written: must_temp, rate(must_temp over 1h)
	Metric string // the metric in it, "" for none
	Value  float64
	Limit  float64
	Unit   unit.Unit
	Upward bool // the condition becomes true as the value grows
}

// Decider returns the comparison that decides a's margin.
func (p *Program) Decider(s *State, a Answer) (Decider, bool) {
	n := a.leaf
	if n == nil {
		return Decider{}, false
	}
	l, ok1 := s.num(n.kids[0])
	r, ok2 := s.num(n.kids[1])
	if !ok1 || !ok2 {
		return Decider{}, false
	}
	rel := n.rel
	side := 0
	if p.metric(n.kids[0]) == "" && p.metric(n.kids[1]) != "" {
		side = 1
		l, r = r, l
		rel = [...]relation{rEqual, rNotEqual, rGreater, rAtLeast, rLess, rAtMost}[rel]
	}
	d := Decider{Metric: p.metric(n.kids[side]), Of: n.kids[side].said, Value: l, Limit: r,
		Unit: n.kids[side].typ.Unit, Upward: rel == rGreater || rel == rAtLeast}
	return d, true
}

func (p *Program) metric(n *node) string {
	if n.slot >= 0 {
		if name := p.plan.names[n.slot].Name; name.Scope == "" {
			return name.Key
		}
	}
	if n.op == oTimeIn {
		return p.metric(p.plan.conds[n.window].node)
	}
	for _, k := range n.kids {
		if m := p.metric(k); m != "" {
			return m
		}
	}
	return ""
}

// Value returns what a Program for messages gives; the zero Value for unknown.
// Numbers are in the unit of the Program's Type.
func (p *Program) Value(s *State) value.Value {
	s.until = math.MaxInt64
	return s.value(p.root)
}

func (s *State) value(n *node) value.Value {
	switch n.typ.Kind {
	case Number, Time:
		if f, ok := s.num(n); ok {
			return value.OfNumber(f)
		}
	case Text, Version:
		if t, ok := s.text(n); ok {
			return value.OfText(t)
		}
	case Bool:
		if t := s.judge(n, false, false).Truth; t != Unknown {
			return value.OfBool(t == True)
		}
	}
	return value.Value{}
}

// Say writes what a Program for messages gives, with its unit and the decimals
// that the model gives the metric in it; a dash for unknown.
func (p *Program) Say(s *State) string {
	return p.say(p.root, p.Value(s))
}

func (p *Program) say(n *node, v value.Value) string {
	if !v.Known() {
		return "–"
	}
	switch n.typ.Kind {
	case Number:
		if n.typ.derived && n.typ.Unit.Dimension == (unit.Dimension{unit.Time: 1}) && n.op != oNumberName {
			u, _ := unit.Lookup("s")
			if c, err := n.typ.Unit.To(u); err == nil {
				return duration(math.Round(c.Apply(v.Num)) * 1000)
			}
		}
		decimals := p.decimals(n)
		if n.fn == wCount && n.op == oWindow {
			decimals = 0
		}
		text := ""
		switch {
		case decimals >= 0:
			text = value.Spaced(trimMinusZero(fmt.Sprintf("%.*f", decimals, v.Num)))
		default:
			if text = number(roundTo(v.Num, 4)); !strings.Contains(text, "e") {
				text = value.Spaced(text)
			}
		}
		if d := n.typ.Unit.Display(); d != "" {
			return text + " " + d
		}
		return text
	case Time:
		return value.FromMillis(int64(v.Num * 1000)).Format("2006-01-02 15:04:05 MST")
	}
	return v.String()
}

func trimMinusZero(s string) string {
	if strings.Trim(s, "-0.") == "" {
		return strings.TrimPrefix(s, "-")
	}
	return s
}

// roundTo rounds to so many figures, and never before the point: 23132.4 is 23132.
func roundTo(f float64, figures int) float64 {
	if f == 0 || !finite(f) {
		return f
	}
	scale := max(math.Pow(10, float64(figures)-math.Ceil(math.Log10(math.Abs(f)))), 1)
	if !finite(scale) {
		return f
	}
	return math.Round(f*scale) / scale
}

// decimals are those of the telemetry or setting whose unit n is in.
func (p *Program) decimals(n *node) int {
	if n.op == oWindow && n.fn == wRate {
		return -1
	}
	if n.slot >= 0 && (n.op == oNumberName || n.op == oWindow || n.op == oPrevious) {
		return p.plan.names[n.slot].Decimals
	}
	if n.op == oConvert || n.op == oMultiply || n.op == oDivide {
		return -1
	}
	best := -1
	for _, k := range n.kids {
		if k.typ.Kind == Number {
			best = max(best, p.decimals(k))
		}
	}
	return best
}
