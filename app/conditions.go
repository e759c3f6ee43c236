package app

import (
	"fmt"
	"time"

	"ullage/core/rule"
	"ullage/fleet/alarms"
)

// Conditions of the service itself, beside those of its data: there is a built-in alarm for
// each, which is shelved and acknowledged like any other.

// When the service is not well.
const (
	diskLow     = 2 << 30 // bytes that are free
	diskUrgent  = 256 << 20
	endsSoon    = 30 * 24 * time.Hour // before a certificate ends
	endsNow     = 3 * 24 * time.Hour
	refusesMuch = 120 // sign-ins that a door refuses, a minute
	behindMuch  = 20_000
	clockJump   = 30 * time.Second
	remembered  = time.Hour // how long what is over in a moment is told
)

// Ends says when a certificate of the service ends.
type Ends struct {
	What string // such as the certificate of mqtt_tls
	At   time.Time
}

func gigabytes(n int64) string { return fmt.Sprintf("%.1f GB", float64(n)/1e9) }

// diskAlarm is about a disk that fills up.
func diskAlarm(free int64) alarms.Condition {
	c := alarms.Condition{Rule: alarms.DiskLow, Of: "disk", Holds: free >= 0 && free < diskLow, Priority: rule.Medium,
		Message:  fmt.Sprintf("%s are left for the data; when they are used up, readings are not taken any more", gigabytes(free)),
		Cause:    "The history grows, or something else fills the disk",
		Response: "Make room on the disk, or say for how long readings are kept, with keep_readings",
		Calm:     "there is room again"}
	if free < diskUrgent {
		c.Priority = rule.Urgent
	}
	return c
}

// clockAlarm is about a clock that was set while the service ran.
func clockAlarm(jump time.Duration, at, now time.Time) alarms.Condition {
	way := "forward"
	if jump < 0 {
		way, jump = "back", -jump
	}
	return alarms.Condition{Rule: alarms.ClockJumped, Of: "clock", Holds: !at.IsZero() && now.Sub(at) < remembered && !now.Before(at), Priority: rule.Medium,
		Message:  fmt.Sprintf("the clock of the service jumped %s by %s at %s", way, jump.Round(time.Second), at.UTC().Format("15:04:05 MST")),
		Cause:    "The clock was set by hand, or the machine has no time server, or was asleep",
		Response: "Let the machine get its time from a server; look at readings without a time of their own around that moment",
		Calm:     "it has not jumped for an hour"}
}

// endsAlarm is about certificates of the service that end.
func endsAlarm(all []Ends, now time.Time) alarms.Condition {
	c := alarms.Condition{Rule: alarms.CertificateEnds, Of: "certificates", Priority: rule.Medium,
		Cause:    "It was made for a time that is nearly over",
		Response: "Renew it: those of the authority with ullage authority renew, your own by putting new files in their place",
		Calm:     "all certificates last longer"}
	var first Ends
	for _, e := range all {
		if !e.At.IsZero() && e.At.Sub(now) < endsSoon && (first.At.IsZero() || e.At.Before(first.At)) {
			first = e
		}
	}
	if first.At.IsZero() {
		return c
	}
	c.Holds = true
	c.Message = fmt.Sprintf("%s ends at %s; nobody gets in with it after that", first.What, first.At.UTC().Format("2006-01-02 15:04 MST"))
	if first.At.Sub(now) < endsNow {
		c.Priority = rule.High
	}
	return c
}

// doorAlarm is about sign-ins of devices that are refused in numbers.
func doorAlarm(refused uint64, of time.Duration, last, now time.Time) alarms.Condition {
	a := 0
	if of > 0 {
		a = int(float64(refused) / of.Minutes())
	}
	return alarms.Condition{Rule: alarms.DoorRefuses, Of: "doors", Holds: !last.IsZero() && now.Sub(last) < 10*time.Minute, Priority: rule.Medium,
		Message:  fmt.Sprintf("devices or strangers were refused at the doors more than %d times a minute, %d a minute lately", refusesMuch, a),
		Cause:    "Many devices have a credential that is over or was taken back, or somebody tries to get in",
		Response: "Read the reasons in the traffic, filtered by refused",
		Calm:     "few have been refused for ten minutes"}
}

// behindAlarm is about an evaluation that does not keep up.
func behindAlarm(waiting int) alarms.Condition {
	return alarms.Condition{Rule: alarms.EvaluationBehind, Of: "evaluation", Holds: waiting > behindMuch, Priority: rule.High,
		Message:  fmt.Sprintf("%d messages wait to be evaluated; alarms come late", waiting),
		Cause:    "More comes in than this machine can judge, or rules with long windows are dear",
		Response: "See the Service page; switch rules off that nobody needs, or give the service a larger machine",
		Calm:     "what comes in is evaluated at once"}
}

// versionsAlarm is about devices that say they were built for another version of their
// model than they were given.
func versionsAlarm(otherwise int, example string) alarms.Condition {
	c := alarms.Condition{Rule: alarms.VersionsDiffer, Of: "models", Holds: otherwise > 0, Priority: rule.Low,
		Cause:    "Their firmware was changed and their version was not, or the other way round",
		Response: "Give them the version that they report, on the page of the model, or correct the firmware",
		Calm:     "every device reports the version that it was given"}
	switch otherwise {
	case 0:
	case 1:
		c.Message = fmt.Sprintf("%s reports another version of its model than it was given", example)
	default:
		c.Message = fmt.Sprintf("%d devices, %s among them, report another version of their model than they were given", otherwise, example)
	}
	return c
}

// watchService tells of the conditions of the service.
func (a *App) watchService() {
	now := a.Now()
	a.Alarms.Stand(diskAlarm(a.Store.Room()))
	a.Alarms.Stand(clockAlarm(a.jump, a.jumped, now))
	if a.ends != nil {
		a.Alarms.Stand(endsAlarm(a.ends(), now))
	}
	refused := a.Door.Refused()
	span := now.Sub(a.counted)
	of := refused - a.refused
	if !a.counted.IsZero() && span > 0 && float64(of) > refusesMuch*max(span.Minutes(), 1) {
		a.refusedAt = now
	}
	a.Alarms.Stand(doorAlarm(of, span, a.refusedAt, now))
	a.refused, a.counted = refused, now
	a.Alarms.Stand(behindAlarm(a.Bus.Behind()))
	n, example := a.Devices.Otherwise()
	a.Alarms.Stand(versionsAlarm(n, example))
}

// clocked compares how far the clock has gone with how long it took.
func (a *App) clocked(last, now time.Time) {
	wall := now.Round(0).Sub(last.Round(0))
	if jump := wall - now.Sub(last); jump > clockJump || jump < -clockJump {
		a.jump, a.jumped = jump, now.Round(0)
		a.Log.Warn("the clock has jumped", "by", jump.Round(time.Millisecond))
	}
}
