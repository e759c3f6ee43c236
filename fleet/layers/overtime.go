package layers

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"time"

	"ullage/core/expr"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// Moment is how many devices had, at a time, what they are intended to have now.
type Moment struct {
	At         time.Time
	AsIntended int
}

// moments is in how many steps a span is told.
const moments = 120

// OverTime tells how devices came to have what a layer gives them now, or all that is
// intended for them where the name is empty: for each of the steps of a span that ends now,
// how many of those that are in scope now had it. It is worked out from since when each
// setting has had its value, so that nothing has to be set up before.
func (l *Layers) OverTime(ctx context.Context, name string, span time.Duration, sees func(device string) bool) (scope int, out []Moment, err error) {
	if span < time.Minute || span > 366*24*time.Hour {
		return 0, nil, fault.New(fault.Invalid, "the span is %s; it is between a minute and a year", span)
	}
	var x layering.Layer
	if name != "" {
		if x, err = l.Get(name); err != nil {
			return 0, nil, err
		}
	}
	wants := map[[2]string]string{} // by device and setting
	left := map[string]int{}        // settings of a device that are not as wanted
	for _, d := range l.o.Devices.List() {
		if d.Status == devices.Retired || sees != nil && !sees(d.ID) {
			continue
		}
		n := 0
		for setting, v := range l.given(name, x, d) {
			if text, err := json.Marshal(v); err == nil && v.Known() {
				wants[[2]string{d.ID, setting}] = string(text)
				n++
			}
		}
		if n > 0 {
			left[d.ID] = n
		}
	}
	to := l.o.Now()
	from := to.Add(-span)
	rows, err := l.o.Records.Since(ctx, commit.Setting, from)
	if err != nil {
		return 0, nil, err
	}
	slices.SortStableFunc(rows, func(a, b commit.Validity) int { return a.From.Compare(b.From) })
	has := map[[2]string]bool{}
	as, i := 0, 0
	for step := range moments + 1 {
		at := from.Add(span * time.Duration(step) / moments)
		for ; i < len(rows) && !rows[i].From.After(at); i++ {
			k := [2]string{rows[i].Subject, rows[i].Key}
			want, asked := wants[k]
			if is := rows[i].Value == want; asked && is != has[k] {
				has[k] = is
				was := left[k[0]]
				if left[k[0]]--; !is {
					left[k[0]] = was + 1
				}
				if left[k[0]] == 0 {
					as++
				} else if was == 0 {
					as--
				}
			}
		}
		out = append(out, Moment{at, as})
	}
	return len(left), out, nil
}

// given are the settings of a device that come from a layer, or all that are intended for it
// where no layer is named.
func (l *Layers) given(name string, x layering.Layer, d devices.Device) layering.Settings {
	s, m, err := l.o.Settings.Of(d.ID)
	if err != nil {
		return nil
	}
	if name == "" {
		return s.Intended
	}
	x, has := l.onto(nil, x, d.ID)
	if !has {
		return nil
	}
	c := l.compiled(x, m)
	if c.nothing || l.matches(c, d) != expr.True {
		return nil
	}
	origins, err := l.o.Settings.Origins(d.ID)
	if err != nil {
		return nil
	}
	out := layering.Settings{}
	for setting, v := range c.part.Gives {
		if origins[setting] == c.part.Origin {
			out[setting] = v
		}
	}
	return out
}

// Forbidden is a value that the newest version of a model does not allow any more, or a
// setting that it has not.
type Forbidden struct {
	Model, Version string // the newest
	Origin         layering.Origin
	Setting        string
	Value          string // as people write it
	Why            string
	Devices        []string // of an older version, that have it
}

// Forbids tells what devices would lose with the newest version of their model: values of
// layers and overrides that it does not allow.
func (l *Layers) Forbids(sees func(device string) bool) []Forbidden {
	newest := map[string]*model.Model{}
	for _, m := range l.o.Models.List() {
		if n := newest[m.Name]; n == nil || model.CompareVersions(n.Version, m.Version) < 0 {
			newest[m.Name] = m
		}
	}
	type key struct{ model, origin, setting, value string }
	found := map[key]*Forbidden{}
	for _, d := range l.o.Devices.List() {
		to := newest[d.Model]
		if d.Status == devices.Retired || to == nil || to.Version == d.Version || sees != nil && !sees(d.ID) {
			continue
		}
		s, m, err := l.o.Settings.Of(d.ID)
		if err != nil {
			continue
		}
		origins, err := l.o.Settings.Origins(d.ID)
		if err != nil {
			continue
		}
		for _, all := range []layering.Settings{s.Intended, s.Kept} {
			for setting, v := range all {
				from := origins[setting]
				if from.Source == layering.FromModel || from.Source == "" {
					continue
				}
				p, ok := to.Property(setting)
				why := ""
				switch {
				case !ok || p.Role != model.Setting:
					why = "it has no such setting"
				case !p.Holds(v):
					why = "it allows " + p.RangeWords()
				default:
					continue
				}
				old, _ := m.Property(setting)
				k := key{to.Name, string(from.Source) + from.Name, setting, old.Say(v)}
				if found[k] == nil {
					found[k] = &Forbidden{Model: to.Name, Version: to.Version, Origin: from, Setting: setting, Value: old.Say(v), Why: why}
				}
				found[k].Devices = append(found[k].Devices, d.ID)
			}
		}
	}
	out := []Forbidden{}
	for _, f := range found {
		slices.Sort(f.Devices)
		out = append(out, *f)
	}
	slices.SortFunc(out, func(a, b Forbidden) int {
		return cmp.Or(cmp.Compare(a.Model, b.Model), len(b.Devices)-len(a.Devices), cmp.Compare(a.Setting, b.Setting), cmp.Compare(a.Value, b.Value), cmp.Compare(a.Origin.Name, b.Origin.Name))
	})
	return out
}
