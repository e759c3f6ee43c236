package api

import (
	"context"
	"math"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/model"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/fault"
	"ullage/fleet/present"
	"ullage/fleet/scoped"
)

// unitsOf are the operations whose numbers may be asked for in the units that
// somebody prefers.
var unitsOf = []string{"devices", "device", "live", "history", "readings", "query", "different", "peers", "export", "statistics", "forecast",
	"alarms", "settings", "change-settings", "model", "as-of"}

// units adds the parameter with which units are chosen to the operations that have it.
func (s *server) units() {
	for _, path := range s.api.OpenAPI().Paths {
		for _, o := range []*huma.Operation{path.Get, path.Post} {
			if o != nil && slices.Contains(unitsOf, o.OperationID) {
				o.Parameters = append(o.Parameters, &huma.Param{Name: "units", In: "query",
					Description: "Units of numbers: those of the models, or those that whoever asks prefers",
					Schema:      &huma.Schema{Type: "string", Enum: []any{"model", "own"}, Default: "model"}})
			}
		}
	}
}

type unitsKey struct{}

// inUnits notes in which units somebody asks.
func (s *server) inUnits(ctx huma.Context, next func(huma.Context)) {
	switch u := ctx.Query("units"); {
	case u == "own" && slices.Contains(unitsOf, ctx.Operation().OperationID):
		ctx = huma.WithValue(ctx, unitsKey{}, true)
	case u != "" && u != "model" && slices.Contains(unitsOf, ctx.Operation().OperationID):
		s.deny(ctx, fault.New(fault.Invalid, "%q is no choice of units", value.Clip(u, 40)).Then("write model or own").On("units"))
		return
	}
	next(ctx)
}

// ownUnits turns answers into the units that somebody prefers. The nil ownUnits
// leaves them as they are. Sentences that the service has made stay as they were said.
type ownUnits struct {
	prefer unit.Preferred
	fleet  *scoped.Fleet
	caller access.Caller
	models map[string]*model.Model // by name@version
}

// ownUnits returns how the answer to a request is to be shown.
func (s *server) ownUnits(ctx context.Context) *ownUnits {
	if ctx.Value(unitsKey{}) == nil {
		return nil
	}
	p, ok := s.People.Find(by(ctx).Person)
	if !ok || p.Preferences == nil || len(p.Preferences.Units) == 0 {
		return nil
	}
	return &ownUnits{prefer: p.Preferences.Units, fleet: s.Fleet, caller: caller(ctx), models: map[string]*model.Model{}}
}

// preferred returns the units of a query's answer.
func (v *ownUnits) preferred() unit.Preferred {
	if v == nil {
		return nil
	}
	return v.prefer
}

// change is how the numbers of one unit are shown in another.
type change struct {
	from, to unit.Unit
	convert  unit.Conversion
}

// of returns the change of a unit; false where there is none.
func (v *ownUnits) of(symbol string) (c change, ok bool) {
	if v == nil || symbol == "" {
		return c, false
	}
	want := v.prefer.Symbol(symbol)
	if want == symbol {
		return c, false
	}
	var err error
	if c.from, err = unit.Lookup(symbol); err != nil {
		return c, false
	}
	if c.to, err = unit.Lookup(want); err != nil {
		return c, false
	}
	c.convert, err = c.from.To(c.to)
	return c, err == nil
}

// value converts a number, and leaves what is none.
func (c change) value(x any) any {
	if f, ok := number(x); ok {
		return round(c.convert.Apply(f))
	}
	return x
}

// round takes off what a conversion has added behind the twelfth digit.
func round(f float64) float64 {
	out, err := strconv.ParseFloat(strconv.FormatFloat(f, 'g', 12, 64), 64)
	if err != nil {
		return f
	}
	return out
}

func (c change) bound(x *float64) *float64 {
	if x == nil {
		return nil
	}
	f := round(c.convert.Apply(*x))
	return &f
}

func (c change) span(x []float64) []float64 {
	out := make([]float64, len(x))
	for i := range x {
		out[i] = round(c.convert.Apply(x[i]))
	}
	return out
}

func number(x any) (float64, bool) {
	switch x := x.(type) {
	case float64:
		return x, true
	case int64:
		return float64(x), true
	case int:
		return float64(x), true
	}
	return 0, false
}

