package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"ullage/core/series"
	"ullage/core/value"
)

func (t *Telemetry) stream(device, metric string) *stream {
	t.unsealedMu.RLock()
	defer t.unsealedMu.RUnlock()
	return t.names[device][metric]
}

// unsealedOf returns what is not yet sealed of a series in [from, to).
func (t *Telemetry) unsealedOf(s *stream, from, to int64) []series.Sample {
	t.unsealedMu.RLock()
	defer t.unsealedMu.RUnlock()
	return s.unsealed(from, to)
}

// samples gives the samples of a series in [from, to), in order of time, some
// at a time. What is not yet sealed is looked at first: what is sealed meanwhile is then
// found twice, and not missed. Chunks that cannot be read are left out, and told
// of in a *series.Lost at the end.
func (t *Telemetry) samples(ctx context.Context, s *stream, from, to int64, yield func([]series.Sample) error) error {
	unsealed := t.unsealedOf(s, from, to)
	first, _ := keys(s.id)
	rows, err := t.read.rows(ctx, `SELECT key, till, data FROM chunks
		WHERE key >= coalesce((SELECT max(key) FROM chunks WHERE key >= ?1 AND key <= ?2), ?1) AND key <= ?3 AND till >= ?4 ORDER BY key`,
		first, chunkKey(s.id, from), chunkKey(s.id, to), from)
	if err != nil {
		return translate(err)
	}
	defer rows.Close()
	var data sql.RawBytes
	var xs []series.Sample
	var lost *series.Lost
	for rows.Next() {
		var key, till int64
		if err := rows.Scan(&key, &till, &data); err != nil {
			return translate(err)
		}
		if xs, err = series.Decode(xs[:0], data); err != nil {
			lost = lost.Add(&series.Lost{From: value.FromMillis((key - first) * slotMS), To: value.FromMillis(till),
				Chunks: 1})
			continue
		}
		a, _ := slices.BinarySearchFunc(xs, from, byTime)
		b, _ := slices.BinarySearchFunc(xs, to, byTime)
		part := xs[a:b]
		if len(part) == 0 {
			continue
		}
		n, _ := slices.BinarySearchFunc(unsealed, part[len(part)-1].At+1, byTime)
		if n > 0 {
			part, unsealed = merge(part, unsealed[:n]), unsealed[n:]
		}
		if err := yield(part); err != nil {
			return cutOff(err, lost)
		}
	}
	if err := rows.Err(); err != nil {
		return translate(err)
	}
	if len(unsealed) > 0 {
		if err := yield(unsealed); err != nil {
			return cutOff(err, lost)
		}
	}
	if lost != nil {
		return lost
	}
	return nil
}

// cutOff is the error of a history whose reader wanted no more; what was lost
// before that is told as well.
func cutOff(err error, lost *series.Lost) error {
	if lost == nil {
		return err
	}
	return errors.Join(err, lost)
}

func byTime(x series.Sample, at int64) int {
	switch {
	case x.At < at:
		return -1
	case x.At > at:
		return 1
	}
	return 0
}

// Readings calls yield with the readings of a series from a time up to, but
// without, another, in order. A yield that fails ends it with that error. What
// is damaged is left out, and told of in a *series.Lost at the end.
func (t *Telemetry) Readings(ctx context.Context, device, metric string, from, to time.Time,
	yield func(series.Point) error) error {
	s := t.stream(device, metric)
	if s == nil {
		return nil
	}
	return t.samples(ctx, s, from.UnixMilli(), to.UnixMilli(), func(xs []series.Sample) error {
		for i := range xs {
			if err := yield(point(&xs[i])); err != nil {
				return err
			}
		}
		return nil
	})
}

