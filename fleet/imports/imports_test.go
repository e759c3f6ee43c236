package imports_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/exchange"
	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/fact"
	"ullage/fleet/imports"
	"ullage/test/rig"
)

// take imports a file and returns what became of it.
func take(t *testing.T, r *rig.Rig, f exchange.Format, file string, evaluate bool) *imports.Result {
	t.Helper()
	in, err := exchange.NewReader(strings.NewReader(file), f, r.Clock.Now())
	r.Must(err)
	res, err := r.Importer.Run(t.Context(), in, evaluate, func(string) bool { return true })
	r.Must(err)
	r.Settle()
	return res
}

// stored says what is stored of a metric.
func stored(r *rig.Rig, device, metric string) string {
	r.T.Helper()
	var out []string
	r.Must(r.Store.Readings(r.T.Context(), device, metric, time.Time{},
		rig.Start.AddDate(1, 0, 0), func(p series.Point) error {
			s := fmt.Sprintf("%s %s", p.At.Format("15:04"), p.Value)
			if p.Quality != 0 {
				s += fmt.Sprint(" ", p.Quality.Words())
			}
			if !p.DeviceAt.IsZero() {
				s += " by its clock " + p.DeviceAt.Format("15:04")
			}
			out = append(out, s)
			return nil
		}))
	return strings.Join(out, ", ")
}

// TestValuesAreTheModels takes what a file without types says as the model
// wants it, and keeps what was known of each reading.
func TestValuesAreTheModels(t *testing.T) {
	r := rig.New(t)
	r.Onboard("press-alder-1", "press-scale", nil)
	r.Onboard("tank-fennimore-07", "tank-probe", nil)
	for _, c := range []struct {
		f             exchange.Format
		file          string
		device        string
		metric, after string
		refused       int
		why           string
	}{
		{exchange.CSV, "device,metric,at,value\npress-alder-1,cycle,2026-03-09T12:00:00Z,12\npress-alder-1,cycle,2026-03-09T12:01:00Z,true\npress-alder-1,cycle,2026-03-09T12:02:00Z, filling \n",
			"press-alder-1", "cycle", "12:00 12 [beyond range], 12:01 true [beyond range], 12:02  filling  [beyond range]", 0, ""},
		{exchange.Wide, "device,at,cycle,load [kg]\npress-alder-1,2026-03-09T13:00:00Z,7,120\n", "press-alder-1", "load", "13:00 120", 0, ""},
		{exchange.Lines, `{"device":"press-alder-1","metric":"cycle","at":"2026-03-09T13:05:00Z","value":7}`, "press-alder-1", "cycle",
			"12:00 12 [beyond range], 12:01 true [beyond range], 12:02  filling  [beyond range], 13:00 7 [beyond range]", 1, "cycle is a number (7); the model wants text"},
		// Beyond the range is the model's to say, about the clock the file's.
		{exchange.CSV, "device,metric,at,value,unit,quality,device_at\ntank-fennimore-07,must_temp,2026-03-09T12:00:00Z,21.5,,beyond range,\ntank-fennimore-07,must_temp,2026-03-09T12:01:00Z,21.6,,clock ahead,2026-03-09T18:30:00Z\n" +
			"tank-fennimore-07,must_temp,2026-03-09T12:02:00Z,294.85,K,,\n",
			"tank-fennimore-07", "must_temp", "12:00 21.5, 12:01 21.6 [clock ahead] by its clock 18:30, 12:02 21.7", 0, ""},
		{exchange.SenML, `[{"bn":"tank-fennimore-07/","n":"density","u":"kg/m3","t":1773057600,"v":1050},{"n":"densty","t":1773057600,"v":1},{"bn":"tank-nowhere-1/","n":"density","t":1773057600,"v":1}]`,
			"tank-fennimore-07", "density", "12:00 1050", 2, "there is no device tank-nowhere-1"},
	} {
		res := take(t, r, c.f, c.file, false)
		if got := stored(r, c.device, c.metric); got != c.after || res.Refused != c.refused {
			t.Errorf("%s: stored is %q, want %q; %+v", c.f, got, c.after, res)
		}
		said := ""
		for _, f := range res.Findings {
			said += f.Sentence + "\n"
		}
		if !strings.Contains(said, c.why) {
			t.Errorf("%s: it says %q, want %q", c.f, said, c.why)
		}
	}
}

