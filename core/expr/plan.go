package expr

import (
	"math"
	"slices"
	"time"

	"ullage/core/value"
)

// Plan is what the expressions about one device type need to keep of a device:
// a slot for each name, and each window once, however many expressions look
// through it. Compile every expression first, then make States.
type Plan struct {
	schema   *Schema
	names    []Info
	index    map[Name]int
	previous []int // by slot: place in State.previous, or -1
	kept     int   // how many previous readings are kept
	series   []seriesSpec
	windows  []windowSpec
	panes    []paneSpec
	conds    []condSpec
	hold     int64
	access   bool // it says what people reach: a label that is missing is unknown, and not the empty text
}

// seriesSpec is a metric whose readings are kept for its windows.
type seriesSpec struct {
	slot int
	span int64 // of its longest window, in ms
	wins []int // the windows over it
}

type windowSpec struct {
	slot   int
	width  int64
	series int // of the plan's series, or -1
	panes  int // of the plan's panes, or -1
	needs  windowNeeds
}

type paneSpec struct {
	slot  int
	width int64 // of one pane
	count int
}

// each reports whether what is asked of some panes needs single readings.
func (p *Plan) each(panes int) bool {
	for i := range p.windows {
		if w := &p.windows[i]; w.panes == panes && w.needs&needEach != 0 {
			return true
		}
	}
	k := p.names[p.panes[panes].slot].Type.Kind
	return k != Number && k != Bool
}

// Recall is telemetry of which a State needs no single readings of the far
// past, but summaries: of the stretches of this width from From up to Until,
// which are whole multiples of it since 1970.
type Recall struct {
	Slot        int
	Width       time.Duration
	From, Until time.Time
	panes       int
}

// Past returns what fills a State that is to answer from a time on: from when
// on its readings are needed, and summaries of what was before. Beside them the
// newest two readings of each metric are needed, however old.
func (p *Plan) Past(at time.Time) (readings time.Time, summaries []Recall) {
	longest, hold := p.longest(false), p.counts()
	first := at.UnixMilli() - longest
	from := first
	for i := range p.panes {
		if s := &p.panes[i]; !p.each(i) {
			until := floorDiv(first, s.width) * s.width
			from = min(from, until)
			summaries = append(summaries, Recall{s.slot, time.Duration(s.width) * time.Millisecond,
				value.FromMillis(until - int64(s.count)*s.width), value.FromMillis(until), i})
		}
	}
	return value.FromMillis(from - hold), summaries
}

// Summary is what the numbers of one stretch of time come to: when it began,
// how many there were, and of them the least, greatest, sum, first and last;
// the value times how long it held, in ms, and how long that was in all.
type Summary struct {
	At          int64
	N           int64
	Min, Max    float64
	Sum         float64
	First, Last float64
	Area        float64
	Held        int64
}

type condSpec struct {
	node  *node
	text  string
	width int64
	slots []int // the metric in it
}

// NewPlan returns an empty Plan for devices of one Schema.
func NewPlan(s *Schema) *Plan {
	hold := int64(math.MaxInt64 / 4)
	if s.Interval > 0 {
		hold = 3 * s.Interval.Milliseconds()
	}
	return &Plan{schema: s, index: map[Name]int{}, hold: hold}
}

// Schema returns the Schema that p was made for.
func (p *Plan) Schema() *Schema { return p.schema }

// Names returns the names that the compiled expressions use, by slot.
func (p *Plan) Names() []Info { return p.names }

// Slot returns the slot of a name, and whether any expression uses it.
func (p *Plan) Slot(n Name) (int, bool) {
	i, ok := p.index[n]
	return i, ok
}

// Reach returns how far back readings must go that fill a State by themselves:
// the longest window, and the time for which a reading counts. Beside them the
// newest two readings of each metric are needed, however old.
func (p *Plan) Reach() time.Duration {
	return time.Duration(p.longest(true)+p.counts()) * time.Millisecond
}

// longest returns the width of the longest window, of all or of those that need
// single readings.
func (p *Plan) longest(all bool) int64 {
	var longest int64
	for _, w := range p.windows {
		if all || w.panes < 0 || p.each(w.panes) {
			longest = max(longest, w.width)
		}
	}
	for _, c := range p.conds {
		longest = max(longest, c.width)
	}
	return longest
}

