// Package imports takes readings of the past from files, with the checks of
// those that come live.
package imports

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"ullage/core/exchange"
	"ullage/core/model"
	"ullage/core/senml"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/models"
)

// Options are what an Importer is made of.
type Options struct {
	Devices *devices.Registry
	Models  *models.Catalogue
	Store   ingest.Store
	Intake  *ingest.Intake // bounds additional metrics; nil for none
	Derive  ingest.Deriver // nil for no derived telemetry
	Bus     *event.Bus
	Now     func() time.Time
}

// Importer takes readings in.
type Importer struct{ o Options }

// New returns an Importer.
func New(o Options) *Importer { return &Importer{o} }

// Finding is a row that was not taken, or not as it stands.
type Finding struct {
	Line     int // from 1
	Sentence string
}

// Result tells what became of a file.
type Result struct {
	Rows     int // that were read
	Kept     int // readings that are stored now
	Refused  int // rows of which nothing was stored
	Devices  int
	Findings []Finding // why, for the first hundred
}

// maxFindings is how many findings are told.
const maxFindings = 100

// perPack is how many rows are checked and stored together.
const perPack = model.MaxReadings

// Run reads rows until the end. With evaluate, the alarms judge them as
// readings that come late: what is over goes to the journal only. Rows that
// cannot be taken are told of and passed over; it fails only where it cannot go
// on, and then what was kept stays.
// Rows of devices for which may is false are as if there were no such devices.
func (im *Importer) Run(ctx context.Context, r exchange.Reader, evaluate bool, may func(device string) bool) (*Result, error) {
	res := &Result{Findings: []Finding{}}
	seen := map[string]bool{}
	packs := map[string]*pack{}
	under := make(chan struct{}, 8) // packs on their way to the disk
	failed := make(chan error, 1)
	send := func(p *pack) error {
		under <- struct{}{}
		kept, err := im.store(ctx, p, evaluate, func(err error) {
			if err != nil {
				select {
				case failed <- err:
				default:
				}
			}
			<-under
		}, res)
		if err != nil {
			<-under
			return err
		}
		res.Kept += kept
		p.rows = p.rows[:0]
		return nil
	}
	for {
		select {
		case err := <-failed:
			return res, err
		case <-ctx.Done():
			return res, ctx.Err()
		default:
		}
		x, err := r.Next()
		var bad *exchange.BadLine
		switch {
		case err == io.EOF:
			for _, p := range packs {
				if len(p.rows) > 0 {
					if err := send(p); err != nil {
						return res, err
					}
				}
			}
			for range cap(under) { // all of it is on disk
				under <- struct{}{}
			}
			select {
			case err := <-failed:
				return res, err
			default:
			}
			res.Devices = len(seen)
			return res, nil
		case errors.As(err, &bad):
			res.Rows++
			res.refuse(bad.Line, bad.Sentence)
			continue
		case err != nil:
			return res, fault.New(fault.Invalid, "the file cannot be read on: %s", err)
		}
		res.Rows++
		p := packs[x.Device]
		if p == nil {
			if !may(x.Device) {
				p = &pack{unknown: true}
			} else if p, err = im.begin(x.Device); err != nil {
				if f := fault.From(err); f.Code != fault.NotFound {
					return res, err
				}
				p = &pack{unknown: true}
			}
			packs[x.Device] = p
		}
		if p.unknown {
			res.refuse(x.Line, fmt.Sprintf("there is no device %s; onboard it first", x.Device))
			continue
		}
		seen[x.Device] = true
		if p.rows = append(p.rows, x); len(p.rows) == perPack {
			if err := send(p); err != nil {
				return res, err
			}
		}
	}
}

func (res *Result) refuse(line int, sentence string) {
	res.Refused++
	if len(res.Findings) < maxFindings {
		res.Findings = append(res.Findings, Finding{line, sentence})
	}
}

