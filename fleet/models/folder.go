package models

import (
	"encoding/json"

	"ullage/core/model"
	"ullage/fleet/commit"
	"ullage/fleet/fault"
)

// Change is what loading a file would do to the catalogue.
type Change struct {
	Model      *model.Model
	State      State
	Before     string            // version that is newest now; empty for none
	Comparison *model.Comparison // with that version; nil where the file is new or the same
	parts      map[string]json.RawMessage
}

// File is a model to be loaded, with the files that it refers to.
type File struct {
	Model *model.Model
	Parts map[string]json.RawMessage
}

// Plan says what loading models would do, without doing it. It fails for the
// first that may not be loaded.
func (c *Catalogue) Plan(files []File) ([]Change, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	var out []Change
	for _, f := range files {
		m := f.Model
		state, err := c.judge(m)
		if err != nil {
			return nil, fault.From(err)
		}
		ch := Change{Model: m, State: state, parts: f.Parts}
		if old := c.find(m.Name, ""); old != nil {
			ch.Before = old.Version
			if state == Newer {
				d := model.Compare(old, m)
				ch.Comparison = &d
			}
		}
		out = append(out, ch)
	}
	return out, nil
}

// Stage makes planned changes part of a commit.
func (c *Catalogue) Stage(tx *commit.Tx, changes []Change, by string) {
	at := c.now()
	for _, ch := range changes {
		if ch.State != Same {
			c.stage(tx, ch.Model, ch.parts, ch.State, by, at)
		}
	}
}
