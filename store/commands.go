package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/fleet/commands"
)

type commandRow struct {
	ID      string `gorm:"primaryKey"`
	Device  string `gorm:"index"`
	Name    string
	Input   []byte
	By      string
	Phase   string `gorm:"index"`
	At      int64
	Expires int64
	SentAt  int64
	EndedAt int64
	Output  []byte
	Error   string
	Job     string `gorm:"index"`
}

func (commandRow) TableName() string { return "commands" }

var commandKind = &kind[commands.Command, string, commandRow]{
	key: func(x commands.Command) string { return x.ID },
	row: sure(func(x commands.Command) commandRow {
		return commandRow{ID: x.ID, Device: x.Device, Name: x.Name, Input: x.Input, By: x.By, Phase: string(x.Phase),
			At: ms(x.At), Expires: ms(x.Expires), SentAt: ms(x.SentAt), EndedAt: ms(x.EndedAt), Output: x.Output, Error: x.Error, Job: x.Job}
	}),
	record: sure(func(x commandRow) commands.Command {
		return commands.Command{ID: x.ID, Device: x.Device, Name: x.Name, Input: x.Input, By: x.By,
			Phase: commands.Phase(x.Phase), At: at(x.At), Expires: at(x.Expires), SentAt: at(x.SentAt), EndedAt: at(x.EndedAt), Output: x.Output, Error: x.Error, Job: x.Job}
	}),
}

// Commands implements commands.Records.
func (r *Records) Commands(ctx context.Context, f commands.Filter) ([]commands.Command, error) {
	q := page{id: f.ID, device: f.Device, among: f.Among, before: f.Before,
		limit: f.Limit}.of(r.db.read.WithContext(ctx))
	if f.Job != "" {
		q = q.Where("job = ?", f.Job)
	}
	if f.Open {
		q = q.Where("phase IN ?", []string{string(commands.Waiting), string(commands.Sent)})
	}
	return found(r, commandKind, q)
}

type commandJobRow struct {
	ID  string `gorm:"primaryKey"`
	Job []byte
}

func (commandJobRow) TableName() string { return "command_jobs" }

var commandJobKind = &kind[commands.Job, string, commandJobRow]{
	key: func(x commands.Job) string { return x.ID },
	row: func(x commands.Job) (commandJobRow, error) {
		b, err := json.Marshal(x)
		return commandJobRow{ID: x.ID, Job: b}, err
	},
	record: func(x commandJobRow) (j commands.Job, err error) { return j, json.Unmarshal(x.Job, &j) },
	drop: func(tx *gorm.DB, x commands.Job) error {
		if err := tx.Where("id = ?", x.ID).Delete(&commandJobRow{}).Error; err != nil {
			return err
		}
		return tx.Where("job = ?", x.ID).Delete(&commandProgressRow{}).Error
	},
}

// commandProgressRow is how far a job is, apart from the list of its devices.
type commandProgressRow struct {
	Job         string `gorm:"primaryKey"`
	Given       int
	WithdrawnAt int64
	WithdrawnBy string
	EndedAt     int64
}

func (commandProgressRow) TableName() string { return "command_progress" }

var commandProgressKind = &kind[commands.JobProgress, string, commandProgressRow]{
	key: func(x commands.JobProgress) string { return x.Job },
	row: sure(func(x commands.JobProgress) commandProgressRow {
		return commandProgressRow{x.Job, x.Given, ms(x.WithdrawnAt), x.WithdrawnBy, ms(x.EndedAt)}
	}),
	record: sure(func(x commandProgressRow) commands.JobProgress {
		return commands.JobProgress{Job: x.Job, Given: x.Given, WithdrawnAt: at(x.WithdrawnAt), WithdrawnBy: x.WithdrawnBy, EndedAt: at(x.EndedAt)}
	}),
	drop: func(tx *gorm.DB, x commands.JobProgress) error {
		return tx.Where("job = ?", x.Job).Delete(&commandProgressRow{}).Error
	},
}

// CommandJobs implements commands.Records.
func (r *Records) CommandJobs(ctx context.Context) ([]commands.Job, error) {
	come, err := stored(ctx, r, commandProgressKind)
	if err != nil {
		return nil, err
	}
	far := map[string]commands.JobProgress{}
	for _, p := range come {
		far[p.Job] = p
	}
	jobs, err := stored(ctx, r, commandJobKind)
	for i := range jobs {
		if p, ok := far[jobs[i].ID]; ok {
			jobs[i].Given, jobs[i].WithdrawnAt, jobs[i].WithdrawnBy, jobs[i].EndedAt = p.Given, p.WithdrawnAt, p.WithdrawnBy, p.EndedAt
		}
	}
	return jobs, err
}

// CommandCounts implements commands.Records.
func (r *Records) CommandCounts(ctx context.Context, jobs []string) (map[string]commands.Counts, error) {
	var rows []struct {
		Job, Phase string
		N          int
	}
	err := r.db.read.WithContext(ctx).Model(&commandRow{}).Select("job, phase, count(*) AS n").
		Where("job IN (SELECT value FROM json_each(?))", listOf(jobs)).Group("job, phase").Scan(&rows).Error
	out := map[string]commands.Counts{}
	for _, x := range rows {
		if out[x.Job] == nil {
			out[x.Job] = commands.Counts{}
		}
		out[x.Job][commands.Phase(x.Phase)] = x.N
	}
	return out, translate(err)
}
