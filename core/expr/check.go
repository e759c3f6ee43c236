package expr

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"ullage/core/unit"
)

// op says what a node of a Program computes.
type op uint8

const (
	oBad op = iota
	oNumber
	oNumberName
	oConvert
	oAdd
	oSubtract
	oMultiply
	oDivide
	oNegate
	oAbs
	oWindow
	oTimeIn
	oAge
	oPrevious // number
	oToNumber
	oNow
	oIfNumber
	oGroup
	oText
	oTextName
	oPreviousText
	oIfText
	oBool
	oBoolName
	oPreviousBool
	oAnd
	oOr
	oNot
	oIfBool
	oCompare     // numbers and times
	oCompareText // == and != of texts and of booleans
	oCompareBool
	oCompareVersion
	oInNumbers
	oInTexts
	oLike
	oChanged
	oHas
	oDuring
)

// relation is a comparison operator.
type relation uint8

const (
	rEqual relation = iota
	rNotEqual
	rLess
	rAtMost
	rGreater
	rAtLeast
)

var relations = map[string]relation{"==": rEqual, "!=": rNotEqual, "<": rLess, "<=": rAtMost, ">": rGreater, ">=": rAtLeast}
var relationSigns = [...]string{"==", "!=", "<", "<=", ">", ">="}

func (r relation) ordered() bool { return r >= rLess }
func (r relation) opposite() relation {
	return [...]relation{rNotEqual, rEqual, rAtLeast, rGreater, rAtMost, rLess}[r]
}

// node is one typed part of a Program.
type node struct {
	// What is looked at for every answer stands first, within one cache line.
	op     op
	rel    relation
	fn     windowFunction
	aged   bool  // a comparison of an age with a fixed limit
	still  bool  // no telemetry in it: on a good day it is what it is now
	slot   int32 // -1 for none
	window int32 // of the plan's windows, or of its conditions
	num    float64
	usual  float64 // of telemetry; NaN where not known
	shift  float64 // deadband of a comparison, in the unit of its left side
	kids   []*node

	text    string
	texts   []string
	nums    []float64
	conv    unit.Conversion
	week    schedule
	typ     Type
	src     *Node
	values  []string // the texts it can have, for messages
	closed  bool
	literal bool // a number written down; it may be a point or a difference
}

// checker types one tree against a Plan's Schema.
type checker struct {
	plan    *Plan
	schema  *Schema
	purpose Purpose
	found   Findings
	inside  string // the function whose condition or operand is being checked
	windows int
	nodes   int
	raised  []string
	bare    []Name
	timed   bool
}

func (c *checker) grouped() bool { return c.purpose == ForGroup || c.purpose == ForGroupMessage }

func (c *checker) report(n *Node, suggest, format string, args ...any) *node {
	return c.reportAt(n.Span, suggest, format, args...)
}

func (c *checker) reportAt(s Span, suggest, format string, args ...any) *node {
	if len(c.found) < maxErrors {
		c.found = append(c.found, Finding{Span: s, Suggest: suggest, Sentence: fmt.Sprintf(format, args...)})
	}
	return nothing(&Node{Span: s}, Type{})
}

func (c *checker) warn(n *Node, suggest, format string, args ...any) {
	if len(c.found) < maxErrors {
		c.found = append(c.found, Finding{Span: n.Span, Suggest: suggest, Sentence: fmt.Sprintf(format, args...), Warning: true})
	}
}

func (c *checker) make(o op, t Type, n *Node, kids ...*node) *node {
	c.nodes++
	return &node{op: o, typ: t, src: n, kids: kids, usual: math.NaN(), slot: -1, window: -1}
}

// nothing stands where something is wrong.
func nothing(n *Node, t Type) *node {
	return &node{src: n, typ: t, slot: -1, window: -1, usual: math.NaN()}
}

func what(n *Node) string { return clip(n.String()) }

// condition checks that n is true or false.
func (c *checker) condition(n *Node) *node {
	x := c.check(n)
	if x.typ.Kind != Bool && x.typ.Kind != NoKind {
		example := what(n) + ` == "…"`
		if x.typ.Kind == Number || x.typ.Kind == Time || x.typ.Kind == Version {
			example = what(n) + " > …"
		}
		return c.report(n, "", "%s is %s; a condition compares it: %s", what(n), x.typ, example)
	}
	return x
}