// counts returns for how long a reading counts, or an hour where nobody knows.
func (p *Plan) counts() int64 {
	if p.schema.Interval == 0 {
		return hour
	}
	return p.hold
}

// Windows returns how many windows are kept.
func (p *Plan) Windows() int { return len(p.windows) + len(p.conds) }

// Previous reports whether any expression looks at the reading before the newest.
func (p *Plan) Previous() bool { return p.kept > 0 }

func (p *Plan) slot(i Info) int {
	if at, ok := p.index[i.Name]; ok {
		return at
	}
	p.names = append(p.names, i)
	p.previous = append(p.previous, -1)
	p.index[i.Name] = len(p.names) - 1
	return len(p.names) - 1
}

func (p *Plan) keepPrevious(slot int) {
	if p.previous[slot] < 0 {
		p.previous[slot] = p.kept
		p.kept++
	}
}

// window returns the window over a metric of some width that can answer fn.
func (p *Plan) window(slot int, width int64, fn windowFunction) int {
	for i := range p.windows {
		if w := &p.windows[i]; w.slot == slot && w.width == width {
			w.needs |= needsOf(fn)
			return i
		}
	}
	w := windowSpec{slot: slot, width: width, series: -1, panes: -1, needs: needsOf(fn)}
	if width > MaxExactWindow.Milliseconds() {
		spec := paneOf(slot, width)
		w.panes = slices.Index(p.panes, spec)
		if w.panes < 0 {
			p.panes = append(p.panes, spec)
			w.panes = len(p.panes) - 1
		}
	} else {
		w.series = slices.IndexFunc(p.series, func(s seriesSpec) bool { return s.slot == slot })
		if w.series < 0 {
			p.series = append(p.series, seriesSpec{slot: slot})
			w.series = len(p.series) - 1
		}
		s := &p.series[w.series]
		s.span = max(s.span, width)
		s.wins = append(s.wins, len(p.windows))
	}
	p.windows = append(p.windows, w)
	return len(p.windows) - 1
}

func (p *Plan) condition(x *node, width int64) int {
	text := x.src.String()
	for i, c := range p.conds {
		if c.text == text && c.width == width {
			return i
		}
	}
	c := condSpec{node: x, text: text, width: width}
	var walk func(n *node)
	walk = func(n *node) {
		if n.slot >= 0 && p.names[n.slot].Name.Scope == "" && !slices.Contains(c.slots, int(n.slot)) {
			c.slots = append(c.slots, int(n.slot))
		}
		for _, k := range n.kids {
			walk(k)
		}
	}
	walk(x)
	p.conds = append(p.conds, c)
	return len(p.conds) - 1
}

// Sample is what a name stands for, with its time where it is a reading.
type Sample struct {
	Value value.Value
	At    int64 // milliseconds since 1970; readings only
}

// State is everything that the expressions of a Plan look at on one device.
// Time only moves forward in it. It is not safe for use by several goroutines.
type State struct {
	plan      *Plan
	now       int64
	activated int64
	zone      *time.Location
	names     []Sample
	usual     []float64 // by slot, where the Schema has none; nil for none at all
	previous  []Sample
	series    []ring
	windows   []window
	panes     []panes
	conds     []cond
	members   []*State // of the group, in rules with each
	late      bool
	lookup    func(slot int, n *Info) Sample // nil where names are set
	looked    []bool
	until     int64 // scratch: until when the value being worked out holds
}

// NewState returns the State of a device that became active at a time and has
// not reported yet. Its own time begins with the first reading, or when it is
// told.
func (p *Plan) NewState(activated time.Time) *State {
	s := &State{plan: p, activated: activated.UnixMilli(), zone: time.UTC, names: make([]Sample, len(p.names))}
	if p.kept > 0 {
		s.previous = make([]Sample, p.kept)
	}
	if len(p.series) > 0 {
		s.series = make([]ring, len(p.series))
	}
	if len(p.windows) > 0 {
		s.windows = make([]window, len(p.windows))
	}
	if len(p.panes) > 0 {
		s.panes = make([]panes, len(p.panes))
	}
	if len(p.conds) > 0 {
		s.conds = make([]cond, len(p.conds))
		for i := range s.conds {
			s.conds[i].until = s.activated
		}
	}
	return s
}

