// Package logs keeps what devices write into their log: the latest lines of each, bounded in
// number and age, to be searched and followed.
package logs

import (
	"context"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"ullage/core/logline"
	"ullage/core/model"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/models"
)

// Line is one line of the log of a device.
type Line struct {
	Device string
	Number int64 // within the device, from 1
	logline.Line
}

// Bound says how much of the log of a device is kept.
type Bound struct {
	Lines int
	Keep  time.Duration
}

// Usual is the Bound where the model says nothing.
var Usual = Bound{Lines: 2000, Keep: 7 * 24 * time.Hour}

// Filter says which lines of a device are asked for.
type Filter struct {
	Device   string
	Level    logline.Level // and graver ones
	Text     string        // that is in them, in whatever case
	From, To time.Time
	Before   int64 // lesser numbers only; the newest come first
	After    int64 // greater ones only, the oldest first
	Oldest   bool  // the oldest first, also from the beginning
	Limit    int
}

// Keeper stores lines. All but Find are called by one goroutine.
type Keeper interface {
	// Keep stores lines and returns them with their numbers.
	Keep(ls []Line, now time.Time, bound func(device string) Bound) ([]Line, error)
	// Old lets lines of devices go that are from before a time.
	Old(before time.Time, devices []string) error
	Find(ctx context.Context, f Filter) ([]Line, error)
	Forget(device string) error
}

// Options are what Logs are made of.
type Options struct {
	Keeper  Keeper
	Devices *devices.Registry
	Models  *models.Catalogue
	// Hide takes secrets out of a text of a device.
	Hide func(device, text string) string
	// Failed is told what could not be kept, once a minute at most.
	Failed func(error)
	Now    func() time.Time
}

const (
	// every is how often what has come is stored, at most that many lines waiting for it.
	every = 500 * time.Millisecond
	most  = 50_000
	// One device may write so many lines a second, and so many at once.
	perSecond, atOnce = 20, 2000
	// limited is how many devices have a limiter of their own; those that rest lose theirs.
	limited = 20_000
)

// Logs takes and finds lines. Make them with New, and End them.
type Logs struct {
	o Options

	mu      sync.Mutex
	waiting []Line
	rates   map[string]*rate.Limiter
	lost    uint64
	changed chan struct{} // closed with the next lines that are stored

	asked chan func()
	stop  chan struct{}
	done  chan struct{}
}

// New returns Logs that store what comes.
func New(o Options) *Logs {
	l := &Logs{o: o, rates: map[string]*rate.Limiter{}, changed: make(chan struct{}), asked: make(chan func()), stop: make(chan struct{}), done: make(chan struct{})}
	go l.run()
	return l
}

func (l *Logs) run() {
	defer close(l.done)
	tick, old := time.NewTicker(every), time.NewTicker(time.Hour)
	defer tick.Stop()
	defer old.Stop()
	var told time.Time
	failed := func(err error) {
		if err != nil && time.Since(told) > time.Minute {
			told = time.Now()
			l.o.Failed(err)
		}
	}
	for {
		ask, end := func() {}, false
		select {
		case <-tick.C:
		case ask = <-l.asked:
		case <-old.C:
			failed(l.old())
		case <-l.stop:
			end = true
		}
		l.mu.Lock()
		ls := l.waiting
		l.waiting = nil
		l.mu.Unlock()
		if len(ls) > 0 {
			_, err := l.o.Keeper.Keep(ls, l.o.Now(), l.Bound)
			failed(err)
			l.mu.Lock()
			close(l.changed)
			l.changed = make(chan struct{})
			l.mu.Unlock()
		}
		if ask(); end {
			return
		}
	}
}

// old lets lines go that are older than the model of their device keeps them.
func (l *Logs) old() error {
	by := map[time.Duration][]string{}
	for _, d := range l.o.Devices.List() {
		keep := l.Bound(d.ID).Keep
		by[keep] = append(by[keep], d.ID)
	}
	for keep, ids := range by {
		if err := l.o.Keeper.Old(l.o.Now().Add(-keep), ids); err != nil {
			return err
		}
	}
	return nil
}

// End stores what waits, and ends.
func (l *Logs) End() {
	close(l.stop)
	<-l.done
}

// Bound is what is kept of the log of a device: what its model says, or Usual.
func (l *Logs) Bound(device string) Bound {
	b := Usual
	d, err := l.o.Devices.Get(device)
	if err != nil {
		return b
	}
	m, err := l.o.Models.Of(d.Model, d.Version)
	if err != nil {
		return b
	}
	if m.LogLines > 0 {
		b.Lines = m.LogLines
	}
	if m.LogKeep > 0 {
		b.Keep = m.LogKeep
	}
	return b
}

// Take takes a message of a device. It returns how many lines will be stored within the
// second, and what was not taken; a crash may lose what is not stored yet.
func (l *Logs) Take(device string, body []byte) (kept int, refused []model.Finding, err error) {
	now := l.o.Now().UTC()
	lines, wrong, err := logline.Parse(body, now)
	if err != nil {
		return 0, nil, fault.New(fault.Invalid, "this is no log: %s", err)
	}
	for _, w := range wrong {
		refused = append(refused, model.Finding{Pointer: "/" + strconv.Itoa(w.Line), Sentence: "line " + strconv.Itoa(w.Line+1) + " " + w.Why})
	}
	if len(lines) == 0 {
		return 0, refused, nil
	}
	out := make([]Line, len(lines))
	for i, x := range lines {
		x.Text = l.o.Hide(device, x.Text)
		out[i] = Line{Device: device, Line: x}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	r := l.rates[device]
	if r == nil {
		if len(l.rates) >= limited {
			clear(l.rates)
		}
		r = rate.NewLimiter(perSecond, atOnce)
		l.rates[device] = r
	}
	switch {
	case !r.AllowN(now, len(out)):
		return 0, nil, fault.New(fault.TooMany, "%s writes more than %d lines of log a second", device, perSecond).Then("write less, or send it again later")
	case len(l.waiting)+len(out) > most:
		l.lost += uint64(len(out))
		return 0, nil, fault.New(fault.TooMany, "the fleet writes more log than is stored").Then("send it again later")
	}
	l.waiting = append(l.waiting, out...)
	return len(out), refused, nil
}

// Find returns lines of a device, those that have come included.
func (l *Logs) Find(ctx context.Context, f Filter) ([]Line, error) {
	l.settle()
	return l.o.Keeper.Find(ctx, f)
}

// settle has what waits stored.
func (l *Logs) settle() { l.ask(func() {}) }

func (l *Logs) ask(f func()) {
	done := make(chan struct{})
	select {
	case l.asked <- func() { f(); close(done) }:
		<-done
	case <-l.done:
	}
}

// Follow is Find for somebody who has seen all up to After: where there is nothing, it waits
// for it until the context ends.
func (l *Logs) Follow(ctx context.Context, f Filter) ([]Line, error) {
	f.Oldest = true
	for {
		l.mu.Lock()
		changed := l.changed
		l.mu.Unlock()
		out, err := l.o.Keeper.Find(ctx, f)
		if err != nil || len(out) > 0 {
			return out, err
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, nil
		}
	}
}

// Forget drops the log of a device.
func (l *Logs) Forget(device string) (err error) {
	l.mu.Lock()
	l.waiting = slices.DeleteFunc(l.waiting, func(x Line) bool { return x.Device == device })
	l.mu.Unlock()
	l.ask(func() { err = l.o.Keeper.Forget(device) })
	return err
}
