package replays

import (
	"cmp"
	"context"
	"encoding/json"
	"math"
	"slices"
	"strconv"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/maintenance"
	"ullage/core/model"
	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/present"
)

// past is what was so on a device.
type past struct {
	device devices.Device
	get    present.Lookup
	zone   *time.Location
	// steps are what its labels, settings, attributes, link and status were from when on, in
	// order. What was so before anything is known of it is at always.
	steps []replay.Step
}

// always is the time of what was so before the first that is known of.
const always = math.MinInt64

// past gathers what was so on a device; its attributes from a time on, where they are asked
// for. It is nil for a device of no model.
func (r *Replays) past(ctx context.Context, id string, attributes bool, from time.Time) (*past, *model.Model, error) {
	d, err := r.o.Devices.Get(id)
	if err != nil {
		return nil, nil, err
	}
	get, m, ok := r.o.Present.Lookup(id)
	if !ok {
		return nil, nil, nil
	}
	p := &past{device: d, get: get, zone: r.o.Present.Zone(id)}
	for kind, scope := range map[commit.ValidityKind]string{commit.Label: "label", commit.Setting: "set", commit.Link: "device", commit.Status: "device"} {
		rows, err := r.o.Records.Validity(ctx, kind, id)
		if err != nil {
			return nil, nil, err
		}
		for _, v := range rows {
			s := replay.Step{At: v.From.UnixMilli(), Name: expr.Name{Scope: scope, Key: v.Key}, Value: value.OfText(v.Value)}
			switch kind {
			case commit.Link, commit.Status:
				s.Name.Key = string(kind)
			case commit.Setting:
				s.Value = value.Value{}
				if v.Value != "" && json.Unmarshal([]byte(v.Value), &s.Value) != nil {
					continue
				}
			}
			p.steps = append(p.steps, s)
		}
	}
	if attributes {
		if err := r.attributes(ctx, p, from); err != nil {
			return nil, nil, err
		}
	}
	slices.SortStableFunc(p.steps, func(a, b replay.Step) int { return cmp.Compare(a.At, b.At) })
	return p, m, nil
}

// attributes adds what a device said of itself, from a time on. It is in the facts about what
// has changed; one that changes more often than they tell is what was told last.
func (r *Replays) attributes(ctx context.Context, p *past, from time.Time) error {
	first := map[string]value.Value{}
	for before := int64(0); ; {
		page, err := r.o.Facts.Facts(ctx, fact.Filter{Kind: fact.AttributesReported, Device: p.device.ID, Since: from, Before: before, Limit: 1000})
		if err != nil {
			return err
		}
		for _, x := range page { // the newest first
			var c fact.Attributes
			if json.Unmarshal(x.Content, &c) != nil {
				continue
			}
			for k, v := range c.Changed {
				like := p.device.Attributes[k]
				p.steps = append(p.steps, replay.Step{At: x.At.UnixMilli(), Name: expr.Name{Scope: "attr", Key: k}, Value: likeText(v.Is, like)})
				first[k] = likeText(v.Was, like)
			}
		}
		if len(page) < 1000 || len(p.steps) > maxSteps {
			break
		}
		before = page[len(page)-1].Number
	}
	for k, v := range first {
		p.steps = append(p.steps, replay.Step{At: always, Name: expr.Name{Scope: "attr", Key: k}, Value: v})
	}
	return nil
}

// maxSteps is how much of what changed on one device is looked at; what changed before is as
// it was then.
const maxSteps = 50_000

// likeText reads a value as a fact tells it, where it is of the kind of another one.
func likeText(text string, like value.Value) value.Value {
	switch like.Kind {
	case value.Number:
		if n, err := strconv.ParseFloat(text, 64); err == nil {
			return value.OfNumber(n)
		}
	case value.Bool:
		if b, err := strconv.ParseBool(text); err == nil {
			return value.OfBool(b)
		}
	}
	if text == "" {
		return value.Value{}
	}
	return value.OfText(text)
}

