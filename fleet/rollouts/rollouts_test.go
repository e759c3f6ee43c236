package rollouts_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/app"
	"ullage/core/layering"
	"ullage/core/value"
	"ullage/core/waves"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/layers"
	"ullage/fleet/noun"
	"ullage/fleet/rollouts"
	"ullage/test/rig"
)

// hall is a rig with some tanks that report and have confirmed what they were sent.
type hall struct {
	*rig.Rig
	ids     []string
	refuses map[string]bool
	mute    map[string]bool // they are there, and do not confirm
	away    map[string]bool
}

func cellar(t *testing.T, n int) *hall { return cellarWith(t, n, app.Options{}) }

func cellarWith(t *testing.T, n int, o app.Options) *hall {
	t.Helper()
	h := &hall{Rig: rig.NewWith(t, o), refuses: map[string]bool{}, mute: map[string]bool{}, away: map[string]bool{}}
	for i := range n {
		id := fmt.Sprintf("tank-kilnside-%02d", i+1)
		site := "Kilnside"
		if i%2 == 1 {
			site = "Saltmarsh"
		}
		h.Onboard(id, "tank-probe", map[string]string{"site": site})
		h.ids = append(h.ids, id)
	}
	h.pass(2)
	return h
}

// pass lets minutes pass, in which devices report and answer.
func (h *hall) pass(minutes int) {
	for range minutes {
		for _, id := range h.ids {
			if h.away[id] {
				continue
			}
			h.Keep(id, `{"must_temp":20}`)
			s, _, err := h.Settings.Of(id)
			h.Must(err)
			if s.Confirmed() || h.mute[id] {
				continue
			}
			var applied []string
			refused := ""
			for _, name := range s.Intended.Names() {
				if h.refuses[id] && name == "stir_at" {
					refused = `"stir_at":"sealed"`
					continue
				}
				v, _ := s.Intended[name].MarshalJSON()
				applied = append(applied, fmt.Sprintf("%q:%s", name, v))
			}
			h.SendMessage(ingest.Message{Device: id, Kind: ingest.Applied, Transport: "mqtt",
				Body: fmt.Appendf(nil, `{"revision":%d,"applied":{%s},"refused":{%s}}`, s.Revision, strings.Join(applied, ","), refused)})
		}
		for range 6 {
			h.Pass(10 * time.Second)
			h.Settle()
		}
	}
}

func (h *hall) begin(t *testing.T, p waves.Plan, stir float64) string {
	t.Helper()
	x, err := h.Rollouts.Start(t.Context(), layering.Layer{Name: "base", Set: map[string]any{"stir_at": stir}}, p, "", "mara")
	h.Must(err)
	return x.ID
}

func (h *hall) get(id string) *rollouts.Rollout {
	x, err := h.Rollouts.Get(id)
	h.Must(err)
	return x
}

// having returns how many devices are to have a value of stir_at.
func (h *hall) having(stir float64) int {
	n := 0
	for _, id := range h.ids {
		s, _, err := h.Settings.Of(id)
		h.Must(err)
		if s.Intended["stir_at"] == value.OfNumber(stir) {
			n++
		}
	}
	return n
}

func plan(sizes ...int) waves.Plan {
	p := waves.Plan{Gate: waves.Gate{Soak: value.Duration(4 * time.Minute)}}
	for _, n := range sizes {
		p.Waves = append(p.Waves, waves.Size{Count: n})
	}
	return p
}

func TestWaveAfterWave(t *testing.T) {
	h := cellar(t, 10)
	id := h.begin(t, plan(1, 3), 22)
	var seen []int
	for range 60 {
		h.pass(1)
		n := h.having(22)
		if len(seen) == 0 || seen[len(seen)-1] != n {
			seen = append(seen, n)
		}
		// Those whose wave has not come yet are counted as what they are, of the layer and of the fleet.
		for _, of := range []string{"base", ""} {
			st, err := h.Layers.Status(of, func(string) (bool, bool) { return true, false }, nil)
			h.Must(err)
			if st.Scope != 10 || st.Waiting != 10-n || len(st.Devices["waiting"]) != 10-n || st.AsIntended+st.Pending != n {
				t.Fatalf("with %d that have it, the status of %q is %+v", n, of, st)
			}
		}
		if len(seen) == 2 { // in the middle of it the service is killed
			h.Restart(true)
		}
		if h.get(id).Run.State == waves.Done {
			break
		}
	}
	if fmt.Sprint(seen) != "[1 4 10]" || h.get(id).Run.State != waves.Done || len(h.get(id).WaveEnds) != 3 {
		t.Fatalf("they had it as %v, and it is %+v", seen, h.get(id).Run)
	}
	// Whoever joins later has it too, and the layer can be changed again.
	h.Onboard("tank-kilnside-99", "tank-probe", nil)
	s, _, err := h.Settings.Of("tank-kilnside-99")
	h.Must(err)
	if s.Intended["stir_at"] != value.OfNumber(22) {
		t.Errorf("a device that joins later has %v", s.Intended["stir_at"])
	}
	_, err = h.Layers.Put(t.Context(), layering.Layer{Name: "base", Set: map[string]any{"stir_at": 23.0}}, noun.If{}, "mara")
	h.Must(err)
	h.Settle()
	if n := h.having(23); n != 10 {
		t.Errorf("%d have the next version", n)
	}
}

