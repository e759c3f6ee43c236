package layers_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/app"
	"ullage/core/layering"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/bulk"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/layers"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

const (
	probe   = "tank-fennimore-07"
	another = "tank-kilnside-01"
	monitor = "air-kilnside-2"
)

func put(r *rig.Rig, name, target string, set map[string]any) error {
	_, err := r.Layers.Put(r.T.Context(), layering.Layer{Name: name, Target: target, Set: set}, noun.If{}, "mara")
	r.Settle()
	return err
}

// has is what is intended for a setting of a device, and who says so.
func has(r *rig.Rig, id, setting string) string {
	r.T.Helper()
	s, _, err := r.Settings.Of(id)
	r.Must(err)
	from, err := r.Settings.Origins(id)
	r.Must(err)
	v, kept := s.Intended[setting], s.Kept[setting]
	if kept.Known() {
		v = kept
	}
	return strings.TrimSpace(fmt.Sprintf("%v %s %s", v, from[setting].Source, from[setting].Name))
}

func cellar(t *testing.T) *rig.Rig {
	r := rig.New(t)
	r.Onboard(probe, "tank-probe", map[string]string{"site": "Fennimore", "must": "white"})
	r.Onboard(another, "tank-probe", map[string]string{"site": "Kilnside"})
	r.Onboard(monitor, "cellar-air", map[string]string{"site": "Kilnside"})
	r.Onboard("bung-saltmarsh-112", "cask-bung", map[string]string{"site": "Saltmarsh"})
	return r
}

func TestLayersStandInOrder(t *testing.T) {
	r := cellar(t)
	check := func(when, id, setting, want string) {
		t.Helper()
		if got := has(r, id, setting); got != want {
			t.Errorf("%s, %s of %s is %q, want %q", when, setting, id, got, want)
		}
	}
	before := has(r, probe, "max_temp")
	r.Must(put(r, "base", "", map[string]any{"max_temp": 31.0, "report_every": 20.0}))
	r.Must(put(r, "white-must", `label.must == "white"`, map[string]any{"max_temp": 24.0}))
	check("layered", probe, "max_temp", "24 layer white-must")
	check("layered", another, "max_temp", "31 layer base")
	check("layered", probe, "report_every", "20 layer base")
	r.Must(r.Layers.Arrange(t.Context(), []string{"white-must", "base"}, "mara"))
	r.Settle()
	check("the other way round", probe, "max_temp", "31 layer base")
	r.Must(r.Layers.Arrange(t.Context(), []string{"base", "white-must"}, "mara"))
	_, err := r.Devices.Label(t.Context(), another, map[string]string{"must": "white"}, "mara")
	r.Must(err)
	r.Settle()
	check("with the label", another, "max_temp", "24 layer white-must")
	_, err = r.Settings.Set(t.Context(), another, map[string]any{"max_temp": 22.0}, nil, "mara")
	r.Must(err)
	check("set on the device", another, "max_temp", "22 override")
	r.Must(put(r, "white-must", `label.must == "white"`, map[string]any{"max_temp": nil}))
	if got := has(r, probe, "max_temp"); got != before {
		t.Errorf("taken off, max_temp is %q, want the default %q", got, before)
	}
	// A device that joins later has what the others have.
	r.Onboard("tank-saltmarsh-09", "tank-probe", map[string]string{"site": "Saltmarsh"})
	check("joined later", "tank-saltmarsh-09", "max_temp", "31 layer base")
	r.Restart(true)
	check("after a crash", "tank-saltmarsh-09", "max_temp", "31 layer base")
	check("after a crash", another, "max_temp", "22 override")
	r.Must(r.Layers.Remove(t.Context(), "base", noun.If{}, "mara"))
	r.Settle()
	check("without it", "tank-saltmarsh-09", "max_temp", before)
	vs, err := r.Layers.Versions(t.Context(), "base")
	r.Must(err)
	if len(vs) != 2 || vs[0].Verb != "removed" || vs[1].By != "mara" {
		t.Errorf("the versions of base are %+v", vs)
	}
}

