// Package traffic keeps the latest raw messages of the fleet in memory, both
// ways, with what became of each: the decoded result or the reason of refusal.
package traffic

import (
	"crypto/rand"
	"sync"
	"time"
	"unicode/utf8"

	"ullage/core/model"
)

// Direction is up (from the device) or down (to it).
type Direction string

// The directions.
const (
	Up   Direction = "up"
	Down Direction = "down"
)

// Entry is one message or one refused connection.
type Entry struct {
	Seq       uint64          `json:"seq" doc:"Grows by one with each entry since the service started"`
	At        time.Time       `json:"at" doc:"When it passed"`
	Device    string          `json:"device,omitempty" doc:"Device it is of; empty where nobody was recognised"`
	Claimed   string          `json:"claimed,omitempty" doc:"Device id that an unrecognised caller claimed"`
	Direction Direction       `json:"direction" enum:"up,down" doc:"up is from the device, down is to it"`
	Transport string          `json:"transport" doc:"mqtt or http"`
	Remote    string          `json:"remote,omitempty" doc:"Network address of the other side"`
	Topic     string          `json:"topic" doc:"Topic below the device's own, such as readings, or connect"`
	Body      string          `json:"body,omitempty" doc:"The message, cut at 2 KiB"`
	Size      int             `json:"size" doc:"Bytes of the whole message"`
	Kept      int             `json:"kept" doc:"Readings or values that were kept"`
	Refused   []model.Finding `json:"refused,omitempty" doc:"What was not kept, and why"`
	Marked    []model.Finding `json:"marked,omitempty" doc:"What was kept with a mark, and why"`
	Reason    string          `json:"reason,omitempty" doc:"Why the whole message or connection was refused"`
	Ref       string          `json:"ref,omitempty" doc:"What a stranger was told instead of the reason"`
	Note      string          `json:"note,omitempty" doc:"Anything else worth knowing"`
}

// Refusal reports whether something about e was refused.
func (e *Entry) Refusal() bool { return e.Reason != "" || len(e.Refused) > 0 }

// maxBody is how much of a message is shown.
const maxBody = 2048

// Options bound what is kept.
type Options struct {
	// All is how many of the latest entries are kept; 2,000 if it is zero.
	All int
	// EachDevice is how many of the latest of each device, 100 if it is zero, and
	// Devices how many of all devices together, 40,000 if it is zero. Where there
	// are many devices each keeps fewer, but always four.
	EachDevice, Devices int
}

// Log holds the latest entries in a ring, and the latest of each device in
// one of its own, so that a busy neighbour does not push a quiet device out.
type Log struct {
	mu      sync.Mutex
	seq     uint64
	all     ring
	devices map[string]*ring
	o       Options
	refused uint64
	changed chan struct{} // closed with the next entry; nil while nobody waits
}

// New returns a Log.
func New(o Options) *Log {
	for field, usual := range map[*int]int{&o.All: 2000, &o.EachDevice: 100, &o.Devices: 40_000} {
		if *field <= 0 {
			*field = usual
		}
	}
	return &Log{all: ring{size: o.All}, devices: map[string]*ring{}, o: o}
}

// each is how many entries a device keeps now.
func (l *Log) each() int { return min(l.o.EachDevice, max(4, l.o.Devices/max(len(l.devices), 1))) }

// Changed returns a channel that is closed with the next entry.
func (l *Log) Changed() <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.changed == nil {
		l.changed = make(chan struct{})
	}
	return l.changed
}

// Add records e and returns it with its number.
func (l *Log) Add(e Entry) Entry {
	e.Size = max(e.Size, len(e.Body))
	e.Body = clip(e.Body)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seq++
	e.Seq = l.seq
	if e.Refusal() {
		l.refused++
	}
	kept := &e
	l.all.put(kept)
	if id := e.Device; id != "" {
		r := l.devices[id]
		if r == nil {
			r = &ring{}
			l.devices[id] = r
		}
		r.resize(l.each())
		r.put(kept)
	}
	if l.changed != nil {
		close(l.changed)
		l.changed = nil
	}
	return e
}

// Filter narrows what Recent returns.
type Filter struct {
	Among   map[string]bool // only of these devices, unless it is nil
	Device  string
	Refused bool   // only entries with something refused
	After   uint64 // only entries with a greater Seq
	Limit   int
}

// Recent returns the entries that pass f, the newest first.
func (l *Log) Recent(f Filter) []Entry {
	l.mu.Lock()
	defer l.mu.Unlock()
	r := &l.all
	if f.Device != "" {
		if r = l.devices[f.Device]; r == nil {
			r = &ring{}
		}
	}
	out := []Entry{}
	for i := range r.items {
		e := r.newest(i)
		if e.Seq <= f.After || f.Limit > 0 && len(out) == f.Limit {
			break
		}
		if (!f.Refused || e.Refusal()) && (f.Among == nil || f.Among[e.Device]) {
			out = append(out, *e)
		}
	}
	return out
}

// Counts returns how many entries were recorded and how many had something refused.
func (l *Log) Counts() (all, refused uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.seq, l.refused
}

// NewRef returns a short code that a stranger can quote to an engineer: four
// of the 32 letters and digits that are not mistaken for each other.
func NewRef() string {
	const letters = "23456789ABCDEFGHJKLMNPQRSTUVWXYZ"
	b := make([]byte, 4)
	rand.Read(b)
	for i := range b {
		b[i] = letters[b[i]%32]
	}
	return string(b)
}

type ring struct {
	items []*Entry
	next  int
	size  int
}

func (r *ring) put(e *Entry) {
	if len(r.items) < r.size {
		r.items = append(r.items, e)
		return
	}
	r.items[r.next] = e
	r.next = (r.next + 1) % r.size
}

// resize changes how many items a ring keeps at most.
func (r *ring) resize(size int) {
	if size == r.size {
		return
	}
	if n := len(r.items); n > 0 && (n > size || r.next != 0) {
		items := make([]*Entry, 0, min(n, size))
		for i := min(n, size) - 1; i >= 0; i-- {
			items = append(items, r.newest(i))
		}
		r.items, r.next = items, 0
	}
	r.size = size
}

// newest returns the i-th newest item.
func (r *ring) newest(i int) *Entry {
	n := len(r.items)
	return r.items[((r.next-1-i)%n+n)%n]
}

func clip(s string) string {
	if len(s) > maxBody {
		s = s[:maxBody]
		for !utf8.ValidString(s) && len(s) > maxBody-4 {
			s = s[:len(s)-1]
		}
		s += "…"
	}
	return s
}
