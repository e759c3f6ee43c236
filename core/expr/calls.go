package expr

import (
	"fmt"
	"strings"
	"time"

	"ullage/core/unit"
	"ullage/core/value"
	"ullage/core/version"
)

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
		c.report(x, "1h", "the middle and the percentiles are kept exactly, so their window is %s at most",
			duration(float64(limit.Milliseconds())))
		return 0, false
	case w > limit:
		c.report(x, "", "a window of %s is refused: every device would carry it in memory; %s is the longest, and a query looks back further", duration(x.num), duration(float64(limit.Milliseconds())))
		return 0, false
	}
	return w.Milliseconds(), true
}

// metric checks that n is a metric name, plain or as value("…").
func (c *checker) metric(call, n *Node) *node {
	name := n.name
	if n.kind == kCall && n.name.Key == "value" && len(n.args) == 1 && n.args[0].kind == kText {
		name = Name{Key: n.args[0].text}
	} else if n.kind == kBad {
		return nil
	} else if n.kind != kName || name.Scope != "" {
		c.report(n, "", "%s looks at the readings of one metric; %s is none", call.name.Key, what(n))
		return nil
	}
	was := c.inside
	if c.inside == "" && c.grouped() {
		c.report(call, "", "%s is of one device, and a whole group is asked here; put it into a function such as max_of(…) or share(…)", what(call))
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
		if near := value.Nearest(n.name.Key, functionNames()); near != "" {
			return c.reportAt(Span{n.Span.Start, n.Span.Start + len(n.name.Key)}, near,
				"there is no function %s; did you mean %s?", clip(n.name.Key), functions[near].Form)
		}
		return c.report(n, "", "there is no function %s", clip(n.name.Key))
	}
	want, over := 1, strings.Contains(f.Form, " over ")
	switch {
	case over:
		want = 2
	case strings.HasSuffix(f.Form, "()"):
		want = 0
	}
	switch {
	case over && len(n.args) == 2 && !n.over:
		right := *n
		right.over = true
		if w := n.args[1]; w.kind == kBad || w.kind == kDuration && w.num == 0 {
			return c.report(n, "", "the window stands after over: %s", f.Form)
		}
		return c.report(n, right.String(), "the window stands after over: %s", value.Clip(right.String(), 120))
	case over && len(n.args) == 1 && n.args[0].kind != kBad:
		return c.report(n, "", "%s looks back over a window: %s", f.Name, f.Form)
	case n.over && !over && len(n.args) == want+1:
		right := *n
		right.over, right.args = false, n.args[:want]
		return c.report(n, right.String(), "%s looks back over no window: %s", f.Name, f.Form)
	case len(n.args) != want:
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
	case ForDerived:
		if f.Family == FamilyTime && f.Name != "time" || f.Name == "age" || f.Name == "raised" || f.Name == "changed" ||
			f.Name == "previous" {
			return c.report(n, "", "%s changes without a reading, so nothing is computed from it", f.Name)
		}
	case ForAccess:
		if f.Family == FamilyTime || f.Name == "age" || f.Name == "raised" || f.Name == "changed" || f.Name == "previous" {
			return c.report(n, "", "%s may not say what somebody reaches, since it can change without a person deciding so", f.Name)
		}
	case ForLayer:
		if f.Family == FamilyTime && f.Name != "time" && f.Name != "during" || f.Name == "age" || f.Name == "changed" ||
			f.Name == "previous" {
			return c.report(n, "", "%s changes by itself, so it cannot choose devices here; during and raised can", f.Name)
		}
	case ForTarget:
		if f.Family == FamilyTime && f.Name != "time" || f.Name == "age" || f.Name == "raised" || f.Name == "changed" ||
			f.Name == "previous" {
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
			if x.literal && !version.Is(x.text) {
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
			return c.report(n.args[0], "", "value takes the name of a metric in double quotes")
		}
		return c.name(n, Name{Key: n.args[0].text})
	case "changed", "previous", "age":
		if c.inside == "time_in" && f.Name == "age" {
			return c.report(n, "", "the condition of time_in is over present values; age cannot stand in it")
		}
		x := c.metric(n, n.args[0])
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
			return c.report(n.args[0], "",
				`%s is no time; write a date, "2026-03-01", or a time as in RFC 3339, "2026-03-01T06:00:00Z"`, what(n.args[0]))
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
	x := c.metric(n, n.args[0])
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
		return c.report(n.args[0], "",
			"%s calculates with numbers, and %s is %s; count, changed, previous and age take anything", f.Name, what(n.args[0]), x.typ)
	}
	switch fn {
	case wSum:
		if t.Unit.Scale {
			return c.report(n, "", "the sum of %ss on a scale has no meaning; mean has", t.Unit.Dimension)
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
		return c.report(n, "", "time_in is of one device, and a whole group is asked here; put it into a function such as max_of(…)")
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
		return c.report(n, "", "the sum of %ss on a scale has no meaning; mean_of has", x.typ.Unit.Dimension)
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
