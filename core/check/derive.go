package check

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/unit"
	"ullage/core/value"
)

// Derivation computes the derived telemetry of one model.
type Derivation struct {
	plan  *expr.Plan
	steps []step
	desks sync.Pool // of *desk
}

// desk is what one computation works on: what a message tells of each name of the plan, by
// slot, and the State of one moment.
type desk struct {
	last    []value.Reading // the zero Reading has no Metric
	touched []bool
	state   *expr.State
}

type step struct {
	property *model.Property
	program  *expr.Program
	convert  *unit.Conversion
	slots    []int // of the telemetry it is computed from
}

// DerivedFinding is what is wrong with the expression of one property.
type DerivedFinding struct {
	Property string
	Finding  expr.Finding
}

// Derive compiles the derived telemetry of a model, each after what it is
// computed from. It returns nil for a model without any.
func Derive(m *model.Model) (*Derivation, []DerivedFinding) {
	var wrong []DerivedFinding
	refuse := func(p *model.Property, format string, args ...any) {
		wrong = append(wrong, DerivedFinding{p.Name, expr.Finding{Column: 1, Sentence: fmt.Sprintf(format, args...)}})
	}
	d := &Derivation{plan: expr.NewPlan(Schema(m))}
	d.desks.New = func() any {
		n := len(d.plan.Names())
		return &desk{make([]value.Reading, n), make([]bool, n), d.plan.NewState(time.Time{})}
	}
	for _, p := range m.With(model.Telemetry) {
		if p.Derived == "" {
			continue
		}
		program, found := d.plan.Compile(p.Derived, expr.ForDerived)
		for _, f := range found {
			wrong = append(wrong, DerivedFinding{p.Name, f})
		}
		if program == nil {
			continue
		}
		s := step{property: p, program: program}
		for _, slot := range program.Uses() {
			if d.plan.Names()[slot].Name.Scope == "" {
				s.slots = append(s.slots, slot)
			}
		}
		if len(s.slots) == 0 {
			refuse(p, "%s is computed from no metric, so it would never be computed; hold it as a setting", p.Name)
			continue
		}
		if k := kinds[p.Kind]; program.Type.Kind != k {
			refuse(p, "the expression gives %s, and %s is %s", program.Type, p.Name, expr.Type{Kind: k})
			continue
		}
		if p.Kind == value.Number {
			c, err := conversion(program.Type, p.Unit)
			if err != nil {
				refuse(p, "the expression gives %s, and %s is in %s", program.Type, p.Name,
					or(unit.Display(p.Unit), "no unit"))
				continue
			}
			s.convert = c
		}
		d.steps = append(d.steps, s)
	}
	if circle := d.order(); circle != "" {
		p, _ := m.Property(circle)
		refuse(p, "%s is computed from itself, directly or by way of other telemetry", circle)
	}
	if len(d.steps) == 0 {
		return nil, wrong
	}
	return d, wrong
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// conversion leads from the unit of an expression to that of a property; nil
// where it is the same. A bare number is taken to be in the property's own. A difference is a quantity of its own unit.
func conversion(of expr.Type, symbol string) (*unit.Conversion, error) {
	to, err := unit.Lookup(symbol)
	if err != nil {
		to = unit.One
	}
	from := of.Unit
	if of.Bare() || from.Same(to) {
		return nil, nil
	}
	c, err := from.To(to)
	if err != nil {
		if d := to.Difference(); from.Dimension == d.Dimension {
			c, err = from.To(d)
		}
	}
	if err != nil {
		return nil, err
	}
	if c.Identity() {
		return nil, nil
	}
	return &c, nil
}

// order puts what is computed before what is computed from it; it returns the
// name of one that is computed from itself.
func (d *Derivation) order() string {
	names := d.plan.Names()
	var sorted []step
	left := slices.Clone(d.steps)
	for len(left) > 0 {
		i := slices.IndexFunc(left, func(s step) bool {
			return !slices.ContainsFunc(left, func(o step) bool {
				return slices.ContainsFunc(s.slots, func(slot int) bool {
					return names[slot].Name.Key == o.property.Name
				})
			})
		})
		if i < 0 {
			d.steps = sorted
			return left[0].property.Name
		}
		sorted = append(sorted, left[i])
		left = slices.Delete(left, i, i+1)
	}
	d.steps = sorted
	return ""
}

// Inputs returns the telemetry that others are computed from, and that a
// device sends.
func (d *Derivation) Inputs() []string {
	var out []string
	for _, s := range d.steps {
		for _, slot := range s.slots {
			name := d.plan.Names()[slot].Name.Key
			if !slices.Contains(out, name) && !slices.ContainsFunc(d.steps, func(o step) bool {
				return o.property.Name == name
			}) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Metrics returns the names of what is computed.
func (d *Derivation) Metrics() []string {
	var out []string
	for _, s := range d.steps {
		out = append(out, s.property.Name)
	}
	slices.Sort(out)
	return out
}

// Compute returns the derived readings that readings of one device give rise
// to: one for each moment at which something they are computed from was
// measured. Other telemetry counts with its last value before that moment, as
// before tells; what is older than three times the expected interval is
// unknown, and nothing is computed from it. Other names are looked up in facts.
func (d *Derivation) Compute(readings []value.Reading,
	before func(metric string, at time.Time) (value.Reading, bool), facts func(expr.Name) value.Value) []value.Reading {
	names := d.plan.Names()
	if !slices.ContainsFunc(readings, func(r value.Reading) bool { return d.Uses(r.Metric) }) {
		return nil
	}
	room := d.desks.Get().(*desk)
	defer d.desks.Put(room)
	last, touched := room.last, room.touched
	clear(last)
	note := func(r value.Reading) {
		for slot, n := range names {
			if n.Name.Scope == "" && n.Name.Key == r.Metric {
				last[slot], touched[slot] = r, true
			}
		}
	}
	sorted := readings
	if byTime := func(a, b value.Reading) int { return a.At.Compare(b.At) }; !slices.IsSortedFunc(readings, byTime) {
		sorted = slices.Clone(readings)
		slices.SortStableFunc(sorted, byTime)
	}
	var out []value.Reading
	for len(sorted) > 0 {
		like, at := sorted[0], sorted[0].At
		clear(touched)
		n := 0
		for ; n < len(sorted) && sorted[n].At.Equal(at); n++ {
			note(sorted[n])
		}
		sorted = sorted[n:]
		var state *expr.State
		for _, s := range d.steps {
			if !slices.ContainsFunc(s.slots, func(slot int) bool { return touched[slot] }) {
				continue
			}
			if state == nil {
				state = room.state
				state.Renew(at)
				state.Advance(at)
			}
			for _, slot := range s.program.Uses() {
				name := names[slot].Name
				if name.Scope != "" {
					state.Set(slot, expr.Sample{Value: facts(name)})
					continue
				}
				r, ok := last[slot], last[slot].Metric != ""
				if !ok {
					r, ok = before(name.Key, at)
				}
				if ok && !r.At.After(at) {
					state.Set(slot, expr.Sample{Value: r.Value, At: r.At.UnixMilli()})
				}
			}
			v := s.program.Value(state)
			if s.convert != nil && v.Kind == value.Number {
				v = value.OfNumber(s.convert.Apply(v.Num))
			}
			if !v.Known() || v.Kind != s.property.Kind || s.property.Impossible(v) {
				continue
			}
			r := value.Reading{Metric: s.property.Name, At: at, Value: v, Quality: like.Quality &^ value.BeyondRange,
				DeviceAt: like.DeviceAt}
			if s.property.OutOfRange(v) {
				r.Quality |= value.BeyondRange
			}
			note(r)
			out = append(out, r)
		}
	}
	return out
}

// Uses reports whether something is computed from a metric.
func (d *Derivation) Uses(metric string) bool {
	for _, n := range d.plan.Names() {
		if n.Name.Scope == "" && n.Name.Key == metric {
			return true
		}
	}
	return false
}

// derived reports what is wrong with the derived telemetry of a model.
func (c *folder) derived(f File, m *model.Model, where func(string) place) {
	_, wrong := Derive(m)
	for _, w := range wrong {
		severity := "error"
		if w.Finding.Warning {
			severity = "warning"
		}
		at := where("/properties/" + strings.ReplaceAll(w.Property, "/", "~1") + "/ullage:derived")
		if w.Finding.Line <= 1 && w.Finding.Column > 1 {
			at.column += w.Finding.Column // the quote counts one
		}
		c.add(f.Path, at, severity, "expression", w.Finding.Suggest, "%s: %s", w.Property, w.Finding.Sentence)
	}
}
