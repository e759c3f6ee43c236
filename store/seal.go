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

const (
	// chunkTarget is how many samples a chunk has when it is full.
	chunkTarget = 480
	// chunkSplit is how many a chunk in the middle of a series may grow to, by
	// late readings, before it is split.
	chunkSplit = 720
	// A chunk's key is its series and the slot of time that it begins in, so
	// that the chunks of a series stand side by side in order of time. A chunk
	// holds what lies between its slot and that of the next.
	slotBits  = 39
	slotMS    = 16
	maxSeries = 1<<(63-slotBits) - 1
)

func slotOf(at int64) int64 { return max(at, 0) / slotMS }

func chunkKey(id, at int64) int64 { return id<<slotBits | min(slotOf(at), 1<<slotBits-1) }

// keys returns the first and the last key that a series can have.
func keys(id int64) (first, last int64) { return id << slotBits, id<<slotBits | (1<<slotBits - 1) }

// seal moves the oldest unsealed readings into chunks, for a while, and drops the
// records that nobody needs any more.
func (t *Telemetry) seal(atMost time.Duration) error { return t.sealing(atMost, false) }

// squeeze seals everything at once where there is no room: it drops all records
// first, so that the chunks, which are much smaller, find theirs. A full file
// has room again afterwards. If even that fails, everything is as it was.
func (t *Telemetry) squeeze() error { return t.sealing(math.MaxInt64, true) }

func (t *Telemetry) sealing(atMost time.Duration, dropFirst bool) error {
	begun := time.Now()
	n := 0
	cut := t.seq + 1
	if err := t.transaction(func() error {
		if dropFirst {
			if err := t.exec("DELETE FROM records"); err != nil {
				return err
			}
		}
		for n < len(t.dirty) && (n == 0 || time.Since(begun) < atMost) {
			if err := t.sealStream(t.dirty[n]); err != nil {
				return err
			}
			if err := t.exec(updateSealed, t.seq, t.dirty[n].id); err != nil {
				return err
			}
			n++
		}
		if n < len(t.dirty) {
			cut = t.dirty[n].since
		}
		if err := t.saveReceipts(cut); err != nil {
			return err
		}
		return t.exec(deleteRecords, cut)
	}); err != nil {
		for _, s := range t.dirty[:min(n+1, len(t.dirty))] { // none of them was sealed
			s.tail = nil
		}
		return err
	}
	t.unsealedMu.Lock()
	for _, s := range t.dirty[:n] {
		t.unsealed -= s.n
		t.stats.Sealed.Add(uint64(s.n))
		s.sealed = t.seq
		s.clear()
	}
	t.unsealedMu.Unlock()
	clear(t.dirty[:n])
	t.dirty = t.dirty[n:]
	t.kept = slices.DeleteFunc(t.kept, func(k kept) bool { return k.seq < cut })
	t.stats.Unsealed.Store(int64(t.unsealed))
	return nil
}

// chunk is one row of chunks.
type chunk struct {
	key  int64
	n    int
	till int64 // time of the last sample
	data []byte
}

// sealStream merges what is not yet sealed of a series into its chunks and roll-ups.
func (t *Telemetry) sealStream(s *stream) error {
	unsealed := s.unsealed(s.kept, math.MaxInt64) // what is older is not kept any more
	follows := true                               // all of it comes after what is in chunks
	for rest := unsealed; len(rest) > 0; {
		before, err := t.chunkAt(s.id, rest[0].At)
		if err != nil {
			return err
		}
		_, top := keys(s.id)
		next, err := t.chunkAfter(chunkKey(s.id, rest[0].At), top)
		if err != nil {
			return err
		}
		follows = follows && next.data == nil && (before.data == nil || rest[0].At > before.till)
		// All that lies before the next chunk goes together.
		n := len(rest)
		if next.data != nil {
			n, _ = slices.BinarySearchFunc(rest, next.key, func(x series.Sample, key int64) int {
				if chunkKey(s.id, x.At) < key {
					return -1
				}
				return 1
			})
		}
		group := rest[:n]
		rest = rest[n:]
		if err := t.place(s.id, before, next, group); err != nil {
			return err
		}
	}
	return t.rollUp(s, unsealed, follows)
}