func (c *checker) check(n *Node) *node {
	switch n.kind {
	case kBad:
		return nothing(n, Type{})
	case kNumber:
		x := c.make(oNumber, plainNumber, n)
		x.num, x.typ.bare, x.literal = n.num, true, true
		if n.unit != "" {
			u, err := unit.Lookup(n.unit)
			if err != nil {
				return c.report(n, "", "%s", err)
			}
			x.typ = numberIn(u)
		}
		return x
	case kDuration:
		x := c.make(oNumber, durationType(), n)
		x.num, x.literal = n.num/1000, true
		return x
	case kText:
		x := c.make(oText, Type{Kind: Text}, n)
		x.text, x.literal = n.text, true
		return x
	case kBool:
		x := c.make(oBool, Type{Kind: Bool}, n)
		x.num, x.literal = n.num, true
		return x
	case kName:
		return c.name(n, n.name)
	case kCall:
		return c.call(n)
	case kNegate:
		x := c.check(n.args[0])
		if !c.wantNumber(n.args[0], x) {
			return nothing(n, Type{})
		}
		if x.typ.Unit.Scale && !x.literal {
			return c.report(n, "", "%s is %s; minus it has no meaning", what(n.args[0]), x.typ)
		}
		return c.make(oNegate, x.typ, n, x)
	case kSum:
		return c.sum(n)
	case kTerm:
		return c.term(n)
	case kCompare:
		return c.compare(n)
	case kBetween:
		return c.between(n)
	case kIn:
		return c.in(n)
	case kLike:
		x := c.check(n.args[0])
		if x.typ.Kind != Text && x.typ.Kind != NoKind {
			return c.report(n.args[0], "", "like looks at text, and %s is %s", what(n.args[0]), x.typ)
		}
		out := c.make(oLike, Type{Kind: Bool}, n, x)
		out.text = n.text
		return out
	case kNot:
		return c.make(oNot, Type{Kind: Bool}, n, c.condition(n.args[0]))
	case kAnd, kOr:
		out := c.make(oAnd, Type{Kind: Bool}, n)
		if n.kind == kOr {
			out.op = oOr
		}
		for _, a := range n.args {
			out.kids = append(out.kids, c.condition(a))
		}
		return out
	case kIf:
		return c.choose(n)
	}
	return nothing(n, Type{})
}

func (c *checker) wantNumber(n *Node, x *node) bool {
	if x.typ.Kind == Number {
		return true
	}
	if x.typ.Kind != NoKind {
		suggest := ""
		if x.typ.Kind == Text && !x.literal {
			suggest = "to_number(" + n.String() + ")"
		}
		if suggest != "" {
			c.report(n, suggest, "%s is text; to calculate with it write %s", what(n), clip(suggest))
		} else {
			c.report(n, "", "%s is %s; a number is wanted here", what(n), x.typ)
		}
	}
	return false
}

func (c *checker) name(n *Node, name Name) *node {
	if f := functions[name.Key]; f != nil && name.Scope == "" {
		if _, ok := c.schema.Find(name); !ok {
			return c.report(n, "", "%s is a function: %s", name.Key, f.Form)
		}
	}
	info, ok := c.schema.Find(name)
	if !ok {
		return c.unknownName(n, name)
	}
	if !c.allowed(n, name) {
		return nothing(n, Type{})
	}
	if name.Scope == "label" {
		if seen, ok := c.schema.names[name]; !ok || len(seen.Values) == 0 {
			if near := c.schema.nearest("label", name.Key); near != "" && near != name.Key {
				c.warn(n, "label."+near, "no device has a label %s; did you mean label.%s?", name.Key, near)
			}
		}
	}
	o := map[Kind]op{Number: oNumberName, Time: oNumberName, Bool: oBoolName, Text: oTextName}[info.Type.Kind]
	x := c.make(o, info.Type, n)
	x.slot = int32(c.plan.slot(info))
	if info.Usual != nil && info.Type.Kind == Number {
		x.usual = *info.Usual
	}
	x.values, x.closed = info.Values, info.Closed
	return x
}

func (c *checker) unknownName(n *Node, name Name) *node {
	what := map[string]string{"": "telemetry", "set": "setting", "intended": "setting", "attr": "attribute", "device": "fact of a device"}[name.Scope]
	if what == "" {
		if near := Nearest(name.Scope, Scopes); near != "" {
			return c.report(n, near+"."+name.Key, "%s is no prefix; did you mean %s.%s?", clip(name.Scope), near, clip(name.Key))
		}
		return c.report(n, "", "%s is no prefix; one of %s is", clip(name.Scope), strings.Join(Scopes, ", "))
	}
	if name.Scope == "" {
		for _, scope := range []string{"set", "label", "attr", "device"} {
			if i, ok := c.schema.names[Name{scope, name.Key}]; ok && !i.Absent {
				full := scope + "." + name.Key
				return c.report(n, full, "%s is no telemetry of %s; did you mean %s?", clip(name.Key), c.schema.Title, full)
			}
		}
		if low := strings.ToLower(name.Key); low != name.Key && (low == "true" || low == "false") {
			return c.report(n, low, "%s is written %s", name.Key, low)
		}
	}
	if near := c.schema.nearest(name.Scope, name.Key); near != "" {
		full := Name{name.Scope, near}.String()
		return c.report(n, full, "no %s %s in %s; did you mean %s?", what, clip(name.Key), c.schema.Title, full)
	}
	if name.Scope == "device" {
		return c.report(n, "", "no %s %s; there are id, model, model_version, link, standing, joined and zone", what, clip(name.Key))
	}
	if f := Nearest(name.Key, functionNames()); f != "" && name.Scope == "" {
		return c.report(n, "", "no telemetry %s in %s; did you mean the function %s?", clip(name.Key), c.schema.Title, functions[f].Form)
	}
	return c.report(n, "", "no %s %s in %s", what, clip(name.Key), c.schema.Title)
}

func functionNames() []string {
	out := make([]string, len(Functions))
	for i, f := range Functions {
		out[i] = f.Name
	}
	return out
}

