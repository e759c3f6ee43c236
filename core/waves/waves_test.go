package waves_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/expr"
	"ullage/core/value"
	"ullage/core/waves"
)

func TestAssign(t *testing.T) {
	var all []waves.Candidate
	for i := range 20 {
		g := "Kilnside"
		if i >= 12 {
			g = "Saltmarsh"
		}
		all = append(all, waves.Candidate{ID: fmt.Sprintf("tank-%02d", i), Group: g, Headspace: float64(i) / 20, Matches: []bool{i == 7 || i == 13}})
	}
	all[3].Headspace = math.NaN()
	for _, c := range []struct {
		name string
		plan waves.Plan
		want string // sizes of the waves
		in   string // who is in the first
	}{
		{"all at once", waves.Plan{}, "[20]", ""},
		{"counts", waves.Plan{Waves: []waves.Size{{Count: 2}, {Count: 5}}}, "[2 5 13]", ""},
		{"percents", waves.Plan{Waves: []waves.Size{{Percent: 10}, {Percent: 50}}}, "[2 10 8]", ""},
		{"percents of each site", waves.Plan{Per: "label.site", Waves: []waves.Size{{Percent: 10}}}, "[3 17]", ""},
		{"one of each site", waves.Plan{Per: "label.site", Waves: []waves.Size{{Count: 1}}}, "[2 18]", ""},
		{"more than there are", waves.Plan{Waves: []waves.Size{{Count: 50}, {Count: 5}}}, "[20 0 0]", ""},
		{"picked", waves.Plan{Waves: []waves.Size{{Devices: []string{"tank-07", "tank-13"}}}}, "[2 18]", "tank-07 tank-13"},
		{"most headspace first", waves.Plan{Order: "headspace", Waves: []waves.Size{{Count: 2}}}, "[2 18]", "tank-18 tank-19"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if err := c.plan.Check(); err != nil {
				t.Fatal(err)
			}
			got := c.plan.Assign(all, "base")
			var sizes []int
			seen := map[string]bool{}
			for _, w := range got {
				sizes = append(sizes, len(w))
				for _, id := range w {
					if seen[id] {
						t.Errorf("%s is in two waves", id)
					}
					seen[id] = true
				}
			}
			if fmt.Sprint(sizes) != c.want || len(seen) != len(all) {
				t.Errorf("the waves have %v devices, want %s; %d in all", sizes, c.want, len(seen))
			}
			if first := slices.Sorted(slices.Values(got[0])); c.in != "" && strings.Join(first, " ") != c.in {
				t.Errorf("in the first are %v, want %s", first, c.in)
			}
			if again := c.plan.Assign(all, "base"); fmt.Sprint(again) != fmt.Sprint(got) {
				t.Error("the same candidates give other waves")
			}
		})
	}
}

func TestPlansThatAreWrong(t *testing.T) {
	for says, p := range map[string]waves.Plan{
		"is no label":           {Per: "site"},
		"hash or headspace":     {Order: "name"},
		"stop, undo_wave":       {Broken: "panic"},
		"say one of count":      {Waves: []waves.Size{{Count: 2, Percent: 5}}},
		"wave 1: say one":       {Waves: []waves.Size{{}}},
		"reached is a percent":  {Gate: waves.Gate{Reached: 120}},
		"below zero":            {AtMost: -1},
		"7 days at most":        {Spread: value.Duration(9 * 24 * time.Hour)},
		"during":                {During: "at night"},
		"gate, share(x":         {Gate: waves.Gate{Conditions: []string{"share(x"}}},
		"wave 2: say one of co": {Waves: []waves.Size{{Count: 1}, {Percent: 101}}},
	} {
		if err := p.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want %q", p, err, says)
		}
	}
}

// unit is a device of a simulated rollout.
type unit struct {
	id, group string
	back      time.Time     // when it is on line again; the zero time for always
	takes     time.Duration // from being reached to its answer
	refuses   bool
	gone      bool // it never answers
	offered   time.Time
}

func (u *unit) reached(now time.Time) bool {
	return !u.offered.IsZero() && !now.Before(u.back) && now.After(u.offered)
}

func (u *unit) settled(now time.Time) bool {
	at := u.offered
	if u.back.After(at) {
		at = u.back
	}
	return u.reached(now) && !u.gone && now.Sub(at) >= u.takes
}

