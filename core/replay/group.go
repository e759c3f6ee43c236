package replay

import (
	"container/heap"
	"math"
	"time"

	"ullage/core/expr"
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
}

// Group replays a rule with each on one group.
type Group struct {
	o     GroupOptions
	state *expr.State
	watch *rule.Watch
	slots map[string]int
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
	column int // -1 for its steps
	i      int
}

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
			q = append(q, source{members[m].Steps[0].At, m, -1, 0})
		}
	}
	heap.Init(&q)
	g.state.Group(states)
	judge, end := g.o.Judge.UnixMilli(), until.UnixMilli()
	every := GroupEvery.Milliseconds()
	up := func(ms int64) int64 { return (ms + every - 1) / every * every }
	for now := up(judge); now < end; {
		for len(q) > 0 && q[0].at <= now {
			g.take(&q, members)
		}
		when := value.FromMillis(now)
		for _, s := range states {
			s.Advance(when)
		}
		g.state.Advance(when)
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
	if s.column < 0 {
		x := m.Steps[s.i]
		if slot, ok := g.o.Plan.Slot(x.Name); ok {
			m.State.Advance(value.FromMillis(x.At))
			m.State.Set(slot, expr.Sample{Value: x.Value})
		}
		if s.i++; s.i < len(m.Steps) {
			s.at, more = m.Steps[s.i].At, true
		}
	} else {
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