// allowed reports whether a name may stand in an expression of this purpose.
func (c *checker) allowed(n *Node, name Name) bool {
	switch c.purpose {
	case ForTarget, ForReach:
		ok := name.Scope == "label" || name.Scope == "device" && name.Key != "link" && name.Key != "standing" && name.Key != "zone"
		if name.Scope == "attr" && c.purpose == ForTarget {
			c.warn(n, "", "%s is written by the device, so a device can move itself in and out of this", name)
			return true
		}
		if !ok {
			c.report(n, "", "%s changes by itself, so it cannot choose devices here; labels, device.id, device.model, device.model_version and device.joined can", name)
		}
		return ok
	case ForGroup, ForGroupMessage:
		if c.inside == "" && name.Scope == "label" && c.schema.Each != "" && name.Key != c.schema.Each {
			c.report(n, "", "%s may differ within the group; of its labels only label.%s is the same for all", name, c.schema.Each)
			return false
		}
		if c.inside == "" && name.Scope != "label" {
			c.report(n, "", "%s is of one device, and this rule is about a group; put it into a function such as max_of(…) or share(…)", name)
			return false
		}
	}
	return true
}

// meet makes two numbers comparable and addable: a bare one takes the unit of
// the other, and units of one dimension convert to that of the left side, or of
// the side that is no constant.
func (c *checker) meet(n *Node, l, r *node, sum bool) (left, right *node, ok bool) {
	ln, rn := n.args[0], n.args[1]
	if n.kind == kBetween {
		rn = r.src
	}
	if l.typ.bare && r.typ.bare {
		return l, r, true
	}
	for _, x := range []struct{ bare, other *node }{{l, r}, {r, l}} {
		if !x.bare.typ.bare {
			continue
		}
		if x.other.typ.derived && !x.other.typ.Unit.IsOne() {
			example := example(x.other.typ.Unit)
			suggest := ""
			if x.bare.op == oNumber {
				suggest = number(x.bare.num) + " '" + example + "'"
				if x.other.typ.Unit.Dimension == (unit.Dimension{unit.Time: 1}) {
					suggest = number(x.bare.num) + "min"
				}
			}
			hint := suggest
			if hint == "" {
				hint = "… '" + example + "'"
			}
			c.report(x.bare.src, suggest, "%s of what? Beside %s it needs its unit, such as %s", what(x.bare.src), what(x.other.src), hint)
			return l, r, false
		}
		if x.other.slot >= 0 && x.bare.literal && x.bare.num != 0 {
			c.bare = append(c.bare, c.plan.names[x.other.slot].Name)
		}
		x.bare.typ = x.other.typ
		x.bare.typ.derived = false
		if sum { // a bare number beside a point is a distance, but not the one subtracted from
			x.bare.typ.Unit = x.other.typ.Unit.Difference()
		}
		return l, r, true
	}
	lu, ru := l.typ.Unit, r.typ.Unit
	if lu.Dimension != ru.Dimension {
		verb := "be compared with"
		if n.kind == kSum {
			verb = map[string]string{"+": "be added to", "-": "be subtracted from"}[n.op]
			ln, rn, lu, ru = rn, ln, ru, lu
		}
		c.report(n, "", "%s (%s) cannot %s %s (%s)", what(ln), named(lu), verb, what(rn), named(ru))
		return l, r, false
	}
	if lu.Scale != ru.Scale && !sum {
		switch {
		case l.literal && !r.literal:
			l.typ.Unit = pointOrDifference(l.typ.Unit, ru.Scale)
		case r.literal:
			r.typ.Unit = pointOrDifference(r.typ.Unit, lu.Scale)
		default:
			c.report(n, "", "%s is %s and %s is %s; one is a point on the scale, the other a distance", what(ln), l.typ, what(rn), r.typ)
			return l, r, false
		}
	}
	if l.op == oNumber && r.op != oNumber {
		return c.convert(l, r.typ.Unit), r, true
	}
	return l, c.convert(r, l.typ.Unit), true
}

func pointOrDifference(u unit.Unit, point bool) unit.Unit {
	if !point {
		return u.Difference()
	}
	if u.Symbol == "K" || u.Symbol == "dB" { // kelvin is both
		if p, err := unit.Lookup(map[string]string{"K": "K", "dB": "dBW"}[u.Symbol]); err == nil {
			return p
		}
	}
	return u
}

func example(u unit.Unit) string {
	switch u.Dimension {
	case unit.Dimension{unit.Temperature: 1, unit.Time: -1}:
		return "K/h"
	case unit.Dimension{unit.Time: 1}:
		return "min"
	}
	symbol := u.Symbol
	if before, ok := strings.CutSuffix(symbol, "/s"); ok {
		return before + "/h"
	}
	return symbol
}

func named(u unit.Unit) string {
	if d := u.Display(); d != "" {
		return d
	}
	return "plain number"
}

// convert returns n in another unit of the same dimension. Constants convert
// at once.
func (c *checker) convert(n *node, to unit.Unit) *node {
	from := n.typ.Unit
	if from.Scale != to.Scale {
		from = pointOrDifference(from, to.Scale)
	}
	conv, err := from.To(to)
	if err != nil || conv.Identity() {
		return n
	}
	if n.op == oNumber {
		m := *n
		m.typ.Unit = to
		if m.num, err = from.Literal(n.num, to); err != nil || !finite(m.num) {
			m.num = conv.Apply(n.num)
		}
		return &m
	}
	out := c.make(oConvert, Type{Kind: Number, Unit: to, derived: n.typ.derived}, n.src, n)
	out.conv = conv
	return out
}

