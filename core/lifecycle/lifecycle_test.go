package lifecycle_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/expr"
	"ullage/core/lifecycle"
)

var zero = time.Date(2026, 3, 9, 12, 0, 0, 0, time.UTC)

func at(seconds int) time.Time { return zero.Add(time.Duration(seconds) * time.Second) }

// play judges "seconds:letter" steps: R over the limit, C back, D in the
// deadband, U unknown, and t lets time pass. It returns the changes in the same
// manner: +seconds for a raise and -seconds for a return.
func play(d *lifecycle.Detector, script string, hold time.Duration, t lifecycle.Delays) string {
	var out []string
	add := func(c lifecycle.Change) {
		sign := "-"
		if c.Up {
			sign = "+"
		}
		out = append(out, fmt.Sprintf("%s%d", sign, int(c.At.Sub(zero).Seconds())))
	}
	for _, step := range strings.Fields(script) {
		var sec int
		var what string
		fmt.Sscanf(step, "%d:%s", &sec, &what)
		raise, clear := expr.Unknown, expr.Unknown
		switch what {
		case "t":
			if c, ok := d.Advance(at(sec), t); ok {
				add(c)
			}
			continue
		case "R":
			raise, clear = expr.True, expr.False
		case "C":
			raise, clear = expr.False, expr.True
		case "D":
			raise, clear = expr.False, expr.False
		}
		for _, c := range d.Judge(at(sec), raise, clear, hold, t) {
			add(c)
		}
	}
	return strings.Join(out, " ")
}

func TestDetector(t *testing.T) {
	delays := lifecycle.Delays{On: 60 * time.Second, Off: 30 * time.Second}
	for _, c := range []struct {
		name, script, want string
		delays             lifecycle.Delays
	}{
		{"no delays", "0:C 10:R 20:C 30:R", "+10 -20 +30", lifecycle.Delays{}},
		{"short of the on-delay", "0:R 50:C 100:R", "", delays},
		{"on-delay by readings", "0:R 30:R 70:R", "+60", delays},
		{"on-delay by the clock", "0:R 30:R 59:t 61:t", "+60", delays},
		{"on-delay and return", "0:R 70:R 80:C 120:C", "+60 -110", delays},
		{"return broken off", "0:R 70:R 80:C 100:R 140:C 150:C 171:C", "+60 -170", delays},
		{"the deadband keeps it up", "0:R 70:R 80:D 200:D 210:C 245:C", "+60 -240", delays},
		{"the deadband breaks the on-delay", "0:R 30:D 40:R 99:R 101:R", "+100", delays},
		{"a reading after the delay that is back", "0:R 90:C 120:C", "+60 -120", delays},
		{"unknown freezes the delay", "0:R 40:U 60:R 70:R 79:R 81:R", "+80", delays},
		{"unknown for as long as the delay starts afresh", "0:R 40:U 101:R 150:R 160:R 162:R", "+161", delays},
		{"a gap is unknown", "0:R 300:R 380:R 421:R", "+420", lifecycle.Delays{On: 2 * time.Minute}},
		{"unknown does not return", "0:R 70:R 80:U 500:U", "+60", delays},
		{"an old reading is not judged", "100:C 50:R 90:R", "", lifecycle.Delays{}},
		{"the same time twice", "10:C 10:R 11:R", "+11", lifecycle.Delays{}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var d lifecycle.Detector
			if got := play(&d, c.script, 100*time.Second, c.delays); got != c.want {
				t.Errorf("%s gives %q, want %q", c.script, got, c.want)
			}
		})
	}
}

func TestGapLongerThanHoldFreezes(t *testing.T) {
	// The reading at 0 holds for 20 s; the delay stands still until 45.
	var d lifecycle.Detector
	delays := lifecycle.Delays{On: 60 * time.Second}
	if got := play(&d, "0:R 45:R 64:R 84:R 86:R", 20*time.Second, delays); got != "+85" {
		t.Errorf("changes are %q; 20 s known, 25 s unknown, then 40 s more make +85", got)
	}
}

func TestDue(t *testing.T) {
	var d lifecycle.Detector
	delays := lifecycle.Delays{On: 60 * time.Second}
	if _, due := d.Due(delays); due {
		t.Error("an empty detector is due")
	}
	play(&d, "0:R", 5*time.Minute, delays)
	if when, due := d.Due(delays); !due || !when.Equal(at(60)) {
		t.Errorf("it is due at %s, %v", when, due)
	}
	play(&d, "10:R", 20*time.Second, delays)
	if when, due := d.Due(delays); due {
		t.Errorf("it is due at %s although the value is unknown by then", when)
	}
}

// TestStopAndGoOn stores the detector and reads it back between any two steps:
// the changes must be the same as without.
func TestStopAndGoOn(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		var script []string
		sec := 0
		for range 30 {
			sec += 1 + rng.IntN(40)
			script = append(script, fmt.Sprintf("%d:%c", sec, "RRRCCDUt"[rng.IntN(8)]))
		}
		delays := lifecycle.Delays{On: time.Duration(rng.IntN(80)) * time.Second,
			Off: time.Duration(rng.IntN(80)) * time.Second}
		var whole, parts lifecycle.Detector
		want := play(&whole, strings.Join(script, " "), 50*time.Second, delays)
		var got []string
		for _, step := range script {
			b, err := json.Marshal(parts)
			if err != nil {
				t.Fatal(err)
			}
			parts = lifecycle.Detector{}
			if err := json.Unmarshal(b, &parts); err != nil {
				t.Fatal(err)
			}
			if c := play(&parts, step, 50*time.Second, delays); c != "" {
				got = append(got, c)
			}
		}
		if g := strings.Join(got, " "); g != want {
			t.Fatalf("%v with %+v gives %q in parts and %q as a whole", script, delays, g, want)
		}
	}
}

