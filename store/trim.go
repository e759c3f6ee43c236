package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"ullage/core/series"
	"ullage/fleet/retention"
)

// Trim implements retention.Store. It throws away what is older than the cuts say, in slices between commits,
// and returns how many readings went. Readings go chunk by chunk, so that up to
// one chunk of a series outlives its time.
func (t *Telemetry) Trim(cuts []retention.Cut) (readings int64, err error) {
	err = t.work(func() (bool, error) {
		begun := time.Now()
		kept := map[*stream]int64{}
		n := 0
		if err := t.transaction(func() error {
			for n < len(cuts) && time.Since(begun) < sealFor {
				c := cuts[n]
				n++
				s := t.names[c.Device][c.Metric]
				if s == nil {
					continue
				}
				s.tail = nil
				gone, from, err := t.trim(s, c)
				if err != nil {
					return err
				}
				if gone > 0 {
					readings += gone
					kept[s] = from
				}
			}
			return nil
		}); err != nil {
			return false, err
		}
		t.unsealedMu.Lock()
		for s, from := range kept {
			s.kept = from
		}
		t.unsealedMu.Unlock()
		cuts = cuts[n:]
		return len(cuts) > 0, nil
	})
	return readings, err
}

func (t *Telemetry) trim(s *stream, c retention.Cut) (gone, kept int64, err error) {
	first, last := keys(s.id)
	if !c.Readings.IsZero() {
		at := c.Readings.UnixMilli()
		if err := t.tx.row(context.Background(),
			"SELECT coalesce(sum(n), 0) FROM chunks WHERE key >= ? AND key <= ? AND till < ?",
			first, chunkKey(s.id, at), at).Scan(&gone); err != nil {
			return 0, 0, err
		}
		if gone > 0 {
			if err := t.exec("DELETE FROM chunks WHERE key >= ? AND key <= ? AND till < ?", first, chunkKey(s.id, at),
				at); err != nil {
				return 0, 0, err
			}
			kept = at
			next, err := t.chunkAfter(first-1, last)
			if err != nil {
				return 0, 0, err
			}
			if next.data != nil {
				kept = min(kept, (next.key-first)*slotMS)
			}
			if err := t.exec("UPDATE series SET kept = ? WHERE id = ?", kept, s.id); err != nil {
				return 0, 0, err
			}
		}
	}
	if !c.Rollups.IsZero() {
		for level := range series.Levels {
			if err := t.exec("DELETE FROM rollups WHERE key >= ? AND key < ?", blockKey(s.id, level, 0),
				blockKey(s.id, level, c.Rollups.UnixMilli())); err != nil {
				return 0, 0, fmt.Errorf("throwing roll-ups away: %w", err)
			}
		}
	}
	return gone, kept, nil
}

// Metrics implements ingest.Store.
func (t *Telemetry) Metrics(device string) []string {
	t.unsealedMu.RLock()
	defer t.unsealedMu.RUnlock()
	return slices.Sorted(maps.Keys(t.names[device]))
}

// Each implements retention.Store: it calls yield with the device and metric of every series.
func (t *Telemetry) Each(yield func(device, metric string)) {
	t.unsealedMu.RLock()
	type name struct{ device, metric string }
	all := make([]name, 0, len(t.streams))
	for _, s := range t.streams {
		all = append(all, name{s.device, s.metric})
	}
	t.unsealedMu.RUnlock()
	for _, n := range all {
		yield(n.device, n.metric)
	}
}
