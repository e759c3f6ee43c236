package scoped_test

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/scoped"
	"ullage/test/rig"
)

// TestWhatWasDifferent: the metric that left its ground comes first, it is told whether the
// peers did the same, and nobody is compared with what they do not see.
func TestWhatWasDifferent(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	r := rig.New(t)
	var ids []string
	for i := range 6 {
		site := "Fennimore"
		if i > 3 {
			site = "Kilnside"
		}
		id := fmt.Sprintf("tank-%d", i)
		r.Onboard(id, "tank-probe", map[string]string{"site": site, "stage": "fermenting"})
		ids = append(ids, id)
	}
	r.Onboard("tank-resting", "tank-probe", map[string]string{"site": "Fennimore", "stage": "resting"})
	r.Access.Grant("cellar-master", person.Grants{{Role: person.Viewer, Access: `label.site == "Fennimore"`}})
	// A day and a half of a slow wave; in the last two hours the first two warm up.
	for minute := range 36 * 12 {
		r.Pass(5 * time.Minute)
		for i, id := range ids {
			temp := 20 + 0.3*math.Sin(float64(minute)/20) + float64(i)/10
			if minute >= 34*12 && i < 2 {
				temp += 4
			}
			r.Keep(id, fmt.Sprintf(`{"must_temp":%.2f,"battery":3.4}`, temp))
		}
	}
	r.Settle()
	whole, to := access.Whole("mara"), r.Now()
	d, err := r.Fleet.Different(t.Context(), whole, "tank-0", "", to.Add(-2*time.Hour), to, nil)
	r.Must(err)
	if len(d.Metrics) != 2 || d.Metrics[0].Metric != "must_temp" || d.Metrics[0].Deviation < 5 || math.Abs(d.Metrics[0].Is-d.Metrics[0].Was-4) > 0.7 || d.Metrics[1].Deviation != 0 {
		t.Fatalf("the metrics: %+v", d.Metrics)
	}
	if d.Metric != "must_temp" || len(d.Peers) != 5 || d.Peers[0].Device != "tank-1" || d.Alike != 1 || math.Abs(d.Peers[1].Deviation) > 3 {
		t.Errorf("the peers: %+v, %d alike", d.Peers, d.Alike)
	}
	if i := slices.IndexFunc(d.Peers, func(x scoped.Differing) bool { return x.Device == "tank-resting" }); i >= 0 {
		t.Error("one of another stage is a peer")
	}
	// Before that nothing was other.
	d, err = r.Fleet.Different(t.Context(), whole, "tank-0", "must_temp", to.Add(-6*time.Hour), to.Add(-4*time.Hour), nil)
	if r.Must(err); math.Abs(d.Metrics[0].Deviation) > 3 || d.Alike != 0 {
		t.Errorf("before: %+v", d)
	}
	master := r.Access.Caller("cellar-master", "192.0.2.1")
	if d, err = r.Fleet.Different(t.Context(), master, "tank-0", "", to.Add(-2*time.Hour), to, nil); err != nil || len(d.Peers) != 3 {
		t.Errorf("somebody who sees four tanks is told of %d peers, %v", len(d.Peers), err)
	}
	if _, err = r.Fleet.Different(t.Context(), master, "tank-5", "", to.Add(-2*time.Hour), to, nil); err == nil {
		t.Error("a device that they do not see was compared")
	}
	if _, err = r.Fleet.Different(t.Context(), whole, "tank-0", "", to, to, nil); rig.Code(err) == "" {
		t.Error("a span of nothing was compared")
	}
	n, band, err := r.Fleet.PeerBand(t.Context(), whole, "tank-5", "must_temp", to.Add(-time.Hour), to, 12, nil)
	r.Must(err)
	if n != 5 || len(band) < 11 || band[5].Low > band[5].Middle || band[5].Middle > band[5].High || band[5].High < 23 || band[5].Low > 20.6 {
		t.Errorf("the band of %d peers: %+v", n, band)
	}
	if n, band, err = r.Fleet.PeerBand(t.Context(), whole, "tank-resting", "must_temp", to.Add(-time.Hour), to, 12, nil); err != nil || n != 0 || len(band) != 0 {
		t.Errorf("alone it has %d peers and %d steps, %v", n, len(band), err)
	}
}
