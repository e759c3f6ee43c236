package store

// Use tells what telemetry.db is filled with, in bytes.
type Use struct {
	FileBytes   int64 // of the file, with what is free in it
	FreeBytes   int64 // in pages that hold nothing now
	ChunkBytes  int64 // of the chunks, rows and all
	RollupBytes int64
	RecordBytes int64 // of the write-ahead table
	Readings    int64 // in chunks
	Fresh       int64 // readings that are in no chunk yet
}

// Use looks the file through.
func (t *Telemetry) Use() (Use, error) {
	var u Use
	var page, pages, free int64
	for q, to := range map[string]*int64{"PRAGMA page_size": &page, "PRAGMA page_count": &pages, "PRAGMA freelist_count": &free,
		"SELECT coalesce(sum(n), 0) FROM chunks": &u.Readings} {
		if err := t.read.QueryRow(q).Scan(to); err != nil {
			return u, translate(err)
		}
	}
	u.FileBytes, u.FreeBytes, u.Fresh = page*pages, page*free, t.stats.Fresh.Load()
	rows, err := t.read.Query("SELECT name, sum(pgsize) FROM dbstat GROUP BY name")
	if err != nil {
		return u, translate(err)
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		var n int64
		if err := rows.Scan(&name, &n); err != nil {
			return u, translate(err)
		}
		switch name {
		case "chunks":
			u.ChunkBytes = n
		case "rollups":
			u.RollupBytes = n
		case "records":
			u.RecordBytes = n
		}
	}
	return u, translate(rows.Err())
}
