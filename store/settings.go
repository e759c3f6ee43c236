package store

import (
	"context"

	"gorm.io/gorm"

	"ullage/core/layering"
	"ullage/fleet/settings"
)

type settingRow struct {
	Device          string `gorm:"primaryKey"`
	Revision        int64
	First           int64
	Earlier         []settings.Span   `gorm:"serializer:json"`
	Override        layering.Settings `gorm:"serializer:json"`
	Intended        layering.Settings `gorm:"serializer:json"`
	Kept            layering.Settings `gorm:"serializer:json"`
	IntendedAt      int64
	OverriddenBy    map[string]settings.Overridden `gorm:"serializer:json"`
	AppliedRevision int64
	Applied         layering.Settings `gorm:"serializer:json"`
	AppliedAt       int64
	Refused         map[string]string `gorm:"serializer:json"`
	DriftSince      int64
}

func (settingRow) TableName() string { return "settings" }

var settingKind = &kind[settings.State, string, settingRow]{
	key: func(x settings.State) string { return x.Device },
	row: sure(func(x settings.State) settingRow {
		return settingRow{Device: x.Device, Revision: x.Revision, First: x.First, Earlier: x.Earlier,
			Override: x.Override, Intended: x.Intended, Kept: x.Kept, IntendedAt: ms(x.IntendedAt), OverriddenBy: x.OverriddenBy, AppliedRevision: x.AppliedRevision, Applied: x.Applied,
			AppliedAt: ms(x.AppliedAt), Refused: x.Refused, DriftSince: ms(x.DriftSince)}
	}),
	record: sure(func(x settingRow) settings.State {
		return settings.State{Device: x.Device, Revision: x.Revision, First: x.First, Earlier: x.Earlier,
			Override: x.Override, Intended: x.Intended, Kept: x.Kept, IntendedAt: at(x.IntendedAt), OverriddenBy: x.OverriddenBy, AppliedRevision: x.AppliedRevision, Applied: x.Applied,
			AppliedAt: at(x.AppliedAt), Refused: x.Refused, DriftSince: at(x.DriftSince)}
	}),
}

// SettingStates implements settings.Records.
func (r *Records) SettingStates(ctx context.Context) ([]settings.State, error) {
	return stored(ctx, r, settingKind)
}

type jobRow struct {
	ID  string       `gorm:"primaryKey"`
	Job settings.Job `gorm:"serializer:json"`
}

func (jobRow) TableName() string { return "setting_jobs" }

var jobKind = &kind[settings.Job, string, jobRow]{
	key:    func(x settings.Job) string { return x.ID },
	row:    sure(func(x settings.Job) jobRow { return jobRow{ID: x.ID, Job: x} }),
	record: sure(func(x jobRow) settings.Job { return x.Job }),
	drop: func(tx *gorm.DB, x settings.Job) error {
		if err := tx.Where("id = ?", x.ID).Delete(&jobRow{}).Error; err != nil {
			return err
		}
		return tx.Where("job = ?", x.ID).Delete(&progressRow{}).Error
	},
}

// progressRow is how far a job is, apart from the list of its devices.
type progressRow struct {
	Job    string `gorm:"primaryKey"`
	Done   int
	Failed int
}

func (progressRow) TableName() string { return "setting_job_progress" }

var progressKind = &kind[settings.Progress, string, progressRow]{
	key:    func(x settings.Progress) string { return x.Job },
	row:    sure(func(x settings.Progress) progressRow { return progressRow(x) }),
	record: sure(func(x progressRow) settings.Progress { return settings.Progress(x) }),
	drop: func(tx *gorm.DB, x settings.Progress) error {
		return tx.Where("job = ?", x.Job).Delete(&progressRow{}).Error
	},
}

// Jobs implements settings.Records.
func (r *Records) Jobs(ctx context.Context) ([]settings.Job, error) {
	come, err := stored(ctx, r, progressKind)
	if err != nil {
		return nil, err
	}
	far := map[string]settings.Progress{}
	for _, p := range come {
		far[p.Job] = p
	}
	jobs, err := stored(ctx, r, jobKind)
	for i := range jobs {
		if p, ok := far[jobs[i].ID]; ok {
			jobs[i].Done, jobs[i].Failed = p.Done, p.Failed
		}
	}
	return jobs, err
}
