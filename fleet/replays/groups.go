package replays

import (
	"context"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// maxGroupReadings is how many readings of a group are held in memory.
const maxGroupReadings = 20_000_000

// membership is when a device was in a group.
type membership struct {
	*past
	within [][2]time.Time
}

// during reports whether it was so at a time.
func (m *membership) during(at time.Time) bool {
	return slices.ContainsFunc(m.within, func(x [2]time.Time) bool { return !at.Before(x[0]) && at.Before(x[1]) })
}

// groups replays rules with each, group by group. Devices are in the groups of then.
func (r *Replays) groups(ctx context.Context, a Ask, rules []*rule.Rule, told func(*One, Progress) error) error {
	found := map[string]*One{}
	var order []string
	among := idSet(a.Devices)
	p := Progress{}
	outages, err := r.outages(ctx, a.From, a.To)
	if err != nil {
		return err
	}
	for i, x := range rules {
		if x.Each == "" {
			continue // the one in force is of another kind; there is nothing to compare
		}
		var of []*model.Model
		for _, name := range x.Models {
			m, err := r.o.Models.Get(name)
			if err != nil {
				return err
			}
			of = append(of, m)
		}
		plan, c, err := check.GroupRule(x, of, check.Around{Rules: append(r.o.Rules.Names(), x.Name)})
		if err != nil {
			if i > 0 {
				continue
			}
			return fault.New(fault.Invalid, "%s", err)
		}
		key := strings.TrimPrefix(x.Each, "label.")
		needs := attributes(plan, []*rule.Compiled{c}) || slices.ContainsFunc(outages, func(o outage) bool {
			return slices.ContainsFunc(slices.Collect(maps.Values(o.devices)), func(p *expr.Program) bool { return attributes(p.Plan(), nil) })
		})
		members := map[string][]*membership{}
		for _, d := range r.o.Devices.List() {
			if d.Status == devices.Retired || !x.Names(d.Model) || among != nil && !among[d.ID] {
				continue
			}
			p, _, err := r.past(ctx, d.ID, needs, a.From.Add(-warm))
			if err != nil {
				return err
			}
			if p == nil {
				continue
			}
			for label, within := range p.groups(c, key, a.From.Add(-warm), a.To) {
				members[label] = append(members[label], &membership{p, within})
			}
		}
		if i == 0 {
			p.Of = len(members)
		}
		for label, ps := range members {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			name := key + "=" + label
			res, err := r.group(ctx, a, plan, c, key, label, ps)
			if err != nil {
				return err
			}
			one := found[name]
			if one == nil {
				one = &One{Subject: name}
				found[name] = one
				order = append(order, name)
			}
			if i == 0 {
				one.Readings += res.Readings
			}
			side := Side{Lost: math.NaN()}
			side.add(res, func(at time.Time) bool { return len(outages) > 0 && r.allOut(outages, ps, at) })
			if i == 0 {
				one.This = side
			} else {
				one.InForce = &side
			}
		}
	}
	for _, name := range order {
		one := found[name]
		if a.Live {
			ideal := one.InForce
			if ideal == nil {
				ideal = &one.This
			}
			var err error
			if one.Live, err = r.live(ctx, a, name, ideal.Spans); err != nil {
				return err
			}
		}
		p.Done++
		p.Readings += one.Readings
		if err := told(one, p); err != nil {
			return err
		}
	}
	return nil
}

// allOut reports whether all devices of a group were out of service at a time.
func (r *Replays) allOut(of []outage, ms []*membership, at time.Time) bool {
	some := false
	for _, m := range ms {
		if !m.during(at) {
			continue
		}
		if !r.out(of, m.past, at) {
			return false
		}
		some = true
	}
	return some
}

// groups returns in which groups a device was when, by the label that makes them, while a
// rule was for it and it was not suspended.
func (p *past) groups(c *rule.Compiled, key string, from, to time.Time) map[string][][2]time.Time {
	label, status := expr.Name{Scope: "label", Key: key}, expr.Name{Scope: "device", Key: "status"}
	values := map[string]bool{p.at(label, from.UnixMilli()).Text: true}
	for _, x := range p.steps {
		if x.Name == label {
			values[x.Value.Text] = true
		}
	}
	delete(values, "")
	out := map[string][][2]time.Time{}
	for v := range values {
		within := p.scope(c, from, to, func(ms int64) bool {
			return p.at(label, ms).Text == v && p.at(status, ms).Text != string(devices.Suspended)
		}, label, status)
		if len(within) > 0 {
			out[v] = within
		}
	}
	return out
}

func (r *Replays) group(ctx context.Context, a Ask, plan *expr.Plan, c *rule.Compiled, key, label string, ps []*membership) (replay.Result, error) {
	slices.SortFunc(ps, func(a, b *membership) int { return strings.Compare(a.device.ID, b.device.ID) })
	judge := a.From.Add(-warm)
	zone := ps[0].zone
	if key != "site" {
		zone = r.o.Present.ZoneOf("")
	}
	g := replay.NewGroup(replay.GroupOptions{Plan: plan, Rule: c, Label: expr.Name{Scope: "label", Key: key}, Value: label, Zone: zone, Judge: judge, From: a.From})
	var metrics []string
	for _, n := range plan.Names() {
		if n.Name.Scope == "" {
			metrics = append(metrics, n.Name.Key)
		}
	}
	members := make([]replay.Member, len(ps))
	held := 0
	for i, p := range ps {
		s := plan.NewState(p.device.JoinedAt)
		s.In(p.zone)
		begin, err := r.recall(ctx, p.past, plan, s, judge)
		if err != nil {
			return replay.Result{}, err
		}
		m := replay.Member{State: s, Steps: p.begin(plan, s, judge)}
		for _, x := range p.within {
			m.Within = append(m.Within, [2]int64{x[0].UnixMilli(), x[1].UnixMilli()})
		}
		if m.Columns, err = r.columns(ctx, p.device.ID, metrics, begin, a.To); err != nil {
			return replay.Result{}, err
		}
		for _, col := range m.Columns {
			held += len(col.At)
		}
		if held > maxGroupReadings {
			return replay.Result{}, fault.New(fault.TooLarge, "the group %s=%s has more than %d readings in that time", key, label, maxGroupReadings).Then("say a shorter span")
		}
		members[i] = m
	}
	return g.Run(members, a.To), nil
}
