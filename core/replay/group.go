package replay

import (
	"container/heap"
	"math"
	"slices"
	"time"

	"ullage/core/expr"
	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/value"
)

// A rule with each is judged by the clock, once a second: it looks at many devices at
// once, which report at different times.

// GroupEvery is how often a group is judged.
const GroupEvery = time.Second

// GroupOptions are what a Group is made of.
type GroupOptions struct {
	Plan  *expr.Plan
	Rule  *rule.Compiled
	Label expr.Name // by which the devices are grouped
	Value string    // that they share
	Zone  *time.Location
	Judge time.Time
	From  time.Time
}

// Member is a device of a group.
type Member struct {
	State   *expr.State
	Columns []Column
	Steps   []Step
	// Within is when it is one: from, and until, in ms since 1970, in order; always where it is
	// empty.
	Within [][2]int64
}

func (m *Member) in(at int64) bool {
	return len(m.Within) == 0 || slices.ContainsFunc(m.Within, func(x [2]int64) bool { return at >= x[0] && at < x[1] })
}

// Group replays a rule with each on one group.
type Group struct {
	o     GroupOptions
	state *expr.State
	watch *rule.Watch
	slots map[string]int
	moved bool // who is in it has changed
	keeper
}

// NewGroup begins a replay.
func NewGroup(o GroupOptions) *Group {
	g := &Group{o: o, watch: &rule.Watch{Rule: o.Rule}, slots: map[string]int{}, keeper: newKeeper(o.From)}
	g.state = o.Plan.NewState(o.Judge)
	if o.Zone != nil {
		g.state.In(o.Zone)
	}
	for slot, n := range o.Plan.Names() {
		if n.Name.Scope == "" {
			g.slots[n.Name.Key] = slot
		}
	}
	if slot, ok := o.Plan.Slot(o.Label); ok {
		g.state.Set(slot, expr.Sample{Value: value.OfText(o.Value)})
	}
	return g
}

// source is where the next of what happens to a member comes from.
type source struct {
	at     int64
	member int
	column int // or one of the two below
	i      int
}

const (
	ofSteps = -1 // what changes of a member
	ofTimes = -2 // when it comes to be one, and ceases to be
)

type sources []source

func (q sources) Len() int           { return len(q) }
func (q sources) Less(i, j int) bool { return q[i].at < q[j].at }
func (q sources) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *sources) Push(x any)        { *q = append(*q, x.(source)) }
func (q *sources) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

// Run replays everything up to a time.
func (g *Group) Run(members []Member, until time.Time) Result {
	var q sources
	states := make([]*expr.State, len(members))
	for m := range members {
		states[m] = members[m].State
		for c := range members[m].Columns {
			if col := &members[m].Columns[c]; len(col.At) > 0 {
				if _, ok := g.slots[col.Metric]; ok {
					q = append(q, source{col.At[0], m, c, 0})
				}
			}
		}
		if len(members[m].Steps) > 0 {
			q = append(q, source{members[m].Steps[0].At, m, ofSteps, 0})
		}
		if len(members[m].Within) > 0 {
			q = append(q, source{members[m].Within[0][0], m, ofTimes, 0})
		}
	}
	heap.Init(&q)
	judge, end := g.o.Judge.UnixMilli(), until.UnixMilli()
	var present []*expr.State
	gather := func(at int64) {
		present = nil
		for m := range members {
			if members[m].in(at) {
				present = append(present, states[m])
			}
		}
		g.state.Group(present)
	}
	gather(judge)
	every := GroupEvery.Milliseconds()
	up := func(ms int64) int64 { return (ms + every - 1) / every * every }
	for now := up(judge); now < end; {
		for len(q) > 0 && q[0].at <= now {
			g.moved = g.moved || q[0].column == ofTimes
			g.take(&q, members)
		}
		if g.moved {
			g.moved = false
			gather(now)
		}
		when := value.FromMillis(now)
		for _, s := range states {
			s.Advance(when)
		}
		g.state.Advance(when)
		if len(present) == 0 { // there is no group, so nothing of it is raised
			g.watch.Det = lifecycle.Detector{}
			if g.up >= 0 {
				g.change(g.watch, g.state, lifecycle.Change{At: when})
			}
			if len(q) == 0 {
				break
			}
			now = max(up(q[0].at), now+every)
			continue
		}
		if c, ok := g.watch.Det.Advance(when, g.watch.Timings()); ok {
			g.change(g.watch, g.state, c)
		}
		for _, c := range g.watch.Assess(g.state, when) {
			g.change(g.watch, g.state, c)
		}
		g.headspace(now, g.watch.Answer)
		// The next moment at which anything may be otherwise.
		next := g.watch.Next()
		if len(q) > 0 {
			next = min(next, q[0].at)
		}
		if next == math.MaxInt64 {
			break
		}
		now = max(up(next), now+every)
	}
	return g.end(until)
}

// take lets the first of what is to come happen.
func (g *Group) take(q *sources, members []Member) {
	s := &(*q)[0]
	m := &members[s.member]
	more := false
	switch {
	case s.column == ofTimes:
		edges := m.Within
		if s.i++; s.i < 2*len(edges) {
			s.at, more = edges[s.i/2][s.i%2], true
		}
	case s.column == ofSteps:
		x := m.Steps[s.i]
		if slot, ok := g.o.Plan.Slot(x.Name); ok {
			m.State.Advance(value.FromMillis(x.At))
			m.State.Set(slot, expr.Sample{Value: x.Value})
		}
		if s.i++; s.i < len(m.Steps) {
			s.at, more = m.Steps[s.i].At, true
		}
	default:
		c := &m.Columns[s.column]
		m.State.Observe(g.slots[c.Metric], c.At[s.i], c.Values[s.i])
		g.readings++
		if s.i++; s.i < len(c.At) {
			s.at, more = c.At[s.i], true
		}
	}
	if more {
		heap.Fix(q, 0)
	} else {
		heap.Pop(q)
	}
}