// TestItStopsByItself: a device that refuses stops it, and what follows is up to the plan or
// to people.
// TestASecondPerson: what would change many waits for somebody else, however it is asked for.
func TestASecondPerson(t *testing.T) {
	h := cellarWith(t, 4, app.Options{ApprovalAbove: 2})
	all := layering.Layer{Name: "base", Set: map[string]any{"stir_at": 27.0}}
	if err := h.Layers.Apply(t.Context(), layers.Proposal{Layer: &all}, "", true, "mara"); rig.Code(err) != fault.Conflict || !strings.Contains(err.Error(), "second person") {
		t.Errorf("at once: %v", err)
	}
	id := h.begin(t, plan(1), 27)
	h.pass(30)
	if x := h.get(id); !x.Asks() || h.having(27) != 0 {
		t.Fatalf("%d have it before it was approved; it is %+v", h.having(27), x.Run)
	}
	if _, err := h.Rollouts.Approve(t.Context(), id, "mara"); rig.Code(err) != fault.NotAllowed {
		t.Errorf("who began it approves it: %v", err)
	}
	x, err := h.Rollouts.Approve(t.Context(), id, "tobias")
	h.Must(err)
	if x.Asks() || x.Approved != "tobias" {
		t.Errorf("approved: %+v", x)
	}
	if _, err := h.Rollouts.Approve(t.Context(), id, "tobias"); rig.Code(err) != fault.Conflict {
		t.Errorf("approved twice: %v", err)
	}
	h.pass(60)
	if x := h.get(id); x.Run.State != waves.Done || h.having(27) != 4 {
		t.Errorf("afterwards it is %s, and %d have it", x.Run.State, h.having(27))
	}
	few := layering.Layer{Name: "few", Target: `label.site == "Kilnside"`, Set: map[string]any{"stir_at": 26.0}}
	r, err := h.Rollouts.Start(t.Context(), few, plan(1), "", "mara")
	h.Must(err)
	if r.Asks() {
		t.Error("two devices wait for a second person above two")
	}
}

func TestItStopsByItself(t *testing.T) {
	for _, c := range []struct {
		broken string
		state  waves.State
		having int
	}{{"", waves.Stopped, 4}, {"undo_wave", waves.Stopped, 1}, {"undo", waves.Undone, 0}} {
		t.Run("broken "+c.broken, func(t *testing.T) {
			h := cellar(t, 10)
			p := plan(1, 3)
			p.Broken = c.broken
			id := h.begin(t, p, 22)
			h.refuses[h.get(id).Waves[1][0]] = true
			h.pass(30)
			x := h.get(id)
			if x.Run.State != c.state || h.having(22) != c.having {
				t.Fatalf("it is %s in wave %d, %d have it: %s", x.Run.State, x.Run.Wave+1, h.having(22), x.Run.Why)
			}
			if !strings.Contains(x.Run.Why, "count_of(device.refused)") || !strings.Contains(x.Run.Why, " refused stir_at: sealed") {
				t.Errorf("it says %q", x.Run.Why)
			}
			if c.state != waves.Stopped {
				if len(h.Layers.Names()) != 0 {
					t.Error("undone, the new layer is still there")
				}
				return
			}
			if _, err := h.Layers.Put(t.Context(), layering.Layer{Name: "base", Set: map[string]any{"stir_at": 9.0}}, noun.If{}, "mara"); err == nil {
				t.Error("the layer was changed under its rollout")
			}
			_, err := h.Rollouts.LeaveOut(t.Context(), id, x.Waves[1][0], "mara")
			h.Must(err)
			_, err = h.Rollouts.Resume(t.Context(), id, "mara")
			h.Must(err)
			h.pass(30)
			if x := h.get(id); x.Run.State != waves.Done || h.having(22) != 9 {
				t.Errorf("with that device left out it is %s, %d have it: %s", x.Run.State, h.having(22), x.Run.Why)
			}
		})
	}
}