func (c *checker) sum(n *Node) *node {
	l, r := c.check(n.args[0]), c.check(n.args[1])
	if l.typ.Kind == Time || r.typ.Kind == Time {
		return c.times(n, l, r)
	}
	lok, rok := c.wantNumber(n.args[0], l), c.wantNumber(n.args[1], r)
	if !lok || !rok {
		return nothing(n, Type{})
	}
	o := oAdd
	if n.op == "-" {
		o = oSubtract
	}
	// A literal beside a point is a distance: set.max_temp - 1.5 'K'. The one
	// that a point is subtracted from is a point: 32 - must_temp.
	lp, rp := l.typ.Unit.Scale && !l.typ.bare, r.typ.Unit.Scale && !r.typ.bare
	switch {
	case lp && r.literal && !r.typ.bare:
		r.typ.Unit, rp = r.typ.Unit.Difference(), false
	case rp && l.literal && !l.typ.bare && o == oAdd:
		l.typ.Unit, lp = l.typ.Unit.Difference(), false
	case rp && l.typ.bare && o == oSubtract:
		l.typ = r.typ
		lp = true
	}
	if lp && rp && o == oAdd {
		return c.report(n, "", "%s and %s are both %ss on a scale; their sum has no meaning, their difference (-) has", what(n.args[0]), what(n.args[1]), l.typ.Unit.Dimension)
	}
	if rp && !lp && o == oSubtract {
		return c.report(n, "", "%s is a %s on a scale and cannot be subtracted from a difference", what(n.args[1]), r.typ.Unit.Dimension)
	}
	bare := l.typ.bare && r.typ.bare
	l, r, ok := c.meetSum(n, l, r, lp, rp)
	if !ok {
		return nothing(n, Type{})
	}
	t := l.typ
	switch {
	case lp && rp:
		t.Unit = l.typ.Unit.Difference()
	case rp:
		t = r.typ
	}
	t.bare, t.derived = bare, l.typ.derived || r.typ.derived
	if lp || rp {
		t.derived = false
	}
	return c.make(o, t, n, l, r)
}

// meetSum brings both sides of a sum into one unit; differences convert
// without the zero of the scale.
func (c *checker) meetSum(n *Node, l, r *node, lp, rp bool) (*node, *node, bool) {
	if l.typ.bare || r.typ.bare || l.typ.Unit.Dimension != r.typ.Unit.Dimension {
		return c.meet(n, l, r, true)
	}
	switch {
	case lp == rp:
		return l, c.convert(r, l.typ.Unit), true
	case lp:
		return l, c.convert(r, l.typ.Unit.Difference()), true
	}
	return c.convert(l, r.typ.Unit.Difference()), r, true
}

func (c *checker) times(n *Node, l, r *node) *node {
	seconds := durationType()
	isDuration := func(x *node) bool { return x.typ.Kind == Number && x.typ.Unit.Dimension == seconds.Unit.Dimension }
	switch {
	case l.typ.Kind == NoKind || r.typ.Kind == NoKind:
		return nothing(n, Type{})
	case l.typ.Kind == Time && r.typ.Kind == Time && n.op == "-":
		return c.make(oSubtract, seconds, n, l, r)
	case l.typ.Kind == Time && isDuration(r):
		o := oAdd
		if n.op == "-" {
			o = oSubtract
		}
		return c.make(o, Type{Kind: Time}, n, l, c.convert(r, seconds.Unit))
	case r.typ.Kind == Time && isDuration(l) && n.op == "+":
		return c.make(oAdd, Type{Kind: Time}, n, c.convert(l, seconds.Unit), r)
	}
	return c.report(n, "", "%s is %s and %s is %s; a time minus a time is a duration, and a time plus or minus a duration is a time", what(n.args[0]), l.typ, what(n.args[1]), r.typ)
}

func (c *checker) term(n *Node) *node {
	l, r := c.check(n.args[0]), c.check(n.args[1])
	lok, rok := c.wantNumber(n.args[0], l), c.wantNumber(n.args[1], r)
	if !lok || !rok {
		return nothing(n, Type{})
	}
	for i, x := range []*node{l, r} {
		if x.typ.Unit.Scale && !x.typ.bare {
			if x.literal {
				x.typ.Unit = x.typ.Unit.Difference()
				continue
			}
			return c.report(n.args[i], "", "%s is a %s on a scale whose zero is arbitrary; multiplying or dividing it has no meaning, adding or subtracting a difference has", what(n.args[i]), x.typ.Unit.Dimension)
		}
	}
	o, t := oMultiply, Type{Kind: Number}
	if n.op == "*" {
		t.Unit = l.typ.Unit.Times(r.typ.Unit)
	} else {
		o = oDivide
		t.Unit = l.typ.Unit.Over(r.typ.Unit)
	}
	for _, e := range t.Unit.Dimension {
		if e > 20 || e < -20 || len(t.Unit.Symbol) > 200 {
			return c.report(n, "", "the unit of %s has grown beyond use", what(n))
		}
	}
	switch {
	case l.typ.bare && r.typ.bare:
		t.bare = true
	case r.typ.bare:
		t.Unit, t.derived = l.typ.Unit, l.typ.derived
	case l.typ.bare && n.op == "*":
		t.Unit, t.derived = r.typ.Unit, r.typ.derived
	default:
		t.derived = true
	}
	return c.make(o, t, n, l, r)
}

func (c *checker) compare(n *Node) *node {
	return c.relate(n, n.args[0], n.args[1], c.check(n.args[0]), c.check(n.args[1]), relations[n.op])
}

