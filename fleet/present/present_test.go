package present_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"ullage/core/health"
	"ullage/core/value"
	"ullage/fleet/event"
	"ullage/test/rig"
)

const tank = "tank-fennimore-07"

// TestWhatWasHandedOutStays holds on to a device while it changes.
func TestWhatWasHandedOutStays(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", map[string]string{"site": "Fennimore"})
	r.Onboard("air-kilnside-2", "cellar-air", nil)
	r.Keep(tank, `{"must_temp":21.5,"density":1050}`)
	before, _ := r.Present.Since(0)
	if len(before) != 2 || before[0].ID != "air-kilnside-2" ||
		before[1].Latest["must_temp"].Value != value.OfNumber(21.5) {
		t.Fatalf("two devices by id, one of them at 21.5 °C: %+v", before)
	}
	again, seq := r.Present.Since(0)
	if again[0] != before[0] || again[1] != before[1] {
		t.Error("devices that have not changed were built again")
	}
	if changed, _ := r.Present.Since(seq); len(changed) != 0 {
		t.Errorf("nothing has changed, and %d devices came", len(changed))
	}
	r.Clock.Forward(time.Second)
	r.Keep(tank, `{"must_temp":22.5}`)
	if got := before[1].Latest["must_temp"].Value; got != value.OfNumber(21.5) {
		t.Errorf("a device handed out has changed to %v", got)
	}
	changed, _ := r.Present.Since(seq)
	if len(changed) != 1 || changed[0].Latest["must_temp"].Value != value.OfNumber(22.5) ||
		changed[0].Latest["density"].Value != value.OfNumber(1050) {
		t.Errorf("one device has changed, to 22.5 °C: %+v", changed)
	}
	// A reading of before changes nothing of what is known now.
	r.Keep(tank, fmt.Sprintf(`{"at":%q,"must_temp":19}`, rig.Start.Add(-time.Hour).Format(time.RFC3339)))
	if got := r.Device(tank).Latest["must_temp"].Value; got != value.OfNumber(22.5) {
		t.Errorf("a late reading became the newest: %v", got)
	}
}

// TestComponents judges the left jacket of a tank and the right one each by what concerns it.
func TestComponents(t *testing.T) {
	r := rig.New(t)
	part := func(name string) string {
		metric := `{"type":"number","unit":"L/min","readOnly":true,"ullage:role":"telemetry","ullage:usual":[2,8],"ullage:component":"` + name + `"}`
		return `"` + name + `_flow":` + metric
	}
	_, _, err := r.Models.Publish(t.Context(), []byte(`{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",
		"title":"Great tank","ullage:name":"great-tank","ullage:interval":"1min","version":{"model":"1.0.0"},"properties":{
		"must_temp":{"type":"number","unit":"Cel","readOnly":true,"ullage:role":"telemetry"},`+part("left")+","+part("right")+`}}`), nil, "tester")
	r.Must(err)
	r.Rule("rule: flow_low\nmodels: [great-tank]\nraise: right_flow < 1 'L/min'\nclear: right_flow > 1.5 'L/min'\npriority: high\nmessage: low\n")
	r.Onboard("great-1", "great-tank", nil)
	says := func(want string) {
		t.Helper()
		got := ""
		for _, c := range r.Device("great-1").Components {
			got += fmt.Sprintf("%s %s %q; ", c.Name, c.Health, c.Reasons)
		}
		if got != want {
			t.Errorf("the components are\n%s, want\n%s", got, want)
		}
	}
	says(`left awaited ["no reading from it yet"]; right awaited ["no reading from it yet"]; `)
	r.Keep("great-1", `{"must_temp":19,"left_flow":5,"right_flow":0.2}`)
	says(`left sound []; right poor ["high alarm flow_low" "headspace 0 % on right_flow"]; `)
	r.Pass(time.Second)
	r.Keep("great-1", `{"right_flow":5}`)
	says(`left sound []; right poor ["high alarm flow_low, returned and not acknowledged"]; `)
	// The right one falls silent while the rest reports on.
	for range 4 {
		r.Pass(time.Minute)
		r.Keep("great-1", `{"must_temp":19,"left_flow":5}`)
	}
	says(`left sound []; right dark ["silent for 4min, expected every 1min" "high alarm flow_low, returned and not acknowledged"]; `)
	if d := r.Device("great-1"); d.Link != health.Online {
		t.Errorf("the device itself is %s", d.Link)
	}
	r.Restart(false)
	says(`left sound []; right dark ["silent for 4min, expected every 1min" "high alarm flow_low, returned and not acknowledged"]; `)
}

