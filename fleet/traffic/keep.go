package traffic

import (
	"context"
	"slices"
	"strings"
	"time"

	"ullage/core/model"
)

// Keeper keeps what has passed beyond what memory holds. Keep and Forget are called by
// one goroutine.
type Keeper interface {
	// Keep keeps entries, in the order of their numbers.
	Keep([]Entry) error
	// Past calls yield with the entries that pass f, the newest first, until it returns
	// false or ctx is done. It returns the number that it has come to, 0 for the end.
	Past(ctx context.Context, f Filter, yield func(Entry) bool) (uint64, error)
	// Forget drops every entry of a device.
	Forget(device string) error
}

const (
	// keepEvery is how often what has passed goes to the Keeper, and keepAt how many
	// entries do not wait for that.
	keepEvery = time.Second
	keepAt    = 512
	// keepMost is how many entries wait at most; more are lost to the Keeper.
	keepMost = 50_000
)

// keeping is what waits for the Keeper.
type keeping struct {
	waiting []Entry
	spare   []Entry // empty; takes the place of those that wait
	lost    uint64
	wake    chan struct{}
	asked   chan func()
	done    chan struct{}
	stop    chan struct{}
}

// Begin lets a keeper have what passes from now on, until End. Failed is told what it
// could not do; at most once a minute.
func (l *Log) Begin(k Keeper, failed func(error)) {
	l.keeper = k
	l.keep = &keeping{wake: make(chan struct{}, 1), asked: make(chan func()), done: make(chan struct{}), stop: make(chan struct{})}
	go func() {
		defer close(l.keep.done)
		t := time.NewTicker(keepEvery)
		defer t.Stop()
		var told time.Time
		for {
			ask := func() {}
			stop := false
			select {
			case <-t.C:
			case <-l.keep.wake:
			case ask = <-l.keep.asked:
			case <-l.keep.stop:
				stop = true
			}
			l.mu.Lock()
			es := l.keep.waiting
			l.keep.waiting, l.keep.spare = l.keep.spare, nil
			l.mu.Unlock()
			if len(es) > 0 {
				if err := k.Keep(es); err != nil && time.Since(told) > time.Minute {
					told = time.Now()
					failed(err)
				}
				if clear(es); cap(es) <= 2*keepAt {
					l.keep.spare = es[:0]
				}
			}
			if ask(); stop {
				return
			}
		}
	}()
}

// End gives the keeper what waits, and ends.
func (l *Log) End() {
	if l.keep == nil {
		return
	}
	close(l.keep.stop)
	<-l.keep.done
}

// kept queues an entry for the keeper; mu is held.
func (l *Log) kept(e Entry) {
	if l.keep == nil {
		return
	}
	if len(l.keep.waiting) >= keepMost {
		l.keep.lost++
		return
	}
	if l.keep.waiting = append(l.keep.waiting, e); len(l.keep.waiting) == keepAt {
		select {
		case l.keep.wake <- struct{}{}:
		default:
		}
	}
}

// ask has the goroutine of the keeper do something, after it has what waits.
func (l *Log) ask(f func()) {
	done := make(chan struct{})
	select {
	case l.keep.asked <- func() { f(); close(done) }:
		<-done
	case <-l.keep.done:
	}
}

// Passes reports whether an entry is among those that f is about, but for the limit.
func (f *Filter) Passes(e *Entry) bool {
	switch {
	case f.Device != "" && e.Device != f.Device,
		f.Refused && !e.Refusal(),
		f.Among != nil && !f.Among[e.Device],
		f.Before != 0 && e.Seq >= f.Before,
		!f.From.IsZero() && e.At.Before(f.From),
		!f.To.IsZero() && !e.At.Before(f.To),
		f.Text != "" && !e.holds(strings.ToLower(f.Text)),
		f.Match != nil && !f.Match(e):
		return false
	}
	return true
}

// holds reports whether any text of e holds a text in small letters.
func (e *Entry) holds(text string) bool {
	for _, s := range []string{e.Body, e.Topic, e.Device, e.Claimed, e.Remote, e.Reason, e.Note, e.Ref} {
		if strings.Contains(strings.ToLower(s), text) {
			return true
		}
	}
	return slices.ContainsFunc(e.Refused, func(f model.Finding) bool {
		return strings.Contains(strings.ToLower(f.Pointer+" "+f.Sentence), text)
	})
}

// Past returns the entries that pass f, the newest first, from memory and from what is
// kept beyond it. Reached is where to go on, 0 for the end: ctx may end it before the
// limit is.
func (l *Log) Past(ctx context.Context, f Filter) (out []Entry, reached uint64, err error) {
	if l.keep == nil {
		return l.Recent(f), 0, nil
	}
	// What is in memory is kept too, so that one source is enough.
	l.ask(func() {})
	out = []Entry{}
	reached, err = l.keeper.Past(ctx, f, func(e Entry) bool {
		out = append(out, e)
		return f.Limit == 0 || len(out) < f.Limit
	})
	return out, reached, err
}
