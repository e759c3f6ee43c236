// Package scoped is the fleet as one caller may see and change it. Every use case
// that people and programs have stands here and takes the caller: what they do not
// reach is for them as if it did not exist, in lists, counts, errors and streams
// alike. There is no other way from the operators' API to the fleet.
package scoped

import (
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/activity"
	"ullage/fleet/alarms"
	"ullage/fleet/asof"
	"ullage/fleet/boards"
	"ullage/fleet/bulk"
	"ullage/fleet/commands"
	"ullage/fleet/commit"
	"ullage/fleet/deletion"
	"ullage/fleet/derived"
	"ullage/fleet/devices"
	"ullage/fleet/expressions"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/folder"
	"ullage/fleet/history"
	"ullage/fleet/imports"
	"ullage/fleet/ingest"
	"ullage/fleet/joining"
	"ullage/fleet/layers"
	"ullage/fleet/logs"
	"ullage/fleet/maintenances"
	"ullage/fleet/models"
	"ullage/fleet/present"
	"ullage/fleet/query"
	"ullage/fleet/replays"
	"ullage/fleet/responses"
	"ullage/fleet/revisions"
	"ullage/fleet/rollouts"
	"ullage/fleet/settings"
	"ullage/fleet/sites"
	"ullage/fleet/traffic"
)

// Options are the parts of a fleet.
type Options struct {
	Access       *access.Register
	Models       *models.Catalogue
	Devices      *devices.Registry
	Sites        *sites.Sites
	Maintenances *maintenances.Maintenances
	Boards       *boards.Boards
	Replays      *replays.Replays
	Responses    *responses.Responses
	Layers       *layers.Layers
	Rollouts     *rollouts.Rollouts
	Joining      *joining.Joining
	Bulk         *bulk.Changes
	Settings     *settings.Settings
	Commands     *commands.Queue
	Alarms       *alarms.Engine
	Present      *present.Fleet
	Expressions  *expressions.Expressions
	Facts        fact.Log
	News         *fact.News
	AsOf         *asof.AsOf
	History      *history.History
	Queries      *query.Queries
	Importer     *imports.Importer
	Deleter      *deletion.Deleter
	Traffic      *traffic.Log
	Revisions    *revisions.Revisions
	Derivations  *derived.Derivations
	Folder       *folder.Loader
	Logs         *logs.Logs
	Teams        Teams
	Activity     *activity.Counter
	Changes      Changes
	Intake       *ingest.Intake
	Meter        *ingest.Meter
	Commits      *commit.Writer
	Now          func() time.Time
}

// Teams knows the teams of people.
type Teams interface {
	// Of returns those of a person; false for whoever is none.
	Of(name string) (teams []string, person bool)
	// Known reports whether there is a team.
	Known(team string) bool
}

// Fleet is what callers see and change.
type Fleet struct {
	o Options

	mu      sync.Mutex
	parts   map[string]*expressions.Expressions // of callers who do not see everything
	changed <-chan struct{}                     // closed once parts do not hold any more
}

// New returns the fleet of some parts.
func New(o Options) *Fleet { return &Fleet{o: o} }

// reach returns an error unless the caller may do to a device what needs a role. A
// device that they do not see does not exist for them.
func (f *Fleet) reach(c access.Caller, needs person.Role, id string) error {
	if !c.Sees(id) {
		return devices.Unknown(id)
	}
	if _, err := f.o.Devices.Get(id); err != nil {
		return err
	}
	if !c.May(needs, id) {
		return fault.New(fault.NotAllowed, "that needs the role %s for %s, which %s has not", needs, id, c.Name).
			Then("ask an owner for it").On("role")
	}
	return nil
}

// everywhere returns an error unless the caller has a role for all devices.
func (f *Fleet) everywhere(c access.Caller, needs person.Role) error {
	if c.MayAll(needs) {
		return nil
	}
	if c.Role().Does(needs) {
		return fault.New(fault.NotAllowed, "that concerns all devices, and %s has the role %s for some of them", c.Name, needs).
			Then("ask an owner for the role without an access").On("role")
	}
	return fault.New(fault.NotAllowed, "that needs the role %s for all devices, which %s has not", needs, c.Name).
		Then("ask an owner for it").On("role")
}

// Among returns the devices that a caller sees and for which a condition is true now,
// as a set and as a list in order; both nil for every device.
func (f *Fleet) Among(c access.Caller, where string) (map[string]bool, []string, error) {
	var set map[string]bool
	if strings.TrimSpace(where) == "" {
		set = c.Set(person.Viewer)
	} else {
		var err error
		if set, err = f.Expressions(c).Where(where); err != nil {
			return nil, nil, err
		}
	}
	if set == nil {
		return nil, nil, nil
	}
	return set, append([]string{}, slices.Sorted(maps.Keys(set))...), nil
}

// Expressions returns what checks and answers expressions over what a caller sees.
func (f *Fleet) Expressions(c access.Caller) *expressions.Expressions {
	if c.MayAll(person.Viewer) {
		return f.o.Expressions
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	select {
	case <-f.changed:
		f.parts = nil
	default:
	}
	if f.parts == nil {
		f.parts, f.changed = map[string]*expressions.Expressions{}, f.o.Access.Changed()
	}
	part := f.parts[c.Name]
	if part == nil {
		part = f.o.Expressions.Of(expressions.Part{
			Devices: func() []string { ids, _ := c.Devices(person.Viewer); return ids },
			Models:  func() (out []*modelOf) { return f.Models(c) },
			Rules: func() (out []string) {
				for _, r := range f.Rules(c) {
					if !r.Disabled {
						out = append(out, r.Name)
					}
				}
				return out
			},
		})
		f.parts[c.Name] = part
	}
	return part
}

// Changed returns a channel that is closed when somebody may see or do something else
// than now.
func (f *Fleet) Changed() <-chan struct{} { return f.o.Access.Changed() }
