package app

import (
	"context"
	"fmt"
	"strings"

	"ullage/core/rule"
	"ullage/fleet/alarms"
	"ullage/store"
)

// watch says in the log, and by a built-in alarm, what in the data folder is
// damaged. It is asked at the start, and now and then since more may come up.
func (a *App) watch(ctx context.Context) {
	found, err := a.Store.Damage(ctx)
	if err != nil {
		if ctx.Err() == nil {
			a.Log.Error("the data folder could not be looked through", "error", err)
		}
		return
	}
	for _, d := range found[min(a.damage, len(found)):] {
		a.Log.Error("something in the data folder is damaged; the service goes on without it", "file", d.File,
			"place", d.Place, "what", d.Sentence)
	}
	a.damage = len(found)
	a.Alarms.Stand(damageAlarm(found))
}

func damageAlarm(found []store.Damage) alarms.Condition {
	c := alarms.Condition{Rule: alarms.DataDamaged, Of: "data folder", Holds: len(found) > 0, Priority: rule.High,
		Cause:    "The disk, or something that writes to it beside the service, has changed what was stored",
		Response: "See what is missing on the Service page; put a backup in place, or take the damaged parts out while the service is stopped",
		Calm:     "everything in the data folder can be read"}
	if len(found) == 0 {
		return c
	}
	readings := int64(0)
	for _, d := range found {
		readings += d.Readings
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s in the data folder cannot be read", found[0].Place)
	if n := len(found) - 1; n > 0 {
		fmt.Fprintf(&b, ", and %d more", n)
	}
	if readings > 0 {
		fmt.Fprintf(&b, "; up to %d readings are missing", readings)
	}
	c.Message = b.String()
	return c
}
