package sim

import (
	"math"
	"time"

	"ullage/core/model"
)

// takes is how long a unit needs for a command.
func (d *device) takes(name string) time.Duration {
	if name == "exercise" {
		return 2 * time.Second
	}
	return 300 * time.Millisecond
}

// commanded reports whether the unit has commands to ask for over HTTP.
func (d *device) commanded() bool {
	if d.Of != nil {
		return len(d.Of.Actions) > 0
	}
	return d.Writable
}

// does performs a command: what comes of it, or why it could not be done.
func (d *device) does(name string, input map[string]any) (output any, why string) {
	if d.Of != nil {
		return example(d.Of, name), ""
	}
	switch name {
	case "zero_level":
		if d.ID == "tank-coldharbour-02" {
			return nil, "the echo is lost in foam; zero it when the must is still"
		}
		at, _ := input["reference_cm"].(float64)
		measured, _ := d.world.Sample(d.Unit, time.Now(), d.settings())["ullage"].(float64)
		return map[string]any{"offset_cm": math.Round((at-measured)*10) / 10}, ""
	case "pull_log":
		n, _ := input["lines"].(float64)
		lines := []string{}
		for i := range int(min(max(n, 1), 5)) {
			at := time.Now().Add(time.Duration(i-5) * time.Minute).UTC()
			lines = append(lines, at.Format("15:04:05")+" forwarded what had come from behind it")
		}
		return map[string]any{"lines": lines}, ""
	}
	return nil, ""
}

func example(m *model.Model, name string) any {
	if a, ok := m.Action(name); ok {
		return a.Output.Example()
	}
	return nil
}

// muted reports whether somebody presses the button of the monitor now: the one
// that chatters around its limit, every five minutes.
func (d *device) muted(now time.Time) bool {
	if d.ID != "air-alder-bank-1" || now.Before(d.world.Start.Add(20*time.Second)) || now.Sub(d.mutedAt) < 5*time.Minute {
		return false
	}
	d.mutedAt = now
	return true
}
