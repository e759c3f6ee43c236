// Package activity counts what passes between each device and the service, by the hour: how
// many messages and bytes, what was refused, what came late, and how often it connected.
package activity

import (
	"context"
	"sync"
	"time"

	"ullage/fleet/traffic"
)

// Count is what passed between a device and the service. Bytes are those of the messages
// alone, without what the protocols below them add.
type Count struct {
	Up, Down           uint64 // messages from the device, and to it
	UpBytes, DownBytes uint64
	Refused            uint64 // messages of which something was not taken
	Late               uint64 // readings that came much later than they were taken
	Connects           uint64 // sessions that began; HTTP has none
}

// Add adds another count.
func (c *Count) Add(o Count) {
	c.Up, c.Down = c.Up+o.Up, c.Down+o.Down
	c.UpBytes, c.DownBytes = c.UpBytes+o.UpBytes, c.DownBytes+o.DownBytes
	c.Refused, c.Late, c.Connects = c.Refused+o.Refused, c.Late+o.Late, c.Connects+o.Connects
}

// Hour is a Count of an hour of a device.
type Hour struct {
	Device string
	Hour   int64 // hours since 1970
	Count
}

// Keep is for how long counts are kept.
const Keep = 35 * 24 * time.Hour

// Keeper stores counts. All but Sum are called by one goroutine at a time.
type Keeper interface {
	// Add adds counts to those that are kept.
	Add(hs []Hour) error
	// Sum adds up the hours from one up to another and without it, by device, and says which
	// hour is the first that is kept; 0 for none.
	Sum(ctx context.Context, from, to int64) (sums map[string]Count, first int64, err error)
	// Forget lets everything go that is from before an hour, and Drop all of a device.
	Forget(before int64) error
	Drop(device string) error
}

// Options are what a Counter is made of.
type Options struct {
	Keeper Keeper
	// Failed is told that counts could not be kept; they are tried again.
	Failed func(error)
	Now    func() time.Time
}

// every is how often what was counted is stored; a crash loses that much at most.
const every = 5 * time.Minute

// most is how many hours of devices wait to be stored. Beyond it nothing new is counted until
// they are, so that a full disk takes no memory.
const most = 500_000

type key struct {
	device string
	hour   int64
}

// Counter counts. Make one with New and end it with End.
type Counter struct {
	o    Options
	stop chan struct{}
	done chan struct{}

	mu     sync.Mutex
	counts map[key]*Count

	saving sync.Mutex // held while counts are on their way to the disk
}

// New returns a Counter, which stores what it counts now and then.
func New(o Options) *Counter {
	c := &Counter{o: o, stop: make(chan struct{}), done: make(chan struct{}), counts: map[key]*Count{}}
	go c.run()
	return c
}

func (c *Counter) run() {
	defer close(c.done)
	tick := time.NewTicker(every)
	defer tick.Stop()
	var cleaned int64
	for {
		select {
		case <-c.stop:
			return
		case <-tick.C:
		}
		if err := c.Save(); err != nil {
			c.o.Failed(err)
			continue
		}
		if hour := hourOf(c.o.Now()); hour != cleaned {
			cleaned = hour
			c.saving.Lock()
			err := c.o.Keeper.Forget(hour - int64(Keep/time.Hour))
			c.saving.Unlock()
			if err != nil {
				c.o.Failed(err)
			}
		}
	}
}

// End stores what was counted, and counts nothing more.
func (c *Counter) End() {
	close(c.stop)
	<-c.done
	if err := c.Save(); err != nil {
		c.o.Failed(err)
	}
}

func hourOf(t time.Time) int64 { return t.Unix() / 3600 }

// Passed counts a message, or the beginning of a session.
func (c *Counter) Passed(e traffic.Entry) {
	if e.Device == "" || e.By != "" { // nobody's, or what a person sent in its place
		return
	}
	var n Count
	switch {
	case e.Topic == "connect":
		if e.Reason == "" {
			n.Connects = 1
		}
	case e.Direction == traffic.Down:
		if e.Reason == "" {
			n.Down, n.DownBytes = 1, uint64(e.Size)
		}
	default:
		n.Up, n.UpBytes = 1, uint64(e.Size)
	}
	if e.Refusal() {
		n.Refused = 1
	}
	c.add(e.Device, e.At, n)
}

// Late counts readings that came late.
func (c *Counter) Late(device string, at time.Time, readings int) {
	if readings > 0 {
		c.add(device, at, Count{Late: uint64(readings)})
	}
}

func (c *Counter) add(device string, at time.Time, n Count) {
	k := key{device, hourOf(at)}
	c.mu.Lock()
	defer c.mu.Unlock()
	have := c.counts[k]
	if have == nil {
		if len(c.counts) >= most {
			return
		}
		have = &Count{}
		c.counts[k] = have
	}
	have.Add(n)
}

// Save stores what was counted. What could not be stored is kept for the next time.
func (c *Counter) Save() error {
	c.saving.Lock()
	defer c.saving.Unlock()
	c.mu.Lock()
	counts := c.counts
	c.counts = map[key]*Count{}
	c.mu.Unlock()
	hs := make([]Hour, 0, len(counts))
	for k, n := range counts {
		hs = append(hs, Hour{k.device, k.hour, *n})
	}
	if len(hs) == 0 {
		return nil
	}
	err := c.o.Keeper.Add(hs)
	if err == nil {
		return nil
	}
	for _, h := range hs {
		c.add(h.Device, time.Unix(h.Hour*3600, 0), h.Count)
	}
	return err
}

// Drop forgets all that was counted of a device.
func (c *Counter) Drop(device string) error {
	c.saving.Lock()
	defer c.saving.Unlock()
	c.mu.Lock()
	for k := range c.counts {
		if k.device == device {
			delete(c.counts, k)
		}
	}
	c.mu.Unlock()
	return c.o.Keeper.Drop(device)
}

// Sum adds up what passed from one time up to another, whole hours each, by device. Since is
// from when on there are counts; the zero time for none.
func (c *Counter) Sum(ctx context.Context, from, to time.Time) (sums map[string]Count, since time.Time, err error) {
	if err := c.Save(); err != nil {
		c.o.Failed(err)
	}
	sums, first, err := c.o.Keeper.Sum(ctx, hourOf(from), hourOf(to)+1)
	if err == nil && first > 0 {
		since = time.Unix(first*3600, 0)
	}
	return sums, since, err
}
