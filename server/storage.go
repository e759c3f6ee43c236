package server

import (
	"context"
	"io"
	"os"
	"time"

	"ullage/api"
	"ullage/fleet/fault"
	"ullage/store"
)

// storage is the store as the API sees it.
type storage struct{ *store.Store }

// Usage implements api.Storage.
func (s storage) Usage(ctx context.Context) (api.Usage, error) {
	u, err := s.Use(ctx)
	if err != nil {
		return api.Usage{}, err
	}
	out := api.Usage{File: u.FileBytes, Free: u.FreeBytes, Chunks: u.ChunkBytes, Rollups: u.RollupBytes,
		UnsealedBytes: u.RecordBytes, Records: u.FolderBytes, Readings: u.Readings, Unsealed: u.Unsealed, Growth: u.DayBytes, DiskFree: u.DiskFree, Since: u.FirstReading}
	for _, x := range u.Series {
		out.Series = append(out.Series, api.SeriesUse{Device: x.Device, Metric: x.Metric, Readings: x.Readings,
			Unsealed: x.Unsealed, Bytes: x.Bytes})
	}
	found, err := s.Damage(ctx)
	if err != nil {
		return api.Usage{}, err
	}
	out.Damage = make([]api.Damage, len(found))
	for i, d := range found {
		out.Damage[i] = api.Damage{File: d.File, Place: d.Place, Sentence: d.Sentence, Readings: d.Readings,
			Since: optional(d.Since), Until: optional(d.Until)}
	}
	return out, nil
}

func optional(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// CheckStore looks a data folder through that no service has open.
func CheckStore(ctx context.Context, dir string, repair bool, told func(float64)) (*store.Checked, error) {
	return store.Check(ctx, dir, repair, told)
}

// Restored tells what was restored.
type Restored struct {
	MadeAt   time.Time `json:"made_at"`
	Readings int64     `json:"readings"`
	Folder   string    `json:"folder"`
}

// Restore unpacks a backup into a new folder.
func Restore(ctx context.Context, file, dir string) (Restored, error) {
	f, err := os.Open(file)
	if err != nil {
		return Restored{}, fault.New(fault.NotFound, "the backup cannot be read: %s", err)
	}
	defer f.Close()
	return restore(ctx, f, dir)
}

// VerifyBackup unpacks a backup beside itself, looks it through and takes it
// away again.
func VerifyBackup(ctx context.Context, file string) (Restored, error) {
	dir, err := os.MkdirTemp("", "ullage-verify-")
	if err != nil {
		return Restored{}, err
	}
	defer os.RemoveAll(dir)
	return Restore(ctx, file, dir)
}

func restore(ctx context.Context, r io.Reader, dir string) (Restored, error) {
	m, c, err := store.Restore(ctx, r, dir)
	if err != nil {
		return Restored{}, err
	}
	return Restored{m.MadeAt, c.Readings, dir}, nil
}
