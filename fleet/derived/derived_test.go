package derived_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

const tank = "tank-fennimore-07"

func points(ps []series.Point) string {
	var out []string
	for _, p := range ps {
		out = append(out, fmt.Sprintf("%s %s", p.At.UTC().Format("15:04:05"), p.Value))
	}
	return strings.Join(out, ", ")
}

func send(r *rig.Rig, at time.Time, body string) {
	r.Keep(tank, fmt.Sprintf(`{"at":%q,%s`, at.Format(time.RFC3339), body[1:]))
}

func TestDerivedAtIngest(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	t0 := rig.Start
	send(r, t0, `{"ullage":20,"must_temp":20}`)
	send(r, t0.Add(10*time.Second), `{"must_temp":21}`) // nothing it is computed from
	_, err := r.Settings.Set(t.Context(), tank, map[string]any{"tank_depth": 300.0}, nil, "mara")
	r.Must(err)
	r.Settle()
	r.Pass(time.Minute)
	r.Keep(tank, fmt.Sprintf(`[{"at":%q,"ullage":21},{"at":%q,"ullage":22.5}]`,
		t0.Add(30*time.Second).Format(time.RFC3339), t0.Add(20*time.Second).Format(time.RFC3339)))
	if got := points(r.Points(tank, "must_depth")); got != t0.Format("15:04:05")+" 300, "+t0.Add(20*time.Second).Format("15:04:05")+" 277.5, "+t0.Add(30*time.Second).Format("15:04:05")+" 279" {
		t.Errorf("computed: %s", got)
	}
	if v := r.Device(tank).Latest["must_depth"]; v.Value != value.OfNumber(279) {
		t.Errorf("on the board it is %v", v)
	}
	o := r.Send(tank, `{"must_depth":5}`)
	if o.Kept != 0 || len(o.Refused) != 1 ||
		!strings.Contains(o.Refused[0].Sentence, "computed here as set.tank_depth - ullage") {
		t.Errorf("a device that sends it itself: %+v", o)
	}
}

const twoModel = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","title":"Two","version":{"model":"%s"},"ullage:name":"two","ullage:interval":"60s","properties":{
	"a":{"type":"number","unit":"cm","readOnly":true},"b":{"type":"number","unit":"mm","readOnly":true}%s}}`

// What is computed of the past is what would have been computed at the time,
// in whatever order the readings came.
func TestBackfillEqualsIngest(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	derived := `,"sum":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"a + b"},"twice":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"sum * 2"}`
	at := func(live bool, seed uint64) (string, string) {
		r := rig.New(t)
		rng := rand.New(rand.NewPCG(seed, 1))
		version, extra := "1.0.0", ""
		if live {
			extra = derived
		}
		_, _, err := r.Models.Publish(t.Context(), []byte(fmt.Sprintf(twoModel, version, extra)), nil, "t")
		r.Must(err)
		r.Onboard("two-1", "two", nil)
		r.Pass(time.Hour)
		type msg struct {
			at   time.Time
			body string
		}
		var all []msg
		for i := range 1300 {
			when := rig.Start.Add(time.Duration(i) * 20 * time.Second)
			m := msg{at: when, body: fmt.Sprintf(`{"a":%d}`, rng.IntN(100))}
			if i%3 == 1 {
				m.body = fmt.Sprintf(`{"b":%d}`, rng.IntN(1000))
			}
			all = append(all, m)
		}
		r.Pass(8 * time.Hour)
		for _, m := range all {
			r.Keep("two-1", fmt.Sprintf(`{"at":%q,%s`, m.at.Format(time.RFC3339), m.body[1:]))
		}
		if !live {
			_, _, err = r.Models.Publish(t.Context(), []byte(fmt.Sprintf(twoModel, "1.1.0", derived)), nil, "t")
			r.Must(err)
			_, err = r.Derivations.Backfill("two", nil, time.Time{}, "mara")
			if rig.Code(err) != fault.Invalid {
				t.Errorf("nothing is derived in the version that devices have: %v", err)
			}
			_, err = r.Devices.Move(t.Context(), "two-1", "1.1.0", "mara")
			r.Must(err)
			r.Settle()
			for range 2 { // again without change
				v, err := r.Derivations.Backfill("two", nil, time.Time{}, "mara")
				r.Must(err)
				for v.EndedAt.IsZero() {
					time.Sleep(5 * time.Millisecond)
					v, err = r.Derivations.Job(v.ID)
					r.Must(err)
				}
				if v.Error != "" || v.Done != 1 || v.Readings == 0 {
					t.Fatalf("it ended with %+v", v)
				}
			}
			r.Settle()
			if r.Device("two-1").Latest["sum"].At.IsZero() {
				t.Error("the board does not know what was computed")
			}
		}
		return points(r.Points("two-1", "sum")), points(r.Points("two-1", "twice"))
	}
	for seed := range uint64(2) {
		sum1, twice1 := at(true, seed)
		sum2, twice2 := at(false, seed)
		if sum1 != sum2 || twice1 != twice2 || len(sum1) < 1000 {
			t.Errorf("seed %d: computed at once %.200s; of the past %.200s", seed, sum1, sum2)
		}
	}
}

func TestBackfillRefuses(t *testing.T) {
	r := rig.New(t)
	if _, err := r.Derivations.Backfill("nothing", nil, time.Time{}, "mara"); rig.Code(err) != fault.NotFound {
		t.Errorf("a model that is not there: %v", err)
	}
	if _, err := r.Derivations.Backfill("cellar-hub", nil, time.Time{}, "mara"); rig.Code(err) != fault.Invalid {
		t.Errorf("a model that derives nothing: %v", err)
	}
	if _, err := r.Derivations.Job("01X"); rig.Code(err) != fault.NotFound {
		t.Errorf("a job that is not there: %v", err)
	}
}

// TestDerivedFromDerived: what is computed from a computed metric and from another
// one takes the newest of both, whichever arrives alone.
func TestDerivedFromDerived(t *testing.T) {
	r := rig.New(t)
	_, _, err := r.Models.Publish(t.Context(), []byte(fmt.Sprintf(twoModel, "1.0.0", `,
		"twice":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"a * 2"},
		"both":{"type":"number","unit":"cm","readOnly":true,"ullage:derived":"twice + b"}`)), nil, "t")
	r.Must(err)
	r.Onboard("two-1", "two", nil)
	for i, c := range []struct {
		body string
		both float64 // in cm; b is in mm
	}{
		{`{"a":1,"b":100}`, 12},
		{`{"b":200}`, 22},
		{`{"a":5}`, 30},
		{`{"b":300}`, 40},
		{`{"b":10}`, 11},
	} {
		r.Pass(10 * time.Second)
		r.Keep("two-1", c.body)
		if got := r.Device("two-1").Latest["both"].Value; got != value.OfNumber(c.both) {
			t.Errorf("message %d, %s: both is %v, want %v", i+1, c.body, got, c.both)
		}
	}
}
