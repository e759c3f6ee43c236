package store

import (
	"context"
	"math"
	"slices"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/deletion"
)

// forever is a time after every reading.
const forever = math.MaxInt64 >> 1

// bounds returns a span in ms, where the zero times stand for no bound.
func bounds(from, to time.Time) (lo, hi int64) {
	lo, hi = math.MinInt64>>1, forever
	if !from.IsZero() {
		lo = from.UnixMilli()
	}
	if !to.IsZero() {
		hi = to.UnixMilli()
	}
	return lo, hi
}

// Stored implements deletion.Store.
func (t *Telemetry) Stored(ctx context.Context, device, metric string, from, to time.Time) (deletion.Series, error) {
	out := deletion.Series{Metric: metric}
	s := t.stream(device, metric)
	if s == nil {
		return out, nil
	}
	lo, hi := bounds(from, to)
	err := t.samples(ctx, s, lo, hi, func(xs []series.Sample) error {
		if out.Readings == 0 {
			out.First = value.FromMillis(xs[0].At)
		}
		out.Readings += int64(len(xs))
		out.Last = value.FromMillis(xs[len(xs)-1].At)
		return nil
	})
	lost, err := series.Whole(err)
	if lost != nil { // what cannot be read goes too
		out.Damaged = lost.Chunks
	}
	return out, err
}

// Delete implements deletion.Store. It works in slices between commits. Each is
// whole: the readings of a part of the span go together with what was summed up
// of them. A series of which nothing is left is forgotten.
func (t *Telemetry) Delete(ctx context.Context, device, metric string, from, to time.Time) (gone int64, err error) {
	// Then no record holds what goes away, which a start would read back.
	t.Seal()
	lo, hi := bounds(from, to)
	cursor := lo
	err = t.work(func() (more bool, err error) {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		s := t.names[device][metric]
		if s == nil {
			return false, nil
		}
		s.tail = nil
		var n, next int64
		empty := false
		sealed := s.n
		if err := t.transaction(func() error {
			if sealed > 0 { // it has come since
				if err := t.sealStream(s); err != nil {
					return err
				}
				if err := t.exec(updateSealed, t.seq, s.id); err != nil {
					return err
				}
			}
			s.tail = nil
			if n, next, err = t.deletePart(s, cursor, hi); err != nil {
				return err
			}
			if next < hi {
				return nil
			}
			if err := t.deleteRollups(s, lo, hi); err != nil {
				return err
			}
			if empty, err = t.forget(s); err != nil {
				return err
			}
			return nil
		}); err != nil {
			s.tail = nil
			return false, err
		}
		cursor = next
		gone += n
		t.unsealedMu.Lock()
		defer t.unsealedMu.Unlock()
		if sealed > 0 {
			t.unsealed -= sealed
			t.stats.Sealed.Add(uint64(sealed))
			t.stats.Unsealed.Store(int64(t.unsealed))
			s.sealed = t.seq
			s.clear()
			t.dirty = slices.DeleteFunc(slices.Clone(t.dirty), func(x *stream) bool { return x == s })
		}
		if empty {
			delete(t.streams, s.id)
			if delete(t.names[device], metric); len(t.names[device]) == 0 {
				delete(t.names, device)
			}
		}
		return next < hi, nil
	})
	if err != nil || gone == 0 {
		return gone, err
	}
	return gone, t.work(func() (bool, error) { return t.giveBack(0) })
}

// deletePart deletes the samples of chunks from a time on, up to another, for a
// while, and has what they touch summed up again. Next is where to go on.
func (t *Telemetry) deletePart(s *stream, from, to int64) (gone, next int64, err error) {
	begun := time.Now()
	first, last := keys(s.id)
	c, err := t.chunkAt(s.id, from)
	if err != nil {
		return 0, 0, err
	}
	if c.data == nil {
		if c, err = t.chunkAfter(first-1, last); err != nil {
			return 0, 0, err
		}
	}
	touched := [2]int64{math.MaxInt64, math.MinInt64} // times of the first and the last sample that went
	for next = to; c.data != nil && c.key <= chunkKey(s.id, to); {
		start := (c.key - first) * slotMS
		if start > from && time.Since(begun) > sealFor {
			next = start
			break
		}
		xs, damaged := series.Decode(nil, c.data)
		switch {
		case damaged != nil && start >= from && c.till < to:
			gone += int64(c.n)
			touched = [2]int64{min(touched[0], start), max(touched[1], c.till)}
			err = t.exec(deleteChunk, c.key)
		case damaged != nil: // nobody can tell what of it to keep
		default:
			a, _ := slices.BinarySearchFunc(xs, from, byTime)
			b, _ := slices.BinarySearchFunc(xs, to, byTime)
			if a == b {
				break
			}
			gone += int64(b - a)
			touched = [2]int64{min(touched[0], xs[a].At), max(touched[1], xs[b-1].At)}
			if xs = slices.Delete(xs, a, b); len(xs) == 0 {
				err = t.exec(deleteChunk, c.key)
			} else {
				err = t.exec(insertChunk, c.key, len(xs), xs[len(xs)-1].At, series.Encode(nil, xs))
			}
		}
		if err != nil {
			return 0, 0, err
		}
		if c, err = t.chunkAfter(c.key, last); err != nil {
			return 0, 0, err
		}
	}
	if level := series.LevelsOf(s.every); touched[0] <= touched[1] && level < len(series.Levels) {
		if _, err := t.rollUpSpan(s, level, touched[0], touched[1]); err != nil {
			return 0, 0, err
		}
	}
	return gone, next, nil
}

// deleteRollups deletes what is summed up in a span of readings that are not
// kept any more: it cannot be worked out again, so that each cell that the span
// touches goes whole.
func (t *Telemetry) deleteRollups(s *stream, from, to int64) error {
	level := series.LevelsOf(s.every)
	if level == len(series.Levels) || s.kept == 0 {
		return nil
	}
	end := wholeFrom(s, level)
	if end <= from {
		return nil
	}
	var key int64
	first, last := blockKey(s.id, level, 0), blockKey(s.id, level, end)
	if err := t.tx.row(context.Background(), "SELECT coalesce(min(key), -1) FROM rollups WHERE key >= ? AND key <= ?",
		first, last).Scan(&key); err != nil || key < 0 {
		return err
	}
	grid := series.Every(series.Levels[level])
	lo, _ := grid.Cell(max(from, (key-first)*series.Levels[level]*blockOf))
	_, hi := grid.Cell(min(to, end) - 1)
	if lo >= hi {
		return nil
	}
	return t.putRollups(s.id, level, lo, hi, nil)
}

// forget drops a series that nothing is left of, and reports whether it did.
func (t *Telemetry) forget(s *stream) (bool, error) {
	first, last := keys(s.id)
	var left int
	if err := t.tx.row(context.Background(), `SELECT (SELECT count(*) FROM (SELECT 1 FROM chunks WHERE key >= ?1 AND key <= ?2 LIMIT 1))
		+ (SELECT count(*) FROM (SELECT 1 FROM rollups WHERE key >= ?1 AND key <= ?2 LIMIT 1))`, first, last).Scan(&left); err != nil || left > 0 {
		return false, err
	}
	if err := t.exec("DELETE FROM damaged WHERE key >= ? AND key <= ?", first, last); err != nil {
		return false, err
	}
	return true, t.exec("DELETE FROM series WHERE id = ?", s.id)
}
