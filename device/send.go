package device

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"time"
)

// MaxMessage is the largest message that the service takes, in bytes.
const MaxMessage = 256 << 10

const stamp = "2006-01-02T15:04:05.000Z07:00"

// Send keeps one reading of any number of metrics and has it sent. The time is
// now if it is zero. It returns when the reading is in the spool; it fails for
// what the service could never take.
func (d *Device) Send(at time.Time, values map[string]any) error {
	if len(values) == 0 {
		return fmt.Errorf("a reading of %s has no values", d.o.ID)
	}
	for _, name := range []string{"at", "every"} {
		if _, taken := values[name]; taken {
			return fmt.Errorf("no metric can be called %q; it is a word of the message itself", name)
		}
	}
	if at.IsZero() {
		at = d.o.Now()
	}
	body, err := json.Marshal(values)
	if err != nil {
		return fmt.Errorf("a reading of %s cannot be written as JSON: %w", d.o.ID, err)
	}
	body = append([]byte(`{"at":"`+at.UTC().Format(stamp)+`",`), body[1:]...)
	return d.keep(entry{Name: "readings", Body: body, Values: len(values)})
}

var eventName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// Event keeps an event of the model and has it sent.
func (d *Device) Event(name string, data any) error {
	if !eventName.MatchString(name) {
		return fmt.Errorf("%q is no name of an event; use small letters, digits and underscores", name)
	}
	body, err := json.Marshal(data)
	if err != nil {
		return fmt.Errorf("the event %s cannot be written as JSON: %w", name, err)
	}
	return d.keep(entry{Name: "event/" + name, Body: body})
}

func (d *Device) keep(e entry) error {
	if len(e.Body) > MaxMessage {
		return fmt.Errorf("%s of %s has %d bytes; %d are taken at most", e.Name, d.o.ID, len(e.Body), MaxMessage)
	}
	return d.spool.add(e)
}

// Log keeps a line of the device's log, and has it sent. A level is "debug", "info", "warn" or
// "error".
func (d *Device) Log(level, text string) error {
	body, err := json.Marshal(map[string]string{"at": d.o.Now().UTC().Format(stamp), "level": level, "text": text})
	if err != nil {
		return fmt.Errorf("a line of the log of %s cannot be written as JSON: %w", d.o.ID, err)
	}
	return d.keep(entry{Name: "log", Body: body})
}

// Flush waits until the service has everything that was sent before, or ctx
// ends.
func (d *Device) Flush(ctx context.Context) error {
	for {
		news := d.spool.changed()
		if _, n := d.spool.head(); n == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-news:
		}
	}
}

// Waiting returns how many messages are in the spool, and their bytes.
func (d *Device) Waiting() (messages int, bytes int64) { return d.spool.size() }

// Lost returns how many messages were thrown away because the spool was full.
func (d *Device) Lost() int { return d.spool.lostSoFar() }
