package expr

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"ullage/core/unit"
	"ullage/core/value"
)

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
		c.found = append(c.found, Finding{Span: n.Span, Suggest: suggest, Sentence: fmt.Sprintf(format, args...),
			Warning: true})
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
		if (name.Scope == "" || slices.Contains(Scopes, name.Scope)) && c.purpose == ForAccess && !c.allowed(n, name) {
			return nothing(n, Type{})
		}
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
	what := map[string]string{"": "metric", "set": "setting", "intended": "setting", "attr": "attribute",
		"device": "fact of a device"}[name.Scope]
	if name.Scope == "" && c.schema.plain {
		what = "field"
	}
	if what == "" {
		if near := value.Nearest(name.Scope, Scopes); near != "" {
			return c.report(n, near+"."+name.Key, "%s is no prefix; did you mean %s.%s?", clip(name.Scope), near,
				clip(name.Key))
		}
		return c.report(n, "", "%s is no prefix; one of %s is", clip(name.Scope), strings.Join(Scopes, ", "))
	}
	if is := c.schema.was[name.Key]; is != "" && name.Scope == "" {
		return c.report(n, is, "%s is called %s in %s", clip(name.Key), is, c.schema.Title)
	}
	if name.Scope == "" {
		for _, scope := range []string{"set", "label", "attr", "device"} {
			if i, ok := c.schema.names[Name{scope, name.Key}]; ok && !i.Absent {
				full := scope + "." + name.Key
				return c.report(n, full, "%s is no metric of %s; did you mean %s?", clip(name.Key), c.schema.Title,
					full)
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
		return c.report(n, "", "no %s %s; there are id, name, hub, model, model_version, link, status, joined and zone",
			what, clip(name.Key))
	}
	if f := value.Nearest(name.Key, functionNames()); f != "" && name.Scope == "" {
		return c.report(n, "", "no metric %s in %s; did you mean the function %s?", clip(name.Key), c.schema.Title,
			functions[f].Form)
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
	case ForAccess:
		ok := name.Scope == "label" || name == Name{"device", "id"} || name == Name{"device", "model"}
		if !ok {
			c.report(n, "", "%s may not say what somebody reaches, since it can change without a person deciding so; labels, device.id and device.model can", name)
		}
		return ok
	case ForTarget, ForLayer:
		ok := name.Scope == "label" || name.Scope == "device" && name.Key != "link" && name.Key != "status" &&
			name.Key != "settings" && name.Key != "zone"
		if name.Scope == "attr" {
			c.warn(n, "", "%s is written by the device, so a device can move itself in and out of this", name)
			return true
		}
		if !ok {
			c.report(n, "", "%s changes by itself, so it cannot choose devices here; labels, device.id, device.name, device.hub, device.model, device.model_version and device.joined can", name)
		}
		return ok
	case ForDerived:
		if name.Scope == "device" && (name.Key == "link" || name.Key == "status" || name.Key == "settings") || name.Scope == "raised" {
			c.report(n, "", "%s changes without a reading, so nothing is computed from it", name)
			return false
		}
	case ForGroup, ForGroupMessage:
		if c.inside == "" && name.Scope == "label" && c.schema.Each != "" && name.Key != c.schema.Each {
			c.report(n, "", "%s may differ within the group; of its labels only label.%s is the same for all", name,
				c.schema.Each)
			return false
		}
		if c.inside == "" && name.Scope != "label" {
			c.report(n, "", "%s is of one device, and a whole group is asked here; put it into a function such as max_of(…) or share(…)", name)
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
			c.report(x.bare.src, suggest, "%s of what? Beside %s it needs its unit, such as %s", what(x.bare.src),
				what(x.other.src), hint)
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
			c.report(n, "", "%s is %s and %s is %s; one is a point on the scale, the other a distance", what(ln), l.typ,
				what(rn), r.typ)
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
		return c.report(n, "", "%s and %s are both %ss on a scale; their sum has no meaning, their difference (-) has",
			what(n.args[0]), what(n.args[1]), l.typ.Unit.Dimension)
	}
	if rp && !lp && o == oSubtract {
		return c.report(n, "", "%s is a %s on a scale and cannot be subtracted from a difference", what(n.args[1]),
			r.typ.Unit.Dimension)
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
	out := c.make(o, t, n, l, r)
	if kelvin, err := unit.Lookup("K"); err == nil && lp && rp && t.Unit.Dimension == kelvin.Dimension {
		return c.convert(out, kelvin.Difference()) // of degrees Fahrenheit, say, which are read as points
	}
	return out
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
			return c.report(n.args[i], "",
				"%s is a %s on a scale whose zero is arbitrary; multiplying or dividing it has no meaning, adding or subtracting a difference has", what(n.args[i]), x.typ.Unit.Dimension)
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
					return bad(n, "", "%s is text and %s is a number; they are never equal", what(x.textN),
						what(x.otherN))
				}
				return bad(x.textN, "", "%s is %s and %s is text; write a number without quotes", what(x.otherN),
					x.other.typ, what(x.textN))
			case x.other.typ.Kind == Number:
				s := "to_number(" + x.textN.String() + ")"
				return bad(x.textN, s, "%s is text and %s is a number; write %s %s %s", what(x.textN), what(x.otherN),
					clip(s), sign, what(x.otherN))
			case x.other.typ.Kind == Version:
				s := "version(" + x.textN.String() + ")"
				return bad(x.textN, s, "%s is text; compared with a version it is written %s", what(x.textN), clip(s))
			case x.other.typ.Kind == Time:
				s := "time(" + x.textN.String() + ")"
				return bad(x.textN, s, "%s is text; compared with a time it is written %s", what(x.textN), clip(s))
			case x.other.typ.Kind == Bool && x.text.literal && (x.text.text == "true" || x.text.text == "false"):
				return bad(x.textN, x.text.text, "%s is true or false; write %s without quotes", what(x.otherN),
					x.text.text)
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
		l.said, r.said = l.src.String(), r.src.String()
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
	near := value.Nearest(text.text, name.values)
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
		return c.report(n, "", "the first limit of %s is the smaller one; here nothing lies between %s and %s", n.op,
			what(n.args[1]), what(n.args[2]))
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
		return c.report(n.args[0], "", "in looks for a text or a number in a list, and %s is %s", what(n.args[0]),
			x.typ)
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
		if _, w, ok := c.meet(&Node{kind: kCompare, op: "==", Span: a.Span, args: []*Node{n.args[0], a}}, &side, v,
			false); ok {
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
		l, r, ok := c.meet(&Node{kind: kCompare, op: "==", Span: n.Span, args: []*Node{n.args[1], n.args[2]}}, a, b,
			false)
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