// Cells sums the numbers and booleans of a series in [from, to) up on a grid
// whose cells have this width at least, in ms. The coarsest roll-ups that the
// grid is made of are read, and single readings only where those do not reach.
// What is damaged is left out, and told of in a *series.Lost beside the rest.
func (t *Telemetry) Cells(ctx context.Context, device, metric string, from, to time.Time, grid series.Grid,
	width int64) ([]series.Rollup, error) {
	s := t.stream(device, metric)
	if s == nil {
		return nil, nil
	}
	lo, hi := from.UnixMilli(), to.UnixMilli()
	hold := holds * s.every
	level := -1
	for i := series.LevelsOf(s.every); i < len(series.Levels); i++ {
		if width >= series.Levels[i] && fits(grid, lo, hi, series.Levels[i]) {
			level = i
		}
	}
	if first := series.LevelsOf(s.every); level < 0 && lo < s.kept && first < len(series.Levels) {
		level = first // coarser than asked for, and all there is
	}
	if level < 0 {
		return t.roll(ctx, s, lo, hi, hold, grid)
	}
	fine := series.Every(series.Levels[level])
	start, end := lo, hi
	if cell, next := fine.Cell(lo); cell < lo {
		if start = next; lo < s.kept {
			start = cell
		}
	}
	end, _ = fine.Cell(hi)
	if width < series.Levels[level] {
		_, whole := fine.Cell(s.kept)
		end = min(end, whole)
	}
	// Roll-ups know nothing of what is not yet sealed.
	if unsealed := t.unsealedOf(s, lo-hold, hi+hold); len(unsealed) > 0 {
		reach, _ := fine.Cell(unsealed[0].At - hold)
		end = min(end, reach)
	}
	if end <= start {
		return t.roll(ctx, s, lo, hi, hold, grid)
	}
	parts, err := t.roll(ctx, s, lo, start, hold, fine)
	lost, err := series.Whole(err)
	if err != nil {
		return nil, err
	}
	rows, err := t.read.rows(ctx, "SELECT data FROM rollups WHERE key >= ? AND key <= ? ORDER BY key",
		blockKey(s.id, level, start), blockKey(s.id, level, end-1))
	if err != nil {
		return nil, translate(err)
	}
	defer rows.Close()
	middle, err := scanBlocks(rows, start, end, false)
	if errors.Is(err, series.ErrDamaged) { // then of single readings
		middle, err = t.roll(ctx, s, start, end, hold, fine)
		var more *series.Lost
		more, err = series.Whole(err)
		lost = lost.Add(more)
	}
	if err != nil {
		return nil, translate(err)
	}
	tail, err := t.roll(ctx, s, end, hi, hold, fine)
	more, err := series.Whole(err)
	if err != nil {
		return nil, err
	}
	out := series.Coarser(append(append(parts, middle...), tail...), grid)
	if lost = lost.Add(more); lost != nil {
		return out, lost
	}
	return out, nil
}

// fits reports whether every cell of a grid is made of whole ones of a width.
func fits(grid series.Grid, lo, hi, width int64) bool {
	if e, ok := grid.(series.Every); ok {
		return int64(e)%width == 0
	}
	for at := lo; at < hi; {
		from, to := grid.Cell(at)
		if from%width != 0 || to%width != 0 {
			return false
		}
		at = to
	}
	return true
}

// roll sums single readings up on a grid.
func (t *Telemetry) roll(ctx context.Context, s *stream, lo, hi, hold int64,
	grid series.Grid) ([]series.Rollup, error) {
	if lo >= hi {
		return nil, nil
	}
	r := series.NewRoller(grid, hold)
	after := false
	err := t.samples(ctx, s, lo-hold, hi+hold, func(xs []series.Sample) error {
		for i := range xs {
			x := &xs[i]
			switch {
			case !summable(x) || after:
			case x.At < lo:
				r.Lead(x.At, x.Value.Num, lo)
			case x.At < hi:
				r.Add(x.At, x.Value.Num)
			default:
				r.End(x.At)
				after = true
			}
		}
		return nil
	})
	if !after { // the newest holds up to the end
		r.End(hi)
	}
	return r.Rollups(), err
}

// Last implements derived.History.
func (t *Telemetry) Last(ctx context.Context, device, metric string, at time.Time) (value.Reading, bool, error) {
	s := t.stream(device, metric)
	if s == nil {
		return value.Reading{}, false, nil
	}
	x, ok, err := t.last(ctx, s, at.UnixMilli())
	return reading(metric, &x), ok, err
}

func reading(metric string, x *series.Sample) value.Reading {
	p := point(x)
	return value.Reading{Metric: metric, At: p.At, Value: p.Value, Quality: p.Quality, DeviceAt: p.DeviceAt}
}