// TestKeptByTheService: a layer gives what a device cannot be written to, at once.
func TestKeptByTheService(t *testing.T) {
	r := cellar(t)
	r.Must(put(r, "casks", `device.model == "cask-bung"`, map[string]any{"max_ullage": 55.0}))
	if got := has(r, "bung-saltmarsh-112", "max_ullage"); got != "55 layer casks" {
		t.Errorf("max_ullage is %s", got)
	}
	s, m, err := r.Settings.Of("bung-saltmarsh-112")
	r.Must(err)
	if s.Intended["max_ullage"].Known() || r.Settings.Effective("bung-saltmarsh-112", m, "max_ullage") != value.OfNumber(55) {
		t.Errorf("it is to be sent, or rules do not see it: %+v", s)
	}
}

// TestARevisionForADifferenceAlone: devices whose document stays the same get no revision,
// and one fact tells of the layer.
func TestARevisionForADifferenceAlone(t *testing.T) {
	r := cellar(t)
	revision := func(id string) int64 { s, _, err := r.Settings.Of(id); r.Must(err); return s.Revision }
	facts := func() int {
		all, err := r.Facts.Facts(t.Context(), fact.Filter{Limit: 1000})
		r.Must(err)
		return len(all)
	}
	a, b, n := revision(probe), revision(another), facts()
	r.Must(put(r, "white-must", `label.must == "white"`, map[string]any{"max_temp": 24.0}))
	if revision(probe) != a+1 || revision(another) != b || facts() != n+1 {
		t.Errorf("revisions went from %d and %d to %d and %d, with %d facts", a, b, revision(probe), revision(another), facts()-n)
	}
	r.Must(put(r, "white-must", `label.must == "white"`, map[string]any{"max_temp": 24.0}))
	if revision(probe) != a+1 || facts() != n+1 {
		t.Error("the same layer again made a revision or a fact")
	}
}