// device shows one device.
func (v *ownUnits) device(d *present.Device) client.Device {
	out := deviceOf(d)
	if v == nil {
		return out
	}
	for i, m := range out.Margins {
		if c, ok := v.of(m.Unit); ok {
			m.Value, m.Limit = round(c.convert.Apply(m.Value)), round(c.convert.Apply(m.Limit))
			m.Unit, m.Display = c.to.Symbol, c.to.Display()
			out.Margins[i] = m
		}
	}
	m := v.model(d)
	if m == nil {
		return out
	}
	for name, l := range out.Latest {
		if p, ok := m.Property(name); ok {
			if c, ok := v.of(p.Unit); ok {
				l.Value = c.value(l.Value)
				out.Latest[name] = l
			}
		}
	}
	return out
}

// then shows how one device was: its settings and readings.
func (v *ownUnits) then(d client.DeviceThen) client.DeviceThen {
	if v == nil || d.Model == "" {
		return d
	}
	m, err := v.fleet.Model(v.caller, d.Model+"@"+d.Version)
	if err != nil {
		return d
	}
	change := func(name string, x any) any {
		p, ok := m.Property(name)
		if !ok {
			return x
		}
		c, ok := v.of(p.Unit)
		if !ok {
			return x
		}
		return c.value(x)
	}
	for name, l := range d.Latest {
		l.Value = change(name, l.Value)
		d.Latest[name] = l
	}
	for name, x := range d.Settings {
		x.Value = change(name, x.Value)
		d.Settings[name] = x
	}
	return d
}

// model returns the model of a device; nil where it cannot be read.
func (v *ownUnits) model(d *present.Device) *model.Model {
	key := d.Model + "@" + d.ModelVersion
	if m, ok := v.models[key]; ok {
		return m
	}
	_, m, err := v.fleet.Registered(v.caller, d.ID)
	if err != nil {
		return nil
	}
	v.models[key] = m
	return m
}

func (v *ownUnits) devices(in []*present.Device) []client.Device {
	out := make([]client.Device, len(in))
	for i, d := range in {
		out[i] = v.device(d)
	}
	return out
}

// property shows what a model says of a metric or a setting.
func (v *ownUnits) property(p client.Property) client.Property {
	c, ok := v.of(p.Unit)
	if !ok {
		return p
	}
	p.Minimum, p.Maximum = c.bound(p.Minimum), c.bound(p.Maximum)
	if p.Usual != nil {
		p.Usual = c.span(p.Usual)
	}
	if p.Accept != nil {
		p.Accept = c.span(p.Accept)
	}
	p.Default = c.value(p.Default)
	p.Decimals = unit.Decimals(p.Decimals, c.from, c.to)
	p.Unit, p.Display = c.to.Symbol, c.to.Display()
	p.Says = ""
	return p
}

// settings shows the settings of a device.
func (v *ownUnits) settings(in client.Settings) client.Settings {
	for i, x := range in.Settings {
		c, ok := v.of(x.Unit)
		if !ok {
			continue
		}
		x.Intended, x.Applied = c.value(x.Intended), c.value(x.Applied)
		x.Minimum, x.Maximum = c.bound(x.Minimum), c.bound(x.Maximum)
		x.Decimals = unit.Decimals(x.Decimals, c.from, c.to)
		x.Unit, x.Display = c.to.Symbol, c.to.Display()
		in.Settings[i] = x
	}
	return in
}

// given turns settings that somebody has written in the units that they are shown in
// back into those of the model: exactly, so that 77 °F is 25 °C and not nearly.
func (v *ownUnits) given(set map[string]any, m *model.Model) map[string]any {
	if v == nil || m == nil {
		return set
	}
	out := make(map[string]any, len(set))
	for name, x := range set {
		out[name] = x
		p, ok := m.Property(name)
		if !ok {
			continue
		}
		if c, ok := v.of(p.Unit); ok {
			if f, ok := number(x); ok {
				if back, err := c.to.Literal(f, c.from); err == nil {
					if back = round(back); p.Integer {
						back = math.Round(back) // the nearest that there is
					}
					out[name] = back
				}
			}
		}
	}
	return out
}

// alarm shows an alarm whose numbers have a unit.
func (v *ownUnits) alarm(a client.Alarm, symbol string) client.Alarm {
	c, ok := v.of(symbol)
	if !ok {
		return a
	}
	a.Value, a.Limit = c.value(a.Value), c.value(a.Limit)
	a.Now, a.LimitNow = c.bound(a.Now), c.bound(a.LimitNow)
	a.Display = c.to.Display()
	return a
}
