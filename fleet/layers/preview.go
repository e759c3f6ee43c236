package layers

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"ullage/core/expr"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/record"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// Proposal is a change of which it is to be known first what it does.
type Proposal struct {
	Layer *layering.Layer // put on top, or in the place of the one of its name
	// Checked says that the layer was checked already, with models that come with it.
	Checked bool
	Remove  string   // a layer
	Order   []string // of all layers as they are then; nil leaves it
	// Labels that Devices would get, and Version of Model.
	Devices []string
	Labels  map[string]string
	Version string
}

// Difference is one setting of one device that would have another value.
type Difference struct {
	Device  string
	Setting string
	From    value.Value // the zero Value for none
	To      value.Value
	By      layering.Origin // what would give it
	// Refused is why the device has refused this setting in what it said last.
	Refused string
	Kept    bool // by the service: in force at once
}

// Preview is what a proposal would change.
type Preview struct {
	// Tag names this list: a change that is made with it fails where the list is another one
	// by then.
	Tag         string
	Devices     int // whose settings would change
	Scope       int // that the target of the layer chooses; of a proposal with a layer
	Differences []Difference
	Lacking     map[string][]string // models in scope that lack a setting
	Warnings    expr.Findings
}

// proposed is the layers as they would be.
func (l *Layers) proposed(p Proposal) (view, Preview, error) {
	out := Preview{Lacking: map[string][]string{}}
	v := l.view(nil)
	order := slices.Clone(v.order)
	find := v.find
	if p.Remove != "" {
		if _, err := l.Get(p.Remove); err != nil {
			return v, out, err
		}
		order = slices.DeleteFunc(order, func(n string) bool { return n == p.Remove })
	}
	if x := p.Layer; x != nil {
		if !p.Checked {
			fit, err := l.judge(x)
			if err != nil {
				return v, out, err
			}
			out.Lacking, out.Warnings = fit.Lacking, fit.Warnings
		}
		sealed, err := l.Sealed(*x)
		if err != nil {
			return v, out, err
		}
		x = &sealed
		if !slices.Contains(order, x.Name) {
			order = append(order, x.Name)
		}
		find = func(name string) (layering.Layer, bool) {
			if name == x.Name {
				return *x, true
			}
			return v.find(name)
		}
	}
	if p.Order != nil {
		is, want := slices.Sorted(slices.Values(p.Order)), slices.Sorted(slices.Values(order))
		if !slices.Equal(is, want) {
			if err := l.checkOrder(p.Order); err != nil {
				return v, out, err
			}
			return v, out, fault.New(fault.Invalid, "the order names other layers than there would be").Then("name each once, the lowest first").On("layer")
		}
		order = p.Order
	}
	return view{order: order, find: find, proposed: nameOf(p.Layer)}, out, nil
}

// Preview works out what a proposal would change, over the devices that sees lets pass; all
// where it is nil.
func (l *Layers) Preview(p Proposal, sees func(device string) bool) (Preview, error) {
	v, out, err := l.proposed(p)
	if err != nil {
		return out, err
	}
	chosen := map[string]bool{}
	for _, id := range p.Devices {
		chosen[id] = true
	}
	all := l.o.Devices.List()
	// While settings are being worked out, what is intended lags behind: a change that is on its
	// way already is none of this one.
	lags := l.o.Settings.Pending() > 0
	type found struct {
		differences []Difference
		scope       bool
	}
	results := make([]found, len(all))
	var each sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	for w := range workers {
		each.Go(func() {
			for i := w; i < len(all); i += workers {
				d := all[i]
				if d.Status == devices.Retired || sees != nil && !sees(d.ID) {
					continue
				}
				results[i].differences, results[i].scope = l.differences(v, p, d, chosen[d.ID], lags)
			}
		})
	}
	each.Wait()
	sum := sha256.New()
	for _, r := range results {
		if r.scope {
			out.Scope++
		}
		if len(r.differences) > 0 {
			out.Devices++
		}
		for _, x := range r.differences {
			fmt.Fprintf(sum, "%s\x00%s\x00%v\x00%v\n", x.Device, x.Setting, x.From, x.To)
		}
		out.Differences = append(out.Differences, r.differences...)
	}
	out.Tag = hex.EncodeToString(sum.Sum(nil))[:16]
	return out, nil
}

