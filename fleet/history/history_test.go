package history_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/examples/cellars"
	"ullage/fleet/deletion"
	"ullage/fleet/fault"
	"ullage/fleet/history"
	"ullage/fleet/query"
	"ullage/test/rig"
)

// store holds series by their names, in order of time; some are damaged.
type store struct {
	series map[string][]series.Point
	lost   map[string]*series.Lost
	open   int // how many are being read
}

func (s *store) Readings(_ context.Context, _, metric string, from, to time.Time, yield func(series.Point) error) error {
	if s.open++; s.open > 1 {
		return errors.New("two series are read at once, which takes two connections")
	}
	defer func() { s.open-- }()
	for _, p := range s.series[metric] {
		if !p.At.Before(from) && p.At.Before(to) {
			if err := yield(p); err != nil {
				return err
			}
		}
	}
	if l := s.lost[metric]; l != nil {
		return l
	}
	return nil
}

func (s *store) Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid, _ int64) ([]series.Rollup, error) {
	var out []series.Rollup
	err := s.Readings(ctx, device, metric, from, to, func(p series.Point) error {
		at := p.At.UnixMilli()
		out = append(out, series.Rollup{At: at, N: 1, Min: p.Value.Num, Max: p.Value.Num, Sum: p.Value.Num,
			First: p.Value.Num, Last: p.Value.Num})
		return nil
	})
	return series.Coarser(out, grid), err
}

func (s *store) Last(_ context.Context, _, metric string, at time.Time) (r value.Reading, ok bool, _ error) {
	for _, p := range s.series[metric] {
		if !p.At.After(at) {
			r, ok = value.Reading{Metric: metric, At: p.At, Value: p.Value}, true
		}
	}
	return r, ok, nil
}

func (s *store) Latest(context.Context, func(string, value.Reading)) error { return nil }

// renamed publishes a version of the probe that calls its temperature otherwise.
func renamed(t *testing.T, r *rig.Rig) {
	t.Helper()
	b, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	r.Must(err)
	src := strings.NewReplacer(`"1.2.0"`, `"2.0.0"`, `"must_temp": {`, `"must_celsius": { "ullage:was": ["must_temp", "temp"],`).Replace(string(b))
	_, _, err = r.Models.Publish(t.Context(), []byte(src), nil, "mara")
	r.Must(err)
}

func TestManyNamesAreOne(t *testing.T) {
	r := rig.New(t)
	renamed(t, r)
	r.Onboard("tank-kilnside-01", "tank-probe@2.0.0", nil)
	at := func(s int) time.Time { return rig.Start.Add(time.Duration(s) * time.Second) }
	point := func(s int, x float64) series.Point {
		return series.Point{At: at(s), Value: value.OfNumber(x)}
	}
	s := &store{series: map[string][]series.Point{}, lost: map[string]*series.Lost{"temp": {From: at(0), To: at(1), Chunks: 1}}}
	// The oldest name has more than one page; then they take turns, as after moves
	// back and forth, and once both say something of the same time.
	for i := range 10_000 {
		s.series["temp"] = append(s.series["temp"], point(i, 1))
	}
	s.series["must_temp"] = []series.Point{point(10_000, 2), point(10_001, 2), point(10_004, 2)}
	s.series["must_celsius"] = []series.Point{point(10_002, 3), point(10_003, 3), point(10_004, 3), point(10_005, 3)}
	h := history.New(s, r.Devices, r.Models)
	ctx := t.Context()

	var got []string
	last := time.Time{}
	n := 0
	err := h.Readings(ctx, "tank-kilnside-01", "must_celsius", at(0), at(20_000), func(p series.Point) error {
		if !p.At.After(last) {
			t.Fatalf("%s comes after %s", p.At, last)
		}
		last = p.At
		if n++; n > 9_999 {
			got = append(got, fmt.Sprint(p.Value.Num))
		}
		return nil
	})
	var lost *series.Lost
	if !errors.As(err, &lost) {
		t.Errorf("what a name before has lost is %v, want to be told", err)
	}
	if want := []string{"1", "2", "2", "3", "3", "3", "3"}; !slices.Equal(got, want) || n != 10_006 {
		t.Errorf("the last of %d are %v, want %v of 10006", n, got, want)
	}
	stop := errors.New("enough")
	if err := h.Readings(ctx, "tank-kilnside-01", "must_celsius", at(0), at(9), func(series.Point) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("who wants no more is told %v", err)
	}
	cells, err := h.Cells(ctx, "tank-kilnside-01", "must_celsius", at(9_999), at(10_006), series.Every(5000), 5000)
	if !errors.As(err, &lost) || len(cells) != 3 {
		t.Fatalf("the cells are %v, %v, want three", cells, err)
	}
	if c := cells[1]; c.N != 6 || c.First != 2 || c.Min != 2 || c.Max != 3 {
		t.Errorf("the cell of both names is %+v", c)
	}
	for s, want := range map[int]float64{-1: 0, 5: 1, 10_001: 2, 10_003: 3, 20_000: 3} {
		if r, ok, err := h.Last(ctx, "tank-kilnside-01", "must_celsius", at(s)); err != nil || ok != (want > 0) ||
			ok && (r.Value.Num != want || r.Metric != "must_celsius") {
			t.Errorf("the last at %d is %+v, %v, %v, want %v", s, r, ok, err, want)
		}
	}
	// A name that was never another one is read as it is.
	if got := h.Names("tank-kilnside-01", "ullage"); len(got) != 1 {
		t.Errorf("ullage was called %v", got)
	}
	if got := h.Names("nobody", "must_celsius"); len(got) != 1 {
		t.Errorf("a metric of nobody was called %v", got)
	}
}