// TestRefusalsAreForgotten counts refusals for an hour and says so both times.
func TestRefusalsAreForgotten(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	r.Keep(tank, `{"must_temp":21.5}`)
	for range 3 {
		r.Send(tank, `{"must_temp":"hot"}`)
	}
	d := r.Device(tank)
	if d.Refusals != 3 {
		t.Fatalf("three were refused, not %d", d.Refusals)
	}
	_, seq := r.Present.Since(0)
	r.Pass(61 * time.Minute)
	changed, _ := r.Present.Since(seq)
	if len(changed) != 1 || changed[0].Refusals != 0 || changed[0].Link != health.Silent || d.Refusals != 3 {
		t.Errorf("an hour later the refusals are forgotten and the device is silent: %+v", changed)
	}
}

// TestReasonsOfTime: nobody sends, and what is said of the devices follows the clock, also one that is put back.
func TestReasonsOfTime(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	r.Onboard("tank-fennimore-08", "tank-probe", nil)
	r.Keep(tank, `{"must_temp":21.5}`)
	says := func(link health.Link, want string) {
		t.Helper()
		d := r.Device(tank)
		if got := fmt.Sprint(d.Reasons); d.Link != link || got != want {
			t.Errorf("the device is %s because of %s, want %s because of %s", d.Link, got, link, want)
		}
		if o := r.Device("tank-fennimore-08"); o.Link != health.Never {
			t.Errorf("one that never sent is %s", o.Link)
		}
	}
	says(health.Online, "[]")
	r.Pass(119 * time.Second)
	says(health.Overdue, "[]")
	for _, step := range []struct {
		by   time.Duration
		want string
	}{
		{61 * time.Second, "[silent for 3min, expected every 1min]"},
		{30 * time.Second, "[silent for 3min, expected every 1min]"},
		{30 * time.Second, "[silent for 4min, expected every 1min]"},
		{5 * time.Hour, "[silent for 5h4min, expected every 1min]"},
		{time.Minute, "[silent for 5h5min, expected every 1min]"},
		{-3 * time.Hour, "[silent for 2h5min, expected every 1min]"},
		{-2 * time.Hour, "[silent for 5min, expected every 1min]"},
		{2 * time.Minute, "[silent for 7min, expected every 1min]"},
		{48 * time.Hour, "[silent for 2d, expected every 1min]"},
	} {
		r.Pass(step.by)
		says(health.Silent, step.want)
	}
	r.Keep(tank, `{"must_temp":21.5}`)
	says(health.Online, "[]")
}

// TestReadWhileWritten reads all devices while readings of all of them arrive:
// of each device a reader sees values that only grow.
func TestReadWhileWritten(t *testing.T) {
	r := rig.New(t)
	const devices, rounds = 40, 50
	for i := range devices {
		r.Onboard(fmt.Sprintf("tank-fennimore-%02d", i), "tank-probe", nil)
	}
	var wrote sync.WaitGroup
	wrote.Go(func() {
		for n := range rounds {
			for i := range devices {
				at := rig.Start.Add(time.Duration(n) * time.Second)
				r.Bus.Publish(event.Readings{Device: fmt.Sprintf("tank-fennimore-%02d", i), Arrived: at,
					Readings: []value.Reading{{Metric: "must_temp", At: at, Value: value.OfNumber(float64(n))}}})
			}
		}
	})
	seen := map[string]float64{}
	look := func() {
		all, _ := r.Present.Since(0)
		for _, d := range all {
			now := d.Latest["must_temp"].Value.Num
			if now < seen[d.ID] {
				t.Fatalf("%s went back from %g to %g", d.ID, seen[d.ID], now)
			}
			seen[d.ID] = now
		}
	}
	for range rounds {
		look()
	}
	wrote.Wait()
	r.Settle()
	look()
	for id, v := range seen {
		if v != rounds-1 {
			t.Errorf("%s ended at %g", id, v)
		}
	}
}