// TestLongImport takes more rows in than one pack has, twice, of devices in
// turns, and finds each once.
func TestLongImport(t *testing.T) {
	r := rig.New(t)
	var b strings.Builder
	b.WriteString("device,metric,at,value\n")
	const devices, rows = 3, 2500
	for i := range rows {
		for d := range devices {
			fmt.Fprintf(&b, "tank-kilnside-%02d,must_temp,%s,%.1f\n", d,
				rig.Start.Add(-time.Duration(rows-i)*time.Second).Format(time.RFC3339), 20+float64(i%50)/10)
		}
	}
	for d := range devices {
		r.Onboard(fmt.Sprintf("tank-kilnside-%02d", d), "tank-probe", nil)
	}
	for range 2 {
		if res := take(t, r, exchange.CSV, b.String(), false); res.Rows != devices*rows || res.Kept != devices*rows ||
			res.Refused != 0 || res.Devices != devices {
			t.Errorf("it says %+v", res)
		}
	}
	for d := range devices {
		id := fmt.Sprintf("tank-kilnside-%02d", d)
		if n, err := r.Store.Count(t.Context(), id); err != nil || n != rows {
			t.Errorf("%s has %d readings, %v", id, n, err)
		}
		if l := r.Device(id).Latest["must_temp"]; !l.At.Equal(rig.Start.Add(-time.Second)) ||
			l.Value != value.OfNumber(24.9) {
			t.Errorf("the newest of %s is %+v", id, l)
		}
	}
}

// TestTimesAreTheFiles keeps the times of an import, whatever they are.
func TestTimesAreTheFiles(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-fennimore-07", "tank-probe", nil)
	rows := []string{"1970-01-02T00:00:00Z", "2010-06-01T12:00:00Z", "2014-12-31T23:59:59.999Z", "2031-01-01T00:00:00Z"}
	file := "device,metric,at,value\n"
	for i, at := range rows {
		file += fmt.Sprintf("tank-fennimore-07,must_temp,%s,%d\n", at, 20+i)
	}
	res := take(t, r, exchange.CSV, file+"tank-fennimore-07,must_temp,1816-01-01T00:00:00Z,20\n"+
		"tank-fennimore-07,must_temp,9999-01-01T00:00:00Z,20\n", false)
	if res.Kept != len(rows) || res.Refused != 2 || !strings.Contains(res.Findings[0].Sentence, "1970 to 2248") {
		t.Errorf("the import says %+v, want %d kept and two refused for their times", res, len(rows))
	}
	var got []string
	r.Must(r.Store.Readings(t.Context(), "tank-fennimore-07", "must_temp", time.Time{}, time.UnixMilli(8e12),
		func(p series.Point) error {
			got = append(got, p.At.UTC().Format(time.RFC3339Nano))
			if p.Quality != 0 {
				t.Errorf("%s is marked %s, want no mark", p.At, p.Quality.Words())
			}
			return nil
		}))
	if !slices.Equal(got, rows) {
		t.Errorf("stored are %q, want %q", got, rows)
	}
	r.Store.Seal()
	r.Restart(false)
	if got := stored(r, "tank-fennimore-07", "must_temp"); strings.Count(got, ":") != 3 {
		t.Errorf("sealed and read back there is %s, want the first three", got)
	}
}

// TestEvaluated lets the alarms judge what comes from a file, into the journal
// where it is over.
func TestEvaluated(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-fennimore-07", "tank-probe", nil)
	r.Rule("rule: must_hot\nmodels: [tank-probe]\nraise: must_temp > 32\npriority: high\nmessage: \"{device.id}: must at {must_temp}\"\n")
	file := func(day int) string {
		return fmt.Sprintf("device,metric,at,value\ntank-fennimore-07,must_temp,2026-03-%02dT12:00:00Z,30\ntank-fennimore-07,must_temp,2026-03-%02dT12:01:00Z,33\ntank-fennimore-07,must_temp,2026-03-%02dT12:02:00Z,30\n", day, day, day)
	}
	entries := func() int {
		t.Helper()
		es, err := r.Facts.Facts(t.Context(), fact.Filter{Device: "tank-fennimore-07", Limit: 100})
		r.Must(err)
		n := 0
		for _, e := range es {
			if strings.Contains(e.Sentence(), "must_hot") || strings.Contains(e.Sentence(), "must at") {
				n++
			}
		}
		return n
	}
	take(t, r, exchange.CSV, file(7), false)
	if n := entries(); n != 0 {
		t.Errorf("without being asked the alarms wrote %d entries", n)
	}
	take(t, r, exchange.CSV, file(8), true)
	if n := entries(); n == 0 {
		t.Error("the alarm that was over is not in the journal")
	}
	if open := r.OpenAlarms(); len(open) != 0 {
		t.Errorf("what is over stands open: %+v", open)
	}
}
