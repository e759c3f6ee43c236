package api

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"ullage/core/geo"
	"ullage/core/health"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/present"
)

// changed returns a device that differs from another in some of its parts.
func changed(r *rand.Rand, d present.Device, now time.Time) present.Device {
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	some := func() bool { return r.IntN(3) == 0 }
	if some() {
		d.Name = pick("", "North tank")
		d.Hub = pick("", "hub-fennimore")
	}
	if some() {
		d.ModelVersion = pick("1.0.0", "1.1.0")
	}
	if some() {
		d.Labels = map[string]string{"site": pick("Fennimore", "Kilnside")}
		if some() {
			d.Labels["stage"] = "fermenting"
		}
	}
	if some() {
		d.Attributes = map[string]value.Value{}
		if some() {
			d.Attributes[model.ReportedVersion] = value.OfText(pick("1.0.0", "1.1.0"))
		}
		if some() {
			d.Attributes["volume"] = value.OfNumber(float64(r.IntN(3)))
		}
	}
	if r.IntN(3) > 0 {
		d.Latest = maps.Clone(d.Latest)
		if d.Latest == nil {
			d.Latest = map[string]present.Latest{}
		}
		for _, name := range []string{"must_temp", "pressure", "valve"} {
			switch {
			case r.IntN(6) == 0:
				delete(d.Latest, name)
			case some():
				d.Latest[name] = present.Latest{At: now.Add(time.Duration(r.IntN(3)) * time.Second),
					Value: value.OfNumber(float64(r.IntN(3))), Quality: value.Quality(r.IntN(2))}
			}
		}
	}
	if some() {
		d.Margins = make([]health.Margin, r.IntN(3))
		for i := range d.Margins {
			d.Margins[i] = health.Margin{Rule: fmt.Sprint("rule_", i), Value: float64(r.IntN(2))}
		}
		if d.Least = nil; len(d.Margins) > 0 {
			d.Least = &d.Margins[0]
		}
	}
	if some() {
		d.Alarms = make([]present.Alarm, r.IntN(3))
		for i := range d.Alarms {
			d.Alarms[i] = present.Alarm{ID: fmt.Sprint(i), Message: pick("warm", "warmer")}
		}
	}
	if some() {
		d.Reasons, d.Drifting = [][]string{nil, {"warm"}}[r.IntN(2)], [][]string{nil, {}, {"max_temp"}}[r.IntN(3)]
		d.Refusals, d.Revision = r.IntN(2), int64(r.IntN(2))
	}
	if some() {
		d.LastAt = []time.Time{{}, now}[r.IntN(2)]
		d.Position = []*geo.Position{nil, {Latitude: 51.5, Longitude: -2}}[r.IntN(2)]
		d.Components = []health.Component{{Name: "left", Reasons: [][]string{nil, {"cold"}}[r.IntN(2)]}}[:r.IntN(2)]
	}
	return d
}

// Merge applies a merge patch as RFC 7396 says; target stays as it was.
func Merge(target, patch any) any {
	p, ok := patch.(map[string]any)
	if !ok {
		return patch
	}
	t, _ := target.(map[string]any)
	out := map[string]any{}
	maps.Copy(out, t)
	for k, v := range p {
		if v == nil {
			delete(out, k)
		} else {
			out[k] = Merge(out[k], v)
		}
	}
	return out
}

func decoded(t *testing.T, x any) (out any) {
	t.Helper()
	b, err := json.Marshal(x)
	if err == nil {
		err = json.Unmarshal(b, &out)
	}
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// Whatever changes, who has the device as it was and takes the difference in has it as it is;
// and nothing is told where nothing has changed.
func TestDifference(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	now := time.Date(2027, 3, 1, 10, 0, 0, 0, time.UTC)
	told := 0
	was := changed(r, present.Device{}, now)
	for range 3000 {
		is := changed(r, was, now)
		if r.IntN(4) == 0 {
			is = was
			is.Labels, is.Attributes, is.Latest = maps.Clone(was.Labels), maps.Clone(was.Attributes), maps.Clone(was.Latest)
		}
		patch := difference(&was, &is, nil)
		before, after := decoded(t, deviceOf(&was)), decoded(t, deviceOf(&is))
		if same := reflect.DeepEqual(before, after); same && patch != nil {
			t.Fatalf("nothing has changed, and it tells %v", patch)
		} else if same {
			continue
		}
		told++
		if got := Merge(before, decoded(t, patch)); !reflect.DeepEqual(got, after) {
			t.Fatalf("with %v it becomes\n%v, want\n%v", decoded(t, patch), got, after)
		}
		was = is
	}
	if told < 1000 {
		t.Errorf("only %d differences were tried", told)
	}
}

// BenchmarkDifference is a reading that comes to a device with a dozen metrics and four rules.
func BenchmarkDifference(b *testing.B) {
	now := time.Date(2027, 3, 1, 10, 0, 0, 0, time.UTC)
	was := present.Device{Latest: map[string]present.Latest{}}
	was.Attributes = map[string]value.Value{}
	for i := range 12 {
		was.Latest[fmt.Sprint("metric_", i)] = present.Latest{At: now, Value: value.OfNumber(20)}
		was.Attributes[fmt.Sprint("attribute_", i)] = value.OfText("as it was")
	}
	was.Margins = make([]health.Margin, 4)
	is := was
	is.Latest = maps.Clone(was.Latest)
	for i := range 7 {
		is.Latest[fmt.Sprint("metric_", i)] = present.Latest{At: now.Add(time.Minute), Value: value.OfNumber(21)}
	}
	b.ReportAllocs()
	for b.Loop() {
		difference(&was, &is, nil)
	}
}
