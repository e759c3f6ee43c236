// Package replays works out what rules would have done over what is stored.
package replays

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"math"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/maintenance"
	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/present"
)

const (
	// MaxSpan is how far back a replay goes at most.
	MaxSpan = 90 * 24 * time.Hour
	// MaxDevices is how many devices a replay is over at most.
	MaxDevices = 10_000
	// atOnce is how many replays run at once; others wait.
	atOnce = 4
	// part is how much of the past of a device is held in memory.
	part = 8 * 24 * time.Hour
)

// History reads stored readings.
type History interface {
	Readings(ctx context.Context, device, metric string, from, to time.Time, yield func(series.Point) error) error
	Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid, width int64) ([]series.Rollup, error)
}

// Records reads what was so, and what live did.
type Records interface {
	Validity(ctx context.Context, kind commit.ValidityKind, subject string) ([]commit.Validity, error)
	Since(ctx context.Context, kind commit.ValidityKind, from time.Time) ([]commit.Validity, error)
}

// Rules are those in force.
type Rules interface {
	Rule(name string) (rule.Rule, error)
	Names() []string
}

// Options are what Replays are made of.
type Options struct {
	History History
	Records Records
	Facts   fact.Log
	Rules   Rules
	Devices *devices.Registry
	Models  *models.Catalogue
	Present *present.Fleet
	// Maintenances are those of now; nil for none.
	Maintenances func() []maintenance.Maintenance
	// MayOperate says whether somebody may operate a device, for maintenance by those who may
	// not do so for all; nil for yes.
	MayOperate func(person, device string) bool
	Now        func() time.Time
}

// Replays replays rules.
type Replays struct {
	o     Options
	slots chan struct{}
}

// New returns Replays.
func New(o Options) *Replays { return &Replays{o: o, slots: make(chan struct{}, atOnce)} }

// Ask is what is replayed.
type Ask struct {
	Rule     rule.Rule
	From, To time.Time
	Devices  []string // those of them that the rule is for; nil for all
	// Live tells what live did beside it, and why it differs from what the rule in force
	// would have done.
	Live bool
}

// Side is what one version of the rule would have done on one device or group.
type Side struct {
	Alarms     int
	Chattering int
	Suppressed int // of the alarms, by design
	// OutOfService is how many of them were out of service for maintenance when they were raised.
	OutOfService int
	Raised       time.Duration
	Lost         float64 // of the headspace in the mean; NaN where that is not known
	Known        time.Duration
	Spans        []replay.Span
}

// One is what is found for one device or group.
type One struct {
	Subject  string
	Readings int
	This     Side
	InForce  *Side // nil where no rule of that name is in force
	Live     *Live
}

// Live is what live did.
type Live struct {
	Alarms      int
	Differences []Difference
}

// Difference is an alarm that live raised and the replay does not, or the other way round.
type Difference struct {
	At    time.Time
	Ideal bool // the replay has it, and live has not
	Cause string
}

// Progress is how far a replay is.
type Progress struct{ Done, Of, Readings int }

// Run replays a rule, and tells what is found for each device or group, one at a time in
// no order, and how far it is. An error of told ends it.
func (r *Replays) Run(ctx context.Context, a Ask, told func(*One, Progress) error) error {
	if err := r.bounded(&a); err != nil {
		return err
	}
	select {
	case r.slots <- struct{}{}:
		defer func() { <-r.slots }()
	case <-ctx.Done():
		return ctx.Err()
	}
	was, err := r.o.Rules.Rule(a.Rule.Name)
	var inForce *rule.Rule
	if err == nil {
		inForce = &was
	}
	rules := []*rule.Rule{&a.Rule}
	same := inForce != nil && inForce.Same(&a.Rule)
	if same {
		plain := told
		told = func(one *One, p Progress) error {
			if one != nil && one.InForce == nil {
				one.InForce = &one.This
			}
			return plain(one, p)
		}
	} else if inForce != nil {
		rules = append(rules, inForce)
	}
	if a.Rule.Each != "" {
		return r.groups(ctx, a, rules, told)
	}
	sets, err := r.sets(rules)
	if err != nil {
		return err
	}
	var ids []string
	among := idSet(a.Devices)
	for _, d := range r.o.Devices.List() {
		if d.Status == devices.Retired || among != nil && !among[d.ID] || sets[d.Model] == nil {
			continue
		}
		ids = append(ids, d.ID)
	}
	if len(ids) > MaxDevices {
		return tooMany(len(ids))
	}
	outages, err := r.outages(ctx, a.From, a.To)
	if err != nil {
		return err
	}
	p := Progress{Of: len(ids)}
	var mu sync.Mutex
	each, ctx := errgroup.WithContext(ctx)
	each.SetLimit(max(runtime.GOMAXPROCS(0)-1, 1))
	for _, id := range ids {
		each.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			one, err := r.device(ctx, a, id, sets, outages)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			p.Done++
			if one != nil {
				p.Readings += one.Readings
			}
			return told(one, p)
		})
	}
	return each.Wait()
}