// last returns the newest sample at or before a time.
func (t *Telemetry) last(ctx context.Context, s *stream, at int64) (best series.Sample, ok bool, err error) {
	until := at
	if until < math.MaxInt64 {
		until++
	}
	if unsealed := t.unsealedOf(s, math.MinInt64, until); len(unsealed) > 0 {
		best, ok = unsealed[len(unsealed)-1], true
	}
	first, _ := keys(s.id)
	for key := chunkKey(s.id, at); ; {
		var data []byte
		err := t.read.row(ctx, "SELECT key, data FROM chunks WHERE key >= ? AND key <= ? ORDER BY key DESC LIMIT 1",
			first, key).Scan(&key, &data)
		if errors.Is(err, sql.ErrNoRows) {
			return best, ok, nil
		}
		if err != nil {
			return best, ok, translate(err)
		}
		// What is damaged is passed over: an older value is better than none.
		xs, err := series.Decode(nil, data)
		if err != nil {
			xs = nil
		}
		if n, _ := slices.BinarySearchFunc(xs, until, byTime); n > 0 {
			if x := xs[n-1]; !ok || x.At > best.At {
				best, ok = x, true
			}
			return best, ok, nil
		}
		key-- // it begins in the slot of the time, and after it
	}
}

// Latest implements present.Telemetry. The newest chunk of each series is looked
// up in one statement; a series that it does not answer for is asked alone.
func (t *Telemetry) Latest(ctx context.Context, yield func(device string, r value.Reading)) error {
	t.unsealedMu.RLock()
	all := make([]*stream, 0, len(t.streams))
	for _, s := range t.streams {
		all = append(all, s)
	}
	t.unsealedMu.RUnlock()
	slices.SortFunc(all, func(a, b *stream) int { return int(a.id - b.id) })
	rows, err := t.read.rows(ctx, fmt.Sprintf(`SELECT series.id, chunks.till, chunks.data FROM series LEFT JOIN chunks
		ON chunks.key = (SELECT max(key) FROM chunks WHERE key >= series.id << %d AND key < (series.id + 1) << %d) ORDER BY series.id`, slotBits, slotBits))
	if err != nil {
		return translate(err)
	}
	defer rows.Close()
	var data sql.RawBytes
	var xs []series.Sample
	var alone []*stream
	for rows.Next() {
		var id int64
		var till sql.NullInt64
		if err := rows.Scan(&id, &till, &data); err != nil {
			return translate(err)
		}
		for len(all) > 0 && all[0].id < id {
			alone, all = append(alone, all[0]), all[1:]
		}
		if len(all) == 0 || all[0].id != id {
			continue // it is new since
		}
		s := all[0]
		all = all[1:]
		var best series.Sample
		var ok bool
		t.unsealedMu.RLock()
		best, ok = s.newest()
		t.unsealedMu.RUnlock()
		if till.Valid && (!ok || till.Int64 > best.At) {
			if xs, err = series.Decode(xs[:0], data); err != nil || len(xs) == 0 {
				alone = append(alone, s) // damaged: an older one is looked for
				continue
			}
			if x := xs[len(xs)-1]; !ok || x.At > best.At {
				best, ok = x, true
			}
		}
		if ok {
			yield(s.device, reading(s.metric, &best))
		}
	}
	if err := rows.Err(); err != nil {
		return translate(err)
	}
	for _, s := range append(alone, all...) {
		x, ok, err := t.last(ctx, s, math.MaxInt64)
		if err != nil {
			return err
		}
		if ok {
			yield(s.device, reading(s.metric, &x))
		}
	}
	return nil
}

// Count returns how many readings of a device are stored.
func (t *Telemetry) Count(ctx context.Context, device string) (int64, error) {
	t.unsealedMu.RLock()
	var all []*stream
	for _, s := range t.names[device] {
		all = append(all, s)
	}
	t.unsealedMu.RUnlock()
	n := int64(0)
	for _, s := range all {
		if err := t.samples(ctx, s, 0, math.MaxInt64>>1, func(xs []series.Sample) error {
			n += int64(len(xs))
			return nil
		}); err != nil {
			if _, err = series.Whole(err); err != nil {
				return 0, err
			}
		}
	}
	return n, nil
}
