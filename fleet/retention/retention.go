// Package retention throws away what is older than the models, or else the
// service, say.
package retention

import (
	"context"
	"log/slog"
	"time"

	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/models"
)

// Cut says what of one series is thrown away: readings and roll-ups older than
// a time each; the zero time keeps them all.
type Cut struct {
	Device, Metric    string
	Readings, Rollups time.Time
}

// Store holds what is kept.
type Store interface {
	Each(yield func(device, metric string))
	// Trim returns how many readings were thrown away.
	Trim([]Cut) (int64, error)
}

// Records holds facts and validity.
type Records interface {
	// ForgetFacts deletes facts of a kind that are older than a time.
	ForgetFacts(ctx context.Context, kind fact.Kind, before time.Time) (int64, error)
	// ForgetValidity deletes what was over before a time.
	ForgetValidity(ctx context.Context, before time.Time) (int64, error)
	// CapFacts deletes the oldest facts so that so many are kept at most.
	CapFacts(ctx context.Context, keep int64) (int64, error)
}

// keepValidity is how far back it can be asked what was so; facts are kept as long, but
// for those that devices make often.
const keepValidity = 400 * 24 * time.Hour

// often are the kinds of fact that devices make often, and how long they are kept.
var often = map[fact.Kind]time.Duration{fact.AttributesReported: 100 * 24 * time.Hour,
	fact.SettingApplied: 100 * 24 * time.Hour, fact.EventSent: 100 * 24 * time.Hour}

// Options are what a Retention is made of.
type Options struct {
	Store   Store
	Records Records
	Devices *devices.Registry
	Models  *models.Catalogue
	// Facts is how many facts are kept at most; no limit if it is zero.
	Facts int
	// Readings and Rollups say how long those are kept of which the model says
	// nothing; 0 for always.
	Readings, Rollups time.Duration
	Log               *slog.Logger
	Now               func() time.Time
}

// Retention throws away what is too old.
type Retention struct{ o Options }

// New returns a Retention.
func New(o Options) *Retention { return &Retention{o} }

// every is how often the store is looked through.
const every = time.Hour

// Run looks the store through now and then until ctx ends.
func (k *Retention) Run(ctx context.Context) {
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		begun := time.Now()
		if n, err := k.Forget(ctx); err != nil && ctx.Err() == nil {
			k.o.Log.Error("old facts were not thrown away and will be tried again", "error", err)
		} else if n > 0 {
			k.o.Log.Info("old facts were thrown away", "facts", n)
		}
		switch n, err := k.Sweep(); {
		case err != nil && ctx.Err() == nil:
			k.o.Log.Error("old readings were not thrown away and will be tried again", "error", err)
		case n > 0:
			k.o.Log.Info("old readings were thrown away", "readings", n, "after",
				time.Since(begun).Round(time.Millisecond))
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// Sweep throws away what is too old now, and returns how many readings went.
func (k *Retention) Sweep() (int64, error) {
	now := k.o.Now()
	before := func(keep time.Duration) time.Time {
		if keep == 0 {
			return time.Time{}
		}
		return now.Add(-keep)
	}
	var cuts []Cut
	k.o.Store.Each(func(device, metric string) {
		readings, rollups := k.o.Readings, k.o.Rollups
		if d, err := k.o.Devices.Get(device); err == nil {
			if m, err := k.o.Models.Of(d.Model, d.Version); err == nil {
				p, ok := m.Property(metric)
				if !ok {
					p, ok = m.Called(metric)
				}
				if ok {
					if p.Retention > 0 {
						readings = p.Retention
					}
					if p.RollupRetention > 0 {
						rollups = p.RollupRetention
					}
				}
			}
		}
		if readings > 0 || rollups > 0 {
			cuts = append(cuts, Cut{device, metric, before(readings), before(rollups)})
		}
	})
	if len(cuts) == 0 {
		return 0, nil
	}
	return k.o.Store.Trim(cuts)
}

// Forget deletes facts and validity that are not kept any more, and returns how
// many facts went.
func (k *Retention) Forget(ctx context.Context) (int64, error) {
	all := int64(0)
	for _, kind := range fact.Kinds {
		keep, short := often[kind]
		if !short {
			keep = keepValidity
		}
		n, err := k.o.Records.ForgetFacts(ctx, kind, k.o.Now().Add(-keep))
		if all += n; err != nil {
			return all, err
		}
	}
	if k.o.Facts > 0 {
		n, err := k.o.Records.CapFacts(ctx, int64(k.o.Facts))
		if all += n; err != nil {
			return all, err
		}
	}
	_, err := k.o.Records.ForgetValidity(ctx, k.o.Now().Add(-keepValidity))
	return all, err
}