// TestRename moves a device to a version that renames its temperature: what is
// known of it goes on, and what still uses the old name is told the new one.
func TestRename(t *testing.T) {
	r := rig.New(t)
	const tank = "tank-kilnside-01"
	r.Onboard(tank, "tank-probe", nil)
	for range 60 {
		r.Keep(tank, `{"must_temp":24}`)
		r.Clock.Forward(time.Minute)
	}
	renamed(t, r)
	_, err := r.Revisions.Move(t.Context(), "tank-probe", "2.0.0", []string{tank}, "", false, "mara")
	r.Must(err)
	r.Settle()
	latest := func(want float64) {
		t.Helper()
		d := r.Device(tank)
		if l := d.Latest["must_celsius"]; l.Value.Num != want {
			t.Errorf("the newest is %v, want %v", l.Value, want)
		}
		if _, old := d.Latest["must_temp"]; old {
			t.Error("the old name is still shown")
		}
	}
	latest(24)
	// A rule looks back over the rename.
	r.Rule("rule: warm\nmodels: [tank-probe]\nraise: mean(must_celsius over 1h) > 23 'Cel'\npriority: medium\nmessage: warm\ncause: unknown\nresponse: look\n")
	r.Pass(time.Second)
	if open := r.OpenAlarms(); len(open) != 1 {
		t.Errorf("the open alarms are %v, want one over the hour before", open)
	}
	o := r.Send(tank, `{"must_temp":25}`)
	if len(o.Refused) != 1 || !strings.Contains(o.Refused[0].Sentence, "is called must_celsius in tank-probe 2.0.0") {
		t.Errorf("the old name was answered with %v", o.Refused)
	}
	for range 30 {
		r.Keep(tank, `{"must_celsius":26}`)
		r.Clock.Forward(time.Minute)
	}
	ask := func(metric string) (*query.Answer, error) {
		return r.Queries.Run(t.Context(), query.Query{Devices: []string{tank}, Metrics: []string{metric},
			From: rig.Start, To: rig.Start.Add(90 * time.Minute), Step: 90 * time.Minute, Aggregate: "count"})
	}
	if _, err := ask("must_temp"); rig.Code(err) != fault.NotFound || !strings.Contains(err.Error(), "is called must_celsius") {
		t.Errorf("a query of the old name says %v", err)
	}
	for range 2 {
		latest(26)
		var got []float64
		err := r.History.Readings(t.Context(), tank, "must_celsius", rig.Start, rig.Start.Add(90*time.Minute), func(p series.Point) error {
			got = append(got, p.Value.Num)
			return nil
		})
		if err != nil || len(got) != 90 || got[0] != 24 || got[89] != 26 {
			t.Errorf("the history is %v, %v, want 90 readings", got, err)
		}
		a, err := ask("must_celsius")
		r.Must(err)
		n := int64(0)
		for _, s := range a.Lines[0].Steps {
			n += s.Count
		}
		if n != 90 {
			t.Errorf("the query says %+v, want steps of 90 readings", a)
		}
		r.Restart(true)
	}
	d, err := r.Deleter.Delete(t.Context(), deletion.Span{Device: tank, Metrics: []string{"must_celsius"}}, "mara")
	if err != nil || d.Readings != 90 {
		t.Errorf("deleted are %d readings, %v, want those of both names", d.Readings, err)
	}
	r.Settle()
	if l, known := r.Device(tank).Latest["must_celsius"]; known {
		t.Errorf("after the deletion the newest is %v", l.Value)
	}
}
