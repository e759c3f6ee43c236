package ingest

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// MaxAdditional is how many metrics that its model does not name one device may
// have, where the model takes such. Each is a series that is kept for good.
const MaxAdditional = 200

// eventsAnHour is how many events of its model one device may tell of: each is an
// entry of the journal.
const eventsAnHour = 600

// bounds hold what one device may make of things that are kept one by one.
type bounds struct {
	mu     sync.Mutex
	names  map[string]map[string]bool // additional metrics by device, of those that have some
	full   map[string]time.Time       // devices that wanted more, and when last
	events map[string]*rate.Limiter
}

// additional refuses readings of additional metrics beyond those that a device
// may have. stored tells which ones it has already.
func (b *bounds) additional(device string, m *model.Model, c *model.Checked, now time.Time, stored func() []string) {
	if !m.Additional {
		return
	}
	extra := func(metric string) bool { _, named := m.Property(metric); return !named }
	if !slices.ContainsFunc(c.Readings, func(r value.Reading) bool { return extra(r.Metric) }) {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.names == nil {
		b.names, b.full = map[string]map[string]bool{}, map[string]time.Time{}
	}
	has := b.names[device]
	if has == nil {
		has = map[string]bool{}
		for _, name := range stored() {
			if extra(name) {
				has[name] = true
			}
		}
		b.names[device] = has
	}
	told := map[string]bool{}
	c.Readings = slices.DeleteFunc(c.Readings, func(r value.Reading) bool {
		if !extra(r.Metric) || has[r.Metric] {
			return false
		}
		if len(has) < MaxAdditional {
			has[strings.Clone(r.Metric)] = true
			return false
		}
		if !told[r.Metric] {
			told[r.Metric] = true
			c.Refused = append(c.Refused, model.Finding{Pointer: "/" + r.Metric, Sentence: fmt.Sprintf(
				"%s is not in %s, and %s has %d metrics already that are not, which are the most; name it in the model",
				value.Clip(r.Metric, 40), m, device, MaxAdditional)})
		}
		return true
	})
	if len(told) > 0 {
		b.full[device] = now
	}
}

// event counts an event, and refuses it if there were too many.
func (b *bounds) event(device string, now time.Time) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.events == nil {
		b.events = map[string]*rate.Limiter{}
	}
	l := b.events[device]
	if l == nil {
		l = rate.NewLimiter(rate.Limit(eventsAnHour)/3600, eventsAnHour)
		b.events[device] = l
	}
	if !l.AllowN(now, 1) {
		return fault.New(fault.TooMany, "%s has told of %d events within an hour, which are the most", device, eventsAnHour).
			Then("send what comes often as telemetry")
	}
	return nil
}

// Crowded lists the devices that wanted more additional metrics than they may
// have since a time.
func (d *Intake) Crowded(since time.Time) []string {
	d.bounds.mu.Lock()
	defer d.bounds.mu.Unlock()
	maps.DeleteFunc(d.bounds.full, func(_ string, at time.Time) bool { return at.Before(since) })
	return slices.Sorted(maps.Keys(d.bounds.full))
}

// Additional takes out of readings of an import what is beyond MaxAdditional.
func (d *Intake) Additional(dev devices.Device, m *model.Model, c *model.Checked) {
	d.bounds.additional(dev.ID, m, c, d.o.Now(), func() []string { return d.o.Store.Metrics(dev.ID) })
}