// TestMergeIsAsAPlainReference: random layers, targets, labels, orders and overrides, one
// after the other and after restarts, come to what a plain loop says.
func TestMergeIsAsAPlainReference(t *testing.T) {
	type target struct {
		src  string
		true func(id, model string, labels map[string]string) bool
	}
	targets := []target{
		{"", func(string, string, map[string]string) bool { return true }},
		{`label.row == "1"`, func(_, _ string, l map[string]string) bool { return l["row"] == "1" }},
		{`label.row != "1"`, func(_, _ string, l map[string]string) bool { return l["row"] != "1" }},
		{`not has(label.stage)`, func(_, _ string, l map[string]string) bool { return l["stage"] == "" }},
		{`device.model == "tank-probe" and label.stage in ("a", "b")`, func(_, m string, l map[string]string) bool {
			return m == "tank-probe" && (l["stage"] == "a" || l["stage"] == "b")
		}},
		{`device.id like "air-*" or label.row == "2"`, func(id, _ string, l map[string]string) bool {
			return strings.HasPrefix(id, "air-") || l["row"] == "2"
		}},
	}
	for seed := range uint64(rig.Times(6, 2)) {
		rng := rand.New(rand.NewPCG(seed, 5))
		r := rig.New(t)
		type device struct {
			id, model string
			labels    map[string]string
			override  map[string]any
		}
		var ds []*device
		for i := range 8 {
			d := &device{id: fmt.Sprintf("tank-kilnside-%02d", i), model: "tank-probe", labels: map[string]string{}, override: map[string]any{}}
			if i%4 == 3 {
				d.id, d.model = fmt.Sprintf("air-kilnside-%d", i), "cellar-air"
			}
			r.Onboard(d.id, d.model, nil)
			ds = append(ds, d)
		}
		type layer struct {
			name string
			at   target
			set  map[string]any
		}
		var ls []layer
		values := map[string][]any{"max_temp": {22.0, 25.0, 30.0, nil}, "report_every": {10.0, 30.0, 60.0}, "fan_mode": {"on", "off", nil}}
		some := func() map[string]any {
			out := map[string]any{}
			for len(out) == 0 {
				for name, vs := range values {
					if rng.IntN(2) == 0 {
						out[name] = vs[rng.IntN(len(vs))]
					}
				}
			}
			return out
		}
		for step := range 60 {
			switch rng.IntN(7) {
			case 0, 1:
				x := layer{fmt.Sprintf("layer-%d", rng.IntN(5)), targets[rng.IntN(len(targets))], some()}
				if err := put(r, x.name, x.at.src, x.set); err != nil {
					continue // a target that leaves no model with a setting
				}
				if i := slices.IndexFunc(ls, func(l layer) bool { return l.name == x.name }); i >= 0 {
					ls[i] = x
				} else {
					ls = append(ls, x)
				}
			case 2:
				if len(ls) > 0 {
					i := rng.IntN(len(ls))
					r.Must(r.Layers.Remove(t.Context(), ls[i].name, noun.If{}, "mara"))
					ls = slices.Delete(ls, i, i+1)
				}
			case 3:
				rng.Shuffle(len(ls), func(i, j int) { ls[i], ls[j] = ls[j], ls[i] })
				var order []string
				for _, l := range ls {
					order = append(order, l.name)
				}
				r.Must(r.Layers.Arrange(t.Context(), order, "mara"))
			case 4, 5:
				d := ds[rng.IntN(len(ds))]
				change := map[string]string{"row": []string{"", "1", "2"}[rng.IntN(3)], "stage": []string{"", "a", "c"}[rng.IntN(3)]}
				for k, v := range change {
					if delete(d.labels, k); v != "" {
						d.labels[k] = v
					}
				}
				_, err := r.Devices.Label(t.Context(), d.id, change, "mara")
				r.Must(err)
			case 6:
				d := ds[rng.IntN(len(ds))]
				if rng.IntN(2) == 0 {
					_, err := r.Settings.Set(t.Context(), d.id, nil, []string{"report_every"}, "mara")
					if err == nil {
						delete(d.override, "report_every")
					}
				} else if _, err := r.Settings.Set(t.Context(), d.id, map[string]any{"report_every": 45.0}, nil, "mara"); err == nil {
					d.override["report_every"] = 45.0
				}
			}
			if step%20 == 19 {
				r.Restart(step%40 == 19)
			}
			r.Settle()
			for _, d := range ds {
				s, m, err := r.Settings.Of(d.id)
				r.Must(err)
				want := layering.Settings{}
				for name, v := range m.Defaults(false) {
					want[name] = v
				}
				lay := func(set map[string]any) {
					for name, x := range set {
						p, ok := m.Property(name)
						switch {
						case !ok:
						case x == nil && p.Default.Known():
							want[name] = p.Default
						case x == nil:
							delete(want, name)
						default:
							v, err := p.Check(x)
							r.Must(err)
							want[name] = v
						}
					}
				}
				for _, l := range ls {
					if l.at.true(d.id, d.model, d.labels) {
						lay(l.set)
					}
				}
				lay(d.override)
				if !want.Equal(s.Intended) {
					t.Fatalf("seed %d, step %d: %s has %v, want %v", seed, step, d.id, s.Intended, want)
				}
			}
		}
	}
}

func TestByAlarmAndByHour(t *testing.T) {
	r := cellar(t)
	r.Rule("rule: co2_high\nmodels: [cellar-air]\nraise: co2 > 1500\noff_delay: 1min\npriority: low\nmessage: x\n")
	r.Must(put(r, "airing", `raised(co2_high)`, map[string]any{"fan_mode": "on"}))
	r.Must(put(r, "night", `label.site == "Kilnside" and during("22:00-06:00")`, map[string]any{"report_every": 60.0}))
	r.Keep(monitor, `{"co2":1600}`)
	r.Pass(2 * time.Second)
	if got := has(r, monitor, "fan_mode"); got != "on layer airing" {
		t.Errorf("raised, the fan is %s", got)
	}
	r.Keep(monitor, `{"co2":800}`)
	r.Pass(2 * time.Minute)
	if got := has(r, monitor, "fan_mode"); got != "auto model" {
		t.Errorf("returned, the fan is %s", got)
	}
	day := has(r, another, "report_every")
	r.Clock.Forward(time.Date(2026, 3, 9, 23, 0, 0, 0, time.UTC).Sub(r.Clock.Now()))
	r.Pass(2 * time.Second)
	r.Settle()
	if got := has(r, another, "report_every"); got != "60 layer night" {
		t.Errorf("at night report_every is %s", got)
	}
	r.Clock.Forward(8 * time.Hour)
	r.Pass(2 * time.Second)
	r.Settle()
	if got := has(r, another, "report_every"); got != day {
		t.Errorf("in the morning report_every is %s, want %s", got, day)
	}
}