// pack gathers the rows of one device.
type pack struct {
	device  string
	model   *model.Model
	unknown bool
	rows    []exchange.Row
}

// mark is where in the history of a device a row stands.
type mark struct {
	metric string
	at     int64
}

// record is a row as SenML, which has the checks of everything that comes so.
func (p *pack) record(i int) senml.Record {
	x := &p.rows[i]
	r := senml.Record{Index: i, Name: x.Name, Unit: x.Unit, At: x.At}
	v := x.Value
	if prop, ok := p.model.Property(x.Name); ok && prop.Kind == value.Text && x.Written != "" {
		v = value.OfText(x.Written) // it only looks like something else
	}
	r.Number, r.Text, r.Truth = v.Split()
	return r
}

func (im *Importer) begin(device string) (*pack, error) {
	d, err := im.o.Devices.Get(device)
	if err != nil {
		return nil, err
	}
	m, err := im.o.Models.Of(d.Model, d.Version)
	return &pack{device: device, model: m}, err
}

// store checks a pack and hands it to the store, which calls done when it is
// on disk. done is not called where it fails or nothing is left.
func (im *Importer) store(ctx context.Context, p *pack, evaluate bool,
	done func(error), res *Result) (kept int, err error) {
	arrived := im.o.Now().UTC().Truncate(time.Millisecond)
	records := make([]senml.Record, len(p.rows))
	told := map[mark]value.Reading{}
	for i := range p.rows {
		records[i] = p.record(i)
		if x := &p.rows[i]; x.Quality&^value.BeyondRange != 0 || !x.DeviceAt.IsZero() {
			told[mark{x.Name, x.At.UnixMilli()}] = value.Reading{Quality: x.Quality &^ value.BeyondRange,
				DeviceAt: x.DeviceAt}
		}
	}
	checked := p.model.History(records, p.device, arrived)
	if im.o.Intake != nil {
		if d, err := im.o.Devices.Get(p.device); err == nil {
			im.o.Intake.Additional(d, p.model, &checked)
		}
	}
	// What was once known of the device's clock is known on; ranges are the
	// model's to judge.
	for i := range checked.Readings {
		r := &checked.Readings[i]
		if x, ok := told[mark{r.Metric, r.At.UnixMilli()}]; ok && r.DeviceAt.IsZero() {
			r.Quality |= x.Quality
			r.DeviceAt = x.DeviceAt
		}
	}
	for _, f := range checked.Refused {
		i := 0
		fmt.Sscanf(f.Pointer, "/%d", &i)
		res.refuse(p.rows[min(i, len(p.rows)-1)].Line, f.Sentence)
	}
	kept = len(checked.Readings)
	if kept == 0 {
		done(nil)
		return 0, nil
	}
	if im.o.Derive != nil && evaluate {
		checked.Readings = append(checked.Readings, im.o.Derive.Derive(p.device, p.model, checked.Readings)...)
	}
	readings := checked.Readings
	a := ingest.Append{Device: p.device, Readings: readings, Every: p.model.Interval, Done: func(err error) {
		if err == nil && evaluate {
			im.o.Bus.Publish(event.Readings{Device: p.device, Readings: readings, Arrived: arrived})
		} else if err == nil {
			im.o.Bus.Publish(event.Backfilled{Device: p.device, Latest: latest(readings)})
		}
		done(err)
	}}
	for {
		// Devices come first: while the disk has all it can take, files wait.
		err := im.o.Store.Append(a)
		if !fault.Is(err, fault.Overload) {
			return kept, err
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// latest returns the newest reading of each metric.
func latest(rs []value.Reading) []value.Reading {
	newest := map[string]value.Reading{}
	for _, r := range rs {
		if old, ok := newest[r.Metric]; !ok || r.At.After(old.At) {
			newest[r.Metric] = r
		}
	}
	out := make([]value.Reading, 0, len(newest))
	for _, r := range newest {
		out = append(out, r)
	}
	return out
}
