package alarms

import (
	"cmp"
	"context"
	"math"
	"slices"
	"time"

	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/series"
	"ullage/core/value"
)

// observed is one reading on its way into a State; one that is not judged only
// fills windows.
type observed struct {
	slot  int
	at    int64
	v     value.Value
	judge bool
}

// roomForObserved is how many readings of a message a shard keeps the room of.
const roomForObserved = 1024

// fresh gives w a State that has not seen any reading.
func (e *Engine) fresh(w *subject) {
	joined := value.FromMillis(0)
	if d, err := e.devices.Get(w.id); err == nil {
		joined = d.JoinedAt
	}
	w.state = w.set.plan.NewState(joined)
	w.state.In(e.present.Zone(w.id))
	e.outer(w)
}

// refill makes the State of w anew from the stored readings. With judging,
// readings that a watch has not seen yet are evaluated.
func (e *Engine) refill(s *shard, w *subject, judging bool) error {
	if w.set == nil {
		return nil
	}
	e.refilled.Add(1)
	seen := e.now()
	if judging {
		for _, x := range w.watches {
			if !x.Det.Seen.IsZero() && x.Det.Seen.Before(seen) {
				seen = x.Det.Seen
			}
		}
	}
	e.fresh(w)
	windows := w.set.plan.Windows() > 0 || w.set.plan.Previous()
	from, err := e.recall(w, w.state, seen)
	if err != nil {
		return err
	}
	var all []observed
	for metric, slot := range w.set.metrics {
		latest, ok := e.present.Latest(w.id, metric)
		if !ok {
			continue
		}
		newest := observed{slot, value.Millis(latest.At), latest.Value, judging}
		if !windows && (!judging || !latest.At.After(seen)) {
			all = append(all, newest)
			continue
		}
		got, err := e.stored(w, metric, slot, from, judging)
		if err != nil {
			return err
		}
		if len(got) == 0 { // all of it is older than any window
			got = append(got, newest)
		}
		all = append(all, got...)
	}
	sortObserved(all)
	e.feed(s, w, all, true)
	return nil
}

// recall gives a fresh State of w, which is to answer from a time on, what
// summaries of the past tell it, and returns since when it needs readings.
func (e *Engine) recall(w *subject, s *expr.State, at time.Time) (readings time.Time, err error) {
	readings, summaries := w.set.plan.Past(at)
	for _, r := range summaries {
		metric := w.set.plan.Names()[r.Slot].Name.Key
		width := r.Width.Milliseconds()
		cells, err := e.history.Cells(context.Background(), w.id, metric, r.From, r.Until, series.Every(width), width)
		if err = e.whole(w.id, metric, err); err != nil {
			return readings, err
		}
		past := make([]expr.Summary, len(cells))
		for i := range cells {
			past[i] = expr.Summary(cells[i])
		}
		s.Recall(r, past)
	}
	return readings, nil
}

func (e *Engine) stored(w *subject, metric string, slot int, from time.Time, judge bool) ([]observed, error) {
	var out []observed
	err := e.history.Readings(context.Background(), w.id, metric, from,
		e.now().Add(model.ClockSlack), func(p series.Point) error {
			out = append(out, observed{slot, value.Millis(p.At), p.Value, judge})
			return nil
		})
	return out, e.whole(w.id, metric, err)
}

// whole goes on without what is damaged, and says so in the log.
func (e *Engine) whole(device, metric string, err error) error {
	lost, err := series.Whole(err)
	if lost != nil {
		e.log.Warn("some of the history is damaged; rules go on without it", "device", device, "metric", metric,
			"error", lost)
	}
	return err
}

// late is how far behind the time of a State readings may be without it being
// taken back to their time: on their way readings take some seconds.
const late = 10_000

// live takes readings as they arrive. Those that are newer than the last one of
// their telemetry are evaluated, however late they come.
func (e *Engine) live(s *shard, w *subject, batch []observed) error {
	back := false
	for i := range batch {
		o := &batch[i]
		old := w.state.Sample(o.slot)
		if o.judge = !old.Value.Known() || o.at > old.At; o.judge && o.at < w.state.Now()-late {
			back = true
		}
	}
	if back {
		// Time has gone on in the State without these readings; it begins again
		// before them, with everything that was stored around them.
		windows := w.set.plan.Windows() > 0 || w.set.plan.Previous()
		old := w.state
		e.fresh(w)
		from, err := e.recall(w, w.state, value.FromMillis(batch[0].at))
		if err != nil {
			return err
		}
		for metric, slot := range w.set.metrics {
			if x := old.Sample(slot); x.Value.Known() {
				batch = append(batch, observed{slot, x.At, x.Value, false})
			}
			if !windows {
				continue
			}
			got, err := e.stored(w, metric, slot, from, false)
			if err != nil {
				return err
			}
			batch = append(batch, got...)
		}
		sortObserved(batch)
	}
	e.feed(s, w, batch, false)
	if w.state.Late() {
		return e.refill(s, w, false)
	}
	return nil
}