// at is what a name stood for at a time: as it was where that is known, else as it is.
func (p *past) at(n expr.Name, ms int64) value.Value {
	var first, last *replay.Step
	for i := range p.steps {
		s := &p.steps[i]
		if s.Name != n {
			continue
		}
		if first == nil || !first.Value.Known() {
			first = s
		}
		if s.At <= ms {
			last = s
		}
	}
	switch {
	case last != nil && last.At > always:
		return last.Value
	case first != nil && ms < p.device.JoinedAt.UnixMilli():
		return first.Value // of before it was here there are readings alone
	case last != nil:
		return last.Value
	case first != nil && n.Scope == "label":
		return value.OfText("") // the label was given later
	}
	return p.get(n)
}

// holds reports whether a condition was true for a device at a time. Telemetry in it is that
// of now.
func (p *past) holds(prog *expr.Program, ms int64) bool {
	s := prog.Plan().NewState(p.device.JoinedAt)
	s.In(p.zone)
	for slot, n := range prog.Plan().Names() {
		v := p.at(n.Name, ms)
		if n.Name.Scope == "label" && v.Text == "" {
			v = value.Value{}
		}
		s.Set(slot, expr.Sample{Value: v})
	}
	s.Advance(value.FromMillis(ms))
	return prog.Truth(s) == expr.True
}

// scope returns the spans within which a rule is for a device, by what was so then, and
// more than that has to hold.
func (p *past) scope(c *rule.Compiled, from, to time.Time, also func(ms int64) bool, looks ...expr.Name) (out [][2]time.Time) {
	for _, prog := range c.Selects() {
		for _, n := range prog.Plan().Names() {
			looks = append(looks, n.Name)
		}
	}
	edges := []int64{from.UnixMilli()}
	for _, x := range p.steps {
		if slices.Contains(looks, x.Name) && x.At > edges[0] && x.At < to.UnixMilli() {
			edges = append(edges, x.At)
		}
	}
	edges = slices.Compact(edges)
	for i, at := range edges {
		if also != nil && !also(at) || slices.ContainsFunc(c.Selects(), func(prog *expr.Program) bool { return !p.holds(prog, at) }) {
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

// outage is one maintenance as it was for a time.
type outage struct {
	maintenance.Maintenance
	when        maintenance.Span
	from, until int64
	devices     map[string]*expr.Program // its selector, by model
}

// outages returns the maintenances that there were between two times, each in the versions
// that it had. Of one that nothing is known of over time the present one counts.
func (r *Replays) outages(ctx context.Context, from, to time.Time) ([]outage, error) {
	rows, err := r.o.Records.Since(ctx, commit.Maintenance, from)
	if err != nil {
		return nil, err
	}
	var out []outage
	var schemas map[string]*expr.Schema
	add := func(m maintenance.Maintenance, from, until int64) {
		if schemas == nil {
			schemas = check.Schemas(r.o.Models.List(), check.Around{Rules: r.o.Rules.Names()})
		}
		programs, _ := check.Fleet(m.Devices, schemas, expr.ForFilter) // none where what it asks for is gone
		out = append(out, outage{m, m.Span(), from, until, programs})
	}
	slices.SortFunc(rows, func(a, b commit.Validity) int {
		return cmp.Or(cmp.Compare(a.Subject, b.Subject), a.From.Compare(b.From))
	})
	known := map[string]bool{}
	for i, v := range rows {
		known[v.Subject] = true
		var m maintenance.Maintenance
		if v.Value == "" || json.Unmarshal([]byte(v.Value), &m) != nil {
			continue
		}
		until := to
		if i+1 < len(rows) && rows[i+1].Subject == v.Subject {
			until = rows[i+1].From
		}
		add(m, v.From.UnixMilli(), until.UnixMilli())
	}
	if r.o.Maintenances != nil {
		for _, m := range r.o.Maintenances() {
			if !known[m.Name] {
				add(m, from.UnixMilli(), to.UnixMilli())
			}
		}
	}
	return out, nil
}

// out reports whether a device was out of service for maintenance at a time.
func (r *Replays) out(of []outage, p *past, at time.Time) bool {
	ms := at.UnixMilli()
	return slices.ContainsFunc(of, func(o outage) bool {
		prog := o.devices[p.device.Model]
		return prog != nil && ms >= o.from && ms < o.until && o.when.Holds(at, p.zone) &&
			(o.Whole || r.o.MayOperate == nil || r.o.MayOperate(o.By, p.device.ID)) && p.holds(prog, ms)
	})
}