func (c *checker) relate(n, ln, rn *Node, l, r *node, rel relation) *node {
	boolean := Type{Kind: Bool}
	lk, rk := l.typ.Kind, r.typ.Kind
	if lk == NoKind || rk == NoKind {
		return nothing(n, boolean)
	}
	sign := relationSigns[rel]
	bad := func(at *Node, suggest, format string, args ...any) *node {
		x := c.report(at, suggest, format, args...)
		x.typ = boolean
		return x
	}
	if lk != rk {
		for _, x := range []struct {
			text, other   *node
			textN, otherN *Node
		}{{l, r, ln, rn}, {r, l, rn, ln}} {
			if x.text.typ.Kind != Text {
				continue
			}
			switch {
			case x.other.typ.Kind == Number && x.text.literal:
				if x.other.literal {
					return bad(n, "", "%s is text and %s is a number; they are never equal", what(x.textN), what(x.otherN))
				}
				return bad(x.textN, "", "%s is %s and %s is text; write a number without quotes", what(x.otherN), x.other.typ, what(x.textN))
			case x.other.typ.Kind == Number:
				s := "to_number(" + x.textN.String() + ")"
				return bad(x.textN, s, "%s is text and %s is a number; write %s %s %s", what(x.textN), what(x.otherN), clip(s), sign, what(x.otherN))
			case x.other.typ.Kind == Version:
				s := "version(" + x.textN.String() + ")"
				return bad(x.textN, s, "%s is text; compared with a version it is written %s", what(x.textN), clip(s))
			case x.other.typ.Kind == Time:
				s := "time(" + x.textN.String() + ")"
				return bad(x.textN, s, "%s is text; compared with a time it is written %s", what(x.textN), clip(s))
			case x.other.typ.Kind == Bool && x.text.literal && (x.text.text == "true" || x.text.text == "false"):
				return bad(x.textN, x.text.text, "%s is true or false; write %s without quotes", what(x.otherN), x.text.text)
			}
		}
		return bad(n, "", "%s is %s and %s is %s; they cannot be compared", what(ln), l.typ, what(rn), r.typ)
	}
	out := c.make(oCompare, boolean, n, l, r)
	out.rel = rel
	switch lk {
	case Number:
		l, r, ok := c.meet(&Node{kind: kCompare, op: sign, Span: n.Span, args: []*Node{ln, rn}}, l, r, false)
		if !ok {
			return nothing(n, boolean)
		}
		l.still, r.still = still(l, c.plan), still(r, c.plan)
		out.kids = []*node{l, r}
		if l.op == oNumber && r.op == oNumber {
			c.warn(n, "", "both sides are fixed, so this is always the same")
		}
		if l.op == oAge && r.op == oNumber {
			l.num, out.aged = 1, true
		} else if r.op == oAge && l.op == oNumber {
			r.num, out.aged = 1, true
		}
	case Version:
		out.op = oCompareVersion
	case Text, Bool:
		if rel.ordered() {
			if lk == Bool {
				return bad(n, "", "%s and %s are true or false and have no order; use == or !=", what(ln), what(rn))
			}
			return bad(n, "", "text has no order; compare versions with version(%s) %s version(%s), numbers with to_number(…)", what(ln), sign, what(rn))
		}
		out.op = oCompareText
		if lk == Bool {
			out.op = oCompareBool
		} else {
			c.possible(l, r, rn)
			c.possible(r, l, ln)
		}
	}
	return out
}

// still reports whether nothing that a device measures is in n.
func still(n *node, p *Plan) bool {
	switch n.op {
	case oWindow, oTimeIn, oAge, oPrevious, oGroup, oNow:
		return false
	}
	if n.slot >= 0 && p.names[n.slot].Name.Scope == "" {
		return false
	}
	for _, k := range n.kids {
		if !still(k, p) {
			return false
		}
	}
	return true
}

// possible checks a text literal against the values that the other side can have.
func (c *checker) possible(name, text *node, at *Node) {
	if !text.literal || len(name.values) == 0 || slices.Contains(name.values, text.text) {
		return
	}
	near := Nearest(text.text, name.values)
	hint := ""
	if near != "" {
		hint = "; did you mean " + quote(near) + "?"
		near = quote(near)
	}
	if name.closed {
		list := make([]string, 0, len(name.values))
		for _, v := range name.values {
			list = append(list, quote(v))
		}
		if hint == "" && len(list) <= 8 {
			hint = "; it is one of " + strings.Join(list, ", ")
		}
		c.report(at, near, "%s is never %s%s", what(name.src), quote(clip(text.text)), hint)
		return
	}
	if near != "" {
		c.warn(at, near, "no device has %s %s%s", what(name.src), quote(clip(text.text)), hint)
	}
}

func (c *checker) between(n *Node) *node {
	x, low, high := c.check(n.args[0]), c.check(n.args[1]), c.check(n.args[2])
	part := func(rel relation, limit *node, limitN *Node) *node {
		m := &Node{kind: kCompare, op: relationSigns[rel], Span: n.Span, args: []*Node{n.args[0], limitN}}
		side := *x // each half may convert in its own way
		return c.relate(m, n.args[0], limitN, &side, limit, rel)
	}
	if low.typ.Kind == Text || high.typ.Kind == Text || x.typ.Kind == Text || x.typ.Kind == Bool {
		return c.report(n, "", "%s compares sizes, and text and conditions have none", n.op)
	}
	if low.op == oNumber && high.op == oNumber && low.typ.Unit.Same(high.typ.Unit) && low.num > high.num {
		return c.report(n, "", "the first limit of %s is the smaller one; here nothing lies between %s and %s", n.op, what(n.args[1]), what(n.args[2]))
	}
	if n.op == "between" {
		return c.make(oAnd, Type{Kind: Bool}, n, part(rAtLeast, low, n.args[1]), part(rAtMost, high, n.args[2]))
	}
	return c.make(oOr, Type{Kind: Bool}, n, part(rLess, low, n.args[1]), part(rGreater, high, n.args[2]))
}

