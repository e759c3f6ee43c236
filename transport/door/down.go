package door

import (
	"encoding/json"
	"fmt"
	"time"

	"ullage/fleet/commands"
	"ullage/fleet/traffic"
)

// Intended returns the settings document of the device and its revision.
func (v *Device) Intended() (body []byte, revision int64, err error) {
	doc, err := v.door.o.Settings.Document(v.ID)
	if err != nil {
		return nil, 0, err
	}
	if body, err = json.Marshal(doc); err != nil {
		return nil, 0, fmt.Errorf("writing the settings of %s: %w", v.ID, err)
	}
	return body, doc.Revision, nil
}

// IntendedChanged returns a channel that is closed when the revision is another
// one.
func (v *Device) IntendedChanged(revision int64) <-chan struct{} {
	return v.door.o.Settings.Changed(v.ID, revision)
}

// Waiting returns the commands that wait for a reply, the oldest first.
func (v *Device) Waiting() []commands.Command { return v.door.o.Commands.Waiting(v.ID) }

// Due returns the commands that are to be handed over now by a transport that is
// asked for them, and when the next one is.
func (v *Device) Due() (due []commands.Command, next time.Time) { return v.door.o.Commands.Due(v.ID) }

// CommandsChanged returns a channel that is closed when there is a new command.
func (v *Device) CommandsChanged() <-chan struct{} { return v.door.o.Commands.Changed(v.ID) }

// HandOver returns a command as the device is given it, and notes that it was.
// It is false if nobody waits for a reply to it any more.
func (v *Device) HandOver(id string) (commands.Message, bool) {
	return v.door.o.Commands.HandOver(v.ID, id)
}

// Time returns what a device without a clock is told.
func (d *Door) Time() []byte {
	return []byte(`{"now":"` + d.o.Now().UTC().Format("2006-01-02T15:04:05.000Z07:00") + `"}`)
}

// Sent writes a message to the device into the traffic; reason says why it could
// not be sent, and is empty if it was.
func (v *Device) Sent(topic string, body []byte, reason string) {
	v.door.o.Traffic.Add(traffic.Entry{At: v.door.o.Now(), Device: v.ID, Direction: traffic.Down,
		Transport: v.Transport, Remote: v.Remote, Topic: topic, Body: string(body), Reason: reason})
}
