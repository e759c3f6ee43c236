package cause_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/cause"
	"ullage/core/health"
	"ullage/core/rule"
)

var now = time.Date(2026, 3, 7, 12, 0, 0, 0, time.UTC)

func dark(id, site, hub string, ago time.Duration) cause.Device {
	return cause.Device{ID: id, Site: site, Hub: hub, Health: health.Dark, Silent: true, LastAt: now.Add(-ago), Interval: time.Minute,
		Reasons: []string{"silent for a while, expected every 1min"}}
}

func sound(id, site, hub string) cause.Device {
	return cause.Device{ID: id, Site: site, Hub: hub, Health: health.Sound, LastAt: now}
}

func advice(name string) cause.Advice {
	if name == "hub_silent" {
		return cause.Advice{Cause: "The uplink is down", Response: "Call whoever is at the cellar"}
	}
	return cause.Advice{}
}

func said(cs []cause.Cause) (out []string) {
	for _, c := range cs {
		out = append(out, fmt.Sprintf("%s|%s|%d", c.Kind, c.Title, len(c.Devices)))
	}
	return out
}

func TestOneCauseIsOneLine(t *testing.T) {
	hub := dark("hub-saltmarsh", "Saltmarsh", "", 6*time.Hour)
	hub.Alarms = []cause.Alarm{{ID: "01H", Rule: "hub_silent", Priority: rule.High, Message: "the hub is silent", Since: now.Add(-5 * time.Hour)}}
	warm := sound("tank-fennimore-07", "Fennimore", "")
	warm.Alarms = []cause.Alarm{{ID: "01W", Rule: "must_too_warm", Priority: rule.High, Message: "F7: must at 33 °C", Since: now.Add(-time.Hour), Acknowledged: true, By: "cellar-master"}}
	refuse := func(id string) cause.Device {
		d := sound(id, "Coldharbour", "")
		d.Differs = []cause.Differs{{Setting: "stir_at", Reason: "above 26 °C while sealed", Since: now.Add(-time.Hour)}}
		return d
	}
	drift := sound("air-kilnside-1", "Kilnside", "")
	drift.Differs = []cause.Differs{{Setting: "fan_mode", Since: now.Add(-20 * time.Minute)}, {Setting: "buzzer_level", Since: now.Add(-time.Minute)}}
	bung := sound("bung-saltmarsh-112", "High Orchard", "")
	bung.Least = &health.Margin{Rule: "battery_low", Metric: "battery", Known: true, Headspace: 0.11, ToLimit: health.ToLimit{Likely: now.Add(48 * time.Hour)}}
	ends := sound("hub-kilnside", "Kilnside", "")
	ends.Reasons = []string{"its certificate ends in 3d4h"}
	got := cause.Find([]cause.Device{dark("valve-saltmarsh-1", "Saltmarsh", "hub-saltmarsh", 5*time.Hour), hub, dark("valve-saltmarsh-2", "Saltmarsh", "hub-saltmarsh", 5*time.Hour),
		sound("tank-saltmarsh-01", "Saltmarsh", ""), warm, refuse("tank-coldharbour-01"), refuse("tank-coldharbour-02"), refuse("tank-coldharbour-03"), drift, bung, ends,
		dark("air-kilnside-2", "Kilnside", "", time.Hour)},
		[]cause.Alarm{{ID: "01G", Rule: "cellar_silent", Priority: rule.Urgent, Group: "site=Saltmarsh", Since: now.Add(-4 * time.Hour)},
			{ID: "01K", Rule: "site_warm", Priority: rule.Low, Group: "site=Fennimore", Message: "Fennimore is warm", Since: now}}, advice, now)
	want := []string{
		"hub|hub-saltmarsh is silent, and with it 2 devices behind it|3",
		"link|air-kilnside-2 is silent|1",
		"alarm|F7: must at 33 °C|1",
		"alarm|Fennimore is warm|0",
		"refused|3 devices refuse the setting stir_at|3",
		"drift|air-kilnside-1 has drifted from the setting fan_mode|1",
		"headspace|bung-saltmarsh-112 has 11 % headspace on battery|1",
		"other|hub-kilnside: its certificate ends in 3d4h|1",
	}
	lines := said(got)
	slices.Sort(lines)
	sorted := slices.Sorted(slices.Values(want))
	if !slices.Equal(lines, sorted) {
		t.Errorf("the causes are\n%s\nwant\n%s", strings.Join(lines, "\n"), strings.Join(sorted, "\n"))
	}
	first := got[0]
	if first.Kind != cause.Hub || first.Priority != rule.Urgent || first.Alarm != "01G" || !strings.Contains(first.Why, "6h") {
		t.Errorf("the first is %+v", first)
	}
	for _, c := range got {
		if c.Kind == cause.Raised && c.Alarm == "01W" && (!c.Acknowledged || !slices.Equal(c.By, []string{"cellar-master"})) {
			t.Errorf("an acknowledged alarm is told as %+v", c)
		}
	}
}