// differences are what a proposal changes on one device: beside what it was sent, or where that
// lags behind what it will be sent anyway.
func (l *Layers) differences(v view, p Proposal, d devices.Device, chosen, lags bool) (out []Difference, scope bool) {
	s, m, err := l.o.Settings.Of(d.ID)
	if err != nil {
		return nil, false
	}
	next, to := d, m
	if chosen {
		if len(p.Labels) > 0 {
			next.Labels = maps.Clone(d.Labels)
			if next.Labels == nil {
				next.Labels = map[string]string{}
			}
			for k, x := range p.Labels {
				if x == "" {
					delete(next.Labels, k)
				} else {
					next.Labels[k] = x
				}
			}
		}
		if p.Version != "" {
			if to, err = l.o.Models.Of(d.Model, p.Version); err != nil {
				return nil, false
			}
			next.Version = p.Version
		}
	}
	if p.Layer != nil {
		c := l.compiled(*p.Layer, to)
		scope = !c.nothing && l.matches(c, next) == expr.True
	}
	would := l.o.Settings.Would(next, to, l.parts(v, next, to))
	was := make(layering.Settings, len(s.Intended)+len(s.Kept))
	if lags {
		was = l.o.Settings.Would(d, m, l.parts(l.view(nil), d, m)).Settings
	} else {
		maps.Copy(was, s.Intended)
		maps.Copy(was, s.Kept)
	}
	for _, name := range would.Settings.Names() {
		prop, ok := to.Property(name)
		if !ok {
			continue
		}
		is := was[name]
		if is != would.Settings[name] {
			out = append(out, Difference{Device: d.ID, Setting: name, From: is, To: would.Settings[name], By: would.Origin[name],
				Refused: s.Refused[name], Kept: prop.KeptByService})
		}
	}
	for name, is := range was {
		if _, ok := would.Settings[name]; !ok {
			out = append(out, Difference{Device: d.ID, Setting: name, From: is})
		}
	}
	slices.SortFunc(out, func(a, b Difference) int { return strings.Compare(a.Setting, b.Setting) })
	return out, scope
}

// Step is one thing that may give a setting of a device, and what it has to say.
type Step struct {
	layering.Origin
	Target  string
	Access  string     // of the author of a layer, if they have some devices only
	Matches expr.Truth // of layers; the others do
	Gives   value.Value
	Removes bool
	Wins    bool
	// Wrong says why the version of the device's model does not allow what a layer gives, so
	// that the device does not get it.
	Wrong string
}

// Explain says, for a setting of a device, everything that could give it, the weakest
// first: which layers match and which do not, what each gives, and which one wins.
func (l *Layers) Explain(id, setting string) ([]Step, *model.Property, error) {
	d, err := l.o.Devices.Get(id)
	if err != nil {
		return nil, nil, err
	}
	_, m, err := l.o.Settings.Of(id)
	if err != nil {
		return nil, nil, err
	}
	p, ok := m.Property(setting)
	if !ok || p.Role != model.Setting {
		e := fault.New(fault.NotFound, "%s has no setting %s", m, value.Clip(setting, 60)).On("setting")
		if near := m.Nearest(setting, model.Setting); near != "" {
			e = e.Then("did you mean %s?", near)
		}
		return nil, nil, e
	}
	out := []Step{{Origin: layering.Origin{Source: layering.FromModel, Name: m.String()}, Matches: expr.True, Gives: p.Default}}
	for _, x := range l.Ordered() {
		x, has := l.onto(nil, x, id)
		v, gives := x.Set[setting]
		if !gives || !has {
			continue
		}
		c := l.compiled(x, m)
		s := Step{Origin: layering.Origin{Source: layering.FromLayer, Name: x.Name}, Target: x.Target, Access: x.Access, Matches: l.matches(c, d),
			Gives: c.part.Gives[setting], Removes: v == nil}
		if _, wrong := m.Fields(map[string]any{setting: v}, model.Setting); v != nil && len(wrong) > 0 {
			s.Wrong = wrong[0].Sentence
		}
		out = append(out, s)
	}
	parts, err := l.o.Settings.Parts(id)
	if err != nil {
		return nil, nil, err
	}
	for _, part := range parts {
		if v, ok := part.Gives[setting]; ok && part.Source != layering.FromLayer {
			out = append(out, Step{Origin: part.Origin, Matches: expr.True, Gives: v})
		}
	}
	for i := len(out) - 1; i >= 0; i-- {
		if out[i].Matches != expr.True {
			continue
		}
		if out[i].Removes {
			out[0].Wins = true
			break
		}
		if out[i].Gives.Known() || i == 0 {
			out[i].Wins = true
			break
		}
	}
	return out, p, nil
}