// TestRolloutsKeepTheirWord simulates rollouts over devices that answer late, refuse, are
// away or never answer, with stops of the service between any two steps. Whatever happens,
// the limits are kept, no gate is passed that does not hold, no wave is left out or comes
// twice, and every rollout ends as its plan says.
func TestRolloutsKeepTheirWord(t *testing.T) {
	ends := map[waves.State]int{}
	caught := 0
	for seed := range uint64(4000) {
		rng := rand.New(rand.NewPCG(seed, 3))
		start := time.Date(2026, 3, 9, 6, 0, 0, 0, time.UTC)
		p := waves.Plan{AtMost: rng.IntN(4), Gate: waves.Gate{Soak: value.Duration(time.Duration(1+rng.IntN(20)) * time.Minute), Within: value.Duration(2 * time.Hour)}}
		if rng.IntN(2) == 0 {
			p.Per = "label.site"
		}
		if rng.IntN(2) == 0 {
			p.Spread = value.Duration(time.Duration(rng.IntN(60)) * time.Minute)
		}
		if rng.IntN(2) == 0 {
			p.Start = start.Add(time.Duration(rng.IntN(120)) * time.Minute)
		}
		for range rng.IntN(4) {
			p.Waves = append(p.Waves, waves.Size{Count: 1 + rng.IntN(4)})
		}
		units := map[string]*unit{}
		var all []waves.Candidate
		for i := range 4 + rng.IntN(20) {
			u := &unit{id: fmt.Sprintf("u%02d", i), group: fmt.Sprint(i % 3), takes: time.Duration(rng.IntN(900)) * time.Second}
			switch rng.IntN(30) {
			case 0:
				u.refuses = true
			case 1:
				u.gone = true
			case 2, 3:
				u.back = start.Add(time.Duration(rng.IntN(600)) * time.Minute)
			}
			units[u.id] = u
			all = append(all, waves.Candidate{ID: u.id, Group: u.group})
		}
		assigned := p.Assign(all, "x")
		r := &waves.Run{State: waves.Waiting}
		soak := p.Soak(0)
		var begun []int
		now := start
		late := map[string]bool{}
		for step := 0; r.State == waves.Waiting || r.State == waves.Running || r.State == waves.CatchingUp; step++ {
			now = now.Add(30 * time.Second)
			if step > 20_000 {
				t.Fatalf("seed %d: it does not end: %+v", seed, r)
			}
			open := now.Hour() < 20
			var members []waves.Member
			applied, refused, reached, own, lateRefused := 0, 0, 0, 0, 0
			if r.State == waves.CatchingUp {
				for _, id := range slices.Sorted(maps.Keys(late)) {
					u := units[id]
					m := waves.Member{ID: id, Group: u.group, Offered: u.offered, Reached: u.reached(now), Settled: u.settled(now), Open: open, Away: now.Before(u.back), Late: true}
					members = append(members, m)
					if p.Judged(m, soak, now) && m.Reached {
						reached++
						if m.Settled && u.refuses {
							refused++
						} else if m.Settled {
							applied++
						}
					}
				}
			}
			if r.State == waves.Running {
				for _, w := range assigned[:r.Wave] { // who was away joins in
					for _, id := range w {
						u := units[id]
						members = append(members, waves.Member{ID: id, Group: u.group, Offered: u.offered, Reached: u.reached(now), Settled: u.settled(now),
							Open: open, Away: now.Before(u.back), Late: true})
						if u.reached(now) && u.settled(now) && u.refuses {
							lateRefused++
						}
					}
				}
				for _, id := range assigned[r.Wave] {
					u := units[id]
					own++
					members = append(members, waves.Member{ID: id, Group: u.group, Offered: u.offered, Reached: u.reached(now), Settled: u.settled(now), Open: open, Away: now.Before(u.back)})
					if u.reached(now) {
						reached++
						if u.settled(now) && u.refuses {
							refused++
						} else if u.settled(now) {
							applied++
						}
					}
				}
			}
			truth := func(is, known bool) expr.Truth {
				switch {
				case !known:
					return expr.Unknown
				case is:
					return expr.True
				}
				return expr.False
			}
			conditions := []waves.Condition{{Source: "applied", Truth: truth(float64(applied) >= 0.95*float64(reached), reached > 0), Progress: true},
				{Source: "refused", Truth: truth(refused+lateRefused == 0, true)}}
			before := *r
			if rng.IntN(10) == 0 { // the service stops, and goes on with what was stored
				b, err := json.Marshal(r)
				if err != nil {
					t.Fatal(err)
				}
				r = &waves.Run{}
				if err := json.Unmarshal(b, r); err != nil {
					t.Fatal(err)
				}
			}
			s := r.Step(&p, len(assigned), soak, now, members, conditions)
			for _, id := range s.Offer {
				if !open || !units[id].offered.IsZero() || !slices.Contains(slices.Concat(assigned[:before.Wave+1]...), id) {
					t.Fatalf("seed %d: %s is offered it out of turn", seed, id)
				}
				units[id].offered = now
			}
			busy := map[string]int{}
			for _, u := range units {
				if !u.offered.IsZero() && !u.settled(now) {
					g := ""
					if p.Per != "" {
						g = u.group
					}
					busy[g]++
				}
			}
			for g, n := range busy {
				if p.AtMost > 0 && n > p.AtMost {
					t.Fatalf("seed %d: %d of group %q are on their way, at most %d may be", seed, n, g, p.AtMost)
				}
			}
			if r.Passed && !before.Passed {
				for _, u := range units {
					if u.offered.IsZero() {
						late[u.id] = true
					}
				}
				if (r.State == waves.CatchingUp) != (len(late) > 0) {
					t.Fatalf("seed %d: %d are still to come, and it is %s", seed, len(late), r.State)
				}
				caught += len(late)
			}
			if before.State == waves.CatchingUp && len(s.Offer) > 0 && refused > 0 {
				t.Fatalf("seed %d: one that came late refused, and %v are offered it all the same", seed, s.Offer)
			}
			if s.Next {
				begun = append(begun, r.Wave)
				if now.Before(p.Start) {
					t.Fatalf("seed %d: it begins before its start", seed)
				}
			}
			if passed := s.Next && r.Wave > 0 || r.Passed && !before.Passed; passed && own > 0 {
				if refused > 0 || float64(applied) < 0.95*float64(reached) || float64(reached) < 0.9*float64(own) ||
					before.Holds.IsZero() || now.Sub(before.Holds) < soak {
					t.Fatalf("seed %d: a gate was passed with %d of %d reached, %d applied, %d refused, held since %s", seed, reached, own,
						applied, refused, before.Holds)
				}
			}
		}
		for i, w := range begun {
			if w != i {
				t.Fatalf("seed %d: the waves began as %v", seed, begun)
			}
		}
		for id := range late {
			u := units[id]
			if r.State == waves.Done && (u.refuses || u.gone || !u.settled(now) || now.Sub(u.offered) < soak) {
				t.Fatalf("seed %d: it is done, and %s, which came late, is %+v", seed, id, *u)
			}
		}
		if r.State == waves.Done && len(begun) != len(assigned) || r.State == waves.Stopped && r.Why == "" {
			t.Fatalf("seed %d: it ended as %+v after the waves %v of %d", seed, r, begun, len(assigned))
		}
		for _, u := range units {
			if r.State == waves.Done && u.refuses && u.settled(now) && u.offered.Before(r.Ended.Add(-time.Hour)) && u.back.IsZero() {
				t.Fatalf("seed %d: it is done although %s refused", seed, u.id)
			}
		}
		ends[r.State]++
	}
	if caught < 200 || ends[waves.Done] < 500 || ends[waves.Stopped] < 500 {
		t.Errorf("the rollouts ended as %v, %d devices came late, so that something is not tried", ends, caught)
	}
}

func TestByHand(t *testing.T) {
	now := time.Date(2026, 3, 9, 6, 0, 0, 0, time.UTC)
	p := waves.Plan{}
	r := &waves.Run{State: waves.Waiting}
	if r.Resume(now) || !r.Pause(now, "lunch") || r.State != waves.Paused {
		t.Errorf("paused it is %+v", r)
	}
	if s := r.Step(&p, 1, 0, now, nil, nil); s.Changed {
		t.Error("paused, it goes on")
	}
	if !r.Resume(now) || r.State != waves.Waiting {
		t.Errorf("resumed before its start it is %+v", r)
	}
	r.Step(&p, 1, 0, now, nil, nil)
	if !r.Stop(now, "wrong value") || r.State != waves.Stopped || r.Broke || !r.Resume(now) || r.State != waves.Running {
		t.Errorf("stopped and resumed it is %+v", r)
	}
	if !r.Undo(now) || r.State.Open() || r.Undo(now) || r.Pause(now, "") || r.Stop(now, "") {
		t.Errorf("undone it is %+v", r)
	}
}
