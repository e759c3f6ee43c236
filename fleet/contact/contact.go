// Package contact tells how far a device has got on its way in, step by step, and why
// it is not in, or not well: from its credentials, its latest messages and what it has
// confirmed. It only reads.
package contact

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ullage/core/health"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/present"
	"ullage/fleet/settings"
	"ullage/fleet/traffic"
)

// State is how far a step is.
type State string

// The states of a step.
const (
	Done    State = "done"
	Failed  State = "failed"
	Waiting State = "waiting"
)

// Step is one step of the way of a device: reached us, encrypted, known, first
// message, first valid reading, settings confirmed.
type Step struct {
	Name  string
	State State
	At    time.Time // zero while it waits
	Says  string    // what was seen, or why it stops there
	Next  string    // what to do; empty where there is nothing
}

// Finding is something that is not as it should be, with what to do.
type Finding struct {
	About string // credential, clock, address, refusal, model, setting, link, status
	Says  string
	Next  string
}

// Facts is what the way of a device is told from.
type Facts struct {
	Device      *present.Device
	Model       *model.Model // nil where it cannot be read
	Credentials []devices.Credential
	Uses        []devices.Use // of those that work
	Settings    settings.State
	// Messages are the latest of the device, and Strangers the latest of nobody known,
	// each the newest first.
	Messages, Strangers []traffic.Entry
	Now                 time.Time
}

// The names of the steps, in their order.
const (
	Reached   = "reached us"
	Encrypted = "encrypted"
	Known     = "known"
	Message   = "first message"
	Reading   = "first valid reading"
	Confirmed = "settings confirmed"
)

// since is when the way began that is told: with the newest credential.
func (f *Facts) since() time.Time {
	if len(f.Credentials) > 0 {
		return f.Credentials[0].CreatedAt
	}
	return f.Device.JoinedAt
}

// Steps tells the way of a device since it was given its newest credential.
func Steps(f Facts) []Step {
	var ups []traffic.Entry // the oldest first
	for _, e := range slices.Backward(f.Messages) {
		if e.Direction == traffic.Up && !e.At.Before(f.since()) {
			ups = append(ups, e)
		}
	}
	steps := []Step{{Name: Reached, State: Waiting}, {Name: Encrypted, State: Waiting}, {Name: Known, State: Waiting},
		{Name: Message, State: Waiting}, {Name: Reading, State: Waiting}, {Name: Confirmed, State: Waiting}}
	reached, encrypted, known, message, reading, confirmed := &steps[0], &steps[1], &steps[2], &steps[3], &steps[4], &steps[5]
	if len(ups) == 0 {
		reached.Says, reached.Next = nothingYet(f)
		settingsStep(confirmed, f)
		return steps
	}
	first := ups[0]
	*reached = Step{Reached, Done, first.At, fmt.Sprintf("from %s, over %s", first.Remote, protocol(first)), ""}
	*encrypted = Step{Encrypted, Done, first.At, "not: it came without TLS, which only this machine's own addresses take", ""}
	if x, ok := find(ups, func(e traffic.Entry) bool { return e.TLS != "" }); ok {
		encrypted.At, encrypted.Says = x.At, x.TLS+", it trusts this service's certificate"
	}
	in, let := find(ups, func(e traffic.Entry) bool { return e.Topic != "connect" || e.Reason == "" })
	if !let {
		last := ups[len(ups)-1]
		*known = Step{Known, Failed, last.At, last.Reason, ""}
		if n := count(ups, func(e traffic.Entry) bool { return e.Reason != "" }); n > 1 {
			known.Says += fmt.Sprintf(" (%d times)", n)
		}
		settingsStep(confirmed, f)
		return steps
	}
	*known = Step{Known, Done, in.At, credentialWords(f), ""}
	sent, has := find(ups, func(e traffic.Entry) bool { return e.Topic != "connect" })
	if !has {
		message.Says, message.Next = "connected, and has sent nothing", fmt.Sprintf("let it publish to ullage/%s/readings", f.Device.ID)
		settingsStep(confirmed, f)
		return steps
	}
	*message = Step{Message, Done, sent.At, fmt.Sprintf("%s, %d bytes", sent.Topic, sent.Size), ""}
	kept, valid := find(ups, func(e traffic.Entry) bool { return e.Topic == "readings" && e.Kept > 0 && len(e.Refused) == 0 })
	partly, some := find(ups, func(e traffic.Entry) bool { return e.Topic == "readings" && (len(e.Refused) > 0 || e.Reason != "") })
	switch {
	case valid:
		*reading = Step{Reading, Done, kept.At, fmt.Sprintf("%d kept", kept.Kept), ""}
	case some:
		// The newest: firmware is changed while somebody watches.
		for _, e := range ups {
			if e.Topic == "readings" && e.Refusal() {
				partly = e
			}
		}
		*reading = Step{Reading, Failed, partly.At, refusal(partly), "correct the message; it came as " + value.Clip(partly.Body, 120)}
		if partly.Kept > 0 {
			reading.Says += fmt.Sprintf("; of the rest %d were kept", partly.Kept)
		}
	default:
		reading.Says = "none has come"
		reading.Next = fmt.Sprintf("let it publish to ullage/%s/readings", f.Device.ID)
	}
	settingsStep(confirmed, f)
	return steps
}

