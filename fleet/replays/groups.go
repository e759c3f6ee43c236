package replays

import (
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// maxGroupReadings is how many readings of a group are held in memory.
const maxGroupReadings = 20_000_000

// groups replays rules with each, group by group. Devices are in the groups of now.
func (r *Replays) groups(ctx context.Context, a Ask, rules []*rule.Rule, told func(*One, Progress) error) error {
	found := map[string]*One{}
	var order []string
	among := idSet(a.Devices)
	p := Progress{}
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
		members := map[string][]*past{}
		for _, d := range r.o.Devices.List() {
			if d.Labels[key] == "" || d.Status == devices.Retired || d.Status == devices.Suspended || !x.Names(d.Model) || among != nil && !among[d.ID] {
				continue
			}
			p, _, err := r.past(ctx, d.ID)
			if err != nil {
				return err
			}
			if p != nil && chosen(c, p) {
				members[d.Labels[key]] = append(members[d.Labels[key]], p)
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
			side.add(res)
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

// chosen reports whether the selectors of a rule are true for a device now.
func chosen(c *rule.Compiled, p *past) bool {
	for _, prog := range c.Selects() {
		s := prog.Plan().NewState(time.Time{})
		for slot, n := range prog.Plan().Names() {
			v := p.get(n.Name)
			if n.Name.Scope == "label" && v.Text == "" {
				v = value.Value{}
			}
			s.Set(slot, expr.Sample{Value: v})
		}
		if prog.Truth(s) != expr.True {
			return false
		}
	}
	return true
}

func (r *Replays) group(ctx context.Context, a Ask, plan *expr.Plan, c *rule.Compiled, key, label string, ps []*past) (replay.Result, error) {
	slices.SortFunc(ps, func(a, b *past) int { return strings.Compare(a.device.ID, b.device.ID) })
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
		begin, err := r.recall(ctx, p, plan, s, judge)
		if err != nil {
			return replay.Result{}, err
		}
		m := replay.Member{State: s, Steps: p.begin(plan, s, judge)}
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
