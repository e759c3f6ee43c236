package alarms

import (
	"context"
	"time"

	"ullage/core/rule"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
)

// RuleVersion is a rule as it was put in force, or taken out, at a time.
type RuleVersion struct {
	ID   string // in the order of time
	Name string
	At   time.Time
	By   string
	Verb string // added, changed or removed
	Rule rule.Rule
}

// maxVersions is how many versions of a rule are kept.
const maxVersions = 200

// version makes a version of a rule part of a commit. The rules are being edited.
func (e *Engine) version(tx *commit.Tx, r rule.Rule, verb, by string) {
	v := RuleVersion{ID: fact.NewID(e.now()), Name: r.Name, At: e.now(), By: by, Verb: verb, Rule: r}
	tx.Put(v)
	e.versionsMu.Lock()
	ids := e.versions[r.Name]
	e.versionsMu.Unlock()
	if len(ids) >= maxVersions {
		tx.Put(commit.Delete{Record: RuleVersion{ID: ids[0]}})
	}
	tx.After(func() {
		e.versionsMu.Lock()
		defer e.versionsMu.Unlock()
		if ids := e.versions[r.Name]; len(ids) >= maxVersions {
			e.versions[r.Name] = ids[1:]
		}
		e.versions[r.Name] = append(e.versions[r.Name], v.ID)
	})
}

// RuleVersions returns the versions of a rule, the newest first; also of one that was
// removed.
func (e *Engine) RuleVersions(ctx context.Context, name string) ([]RuleVersion, error) {
	out, err := e.records.RuleVersions(ctx, name)
	if err == nil && len(out) == 0 {
		return nil, NoRule(name)
	}
	return out, err
}
