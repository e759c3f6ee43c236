package deletion_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/core/health"
	"ullage/fleet/deletion"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/traffic"
	"ullage/test/rig"
)

// warm gives a device an hour of readings, the last twenty minutes too warm, and
// a rule that looks at thirty minutes.
func warm(t *testing.T) *rig.Rig {
	t.Helper()
	r := rig.New(t)
	r.Onboard("tank-fennimore-07", "tank-probe", nil)
	r.Rule("rule: must_hot\nmodels: [tank-probe]\nraise: max(must_temp over 30min) > 32\npriority: high\nmessage: \"{device.id}: must at {must_temp}\"\n")
	for i := range 60 {
		temp := 24.0
		if i >= 40 {
			temp = 33
		}
		r.Keep("tank-fennimore-07", fmt.Sprintf(`{"must_temp":%v,"ullage":40}`, temp))
		r.Pass(time.Minute)
	}
	return r
}

// TestForgetsEverywhere deletes a span that an alarm stands on, and looks at
// everything that knew of it.
func TestForgetsEverywhere(t *testing.T) {
	r := warm(t)
	if n := len(r.OpenAlarms()); n != 1 {
		t.Fatalf("there are %d alarms before, want 1", n)
	}
	from := rig.Start.Add(40*time.Minute - time.Second)
	span := deletion.Span{Device: "tank-fennimore-07", Metrics: []string{"must_temp"}, From: from}
	preview, err := r.Deleter.Preview(t.Context(), span)
	if err != nil || preview.Readings != 20 || len(preview.Series) != 1 || !preview.Series[0].First.After(from) {
		t.Fatalf("the preview says %+v, %v; want 20 readings of one metric", preview, err)
	}
	if got := len(r.Points("tank-fennimore-07", "must_temp")); got != 60 {
		t.Fatalf("the preview left %d readings, want all 60", got)
	}
	done, err := r.Deleter.Delete(t.Context(), span, "engineer")
	if err != nil || done.Readings != 20 {
		t.Fatalf("%d were deleted, %v; want 20", done.Readings, err)
	}
	r.Settle()
	if got := len(r.Points("tank-fennimore-07", "must_temp")); got != 40 {
		t.Errorf("%d readings are left, want 40", got)
	}
	d := r.Device("tank-fennimore-07")
	if l := d.Latest["must_temp"]; l.Value.Num != 24 {
		t.Errorf("the latest is %v, want 24", l.Value)
	}
	if d.Link != health.Online {
		t.Errorf("the link is %s, want online: ullage is still there", d.Link)
	}
	r.Pass(time.Minute)
	r.Keep("tank-fennimore-07", `{"must_temp":24}`)
	for _, a := range r.OpenAlarms() {
		if a.State.Holds() {
			t.Errorf("%s still holds; its window has nothing warm in it any more", a.Message)
		}
	}
	got := r.Journal(fact.ReadingsDeleted)
	if len(got) != 1 || !strings.Contains(got[0], "engineer deleted 20 readings of must_temp from ") {
		t.Errorf("the journal says %q", got)
	}
}

// TestAll deletes a whole device's readings with its traffic, also across a restart.
func TestAll(t *testing.T) {
	r := warm(t)
	other := "tank-fennimore-08"
	r.Onboard(other, "tank-probe", nil)
	r.Keep(other, `{"must_temp":20}`)
	done, err := r.Deleter.Delete(t.Context(), deletion.Span{Device: "tank-fennimore-07", All: true}, "engineer")
	if err != nil || done.Readings < 120 || done.Traffic == 0 {
		t.Fatalf("deleted were %+v, %v; want all readings and the traffic", done, err)
	}
	r.Settle()
	if n := r.Traffic.Count("tank-fennimore-07"); n != 0 {
		t.Errorf("%d messages of its traffic are left", n)
	}
	if got := r.Traffic.Recent(traffic.Filter{Device: other}); len(got) == 0 {
		t.Error("the other's traffic is gone too")
	}
	for _, restarted := range []bool{false, true} {
		if restarted {
			r.Restart(true)
		}
		if d := r.Device("tank-fennimore-07"); len(d.Latest) != 0 || d.Link != health.Never {
			t.Errorf("restarted %v: it is %s with %v, want never heard and nothing", restarted, d.Link, d.Latest)
		}
		if d := r.Device(other); d.Latest["must_temp"].Value.Num != 20 {
			t.Errorf("restarted %v: the other holds %v, want 20", restarted, d.Latest)
		}
	}
}

// TestAsked refuses what does not say which readings, and deletes nothing then.
func TestAsked(t *testing.T) {
	r := warm(t)
	hour := rig.Start
	for name, c := range map[string]struct {
		span deletion.Span
		code fault.Code
		says string
	}{
		"nothing said":     {deletion.Span{}, fault.Invalid, "which readings"},
		"all, and a time":  {deletion.Span{All: true, From: hour}, fault.Invalid, "goes with no metric"},
		"ends before":      {deletion.Span{From: hour, To: hour.Add(-time.Second)}, fault.Invalid, "before it starts"},
		"a misspelt one":   {deletion.Span{Metrics: []string{"must_tmp"}}, fault.NotFound, "did you mean must_temp?"},
		"a strange device": {deletion.Span{Device: "tank-none", All: true}, fault.NotFound, "tank-none"},
	} {
		if c.span.Device == "" {
			c.span.Device = "tank-fennimore-07"
		}
		_, err := r.Deleter.Delete(t.Context(), c.span, "engineer")
		if rig.Code(err) != c.code || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %s with %q", name, err, c.code, c.says)
		}
	}
	if got := len(r.Points("tank-fennimore-07", "must_temp")); got != 60 {
		t.Errorf("%d readings are left, want 60", got)
	}
	if got := r.Journal(fact.ReadingsDeleted); len(got) != 0 {
		t.Errorf("the journal says %q, want nothing", got)
	}
}
