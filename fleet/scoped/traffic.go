package scoped

import (
	"context"
	"slices"
	"strings"

	"ullage/core/model"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/traffic"
)

// Traffic returns the latest raw messages, the newest first. What came from nobody
// known is shown to whoever sees all devices.
func (f *Fleet) Traffic(c access.Caller, where string, x traffic.Filter) ([]traffic.Entry, error) {
	if x.Among == nil {
		var err error
		if x.Among, _, err = f.Among(c, where); err != nil {
			return nil, err
		}
	}
	es := f.o.Traffic.Recent(x)
	if !c.MayAll(person.Viewer) {
		es = slices.DeleteFunc(es, func(e traffic.Entry) bool { return !c.Sees(e.Device) })
	}
	return es, nil
}

// PastTraffic is Traffic beyond what memory holds. Reached is the number to go on before,
// 0 for the end: a search that takes too long ends before it has found enough.
func (f *Fleet) PastTraffic(ctx context.Context, c access.Caller, where string, x traffic.Filter) (es []traffic.Entry, reached uint64, err error) {
	if x.Among, _, err = f.Among(c, where); err != nil {
		return nil, 0, err
	}
	return f.o.Traffic.Past(ctx, x)
}

// sends refuses what a device does not send, before anything of it is written down.
func (f *Fleet) sends(id, name string) error {
	if event, is := strings.CutPrefix(name, string(ingest.Event)); is {
		if d, err := f.o.Devices.Get(id); err == nil {
			if m, err := f.o.Models.Of(d.Model, d.Version); err == nil && slices.ContainsFunc(m.Events, func(e model.Event) bool { return e.Name == event }) {
				return nil
			}
		}
	}
	switch ingest.Kind(name) {
	case ingest.Readings, ingest.About, ingest.Applied, ingest.Reply, ingest.Log:
		return nil
	}
	return fault.New(fault.Invalid, "%q is nothing that %s sends", value.Clip(name, 60), id).Then("a device sends readings, about, applied, reply, log, and event/NAME for the events of its model")
}

// SendAs takes a message as if a device had sent it; the traffic and the journal tell
// who did.
func (f *Fleet) SendAs(ctx context.Context, c access.Caller, id, name, contentType string, body []byte, from string) (ingest.Outcome, error) {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return ingest.Outcome{}, err
	}
	if d, err := f.o.Devices.Get(id); err == nil && (d.Status == devices.Suspended || d.Status == devices.Retired) {
		return ingest.Outcome{}, fault.New(fault.Conflict, "%s is %s, and nothing of it is taken", id, d.Status).Then("let it in again first").On("device")
	}
	if err := f.sends(id, name); err != nil {
		return ingest.Outcome{}, err
	}
	if len(body) > ingest.MaxMessage {
		return ingest.Outcome{}, fault.New(fault.TooLarge, "the message has %d bytes; %d are taken at most", len(body), ingest.MaxMessage).Then("send it in parts")
	}
	result := make(chan ingest.Outcome, 1)
	f.o.Intake.Accept(ingest.Message{Device: id, Kind: ingest.Kind(name), Body: body, ContentType: contentType, Transport: "person", Remote: from, By: c.Name},
		func(o ingest.Outcome) { result <- o })
	o := <-result
	if o.Err != nil && o.Err.Code.Ours() {
		return o, o.Err
	}
	return o, f.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		tx.Tell(fact.New(f.o.Now(), fact.SentAs{Device: id, Name: value.Clip(name, 100), Kept: o.Kept}).Of(id).By(c.Name))
		return nil
	})
}

// Passed returns a channel that is closed when a message passes.
func (f *Fleet) Passed() <-chan struct{} { return f.o.Traffic.Changed() }