// Reason is why devices refuse a setting.
type Reason struct {
	Setting, Reason string
	Devices         []string
}

// Fate is on how many devices a value of a layer wins, and to what it loses on others.
type Fate struct {
	Setting string
	Value   value.Value // zero where it is taken off
	Wins    int
	Loses   map[string]int // by what wins instead, such as "layer hardware-b" or "override"
}

// Status is how far devices are with what they were given.
type Status struct {
	Layer      string // empty for the whole fleet
	Scope      int
	AsIntended int
	Pending    int
	Refused    int
	Drifted    int
	Waiting    int // has the version of before: it waits for its wave, or was left out
	Offline    int // of those in scope: silent or never heard of
	Live       int
	Reasons    []Reason
	Fates      []Fate
	// Devices are those in each state, by its name.
	Devices map[string][]string
}

// Status counts how far the devices are that a layer chooses, or all of them where the name
// is empty. Link tells of a device whether it is in contact; sees narrows to some devices.
func (l *Layers) Status(name string, link func(device string) (live, offline bool), sees func(device string) bool) (Status, error) {
	out := Status{Layer: name, Devices: map[string][]string{}}
	var x layering.Layer
	if name != "" {
		var err error
		if x, err = l.Get(name); err != nil {
			return out, err
		}
	}
	reasons := map[[2]string]*Reason{}
	fates := map[string]*Fate{}
	newest, behind, all := x, l.behind(), l.Ordered()
	for _, d := range l.o.Devices.List() {
		if d.Status == devices.Retired || sees != nil && !sees(d.ID) {
			continue
		}
		s, m, err := l.o.Settings.Of(d.ID)
		if err != nil {
			continue
		}
		of := func(string) bool { return true } // settings that count
		waits := false
		if name != "" {
			x, c, is, soon := l.chooses(newest, d, m, behind)
			if !is && !soon {
				continue
			}
			waits = soon
			of = func(setting string) bool { _, gives := x.Set[setting]; return is && gives }
			if is {
				l.fate(fates, x, c, d, m)
			}
		} else {
			waits = slices.ContainsFunc(all, func(x layering.Layer) bool { return behind(x, d.ID) && l.matches(l.compiled(x, m), d) == expr.True })
		}
		out.Scope++
		state := "applied"
		drift := s.Drift()
		differs := false
		for setting, v := range s.Intended {
			differs = differs || of(setting) && s.Applied[setting] != v
		}
		if !s.Confirmed() && (differs || name == "") && len(s.Intended) > 0 {
			state = "pending"
		}
		for _, x := range drift {
			if !of(x.Name) {
				continue
			}
			if x.Reason == "" {
				if state == "applied" {
					state = "drift"
				}
				continue
			}
			state = "refused"
			k := [2]string{x.Name, x.Reason}
			if reasons[k] == nil {
				reasons[k] = &Reason{Setting: x.Name, Reason: x.Reason}
			}
			reasons[k].Devices = append(reasons[k].Devices, d.ID)
		}
		if state == "applied" && waits {
			state = "waiting"
		}
		switch state {
		case "waiting":
			out.Waiting++
		case "pending":
			out.Pending++
		case "refused":
			out.Refused++
		case "drift":
			out.Drifted++
		default:
			out.AsIntended++
		}
		out.Devices[state] = append(out.Devices[state], d.ID)
		if live, offline := link(d.ID); live {
			out.Live++
		} else if offline {
			out.Offline++
			out.Devices["offline"] = append(out.Devices["offline"], d.ID)
		}
	}
	for _, r := range reasons {
		out.Reasons = append(out.Reasons, *r)
	}
	slices.SortFunc(out.Reasons, func(a, b Reason) int {
		return cmp.Or(len(b.Devices)-len(a.Devices), strings.Compare(a.Setting, b.Setting), strings.Compare(a.Reason, b.Reason))
	})
	for _, f := range fates {
		out.Fates = append(out.Fates, *f)
	}
	slices.SortFunc(out.Fates, func(a, b Fate) int { return strings.Compare(a.Setting, b.Setting) })
	return out, nil
}

