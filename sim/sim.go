package sim

import (
	"context"
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
// it is not to go on live. A service that is not there yet is waited for.
func Run(ctx context.Context, o Options) error {
	ctx, cancel := context.WithCancel(ctx)
	players := make([]*player, len(o.Units))
	total := 0
	var running sync.WaitGroup
	defer running.Wait()
	defer cancel()
	for i, u := range o.Units {
		if o.Credentials.Tokens[u.ID] == "" {
			return fmt.Errorf("there is no token for %s in the credentials; make them with --onboard", u.ID)
		}
		p, err := newPlayer(u, o.World, o.Credentials, o.Log)
		if err != nil {
			return err
		}
		players[i] = p
		total += told(u, o.History) * len(o.World.Sample(u, o.World.Start, nil))
	}
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
	var late sync.Once
	if err := each(ctx, players, func(p *player) error {
		p.note("info", "sys: started, firmware "+p.Firmware)
		running.Go(func() { p.dev.Run(ctx) })
		for {
			wait, stop := context.WithTimeout(ctx, patience)
			err := p.dev.AwaitLink(wait)
			stop()
			if err == nil || ctx.Err() != nil {
				break
			}
			late.Do(func() {
				o.Log.Warn(fmt.Sprintf("no connection to %s within %s; still trying. See why with: ullage traffic %s",
					p.server, patience, p.ID))
			})
		}
		return p.history(ctx, o.History, count)
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
	for _, p := range players {
		wg.Go(func() { p.live(ctx) })
	}
	wg.Wait()
	return nil
}

// patience is how long a device may need to connect before that is told.
const patience = 20 * time.Second

// each runs f for every device, some at a time, and returns the first error.
func each(ctx context.Context, players []*player, f func(*player) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	next := make(chan *player)
	var wg sync.WaitGroup
	for range workers {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for p := range next {
				if err := f(p); err != nil {
					cancel(err)
					return
				}
			}
		}()
	}
	for _, p := range players {
		select {
		case next <- p:
		case <-ctx.Done():
		}
	}
	close(next)
	wg.Wait()
	return context.Cause(ctx)
}

// history tells the time before the start, oldest first. What the device still
// holds at the start, because the story has it out of reach, is told in the live
// part.
func (p *player) history(ctx context.Context, span time.Duration, told func(int)) error {
	values := 0
	flush := func() error {
		if err := p.dev.Flush(ctx); err != nil {
			return fmt.Errorf("%s: its history was not taken: %w", p.ID, err)
		}
		told(values)
		values = 0
		return nil
	}
	start := p.world.Start.Truncate(p.Every)
	for t := start.Add(-span.Truncate(p.Every)); t.Before(start); t = t.Add(p.step(start.Sub(t))) {
		if p.holds(t) {
			continue
		}
		x := p.world.Sample(p.Unit, t, p.settings())
		if err := p.dev.Send(t, x); err != nil {
			return err
		}
		if values += len(x); values >= perMessage {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// holds reports whether what was measured at a time is still in the device when
// the live part begins.
func (p *player) holds(t time.Time) bool {
	return p.world.Silent(p.Unit, p.world.Start) && p.world.Start.Sub(t) < holdsFor && p.world.Silent(p.Unit, t)
}

// holdsFor is longer than any silence of the story that the start interrupts.
const holdsFor = 6 * time.Hour

// live reports as the device's settings say until the context ends.
func (p *player) live(ctx context.Context) {
	send := func(t time.Time) {
		says := t
		if p.NoClock {
			says = time.Unix(0, 0).Add(t.Sub(p.world.Start.Add(-holdsFor)))
		}
		if err := p.dev.Send(says, p.world.Sample(p.Unit, t, p.settings())); err != nil {
			p.log.Warn("a reading is not sent", "error", err)
		}
	}
	if p.world.Silent(p.Unit, p.world.Start) {
		p.dev.Sleep()
	}
	for t := p.world.Start.Add(-holdsFor).Truncate(p.Every); t.Before(p.world.Start); t = t.Add(p.Every) {
		if p.holds(t) {
			send(t)
		}
	}
	// Devices do not report in step.
	phase := time.Duration((1 + p.world.noise(p.ID, "phase", 0)) / 2 * float64(min(p.period(), 10*time.Second)))
	pause(ctx, phase)
	for ctx.Err() == nil {
		now := time.Now()
		if p.world.Silent(p.Unit, now) {
			p.dev.Sleep()
		} else {
			p.dev.Wake()
		}
		send(now)
		if p.muted(now) {
			if err := p.dev.Event("muted", map[string]any{"minutes": 5}); err != nil {
				p.log.Warn("an event is not sent", "error", err)
			}
		}
		select {
		case <-ctx.Done():
		case <-p.changed:
		case <-time.After(p.period()):
		}
	}
}