func (c *checker) in(n *Node) *node {
	x := c.check(n.args[0])
	out := c.make(oInTexts, Type{Kind: Bool}, n, x)
	if x.typ.Kind == Number {
		out.op = oInNumbers
	} else if x.typ.Kind != Text && x.typ.Kind != NoKind {
		return c.report(n.args[0], "", "in looks for a text or a number in a list, and %s is %s", what(n.args[0]), x.typ)
	}
	for _, a := range n.args[1:] {
		v := c.check(a)
		if v.typ.Kind == NoKind || x.typ.Kind == NoKind {
			continue
		}
		if v.typ.Kind != x.typ.Kind {
			c.report(a, "", "%s is %s, and %s in this list is %s", what(n.args[0]), x.typ, what(a), v.typ)
			continue
		}
		if v.typ.Kind == Text {
			c.possible(x, v, a)
			out.texts = append(out.texts, v.text)
			continue
		}
		side := *x
		if _, w, ok := c.meet(&Node{kind: kCompare, op: "==", Span: a.Span, args: []*Node{n.args[0], a}}, &side, v, false); ok {
			w = c.convert(w, x.typ.Unit)
			out.nums = append(out.nums, w.num)
		}
	}
	return out
}

func (c *checker) choose(n *Node) *node {
	cond, a, b := c.condition(n.args[0]), c.check(n.args[1]), c.check(n.args[2])
	if a.typ.Kind == NoKind || b.typ.Kind == NoKind {
		return nothing(n, Type{})
	}
	if a.typ.Kind != b.typ.Kind {
		return c.report(n, "", "then gives %s and else gives %s; both must be of one kind", a.typ, b.typ)
	}
	switch a.typ.Kind {
	case Bool:
		return c.make(oIfBool, a.typ, n, cond, a, b)
	case Text, Version:
		return c.make(oIfText, a.typ, n, cond, a, b)
	case Number:
		bare := a.typ.bare && b.typ.bare
		l, r, ok := c.meet(&Node{kind: kCompare, op: "==", Span: n.Span, args: []*Node{n.args[1], n.args[2]}}, a, b, false)
		if !ok {
			return nothing(n, Type{})
		}
		r = c.convert(r, l.typ.Unit)
		l = c.convert(l, r.typ.Unit)
		t := l.typ
		t.bare, t.derived = bare, l.typ.derived || r.typ.derived
		return c.make(oIfNumber, t, n, cond, l, r)
	}
	return c.make(oIfNumber, a.typ, n, cond, a, b)
}

// The bounds of windows.
const (
	MaxWindow      = 31 * 24 * time.Hour
	MaxExactWindow = time.Hour // longer windows are kept in panes
)

// width reads the window of a call.
func (c *checker) width(n *Node, limit time.Duration) (int64, bool) {
	x := n
	if x.kind != kDuration {
		if x.kind == kNumber && x.unit == "" {
			c.report(x, number(x.num)+"min", "a window has a length in time: %smin", number(x.num))
		} else if x.kind != kBad {
			c.report(x, "", "a window is a fixed length of time, such as 10min or 2h")
		}
		return 0, false
	}
	w := time.Duration(x.num) * time.Millisecond
	switch {
	case w < time.Second:
		c.report(x, "", "a window of nothing holds no readings")
		return 0, false
	case w > limit && limit == MaxExactWindow:
		c.report(x, "1h", "the middle and the percentiles are kept exactly, so their window is %s at most", duration(float64(limit.Milliseconds())))
		return 0, false
	case w > limit:
		c.report(x, "", "a window of %s is refused: every device would carry it in memory; %s is the longest, and ullage query looks back further", duration(x.num), duration(float64(limit.Milliseconds())))
		return 0, false
	}
	return w.Milliseconds(), true
}

// telemetry checks that n is a telemetry name, plain or as value("…").
func (c *checker) telemetry(call, n *Node) *node {
	name := n.name
	if n.kind == kCall && n.name.Key == "value" && len(n.args) == 1 && n.args[0].kind == kText {
		name = Name{Key: n.args[0].text}
	} else if n.kind == kBad {
		return nil
	} else if n.kind != kName || name.Scope != "" {
		c.report(n, "", "%s looks at the readings of one telemetry; %s is none", call.name.Key, what(n))
		return nil
	}
	was := c.inside
	if c.inside == "" && c.grouped() {
		c.report(call, "", "%s is of one device, and this rule is about a group; put it into a function such as max_of(…) or share(…)", what(call))
		return nil
	}
	x := c.name(n, name)
	c.inside = was
	if x.typ.Kind == NoKind {
		return nil
	}
	return x
}

