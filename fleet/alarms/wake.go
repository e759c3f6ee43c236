package alarms

import (
	"container/heap"
	"context"
	"math"
	"time"

	"ullage/core/expr"
	"ullage/core/health"
	"ullage/core/series"
	"ullage/core/stats"
	"ullage/core/value"
	"ullage/fleet/event"
)

// wakeUp says when a device is to be looked at again although nothing has
// arrived: a delay ends, a value becomes too old, a schedule begins.
type wakeUp struct {
	at     int64
	device string
}

// wakes is the one queue of a shard's timers.
type wakes []wakeUp

func (q wakes) Len() int           { return len(q) }
func (q wakes) Less(i, j int) bool { return q[i].at < q[j].at }
func (q wakes) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *wakes) Push(x any)        { *q = append(*q, x.(wakeUp)) }
func (q *wakes) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

// maxSteps is how many moments of one device are gone through at a tick, for
// instance after the machine was asleep, before it jumps to the present.
const maxSteps = 200

func (e *Engine) tick(s *shard, now time.Time) {
	ms := now.UnixMilli()
	for len(s.wakes) > 0 && s.wakes[0].at <= ms {
		x := heap.Pop(&s.wakes).(wakeUp)
		w := s.devices[x.device]
		if w == nil || w.queued != x.at || w.set == nil {
			continue // it was queued again for an earlier time
		}
		w.queued = 0
		if w.catchingUp(now) {
			w.queued = now.Add(drain).UnixMilli()
			heap.Push(&s.wakes, wakeUp{w.queued, w.id})
			continue
		}
		local := w.local(now).UnixMilli()
		for steps := 0; ; steps++ {
			next := w.next()
			if next > local {
				break
			}
			if steps == maxSteps {
				next = local
			}
			e.advance(s, &w.subject, next)
			if next == local {
				break
			}
		}
		e.measure(s, w)
	}
	e.payOwed(s)
	e.tellHeld(s, now)
	e.tend(s, now)
	for _, w := range s.calming {
		e.calm(s, w, now)
	}
	e.chores(s, now)
	if now.Sub(s.saved) >= saveEvery || now.Before(s.saved) {
		e.flush(s)
	}
	e.save(s)
}

// maxLag is how far behind a device's clock may be for time to be told by it.
const maxLag = 5 * time.Minute

// arrived notes when readings came and how old the newest of them was. A device
// whose clock is behind, or whose readings take long, lives in its own time:
// what time alone changes is judged by it, so that its next reading is not late.
func (w *watchedDevice) arrived(ev event.Readings) {
	newest := int64(0)
	for _, r := range ev.Readings {
		newest = max(newest, r.At.UnixMilli())
	}
	w.heard, w.newest = ev.Arrived, max(w.newest, newest)
	if lag := ev.Arrived.UnixMilli() - newest; lag >= 0 && lag <= maxLag.Milliseconds() {
		w.lag = lag
	}
}

// local is the time on a device. While it hands in a backlog, that is the time of
// the newest reading.
func (w *watchedDevice) local(now time.Time) time.Time {
	if w.catchingUp(now) {
		return value.FromMillis(w.newest)
	}
	return now.Add(-time.Duration(w.lag) * time.Millisecond)
}

// drain is how long nothing must have come of a backlog until it is taken to
// be over.
const drain = 10 * time.Second

// catchingUp reports whether a device is handing in readings of earlier on.
// What it was silent about until now may be in the next message, so time
// stands still for it meanwhile.
func (w *watchedDevice) catchingUp(now time.Time) bool {
	return w.set != nil && now.Sub(w.heard) < drain &&
		now.UnixMilli()-w.newest > max(60_000, 3*w.set.interval.Milliseconds())
}

// next returns the next moment at which something may change by time alone.
func (w *subject) next() int64 {
	next := int64(math.MaxInt64)
	for _, x := range w.watches {
		next = min(next, x.Next())
	}
	return next
}

// advance lets the time of one device move on to a moment.
func (e *Engine) advance(s *shard, w *subject, ms int64) {
	w.state.Advance(value.FromMillis(ms))
	at := value.FromMillis(w.state.Now())
	c := newChanges(e, s, w)
	c.clock = true
	for _, x := range w.watches {
		if change, ok := x.Det.Advance(at, x.Timings()); ok {
			c.add(x, change)
		}
		if x.Answer.Until <= ms || x.Rule.Looks(c.asked) {
			c.assess(x, at)
			x.dirty = true
		}
	}
	c.apply()
}

// trend keeps some margins of one rule on one device, spread over a recent
// span, and where they lead.
type trend struct {
	points []trendPoint
	line   stats.Trend // through the points
	// approaching says that they lead to the limit.
	approaching bool
	start       time.Time
}

const trendPoints = 30

// trendPoint is a margin at a time in seconds after the start of its trend, in half the room: there
// are thirty of them for each rule on each device.
type trendPoint struct{ x, y float32 }

// restart is how many seconds after its start a trend begins to count anew, while a float32 still
// knows hundredths of a second. It is more than twice the longest span.
const restart = 100_000

