package store

import (
	"context"
	"time"

	"ullage/core/value"
)

// Use tells what the data folder is filled with, in bytes.
type Use struct {
	FileBytes    int64 // of telemetry.db, with what is free in it
	FreeBytes    int64 // in its pages that hold nothing now
	ChunkBytes   int64 // of the chunks, rows and all
	RollupBytes  int64
	RecordBytes  int64 // of the table of records
	FolderBytes  int64 // of records.db
	Readings     int64 // all of them
	Unsealed     int64 // of those, in no chunk yet
	DayBytes     int64 // how much chunks and roll-ups grew a day, over the last week; -1 where there is less than a day of them
	DiskFree     int64 // what the disk, or the limit of the file, leaves; -1 where that is not known
	Series       []SeriesUse
	FirstReading time.Time
}

// SeriesUse tells what one series takes up.
type SeriesUse struct {
	Device, Metric string
	Chunks         int64
	Readings       int64 // all of them
	Unsealed       int64 // of those, in no chunk yet
	Bytes          int64 // of the data of its chunks and roll-ups, without rows and pages
	From, Till     time.Time
}

// growthSpan is how far back growth is looked at.
const growthSpan = 7 * 24 * time.Hour

// growthLeast is the shortest span of readings from which growth is known: within
// a day devices may do other things by hour.
const growthLeast = 24 * time.Hour

// Room returns the bytes that the disk, or the limit of the file, leaves; -1 where that is
// not known.
func (s *Store) Room() int64 {
	room := diskFree(s.dir)
	if !s.limited {
		return room
	}
	var page, pages, most int64
	for q, to := range map[string]*int64{"PRAGMA page_size": &page, "PRAGMA page_count": &pages, "PRAGMA max_page_count": &most} {
		if s.Telemetry.read.row(context.Background(), q).Scan(to) != nil {
			return room
		}
	}
	if left := page * (most - pages); room < 0 || left < room {
		room = max(left, 0)
	}
	return room
}

// Use looks the folder through.
func (s *Store) Use(ctx context.Context) (Use, error) {
	t := s.Telemetry
	var u Use
	var page, pages, free, most int64
	for q, to := range map[string]*int64{"PRAGMA page_size": &page, "PRAGMA page_count": &pages,
		"PRAGMA freelist_count": &free, "PRAGMA max_page_count": &most} {
		if err := t.read.row(ctx, q).Scan(to); err != nil {
			return u, translate(err)
		}
	}
	u.FileBytes, u.FreeBytes = page*pages, page*free
	u.DiskFree = diskFree(s.dir)
	if left := page*most - u.FileBytes; s.limited && (u.DiskFree < 0 || left < u.DiskFree) {
		u.DiskFree = max(left, 0)
	}
	to := map[string]*int64{"chunks": &u.ChunkBytes, "rollups": &u.RollupBytes, "records": &u.RecordBytes}
	tables, err := t.read.rows(ctx, "SELECT name, sum(pgsize) FROM dbstat GROUP BY name")
	if err != nil {
		return u, translate(err)
	}
	defer tables.Close()
	for tables.Next() {
		var name string
		var n int64
		if err := tables.Scan(&name, &n); err != nil {
			return u, translate(err)
		}
		if to := to[name]; to != nil {
			*to = n
		}
	}
	if err := tables.Err(); err != nil {
		return u, translate(err)
	}
	var size, count int64
	records := queries{s.Records.db.read}
	if records.row(ctx, "PRAGMA page_size").Scan(&size) == nil &&
		records.row(ctx, "PRAGMA page_count").Scan(&count) == nil {
		u.FolderBytes = size * count
	}
	return u, t.seriesUse(ctx, &u)
}

// seriesUse adds what each series takes up, and how it grew.
func (t *Telemetry) seriesUse(ctx context.Context, u *Use) error {
	first, last := map[int64]int64{}, map[int64]int64{}
	use := map[int64]*SeriesUse{}
	rows, err := t.read.rows(ctx,
		"SELECT key >> 39, count(*), sum(n), sum(length(data)), min(key) & 549755813887, max(till) FROM chunks GROUP BY key >> 39")
	if err != nil {
		return translate(err)
	}
	defer rows.Close()
	newest := int64(0)
	for rows.Next() {
		var id, slot, till int64
		x := &SeriesUse{}
		if err := rows.Scan(&id, &x.Chunks, &x.Readings, &x.Bytes, &slot, &till); err != nil {
			return translate(err)
		}
		first[id], last[id] = slot*slotMS, till
		x.From, x.Till = value.FromMillis(slot*slotMS), value.FromMillis(till)
		use[id] = x
		u.Readings += x.Readings
		newest = max(newest, till)
		if u.FirstReading.IsZero() || x.From.Before(u.FirstReading) {
			u.FirstReading = x.From
		}
	}
	if err := rows.Err(); err != nil {
		return translate(err)
	}
	rollups, err := t.read.rows(ctx, "SELECT key >> 39, sum(length(data)) FROM rollups GROUP BY key >> 39")
	if err != nil {
		return translate(err)
	}
	defer rollups.Close()
	for rollups.Next() {
		var id, n int64
		if err := rollups.Scan(&id, &n); err != nil {
			return translate(err)
		}
		if x := use[id]; x != nil {
			x.Bytes += n
		}
	}
	if err := rollups.Err(); err != nil {
		return translate(err)
	}
	var recent int64
	since := newest - growthSpan.Milliseconds()
	if err := t.read.row(ctx, "SELECT coalesce(sum(n), 0) FROM chunks WHERE till >= ?", since).Scan(&recent); err != nil {
		return translate(err)
	}
	u.DayBytes = -1
	if span := newest - max(since, u.FirstReading.UnixMilli()); u.Readings > 0 && span >= growthLeast.Milliseconds() {
		each := float64(u.ChunkBytes+u.RollupBytes) / float64(u.Readings)
		u.DayBytes = int64(float64(recent) * each * float64(24*3600_000) / float64(span))
	}
	t.unsealedMu.RLock()
	defer t.unsealedMu.RUnlock()
	for id, s := range t.streams {
		x := use[id]
		if x == nil {
			if x = new(SeriesUse); s.n == 0 {
				continue
			}
		}
		x.Device, x.Metric, x.Unsealed = s.device, s.metric, int64(s.n)
		x.Readings += x.Unsealed
		u.Readings += x.Unsealed
		u.Unsealed += x.Unsealed
		u.Series = append(u.Series, *x)
	}
	return nil
}