func settingsStep(s *Step, f Facts) {
	if f.Model != nil && len(f.Model.Defaults(false)) == 0 && len(f.Settings.Intended) == 0 {
		*s = Step{Confirmed, Done, time.Time{}, "its model has none that it obeys", ""}
		return
	}
	switch x := f.Settings; {
	case len(x.Refused) > 0 && x.Confirmed():
		var words []string
		for name, why := range x.Refused {
			words = append(words, fmt.Sprintf("%s: %s", name, value.Clip(why, 80)))
		}
		slices.Sort(words)
		*s = Step{Confirmed, Failed, x.AppliedAt, "it refused " + strings.Join(words, "; "), "set another value, or take the setting off it"}
	case x.Confirmed() && x.AppliedRevision != 0:
		*s = Step{Confirmed, Done, x.AppliedAt, fmt.Sprintf("revision %d", x.AppliedRevision), ""}
	default:
		s.Says = fmt.Sprintf("revision %d has no answer yet", x.Revision)
		s.Next = fmt.Sprintf("let it subscribe to ullage/%s/intended, and answer on applied", f.Device.ID)
		if f.Device.Hub != "" {
			s.Next = "its hub " + f.Device.Hub + " takes them for it"
		}
	}
}

func protocol(e traffic.Entry) string {
	name := strings.ToUpper(e.Transport)
	if e.TLS != "" {
		return name + " and TLS"
	}
	return name
}

func find(es []traffic.Entry, is func(traffic.Entry) bool) (traffic.Entry, bool) {
	if i := slices.IndexFunc(es, is); i >= 0 {
		return es[i], true
	}
	return traffic.Entry{}, false
}

func count(es []traffic.Entry, is func(traffic.Entry) bool) (n int) {
	for _, e := range es {
		if is(e) {
			n++
		}
	}
	return n
}

// refusal tells why a message, or part of it, was refused.
func refusal(e traffic.Entry) string {
	if e.Reason != "" {
		return e.Reason
	}
	x := e.Refused[0]
	says := x.Sentence
	if name := x.Pointer[strings.LastIndex(x.Pointer, "/")+1:]; !strings.Contains(says, name) {
		says = x.Pointer + ": " + says
	}
	if n := len(e.Refused) - 1; n > 0 {
		says += fmt.Sprintf(" (and %d more)", n)
	}
	return says
}

// nothingYet says what may be the cause where nothing came of a device. A client that
// gives up in the TLS handshake never says who it is; whoever did lately may be it.
func nothingYet(f Facts) (says, next string) {
	says, next = "nothing has come from it", "see that it has power, an address, and this service's name"
	for _, e := range f.Strangers {
		if e.Topic == "handshake" && e.Reason != "" && !e.At.Before(f.since()) && f.Now.Sub(e.At) < time.Hour {
			return fmt.Sprintf("nothing has come from it; somebody at %s, who may be it, has tried at %s: %s", e.Remote,
				e.At.UTC().Format("15:04:05"), e.Reason), "see whether that is the address of the device"
		}
	}
	return says, next
}

// credentialWords tells by what a device is let in.
func credentialWords(f Facts) string {
	for _, c := range f.Credentials {
		switch {
		case !c.RevokedAt.IsZero():
			continue
		case c.Kind == devices.Certificate:
			return fmt.Sprintf("certificate %s, until %s", c.ID, c.ExpiresAt.UTC().Format("2 January 2006"))
		}
		return "token " + c.ID
	}
	return "let in"
}

