// Package expressions is the desk at which people write expressions: it checks
// and completes them against the models, labels and rules there are, answers
// them over the present fleet, and explains them for one device now or then.
package expressions

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/present"
)

// History gives the readings of a series between two times, in order.
type History interface {
	Readings(ctx context.Context, device, metric string, from, to time.Time, yield func(series.Point) error) error
}

// Expressions answers about expressions. Make one with New.
type Expressions struct {
	models  func() []*model.Model
	devices func() []devices.Device
	among   func() []string // nil for all devices
	present *present.Fleet
	history History
	rules   func() []string
	sites   func() []string
	now     func() time.Time
	named   func(name string) (*model.Model, error)
	device  func(id string) (devices.Device, error)

	mu      sync.Mutex
	labels  map[string][]string // seen, by key
	labelAt time.Time
	fleet   fleet
}

// fleet is the Schemas of all models, for as long as nothing around changes.
type fleet struct {
	schemas map[string]*expr.Schema
	models  []*model.Model
	rules   []string
	labelAt time.Time
}

func (d *Expressions) wholeFleet() map[string]*expr.Schema {
	around, list := d.around(), d.models()
	d.mu.Lock()
	defer d.mu.Unlock()
	if f := &d.fleet; f.schemas == nil || !f.labelAt.Equal(d.labelAt) || !slices.Equal(f.models, list) ||
		!slices.Equal(f.rules, around.Rules) {
		d.fleet = fleet{check.Schemas(list, around), list, around.Rules, d.labelAt}
	}
	return d.fleet.schemas
}

// Options are what Expressions are made of.
type Options struct {
	Models  *models.Catalogue
	Devices *devices.Registry
	Present *present.Fleet
	History History
	Rules   func() []string // names of the rules in force
	Sites   func() []string // names of the sites; nil for none
	Now     func() time.Time
}

// New returns Expressions.
func New(o Options) *Expressions {
	d := &Expressions{models: o.Models.List, devices: o.Devices.List, named: o.Models.Get, device: o.Devices.Get,
		present: o.Present, history: o.History, rules: o.Rules, sites: o.Sites, now: o.Now}
	return d
}

// Part is what somebody sees who does not see everything.
type Part struct {
	Devices func() []string // ids of the devices
	Models  func() []*model.Model
	Rules   func() []string
}

// Of returns Expressions that know of nothing but a part.
func (d *Expressions) Of(p Part) *Expressions {
	return &Expressions{models: p.Models, among: p.Devices, rules: p.Rules, present: d.present, history: d.history,
		now: d.now, device: d.device, devices: func() []devices.Device {
			var out []devices.Device
			for _, id := range p.Devices() {
				if x, err := d.device(id); err == nil {
					out = append(out, x)
				}
			}
			return out
		}, named: func(name string) (*model.Model, error) {
			for _, m := range p.Models() {
				if short, _, _ := strings.Cut(name, "@"); m.Name == short {
					return d.named(name)
				}
			}
			return nil, fault.New(fault.NotFound, "there is no model %q", name).On("model")
		}}
}

// labelsEvery is how old the list of labels seen may be: somebody who has just onboarded devices
// types their site.
const labelsEvery = time.Second

// maxValues is how many values of one label are offered.
const maxValues = 200

func (d *Expressions) around() check.Around {
	d.mu.Lock()
	defer d.mu.Unlock()
	if now := d.now(); d.labels == nil || now.Sub(d.labelAt) > labelsEvery {
		seen := map[string]map[string]bool{}
		for _, dev := range d.devices() {
			for k, v := range dev.Labels {
				if seen[k] == nil {
					seen[k] = map[string]bool{}
				}
				if len(seen[k]) < maxValues {
					seen[k][v] = true
				}
			}
		}
		if d.sites != nil {
			for _, name := range d.sites() {
				if seen["site"] == nil {
					seen["site"] = map[string]bool{}
				}
				seen["site"][name] = true
			}
		}
		d.labels, d.labelAt = map[string][]string{}, now
		for k, vs := range seen {
			for v := range vs {
				d.labels[k] = append(d.labels[k], v)
			}
			slices.SortFunc(d.labels[k], natural)
		}
	}
	return check.Around{Labels: d.labels, Rules: d.rules()}
}

