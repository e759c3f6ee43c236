package api

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
)

// Usage is what the store tells about itself, in bytes.
type Usage struct {
	File, Free, Chunks, Rollups, UnsealedBytes, Records int64
	Readings, Unsealed                                  int64
	Growth                                              int64 // a day; -1 where it is not known yet
	DiskFree                                            int64 // -1 where it is not known
	Since                                               time.Time
	Series                                              []SeriesUse
	Damage                                              []Damage
}

// Damage is one thing in the data folder that cannot be read.
type Damage = client.Damage

// SeriesUse is what one series takes up.
type SeriesUse struct {
	Device, Metric string
	// Readings is all of them, Unsealed those of which Bytes counts nothing.
	Readings, Unsealed, Bytes int64
}

// Storage is the data folder.
type Storage interface {
	Usage(context.Context) (Usage, error)
	Backup(ctx context.Context, w io.Writer, now time.Time) error
}

// maxShares is how many shares one answer lists.
const maxShares = 500

func (s *server) storeRoutes() {
	type sumBy struct {
		By string `query:"by" default:"model" enum:"model,metric,device" doc:"What to sum up by"`
	}
	huma.Get(s.api, "/api/v1/store", func(ctx context.Context, in *sumBy) (*body[client.Store], error) {
		c := caller(ctx)
		if err := s.Fleet.Whole(c); err != nil {
			return nil, s.failed(err)
		}
		u, err := s.Storage.Usage(ctx)
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.Store{File: u.File, Free: u.Free, Chunks: u.Chunks, Rollups: u.Rollups,
			UnsealedBytes: u.UnsealedBytes, Records: u.Records, Readings: u.Readings,
			Unsealed: u.Unsealed, Since: optional(u.Since), By: in.By, Shares: []client.Share{},
			Damage: u.Damage}
		if u.Growth >= 0 {
			out.Growth = &u.Growth
		}
		if u.DiskFree >= 0 {
			out.DiskFree = &u.DiskFree
		}
		shares := map[string]*client.Share{}
		var bytes int64
		sealed := map[string]int64{}
		for _, x := range u.Series {
			name := x.Device
			switch in.By {
			case "metric":
				name = x.Metric
			case "model":
				name = "none"
				if m, ok := s.Fleet.ModelNameOf(c, x.Device); ok {
					name = m
				}
			}
			sh := shares[name]
			if sh == nil {
				sh = &client.Share{Name: name}
				shares[name] = sh
			}
			sh.Series++
			sh.Readings += x.Readings
			sh.Bytes += x.Bytes
			bytes += x.Bytes
			sealed[name] += x.Readings - x.Unsealed
		}
		out.Each = each(bytes, u.Readings-u.Unsealed)
		for _, sh := range shares {
			sh.Each = each(sh.Bytes, sealed[sh.Name])
			out.Shares = append(out.Shares, *sh)
		}
		slices.SortFunc(out.Shares, func(a, b client.Share) int {
			return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Name, b.Name))
		})
		if len(out.Shares) > maxShares {
			for _, sh := range out.Shares[maxShares:] {
				out.LeftOut++
				out.ShareOfRest += sh.Bytes
			}
			out.Shares = out.Shares[:maxShares]
		}
		if out.DiskFree != nil && u.Growth > 0 {
			if days := *out.DiskFree / u.Growth; days < 365*100 {
				at := s.Now().UTC().AddDate(0, 0, int(days)).Truncate(24 * time.Hour)
				out.FullOn = &at
			}
		}
		return &body[client.Store]{out}, nil
	}, describe("store", "What the data folder is filled with, how it grows, and when the disk is full", "Service"))
	huma.Get(s.api, "/api/v1/store/backup", func(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
		person := by(ctx).Person
		return &huma.StreamResponse{Body: func(c huma.Context) {
			now := s.Now()
			c.SetHeader("Content-Type", "application/x-tar")
			c.SetHeader("Content-Disposition", fmt.Sprintf(`attachment; filename="ullage-%s.tar"`,
				now.UTC().Format("2006-01-02-1504")))
			if err := s.Storage.Backup(c.Context(), c.BodyWriter(), now); err != nil && c.Context().Err() == nil {
				s.brokeOff(c, err)
				return
			}
			s.Log.Info("a backup was made", "person", person, "after", s.Now().Sub(now).Round(time.Millisecond))
		}}, nil
	}, describe("backup", "A backup of everything, as one tar file, while the service goes on", "Service"))
}

// each returns how many bytes a reading takes; nil where there is none.
func each(bytes, readings int64) *float64 {
	if readings <= 0 {
		return nil
	}
	x := float64(bytes) / float64(readings)
	return &x
}