func (c *checker) call(n *Node) *node {
	f := functions[n.name.Key]
	if f == nil {
		if near := Nearest(n.name.Key, functionNames()); near != "" {
			return c.reportAt(Span{n.Span.Start, n.Span.Start + len(n.name.Key)}, near, "there is no function %s; did you mean %s?", clip(n.name.Key), functions[near].Form)
		}
		return c.report(n, "", "there is no function %s", clip(n.name.Key))
	}
	want := strings.Count(f.Form, ",") + 1
	if strings.HasSuffix(f.Form, "()") {
		want = 0
	}
	if len(n.args) != want {
		return c.report(n, "", "%s takes %s: %s", f.Name, plural(want, "thing"), f.Form)
	}
	switch {
	case f.Family == FamilyGroup && !c.grouped():
		return c.report(n, "", "%s looks at a group of devices; it stands in rules with each: label.site", f.Name)
	case f.Family == FamilyWindow && c.purpose != ForRule && !c.grouped() && c.purpose != ForMessage:
		return c.report(n, "", "%s looks back over a window, which is kept for rules only; here present values are compared", f.Name)
	case f.Family == FamilyWindow && c.inside == "time_in":
		return c.report(n, "", "the condition of time_in is over present values; %s cannot stand in it", f.Name)
	}
	switch c.purpose {
	case ForTarget, ForReach:
		if f.Family == FamilyTime && f.Name != "time" || f.Name == "age" || f.Name == "raised" || f.Name == "changed" || f.Name == "previous" {
			return c.report(n, "", "%s changes by itself, so it cannot choose devices here", f.Name)
		}
	}
	if f.window {
		return c.overWindow(n, f)
	}
	switch f.Family {
	case FamilyGroup:
		return c.overGroup(n, f)
	case FamilyText:
		x := c.check(n.args[0])
		if x.typ.Kind != Text && x.typ.Kind != NoKind {
			return c.report(n.args[0], "", "%s reads a text, and %s is %s", f.Name, what(n.args[0]), x.typ)
		}
		if f.Name == "version" {
			if _, ok := parseVersion(x.text); x.literal && !ok {
				return c.report(n.args[0], "", "%s is no version; one looks like 2.10.0", what(n.args[0]))
			}
			y := *x
			y.typ, y.src, y.values = Type{Kind: Version}, n, nil
			return &y
		}
		out := c.make(oToNumber, plainNumber, n, x)
		out.typ.bare = true
		return out
	}
	boolean := Type{Kind: Bool}
	switch f.Name {
	case "time_in":
		return c.timeIn(n)
	case "value":
		if n.args[0].kind != kText {
			return c.report(n.args[0], "", "value takes the name of a telemetry in double quotes")
		}
		return c.name(n, Name{Key: n.args[0].text})
	case "changed", "previous", "age":
		if c.inside == "time_in" && f.Name == "age" {
			return c.report(n, "", "the condition of time_in is over present values; age cannot stand in it")
		}
		x := c.telemetry(n, n.args[0])
		if x == nil {
			return nothing(n, Type{})
		}
		if f.Name == "age" {
			out := c.make(oAge, durationType(), n)
			out.slot, c.timed = x.slot, true
			return out
		}
		if c.purpose == ForFilter {
			return c.report(n, "", "%s needs the reading before the newest, which is kept for rules only", f.Name)
		}
		c.plan.keepPrevious(int(x.slot))
		if f.Name == "changed" {
			out := c.make(oChanged, boolean, n)
			out.slot = x.slot
			return out
		}
		out := c.make(map[Kind]op{Number: oPrevious, Bool: oPreviousBool, Text: oPreviousText}[x.typ.Kind], x.typ, n)
		out.slot, out.usual, out.values, out.closed = x.slot, x.usual, x.values, x.closed
		return out
	case "has":
		a := n.args[0]
		if a.kind == kCall && a.name.Key == "value" && len(a.args) == 1 && a.args[0].kind == kText {
			a = &Node{kind: kName, name: Name{Key: a.args[0].text}, Span: a.Span}
		}
		if a.kind != kName {
			return c.report(a, "", "has asks for a name, such as has(label.row)")
		}
		x := c.name(a, a.name)
		if x.typ.Kind == NoKind {
			return nothing(n, Type{})
		}
		out := c.make(oHas, boolean, n, x)
		out.slot = x.slot
		return out
	case "raised":
		a := n.args[0]
		if a.kind != kName || a.name.Scope != "" {
			return c.report(a, "", "raised takes the name of a rule, such as raised(must_too_warm)")
		}
		name := Name{"raised", a.name.Key}
		info, ok := c.schema.Find(name)
		if !ok {
			hint := ""
			suggest := c.schema.nearest("raised", a.name.Key)
			if suggest != "" {
				hint = "; did you mean " + suggest + "?"
			}
			return c.report(a, suggest, "there is no rule %s%s", clip(a.name.Key), hint)
		}
		c.raised = append(c.raised, a.name.Key)
		out := c.make(oBoolName, boolean, n)
		out.slot = int32(c.plan.slot(info))
		return out
	case "abs":
		x := c.check(n.args[0])
		if !c.wantNumber(n.args[0], x) {
			return nothing(n, Type{})
		}
		if x.typ.Unit.Scale {
			return c.report(n, "", "%s is %s; without its sign it has no meaning", what(n.args[0]), x.typ)
		}
		return c.make(oAbs, x.typ, n, x)
	case "now":
		c.timed = true
		return c.make(oNow, Type{Kind: Time}, n)
	case "during":
		if n.args[0].kind != kText {
			return c.report(n.args[0], "", `during takes a text, such as during("Mon-Fri 06:00-22:00")`)
		}
		week, err := parseSchedule(n.args[0].text)
		if err != nil {
			return c.report(n.args[0], "", "%s", err)
		}
		out := c.make(oDuring, boolean, n)
		out.week, c.timed = week, true
		return out
	case "time":
		if n.args[0].kind != kText {
			return c.report(n.args[0], "", `time takes a text, such as time("2026-03-01")`)
		}
		at, ok := parseTime(n.args[0].text)
		if !ok {
			return c.report(n.args[0], "", `%s is no time; write a date, "2026-03-01", or a time as in RFC 3339, "2026-03-01T06:00:00Z"`, what(n.args[0]))
		}
		out := c.make(oNumber, Type{Kind: Time}, n)
		out.num = at
		return out
	}
	return c.report(n, "", "%s cannot be used here", f.Name)
}