// natural sorts 2 before 10.
func natural(a, b string) int {
	return cmp.Or(cmp.Compare(len(strings.TrimRight(a, "0123456789")), len(strings.TrimRight(b, "0123456789"))),
		cmp.Compare(len(a), len(b)), strings.Compare(a, b))
}

// schemas returns what may be spoken of: of one model, or of all where name is "".
func (d *Expressions) schemas(name string) (map[string]*expr.Schema, error) {
	if name != "" {
		m, err := d.named(name)
		if err != nil {
			return nil, err
		}
		return map[string]*expr.Schema{name: d.around().With(check.Schema(m))}, nil
	}
	return d.wholeFleet(), nil
}

// Report is what there is to say about an expression.
type Report struct {
	Canonical string // "" if it is wrong
	Type      expr.Type
	Cost      expr.Cost
	Findings  expr.Findings
	Models    []string // for which it can be answered
}

// Check checks an expression for one model, or for all where name is "".
func (d *Expressions) Check(src, modelName string, purpose expr.Purpose) (Report, error) {
	schemas, err := d.schemas(modelName)
	if err != nil {
		return Report{}, err
	}
	programs, found := check.Fleet(src, schemas, purpose)
	r := Report{Findings: found}
	for name, p := range programs {
		r.Canonical, r.Type = p.Source, p.Type
		r.Cost.Steps, r.Cost.Windows, r.Cost.Bytes = max(r.Cost.Steps, p.Cost.Steps), max(r.Cost.Windows,
			p.Cost.Windows), max(r.Cost.Bytes, p.Cost.Bytes)
		whole := !slices.ContainsFunc(p.Plan().Names(), func(i expr.Info) bool { return i.Absent })
		if whole {
			r.Models = append(r.Models, name)
		}
	}
	slices.Sort(r.Models)
	return r, nil
}

// Complete returns what can stand at a cursor.
func (d *Expressions) Complete(src string, cursor int, modelName string,
	purpose expr.Purpose) ([]expr.Candidate, error) {
	schemas, err := d.schemas(modelName)
	if err != nil {
		return nil, err
	}
	names := make([]string, 0, len(schemas))
	for n := range schemas {
		names = append(names, n)
	}
	// Models that have the metric spoken of come first: their settings are
	// the likelier limits.
	tree, _ := expr.Parse(src)
	has := map[string]int{}
	tree.Names(func(n expr.Name, _ expr.Span) {
		for name, s := range schemas {
			if i, ok := s.Find(n); ok && !i.Absent && n.Scope == "" {
				has[name]++
			}
		}
	})
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(has[b]-has[a], strings.Compare(a, b)) })
	s := d.around().With(expr.NewSchema("this fleet", 0))
	if modelName != "" {
		s = schemas[modelName]
	} else {
		for _, n := range names {
			for _, i := range schemas[n].All() {
				if i.Absent || i.Name.Scope == "label" {
					continue
				}
				if old, known := s.Find(i.Name); !known {
					s.Add(i)
				} else if i.Type.Kind == expr.Number && old.Type.Kind == expr.Number &&
					!i.Type.Unit.Same(old.Type.Unit) && !strings.Contains(old.Title, " in ") {
					old.Title += fmt.Sprintf(" (%s in %s)", i.Type.Unit.Name(), n)
					s.Add(old)
				}
			}
		}
	}
	return expr.Complete(src, cursor, s, purpose), nil
}

// Wrong turns findings into a refusal that names the parameter.
func Wrong(parameter string, found expr.Findings) *fault.Error {
	errs := found.Errors()
	e := fault.New(fault.Invalid, "%s: %s", parameter, errs[0].Error())
	for _, f := range errs {
		e.Findings = append(e.Findings, model.Finding{Pointer: "/" + parameter, Sentence: f.Error()})
	}
	return e
}

// Where returns the devices for which a condition is true now, by id. Those
// for which it is unknown are not among them.
func (d *Expressions) Where(src string) (map[string]bool, error) {
	programs, found := check.Fleet(src, d.wholeFleet(), expr.ForFilter)
	if programs == nil {
		return nil, Wrong("where", found)
	}
	if d.among != nil {
		return d.present.MatchAmong(programs, d.among()), nil
	}
	return d.present.Match(programs), nil
}

