package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// receive takes a message of the service by its name below the device's topics.
// It does not block.
func (d *Device) receive(ctx context.Context, name string, body []byte) {
	command, isCommand := strings.CutPrefix(name, "command/")
	switch {
	case name == "intended" && d.o.Obey != nil:
		var in Intended
		if err := json.Unmarshal(body, &in); err != nil {
			d.log.Warn("the settings were not readable", "error", err)
			return
		}
		d.mu.Lock()
		d.newest = &in
		begin := !d.obeying
		d.obeying = true
		d.mu.Unlock()
		if begin {
			d.begin(func() { d.obey(ctx) })
		}
	case isCommand:
		d.begin(func() { d.perform(ctx, command, body) })
	case name == "problem":
		var p Problem
		if json.Unmarshal(body, &p) == nil {
			d.problem(p)
		}
	}
}

// begin runs f beside everything else, unless Run is at its end.
func (d *Device) begin(f func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.over {
		d.handlers.Go(f)
	}
}

func (d *Device) problem(p Problem) {
	if d.o.Problem != nil {
		d.o.Problem(p)
		return
	}
	d.log.Warn("the service refused something", "code", p.Code, "detail", p.Detail)
}

// obey applies the newest settings until there are no newer ones.
func (d *Device) obey(ctx context.Context) {
	for {
		d.mu.Lock()
		in := d.newest
		d.newest = nil
		if in == nil {
			d.obeying = false
			d.mu.Unlock()
			return
		}
		d.mu.Unlock()
		got := d.o.Obey(ctx, *in)
		said := map[string]any{"revision": in.Revision, "applied": got.Settings}
		if got.Settings == nil {
			said["applied"] = map[string]any{}
		}
		if len(got.Refused) > 0 {
			said["refused"] = got.Refused
		}
		body, err := json.Marshal(said)
		if err == nil {
			err = d.keep(entry{Name: "applied", Body: body})
		}
		if err != nil {
			d.log.Error("the applied settings cannot be told", "error", err)
		}
	}
}

// perform performs a command once, and replies each time that it comes.
func (d *Device) perform(ctx context.Context, name string, body []byte) {
	var c struct {
		ID    string          `json:"id"`
		Input json.RawMessage `json:"input"`
	}
	if err := json.Unmarshal(body, &c); err != nil || c.ID == "" {
		d.log.Warn("a command was not readable", "command", name)
		return
	}
	d.mu.Lock()
	reply, known := d.replies[c.ID]
	if !known {
		d.replies[c.ID] = nil
		d.recent = append(d.recent, c.ID)
		if len(d.recent) > remembered {
			delete(d.replies, d.recent[0])
			d.recent = d.recent[1:]
		}
	}
	d.mu.Unlock()
	if known && reply == nil {
		return // it is being performed
	}
	if !known {
		var ok bool
		if reply, ok = d.act(ctx, name, c.ID, c.Input); !ok {
			d.mu.Lock()
			delete(d.replies, c.ID)
			d.mu.Unlock()
			return
		}
		d.mu.Lock()
		if _, still := d.replies[c.ID]; still {
			d.replies[c.ID] = reply
		}
		d.mu.Unlock()
	}
	if err := d.keep(entry{Name: "reply", Body: reply}); err != nil {
		d.log.Error("a reply cannot be told", "error", err)
	}
}

// act performs a command; ok is false if it is to come again.
func (d *Device) act(ctx context.Context, name, id string, input json.RawMessage) (reply []byte, ok bool) {
	select {
	case d.slots <- struct{}{}:
		defer func() { <-d.slots }()
	case <-ctx.Done():
		return nil, false
	}
	said := map[string]any{"id": id}
	action := d.o.Commands[name]
	if action == nil {
		said["error"] = fmt.Sprintf("this device has no command %q", name)
	} else {
		output, err := action(ctx, input)
		switch {
		case errors.Is(err, ErrNoReply) || ctx.Err() != nil:
			return nil, false
		case err != nil:
			said["error"] = err.Error()
		case output != nil:
			said["output"] = output
		}
	}
	reply, err := json.Marshal(said)
	if err != nil {
		reply, _ = json.Marshal(map[string]any{"id": id, "error": "the output cannot be written as JSON"})
	}
	return reply, true
}

// topics are what the device has to hear of, below its own prefix.
func (d *Device) topics() []string {
	out := []string{"problem"}
	if d.o.Obey != nil {
		out = append(out, "intended")
	}
	if len(d.o.Commands) > 0 {
		out = append(out, "command/+")
	}
	return out
}
