// Package event carries news of what was committed to those that keep
// something up to date with it. Devices are spread over shards by a hash of
// their id; the news of one device is told in order, by one goroutine, so that
// the state a shard owns needs no lock against other shards.
package event

import (
	"hash/fnv"
	"runtime"
	"sync"
	"time"

	"ullage/core/health"
	"ullage/core/lifecycle"
	"ullage/core/rule"
	"ullage/core/value"
)

// Event is one piece of news. About returns the device it is of, or "" for
// news that concerns every shard.
type Event interface{ About() string }

// Readings were stored.
type Readings struct {
	Device   string
	Readings []value.Reading
	Arrived  time.Time
}

// Backfilled tells that readings of the past were computed and stored; Latest
// are the newest of each metric.
type Backfilled struct {
	Device string
	Latest []value.Reading
}

// Deleted tells that people have deleted readings of some metrics; Latest are
// the newest that are left of each of them.
type Deleted struct {
	Device  string
	Metrics []string
	Latest  []value.Reading
}

// Device was created, labelled, suspended, retired or given another model.
type Device struct{ Device string }

// Attributes were reported.
type Attributes struct{ Device string }

// Settings were changed by people or confirmed by the device; or, with Again, it has not
// answered for a while and is to be told of them once more.
type Settings struct {
	Device string
	Again  bool
}

// Link changed: the device was heard for the first time (First), fell silent, is
// back, or is overdue. Told says that it is for the journal too.
type Link struct {
	Device string
	Link   health.Link
	Last   time.Time // of the newest reading
	At     time.Time
	First  bool
	Told   bool
}

// Command tells that a command was given to the device, or has ended.
type Command struct{ Device string }

// Sent is an event of the model that a device told of. Data is JSON.
type Sent struct {
	Device, Name string
	Data         []byte
	At           time.Time
}

// Alarm was raised, acknowledged or returned; its state tells which.
type Alarm struct {
	Device, Group     string // one of them
	ID, Rule, Message string
	Priority          rule.Priority
	State             lifecycle.State // as people see it
	Holds             bool            // its condition
	RaisedAt          time.Time
	By                string // who has acknowledged it
	Metric            string // that it is about
}

// Margins were measured: how far the device is from the limits of its rules.
type Margins struct {
	Device  string
	Margins []health.Margin
}

// Ahead tells when a device probably gets to the limits of its rules, by their
// names; of a rule that is not named it does not.
type Ahead struct {
	Device string
	Limits map[string]health.ToLimit
}

// Refused tells of a message, or part of one, that was not kept.
type Refused struct {
	Device string
	At     time.Time
}

// Models tells that a model was added or replaced.
type Models struct{ Name string }

// Rules tells that rules were added, replaced or removed.
type Rules struct {
	// Models are those whose devices the changed rules are for.
	Models map[string]bool
}

// Tick tells the time, some times a second.
type Tick struct{ Now time.Time }

// About implements Event.
func (e Readings) About() string   { return e.Device }
func (e Backfilled) About() string { return e.Device }
func (e Deleted) About() string    { return e.Device }
func (e Device) About() string     { return e.Device }
func (e Attributes) About() string { return e.Device }
func (e Settings) About() string   { return e.Device }
func (e Command) About() string    { return e.Device }
func (e Sent) About() string       { return e.Device }
func (e Alarm) About() string      { return e.Device + e.Group }
func (e Link) About() string       { return e.Device }
func (e Margins) About() string    { return e.Device }
func (e Ahead) About() string      { return e.Device }
func (e Refused) About() string    { return e.Device }
func (Models) About() string       { return "" }
func (Rules) About() string        { return "" }
func (Tick) About() string         { return "" }

// Shards is how many shards there are.
const Shards = 8

// ShardOf returns the shard of a device, from 0 to Shards-1.
func ShardOf(device string) int {
	h := fnv.New32a()
	h.Write([]byte(device))
	return int(h.Sum32() % Shards)
}

// Handler is told the news of one shard. It runs on the shard's goroutine.
type Handler func(shard int, e Event)

// Bus tells handlers the news, in the order in which it was published for each
// device. Make one with NewBus, add every handler, then Start it.
type Bus struct {
	handlers []Handler
	shards   [Shards]shard
	done     sync.WaitGroup
}

type shard struct {
	mu      sync.Mutex
	changed *sync.Cond
	queue   []Event
	told    uint64 // how many events have been handled
	put     uint64 // how many were published
	stopped bool
}

// NewBus returns a Bus that has no handlers yet.
func NewBus() *Bus {
	b := &Bus{}
	for i := range b.shards {
		b.shards[i].changed = sync.NewCond(&b.shards[i].mu)
	}
	return b
}

// Handle adds a handler. Handlers are called in the order they were added.
func (b *Bus) Handle(h Handler) { b.handlers = append(b.handlers, h) }

// Start begins to tell the news.
func (b *Bus) Start() {
	for i := range b.shards {
		b.done.Add(1)
		go b.run(i)
	}
}

// Stop tells what is queued and returns when it has been handled.
func (b *Bus) Stop() {
	for i := range b.shards {
		s := &b.shards[i]
		s.mu.Lock()
		s.stopped = true
		s.changed.Broadcast()
		s.mu.Unlock()
	}
	b.done.Wait()
}

// Publish queues e. It never blocks, so that a handler may publish too.
func (b *Bus) Publish(e Event) {
	if id := e.About(); id != "" {
		b.shards[ShardOf(id)].push(e)
		return
	}
	for i := range b.shards {
		b.shards[i].push(e)
	}
}

// Tell queues e for one shard alone.
func (b *Bus) Tell(shard int, e Event) { b.shards[shard].push(e) }

// Settle waits until everything published so far has been handled. It must
// not be called by a handler.
func (b *Bus) Settle() {
	for i := range b.shards {
		s := &b.shards[i]
		s.mu.Lock()
		for want := s.put; s.told < want && !s.stopped; {
			s.changed.Wait()
		}
		s.mu.Unlock()
	}
}

// Behind returns the longest queue, for backpressure and metrics.
func (b *Bus) Behind() int {
	n := 0
	for i := range b.shards {
		s := &b.shards[i]
		s.mu.Lock()
		n = max(n, len(s.queue))
		s.mu.Unlock()
	}
	return n
}

func (s *shard) push(e Event) {
	s.mu.Lock()
	s.queue = append(s.queue, e)
	s.put++
	s.changed.Broadcast()
	s.mu.Unlock()
}

// stretch is how many events of many are handled before others may have the core. It is not
// one, since a goroutine that gives way has another core woken.
const stretch = 4

func (b *Bus) run(i int) {
	defer b.done.Done()
	s := &b.shards[i]
	var batch []Event
	for {
		s.mu.Lock()
		s.told += uint64(len(batch))
		if len(batch) > 0 {
			s.changed.Broadcast()
		}
		for len(s.queue) == 0 && !s.stopped {
			s.changed.Wait()
		}
		if len(s.queue) == 0 {
			s.mu.Unlock()
			return
		}
		clear(batch)
		batch, s.queue = s.queue, batch[:0]
		s.mu.Unlock()
		for n, e := range batch {
			for _, h := range b.handlers {
				h(i, e)
			}
			if n%stretch == stretch-1 {
				runtime.Gosched() // readings that have come meanwhile go first
			}
		}
	}
}
