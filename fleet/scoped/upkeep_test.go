package scoped_test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"ullage/core/exchange"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/ingest"
	"ullage/fleet/scoped"
	"ullage/test/rig"
)

// tell stores a reading a day, for some days that end now.
func tell(r *rig.Rig, id, metric string, days int, of func(day int) float64) {
	a := ingest.Append{Device: id}
	begin := r.Clock.Now().Add(-time.Duration(days) * 24 * time.Hour)
	for i := range days {
		a.Readings = append(a.Readings, value.Reading{Metric: metric, At: begin.Add(time.Duration(i) * 24 * time.Hour), Value: value.OfNumber(of(i))})
	}
	done := make(chan error, 1)
	a.Every, a.Done = time.Minute, func(err error) { done <- err }
	r.Must(r.Store.Append(a))
	r.Must(<-done)
}

// TestUpkeep: the battery that is empty first comes first, each with its day, or with why there
// is none, and nobody is told of devices that they do not see.
func TestUpkeep(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	r := rig.New(t)
	r.Rule("rule: battery_low\nmodels: [tank-probe]\nraise: battery < 2.9 'V'\npriority: low\nmessage: m\ncause: c\nresponse: r\n")
	for id, site := range map[string]string{"tank-drains": "Fennimore", "tank-lasts": "Fennimore", "tank-flat": "Kilnside", "tank-new": "Kilnside", "tank-changed": "Kilnside"} {
		r.Onboard(id, "tank-probe", map[string]string{"site": site})
		r.Keep(id, `{"battery":3.3,"rssi":-70}`) // the rule knows it
	}
	r.Onboard("tank-silent", "tank-probe", nil)
	noise := func(i int) float64 { return 0.004 * math.Sin(float64(i*i)) }
	tell(r, "tank-drains", "battery", 40, func(i int) float64 { return 3.3 - 0.005*float64(i) + noise(i) })
	tell(r, "tank-lasts", "battery", 40, func(i int) float64 { return 3.5 - 0.001*float64(i) + noise(i) })
	tell(r, "tank-flat", "battery", 40, func(i int) float64 { return 3.4 + noise(i) })
	tell(r, "tank-new", "battery", 5, func(i int) float64 { return 3.6 })
	tell(r, "tank-changed", "battery", 40, func(i int) float64 {
		if i < 25 {
			return 3.1 - 0.02*float64(i) + noise(i)
		}
		return 3.6 - 0.01*float64(i-25) + noise(i)
	})
	tell(r, "tank-drains", "rssi", 40, func(i int) float64 { return -70 - float64(i%3) })
	r.Settle()
	all, err := r.Fleet.Upkeep(t.Context(), access.Whole("mara"), "")
	r.Must(err)
	got := map[string]scoped.Upkeep{}
	order := []string{}
	for _, u := range all {
		got[u.Device] = u
		order = append(order, u.Device)
	}
	if fmt.Sprint(order[:3]) != "[tank-drains tank-changed tank-lasts]" || len(order) != 5 {
		t.Errorf("they come as %v", order)
	}
	now := r.Clock.Now()
	for id, want := range map[string]float64{"tank-drains": 40, "tank-changed": 55, "tank-lasts": 560} {
		b := got[id].Battery
		if b == nil || b.Rule != "battery_low" || math.Abs(b.Empty.Likely.Sub(now).Hours()/24-want) > want/8 {
			t.Errorf("%s is empty as of %+v, and should be in %v days", id, b, want)
			continue
		}
		if b.Empty.Early.After(b.Empty.Likely) || !b.Empty.Late.IsZero() && b.Empty.Late.Before(b.Empty.Likely) {
			t.Errorf("%s: %+v is in no order", id, b.Empty)
		}
	}
	if b := got["tank-changed"].Battery; b.Replaced.IsZero() || math.Abs(now.Sub(b.Replaced).Hours()/24-15) > 1.1 {
		t.Errorf("its cell was replaced at %s, as of %s", b.Replaced, now)
	}
	for _, id := range []string{"tank-flat", "tank-new"} {
		if b := got[id].Battery; !b.Empty.Likely.IsZero() || b.Note == "" {
			t.Errorf("%s is empty at %v: %s", id, b.Empty, b.Note)
		}
	}
	if s := got["tank-drains"].Signal; s == nil || len(s.Days) < 40 {
		t.Errorf("its signal is %+v", s)
	}
	// What is put in of the past counts at once.
	var rows strings.Builder
	rows.WriteString("device,metric,at,value\n")
	for day := 6; day < 30; day++ {
		fmt.Fprintf(&rows, "tank-new,battery,%s,%.3f\n", now.AddDate(0, 0, -day).UTC().Format(time.RFC3339), 3.55+0.01*float64(day))
	}
	in, err := exchange.NewReader(strings.NewReader(rows.String()), exchange.CSV, now)
	r.Must(err)
	_, err = r.Fleet.Import(t.Context(), access.Whole("mara"), in, false)
	r.Must(err)
	r.Settle()
	all, err = r.Fleet.Upkeep(t.Context(), access.Whole("mara"), `device.id == "tank-new"`)
	r.Must(err)
	if len(all) != 1 || all[0].Battery.Empty.Likely.IsZero() {
		t.Errorf("with a month put in, the new one is %+v", all)
	}
	r.Access.Grant("master", person.Grants{{Role: person.Viewer, Access: `label.site == "Kilnside"`}})
	if all, err = r.Fleet.Upkeep(t.Context(), r.Access.Caller("master", ""), ""); err != nil || len(all) != 3 {
		t.Errorf("somebody who sees three is told of %d, %v", len(all), err)
	}
}