// place puts samples, all of them between two chunks, into the one before
// them, or beside it.
func (t *Telemetry) place(id int64, before, next chunk, group []series.Sample) error {
	key := chunkKey(id, group[0].At)
	base := before
	switch {
	case before.data == nil && next.data != nil && next.n+len(group) <= chunkTarget:
		// They come before everything; the first chunk begins earlier now.
		if err := t.exec(deleteChunk, next.key); err != nil {
			return err
		}
		base, base.key = next, key
		next = chunk{}
	case before.data == nil:
		base.key = key
	case before.n >= chunkTarget && group[0].At > before.till && key > before.key:
		base = chunk{key: key}
	}
	var old []series.Sample
	if base.data != nil {
		var err error
		if old, err = series.Decode(t.room[:0], base.data); err != nil {
			// Nothing can be merged into it. It is put aside, or it would keep
			// everything after it from being sealed.
			if err := t.exec("INSERT OR REPLACE INTO damaged (key, data) VALUES (?, ?)", base.key, base.data); err != nil {
				return err
			}
			old = nil
		}
	}
	var all []series.Sample
	if len(old) == 0 || old[len(old)-1].At < group[0].At {
		all = append(old, group...)
		t.room = all
	} else {
		all = merge(old, group)
	}
	size := chunkTarget
	if next.data != nil {
		// In the middle of a series nothing fills a chunk up any more.
		if size = len(all); size > chunkSplit {
			size = (len(all) + (len(all)-1)/chunkTarget) / ((len(all)-1)/chunkTarget + 1)
		}
	}
	for first := true; len(all) > 0; first = false {
		part := all[:min(size, len(all))]
		all = all[len(part):]
		if !first {
			base.key = chunkKey(id, part[0].At)
		}
		if err := t.exec(insertChunk,
			base.key, len(part), part[len(part)-1].At, series.Encode(nil, part)); err != nil {
			return err
		}
	}
	return nil
}

// chunkAt returns the chunk that a time belongs to, as the writer sees it;
// without data where the series begins later.
func (t *Telemetry) chunkAt(id, at int64) (chunk, error) {
	first, _ := keys(id)
	return t.chunk(chunkBefore, first, chunkKey(id, at))
}

// chunkAfter returns the first chunk after a key.
func (t *Telemetry) chunkAfter(key, last int64) (chunk, error) {
	return t.chunk(chunkBehind, key, last)
}

func (t *Telemetry) chunk(q string, args ...any) (c chunk, err error) {
	err = t.queryRow(q, args...).Scan(&c.key, &c.n, &c.till, &c.data)
	if errors.Is(err, sql.ErrNoRows) {
		return chunk{}, nil
	}
	return c, err
}

// Roll-ups.

// levelBits is how wide the number of a block of roll-ups is within its key:
// series, level, block.
const levelBits = slotBits - 2

// blockOf is how many cells of a level one block spans.
const blockOf = 384

func blockKey(id int64, level int, at int64) int64 {
	return id<<slotBits | int64(level)<<levelBits | max(at, 0)/(series.Levels[level]*blockOf)
}

// apart is how far apart unsealed readings are for their roll-ups to be worked
// out by themselves.
const apart = 24 * 3600_000

// rollUp works the roll-ups out again that unsealed samples, now in chunks, touch.
// Where they follow on what was summed up last, it goes on from there.
func (t *Telemetry) rollUp(s *stream, unsealed []series.Sample, follows bool) error {
	level := series.LevelsOf(s.every)
	if level == len(series.Levels) {
		return nil
	}
	unsealed = slices.DeleteFunc(slices.Clone(unsealed), func(x series.Sample) bool { return !summable(&x) })
	if len(unsealed) == 0 {
		return nil
	}
	if follows && s.tail != nil && s.tail.Rollups()[0].At >= s.kept {
		from := s.tail.Rollups()[0].At
		for i := range unsealed {
			s.tail.Add(unsealed[i].At, unsealed[i].Value.Num)
		}
		_, to := series.Every(series.Levels[level]).Cell(unsealed[len(unsealed)-1].At)
		err := t.putRollups(s.id, level, from, to, s.tail.Rollups())
		s.tail.Trim()
		return err
	}
	s.tail = nil
	for len(unsealed) > 0 {
		n := 1
		for n < len(unsealed) && unsealed[n].At-unsealed[n-1].At < apart {
			n++
		}
		roller, err := t.rollUpSpan(s, level, unsealed[0].At, unsealed[n-1].At)
		if err != nil {
			return err
		}
		if unsealed = unsealed[n:]; len(unsealed) == 0 && follows {
			s.tail = roller
		}
	}
	return nil
}

func summable(x *series.Sample) bool {
	return x.Value.Kind == value.Number || x.Value.Kind == value.Bool
}

