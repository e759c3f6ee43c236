package app_test

import (
	"strings"
	"testing"
	"time"

	"ullage/core/join"
	"ullage/fleet/access"
	"ullage/fleet/alarms"
	"ullage/test/rig"
)

// Keys on which something hangs, and of which there is no copy, are asked for until there
// is one.
func TestKeysAreAskedFor(t *testing.T) {
	exported := time.Time{}
	o := rig.Joinable(t)
	o.Exported = func() time.Time { return exported }
	r := rig.NewWith(t, o)
	watched := func() []alarms.Alarm {
		t.Helper()
		r.Watch(t.Context())
		r.Settle()
		return open(r, alarms.KeysNotExported)
	}
	if as := watched(); len(as) != 0 {
		t.Errorf("with nothing that hangs on them: %+v", as)
	}
	until := r.Clock.Now().Add(time.Hour)
	_, _, err := r.Fleet.MakeJoinKey(t.Context(), access.Whole("engineer"), join.Key{Name: "pallet", Model: "tank-probe", Cap: 1, ExpiresAt: &until})
	r.Must(err)
	for range 2 {
		if as := watched(); len(as) != 1 || !strings.Contains(as[0].Message, "no copy of the keys") {
			t.Errorf("the alarms are %+v, want one about the keys", as)
		}
	}
	exported = r.Clock.Now()
	watched()
	for _, a := range open(r, alarms.KeysNotExported) {
		if a.State.Holds() {
			t.Errorf("once exported stands %+v", a)
		}
	}
}
