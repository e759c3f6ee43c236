package app

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ullage/core/rule"
	"ullage/fleet/alarms"
	"ullage/fleet/ingest"
	"ullage/store"
)

// Watch says in the log, and by a built-in alarm, what in the data folder is
// damaged. It is asked at the start, and now and then since more may come up.
func (a *App) Watch(ctx context.Context) {
	for what, do := range map[string]func(context.Context) error{"how credentials are used": a.Devices.SaveUses, "which certificates end": a.Devices.WarnOfEnds} {
		if err := do(ctx); err != nil && ctx.Err() == nil {
			a.Log.Error("it could not be written down "+what, "error", err)
		}
	}
	if a.exported != nil {
		a.Alarms.Stand(a.keysAlarm())
	}
	a.watchService()
	a.Alarms.Stand(crowdAlarm(a.Intake.Crowded(a.Now().Add(-time.Hour))))
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

// crowdAlarm is about devices that send more and more metrics.
func crowdAlarm(devices []string) alarms.Condition {
	c := alarms.Condition{Rule: alarms.TooManyMetrics, Of: "metrics", Holds: len(devices) > 0, Priority: rule.Medium,
		Cause:    "Firmware that makes up names, such as one with a time in it, or a model that takes additional telemetry without need",
		Response: "Read the refusals on its traffic; name what it sends in the model, or correct the firmware",
		Calm:     "no device has wanted more for an hour"}
	switch n := len(devices); n {
	case 0:
	case 1:
		c.Message = fmt.Sprintf("%s sends more than %d metrics that its model does not name; the rest is refused",
			devices[0], ingest.MaxAdditional)
	default:
		c.Message = fmt.Sprintf("%d devices, %s among them, send more than %d metrics each that their models do not name; the rest is refused",
			n, devices[0], ingest.MaxAdditional)
	}
	return c
}

// keysAlarm is about keys of which there is no copy, once something hangs on them: a
// certificate of a device, or a join key.
func (a *App) keysAlarm() alarms.Condition {
	needed := a.Devices.Certificates() > 0 || len(a.Joining.Keys()) > 0
	return alarms.Condition{Rule: alarms.KeysNotExported, Of: "keys", Holds: needed && a.exported().IsZero(), Priority: rule.Low,
		Message:  "there is no copy of the keys with which certificates and join keys are made; no backup holds them",
		Cause:    "The folder pki of the data holds the only copy, and devices have certificates or join keys that come from it",
		Response: "Export the keys on the machine of the service, with ullage authority export, and put the file and its passphrase in two safe places",
		Calm:     "the keys were exported"}
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
