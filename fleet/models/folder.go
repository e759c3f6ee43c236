package models

import (
	"encoding/json"

	"ullage/core/model"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/journal"
)

// Change is what loading a file would do to the catalogue.
type Change struct {
	Model      *model.Model
	State      State
	Before     string            // version that is newest now; empty for none
	Comparison *model.Comparison // with that version; nil where the file is new or the same
	record     Record
	entry      journal.Entry
}

// File is a model to be loaded, with the files that it refers to.
type File struct {
	Model *model.Model
	Parts map[string]json.RawMessage
}

// Plan says what loading models would do, without doing it. It fails for the
// first that may not be loaded.
func (c *Catalogue) Plan(files []File, by string) ([]Change, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	at := c.now()
	var out []Change
	for _, f := range files {
		m := f.Model
		state, err := c.judge(m)
		if err != nil {
			return nil, fault.From(err)
		}
		ch := Change{Model: m, State: state}
		if old := c.find(m.Name, ""); old != nil {
			ch.Before = old.Version
			if state == Newer {
				d := model.Compare(old, m)
				ch.Comparison = &d
			}
		}
		if state != Same {
			ch.record, ch.entry = c.record(m, f.Parts, state, by, at)
		}
		out = append(out, ch)
	}
	return out, nil
}

// Rows returns what has to be stored for changes.
func Rows(changes []Change) (records []Record, entries []journal.Entry) {
	for _, ch := range changes {
		if ch.State != Same {
			records, entries = append(records, ch.record), append(entries, ch.entry)
		}
	}
	return records, entries
}

// Stored puts changes in force after Rows were stored.
func (c *Catalogue) Stored(changes []Change) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, ch := range changes {
		if ch.State != Same {
			c.put(Published{ch.Model, ch.record.Parts, ch.record.LoadedAt})
			c.bus.Publish(event.Models{Name: ch.Model.Name})
		}
	}
}
