package scoped

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"ullage/core/model"
	"ullage/core/stats"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/query"
)

// MostPeers is how many peers a device is compared with.
const MostPeers = 50

// Peers are devices of the same model and, where the device has a label stage, of the same
// stage, as far as the caller sees them; those of the same site come first.
func (f *Fleet) Peers(c access.Caller, id string) ([]string, error) {
	d, _, err := f.Registered(c, id)
	if err != nil {
		return nil, err
	}
	type peer struct {
		id   string
		away bool
	}
	var all []peer
	for _, p := range f.o.Devices.List() {
		if p.ID == id || p.Model != d.Model || p.Status == devices.Retired || p.Labels["stage"] != d.Labels["stage"] || f.Exists(c, p.ID) != nil {
			continue
		}
		all = append(all, peer{p.ID, p.Labels["site"] != d.Labels["site"]})
	}
	slices.SortFunc(all, func(a, b peer) int {
		if a.away != b.away {
			if a.away {
				return 1
			}
			return -1
		}
		return strings.Compare(a.id, b.id)
	})
	out := []string{}
	for _, p := range all[:min(len(all), MostPeers)] {
		out = append(out, p.id)
	}
	return out, nil
}

// ZoneOf is the time zone of a device: that of its site.
func (f *Fleet) ZoneOf(id string) *time.Location { return f.o.Present.Zone(id) }

// Different is what was other in a span than before it.
type Different struct {
	From, To, Before time.Time   // before it is from Before to From
	Metrics          []Differing // of the device, the greatest deviation first
	Peers            []Differing // in Metric, likewise
	Metric           string      // by which peers are compared
	Facts            []fact.Fact // in the span and shortly before it, the oldest first
	Alike            int         // peers that deviate as the device does
}

// Differing is one metric of one device.
type Differing struct {
	Device, Metric string
	Title, Unit    string
	Decimals       int
	stats.Difference
}

// notable is the deviation from which on something counts as other than before.
const notable = 3

// Different tells what was other on a device between two times than before: its metrics and
// its peers by how far they deviate, and what happened. Before is three times the span, and a
// day at least, so that day and night are in it.
func (f *Fleet) Different(ctx context.Context, c access.Caller, id, metric string, from, to time.Time, prefer unit.Preferred) (Different, error) {
	d, m, err := f.Registered(c, id)
	if err != nil {
		return Different{}, err
	}
	width := to.Sub(from)
	switch {
	case width < time.Minute:
		return Different{}, fault.New(fault.Invalid, "the span is %s; what was different is asked over a minute at least", width)
	case width > 92*24*time.Hour:
		return Different{}, fault.New(fault.Invalid, "the span is longer than three months").Then("choose a part of it")
	}
	out := Different{From: from, To: to, Before: from.Add(-max(3*width, 24*time.Hour)), Metric: metric}
	var metrics []string
	for _, p := range m.With(model.Telemetry) {
		if p.Kind == value.Number || p.Kind == value.Bool {
			metrics = append(metrics, p.Name)
		}
	}
	if len(metrics) == 0 {
		return out, nil
	}
	if p, ok := m.Property(metric); metric != "" && (!ok || p.Role != model.Telemetry) {
		return out, fault.New(fault.NotFound, "%s has no metric %s", m, value.Clip(metric, 60)).On("device")
	}
	if out.Metrics, err = f.differing(ctx, c, []string{id}, metrics, out, prefer); err != nil {
		return out, err
	}
	if out.Metric == "" && len(out.Metrics) > 0 {
		out.Metric = out.Metrics[0].Metric
	}
	peers, err := f.Peers(c, id)
	if err != nil {
		return out, err
	}
	if len(peers) > 0 && out.Metric != "" {
		if out.Peers, err = f.differing(ctx, c, peers, []string{out.Metric}, out, prefer); err != nil {
			return out, err
		}
	}
	for _, x := range out.Metrics {
		if x.Metric != out.Metric || math.Abs(x.Deviation) < notable {
			continue
		}
		for _, p := range out.Peers {
			if math.Abs(p.Deviation) >= notable && p.Deviation > 0 == (x.Deviation > 0) {
				out.Alike++
			}
		}
	}
	where := fmt.Sprintf("device.id == %q", id)
	if d.Hub != "" {
		where += fmt.Sprintf(" or device.id == %q", d.Hub)
	}
	facts, err := f.Facts(ctx, c, where, fact.Filter{Since: from.Add(-max(width/10, 10*time.Minute)), Until: to, Limit: 100})
	slices.SortFunc(facts, func(a, b fact.Fact) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Number, b.Number)) })
	out.Facts = facts
	return out, err
}

// differing compares metrics of devices with what they were before, the greatest deviation
// first.
func (f *Fleet) differing(ctx context.Context, c access.Caller, ids, metrics []string, d Different, prefer unit.Preferred) ([]Differing, error) {
	// Steps of the span's width over forty: enough for a median, and few enough to be read fast.
	step := max(d.To.Sub(d.From)/40, 10*time.Second).Truncate(time.Second)
	a, err := f.Query(ctx, c, query.Query{Devices: ids, Metrics: metrics, From: d.Before, To: d.To, Step: step, Preferred: prefer})
	if err != nil {
		return nil, err
	}
	out := []Differing{}
	for _, l := range a.Lines {
		var before, inside []float64
		for _, s := range l.Steps {
			if s.At.Before(d.From) {
				before = append(before, s.Value)
			} else {
				inside = append(inside, s.Value)
			}
		}
		least := math.Pow(10, -float64(max(l.Decimals, 0)))
		if l.Kind == value.Bool {
			least = 0.1
		}
		if x, ok := stats.Differ(before, inside, least); ok {
			out = append(out, Differing{Device: l.Device, Metric: l.Metric, Title: l.Title, Unit: l.Unit, Decimals: l.Decimals, Difference: x})
		}
	}
	slices.SortStableFunc(out, func(a, b Differing) int { return cmp.Compare(math.Abs(b.Deviation), math.Abs(a.Deviation)) })
	return out, nil
}

// BandStep is where the peers of a device lay at a time.
type BandStep struct {
	At time.Time
	stats.Band
	Peers int
}

// PeerBand tells where the peers of a device lay in one of their metrics, step by step. It is
// empty where there are fewer than three.
func (f *Fleet) PeerBand(ctx context.Context, c access.Caller, id, metric string, from, to time.Time, steps int, prefer unit.Preferred) (peers int, out []BandStep, err error) {
	ids, err := f.Peers(c, id)
	if err != nil || len(ids) < 3 {
		return len(ids), nil, err
	}
	a, err := f.Query(ctx, c, query.Query{Devices: ids, Metrics: []string{metric}, From: from, To: to, Steps: steps, Preferred: prefer})
	if err != nil {
		return len(ids), nil, err
	}
	at := map[int64][]float64{}
	for _, l := range a.Lines {
		for _, s := range l.Steps {
			at[s.At.UnixMilli()] = append(at[s.At.UnixMilli()], s.Value)
		}
	}
	for ms, values := range at {
		if b, ok := stats.BandOf(values); ok && len(values) >= 3 {
			out = append(out, BandStep{At: time.UnixMilli(ms).UTC(), Band: b, Peers: len(values)})
		}
	}
	slices.SortFunc(out, func(a, b BandStep) int { return a.At.Compare(b.At) })
	return len(ids), out, nil
}
