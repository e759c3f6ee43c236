package scoped_test

import (
	"strings"
	"testing"
	"time"

	"ullage/fleet/fault"
)

// A reading says which message brought it, a derived one what it was computed from, and one
// that was taken earlier finds the message that came later.
func TestOrigin(t *testing.T) {
	r, c := bench(t)
	ctx := t.Context()
	r.Keep("tank-1", `{"must_temp": 21.25, "ullage": 30}`)
	r.Settle()
	o, err := r.Fleet.Origin(ctx, c, "tank-1", "must_temp", time.Time{})
	r.Must(err)
	if o.Message == nil || !strings.Contains(o.Message.Body, "21.25") || o.Value.Num != 21.25 || !o.Message.At.Equal(o.At) {
		t.Errorf("must_temp is from %+v", o)
	}
	if o, err = r.Fleet.Origin(ctx, c, "tank-1", "must_depth", time.Time{}); err != nil || o.Message == nil || len(o.Inputs) != 1 || o.Inputs[0].Metric != "ullage" || o.Inputs[0].Value.Num != 30 {
		t.Errorf("the derived one is from %+v, %v", o.Inputs, err)
	}
	taken := r.Now().Add(-3 * time.Hour).UTC().Truncate(time.Second)
	r.Keep("tank-1", `{"at":"`+taken.Format(time.RFC3339)+`","must_temp": 20.5}`)
	r.Keep("tank-1", `{"must_temp": 22}`)
	r.Settle()
	if o, err = r.Fleet.Origin(ctx, c, "tank-1", "must_temp", taken.Add(time.Minute)); err != nil || o.Message == nil || !o.At.Equal(taken) || o.Message.At.Sub(o.At) < time.Hour {
		t.Errorf("what came late is from %+v, %v", o, err)
	}
	for _, x := range []struct{ device, metric, says string }{
		{"tank-2", "must_temp", `there is no device "tank-2"`},
		{"tank-1", "must_tmp", "did you mean must_temp?"},
		{"tank-1", "density", "no reading of density is kept"},
	} {
		if _, err := r.Fleet.Origin(ctx, c, x.device, x.metric, time.Time{}); !fault.Is(err, fault.NotFound) || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s of %s: %v", x.metric, x.device, err)
		}
	}
}