// TestLateOnesThatRefuse: what goes wrong with a device that comes late stops the rollout for
// those that are still to come; somebody then goes on, or changes the layer again.
func TestLateOnesThatRefuse(t *testing.T) {
	h := cellar(t, 40)
	late := h.ids[:3]
	for _, id := range late {
		h.away[id] = true
	}
	h.refuses[late[0]] = true
	h.pass(5)
	rollout := h.begin(t, plan(), 22)
	h.pass(15)
	if x := h.get(rollout); x.Run.State != waves.CatchingUp {
		t.Fatalf("with three away it is %s: %s", x.Run.State, x.Run.Why)
	}
	delete(h.away, late[0])
	h.pass(3)
	x := h.get(rollout)
	if x.Run.State != waves.Stopped || !strings.Contains(x.Run.Why, "came late") || !strings.Contains(x.Run.Why, late[0]+" refused") {
		t.Fatalf("after a late one refused it is %s: %s", x.Run.State, x.Run.Why)
	}
	delete(h.away, late[1])
	if h.pass(3); h.having(22) != 38 {
		t.Errorf("%d are to have it: the next that came back has it although it stopped", h.having(22))
	}
	if _, err := h.Rollouts.LeaveOut(t.Context(), rollout, late[0], "mara"); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Rollouts.Resume(t.Context(), rollout, "mara"); err != nil {
		t.Fatal(err)
	}
	if h.pass(3); h.having(22) != 38 || h.get(rollout).Run.State != waves.CatchingUp {
		t.Errorf("without the one that refused, %d are to have it, and it is %+v", h.having(22), h.get(rollout).Run)
	}
	if s, _, _ := h.Settings.Of(late[1]); s.Applied["stir_at"] != value.OfNumber(22) {
		t.Errorf("the next that came back has %v", s.Applied["stir_at"])
	}
	// The layer can be changed meanwhile; then the last one gets that when it is back.
	if _, err := h.Layers.Put(t.Context(), layering.Layer{Name: "base", Set: map[string]any{"stir_at": 24.0}}, noun.If{}, "mara"); err != nil {
		t.Fatal(err)
	}
	if h.pass(1); h.get(rollout).Run.State != waves.Done || h.having(24) != 40 {
		t.Errorf("after the layer was changed it is %s, and %d are to have that", h.get(rollout).Run.State, h.having(24))
	}
}

// TestOfTheAbsent: who is off line holds nothing up as long as enough are reached, and gets
// it when it is back, also after the end.
func TestOfTheAbsent(t *testing.T) {
	h := cellar(t, 20)
	id := "tank-kilnside-05"
	h.away[id] = true
	h.pass(5)
	rollout := h.begin(t, plan(), 22)
	h.pass(20)
	if x := h.get(rollout); x.Run.State != waves.CatchingUp || h.having(22) != 19 || fmt.Sprint(x.Late) != "["+id+"]" {
		t.Fatalf("it is %s, %d have it, late are %v: %s", x.Run.State, h.having(22), x.Late, x.Run.Why)
	}
	h.Onboard("tank-kilnside-98", "tank-probe", nil) // who joins now has what has passed every gate
	if s, _, err := h.Settings.Of("tank-kilnside-98"); err != nil || s.Intended["stir_at"] != value.OfNumber(22) {
		t.Errorf("who joins while one is still to come is to have %v, %v", s.Intended["stir_at"], err)
	}
	h.Restart(true)
	sh, err := h.Rollouts.Show(rollout, nil)
	h.Must(err)
	if i := slices.IndexFunc(sh.Devices, func(d rollouts.ShownDevice) bool { return d.ID == id }); sh.Devices[i].State != "off line" {
		t.Errorf("the absent one is shown as %s", sh.Devices[i].State)
	}
	delete(h.away, id)
	h.pass(2)
	if s, _, _ := h.Settings.Of(id); !s.Confirmed() || s.Applied["stir_at"] != value.OfNumber(22) {
		t.Errorf("back again it has %v", s.Applied["stir_at"])
	}
	if h.pass(6); h.get(rollout).Run.State != waves.Done {
		t.Errorf("with everybody back and watched it is %+v", h.get(rollout).Run)
	}
	// Three in ten that are away are too many.
	for _, id := range h.ids[:6] {
		h.away[id] = true
	}
	h.pass(5)
	rollout = h.begin(t, plan(), 23)
	h.pass(80)
	if x := h.get(rollout); x.Run.State != waves.Stopped || !strings.Contains(x.Run.Why, "14 of 21 devices were reached") {
		t.Errorf("with six away it is %s: %s", x.Run.State, x.Run.Why)
	}
}

