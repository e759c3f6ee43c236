// Package retention throws away what is older than the models, or else the
// service, say.
package retention

import (
	"context"
	"log/slog"
	"time"

	"ullage/fleet/devices"
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

// Retention throws away what is too old.
type Retention struct {
	Store   Store
	Devices *devices.Registry
	Models  *models.Catalogue
	// Readings and Rollups say how long those are kept of which the model says
	// nothing; 0 for always.
	Readings, Rollups time.Duration
	Log               *slog.Logger
	Now               func() time.Time
}

// every is how often the store is looked through.
const every = time.Hour

// Run looks the store through now and then until ctx ends.
func (k *Retention) Run(ctx context.Context) {
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		begun := time.Now()
		switch n, err := k.Sweep(); {
		case err != nil && ctx.Err() == nil:
			k.Log.Error("old readings were not thrown away and will be tried again", "error", err)
		case n > 0:
			k.Log.Info("old readings were thrown away", "readings", n, "after", time.Since(begun).Round(time.Millisecond))
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
	now := k.Now()
	before := func(keep time.Duration) time.Time {
		if keep == 0 {
			return time.Time{}
		}
		return now.Add(-keep)
	}
	var cuts []Cut
	k.Store.Each(func(device, metric string) {
		readings, rollups := k.Readings, k.Rollups
		if d, err := k.Devices.Get(device); err == nil {
			if m, err := k.Models.Of(d.Model, d.Version); err == nil {
				if p, ok := m.Property(metric); ok {
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
	return k.Store.Trim(cuts)
}