// rollUpSpan works out the cells that samples from lo to hi may count in: from
// that of a sample before whose value they end, to that into which they hold. It
// returns what can go on from its end, if anything.
func (t *Telemetry) rollUpSpan(s *stream, level int, lo, hi int64) (*series.Roller, error) {
	hold := holds * s.every
	from, _ := series.Every(series.Levels[level]).Cell(lo - hold)
	_, to := series.Every(series.Levels[level]).Cell(hi + hold)
	from = max(from, wholeFrom(s, level)) // what came before was made of readings that are gone, so it stays as it is
	if from >= to {
		return nil, nil
	}
	roller := series.NewRoller(series.Every(series.Levels[level]), hold)
	if err := t.eachChunk(s.id, from-hold, to+hold, func(xs []series.Sample) error {
		for i := range xs {
			if x := &xs[i]; summable(x) && x.At >= from-hold && x.At < to+hold {
				roller.Add(x.At, x.Value.Num)
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	cells := slices.DeleteFunc(slices.Clone(roller.Rollups()), func(r series.Rollup) bool {
		return r.At < from || r.At >= to
	})
	if err := t.putRollups(s.id, level, from, to, cells); err != nil {
		return nil, err
	}
	if roller.Trim(); len(cells) == 0 || roller.Rollups()[0].At != cells[len(cells)-1].At {
		return nil, nil
	}
	return roller, nil
}

// wholeFrom returns where the first cell begins of which all readings are kept.
func wholeFrom(s *stream, level int) int64 {
	at, next := series.Every(series.Levels[level]).Cell(s.kept)
	if at < s.kept {
		return next
	}
	return at
}

// putRollups takes cells of a level in the place of all that is in [from, to),
// and works the coarser levels out again.
func (t *Telemetry) putRollups(id int64, level int, from, to int64, cells []series.Rollup) error {
	for {
		if err := t.replace(id, level, from, to, cells); err != nil {
			return err
		}
		if level++; level == len(series.Levels) {
			return nil
		}
		grid := series.Every(series.Levels[level])
		from, _ = grid.Cell(from)
		_, to = grid.Cell(to - 1)
		finer, err := t.blocks(id, level-1, from, to)
		if err != nil {
			return err
		}
		cells = series.Coarser(finer, grid)
	}
}

// holds is for how many expected intervals a value counts on when no other
// comes: as long as until a device is silent.
const holds = 3

// eachChunk gives the chunks that may hold samples of a span, as the writer
// sees them. What f gets is its until it returns.
func (t *Telemetry) eachChunk(id, from, to int64, f func([]series.Sample) error) error {
	c, err := t.chunkAt(id, from)
	if err != nil {
		return err
	}
	first, last := keys(id)
	if c.data == nil {
		c.key = first - 1
	}
	for {
		if c.data != nil {
			// A damaged chunk counts as a gap here; store check names it.
			if xs, err := series.Decode(t.room[:0], c.data); err == nil {
				t.room = xs
				if err := f(xs); err != nil {
					return err
				}
			}
		}
		if c, err = t.chunkAfter(c.key, last); err != nil || c.data == nil || c.key > chunkKey(id, to) {
			return err
		}
	}
}

// blocks returns the roll-ups of a level in [from, to), as the writer sees them.
func (t *Telemetry) blocks(id int64, level int, from, to int64) ([]series.Rollup, error) {
	rows, err := t.queryRows(selectRollups, blockKey(id, level, from), blockKey(id, level, to-1))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	// A damaged block counts as empty here: what is touched is worked out again,
	// and store check --repair does the rest.
	return scanBlocks(rows, from, to, true)
}

func scanBlocks(rows *sql.Rows, from, to int64, lenient bool) ([]series.Rollup, error) {
	var out []series.Rollup
	var data sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&data); err != nil {
			return nil, err
		}
		n := len(out)
		var err error
		if out, err = series.DecodeRollups(out, data); err != nil && !lenient {
			return nil, err
		}
		out = append(out[:n], slices.DeleteFunc(out[n:], func(r series.Rollup) bool {
			return r.At < from || r.At >= to
		})...)
	}
	return out, rows.Err()
}

// replace puts cells in place of all that a level has in [from, to).
func (t *Telemetry) replace(id int64, level int, from, to int64, cells []series.Rollup) error {
	width := series.Levels[level] * blockOf
	for at := max(from, 0) / width * width; at < to; at += width {
		old, err := t.blocks(id, level, at, at+width)
		if err != nil {
			return err
		}
		var all []series.Rollup
		for i := range old {
			if old[i].At < from {
				all = append(all, old[i])
			}
		}
		for i := range cells {
			if cells[i].At >= at && cells[i].At < at+width {
				all = append(all, cells[i])
			}
		}
		for i := range old {
			if old[i].At >= to {
				all = append(all, old[i])
			}
		}
		key := blockKey(id, level, at)
		switch {
		case len(all) > 0:
			err = t.exec(insertRollups, key, series.EncodeRollups(nil, all))
		case len(old) > 0:
			err = t.exec(deleteRollups, key)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

const (
	// vacuumAbove is how many pages may be free before some are given back.
	vacuumAbove = 2000
	// vacuumPages is how many are given back between two commits.
	vacuumPages = 500
)

// giveBack returns pages that hold nothing to the disk, some at a time, while
// there are more than a number, and reports whether there still are.
func (t *Telemetry) giveBack(above int) (more bool, err error) {
	w := queries{t.db.write}
	free := 0
	if err := w.row(context.Background(), "PRAGMA freelist_count").Scan(&free); err != nil || free <= above {
		return false, translate(err)
	}
	rows, err := w.rows(context.Background(), fmt.Sprintf("PRAGMA incremental_vacuum(%d)", vacuumPages))
	if err != nil {
		return false, translate(err)
	}
	for rows.Next() {
	}
	return free-vacuumPages > above, translate(errors.Join(rows.Err(), rows.Close()))
}