func TestLimitsOfAPlan(t *testing.T) {
	h := cellar(t, 8)
	p := plan()
	p.Per, p.AtMost, p.Start = "label.site", 1, h.Clock.Now().Add(10*time.Minute)
	id := h.begin(t, p, 22)
	h.pass(8)
	if n := h.having(22); n != 0 {
		t.Errorf("%d have it before its start", n)
	}
	most := 0
	for range 40 {
		h.pass(1)
		pending := map[string]int{}
		sh, err := h.Rollouts.Show(id, nil)
		h.Must(err)
		for _, d := range sh.Devices {
			dev, _ := h.Devices.Get(d.ID)
			if d.State == "offered" {
				pending[dev.Labels["site"]]++
			}
		}
		for _, n := range pending {
			most = max(most, n)
		}
	}
	if most != 1 || h.get(id).Run.State != waves.Done {
		t.Errorf("%d of a site were on their way at once, and it is %s: %s", most, h.get(id).Run.State, h.get(id).Run.Why)
	}
}

// TestUndo: while it goes on everything is as it was; afterwards its own difference is taken
// back, and what somebody has changed since is asked about.
// TestHowLongItTakes: it follows from how long devices use to be off line.
func TestHowLongItTakes(t *testing.T) {
	h := cellar(t, 4)
	to := layering.Layer{Name: "base", Set: map[string]any{"stir_at": 27.0}}
	p := plan(2)
	seen, err := h.Rollouts.Plan(to, p)
	h.Must(err)
	if !seen.Known || seen.Likely != seen.Takes {
		t.Errorf("with all on line it takes %s, and %s at least", seen.Likely, seen.Takes)
	}
	// One is away for two hours, comes back, and goes again.
	away := h.ids[0]
	h.away[away] = true
	h.pass(120)
	h.away[away] = false
	h.pass(10)
	h.away[away] = true
	h.pass(30)
	seen, err = h.Rollouts.Plan(to, p)
	h.Must(err)
	if wait := seen.Likely - seen.Takes; !seen.Known || wait < 80*time.Minute || wait > 100*time.Minute {
		t.Errorf("with one that was away for two hours and is since half an hour it waits %s, %v", wait, seen.Known)
	}
	p.Gate.Reached = 50
	if seen, err = h.Rollouts.Plan(to, p); err != nil || seen.Likely != seen.Takes {
		t.Errorf("where half of a wave is enough it takes %s, and %s at least, %v", seen.Likely, seen.Takes, err)
	}
}

func TestUndo(t *testing.T) {
	h := cellar(t, 4)
	_, err := h.Layers.Put(t.Context(), layering.Layer{Name: "base", Set: map[string]any{"stir_at": 20.0, "max_temp": 30.0}}, noun.If{}, "mara")
	h.Must(err)
	h.pass(2)
	to := layering.Layer{Name: "base", Set: map[string]any{"stir_at": 24.0, "max_temp": 30.0, "report_every": 30.0}}
	x, err := h.Rollouts.Start(t.Context(), to, plan(1), "", "mara")
	h.Must(err)
	h.pass(2)
	if h.having(24) != 1 || h.having(20) != 3 {
		t.Fatalf("%d have it, %d have what was", h.having(24), h.having(20))
	}
	_, _, err = h.Rollouts.Undo(t.Context(), x.ID, false, "mara")
	h.Must(err)
	h.Settle()
	if h.having(20) != 4 {
		t.Errorf("undone on the way, %d have what was", h.having(20))
	}
	h.pass(2)
	x, err = h.Rollouts.Start(t.Context(), to, plan(), "", "mara")
	h.Must(err)
	h.pass(20)
	if h.get(x.ID).Run.State != waves.Done {
		t.Fatalf("it is %+v", h.get(x.ID).Run)
	}
	_, err = h.Layers.Put(t.Context(), layering.Layer{Name: "base", Set: map[string]any{"stir_at": 26.0, "max_temp": 33.0, "report_every": 30.0}}, noun.If{}, "anna")
	h.Must(err)
	_, conflicts, err := h.Rollouts.Undo(t.Context(), x.ID, false, "mara")
	if rig.Code(err) != fault.Conflict || len(conflicts) != 1 || conflicts[0].Setting != "stir_at" || !strings.Contains(err.Error(), "stir_at is 26 now") {
		t.Fatalf("undone under another change: %v, %v", conflicts, err)
	}
	_, _, err = h.Rollouts.Undo(t.Context(), x.ID, true, "mara")
	h.Must(err)
	now, err := h.Layers.Get("base")
	h.Must(err)
	if fmt.Sprint(now.Set) != "map[max_temp:33 stir_at:20]" {
		t.Errorf("undone by force, the layer is %v", now.Set)
	}
	if n := len(told(h)); n < 6 {
		t.Errorf("the journal tells %d things of rollouts", n)
	}
}