// Renew makes s what NewState returns, in the room that it has.
func (s *State) Renew(activated time.Time) {
	clear(s.names)
	clear(s.previous)
	clear(s.series)
	clear(s.windows)
	clear(s.panes)
	clear(s.conds)
	*s = State{plan: s.plan, activated: activated.UnixMilli(), zone: time.UTC, names: s.names,
		previous: s.previous, series: s.series, windows: s.windows, panes: s.panes, conds: s.conds}
	for i := range s.conds {
		s.conds[i].until = s.activated
	}
}

// Plan returns the Plan that s was made for.
func (s *State) Plan() *Plan { return s.plan }

// In sets the zone that during looks at; with nil, during is unknown.
func (s *State) In(zone *time.Location) { s.zone = zone }

// Joined sets when the device became active, for a State that is used for one
// device after another.
func (s *State) Joined(at time.Time) { s.activated = at.UnixMilli() }

// Group makes s the State of a group with these members. The members' States
// are of the same Plan.
func (s *State) Group(members []*State) { s.members = members }

// Set gives a name its value from now on. It is for everything but telemetry
// in rules; where only present values are compared it serves telemetry too.
func (s *State) Set(slot int, v Sample) {
	if s.names[slot] == v {
		return
	}
	s.names[slot] = v
	for i := range s.conds {
		s.settle(i, s.now)
		s.ask(i, s.now)
	}
}

// From makes s look names up by a function, each when it is first needed, and
// forget what it has looked up before. It is for selecting among many devices
// with one State of a Plan without windows.
func (s *State) From(value func(slot int, n *Info) Sample) {
	if s.lookup == nil {
		s.looked = make([]bool, len(s.names))
	}
	s.lookup = value
	clear(s.looked)
}

func (s *State) find(slot int32) {
	if !s.looked[slot] {
		s.looked[slot] = true
		s.names[slot] = s.lookup(int(slot), &s.plan.names[slot])
	}
}

// SetUsual says where a number lives on a good day, for telemetry of which the
// Schema does not know it. NaN takes it back.
func (s *State) SetUsual(slot int, v float64) {
	if s.usual == nil {
		s.usual = make([]float64, len(s.plan.names))
		for i := range s.usual {
			s.usual[i] = math.NaN()
		}
	}
	s.usual[slot] = v
}

// Now returns the time of s, in milliseconds since 1970.
func (s *State) Now() int64 { return s.now }

// Advance moves the time of s forward; an earlier time changes nothing.
func (s *State) Advance(now time.Time) {
	s.now = max(s.now, now.UnixMilli())
}

// Sample returns what a slot holds.
func (s *State) Sample(slot int) Sample { return s.names[slot] }

// Late reports whether a reading came that is older than what a window of s
// has already summed up, so that s must be made anew from the stored readings.
// Windows of up to an hour take late readings by themselves.
func (s *State) Late() bool { return s.late }

// Recall gives a State, before any reading, the summaries of the past that the
// Plan asks for, in order of time. The readings that follow may begin before
// r.Until: there they count elsewhere, and hold on into what comes.
func (s *State) Recall(r Recall, past []Summary) {
	p, spec := &s.panes[r.panes], &s.plan.panes[r.panes]
	p.begin = r.Until.UnixMilli()
	for i := range past {
		p.recall(spec, &past[i])
	}
}