// Diagnose tells what is not as it should be with a device, the most telling first;
// nothing where all is well.
func Diagnose(f Facts) []Finding {
	var out []Finding
	say := func(about, next, format string, args ...any) {
		out = append(out, Finding{about, fmt.Sprintf(format, args...), next})
	}
	d := f.Device
	switch d.Status {
	case devices.Retired:
		say("status", "onboard it under another id if it is to come back", "%s is retired", d.ID)
		return out
	case devices.Suspended:
		say("status", "let it in again", "%s is suspended and may not connect", d.ID)
	}
	credentialFindings(f, say)
	var connect, success, refused *traffic.Entry
	refusals := 0
	for i := range f.Messages { // the newest first
		e := &f.Messages[i]
		if e.Direction != traffic.Up {
			continue
		}
		switch {
		case e.Topic == "connect" && e.Reason != "" && connect == nil:
			connect = e
		case e.Reason == "" && e.Topic != "connect" && success == nil, e.Topic == "connect" && e.Reason == "" && success == nil:
			success = e
		}
		if e.Topic != "connect" && e.Refusal() && f.Now.Sub(e.At) < time.Hour {
			if refusals++; refused == nil {
				refused = e
			}
		}
	}
	if connect != nil && (success == nil || success.At.Before(connect.At)) {
		say("credential", "", "its last attempt to connect, from %s, was refused: %s", connect.Remote, connect.Reason)
	}
	if d.Link == health.Never && connect == nil && success == nil {
		says, next := nothingYet(f)
		say("address", next, "%s", says)
	}
	if refused != nil {
		say("refusal", "correct what it sends; it came as "+value.Clip(refused.Body, 120),
			"messages refused within the last hour, in whole or in part: %d, the last because %s", refusals, refusal(*refused))
	}
	for _, e := range f.Messages {
		if i := slices.IndexFunc(e.Marked, func(x model.Finding) bool { return strings.Contains(x.Sentence, "clock") }); i >= 0 && f.Now.Sub(e.At) < time.Hour {
			say("clock", "set its clock; GET /device/v1/time and the topic time tell what it is", "%s", e.Marked[i].Sentence)
			break
		}
	}
	if said := d.Device.Reported(); said != "" && said != d.ModelVersion {
		say("model", "give it that version, or flash firmware for the one that it has", "it says it was built for %s %s, and has %s here", d.Model, said, d.ModelVersion)
	}
	var s Step
	if settingsStep(&s, f); s.State == Failed {
		say("setting", s.Next, "%s", s.Says)
	} else if len(d.Drifting) > 0 {
		say("setting", "see what it confirmed last", "it is not as intended in %s although it confirmed", strings.Join(d.Drifting, ", "))
	} else if s.State == Waiting && d.Link == health.Online && f.Now.Sub(f.Settings.IntendedAt) > 15*time.Minute {
		say("setting", s.Next, "%s, since %s", s.Says, f.Settings.IntendedAt.UTC().Format(time.RFC3339))
	}
	if d.Link == health.Silent || d.Link == health.Overdue {
		next := "see that it has power and a link"
		if d.Hub != "" {
			next = "see first whether its hub " + d.Hub + " is on line"
		}
		say("link", next, "it is %s: its last reading is of %s ago, and it is expected every %s", d.Link, health.Ago(f.Now.Sub(d.LastAt)), value.Duration(d.Interval))
	}
	return out
}

func credentialFindings(f Facts, say func(about, next, format string, args ...any)) {
	working, ends := 0, time.Time{}
	for _, c := range f.Credentials {
		if c.RevokedAt.IsZero() && (c.ExpiresAt.IsZero() || f.Now.Before(c.ExpiresAt)) {
			working++
			if c.ExpiresAt.IsZero() {
				ends = time.Time{}
				break
			}
			if c.ExpiresAt.After(ends) {
				ends = c.ExpiresAt
			}
		}
	}
	for _, u := range f.Uses {
		if !u.SharedAt.IsZero() && f.Now.Sub(u.SharedAt) < time.Hour {
			say("credential", "see which of the two is the device; give each its own bundle, and revoke this credential", "its credential %s is used from two addresses at once, %s and %s", u.Credential, u.From, u.Other)
		}
	}
	switch {
	case len(f.Credentials) > 0 && working == 0:
		say("credential", "give it a new one", "none of its credentials works any more: each is revoked, or over")
	case !ends.IsZero() && ends.Sub(f.Now) < health.EndsSoon:
		say("credential", "renew it", "its certificate ends on %s", ends.UTC().Format("2 January 2006"))
	}
}