// TestClocksAndFirmware: devices of a site with the same trouble with their clocks are one
// line, and so is a firmware with which devices are nearer to their limits than with others.
func TestClocksAndFirmware(t *testing.T) {
	wrong := func(id, site, reason string) cause.Device {
		d := sound(id, site, "")
		d.Health, d.Reasons = health.Watch, []string{reason}
		return d
	}
	ds := []cause.Device{wrong("press-kilnside-1", "Kilnside", health.ClockNotSet), wrong("press-coldharbour-1", "Coldharbour", health.ClockNotSet),
		wrong("tank-coldharbour-01", "Coldharbour", health.ClockNotSet), wrong("tank-coldharbour-02", "Coldharbour", health.ClockAhead)}
	at := func(model, firmware string, headspaces ...float64) {
		for _, h := range headspaces {
			d := sound(fmt.Sprintf("%s-%s-%02d", model, firmware, len(ds)), "Fennimore", "")
			d.Model, d.Firmware, d.Least = model, firmware, &health.Margin{Rule: "warm", Metric: "must_temp", Known: true, Headspace: h}
			ds = append(ds, d)
		}
	}
	at("tank-probe", "2.3.1", 0.8, 0.7, 0.9, 0.75, 0.22)
	at("tank-probe", "2.4.0", 0.3, 0.45, 0.4, 0.9)
	at("cellar-air", "1.0", 0.8, 0.8, 0.8)
	at("cellar-air", "1.1", 0.3, 0.3) // too few to say anything
	at("press-scale", "1.0", 0.8, 0.5, 0.9)
	at("press-scale", "1.1", 0.7, 0.4, 0.9, 0.65) // a little less, as it happens
	want := []string{
		"clock|The clock of press-kilnside-1 is not set|1",
		"clock|The clock of tank-coldharbour-02 is ahead|1",
		"clock|The clocks of 2 devices at Coldharbour are not set|2",
		"firmware|tank-probe with firmware 2.4.0 have 40 % headspace, others 75 %|4",
	}
	if got := said(cause.Find(ds, nil, advice, now)); !slices.Equal(slices.Sorted(slices.Values(got)), want) {
		t.Errorf("the causes are\n%s\nwant\n%s", strings.Join(slices.Sorted(slices.Values(got)), "\n"), strings.Join(want, "\n"))
	}
}

// TestASilentSite is one line, whatever its hub does.
func TestASilentSite(t *testing.T) {
	var ds []cause.Device
	for i := range 4 {
		ds = append(ds, dark(fmt.Sprintf("tank-saltmarsh-%02d", i), "Saltmarsh", "hub-saltmarsh", time.Hour))
	}
	ds = append(ds, dark("hub-saltmarsh", "Saltmarsh", "", time.Hour), cause.Device{ID: "tank-saltmarsh-09", Site: "Saltmarsh", Health: health.Awaited})
	if got := said(cause.Find(ds, nil, advice, now)); len(got) != 1 || got[0] != "site|Saltmarsh is silent: all 5 devices|5" {
		t.Errorf("it is %q", got)
	}
}

// TestNobodyIsForgotten: whatever is wrong, every device that is dark, poor or on watch is on
// a line, and nobody whose silence is told is silent on a second one.
func TestNobodyIsForgotten(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 3))
		var ds []cause.Device
		for i := range 1 + r.IntN(30) {
			d := sound(fmt.Sprintf("d-%02d", i), []string{"", "Kilnside", "Saltmarsh"}[r.IntN(3)], "")
			if i > 0 && r.IntN(2) == 0 {
				d.Hub = fmt.Sprintf("d-%02d", r.IntN(i))
			}
			switch r.IntN(5) {
			case 0:
				d = dark(d.ID, d.Site, d.Hub, time.Duration(1+r.IntN(300))*time.Minute)
			case 1:
				d.Health = health.Poor
				d.Reasons = []string{"high alarm x"}
				d.Alarms = []cause.Alarm{{ID: d.ID, Rule: []string{"x", "y"}[r.IntN(2)], Priority: rule.High, Since: now.Add(-time.Duration(r.IntN(600)) * time.Minute)}}
			case 2:
				d.Health = health.Watch
				d.Reasons = []string{"5 refusals within an hour"}
			}
			ds = append(ds, d)
		}
		told := map[string]int{}
		silent := map[string]int{}
		ids := map[string]bool{}
		got := cause.Find(slices.Clone(ds), nil, advice, now)
		for _, c := range got {
			if ids[c.ID] {
				t.Fatalf("seed %d: %s is told twice", seed, c.ID)
			}
			ids[c.ID] = true
			for _, id := range c.Devices {
				told[id]++
				if c.Kind == cause.Hub || c.Kind == cause.Site || c.Kind == cause.Link {
					silent[id]++
				}
			}
		}
		for _, d := range ds {
			if d.Health != health.Sound && told[d.ID] == 0 {
				t.Fatalf("seed %d: %s is %s and on no line of %q", seed, d.ID, d.Health, said(got))
			}
			if want := 0; d.Silent {
				if want = 1; silent[d.ID] != want {
					t.Fatalf("seed %d: the silence of %s is told %d times", seed, d.ID, silent[d.ID])
				}
			}
		}
	}
}

func BenchmarkFind(b *testing.B) {
	var ds []cause.Device
	for i := range 10_000 {
		d := sound(fmt.Sprintf("tank-%05d", i), fmt.Sprint("site ", i%40), "")
		if i%20 == 0 {
			d = dark(d.ID, d.Site, fmt.Sprintf("tank-%05d", i/400*400), time.Hour)
		}
		ds = append(ds, d)
	}
	for b.Loop() {
		cause.Find(slices.Clone(ds), nil, advice, now)
	}
}
