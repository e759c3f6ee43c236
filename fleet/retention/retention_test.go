package retention_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/examples/cellars"
	"ullage/fleet/fact"
	"ullage/fleet/ingest"
	"ullage/fleet/retention"
	"ullage/test/rig"
)

// TestWhatIsKept throws readings and roll-ups of a season away as the model
// says, and goes on with late readings, restarts and long spans.
func TestWhatIsKept(t *testing.T) {
	r := rig.New(t)
	src, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	r.Must(err)
	short := strings.Replace(string(src), `"title": "Density",`,
		`"title": "Density", "ullage:retention": "10d", "ullage:rollup_retention": "20d",`, 1)
	short = strings.Replace(short, `"model": "1.2.0"`, `"model": "1.2.1"`, 1)
	_, _, err = r.Models.Publish(t.Context(), []byte(short), nil, "tester")
	r.Must(err)
	const id = "tank-fennimore-07"
	r.Onboard(id, "tank-probe", nil)
	put := func(at time.Time, n int) {
		t.Helper()
		var batch []value.Reading
		for i := range n {
			for _, m := range []string{"must_temp", "density", "ullage"} {
				batch = append(batch, value.Reading{Metric: m, At: at.Add(time.Duration(i) * time.Minute),
					Value: value.OfNumber(float64(20 + i%7))})
			}
		}
		done := make(chan error, 1)
		r.Must(r.Store.Append(ingest.Append{Device: id, Readings: batch, Every: time.Minute, Done: func(err error) {
			done <- err
		}}))
		r.Must(<-done)
	}
	for day := 30; day > 0; day-- {
		put(rig.Start.AddDate(0, 0, -day), 1440)
	}
	r.Store.Seal()
	keeper := retention.New(retention.Options{Store: r.Store.Telemetry, Devices: r.Devices, Models: r.Models,
		Readings: 15 * 24 * time.Hour, Log: slog.New(slog.DiscardHandler), Now: r.Clock.Now})
	gone, err := keeper.Sweep()
	r.Must(err)
	if gone < (20+15+15)*1440-3*480 || gone > (20+15+15)*1440 {
		t.Errorf("%d readings went", gone)
	}
	if n, err := keeper.Sweep(); n != 0 || err != nil {
		t.Errorf("and then %d more, %v", n, err)
	}
	days := func(metric string) (raw, cells int64) {
		t.Helper()
		r.Must(r.Store.Readings(t.Context(), id, metric, rig.Start.AddDate(0, 0, -40),
			rig.Start, func(series.Point) error {
				raw++
				return nil
			}))
		rs, err := r.Store.Cells(context.Background(), id, metric, rig.Start.AddDate(0, 0, -40), rig.Start,
			series.Every(24*3600_000), 24*3600_000)
		r.Must(err)
		for _, x := range rs {
			cells += x.N
		}
		return raw, cells
	}
	look := func(when string) {
		t.Helper()
		for metric, want := range map[string][4]int64{ // readings and what roll-ups count, each from and to
			"density":   {10 * 1440, 10*1440 + 480, 20 * 1440, 30 * 1440},
			"must_temp": {15 * 1440, 15*1440 + 480, 30 * 1440, 30 * 1440},
		} {
			raw, cells := days(metric)
			if raw < want[0] || raw > want[1] || cells < want[2] || cells > want[3] {
				t.Errorf("%s %s has %d readings and roll-ups of %d, want %v", when, metric, raw, cells, want)
			}
		}
	}
	look("at first")
	// A reading that is older than what is kept is not stored, and spoils no roll-up.
	put(rig.Start.AddDate(0, 0, -25), 3)
	r.Store.Seal()
	look("after a late reading")
	r.Restart(true)
	look("after a restart")
	// A fine step over what is gone is answered as finely as there is.
	rs, err := r.Store.Cells(context.Background(), id, "must_temp", rig.Start.AddDate(0, 0, -20),
		rig.Start.AddDate(0, 0, -20).Add(6*time.Hour), series.Every(60_000), 60_000)
	r.Must(err)
	if len(rs) != 24 || rs[0].N != 15 {
		t.Errorf("six hours of what is gone have %d cells", len(rs))
	}
}

// The journal has an end: the oldest entries go, and whoever reads behind what
// is gone is told so.
func TestJournalIsCapped(t *testing.T) {
	r := rig.New(t)
	for i := range 60 {
		r.Onboard(fmt.Sprintf("tank-%d", i), "tank-probe", nil)
	}
	newest := func() int64 {
		es, err := r.Facts.Facts(t.Context(), fact.Filter{Limit: 1})
		r.Must(err)
		return es[0].Number
	}()
	k := retention.New(retention.Options{Store: r.Store, Records: r.Store.Records, Devices: r.Devices, Models: r.Models, Facts: 25,
		Log: slog.New(slog.DiscardHandler), Now: r.Clock.Now})
	gone, err := k.Forget(t.Context())
	es, err2 := r.Facts.Facts(t.Context(), fact.Filter{})
	if err != nil || err2 != nil || gone != newest-25 || len(es) != 25 || es[0].Number != newest {
		t.Errorf("%d went, %v, and %d are left, want %d and the newest 25", gone, err, len(es), newest-25)
	}
	var behind *fact.Gone
	if _, err := r.Facts.FactsAfter(t.Context(), 3, 10, nil); !errors.As(err, &behind) || behind.First != newest-25 {
		t.Errorf("reading behind what is gone gives %v, want that it begins at %d", err, newest-25)
	}
	if gone, err := k.Forget(t.Context()); gone != 0 || err != nil {
		t.Errorf("once more %d went, %v, want none", gone, err)
	}
}