func idSet(ids []string) map[string]bool {
	if ids == nil {
		return nil
	}
	out := map[string]bool{}
	for _, id := range ids {
		out[id] = true
	}
	return out
}

func tooMany(n int) error {
	return fault.New(fault.TooLarge, "the rule is for %d devices; a replay is over %d at most", n, MaxDevices).Then("narrow it by a condition")
}

func (r *Replays) bounded(a *Ask) error {
	now := r.o.Now()
	if a.To.IsZero() || a.To.After(now) {
		a.To = now
	}
	if !a.From.Before(a.To) {
		return fault.New(fault.Invalid, "the replay ends before it begins")
	}
	if a.To.Sub(a.From) > MaxSpan {
		return fault.New(fault.Invalid, "%d days are too long; a replay is over 90 days at most", int(a.To.Sub(a.From).Hours()/24)).Then("say a shorter span, such as 90d or 2026-03-01..2026-05-30")
	}
	if err := a.Rule.Check(); err != nil {
		return fault.New(fault.Invalid, "%s", err)
	}
	return nil
}

// set is a rule, with those that it asks about, compiled for one model.
type set struct {
	plan  *expr.Plan
	rules []*rule.Compiled
	main  *rule.Compiled
}

// attributes reports whether a rule, with those that it asks about, looks at what devices say
// of themselves.
func attributes(plan *expr.Plan, rules []*rule.Compiled) bool {
	plans := []*expr.Plan{plan}
	for _, c := range rules {
		for _, p := range c.Selects() {
			plans = append(plans, p.Plan())
		}
	}
	return slices.ContainsFunc(plans, func(p *expr.Plan) bool {
		return slices.ContainsFunc(p.Names(), func(n expr.Info) bool { return n.Name.Scope == "attr" })
	})
}

// sets compiles each rule for the models that it names: by model, a set for each rule,
// nil where the rule is not for the model.
func (r *Replays) sets(rules []*rule.Rule) (map[string][]*set, error) {
	out := map[string][]*set{}
	for i, x := range rules {
		with, err := r.asked(x)
		if err != nil {
			return nil, err
		}
		for _, name := range x.Models {
			m, err := r.o.Models.Get(name)
			if err != nil {
				if i > 0 {
					continue // that in force is not for that model any more
				}
				return nil, err
			}
			around := check.Around{Rules: append(r.o.Rules.Names(), x.Name)}
			var its []*rule.Rule
			for _, y := range with {
				if y.Names(name) && y.Each == "" {
					its = append(its, y)
				}
			}
			plan, compiled, wrong := check.Rules(its, around.With(check.Schema(m)))
			if err := wrong[x.Name]; err != nil || x.Each != "" {
				if i > 0 {
					continue
				}
				return nil, fault.New(fault.Invalid, "%s", err)
			}
			s := &set{plan: plan, rules: compiled}
			for _, c := range compiled {
				if c.Name == x.Name {
					s.main = c
				}
			}
			if out[name] == nil {
				out[name] = make([]*set, len(rules))
			}
			out[name][i] = s
		}
	}
	return out, nil
}

