package door

import (
	"fmt"
	"strings"

	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/transport/problem"
)

// Message is what a device sent.
type Message struct {
	// Name is what it is, as docs/devices.md names it: readings, about, applied,
	// reply, event/NAME.
	Name        string
	Body        []byte
	ContentType string // as the transport gave it; may be empty
	// Dup says the transport marks it as a redelivery; PacketID is then that of
	// the first delivery. Both are zero where the transport has no such thing.
	Dup      bool
	PacketID uint16
}

// Verdict is what a device is told about its message, once it is durable on
// disk or will not be.
type Verdict struct {
	ingest.Outcome
	// Problem says what was refused, whole or in part; nil if nothing was.
	Problem *problem.Details
	// Again says that the failure is the service's: the device must keep its copy
	// and send it again.
	Again bool
}

// Reason is the sentence of the problem; empty if there is none.
func (v Verdict) Reason() string {
	if v.Problem == nil {
		return ""
	}
	return v.Problem.Detail
}

// Take takes a message and calls done exactly once: before it returns if nothing
// needs to be stored, else from the store's writer after the commit; done must
// be quick. Messages of one device are stored in the order of these calls,
// whichever sessions and transports they come through.
func (v *Device) Take(m Message, done func(Verdict)) {
	if err := v.refuses(m); err != nil {
		done(v.Refuse(value.Clip(m.Name, 100), err))
		return
	}
	v.use()
	v.door.o.Intake.Hold(ingest.Kind(m.Name))
	v.lane.order.Lock()
	defer v.lane.order.Unlock()
	v.door.o.Intake.Accept(ingest.Message{Device: v.ID, Kind: ingest.Kind(m.Name), Body: m.Body,
		ContentType: mediaType(m.ContentType), Transport: v.Transport, Remote: v.Remote, Dup: m.Dup, PacketID: m.PacketID}, func(o ingest.Outcome) {
		done(judge(o))
	})
}

// Refuse refuses a message unread, as its transport asks.
func (v *Device) Refuse(topic string, why *fault.Error) Verdict {
	return judge(v.door.o.Intake.Refuse(ingest.Message{Device: v.ID, Kind: ingest.Kind(topic), Transport: v.Transport, Remote: v.Remote}, why))
}

// refuses judges what is the door's to judge.
func (v *Device) refuses(m Message) *fault.Error {
	if n := len(m.Body); n > v.door.o.Limits.Message {
		return v.door.TooLarge(int64(n))
	}
	rest, behind := strings.CutPrefix(m.Name, "for/")
	if !behind {
		return nil
	}
	id, _, _ := strings.Cut(rest, "/")
	return v.speaksFor(id)
}

// speaksFor judges a message that a device sends for another one behind it.
func (v *Device) speaksFor(id string) *fault.Error {
	d, err := v.door.o.Devices.Get(id)
	switch {
	case err != nil:
		return fault.New(fault.NotAllowed, "%s cannot speak for %q: there is no such device", v.ID,
			value.Clip(id, 100)).Then("onboard it, and name %s as its hub", v.ID)
	case d.Hub == "":
		return fault.New(fault.NotAllowed, "%s cannot speak for %s, which names no hub", v.ID, d.ID).
			Then("name %s as its hub", v.ID)
	case d.Hub != v.ID:
		return fault.New(fault.NotAllowed, "%s cannot speak for %s, whose hub is another device", v.ID, d.ID)
	}
	return fault.New(fault.NotAllowed, "%s is the hub of %s; what a hub says for a device behind it is not taken yet",
		v.ID, d.ID).
		Then("let the device send by itself until then")
}

// mediaType is a content type without its parameters.
func mediaType(s string) string {
	s, _, _ = strings.Cut(s, ";")
	return strings.ToLower(strings.TrimSpace(s))
}

// judge maps what became of a message to what a device is told, once for all
// transports.
func judge(o ingest.Outcome) Verdict {
	v := Verdict{Outcome: o}
	switch {
	case o.Err != nil:
		v.Problem, v.Again = problem.Of(o.Err), o.Err.Code.Ours()
	case len(o.Refused) > 0 && o.Kept == 0:
		v.Problem = problem.Of(&fault.Error{Code: fault.Invalid, Sentence: o.Refused[0].Sentence + "; nothing was kept",
			Findings: o.Refused})
	case len(o.Refused) > 0:
		rest := "the other field was kept"
		if o.Kept > 1 {
			rest = fmt.Sprintf("the other %d fields were kept", o.Kept)
		}
		v.Problem = problem.Of(&fault.Error{Code: fault.Invalid, Sentence: o.Refused[0].Sentence + "; " + rest,
			Findings: o.Refused})
	}
	return v
}