// Observe takes one reading of the metric in a slot. Readings may come in
// any order; of several of the same time the last counts. Booleans count as 1
// and 0 in windows, texts are only counted. Time moves forward to the reading.
func (s *State) Observe(slot int, at int64, v value.Value) {
	for i := range s.conds {
		if slices.Contains(s.plan.conds[i].slots, slot) {
			s.settle(i, at)
		}
	}
	s.now = max(s.now, at)
	old := s.names[slot]
	behind := old.Value.Known() && at < old.At
	again := old.Value.Known() && at == old.At
	if k := s.plan.previous[slot]; k >= 0 {
		switch prev := &s.previous[k]; {
		case !old.Value.Known() || again:
		case !behind:
			*prev = old
		case !prev.Value.Known() || at >= prev.At:
			*prev = Sample{v, at}
		}
	}
	if !behind {
		s.names[slot] = Sample{v, at}
	}
	for i := range s.plan.series {
		if s.plan.series[i].slot == slot {
			s.push(i, at, v.Num)
		}
	}
	for i := range s.plan.panes {
		if s.plan.panes[i].slot == slot {
			if behind || again {
				s.late = s.late || behind || v != old.Value
				continue
			}
			s.panes[i].add(&s.plan.panes[i], at, v.Num, s.plan.hold)
		}
	}
	for i := range s.conds {
		if slices.Contains(s.plan.conds[i].slots, slot) {
			// What was asked beyond this time would have been answered otherwise.
			if behind || at < s.conds[i].asked {
				s.late = true
				continue
			}
			s.ask(i, at)
		}
	}
}

// cond is how long a condition was true or known within a window.
type cond struct {
	changes      []change // the first begins before the window or with it
	head         int
	trueFor      int64 // of the closed stretches from head on
	knownFor     int64
	asked        int64 // when it was answered last
	until        int64 // when the answer must be asked for again, nothing arriving
	everAnswered bool
}

type change struct {
	at    int64
	truth Truth
}

const maxChanges = 4096

// settle brings a condition up to a time at which something else happens:
// values that have become too old on the way make it unknown.
func (s *State) settle(i int, at int64) {
	for c := &s.conds[i]; c.until < at && c.everAnswered; {
		s.ask(i, c.until)
	}
}

// ask works out the truth of a condition at a time and notes a change.
func (s *State) ask(i int, at int64) {
	c, now, until := &s.conds[i], s.now, s.until
	s.now, s.until = at, math.MaxInt64
	a := s.judge(s.plan.conds[i].node, false, false)
	c.until = s.until
	s.now, s.until = now, until
	c.asked, c.everAnswered = at, true
	n := len(c.changes)
	if n > c.head {
		last := c.changes[n-1]
		if last.truth == a.Truth {
			return
		}
		if last.at >= at {
			// Several things at one time: only the last answer counts.
			c.changes[n-1].truth = a.Truth
			if n-2 >= c.head && c.changes[n-2].truth == a.Truth {
				c.close(n-2, -1)
				c.changes = c.changes[:n-1]
			}
			return
		}
	} else if a.Truth == Unknown {
		return
	}
	c.changes = append(c.changes, change{at, a.Truth})
	if n > c.head {
		c.close(n-1, 1)
	}
	if len(c.changes)-c.head > maxChanges {
		c.drop()
	}
	if c.head > 64 && c.head > len(c.changes)/2 {
		c.changes = c.changes[:copy(c.changes, c.changes[c.head:])]
		c.head = 0
	}
}

// close adds the closed stretch that begins with change k to the sums, or
// takes it back out.
func (c *cond) close(k int, sign int64) {
	d := sign * (c.changes[k+1].at - c.changes[k].at)
	switch c.changes[k].truth {
	case True:
		c.trueFor += d
		c.knownFor += d
	case False:
		c.knownFor += d
	}
}

func (c *cond) drop() {
	c.close(c.head, -1)
	c.head++
}

// timeIn returns how long a condition was true within its window, in ms;
// unknown until half of the window is known.
func (s *State) timeIn(i int) (float64, bool) {
	s.settle(i, s.now+1)
	c, w := &s.conds[i], s.plan.conds[i].width
	start := s.now - w
	for c.head+1 < len(c.changes) && c.changes[c.head+1].at <= start {
		c.drop()
	}
	isTrue, isKnown := c.trueFor, c.knownFor
	if n := len(c.changes); n > c.head {
		first, last := c.changes[c.head], c.changes[n-1]
		add := func(t Truth, d int64) {
			switch t {
			case True:
				isTrue += d
				isKnown += d
			case False:
				isKnown += d
			}
		}
		if open := s.now - last.at; open > 0 {
			add(last.truth, open)
		}
		if before := start - first.at; before > 0 {
			add(first.truth, -before)
		}
	}
	return float64(isTrue) / 1000, 2*isKnown >= w
}