func told(h *hall) (out []string) {
	list, err := h.Facts.Facts(h.T.Context(), fact.Filter{Kind: fact.RolloutGoesOn, Limit: 100})
	h.Must(err)
	for _, f := range list {
		out = append(out, f.Sentence())
	}
	return out
}

func TestRolloutsThatAreRefused(t *testing.T) {
	h := cellar(t, 3)
	base := func(v any) layering.Layer { return layering.Layer{Name: "base", Set: map[string]any{"stir_at": v}} }
	for says, c := range map[string]struct {
		layer layering.Layer
		plan  waves.Plan
	}{
		"the model allows":           {base(90.0), plan()},
		"nothing to roll out":        {layering.Layer{Name: "base", Target: `label.site == "Nowhere"`, Set: map[string]any{"stir_at": 20.0}}, plan()},
		"is no label":                {base(20.0), waves.Plan{Per: "site"}},
		"no device \"tank-x\"":       {base(20.0), waves.Plan{Waves: []waves.Size{{Devices: []string{"tank-x"}}}}},
		"wave 1, where: column 1":    {base(20.0), waves.Plan{Waves: []waves.Size{{Where: "mst_temp > 3"}}}},
		"a condition compares it":    {base(20.0), waves.Plan{Gate: waves.Gate{Conditions: []string{"mean_of(must_temp)"}}}},
		"put it into a function":     {base(20.0), waves.Plan{Gate: waves.Gate{Conditions: []string{"must_temp > 3"}}}},
		"no metric must_tmp":         {base(20.0), waves.Plan{Gate: waves.Gate{Conditions: []string{"mean_of(must_tmp) > 3"}}}},
		"something to come up wrong": {base(20.0), waves.Plan{}},
	} {
		_, err := h.Rollouts.Start(t.Context(), c.layer, c.plan, map[bool]string{true: "0000", false: ""}[says == "something to come up wrong"], "mara")
		if says == "something to come up wrong" {
			says = "the fleet has changed"
		}
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want %q", c.plan, err, says)
		}
	}
	id := h.begin(t, plan(1), 22)
	if _, err := h.Rollouts.Start(t.Context(), base(23.0), plan(), "", "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("a second rollout of the layer: %v", err)
	}
	if _, err := h.Rollouts.LeaveOut(t.Context(), id, "tank-x", "mara"); rig.Code(err) != fault.NotFound {
		t.Errorf("a device that is in no wave: %v", err)
	}
}

// TestAGateThatLooksBack: before(x) is what x was when the wave began.
func TestAGateThatLooksBack(t *testing.T) {
	h := cellar(t, 4)
	p := plan(2)
	p.Gate.Conditions = []string{`share(device.applied) >= 95 '%'`, `mean_of(must_temp) <= before(mean_of(must_temp)) + 2`}
	id := h.begin(t, p, 22)
	h.pass(2)
	if got := h.get(id).Befores["mean_of(must_temp)"]; got != "20 'Cel'" {
		t.Fatalf("before is %q", got)
	}
	for _, id := range h.ids {
		h.Keep(id, `{"must_temp":25}`)
	}
	h.Pass(2 * time.Second)
	h.Settle()
	if x := h.get(id); x.Run.State != waves.Stopped || !strings.Contains(x.Run.Why, "it is 25") {
		t.Errorf("warmer than before it is %s: %s", x.Run.State, x.Run.Why)
	}
}