// TestChangesAlternate checks for random scripts what must hold of any: raises
// and returns take turns, in order of time, and not before their delay.
func TestChangesAlternate(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 1000 {
		var d lifecycle.Detector
		delays := lifecycle.Delays{On: time.Duration(rng.IntN(60)) * time.Second,
			Off: time.Duration(rng.IntN(60)) * time.Second}
		now, up, last := zero, false, zero.Add(-time.Hour)
		for range 60 {
			now = now.Add(time.Duration(1+rng.IntN(30)) * time.Second)
			raise, clear := expr.Of(rng.IntN(2) == 0), expr.Of(rng.IntN(2) == 0)
			if raise == expr.True {
				clear = expr.False
			}
			for _, c := range d.Judge(now, raise, clear, 40*time.Second, delays) {
				if c.Up == up || c.At.Before(last) || c.At.After(now) {
					t.Fatalf("change %+v follows %v at %s; now is %s", c, up, last, now)
				}
				up, last = c.Up, c.At
			}
		}
	}
}

// The alarm state transition diagram of ISA-18.2 (figure 3 of the 2016 edition), with its
// letters: A normal, B unacknowledged, C acknowledged, D returned unacknowledged, E latched
// unacknowledged, F latched acknowledged; G, H and I are the states aside.
func TestTransitions(t *testing.T) {
	A, B, C, D, E, F := lifecycle.Normal, lifecycle.Unacknowledged, lifecycle.Acknowledged, lifecycle.Returned, lifecycle.LatchedUnacknowledged, lifecycle.Latched
	same := lifecycle.State("")
	for _, c := range []struct {
		from                                                      lifecycle.State
		raise, back, latched, backAside, latchedAside, ack, reset lifecycle.State
	}{
		{A, B, same, same, same, same, same, same},
		{B, same, D, E, A, E, C, same},
		{C, B, A, F, A, F, same, same},
		{D, B, same, same, same, same, A, same},
		{E, B, same, same, same, same, F, D},
		{F, B, same, same, same, same, same, A},
	} {
		ack, acked := c.from.Acknowledge()
		reset, wasReset := c.from.Reset()
		for what, x := range map[string][2]lifecycle.State{
			"raise": {c.from.Raise(), c.raise}, "return": {c.from.Return(false, false), c.back}, "return, latching": {c.from.Return(true, false), c.latched},
			"return aside": {c.from.Return(false, true), c.backAside}, "return aside, latching": {c.from.Return(true, true), c.latchedAside},
			"acknowledge": {ack, c.ack}, "reset": {reset, c.reset},
		} {
			want := x[1]
			if want == same {
				want = c.from
			}
			if x[0] != want {
				t.Errorf("%s: %s gives %s, want %s", c.from, what, x[0], want)
			}
		}
		if acked != (c.ack != same) || wasReset != (c.reset != same) {
			t.Errorf("%s: acknowledged %v, reset %v", c.from, acked, wasReset)
		}
		if holds := c.from == B || c.from == C; c.from.Holds() != holds || c.from.Open() != (c.from != A) || c.from.Waits() != acked {
			t.Errorf("%s: holds %v, open %v, waits %v", c.from, c.from.Holds(), c.from.Open(), c.from.Waits())
		}
	}
}

// What stands aside changes what people see and nothing else.
func TestAside(t *testing.T) {
	for _, c := range []struct {
		aside lifecycle.Aside
		shown lifecycle.State
	}{
		{lifecycle.Aside{}, lifecycle.Unacknowledged},
		{lifecycle.Aside{Shelved: true}, lifecycle.Shelved},
		{lifecycle.Aside{Shelved: true, Suppressed: true}, lifecycle.Suppressed},
		{lifecycle.Aside{Shelved: true, Suppressed: true, OutOfService: true}, lifecycle.OutOfService},
	} {
		if got := c.aside.Shown(lifecycle.Unacknowledged); got != c.shown || c.aside.Any() != (c.shown != lifecycle.Unacknowledged) {
			t.Errorf("%+v is shown as %s, want %s", c.aside, got, c.shown)
		}
		if got := c.aside.Shown(lifecycle.Normal); got != lifecycle.Normal {
			t.Errorf("%+v: what is normal is shown as %s", c.aside, got)
		}
	}
	seen := map[lifecycle.State]bool{}
	for _, s := range lifecycle.States {
		seen[s] = true
	}
	if len(seen) != 9 || len(lifecycle.States) != 9 {
		t.Errorf("%d states are listed, %d different ones", len(lifecycle.States), len(seen))
	}
}

func BenchmarkJudge(b *testing.B) {
	var d lifecycle.Detector
	delays := lifecycle.Delays{On: time.Minute, Off: time.Minute}
	now := zero
	b.ReportAllocs()
	for b.Loop() {
		now = now.Add(time.Second)
		d.Judge(now, expr.False, expr.True, time.Minute, delays)
	}
}