// span is how far back a trend looks: sixty readings, within reason.
func trendSpan(interval time.Duration) time.Duration {
	return min(max(60*interval, 10*time.Minute), 12*time.Hour)
}

func (t *trend) add(at time.Time, a expr.Answer, interval time.Duration) {
	if math.IsNaN(a.Margin) || math.IsInf(a.Margin, 0) {
		if len(t.points) > 0 && a.Truth == expr.Unknown {
			return // a gap; the trend goes on behind it
		}
		*t = trend{}
		return
	}
	if t.start.IsZero() {
		t.start = at
	}
	span := trendSpan(interval).Seconds()
	x := at.Sub(t.start).Seconds()
	if len(t.points) > 0 && x > restart {
		by := t.points[0].x
		for i := range t.points {
			t.points[i].x -= by
		}
		t.start, x = t.start.Add(time.Duration(float64(by)*float64(time.Second))), x-float64(by)
	}
	if n := len(t.points); n == 0 || x-float64(t.points[n-1].x) >= span/trendPoints {
		for len(t.points) > 0 && x-float64(t.points[0].x) > span {
			t.points = t.points[:copy(t.points, t.points[1:])]
		}
		t.points = append(t.points, trendPoint{float32(x), float32(a.Margin)})
		var room [trendPoints + 2]stats.Point
		points := room[:0]
		for _, p := range t.points {
			points = append(points, stats.Point{X: float64(p.x), Y: float64(p.y)})
		}
		t.line, _ = stats.TheilSen(points)
	}
	t.approaching = health.Approaching(t.line, a.Margin)
}

// chores fills trends from the history, and looks up what is usual, for some
// devices at a time, so that a start does not wait for it.
func (e *Engine) chores(s *shard, now time.Time) {
	for range min(10, len(s.chores)) {
		id := s.chores[0]
		s.chores = s.chores[1:]
		w := s.devices[id]
		if w == nil || w.set == nil || w.filled {
			continue
		}
		w.filled = true
		if err := e.fillUsual(w, now); err != nil {
			e.log.Error("usual values were not found", "device", id, "error", err)
		}
		if err := e.fillTrends(&w.subject, now); err != nil {
			e.log.Error("trends were not filled", "device", id, "error", err)
		}
		e.reassess(s, &w.subject, w.local(now), nil)
		e.measure(s, w)
	}
	if len(s.chores) == 0 && now.Sub(s.choresAt).Abs() > choresEvery {
		s.choresAt = now
		for id, w := range s.devices {
			if w.set != nil && w.filled && now.Sub(w.usualAt) > usualEvery {
				w.filled = false
				s.chores = append(s.chores, id)
			}
		}
	}
}

const (
	usualSpan  = 7 * 24 * time.Hour
	usualLeast = 24 * time.Hour
	usualEvery = 6 * time.Hour
	// choresEvery is how often devices are looked for whose usual values are old.
	choresEvery = time.Minute
)

// fillUsual gives telemetry of which the model does not know a usual value the
// median of seven days, if there is at least one.
func (e *Engine) fillUsual(w *watchedDevice, now time.Time) error {
	w.usualAt = now
	for metric, slot := range w.set.metrics {
		if i := w.set.plan.Names()[slot]; i.Usual != nil || i.Type.Kind != expr.Number {
			continue
		}
		var values []float64
		var first, last time.Time
		err := e.history.Readings(context.Background(), w.id, metric, now.Add(-usualSpan),
			now, func(p series.Point) error {
				if first.IsZero() {
					first = p.At
				}
				last = p.At
				values = append(values, p.Value.Num)
				return nil
			})
		if err = e.whole(w.id, metric, err); err != nil {
			return err
		}
		usual := math.NaN()
		if last.Sub(first) >= usualLeast {
			usual, _ = stats.Median(values)
		}
		w.state.SetUsual(slot, usual)
	}
	return nil
}

// fillTrends plays the last hour or so through the rules to draw their trends.
func (e *Engine) fillTrends(w *subject, now time.Time) error {
	span := trendSpan(w.set.interval)
	past := w.set.plan.NewState(time.Time{})
	from, err := e.recall(w, past, now.Add(-span))
	if err != nil {
		return err
	}
	var all []observed
	for metric, slot := range w.set.metrics {
		got, err := e.stored(w, metric, slot, from, false)
		if err != nil {
			return err
		}
		all = append(all, got...)
	}
	names := w.set.plan.Names()
	for slot := range names {
		if names[slot].Name.Scope != "" {
			past.Set(slot, w.state.Sample(slot))
		}
	}
	sortObserved(all)
	trends := make([]trend, len(w.watches))
	for i, o := range all {
		past.Observe(o.slot, o.at, o.v)
		if i+1 < len(all) && all[i+1].at == o.at {
			continue
		}
		at := value.FromMillis(o.at)
		if now.Sub(at) > span {
			continue
		}
		for k, x := range w.watches {
			trends[k].add(at, x.Rule.Raises.Judge(past), w.set.interval)
		}
	}
	for k, x := range w.watches {
		x.trend = trends[k]
	}
	return nil
}
