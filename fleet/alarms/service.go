package alarms

import (
	"strings"
	"time"

	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/fleet/fact"
)

// Alarms of the service itself stand beside those of groups: they are about what
// nobody's device is to blame for, such as a damaged data folder. Their rules
// are built in.

// DataDamaged is the built-in alarm on a data folder in which something cannot
// be read.
const DataDamaged = "data_damaged"

// TooManyMetrics is the built-in alarm on devices that send more metrics which
// their model does not name than may be kept.
const TooManyMetrics = "too_many_metrics"

// KeysNotExported is the built-in alarm on keys of which there is no copy: with them every
// device would be lost.
const KeysNotExported = "keys_not_exported"

// The built-in alarms on the service itself.
const (
	DiskLow          = "disk_low"
	ClockJumped      = "clock_jumped"
	CertificateEnds  = "certificate_ends"
	DoorRefuses      = "door_refuses"
	EvaluationBehind = "evaluation_behind"
	VersionsDiffer   = "versions_differ"
)

// serviceGroup begins the subject of an alarm of the service.
const serviceGroup = "service="

// builtin tells whether a name is that of a built-in rule.
func builtin(name string) bool {
	switch name {
	case RepeatedRefusals, DataDamaged, TooManyMetrics, KeysNotExported, DiskLow, ClockJumped, CertificateEnds, DoorRefuses, EvaluationBehind, VersionsDiffer:
		return true
	}
	return false
}

// Condition is the state of something about the service that there is a
// built-in alarm for.
type Condition struct {
	Rule     string
	Of       string // what it is about, such as data folder
	Holds    bool
	Priority rule.Priority
	Message  string
	Cause    string
	Response string
	Calm     string // why it does not hold any more
}

// stands tells the first shard of a condition.
type stands struct{ Condition }

// About implements event.Event.
func (stands) About() string { return "" }

// Stand raises the alarm of a condition that holds, and returns that of one
// that does not. It may be told again and again.
func (e *Engine) Stand(c Condition) { e.bus.Tell(0, stands{c}) }

func (e *Engine) stand(s *shard, c Condition) {
	now := e.now()
	switch a := s.service[c.Rule]; {
	case a == nil && c.Holds:
		a = &Alarm{ID: fact.NewID(now), Rule: c.Rule, Group: serviceGroup + c.Of, Priority: c.Priority,
			State: lifecycle.Normal.Raise(), Times: 1, RaisedAt: now, Message: c.Message, Cause: c.Cause,
			Response: c.Response}
		if s.service == nil {
			s.service = map[string]*Alarm{}
		}
		s.service[c.Rule] = a
		s.track(a, nil, nil, func() { delete(s.service, c.Rule) })
		*a = e.aside(s, s.open[a.ID], now)
		e.record(s, *a, now, fact.Raised{Message: a.Message, Priority: string(a.Priority)})
	case a == nil:
	case c.Holds && (a.State == lifecycle.Returned || a.Message != c.Message && a.State.Holds()):
		// It is back, or it is more than was seen: whoever acknowledged the one has
		// not seen the other.
		a.State, a.ReturnedAt, a.Message = lifecycle.Normal.Raise(), time.Time{}, c.Message
		a.AcknowledgedAt, a.AcknowledgedBy = time.Time{}, ""
		a.Times++
		e.record(s, *a, now, fact.Raised{Message: a.Message, Priority: string(a.Priority), Again: true})
	case !c.Holds && a.State.Holds():
		a.State, a.ReturnedAt = a.State.Return(false, a.Aside.Any()), now
		e.record(s, *a, now, fact.Returned{Rule: a.Rule, Why: c.Calm})
		if !a.State.Open() {
			delete(s.service, c.Rule)
		}
	}
}

// restoreService takes up the alarms of the service that were open.
func (e *Engine) restoreService(open []Alarm) {
	s := &e.shards[0]
	for _, a := range open {
		if strings.HasPrefix(a.Group, serviceGroup) {
			if s.service == nil {
				s.service = map[string]*Alarm{}
			}
			s.service[a.Rule] = &a
			s.track(&a, nil, nil, func() { delete(s.service, a.Rule) })
		}
	}
}
