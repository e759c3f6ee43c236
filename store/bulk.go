package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/fleet/bulk"
)

type bulkJobRow struct {
	ID  string `gorm:"primaryKey"`
	Job []byte
}

func (bulkJobRow) TableName() string { return "bulk_jobs" }

var bulkJobKind = &kind[bulk.Job, string, bulkJobRow]{
	key: func(x bulk.Job) string { return x.ID },
	row: func(x bulk.Job) (bulkJobRow, error) {
		b, err := json.Marshal(x)
		return bulkJobRow{ID: x.ID, Job: b}, err
	},
	record: func(x bulkJobRow) (j bulk.Job, err error) { return j, json.Unmarshal(x.Job, &j) },
	drop: func(tx *gorm.DB, x bulk.Job) error {
		if err := tx.Where("id = ?", x.ID).Delete(&bulkJobRow{}).Error; err != nil {
			return err
		}
		return tx.Where("job = ?", x.ID).Delete(&bulkProgressRow{}).Error
	},
}

// bulkProgressRow is how far a job is, apart from the list of its devices.
type bulkProgressRow struct {
	Job          string `gorm:"primaryKey"`
	Done, Failed int
	EndedAt      int64
}

func (bulkProgressRow) TableName() string { return "bulk_progress" }

var bulkProgressKind = &kind[bulk.Progress, string, bulkProgressRow]{
	key: func(x bulk.Progress) string { return x.Job },
	row: sure(func(x bulk.Progress) bulkProgressRow { return bulkProgressRow{x.Job, x.Done, x.Failed, ms(x.EndedAt)} }),
	record: sure(func(x bulkProgressRow) bulk.Progress {
		return bulk.Progress{Job: x.Job, Done: x.Done, Failed: x.Failed, EndedAt: at(x.EndedAt)}
	}),
	drop: func(tx *gorm.DB, x bulk.Progress) error {
		return tx.Where("job = ?", x.Job).Delete(&bulkProgressRow{}).Error
	},
}

// BulkJobs implements bulk.Records.
func (r *Records) BulkJobs(ctx context.Context) ([]bulk.Job, error) {
	come, err := stored(ctx, r, bulkProgressKind)
	if err != nil {
		return nil, err
	}
	far := map[string]bulk.Progress{}
	for _, p := range come {
		far[p.Job] = p
	}
	jobs, err := stored(ctx, r, bulkJobKind)
	for i := range jobs {
		if p, ok := far[jobs[i].ID]; ok {
			jobs[i].Done, jobs[i].Failed, jobs[i].EndedAt = p.Done, p.Failed, p.EndedAt
		}
	}
	return jobs, err
}