// asked returns a rule and those that it asks about, and they, by name in order.
func (r *Replays) asked(x *rule.Rule) ([]*rule.Rule, error) {
	out := []*rule.Rule{x}
	for i := 0; i < len(out); i++ {
		for _, name := range out[i].Asks() {
			if slices.ContainsFunc(out, func(y *rule.Rule) bool { return y.Name == name }) {
				continue
			}
			y, err := r.o.Rules.Rule(name)
			if err != nil {
				return nil, err
			}
			if !y.Disabled {
				out = append(out, &y)
			}
		}
	}
	slices.SortFunc(out, func(a, b *rule.Rule) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// warm is from how long before its begin a replay judges: what stood then is known at its
// begin.
const warm = 6 * time.Hour

func (r *Replays) device(ctx context.Context, a Ask, id string, sets map[string][]*set, outages []outage) (*One, error) {
	d, err := r.o.Devices.Get(id)
	if err != nil {
		return nil, err
	}
	needs := slices.ContainsFunc(sets[d.Model], func(s *set) bool { return s != nil && attributes(s.plan, s.rules) }) ||
		slices.ContainsFunc(outages, func(o outage) bool { return o.devices[d.Model] != nil && attributes(o.devices[d.Model].Plan(), nil) })
	p, m, err := r.past(ctx, id, needs, a.From.Add(-warm))
	if err != nil || p == nil {
		return nil, err
	}
	out := &One{Subject: id}
	for i, s := range sets[m.Name] {
		if s == nil {
			continue
		}
		side := Side{Lost: math.NaN()}
		for n, span := range p.scope(s.main, a.From, a.To, nil) {
			one, err := r.span(ctx, a, p, s, span[0], span[1], n == 0 && span[0].Equal(a.From))
			if err != nil {
				return nil, err
			}
			if i == 0 {
				out.Readings += one.Readings
			}
			if n := len(one.Spans); n > 0 && one.Spans[n-1].To.IsZero() && span[1].Before(a.To) {
				one.Spans[n-1].To = span[1] // the rule was for it no longer
			}
			side.add(one, func(at time.Time) bool { return r.out(outages, p, at) })
		}
		if i == 0 {
			out.This = side
		} else {
			out.InForce = &side
		}
	}
	if a.Live {
		ideal := out.InForce
		if ideal == nil {
			ideal = &out.This
		}
		if out.Live, err = r.live(ctx, a, id, ideal.Spans); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// add adds what was found in one span; out tells whether it was out of service at a time.
func (s *Side) add(x replay.Result, out func(time.Time) bool) {
	s.Alarms += x.Alarms
	s.Chattering += x.Chattering
	s.Raised += x.Raised
	for i := range x.Spans {
		y := &x.Spans[i]
		if y.OutOfService = out(y.From); y.OutOfService {
			s.OutOfService++
		}
		if y.Suppressed {
			s.Suppressed++
		}
	}
	s.Spans = append(s.Spans, x.Spans...)
	if !math.IsNaN(x.Lost) {
		old := s.Lost
		if math.IsNaN(old) {
			old = 0
		}
		s.Lost = (old*float64(s.Known) + x.Lost*float64(x.Known)) / float64(s.Known+x.Known)
		s.Known += x.Known
	}
}

// span replays one span of one device.
func (r *Replays) span(ctx context.Context, a Ask, p *past, s *set, from, to time.Time, first bool) (replay.Result, error) {
	judge := from
	if first {
		lead := warm
		if on, off := s.main.Delays(); on+off > lead {
			lead = on + off
		}
		judge = from.Add(-lead)
	}
	run := replay.New(replay.Options{Plan: s.plan, Rules: s.rules, Main: s.main.Name, Activated: p.device.JoinedAt, Zone: p.zone, Judge: judge, From: from})
	begin, err := r.recall(ctx, p, s.plan, run.State(), judge)
	if err != nil {
		return replay.Result{}, err
	}
	steps := p.begin(s.plan, run.State(), judge)
	metrics := run.Metrics()
	for at := begin; at.Before(to); at = at.Add(part) {
		end := at.Add(part)
		if end.After(to) {
			end = to
		}
		columns, err := r.columns(ctx, p.device.ID, metrics, at, end)
		if err != nil {
			return replay.Result{}, err
		}
		n, _ := slices.BinarySearchFunc(steps, end.UnixMilli(), func(x replay.Step, ms int64) int { return cmp.Compare(x.At, ms) })
		run.Feed(columns, steps[:n], end)
		steps = steps[n:]
	}
	return run.End(to), nil
}

// recall fills the windows of a State, and returns from when on it needs readings.
func (r *Replays) recall(ctx context.Context, p *past, plan *expr.Plan, s *expr.State, at time.Time) (time.Time, error) {
	begin, summaries := plan.Past(at)
	for _, x := range summaries {
		metric := plan.Names()[x.Slot].Name.Key
		width := x.Width.Milliseconds()
		cells, err := r.o.History.Cells(ctx, p.device.ID, metric, x.From, x.Until, series.Every(width), width)
		if _, err = series.Whole(err); err != nil {
			return begin, err
		}
		past := make([]expr.Summary, len(cells))
		for i := range cells {
			past[i] = expr.Summary(cells[i])
		}
		s.Recall(x, past)
	}
	// A last reading of before is what is known until the next.
	if floor := at.Add(-time.Hour); begin.After(floor) {
		begin = floor
	}
	return begin, nil
}

var errEnd = errors.New("the replay was ended")

func (r *Replays) columns(ctx context.Context, id string, metrics []string, from, to time.Time) ([]replay.Column, error) {
	var out []replay.Column
	for _, metric := range metrics {
		c := replay.Column{Metric: metric}
		n := 0
		err := r.o.History.Readings(ctx, id, metric, from, to.Add(-time.Millisecond), func(p series.Point) error {
			if n++; n&4095 == 0 && ctx.Err() != nil {
				return errEnd
			}
			c.At = append(c.At, value.Millis(p.At))
			c.Values = append(c.Values, p.Value)
			return nil
		})
		if errors.Is(err, errEnd) {
			return nil, ctx.Err()
		}
		if _, err = series.Whole(err); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// near is how far apart an alarm of the replay and one of live may be to be one.
const near = 5 * time.Second

// live finds what live did on a device, and compares it with what the rule in force would
// have done.
func (r *Replays) live(ctx context.Context, a Ask, id string, ideal []replay.Span) (*Live, error) {
	out := &Live{Differences: []Difference{}}
	var did, late []time.Time
	for before := int64(0); ; {
		f := fact.Filter{Kind: fact.AlarmRaised, Device: id, Rule: a.Rule.Name, Since: a.From, Until: a.To, Before: before, Limit: 1000}
		if strings.Contains(id, "=") {
			f.Device = ""
		}
		page, err := r.o.Facts.Facts(ctx, f)
		if err != nil {
			return nil, err
		}
		for _, x := range page {
			if x.Device+x.Group != id {
				continue
			}
			var c fact.Raised
			if json.Unmarshal(x.Content, &c) == nil && c.Late {
				late = append(late, x.At)
			} else {
				did = append(did, x.At)
			}
		}
		if len(page) < 1000 || len(did) > replay.MaxSpans {
			break
		}
		before = page[len(page)-1].Number
	}
	out.Alarms = len(did)
	changes, err := r.o.Facts.Facts(ctx, fact.Filter{Kind: fact.RuleChanged, Rule: a.Rule.Name, Since: a.From, Limit: 1000})
	if err != nil {
		return nil, err
	}
	cause := func(at time.Time) string {
		for _, x := range changes {
			if x.At.After(at) {
				return "another version of the rule was in force then"
			}
		}
		return ""
	}
	take := func(from []time.Time, at time.Time) ([]time.Time, bool) {
		for i, x := range from {
			if d := x.Sub(at); d > -near && d < near {
				return slices.Delete(from, i, i+1), true
			}
		}
		return from, false
	}
	for _, s := range ideal {
		if s.From.Before(a.From) {
			continue
		}
		var ok bool
		if did, ok = take(did, s.From); ok {
			continue
		}
		d := Difference{At: s.From, Ideal: true, Cause: cause(s.From)}
		if late, ok = take(late, s.From); ok {
			d.Cause = "the readings came late, when it was over already"
		} else if d.Cause == "" {
			d.Cause = "the readings came after it, or the service was away"
		}
		out.Differences = append(out.Differences, d)
	}
	for _, at := range did {
		why := cause(at)
		if why == "" {
			why = "a reading that came later has changed what was so"
		}
		out.Differences = append(out.Differences, Difference{At: at, Cause: why})
	}
	slices.SortFunc(out.Differences, func(a, b Difference) int { return a.At.Compare(b.At) })
	return out, nil
}