// chooses tells whether the version of a layer that a device has chooses it, and whether
// there is another version for it, by which it is or will be chosen.
func (l *Layers) chooses(newest layering.Layer, d devices.Device, m *model.Model, behind func(layering.Layer, string) bool) (x layering.Layer, c *compiled, is, waits bool) {
	x, has := l.onto(nil, newest, d.ID)
	c = l.compiled(x, m)
	is = has && !c.nothing && l.matches(c, d) == expr.True
	if !behind(newest, d.ID) {
		return x, c, is, false
	}
	next := l.compiled(newest, m)
	return x, c, is, is || !next.nothing && l.matches(next, d) == expr.True
}

// behind returns what tells whether a device has another version of a layer than the newest,
// as a rollout says so.
func (l *Layers) behind() func(x layering.Layer, device string) bool {
	type pair struct {
		layer string
		is    *layering.Layer
	}
	known := map[pair]bool{} // there are two versions at most, and as many devices as there are
	return func(x layering.Layer, device string) bool {
		if l.rolling == nil {
			return false
		}
		is, rolling := l.rolling(nil, x.Name, device)
		if !rolling || is == nil {
			return rolling
		}
		k := pair{x.Name, is}
		other, ok := known[k]
		if !ok {
			other = record.Tag(is.For(x)) != record.Tag(x)
			known[k] = other
		}
		return other
	}
}

// fate notes whether the values of a layer win on a device, and else to what they lose.
func (l *Layers) fate(fates map[string]*Fate, x layering.Layer, c *compiled, d devices.Device, m *model.Model) {
	origins, err := l.o.Settings.Origins(d.ID)
	if err != nil {
		return
	}
	note := func(setting string, v value.Value, wins bool) {
		f := fates[setting]
		if f == nil {
			f = &Fate{Setting: setting, Value: v, Loses: map[string]int{}}
			fates[setting] = f
		}
		from := origins[setting]
		switch {
		case wins:
			f.Wins++
		case from.Name != "":
			f.Loses[string(from.Source)+" "+from.Name]++
		default:
			f.Loses[string(from.Source)]++
		}
	}
	for setting, v := range c.part.Gives {
		note(setting, v, origins[setting] == c.part.Origin)
	}
	for _, setting := range c.part.Removes {
		note(setting, value.Value{}, origins[setting].Source == layering.FromModel || origins[setting].Source == "")
	}
}

// Touches counts the devices that a layer chooses by a label, such as their site.
func (l *Layers) Touches(name, label string, sees func(device string) bool) (map[string]int, error) {
	x, err := l.Get(name)
	if err != nil {
		return nil, err
	}
	out, behind := map[string]int{}, l.behind()
	for _, d := range l.o.Devices.List() {
		if d.Status == devices.Retired || sees != nil && !sees(d.ID) {
			continue
		}
		_, m, err := l.o.Settings.Of(d.ID)
		if err != nil {
			continue
		}
		if _, _, is, waits := l.chooses(x, d, m, behind); is || waits {
			out[d.Labels[label]]++
		}
	}
	return out, nil
}

// Same returns an error where a preview is not what a proposal would do any more.
func (l *Layers) Same(p Proposal, tag string) error {
	if tag == "" {
		return nil
	}
	now, err := l.Preview(p, nil)
	if err != nil {
		return err
	}
	if now.Tag != tag {
		return fault.New(fault.Unmet, "the fleet has changed since this was previewed: %d settings of %d devices would change now", len(now.Differences), now.Devices).
			Then("look at the preview again").On("layer")
	}
	return nil
}
