package alarms_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/fleet/fact"
	"ullage/test/rig"
)

// backlog sends readings of CO₂, a minute apart and ending at a time, in parts
// that end before the given places, and lets the backlog end.
func backlog(r *rig.Rig, end time.Time, values []float64, cuts ...int) {
	at := func(i int) time.Time { return end.Add(-time.Duration(len(values)-1-i) * time.Minute) }
	from := 0
	for _, to := range append(cuts, len(values)) {
		var parts []string
		for i := from; i < to; i++ {
			parts = append(parts, fmt.Sprintf(`{"at":%q,"co2":%g}`, at(i).Format(time.RFC3339), values[i]))
		}
		if len(parts) > 0 {
			r.Keep(air, "["+strings.Join(parts, ",")+"]")
		}
		from = to
	}
	for range 30 {
		r.Pass(time.Second)
	}
}

// What a backlog of last year says is in the journal and no alarm, in whatever
// parts it comes; what stands at a reading of just now is one.
func TestBacklogOfLongAgo(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	long := 376 * 24 * time.Hour
	for _, c := range []struct {
		name       string
		more       string
		ago        time.Duration
		values     []float64
		open       int
		up, down   int
		alsoLater  float64 // a reading of now, if it is not 0
		openLater  int
		raisedFrom time.Duration // of the later alarm, before the end of the backlog
	}{
		{name: "over long ago", ago: long, values: []float64{500, 3000, 3000, 500}, up: 1, down: 1},
		{name: "raised long ago", ago: long, values: []float64{500, 500, 3000, 3000}, up: 1},
		{name: "raised long ago, after a delay", more: "on_delay: 2min\n", ago: long, values: []float64{500, 3000, 3000, 3000, 3000}, up: 1},
		{name: "raised at the last reading, the delay ends behind it", more: "on_delay: 30min\n", ago: long, values: []float64{500, 3000, 3000}},
		{name: "twice over", ago: long, values: []float64{3000, 500, 3000, 3000, 500, 500}, up: 2, down: 2},
		{name: "still raised", ago: time.Minute, values: []float64{500, 3000, 3000, 3000}, open: 1, up: 1},
		{name: "raised long ago and now", ago: long, values: []float64{500, 3000, 3000}, up: 1, alsoLater: 3100, openLater: 1},
		{name: "raised long ago, over now", ago: long, values: []float64{500, 3000, 3000}, up: 1, alsoLater: 500},
	} {
		for cut := 1; cut < len(c.values); cut++ {
			r := onboard(t, ruleOf("co2_high", "co2 > 2000", c.more))
			backlog(r, rig.Start.Add(-c.ago), c.values, cut)
			up, down := r.Journal(fact.AlarmRaised), r.Journal(fact.AlarmReturned)
			if got := len(r.OpenAlarms()); got != c.open || len(up) != c.up || len(down) != c.down {
				t.Errorf("%s, cut before %d: %d open, raised %q, returned %q; want %d open, %d and %d", c.name, cut, got, up,
					down, c.open, c.up, c.down)
			}
			if c.alsoLater == 0 {
				continue
			}
			co2(r, c.alsoLater)
			r.Pass(time.Second)
			if got := r.OpenAlarms(); len(got) != c.openLater {
				t.Errorf("%s, cut before %d: with %g now %d are open, want %d", c.name, cut, c.alsoLater, len(got), c.openLater)
			}
		}
	}
}

// The journal of a backlog does not depend on where it is cut.
func TestBacklogHasNoSeams(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	random := rand.New(rand.NewPCG(7, 7))
	for range rig.Times(12, 3) {
		values := make([]float64, 40)
		for i := range values {
			values[i] = []float64{500, 3000}[random.IntN(2)]
		}
		values[len(values)-1] = 500
		told := func(cuts ...int) string {
			r := onboard(t, ruleOf("co2_high", "co2 > 2000", "off_delay: 2min\n"))
			backlog(r, rig.Start.Add(-40*24*time.Hour), values, cuts...)
			es, err := r.Facts.Facts(t.Context(), fact.Filter{Rule: "co2_high", Limit: 1000})
			r.Must(err)
			var out []string
			for _, e := range es {
				if e.Kind != fact.RuleChanged {
					out = append(out, e.At.Format("15:04 ")+e.Sentence())
				}
			}
			if open := r.OpenAlarms(); len(open) != 0 {
				t.Errorf("open are %+v, want none", open)
			}
			return strings.Join(out, "; ")
		}
		a := 1 + random.IntN(len(values)-2)
		b := a + 1 + random.IntN(len(values)-a-1)
		if whole, parts := told(), told(a, b); whole != parts {
			t.Errorf("whole the journal says\n%s, cut at %d and %d\n%s", whole, a, b, parts)
		}
	}
}