func TestLayersThatAreRefused(t *testing.T) {
	r := cellar(t)
	r.Rule("rule: quick\nmodels: [tank-probe]\nraise: must_temp > 30\npriority: low\nmessage: x\n")
	r.Rule("rule: must_too_warm\nmodels: [tank-probe]\nraise: must_temp > set.max_temp\noff_delay: 5min\npriority: low\nmessage: x\n")
	for _, c := range []struct {
		name, target string
		set          map[string]any
		says         string
	}{
		{"Base", "", map[string]any{"max_temp": 30.0}, "small letters"},
		{"base", "", nil, "sets nothing"},
		{"base", "", map[string]any{"max_tmp": 30.0}, "did you mean max_temp?"},
		{"base", "", map[string]any{"max_temp": 300.0}, "the model allows"},
		{"base", "", map[string]any{"max_temp": "warm"}, "the model wants"},
		{"base", "", map[string]any{"max_temp": []any{1.0}}, "no setting can be"},
		{"base", `label.must = "white"`, map[string]any{"max_temp": 30.0}, "=="},
		{"base", `must_temp > 20`, map[string]any{"max_temp": 30.0}, "changes by itself"},
		{"base", `device.link == "online"`, map[string]any{"max_temp": 30.0}, "changes by itself"},
		{"base", `mean(must_temp over 10min) > 20`, map[string]any{"max_temp": 30.0}, ""},
		{"base", `device.model == "cellar-air"`, map[string]any{"max_temp": 30.0}, "no model that the target leaves has a setting max_temp"},
		{"base", `raised(quick)`, map[string]any{"report_every": 30.0}, "no off-delay"},
		{"base", `raised(no_rule)`, map[string]any{"report_every": 30.0}, "there is no rule"},
		{"base", `raised(must_too_warm)`, map[string]any{"max_temp": 30.0}, "come and go by what it gives itself"},
		{"base", `during("at night")`, map[string]any{"max_temp": 30.0}, ""},
	} {
		err := put(r, c.name, c.target, c.set)
		if err == nil || rig.Code(err) != fault.Invalid || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s on %s: %v, want %q", c.name, c.target, err, c.says)
		}
	}
	if n := len(r.Layers.Names()); n != 0 {
		t.Errorf("%d layers were saved all the same", n)
	}
	r.Must(put(r, "gentle", `raised(must_too_warm)`, map[string]any{"report_every": 5.0}))
	x, err := r.Alarms.Rule("must_too_warm")
	r.Must(err)
	x.OffDelay = 0
	if _, err := r.Alarms.SetRule(t.Context(), x, "mara"); err == nil || !strings.Contains(err.Error(), "the layer gentle asks") {
		t.Errorf("a rule that a layer asks for lost its off-delay: %v", err)
	}
	if err := r.Alarms.RemoveRule(t.Context(), "must_too_warm", noun.If{}, "mara"); err == nil || !strings.Contains(err.Error(), "the layer gentle asks") {
		t.Errorf("a rule that a layer asks for was removed: %v", err)
	}
	for _, order := range [][]string{{}, {"gentle", "gentle"}, {"other"}, {"gentle", "other"}} {
		if err := r.Layers.Arrange(t.Context(), order, "mara"); err == nil {
			t.Errorf("the order %v was taken", order)
		}
	}
}

// becomes waits until the highest temperature of a device is worked out as such.
func becomes(r *rig.Rig, id, begins string) {
	r.T.Helper()
	for end := time.Now().Add(30 * time.Second); !strings.HasPrefix(has(r, id, "max_temp"), begins); r.Settle() {
		if time.Now().After(end) {
			r.T.Fatalf("%s has %s, want %s", id, has(r, id, "max_temp"), begins)
		}
	}
}

