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
	"ullage/core/model"
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
	Now     func() time.Time
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
	Raised     time.Duration
	Lost       float64 // of the headspace in the mean; NaN where that is not known
	Known      time.Duration
	Spans      []replay.Span
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
	p := Progress{Of: len(ids)}
	var mu sync.Mutex
	each, ctx := errgroup.WithContext(ctx)
	each.SetLimit(max(runtime.GOMAXPROCS(0)-1, 1))
	for _, id := range ids {
		each.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			one, err := r.device(ctx, a, id, sets)
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
	// told are the labels that its selector looks at.
	labels []string
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
			for _, p := range s.main.Selects() {
				for _, n := range p.Plan().Names() {
					if n.Name.Scope == "label" {
						s.labels = append(s.labels, n.Name.Key)
					}
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

// past is what was so on a device.
type past struct {
	device devices.Device
	get    present.Lookup
	zone   *time.Location
	steps  []replay.Step // of labels, settings and its link, in order
}

func (r *Replays) past(ctx context.Context, id string) (*past, *model.Model, error) {
	d, err := r.o.Devices.Get(id)
	if err != nil {
		return nil, nil, err
	}
	get, m, ok := r.o.Present.Lookup(id)
	if !ok {
		return nil, nil, nil
	}
	p := &past{device: d, get: get, zone: r.o.Present.Zone(id)}
	for kind, scope := range map[commit.ValidityKind]string{commit.Label: "label", commit.Setting: "set", commit.Link: "device"} {
		rows, err := r.o.Records.Validity(ctx, kind, id)
		if err != nil {
			return nil, nil, err
		}
		for _, v := range rows {
			s := replay.Step{At: v.From.UnixMilli(), Name: expr.Name{Scope: scope, Key: v.Key}, Value: value.OfText(v.Value)}
			switch kind {
			case commit.Link:
				s.Name.Key = "link"
			case commit.Setting:
				s.Value = value.Value{}
				if v.Value != "" && json.Unmarshal([]byte(v.Value), &s.Value) != nil {
					continue
				}
			}
			p.steps = append(p.steps, s)
		}
	}
	slices.SortStableFunc(p.steps, func(a, b replay.Step) int { return cmp.Compare(a.At, b.At) })
	return p, m, nil
}

// at is what a name stood for at a time: as it was where that is known, else as it is.
func (p *past) at(n expr.Name, ms int64) value.Value {
	var first, last *replay.Step
	for i := range p.steps {
		s := &p.steps[i]
		if s.Name != n {
			continue
		}
		if first == nil {
			first = s
		}
		if s.At <= ms {
			last = s
		}
	}
	switch {
	case last != nil:
		return last.Value
	case first != nil && ms < p.device.JoinedAt.UnixMilli():
		return first.Value // of before it was here there are readings alone
	case first != nil && n.Scope == "label":
		return value.OfText("") // the label was given later
	}
	return p.get(n)
}

// scope returns the spans within which a rule is for a device, by the labels of then.
func (p *past) scope(s *set, from, to time.Time) (out [][2]time.Time) {
	selects := func(ms int64) bool {
		for _, prog := range s.main.Selects() {
			st := prog.Plan().NewState(time.Time{})
			for slot, n := range prog.Plan().Names() {
				v := p.at(n.Name, ms)
				if n.Name.Scope == "label" && v.Text == "" {
					v = value.Value{}
				}
				st.Set(slot, expr.Sample{Value: v})
			}
			if prog.Truth(st) != expr.True {
				return false
			}
		}
		return true
	}
	edges := []int64{from.UnixMilli()}
	for _, x := range p.steps {
		if x.Name.Scope == "label" && slices.Contains(s.labels, x.Name.Key) && x.At > edges[0] && x.At < to.UnixMilli() {
			edges = append(edges, x.At)
		}
	}
	for i, at := range edges {
		if !selects(at) {
			continue
		}
		end := to
		if i+1 < len(edges) {
			end = value.FromMillis(edges[i+1])
		}
		begin := value.FromMillis(at)
		if n := len(out); n > 0 && out[n-1][1].Equal(begin) {
			out[n-1][1] = end
		} else {
			out = append(out, [2]time.Time{begin, end})
		}
	}
	return out
}

// warm is from how long before its begin a replay judges: what stood then is known at its
// begin.
const warm = 6 * time.Hour

func (r *Replays) device(ctx context.Context, a Ask, id string, sets map[string][]*set) (*One, error) {
	p, m, err := r.past(ctx, id)
	if err != nil || p == nil {
		return nil, err
	}
	out := &One{Subject: id}
	for i, s := range sets[m.Name] {
		if s == nil {
			continue
		}
		side := Side{Lost: math.NaN()}
		for n, span := range p.scope(s, a.From, a.To) {
			one, err := r.span(ctx, a, p, s, span[0], span[1], n == 0 && span[0].Equal(a.From))
			if err != nil {
				return nil, err
			}
			if i == 0 {
				out.Readings += one.Readings
			}
			side.add(one)
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

func (s *Side) add(x replay.Result) {
	s.Alarms += x.Alarms
	s.Chattering += x.Chattering
	s.Raised += x.Raised
	for _, y := range x.Spans {
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

// begin gives a State what was so at a time, and returns what changes after it.
func (p *past) begin(plan *expr.Plan, s *expr.State, at time.Time) []replay.Step {
	ms := at.UnixMilli()
	for slot, n := range plan.Names() {
		switch n.Name.Scope {
		case "", "raised":
		default:
			s.Set(slot, expr.Sample{Value: p.at(n.Name, ms)})
		}
	}
	var out []replay.Step
	for _, x := range p.steps {
		if x.At <= ms {
			continue
		}
		if _, ok := plan.Slot(x.Name); ok {
			out = append(out, x)
		}
	}
	return out
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
