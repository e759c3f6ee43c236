package api

import (
	"fmt"

	"ullage/core/person"
	"ullage/fleet/fault"
)

// needs is the role that each operation needs; one without an entry is carried out
// for nobody. docs/people.md shows it.
var needs = map[string]person.Role{
	"sign-out": person.Viewer, "me": person.Viewer, "change-password": person.Viewer, "sessions": person.Viewer,
	"end-session": person.Viewer, "explain-access": person.Viewer, "put-start": person.Viewer, "preferences": person.Viewer, "put-preferences": person.Viewer,
	"begin-second-factor": person.Viewer, "confirm-second-factor": person.Viewer, "drop-second-factor": person.Viewer,

	"devices": person.Viewer, "device": person.Viewer, "description": person.Viewer, "device-events": person.Viewer,
	"history": person.Viewer, "different": person.Viewer, "peers": person.Viewer, "device-log": person.Viewer, "board-versions": person.Viewer, "snapshot": person.Viewer, "origin": person.Viewer, "activity": person.Viewer, "upkeep": person.Viewer, "course": person.Viewer, "readings": person.Viewer, "values": person.Viewer, "value": person.Viewer,
	"settings": person.Viewer, "contact": person.Viewer, "settings-job": person.Viewer, "commands": person.Viewer, "command": person.Viewer,
	"query": person.Viewer, "statistics": person.Viewer, "forecast": person.Viewer, "export": person.Viewer,
	"models": person.Viewer, "model": person.Viewer, "model-page": person.Viewer, "model-source": person.Viewer,
	"model-examples": person.Viewer, "rules": person.Viewer, "rule": person.Viewer, "sites": person.Viewer,
	"site": person.Viewer, "site-plan": person.Viewer, "alarms": person.Viewer, "alarm-counts": person.Viewer,
	"traffic": person.Viewer, "journal": person.Viewer, "journal-after": person.Viewer, "journal-kinds": person.Viewer,
	"as-of": person.Viewer, "live": person.Viewer, "service": person.Viewer, "store": person.Viewer, "job": person.Viewer,
	"documents": person.Viewer, "document": person.Viewer, "schema": person.Viewer, "check-expression": person.Viewer,
	"explain-expression": person.Viewer, "expression-help": person.Viewer, "matching-devices": person.Viewer,

	"maintenances": person.Viewer, "maintenance": person.Viewer, "put-maintenance": person.Operator, "remove-maintenance": person.Operator,
	"layers": person.Viewer, "layer": person.Viewer, "layer-versions": person.Viewer, "layer-summaries": person.Viewer, "preview-layers": person.Viewer,
	"layer-status": person.Viewer, "layer-over-time": person.Viewer, "forbidden-values": person.Viewer, "explain-setting": person.Viewer, "put-layer": person.Engineer, "remove-layer": person.Engineer, "change-layers": person.Engineer,
	"causes": person.Viewer, "boards": person.Viewer, "board": person.Viewer, "made-board": person.Viewer, "board-lacks": person.Viewer, "put-board": person.Engineer, "remove-board": person.Engineer,
	"rollouts": person.Viewer, "rollout": person.Viewer, "preview-rollout": person.Viewer, "start-rollout": person.Engineer, "act-on-rollout": person.Operator,
	"responses": person.Viewer, "release-response": person.Operator, "switch-responses": person.Operator,
	"alarm": person.Viewer, "replay": person.Viewer, "suggest": person.Viewer, "alarm-performance": person.Viewer, "handover": person.Viewer, "rule-versions": person.Viewer, "rule-at-once": person.Engineer, "shelves": person.Viewer,
	"shelve-alarm": person.Operator, "unshelve-alarm": person.Operator, "reset-alarm": person.Operator, "comment-alarm": person.Operator, "act-on-alarms": person.Operator,
	"acknowledge-alarm": person.Operator, "give-command": person.Operator, "withdraw-command": person.Operator, "give-many": person.Operator, "command-jobs": person.Viewer, "command-job": person.Viewer, "withdraw-many": person.Operator,
	"invoke": person.Operator, "change-settings": person.Operator, "retry-settings": person.Operator, "change-many-settings": person.Operator,
	"set-value": person.Operator,

	"create-device": person.Engineer, "read-list": person.Engineer, "create-devices": person.Engineer, "change-device": person.Engineer, "place-device": person.Engineer, "unplace-device": person.Engineer, "label-device": person.Engineer,
	"set-status": person.Engineer, "new-credential": person.Engineer, "credentials": person.Engineer, "revoke-credential": person.Engineer, "delete-readings": person.Engineer,
	"load-model": person.Engineer, "preview-model": person.Engineer, "model-from-message": person.Engineer,
	"backfill-model": person.Engineer, "move-devices": person.Engineer, "put-rule": person.Engineer,
	"remove-rule": person.Engineer, "put-site": person.Engineer, "remove-site": person.Engineer,
	"put-site-plan": person.Engineer, "remove-site-plan": person.Engineer, "load-folder": person.Engineer,
	"import": person.Engineer, "stop-job": person.Engineer,
	"change-devices": person.Engineer, "device-changes": person.Engineer, "devices-changing": person.Engineer, "undo-devices": person.Engineer, "renew-devices": person.Engineer, "replace-hardware": person.Engineer, "send-as": person.Engineer,
	"join-keys": person.Engineer, "join-key": person.Engineer, "make-join-key": person.Engineer, "put-join-key": person.Engineer,
	"remove-join-key": person.Engineer, "revoke-join-key": person.Engineer, "join-labels": person.Engineer, "join-sheet": person.Engineer,
	"join-requests": person.Engineer, "join-request": person.Engineer, "decide-joins": person.Engineer,

	"people": person.Owner, "person": person.Owner, "put-person": person.Owner, "remove-person": person.Owner,
	"invite-person": person.Owner, "backup": person.Owner,
	"teams": person.Owner, "team": person.Owner, "put-team": person.Owner, "remove-team": person.Owner,
	"keys": person.Owner, "key": person.Owner, "make-key": person.Owner, "remove-key": person.Owner,
	"make-code": person.Owner, "let-screen-in": person.Owner, "put-key-page": person.Owner,
	"preview-access": person.Owner, "remove-second-factor": person.Owner,
}

// open operations need nobody signed in.
var open = map[string]bool{"sign-in": true, "sign-in-ways": true, "sign-on": true, "sign-on-return": true, "invitation": true, "activate": true,
	"ask-screen": true, "enter-screen": true}

// Needs returns the role that an operation needs; false if it is carried out for
// nobody. Open ones need the empty role.
func Needs(operation string) (person.Role, bool) {
	if open[operation] {
		return "", true
	}
	r, ok := needs[operation]
	return r, ok
}

// may refuses what somebody's role does not do.
func may(name string, has person.Role, operation, summary string) error {
	need, ok := needs[operation]
	switch {
	case !ok:
		return fault.New(fault.NotAllowed, "nobody may do this: it is not said which role it needs")
	case has.Does(need):
		return nil
	}
	e := fault.New(fault.NotAllowed, "%q needs the role %s; %s is %s", summary, need, name, has)
	return e.Then("%s", fmt.Sprintf("ask an owner for the role %s", need)).On("role")
}
