package sim

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ullage/core/model"
	"ullage/core/value"
)

// FleetOf returns n devices of a model that nobody has built yet: they report
// sane values, mostly inside the usual range, and obey what the model allows.
func FleetOf(m *model.Model, n int) []Unit {
	out := make([]Unit, n)
	for i := range out {
		out[i] = Unit{ID: fmt.Sprintf("%s-sim-%02d", m.Name, i+1), Model: m.Name,
			Labels: map[string]string{"site": siteNames[i%len(siteNames)]}, Protocol: MQTT5, Every: m.Interval, Writable: true, Of: m}
	}
	return out
}

// invent returns what a device of any model measures at a time: numbers wander
// about their usual range, texts and booleans change now and then, counters
// grow.
func (w World) invent(u Unit, at time.Time) map[string]any {
	out := map[string]any{}
	for _, p := range u.Of.With(model.Telemetry) {
		if !p.Stored() || p.Derived != "" {
			continue
		}
		in := out
		for _, step := range p.Path[:len(p.Path)-1] {
			next, ok := in[step].(map[string]any)
			if !ok {
				next = map[string]any{}
				in[step] = next
			}
			in = next
		}
		in[p.Path[len(p.Path)-1]] = w.one(u, p, at)
	}
	return out
}

func (w World) one(u Unit, p *model.Property, at time.Time) any {
	slow := w.wander(u.ID, p.Name, at, 90*time.Minute)
	switch {
	case len(p.Enum) > 0:
		k := int((slow + 1) / 2 * float64(len(p.Enum)))
		return p.Enum[min(max(k, 0), len(p.Enum)-1)]
	case p.Kind == value.Bool:
		return slow > 0.4
	case p.Kind != value.Number || p.Schema != nil && (p.Schema.Const != nil || len(p.Schema.Enum) > 0 ||
		len(p.Schema.OneOf) > 0):
		return p.Example().Any()
	}
	// A little noise on a slow wave; 0 and 1 are the ends of the usual range.
	return p.At(min(max(0.5+0.38*slow+0.06*w.jitter(u.ID, p.Name, at), 0), 1))
}

// attributes are what a device of any model says about itself.
func (w World) attributes(u Unit) map[string]any {
	out := map[string]any{model.ReportedVersion: u.Of.Version}
	for _, p := range u.Of.With(model.Attribute) {
		if !p.Stored() || len(p.Path) > 1 {
			continue
		}
		v := p.Example()
		if p.Kind == value.Text && len(p.Enum) == 0 &&
			(p.Schema == nil || p.Schema.Format == "" && p.Schema.Pattern == nil) &&
			strings.Contains(p.Name, "serial") {
			v = value.OfText(fmt.Sprintf("SIM-%06d", int(500000*(1+w.noise(u.ID, p.Name, 0)))))
		}
		out[p.Name] = v.Any()
	}
	return out
}

// refusesAny returns why a device of any model does not apply a setting.
func (u Unit) refusesAny(name string, x any) (string, any) {
	p, ok := u.Of.Property(name)
	if !ok || p.Role != model.Setting {
		return "no such setting", nil
	}
	v, err := p.Check(x)
	if err != nil {
		return err.Error(), p.Default.Any()
	}
	if p.OutOfRange(v) {
		return "not " + p.RangeWords(), p.Default.Any()
	}
	return "", nil
}

// paced returns the setting that says how often a device of a model reports,
// and how long one of its units is; "" where there is none.
func paced(m *model.Model) (string, time.Duration) {
	units := map[string]time.Duration{"s": time.Second, "min": time.Minute, "h": time.Hour, "ms": time.Millisecond}
	for _, p := range m.With(model.Setting) {
		if u, ok := units[p.Unit]; ok && p.Kind == value.Number &&
			slices.ContainsFunc([]string{"report", "interval", "period", "every"}, func(w string) bool {
				return strings.Contains(p.Name, w)
			}) {
			return p.Name, u
		}
	}
	return "", 0
}
