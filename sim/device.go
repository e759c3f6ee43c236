package sim

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"sync"
	"time"

	"ullage/device"
)

// player plays one unit: it speaks with the service through the device library,
// as the firmware of the unit would.
type player struct {
	Unit
	world  World
	log    *slog.Logger
	dev    *device.Device
	server string

	mu      sync.Mutex
	applied map[string]any
	changed chan struct{} // a setting has changed
	mutedAt time.Time     // the loop's alone
}

func newPlayer(u Unit, w World, c Credentials, log *slog.Logger) (*player, error) {
	p := &player{Unit: u, world: w, log: log.With("device", u.ID), applied: map[string]any{},
		changed: make(chan struct{}, 1)}
	switch u.Protocol {
	case MQTT5:
		p.server = "mqtt://" + c.MQTT
	case MQTT3:
		p.server = "mqtt3://" + c.MQTT
	default:
		p.server = "http://" + c.HTTP
	}
	o := device.Options{Server: p.server, ID: u.ID, Token: c.Tokens[u.ID], Log: log, About: p.attributes,
		Commands: p.commands()}
	if u.Writable {
		o.Obey = p.obey
	}
	var err error
	p.dev, err = device.New(o)
	return p, err
}

func (p *player) attributes() map[string]any {
	if p.Of != nil {
		return p.world.attributes(p.Unit)
	}
	return map[string]any{"serial": fmt.Sprintf("TH-%06d", int(500000*(1+p.world.noise(p.ID, "serial", 0)))),
		"hw_rev": p.HwRev, "firmware": p.Firmware}
}

// obey applies a settings document, but for what the unit refuses.
func (p *player) obey(_ context.Context, in device.Intended) device.Applied {
	out := device.Applied{Refused: map[string]string{}}
	p.mu.Lock()
	for name, v := range in.Settings {
		reason, instead := p.Refuses(name, v)
		if reason != "" {
			out.Refused[name], v = reason, instead
			p.note("warn", fmt.Sprintf("cfg: %s=%v refused, %s", name, in.Settings[name], reason))
		}
		p.applied[name] = v
	}
	out.Settings = maps.Clone(p.applied)
	p.mu.Unlock()
	p.note("info", fmt.Sprintf("cfg: revision %d, %d of %d settings applied", in.Revision, len(in.Settings)-len(out.Refused), len(in.Settings)))
	select {
	case p.changed <- struct{}{}:
	default:
	}
	return out
}

// commands are what the unit can do.
func (p *player) commands() map[string]device.Action {
	var names []string
	switch {
	case p.Of != nil:
		for _, a := range p.Of.Actions {
			names = append(names, a.Name)
		}
	case p.Writable:
		names = actions[p.Model]
	}
	out := map[string]device.Action{}
	for _, name := range names {
		out[name] = func(ctx context.Context, input json.RawMessage) (any, error) {
			var in map[string]any
			if len(input) > 0 {
				if err := json.Unmarshal(input, &in); err != nil {
					return nil, fmt.Errorf("the input cannot be read")
				}
			}
			p.note("info", "cmd: "+name+" begins")
			pause(ctx, takes(name))
			output, why := p.does(name, in)
			if why != "" {
				p.note("error", "cmd: "+name+" failed, "+why)
				return nil, fmt.Errorf("%s", why)
			}
			p.note("info", "cmd: "+name+" done")
			return output, nil
		}
	}
	return out
}

// note writes a line into the log of the unit, as firmware does. What cannot be kept is not
// missed.
func (p *player) note(level, text string) { _ = p.dev.Log(level, text) }

func (p *player) settings() map[string]any {
	p.mu.Lock()
	defer p.mu.Unlock()
	return maps.Clone(p.applied)
}

// period is how often the unit reports now.
func (p *player) period() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.Of != nil {
		if name, unit := paced(p.Of); name != "" {
			if f, ok := p.applied[name].(float64); ok && f > 0 {
				return max(time.Duration(f*float64(unit)), time.Second)
			}
		}
		return p.Every
	}
	if f, ok := p.applied["report_every"].(float64); ok && f >= 1 {
		return time.Duration(f * float64(time.Second))
	}
	return p.Every
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
