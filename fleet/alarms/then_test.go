package alarms_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"ullage/fleet/alarms"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/test/rig"
)

// told counts what the bus tells of alarms.
func told(r *rig.Rig) func() map[string]int {
	var mu sync.Mutex
	n := map[string]int{}
	r.Handle(func(_ int, e event.Event) {
		if a, ok := e.(event.Alarm); ok {
			mu.Lock()
			n[a.ID]++
			mu.Unlock()
		}
	})
	return func() map[string]int {
		mu.Lock()
		defer mu.Unlock()
		return n
	}
}

// TestOpenAlarmsAreToldOnce: an alarm that stands open over stops and crashes is
// raised once, in facts and to those who listen, of a device and of a group.
func TestOpenAlarmsAreToldOnce(t *testing.T) {
	r := twoCellars(t)
	r.Rule(halfSilent)
	r.Rule(quick)
	heard := told(r)
	minutes(r, 3, "fennimore", "kilnside")
	r.Keep("air-kilnside", `{"co2":1900}`)
	for range 240 {
		r.Keep("air-kilnside", `{"co2":1900}`)
		r.Pass(time.Second)
	}
	open := r.OpenAlarms()
	if len(open) < 2 {
		t.Fatalf("open is %+v", open)
	}
	for id, n := range heard() {
		if n != 1 {
			t.Errorf("alarm %s was told %d times", id, n)
		}
	}
	if len(heard()) != len(open) {
		t.Errorf("%d alarms are open, and %d were told", len(open), len(heard()))
	}
	raised := len(r.Journal(fact.AlarmRaised))
	for _, crash := range []bool{true, false, true} {
		r.Restart(crash)
		heard := told(r)
		for range 20 {
			r.Keep("air-kilnside", `{"co2":1900}`)
			r.Pass(time.Second)
		}
		if again := heard(); len(again) != 0 {
			t.Errorf("after a start open alarms are told again: %v", again)
		}
		if n := len(r.Journal(fact.AlarmRaised)); n != raised {
			t.Errorf("the journal has %d raised alarms after a start and had %d", n, raised)
		}
		if now := r.OpenAlarms(); len(now) != len(open) {
			t.Errorf("%d alarms are open after a start, of %d", len(now), len(open))
		}
	}
}

// TestJudgedAsThen: readings that were stored and not judged when the service
// died are judged as they would have been: at the time they came, by the settings
// that held then.
func TestJudgedAsThen(t *testing.T) {
	// judged says when the alarm was raised, if it was, where the service dies or
	// does not die before it has judged anything.
	judged := func(dies bool) (string, time.Time) {
		r := rig.New(t)
		r.Onboard("air-kilnside-2", "cellar-air", nil)
		r.Rule(quick) // co2 > set.co2_warn
		limit := func(v int) {
			_, err := r.Settings.Set(context.Background(), "air-kilnside-2", map[string]any{"co2_warn": v}, nil, "mara")
			r.Must(err)
		}
		limit(1500)
		r.Keep("air-kilnside-2", `{"co2":800}`)
		for range 12 {
			r.Pass(time.Second) // what rules have seen is stored every ten seconds
		}
		if dies {
			r.Bus.Stop() // nobody judges from here on
		}
		send := func(body string) {
			r.Clock.Forward(20 * time.Second)
			done := make(chan struct{})
			r.Intake.Accept(message("air-kilnside-2", body), func(outcome) { close(done) })
			<-done
			if !dies {
				r.Settle()
			}
		}
		send(`{"co2":1600}`)
		r.Clock.Forward(20 * time.Second)
		limit(3000)
		send(`{"co2":1700}`)
		if dies {
			r.Clock.Forward(time.Hour) // as long as it was down
			r.Must(r.Store.Close())
			r.Reopen()
			r.Settle()
		}
		fs, err := r.Facts.Facts(context.Background(), fact.Filter{Kind: fact.AlarmRaised})
		r.Must(err)
		if len(fs) != 1 {
			return "", time.Time{}
		}
		as, err := r.Alarms.List(context.Background(), alarms.Filter{})
		r.Must(err)
		if len(as) != 1 {
			t.Fatalf("the alarms are %+v", as)
		}
		return as[0].Message, as[0].RaisedAt
	}
	message, at := judged(false)
	if message == "" {
		t.Fatal("without a crash nothing is raised, so nothing is tested")
	}
	if m, a := judged(true); m != message || !a.Equal(at) {
		t.Errorf("judged after a crash it is %q at %v; it would have been %q at %v", m, a, message, at)
	}
}
