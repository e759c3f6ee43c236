package present_test

import (
	"fmt"
	"testing"
	"time"

	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/test/rig"
)

// BenchmarkSince hands all of 2,000 number out, each with a new value since.
func BenchmarkSince(b *testing.B) {
	r := rig.New(b)
	const number = 2000
	ids := make([]string, number)
	for i := range ids {
		ids[i] = fmt.Sprintf("tank-%05d", i)
		if _, _, err := r.Devices.Create(b.Context(), devices.New{ID: ids[i], Model: "tank-probe"}, "tester"); err != nil {
			b.Fatal(err)
		}
	}
	r.Settle()
	at := rig.Start
	for b.Loop() {
		b.StopTimer()
		at = at.Add(time.Second)
		for i, id := range ids {
			r.Bus.Publish(event.Readings{Device: id, Arrived: at,
				Readings: []value.Reading{{Metric: "must_temp", At: at, Value: value.OfNumber(float64(i))}}})
		}
		r.Settle()
		b.StartTimer()
		if all, _ := r.Present.Since(0); len(all) != number {
			b.Fatalf("%d number", len(all))
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/number, "ns/device")
}
