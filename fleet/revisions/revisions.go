// Package revisions tells what another version of a model means for the devices
// in the field, and gives devices another version.
package revisions

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/fleet/alarms"
	"ullage/fleet/bulk"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/settings"
)

// Options are what Revisions are made of.
type Options struct {
	Models   *models.Catalogue
	Devices  *devices.Registry
	Settings *settings.Settings
	Alarms   *alarms.Engine
	// Matching returns the ids of the devices for which a selector is true.
	Matching func(where string) (map[string]bool, error)
	// Bulk gives the devices another version.
	Bulk *bulk.Changes
}

// Revisions knows the models and who has them.
type Revisions struct{ o Options }

// New returns Revisions.
func New(o Options) *Revisions { return &Revisions{o} }

// Draft is what publishing a text would do.
type Draft struct {
	Findings   []check.Finding
	Model      *model.Model // nil while the text is wrong
	State      models.State // empty while it is wrong or refused
	Refused    error        // why it may not be published as it is
	Before     *model.Model // the newest published version; nil for none
	Comparison *model.Comparison
	Devices    int
	Rules      []string // that would not fit any more, with the reason
}

// Preview checks a text and says what publishing it would do. The format is
// json or yaml; worked out from the text where it is empty.
func (r *Revisions) Preview(text, format string, parts map[string]json.RawMessage) Draft {
	name := "model.tm.json"
	if format == "yaml" || format == "" && !strings.HasPrefix(strings.TrimSpace(text), "{") {
		name = "model.tm.yaml"
	}
	d := Draft{Findings: []check.Finding{}}
	d.Model, d.Findings = check.Text(check.File{Path: name,
		Data: []byte(text)}, func(src []byte) (*model.Model, error) {
		return r.o.Models.Read(src, parts)
	})
	if d.Model == nil {
		return d
	}
	if old, err := r.o.Models.Of(d.Model.Name, ""); err == nil {
		d.Before = old
		c := model.Compare(old, d.Model)
		d.Comparison = &c
	}
	d.State, d.Refused = r.o.Models.Judge(d.Model)
	for _, x := range r.o.Devices.List() {
		if x.Model == d.Model.Name && x.Status != devices.Retired {
			d.Devices++
		}
	}
	d.Rules = r.Unfit(d.Model)
	return d
}

// Unfit lists the rules over a model that do not fit a version of it, each with
// the reason: they do not watch devices that have that version.
func (r *Revisions) Unfit(m *model.Model) []string {
	var out []string
	around := check.Around{Rules: r.o.Alarms.Names()}
	for _, x := range r.o.Alarms.Rules() {
		if !x.Names(m.Name) {
			continue
		}
		var err error
		if x.Each == "" {
			_, err = x.For(expr.NewPlan(around.With(check.Schema(m))))
		} else {
			of := []*model.Model{m}
			for _, name := range x.Models {
				if other, e := r.o.Models.Get(name); e == nil && name != m.Name {
					of = append(of, other)
				}
			}
			_, _, err = check.GroupRule(&x, of, around)
		}
		if err != nil {
			out = append(out, err.Error())
		}
	}
	return out
}

// Step is one device that is given another version.
type Step struct {
	Device   string
	From     string
	Reported string
	Loses    []string // settings of its override that the other version does not allow
}

// Moving is a move of devices to another version of their model.
type Moving struct {
	To          *model.Model
	Steps       []Step         // what is moved, or would be
	Differences []model.Change // what is different for them
	Change      string         // of many devices, which can be undone; empty for a preview
}

// Move gives devices of a model another version, the newest where version is
// empty: those with the ids, or those that where chooses, or all. With preview
// nothing is changed. It returns when all are moved; a crash in between ends nothing.
func (r *Revisions) Move(ctx context.Context, modelName, version string, ids []string, where string, preview bool,
	by string) (m Moving, err error) {
	to, err := r.o.Models.Of(modelName, version)
	if err != nil {
		return Moving{}, err
	}
	chosen, err := r.choose(to.Name, ids, where)
	if err != nil {
		return Moving{}, err
	}
	m.To = to
	oldest := ""
	for _, d := range chosen {
		if d.Version == to.Version {
			continue
		}
		if oldest == "" || model.CompareVersions(d.Version, oldest) < 0 {
			oldest = d.Version
		}
		s := Step{Device: d.ID, From: d.Version, Reported: d.Reported(), Loses: []string{}}
		st, _, err := r.o.Settings.Of(d.ID)
		if err != nil {
			return Moving{}, err
		}
		for name, v := range st.Override {
			if p, ok := to.Property(name); !ok || p.Role != model.Setting || !p.Holds(v) {
				s.Loses = append(s.Loses, name)
			}
		}
		slices.Sort(s.Loses)
		m.Steps = append(m.Steps, s)
	}
	if oldest != "" {
		if from, err := r.o.Models.Of(to.Name, oldest); err == nil {
			m.Differences = model.Compare(from, to).Changes
		}
	}
	if preview || len(m.Steps) == 0 {
		return m, nil
	}
	all := make([]string, len(m.Steps))
	for i, s := range m.Steps {
		all[i] = s.Device
	}
	job, err := r.o.Bulk.Begin(ctx, all, bulk.Change{Model: to.Name, Version: to.Version}, by)
	if err != nil {
		return m, err
	}
	m.Change = job.ID
	if job, err = r.o.Bulk.Wait(ctx, job.ID); err == nil && job.Failed > 0 {
		err = fault.New(fault.Conflict, "%d of %d devices could not be moved any more", job.Failed, len(all)).Then("look at them again")
	}
	return m, err
}

func (r *Revisions) choose(modelName string, ids []string, where string) ([]devices.Device, error) {
	var among map[string]bool
	if where != "" {
		var err error
		if among, err = r.o.Matching(where); err != nil {
			return nil, err
		}
	}
	var out []devices.Device
	for _, d := range r.o.Devices.List() {
		if d.Model != modelName || d.Status == devices.Retired || among != nil && !among[d.ID] ||
			len(ids) > 0 && !slices.Contains(ids, d.ID) {
			continue
		}
		out = append(out, d)
	}
	for _, id := range ids {
		d, err := r.o.Devices.Get(id)
		if err != nil {
			return nil, err
		}
		if d.Model != modelName {
			return nil, fault.New(fault.Invalid, "%s is a %s and no %s", id, d.Model, modelName).
				Then("a device moves between versions of its own model")
		}
	}
	return out, nil
}