func plural(n int, word string) string {
	switch n {
	case 0:
		return "nothing"
	case 1:
		return "one " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func (c *checker) overWindow(n *Node, f *Function) *node {
	x := c.telemetry(n, n.args[0])
	limit := MaxWindow
	if f.Name == "median" || f.Name == "p95" {
		limit = MaxExactWindow
	}
	w, ok := c.width(n.args[1], limit)
	if x == nil || !ok {
		return nothing(n, Type{})
	}
	fn := windowFunctions[f.Name]
	t := Type{Kind: Number, Unit: x.typ.Unit}
	switch {
	case fn == wCount:
		t = plainNumber
	case x.typ.Kind == Bool && (fn == wMean || fn == wMeanT || fn == wSum):
		t = plainNumber
	case x.typ.Kind != Number:
		return c.report(n.args[0], "", "%s calculates with numbers, and %s is %s; count, changed, previous and age take anything", f.Name, what(n.args[0]), x.typ)
	}
	switch fn {
	case wSum:
		if t.Unit.Scale {
			return c.report(n, "", "the sum of %ss on a scale has no meaning; avg has", t.Unit.Dimension)
		}
	case wDelta, wStddev:
		t.Unit = t.Unit.Difference()
	case wRate:
		hour, _ := unit.Lookup("h")
		t.Unit, t.derived = t.Unit.Over(hour), true
	}
	if c.windows++; c.windows > MaxWindows {
		return c.report(n, "", "an expression has %d windows at most; split it into several rules", MaxWindows)
	}
	out := c.make(oWindow, t, n)
	out.fn, out.slot, c.timed = fn, x.slot, true
	out.window = int32(c.plan.window(int(x.slot), w, fn))
	// What the function gives on a good day.
	switch fn {
	case wMean, wMeanT, wMin, wMax, wFirst, wLast, wMedian, wP95:
		out.usual = x.usual
	case wDelta, wRate, wStddev:
		out.usual = 0
	case wCount:
		if c.schema.Interval > 0 {
			out.usual = float64(w) / float64(c.schema.Interval.Milliseconds())
		}
	case wSum:
		if c.schema.Interval > 0 {
			out.usual = x.usual * float64(w) / float64(c.schema.Interval.Milliseconds())
		}
	}
	return out
}

func (c *checker) timeIn(n *Node) *node {
	was := c.inside
	if c.grouped() && was == "" {
		return c.report(n, "", "time_in is of one device, and this rule is about a group; put it into a function such as max_of(…)")
	}
	c.inside = "time_in"
	timed := c.timed
	x := c.condition(n.args[0])
	if c.timed != timed {
		c.report(n.args[0], "", "the condition of time_in is over present values; now() and during() cannot stand in it")
		return nothing(n, Type{})
	}
	c.inside = was
	w, ok := c.width(n.args[1], MaxWindow)
	if !ok || x.typ.Kind == NoKind {
		return nothing(n, Type{})
	}
	if c.windows++; c.windows > MaxWindows {
		return c.report(n, "", "an expression has %d windows at most; split it into several rules", MaxWindows)
	}
	out := c.make(oTimeIn, durationType(), n)
	out.window, out.usual, c.timed = int32(c.plan.condition(x, w)), 0, true
	return out
}

func (c *checker) overGroup(n *Node, f *Function) *node {
	if c.inside != "" {
		return c.report(n, "", "%s cannot stand within %s", f.Name, c.inside)
	}
	c.inside = f.Name
	defer func() { c.inside = "" }()
	fn := groupFunctions[f.Name]
	if fn == gShare || fn == gCount {
		x := c.condition(n.args[0])
		t := plainNumber
		if fn == gShare {
			u, _ := unit.Lookup("%")
			t = numberIn(u)
		}
		out := c.make(oGroup, t, n, x)
		out.fn, out.usual = fn, 0
		return out
	}
	x := c.check(n.args[0])
	if !c.wantNumber(n.args[0], x) {
		return nothing(n, Type{})
	}
	if fn == gSum && x.typ.Unit.Scale {
		return c.report(n, "", "the sum of %ss on a scale has no meaning; avg_of has", x.typ.Unit.Dimension)
	}
	out := c.make(oGroup, x.typ, n, x)
	out.fn = fn
	return out
}

func parseTime(s string) (float64, bool) {
	for _, layout := range []string{"2006-01-02", time.RFC3339} {
		if t, err := time.Parse(layout, s); err == nil && t.Year() > 0 {
			return float64(t.UnixMilli()) / 1000, true
		}
	}
	return 0, false
}
