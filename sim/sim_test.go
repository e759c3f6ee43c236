package sim_test

import (
	"encoding/json"
	"io/fs"
	"math"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"ullage/core/model"
	"ullage/examples/cellars"
	"ullage/sim"
)

var start = time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)

func TestFleet(t *testing.T) {
	units := sim.Fleet(sim.Small)
	if len(units) != 48 {
		t.Fatalf("the small fleet has %d devices", len(units))
	}
	ids, sites, models, protocols := map[string]bool{}, map[string]int{}, map[string]int{}, map[sim.Protocol]int{}
	for _, u := range units {
		if ids[u.ID] {
			t.Errorf("%s is there twice", u.ID)
		}
		ids[u.ID] = true
		sites[u.Labels["site"]]++
		models[u.Model]++
		protocols[u.Protocol]++
	}
	if len(sites) != 6 || len(models) != 6 || len(protocols) != 3 {
		t.Errorf("sites %v, models %v, protocols %v", sites, models, protocols)
	}
	for _, id := range []string{"tank-fennimore-07", "air-kilnside-2", "bung-saltmarsh-112", "hub-saltmarsh"} {
		if !ids[id] {
			t.Errorf("%s of the story is missing", id)
		}
	}
	if big := sim.Fleet(1000); len(big) != 1000 || !reflect.DeepEqual(big[:48], units) {
		t.Error("a larger fleet does not begin with the small one")
	}
}

// TestEverythingFitsTheModels checks three days of every device against its
// model: nothing may be refused.
func TestEverythingFitsTheModels(t *testing.T) {
	models := map[string]*model.Model{}
	files, _ := fs.Glob(cellars.Files, "models/*.tm.json")
	for _, f := range files {
		b, err := cellars.Files.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		m, err := model.Parse(b)
		if err != nil {
			t.Fatal(err)
		}
		models[m.Name] = m
	}
	w := sim.World{Seed: 1, Start: start}
	marked := 0
	for _, u := range sim.Fleet(sim.Small) {
		for at := start.Add(-72 * time.Hour); at.Before(start.Add(time.Hour)); at = at.Add(17 * time.Minute) {
			b, err := json.Marshal(w.Sample(u, at, nil))
			if err != nil {
				t.Fatal(err)
			}
			got, err := models[u.Model].Readings(b, at)
			if err != nil || len(got.Refused) > 0 {
				t.Fatalf("%s at %s sends %s: %v %v", u.ID, at, b, err, got.Refused)
			}
			marked += len(got.Marked)
		}
	}
	if marked > 0 {
		t.Errorf("%d values lie beyond their model's range", marked)
	}
}

func TestSameSeedSameSeason(t *testing.T) {
	a, b, c := sim.World{Seed: 1, Start: start}, sim.World{Seed: 1, Start: start}, sim.World{Seed: 2, Start: start}
	differ := 0
	for _, u := range sim.Fleet(sim.Small) {
		at := start.Add(-5 * time.Hour)
		if !reflect.DeepEqual(a.Sample(u, at, nil), b.Sample(u, at, nil)) {
			t.Errorf("%s is not the same twice", u.ID)
		}
		if !reflect.DeepEqual(a.Sample(u, at, nil), c.Sample(u, at, nil)) {
			differ++
		}
	}
	if differ < 40 {
		t.Errorf("with another seed only %d devices differ", differ)
	}
}

func unit(id string) sim.Unit {
	for _, u := range sim.Fleet(sim.Small) {
		if u.ID == id {
			return u
		}
	}
	panic(id)
}

