package sim

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"sync"
	"time"
)

// Options say what to play.
type Options struct {
	Units       []Unit
	World       World
	Credentials Credentials
	// History is how much is told of the time before World.Start.
	History time.Duration
	// Live goes on after the history until the context ends.
	Live bool
	Log  *slog.Logger
	// Progress is told how many readings of history were acknowledged, of how many.
	Progress func(done, total int)
	// Ready is called when history is told and every device is connected.
	Ready func()
}

// workers is how many devices tell their history at once.
const workers = 8

const (
	// fully is how much of the history is told reading by reading; before that
	// one stands for all of some minutes.
	fully    = 72 * time.Hour
	sometime = 10 * time.Minute
)

// step is how far apart readings of the history are, so long before the start.
func (u Unit) step(before time.Duration) time.Duration {
	if before > fully {
		return max(u.Every, sometime)
	}
	return u.Every
}

// told is how many times a unit tells of in a history of some length.
func told(u Unit, span time.Duration) int {
	return int(min(span, fully)/u.Every + max(0, span-fully)/u.step(span))
}

// perMessage keeps messages of history below the 1,000 readings one may carry.
const perMessage = 900

// Run plays a fleet. It returns when the context ends, or after the history if
// it is not to go on live.
func Run(ctx context.Context, o Options) error {
	devices := make([]*device, len(o.Units))
	total := 0
	for i, u := range o.Units {
		if o.Credentials.Tokens[u.ID] == "" {
			return fmt.Errorf("there is no token for %s in the credentials; make them with --onboard", u.ID)
		}
		devices[i] = newDevice(u, o.World, o.Credentials, o.Log)
		total += told(u, o.History) * len(o.World.Sample(u, o.World.Start, nil))
	}
	defer func() {
		var wg sync.WaitGroup
		for _, d := range devices {
			if d.link != nil {
				wg.Add(1)
				go func() { defer wg.Done(); d.link.close() }()
			}
		}
		wg.Wait()
	}()
	var mu sync.Mutex
	done := 0
	count := func(n int) {
		mu.Lock()
		defer mu.Unlock()
		done += n
		if o.Progress != nil {
			o.Progress(min(done, total), total)
		}
	}
	if err := each(ctx, devices, func(d *device) error {
		if err := d.connect(ctx); err != nil {
			return err
		}
		return d.history(ctx, o.History, count)
	}); err != nil {
		return err
	}
	if o.Progress != nil && o.History > 0 {
		o.Progress(total, total)
	}
	if o.Ready != nil {
		o.Ready()
	}
	if !o.Live {
		return nil
	}
	var wg sync.WaitGroup
	for _, d := range devices {
		wg.Add(1)
		go func() { defer wg.Done(); d.live(ctx) }()
	}
	wg.Wait()
	return nil
}

// each runs f for every device, some at a time, and returns the first error.
func each(ctx context.Context, devices []*device, f func(*device) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	next := make(chan *device)
	var wg sync.WaitGroup
	for range workers {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for d := range next {
				if err := f(d); err != nil {
					cancel(err)
					return
				}
			}
		}()
	}
	for _, d := range devices {
		select {
		case next <- d:
		case <-ctx.Done():
		}
	}
	close(next)
	wg.Wait()
	return context.Cause(ctx)
}

// timed is a reading of many metrics with its time.
type timed map[string]any

// count returns how many metrics are in it.
func (t timed) count() int { return max(len(t)-1, 1) }

const stamp = "2006-01-02T15:04:05.000Z07:00"

func (d *device) at(t time.Time) timed {
	x := timed(d.world.Sample(d.Unit, t, d.settings()))
	x["at"] = t.UTC().Format(stamp)
	return x
}

// history tells the time before the start, oldest first. What the device could
// not send while it was away comes as a backlog when it was back; what it still
// holds at the start comes when it is back in the live part.
func (d *device) history(ctx context.Context, span time.Duration, told func(int)) error {
	var batch, backlog []timed
	send := func(part []timed) error {
		for len(part) > 0 {
			n := min(len(part), max(1, perMessage/part[0].count()))
			body, err := json.Marshal(part[:n])
			if err != nil {
				return err
			}
			if err := d.link.publish(ctx, "readings", body); err != nil {
				return fmt.Errorf("%s: its history was not taken: %w", d.ID, err)
			}
			told(n * part[0].count())
			part = part[n:]
		}
		return nil
	}
	start := d.world.Start.Truncate(d.Every)
	for t := start.Add(-span.Truncate(d.Every)); t.Before(start); t = t.Add(d.step(start.Sub(t))) {
		if d.world.Silent(d.Unit, t) {
			backlog = append(backlog, d.at(t))
			continue
		}
		if len(backlog) > 0 {
			// It is back: first what is new, then what it had kept.
			batch = append(batch, d.at(t))
			if err := send(batch); err != nil {
				return err
			}
			if err := send(backlog); err != nil {
				return err
			}
			batch, backlog = nil, nil
			continue
		}
		batch = append(batch, d.at(t))
	}
	return send(batch)
}

// live reports as the device's settings say until the context ends.
func (d *device) live(ctx context.Context) {
	var backlog []timed
	// What the device kept while it was silent before the start.
	for t := d.world.Start.Add(-6 * time.Hour).Truncate(d.Every); t.Before(d.world.Start); t = t.Add(d.Every) {
		if d.world.Silent(d.Unit, t) && d.world.Silent(d.Unit, d.world.Start) {
			backlog = append(backlog, d.at(t))
		}
	}
	// Devices do not report in step.
	phase := time.Duration((1 + d.world.noise(d.ID, "phase", 0)) / 2 * float64(min(d.period(), 10*time.Second)))
	pause(ctx, phase)
	for ctx.Err() == nil {
		now := time.Now()
		switch {
		case d.world.Silent(d.Unit, now):
			backlog = append(backlog, d.at(now))
		default:
			part := []timed{d.at(now)}
			if err := d.tell(ctx, part); err != nil {
				backlog = append(backlog, part...)
				break
			}
			for len(backlog) > 0 && ctx.Err() == nil {
				n := min(len(backlog), max(1, perMessage/backlog[0].count()))
				if err := d.tell(ctx, backlog[:n]); err != nil {
					break
				}
				backlog = backlog[n:]
			}
		}
		if d.muted(now) {
			if err := d.link.publish(ctx, "event/muted", []byte(`{"minutes":5}`)); err != nil && ctx.Err() == nil {
				d.log.Warn("an event was not taken", "error", err)
			}
		}
		select {
		case <-ctx.Done():
		case <-d.changed:
		case <-time.After(d.period()):
		}
	}
}

func (d *device) tell(ctx context.Context, part []timed) error {
	var body []byte
	var err error
	if len(part) == 1 {
		body, err = json.Marshal(part[0])
	} else {
		body, err = json.Marshal(part)
	}
	if err != nil {
		return err
	}
	wait, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if err = d.link.publish(wait, "readings", body); err != nil && ctx.Err() == nil {
		d.log.Warn("a message was not taken and is kept", "error", err)
	}
	return err
}
