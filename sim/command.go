package sim

import (
	"math"
	"time"

	"ullage/core/model"
)

// actions are the commands of the story's models.
var actions = map[string][]string{
	"tank-probe": {"identify", "zero_level"}, "cellar-air": {"test_buzzer"}, "jacket-valve": {"exercise"},
	"press-scale": {"tare"}, "cellar-hub": {"restart_service", "pull_log"},
}

// Commands returns the commands that units of a model of the story perform.
func Commands(model string) []string { return actions[model] }

// takes is how long a unit needs for a command.
func takes(name string) time.Duration {
	if name == "exercise" {
		return 2 * time.Second
	}
	return 300 * time.Millisecond
}

// does performs a command: what comes of it, or why it could not be done.
func (p *player) does(name string, input map[string]any) (output any, why string) {
	if p.Of != nil {
		return example(p.Of, name), ""
	}
	switch name {
	case "zero_level":
		if p.ID == "tank-coldharbour-02" {
			return nil, "the echo is lost in foam; zero it when the must is still"
		}
		at, _ := input["reference_cm"].(float64)
		measured, _ := p.world.Sample(p.Unit, time.Now(), p.settings())["ullage"].(float64)
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
func (p *player) muted(now time.Time) bool {
	if p.ID != "air-alder-bank-1" || now.Before(p.world.Start.Add(20*time.Second)) ||
		now.Sub(p.mutedAt) < 5*time.Minute {
		return false
	}
	p.mutedAt = now
	return true
}