func TestManyGoInWaves(t *testing.T) {
	r := rig.NewWith(t, app.Options{WavesAbove: 2})
	for i := range 3 {
		r.Onboard(fmt.Sprintf("tank-kilnside-%02d", i), "tank-probe", map[string]string{"must": "white"})
	}
	p := layers.Proposal{Layer: &layering.Layer{Name: "base", Set: map[string]any{"max_temp": 31.0}}}
	if err := r.Layers.Apply(t.Context(), p, "", false, "mara"); rig.Code(err) != fault.Conflict || !strings.Contains(err.Error(), "3 devices would change at once; above 2") {
		t.Errorf("three at once: %v", err)
	}
	r.Must(r.Layers.Apply(t.Context(), p, "", true, "mara"))
	becomes(r, "tank-kilnside-02", "31 ")
	p.Layer = &layering.Layer{Name: "first", Target: `device.id == "tank-kilnside-00"`, Set: map[string]any{"max_temp": 30.0}}
	r.Must(r.Layers.Apply(t.Context(), p, "", false, "mara"))
	becomes(r, "tank-kilnside-00", "30 ")
	if err := r.Layers.Apply(t.Context(), layers.Proposal{Remove: "base"}, "", false, "mara"); err != nil {
		t.Errorf("taking a layer off that changes two: %v", err)
	}
	// The same of every other way.
	base := layering.Layer{Name: "base", Target: `label.must == "white"`, Set: map[string]any{"max_temp": 29.0}}
	if _, err := r.Layers.Put(t.Context(), base, noun.If{}, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("putting it: %v", err)
	}
	r.Must(r.Layers.Apply(t.Context(), layers.Proposal{Layer: &base}, "", true, "mara"))
	becomes(r, "tank-kilnside-02", "29 ")
	if err := r.Layers.Remove(t.Context(), "base", noun.If{}, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("removing it: %v", err)
	}
	ids := []string{"tank-kilnside-00", "tank-kilnside-01", "tank-kilnside-02"}
	owner, red := access.Whole("mara"), bulk.Change{Labels: map[string]string{"must": "red"}}
	if _, err := r.Fleet.BeginChange(t.Context(), owner, ids, red, false); rig.Code(err) != fault.Conflict {
		t.Errorf("labels by which three change: %v", err)
	}
	if _, err := r.Fleet.BeginChange(t.Context(), owner, ids, bulk.Change{Labels: map[string]string{"row": "C"}}, false); err != nil {
		t.Errorf("labels that change no settings: %v", err)
	}
	r.Settle()
	if _, err := r.Fleet.BeginChange(t.Context(), owner, ids, red, true); err != nil {
		t.Errorf("labels, said to be at once: %v", err)
	}
	becomes(r, "tank-kilnside-02", "32 ")
}

func TestPreviewIsWhatComes(t *testing.T) {
	r := cellar(t)
	r.Must(put(r, "base", "", map[string]any{"max_temp": 31.0}))
	p := layers.Proposal{Layer: &layering.Layer{Name: "white-must", Target: `label.must == "white"`, Set: map[string]any{"max_temp": 24.0}}}
	seen, err := r.Layers.Preview(p, nil)
	r.Must(err)
	if seen.Devices != 1 || seen.Scope != 1 || len(seen.Differences) != 1 || fmt.Sprint(seen.Differences[0].From, seen.Differences[0].To, seen.Differences[0].By) != "31 24 {layer white-must}" {
		t.Errorf("the preview is %+v", seen)
	}
	_, err = r.Devices.Label(t.Context(), another, map[string]string{"must": "white"}, "mara")
	r.Must(err)
	if err := r.Layers.Apply(t.Context(), p, seen.Tag, false, "mara"); rig.Code(err) != fault.Unmet || !strings.Contains(err.Error(), "of 2 devices") {
		t.Errorf("another fleet than previewed: %v", err)
	}
	seen, err = r.Layers.Preview(p, nil)
	r.Must(err)
	r.Must(r.Layers.Apply(t.Context(), p, seen.Tag, false, "mara"))
	r.Settle()
	for _, x := range seen.Differences {
		if got := has(r, x.Device, x.Setting); !strings.HasPrefix(got, x.To.String()+" ") {
			t.Errorf("%s of %s is %s, and %s was previewed", x.Setting, x.Device, got, x.To)
		}
	}
	for _, c := range []struct {
		what    string
		p       layers.Proposal
		devices int
	}{
		{"the other order", layers.Proposal{Order: []string{"white-must", "base"}}, 2},
		{"without a layer", layers.Proposal{Remove: "base"}, 0},
		{"a label", layers.Proposal{Devices: []string{probe, monitor}, Labels: map[string]string{"must": ""}}, 1},
		{"nothing", layers.Proposal{}, 0},
	} {
		seen, err := r.Layers.Preview(c.p, nil)
		r.Must(err)
		if seen.Devices != c.devices {
			t.Errorf("%s would change %d devices, want %d: %+v", c.what, seen.Devices, c.devices, seen.Differences)
		}
	}
}