func TestStory(t *testing.T) {
	w := sim.World{Seed: 1, Start: start}
	value := func(id, metric string, hours float64) float64 {
		return w.Sample(unit(id), start.Add(time.Duration(hours*float64(time.Hour))), nil)[metric].(float64)
	}
	// The run-away tank is under 20 % headspace two hours before its limit of 32.
	if now := value("tank-fennimore-07", "must_temp", 0); now < 30 || now > 31.5 {
		t.Errorf("the tank stands at %g now", now)
	}
	if then := value("tank-fennimore-07", "must_temp", 2.2); then < 32 {
		t.Errorf("the tank stands at %g two hours on", then)
	}
	if peak := value("air-kilnside-2", "co2", 0.06); peak < 5000 {
		t.Errorf("unloading reaches %g ppm", peak)
	}
	if after := value("air-kilnside-2", "co2", 1); after > 1500 {
		t.Errorf("an hour later it is %g ppm", after)
	}
	low, high := math.Inf(1), math.Inf(-1)
	for s := range 60 {
		v := value("air-alder-bank-1", "co2", float64(s)/360)
		low, high = min(low, v), max(high, v)
	}
	if low >= 1500 || high <= 1500 {
		t.Errorf("the chattering monitor goes from %g to %g", low, high)
	}
	if before, now := value("bung-saltmarsh-112", "battery", -72), value("bung-saltmarsh-112", "battery", 0); now >= before || now < 2.5 {
		t.Errorf("the battery goes from %g to %g", before, now)
	}
	hub := unit("hub-saltmarsh")
	if w.Silent(hub, start.Add(-7*time.Hour)) || !w.Silent(hub, start.Add(-3*time.Hour)) || !w.Silent(hub, start) ||
		w.Silent(hub, start.Add(5*time.Minute)) {
		t.Error("the hub is not away for its six hours")
	}
}

func TestRefusals(t *testing.T) {
	n := 0
	for _, u := range sim.Fleet(sim.Small) {
		if reason, instead := u.Refuses("stir_at", 28.0); reason != "" {
			n++
			if instead != 26.0 {
				t.Errorf("%s takes %v instead", u.ID, instead)
			}
		}
		if reason, _ := u.Refuses("stir_at", 25.0); reason != "" {
			t.Errorf("%s refuses 25: %s", u.ID, reason)
		}
	}
	if n != 3 {
		t.Errorf("%d probes refuse, want three", n)
	}
	if reason, instead := unit("tank-fennimore-07").Refuses("report_every", 2.0); reason != "below 5 s" ||
		instead != 5.0 {
		t.Errorf("reporting every 2 s: %q, %v", reason, instead)
	}
}

func TestSettingsAct(t *testing.T) {
	w := sim.World{Seed: 1, Start: start}
	u := unit("air-kilnside-1")
	plain, fan := w.Sample(u, start, nil), w.Sample(u, start, map[string]any{"fan_mode": "on"})
	if fan["fan_on"] != true || fan["co2"].(float64) >= plain["co2"].(float64) {
		t.Errorf("with the fan on %v, without %v", fan, plain)
	}
}

func TestCredentials(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sub", "fleet.json")
	empty, err := sim.ReadCredentials(path)
	if err != nil || len(empty.Tokens) != 0 {
		t.Errorf("a file that is not there gives %+v, %v", empty, err)
	}
	want := sim.Credentials{MQTT: "a", HTTP: "b", Tokens: map[string]string{"x": "y"}}
	if err := sim.WriteCredentials(path, want); err != nil {
		t.Fatal(err)
	}
	if got, err := sim.ReadCredentials(path); err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("it reads %+v, %v", got, err)
	}
	if err := sim.Run(t.Context(), sim.Options{Units: sim.Fleet(1)}); err == nil || !strings.Contains(err.Error(), "--onboard") {
		t.Errorf("without tokens: %v", err)
	}
}

// The units know the commands of their models, and no others.
func TestUnitsKnowTheirCommands(t *testing.T) {
	files, err := fs.Glob(cellars.Files, "models/*.tm.json")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		b, err := cellars.Files.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		m, err := model.Parse(b)
		if err != nil {
			t.Fatal(err)
		}
		want := map[string]bool{}
		for _, a := range m.Actions {
			want[a.Name] = true
		}
		got := map[string]bool{}
		for _, name := range sim.Commands(m.Name) {
			got[name] = true
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("%s performs %v, its model has %v", m.Name, got, want)
		}
	}
}