// TestCourse: what devices run is counted as it was, also where they go back and forth.
func TestCourse(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	r := rig.New(t)
	begin := r.Clock.Now()
	about := func(id, version string) {
		r.SendMessage(ingest.Message{Device: id, Kind: ingest.About, Body: fmt.Appendf(nil, `{"firmware":%q}`, version), Transport: "mqtt"})
	}
	for _, id := range []string{"tank-a", "tank-b", "tank-c"} {
		r.Onboard(id, "tank-probe", map[string]string{"site": "Fennimore"})
	}
	about("tank-a", "1.0.0")
	about("tank-b", "1.0.0")
	r.Pass(10 * time.Hour)
	about("tank-a", "2.0.0")
	r.Pass(10 * time.Hour)
	about("tank-a", "1.0.0")
	about("tank-b", "2.0.0")
	r.Pass(10 * time.Hour)
	r.Settle()
	c, err := r.Fleet.Course(t.Context(), access.Whole("mara"), "", scoped.OfFirmware, 90*24*time.Hour)
	r.Must(err)
	if !c.At[0].Equal(begin) && c.At[0].Sub(begin).Abs() > time.Minute {
		t.Errorf("it begins at %s, and the first device was here at %s", c.At[0], begin)
	}
	at := func(name string, after time.Duration) int {
		for i, when := range c.At {
			if when.Sub(begin) >= after {
				for _, p := range c.Parts {
					if p.Name == name {
						return p.Counts[i]
					}
				}
				return 0
			}
		}
		return -1
	}
	for _, x := range []struct {
		name  string
		after time.Duration
		want  int
	}{
		{"tank-probe 1.0.0", 5 * time.Hour, 2}, {"tank-probe 2.0.0", 5 * time.Hour, 0}, {"tank-probe", 5 * time.Hour, 1},
		{"tank-probe 1.0.0", 15 * time.Hour, 1}, {"tank-probe 2.0.0", 15 * time.Hour, 1},
		{"tank-probe 1.0.0", 25 * time.Hour, 1}, {"tank-probe 2.0.0", 25 * time.Hour, 1}, {"tank-probe", 25 * time.Hour, 1},
	} {
		if got := at(x.name, x.after); got != x.want {
			t.Errorf("after %s %d ran %s, want %d", x.after, got, x.name, x.want)
		}
	}
	for _, of := range []string{scoped.OfFirmware, scoped.OfModel} {
		if c, err = r.Fleet.Course(t.Context(), access.Whole("mara"), "", of, 10*time.Hour); err != nil {
			t.Fatal(err)
		}
		for i := range c.At {
			sum := 0
			for _, p := range c.Parts {
				sum += p.Counts[i]
			}
			if sum != 3 {
				t.Errorf("at %s there are %d by %s, and should be three", c.At[i], sum, of)
			}
		}
	}
	if _, err = r.Fleet.Course(t.Context(), access.Whole("mara"), "", scoped.OfModel, time.Minute); rig.Code(err) == "" {
		t.Error("a span of a minute was taken")
	}
}