// Explained is an expression worked out for one device at one time.
type Explained struct {
	Report
	Device string
	At     time.Time
	Part   expr.Part
}

// Explain works out an expression for a device, part by part. At the zero time
// it is now; at another, readings are those of that time, and everything else
// as it is now.
//
// What is given stands in for what is so: telemetry, settings and the like, by the name as
// it stands in the expression. A name that the expression does not have is refused.
func (d *Expressions) Explain(ctx context.Context, src, device string, at time.Time, given map[string]any) (Explained, error) {
	get, m, ok := d.present.Lookup(device)
	if !ok {
		return Explained{}, fault.New(fault.NotFound, "there is no device %q", device).On("device")
	}
	now := d.now()
	if at.IsZero() {
		at = now
	}
	if at.After(now.Add(model.ClockSlack)) {
		return Explained{}, fault.New(fault.Invalid, "%s has not come yet", at.Format(time.RFC3339)).
			Then("give a time in the past")
	}
	plan := expr.NewPlan(d.around().With(check.Schema(m)))
	p, found := plan.Compile(src, expr.ForMessage)
	out := Explained{Report: Report{Findings: found}, Device: device, At: at}
	if p == nil {
		return out, Wrong("source", found)
	}
	out.Canonical, out.Type, out.Cost, out.Models = p.Source, p.Type, p.Cost, []string{m.Name}
	dev, err := d.device(device)
	if err != nil {
		return out, err
	}
	s := plan.NewState(dev.JoinedAt)
	s.In(d.present.Zone(device))
	type observed struct {
		slot int
		p    series.Point
	}
	var all []observed
	for slot, n := range plan.Names() {
		if n.Name.Scope != "" {
			if n.Name.Scope == "device" && n.Name.Key == "hub" && d.among != nil && !slices.Contains(d.among(), dev.Hub) {
				continue // it is none that may be known of
			}
			s.Set(slot, expr.Sample{Value: get(n.Name)})
			continue
		}
		before := len(all)
		if err := d.history.Readings(ctx, device, n.Name.Key, at.Add(-plan.Reach()),
			at.Add(time.Millisecond), func(p series.Point) error {
				all = append(all, observed{slot, p})
				return nil
			}); err != nil {
			if _, err = series.Whole(err); err != nil { // what is damaged is a gap
				return out, err
			}
		}
		if l, ok := d.present.Latest(device, n.Name.Key); ok && len(all) == before && !l.At.After(at) {
			all = append(all, observed{slot, series.Point{At: l.At, Value: l.Value}})
		}
	}
	slices.SortStableFunc(all, func(a, b observed) int { return a.p.At.Compare(b.p.At) })
	for _, o := range all {
		s.Observe(o.slot, value.Millis(o.p.At), o.p.Value)
	}
	s.Advance(at)
	if err := give(s, plan, at, given); err != nil {
		return out, err
	}
	out.Part = p.Explain(s)
	return out, nil
}

// give puts what is given into a State.
func give(s *expr.State, plan *expr.Plan, at time.Time, given map[string]any) error {
	names := map[string]int{}
	for slot, n := range plan.Names() {
		names[n.Name.String()] = slot
	}
	for name, x := range given {
		slot, ok := names[name]
		if !ok {
			return fault.New(fault.Invalid, "the expression does not speak of %q", value.Clip(name, 60)).
				Then("it speaks of %s", strings.Join(slices.Sorted(maps.Keys(names)), ", "))
		}
		var v value.Value
		switch x := x.(type) {
		case float64:
			v = value.OfNumber(x)
		case bool:
			v = value.OfBool(x)
		case string:
			v = value.OfText(x)
		}
		n := plan.Names()[slot]
		if want := n.Type.Kind; v.Kind == value.None || (v.Kind == value.Number) != (want == expr.Number) || (v.Kind == value.Bool) != (want == expr.Bool) {
			return fault.New(fault.Invalid, "%s cannot be %v; it is %s", name, x, n.Type.Kind).Then("give another value")
		}
		if n.Name.Scope == "" {
			s.Observe(slot, at.UnixMilli(), v)
		} else {
			s.Set(slot, expr.Sample{Value: v})
		}
	}
	return nil
}