// What a change before has not brought to the devices yet is none of the next one.
func TestPreviewWhileAnotherIsOnItsWay(t *testing.T) {
	r := cellar(t)
	_, err := r.Layers.Put(t.Context(), layering.Layer{Name: "base", Set: map[string]any{"report_every": 20.0, "max_temp": 29.0}}, noun.If{}, "mara")
	r.Must(err)
	cool := layers.Proposal{Layer: &layering.Layer{Name: "cool", Set: map[string]any{"max_temp": 27.0}}}
	early, err := r.Layers.Preview(cool, nil)
	r.Must(err)
	r.Settle()
	late, err := r.Layers.Preview(cool, nil)
	r.Must(err)
	if early.Tag != late.Tag || len(early.Differences) != 2 || early.Differences[0].From != value.OfNumber(29) {
		t.Errorf("at once it would change %+v, and a moment later %+v", early.Differences, late.Differences)
	}
}

func TestExplainAndStatus(t *testing.T) {
	r := cellar(t)
	r.Must(put(r, "base", "", map[string]any{"max_temp": 31.0}))
	r.Must(put(r, "white-must", `label.must == "white"`, map[string]any{"max_temp": 24.0, "stir_at": 20.0}))
	r.Must(put(r, "kilnside", `label.site == "Kilnside"`, map[string]any{"max_temp": 28.0}))
	steps, _, err := r.Layers.Explain(probe, "max_temp")
	r.Must(err)
	var said []string
	for _, s := range steps {
		mark := ""
		if s.Wins {
			mark = "!"
		}
		said = append(said, fmt.Sprintf("%s %v%s", s.Name, s.Matches, mark))
	}
	if got := strings.Join(said[1:], ", "); got != "base true, white-must true!, kilnside false" {
		t.Errorf("explained it is %s", got)
	}
	if _, _, err := r.Layers.Explain(probe, "max_tmp"); err == nil || !strings.Contains(err.Error(), "did you mean max_temp") {
		t.Errorf("a setting that is not: %v", err)
	}
	link := func(id string) (bool, bool) { return id == probe, id != probe }
	st, err := r.Layers.Status("base", link, nil)
	r.Must(err)
	if st.Scope != 2 || st.Pending != 2 || st.Live != 1 || st.Offline != 1 || len(st.Fates) != 1 || st.Fates[0].Wins != 0 ||
		fmt.Sprint(st.Fates[0].Loses) != "map[layer kilnside:1 layer white-must:1]" {
		t.Errorf("the status of base is %+v", st)
	}
	s, _, err := r.Settings.Of(probe)
	r.Must(err)
	r.SendMessage(ingest.Message{Device: probe, Kind: ingest.Applied, Transport: "mqtt",
		Body: fmt.Appendf(nil, `{"revision":%d,"applied":{"max_temp":31},"refused":{"max_temp":"sealed"}}`, s.Revision)})
	st, err = r.Layers.Status("white-must", link, nil)
	r.Must(err)
	if st.Refused != 1 || len(st.Reasons) == 0 || st.Reasons[0].Reason != "sealed" {
		t.Errorf("refused, the status is %+v", st)
	}
}