func sortObserved(all []observed) {
	slices.SortStableFunc(all, func(a, b observed) int { return cmp.Compare(a.at, b.at) })
}

// feed takes readings in order of time and evaluates the watches at each that
// is to be judged; with unseen only those watches that have not seen its time.
func (e *Engine) feed(s *shard, w *subject, all []observed, unseen bool) {
	changes := newChanges(e, s, w)
	var prompt []*watch // whose readings came late before, and on time now
	arrivals := e.then.arrivals[w.id]
	var settings time.Time // as of when the State has them; zero for now
	for len(all) > 0 {
		n, judge := 1, all[0].judge
		for n < len(all) && all[n].at == all[0].at {
			judge = judge || all[n].judge
			n++
		}
		group := all[:n]
		all = all[n:]
		at := value.FromMillis(group[0].at)
		skip := func(x *watch) bool { return !judge || unseen && !at.After(x.Det.Seen) }
		changes.arrived = time.Time{}
		if judge && unseen && len(arrivals) > 0 {
			if i, ok := slices.BinarySearchFunc(arrivals, group[0].at, func(a Arrival, at int64) int {
				return cmp.Compare(a.At, at)
			}); ok {
				changes.arrived = value.FromMillis(arrivals[i].Arrived)
				if e.then.changed[w.id] && !changes.arrived.Equal(settings) {
					e.settingsAsOf(w, changes.arrived)
					settings = changes.arrived
				}
			}
		}
		for _, x := range w.watches {
			if skip(x) {
				continue
			}
			// A delay that ended before this reading came is of the values before it.
			if c, ok := x.Det.Advance(at, x.Timings()); ok {
				changes.add(x, c)
			}
		}
		for _, o := range group {
			w.state.Observe(o.slot, o.at, o.v)
		}
		now := value.FromMillis(w.state.Now())
		for _, x := range w.watches {
			if skip(x) {
				continue
			}
			if at.After(x.Det.Seen) {
				if x.Det.Seen.IsZero() {
					changes.touch(x)
				}
				x.Det.Seen = at
			}
			x.judged = max(x.judged, at.UnixMilli())
			came := changes.arrived
			if came.IsZero() {
				came = e.now()
			}
			if late := came.Sub(at) > onTime; late != x.late {
				if x.late = late; !late {
					prompt = append(prompt, x)
				}
			}
			changes.assess(x, now)
			x.dirty = true
		}
	}
	changes.apply()
	for _, x := range prompt {
		if x.alarm != nil && x.alarm.State.Holds() {
			e.follow(s, w, x, Rose, "")
		}
	}
	if !settings.IsZero() {
		e.outer(w)
	}
}

// then is what was so while the service was away, for readings that were stored
// and not evaluated: they are judged as they would have been.
type then struct {
	arrivals map[string][]Arrival
	changed  map[string]bool // devices whose settings have changed since the first of them
}

func (e *Engine) wasThen(ctx context.Context) error {
	e.then.arrivals = e.arrived()
	first := int64(math.MaxInt64)
	for _, as := range e.then.arrivals {
		for _, a := range as {
			first = min(first, a.Arrived)
		}
		slices.SortStableFunc(as, func(a, b Arrival) int { return cmp.Compare(a.At, b.At) })
	}
	if first == math.MaxInt64 {
		return nil
	}
	var err error
	e.then.changed, err = e.records.SettingsChangedSince(ctx, value.FromMillis(first))
	return err
}

// settingsAsOf puts the settings of a past moment into the State of w.
func (e *Engine) settingsAsOf(w *subject, at time.Time) {
	was, err := e.records.SettingsAsOf(context.Background(), w.id, at)
	if err != nil {
		e.log.Error("the settings of a past moment are not readable; those of now are taken", "device", w.id, "error",
			err)
		return
	}
	names := w.set.plan.Names()
	for _, slot := range w.set.outer {
		if n := names[slot].Name; n.Scope == "set" {
			if v, ok := was[n.Key]; ok {
				w.state.Set(slot, expr.Sample{Value: v})
			}
		}
	}
}
