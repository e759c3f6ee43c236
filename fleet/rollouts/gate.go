package rollouts

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/core/waves"
	"ullage/fleet/present"
)

// compile compiles the conditions of a gate over devices of some models.
func (r *Rollouts) compile(of []*model.Model, conditions []string, befores map[string]string) ([]*expr.Program, error) {
	slices.SortFunc(of, func(a, b *model.Model) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), model.CompareVersions(a.Version, b.Version))
	})
	s, err := check.GateSchema(of, check.Around{Rules: r.o.Rules()})
	if err != nil {
		return nil, err
	}
	return check.Gate(s, conditions, func(x string) (string, bool) { n, ok := befores[x]; return n, ok })
}

func (r *Rollouts) modelsOf(ids []string) []*model.Model {
	seen := map[*model.Model]bool{}
	for _, id := range ids {
		if d, err := r.o.Devices.Get(id); err == nil {
			if m, err := r.o.Models.Of(d.Model, d.Version); err == nil {
				seen[m] = true
			}
		}
	}
	return slices.Collect(maps.Keys(seen))
}

// group is the State of those devices of a wave that were reached.
func (r *Rollouts) group(x *Rollout, plan *expr.Plan, members []waves.Member, whole bool) *expr.State {
	now := r.o.Now()
	g := plan.NewState(now)
	var states []*expr.State
	for _, m := range members {
		if !whole && !m.Reached {
			continue
		}
		d, ok := r.o.Present.Get(m.ID)
		get, _, known := r.o.Present.Lookup(m.ID)
		if !ok || !known {
			continue
		}
		_, _, applied, refused := r.fate(x, d, m.Offered)
		s := plan.NewState(d.JoinedAt)
		s.In(r.o.Zone(m.ID))
		for slot, n := range plan.Names() {
			var v value.Value
			at := int64(0)
			switch n.Name {
			case expr.Name{Scope: "device", Key: check.GateApplied}:
				v = value.OfBool(applied)
			case expr.Name{Scope: "device", Key: check.GateRefused}:
				v = value.OfBool(refused)
			case expr.Name{Scope: "device", Key: check.GateAlarmed}:
				since := x.Run.Began
				if x.Run.Passed {
					since = m.Offered
				}
				v = value.OfBool(alarmed(d, since))
			case expr.Name{Scope: "device", Key: check.GateHeadspace}:
				if d.Least != nil && d.Least.Known {
					v = value.OfNumber(d.Least.Headspace * 100)
				}
			default:
				v = get(n.Name)
				if l, ok := d.Latest[n.Name.Key]; ok && n.Name.Scope == "" {
					at = l.At.UnixMilli()
				}
			}
			s.Set(slot, expr.Sample{Value: v, At: at})
		}
		s.Advance(now)
		states = append(states, s)
	}
	g.Group(states)
	g.Advance(now)
	return g
}

// alarmed reports whether an urgent or high alarm was raised on a device since a time.
func alarmed(d *present.Device, since time.Time) bool {
	return slices.ContainsFunc(d.Alarms, func(a present.Alarm) bool {
		return a.Holds && (a.Priority == rule.Urgent || a.Priority == rule.High) && !a.RaisedAt.Before(since)
	})
}

// conditions works out what each condition of the gate is now.
func (r *Rollouts) conditions(x *Rollout, members []waves.Member) []waves.Condition {
	if x.Run.Passed {
		members = slices.DeleteFunc(slices.Clone(members), func(m waves.Member) bool { return !x.Plan.Judged(m, x.Soak, r.o.Now()) })
	}
	r.mu.Lock()
	g := r.gates[x.ID]
	r.mu.Unlock()
	sources := x.Plan.Conditions()
	if g == nil || g.wave != x.Run.Wave || g.late != x.Run.Passed {
		programs, err := r.compile(r.modelsOf(slices.Concat(x.Waves...)), sources, x.Befores)
		if err != nil {
			r.o.Log.Error("the gate of a rollout cannot be asked", "rollout", x.ID, "error", err)
			return []waves.Condition{{Source: sources[0], Says: err.Error()}}
		}
		g = &gate{x.Run.Wave, x.Run.Passed, programs, sources}
		r.mu.Lock()
		r.gates[x.ID] = g
		r.mu.Unlock()
	}
	var out []waves.Condition
	for i, p := range g.programs {
		s := r.group(x, p.Plan(), members, false)
		part := p.Explain(s)
		c := waves.Condition{Source: sources[i], Truth: p.Truth(s), Progress: check.IsProgress(sources[i]), Says: part.Value}
		if len(part.Parts) > 0 {
			c.Says = part.Parts[0].Value
		}
		if c.Truth == expr.Unknown && c.Says == "" {
			c.Says = "not known"
		}
		out = append(out, c)
	}
	return out
}

// befores works out what before(x) stands for as a wave of a rollout begins, or as it begins
// to wait for those that come late.
func (r *Rollouts) befores(x *Rollout) map[string]string {
	out := map[string]string{}
	for _, src := range x.Plan.Conditions() {
		check.Befores(src, func(of string) {
			s, err := check.GateSchema(r.modelsOf(slices.Concat(x.Waves...)), check.Around{Rules: r.o.Rules()})
			if err != nil {
				return
			}
			p, _ := expr.Compile(of, s, expr.ForGroupMessage)
			if p == nil {
				return
			}
			next := *x
			next.Run.Began = r.o.Now()
			var members []waves.Member
			for _, m := range r.members(&next) {
				if !m.Late || x.Run.Passed {
					members = append(members, m)
				}
			}
			v := p.Value(r.group(&next, p.Plan(), members, true))
			if v.Kind != value.Number {
				return
			}
			out[of] = fmt.Sprint(v.Num)
			if u := p.Type.Unit.Symbol; u != "" && !p.Type.Bare() {
				out[of] += " '" + u + "'"
			}
		})
	}
	return out
}
