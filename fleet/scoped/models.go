package scoped

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"ullage/core/check"
	"ullage/core/model"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/derived"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/folder"
	"ullage/fleet/models"
	"ullage/fleet/revisions"
)

// Models returns the newest version of every model of which the caller sees a device,
// by name.
func (f *Fleet) Models(c access.Caller) []*model.Model {
	all := f.o.Models.List()
	ids, whole := c.Devices(person.Viewer)
	if whole {
		return all
	}
	seen := map[string]bool{}
	for _, id := range ids {
		if d, err := f.o.Devices.Get(id); err == nil {
			seen[d.Model] = true
		}
	}
	return slices.DeleteFunc(all, func(m *model.Model) bool { return !seen[m.Name] })
}

func (f *Fleet) seesModel(c access.Caller, name string) bool {
	ids, whole := c.Devices(person.Viewer)
	return whole || slices.ContainsFunc(ids, func(id string) bool {
		d, err := f.o.Devices.Get(id)
		return err == nil && d.Model == name
	})
}

// Model returns the newest version of a model, or the one that is named with it.
func (f *Fleet) Model(c access.Caller, name string) (*model.Model, error) {
	short, _, _ := strings.Cut(name, "@")
	if !f.seesModel(c, short) {
		return nil, fault.New(fault.NotFound, "there is no model %q", name).On("model")
	}
	return f.o.Models.Get(name)
}

// Versions returns the versions of a model that the caller sees, the oldest first.
func (f *Fleet) Versions(c access.Caller, name string) []models.Published {
	if !f.seesModel(c, name) {
		return nil
	}
	return f.o.Models.Versions(name)
}

// VersionCounts counts the devices of each version of each model.
func (f *Fleet) VersionCounts(c access.Caller) map[[2]string]devices.VersionCount {
	ids, all := c.Devices(person.Viewer)
	if all {
		return f.o.Devices.Versions()
	}
	return f.o.Devices.VersionsAmong(ids)
}

// Unfit returns the rules that do not fit a version of a model, with the reason.
func (f *Fleet) Unfit(c access.Caller, m *model.Model) []string {
	if !c.MayAll(person.Viewer) {
		return nil
	}
	return f.o.Revisions.Unfit(m)
}

// Publish publishes a model.
func (f *Fleet) Publish(ctx context.Context, c access.Caller, src []byte, parts map[string]json.RawMessage) (*model.Model, bool, error) {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return nil, false, err
	}
	return f.o.Models.Publish(ctx, src, parts, c.Name)
}

// Preview checks a model that is being written, and says what publishing it would do.
func (f *Fleet) Preview(c access.Caller, text, format string, parts map[string]json.RawMessage) (revisions.Draft, error) {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return revisions.Draft{}, err
	}
	return f.o.Revisions.Preview(text, format, parts), nil
}

// Move gives devices another version of their model.
func (f *Fleet) Move(ctx context.Context, c access.Caller, name, version string, ids []string, where string, preview bool) (revisions.Moving, error) {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return revisions.Moving{}, err
	}
	return f.o.Revisions.Move(ctx, name, version, ids, where, preview, c.Name)
}

// Backfill computes derived telemetry of the past.
func (f *Fleet) Backfill(c access.Caller, name string, ids []string, since time.Time) (derived.View, error) {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return derived.View{}, err
	}
	return f.o.Derivations.Backfill(name, ids, since, c.Name)
}

// Work tells how far some work is. It is about all devices of a model.
func (f *Fleet) Work(c access.Caller, id string) (derived.View, error) {
	if !c.MayAll(person.Viewer) {
		return derived.View{}, derived.NoJob(id)
	}
	return f.o.Derivations.Job(id)
}

// StopWork ends some work; what it has done stays.
func (f *Fleet) StopWork(c access.Caller, id string) error {
	if _, err := f.Work(c, id); err != nil {
		return err
	}
	if err := f.everywhere(c, person.Engineer); err != nil {
		return err
	}
	f.o.Derivations.Stop(id)
	return nil
}

// Load compares a fleet folder with the service, and puts what differs in force.
func (f *Fleet) Load(ctx context.Context, c access.Caller, files []check.File, preview, atOnce bool) (folder.Outcome, error) {
	if !c.MayAll(person.Engineer) && preview && c.Role().Does(person.Engineer) && !slices.ContainsFunc(files, notRule) {
		return f.checkOwn(c, files), nil
	}
	if err := f.everywhere(c, person.Engineer); err != nil {
		return folder.Outcome{}, err
	}
	return f.o.Folder.Load(ctx, files, preview, atOnce, c.Name)
}

func notRule(x check.File) bool { return !strings.HasPrefix(x.Path, "rules/") }

// checkOwn checks rules that somebody writes for the devices that they have, by what
// they see.
func (f *Fleet) checkOwn(c access.Caller, files []check.File) folder.Outcome {
	out := folder.Outcome{Items: []folder.Item{}, Findings: []check.Finding{}}
	for _, x := range files {
		r, err := rule.Parse(x.Data)
		if err == nil {
			was, none := f.o.Alarms.Rule(r.Name)
			if err = f.ownRule(c, r.Name, none == nil && was.Author == c.Name); err == nil {
				err = f.fits(c, r)
			}
		}
		if err != nil {
			out.Findings = append(out.Findings, check.Finding{File: x.Path, Line: 1, Column: 1, Severity: "error", Kind: "rule", Sentence: err.Error()})
		}
	}
	return out
}
