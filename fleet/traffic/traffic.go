// Package traffic keeps the latest raw messages of the fleet in memory, both
// ways, with what became of each: the decoded result or the reason of refusal.
package traffic

import (
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"ullage/core/model"
	"ullage/core/value"
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
	TLS       string          `json:"tls,omitempty" doc:"TLS version of a connection that is encrypted" example:"TLS 1.3"`
	By        string          `json:"by,omitempty" doc:"Person who sent it as the device, which did not"`
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

// How much of one entry is kept, in bytes; what is longer is cut, since all of
// it is what strangers and devices send.
const (
	maxBody     = 2048
	maxTopic    = 200
	maxReason   = 600
	maxNote     = 400
	maxPointer  = 120
	maxSentence = 300
	maxFindings = 10
)

// Maximum is how many bytes all entries together may take up, where Options do
// not say. An entry is some hundred bytes, and 8 kB at most.
const Maximum = 64 << 20

// Options bound what is kept.
type Options struct {
	// All is how many of the latest entries are kept; 2,000 if it is zero.
	All int
	// EachDevice is how many of the latest of each device, 100 if it is zero, and
	// Devices how many of all devices together, 40,000 if it is zero. Where there
	// are many devices each keeps fewer, but always four.
	EachDevice, Devices int
	// Bytes is what all entries together may take up; Maximum if it is zero. Beyond
	// it the oldest lose what was in them, and only say that they were.
	Bytes int
	// Start is when the service started; now if it is zero.
	Start time.Time
}

// Log holds the latest entries in a ring, and the latest of each device in
// one of its own, so that a busy neighbour does not push a quiet device out.
type Log struct {
	mu      sync.Mutex
	seq     uint64
	all     ring
	devices map[string]*ring
	full    held // the head of the ring of entries that hold something, the oldest as its newer one
	bytes   int  // what those take up
	o       Options
	refused uint64
	changed chan struct{} // closed with the next entry; nil while nobody waits
	hide    func(device, text string) string
	count   func(Entry)
	keeper  Keeper // nil for memory alone
	keep    *keeping
}

// New returns a Log.
func New(o Options) *Log {
	if o.Start.IsZero() {
		o.Start = time.Now()
	}
	for field, usual := range map[*int]int{&o.All: 2000, &o.EachDevice: 100, &o.Devices: 40_000,
		&o.Bytes: Maximum} {
		if *field <= 0 {
			*field = usual
		}
	}
	// Numbers grow across restarts, as long as there are fewer than a million a second.
	l := &Log{all: ring{size: o.All}, devices: map[string]*ring{}, o: o, seq: uint64(o.Start.UnixMilli()) * 1000}
	l.full.older, l.full.newer = &l.full, &l.full
	return l
}

// each is how many entries a device keeps now.
func (l *Log) each() int { return min(l.o.EachDevice, max(4, l.o.Devices/max(len(l.devices), 1))) }

// Hiding has secrets of a device taken out of what is kept. It must be called before the
// first entry.
func (l *Log) Hiding(hide func(device, text string) string) { l.hide = hide }

// Counting has every entry counted too. It must be called before the first entry.
func (l *Log) Counting(count func(Entry)) { l.count = count }

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
	if l.hide != nil && e.Device != "" {
		e.Body, e.Reason, e.Note = l.hide(e.Device, e.Body), l.hide(e.Device, e.Reason), l.hide(e.Device, e.Note)
		e.Refused, e.Marked = l.hidden(e.Device, e.Refused), l.hidden(e.Device, e.Marked)
	}
	e.cut()
	if l.count != nil {
		l.count(e)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seq++
	e.Seq = l.seq
	if e.Refusal() {
		l.refused++
	}
	l.kept(e)
	var own *ring
	var before *held
	if e.Device != "" {
		if own = l.devices[e.Device]; own == nil {
			own = &ring{}
			l.devices[e.Device] = own
		}
		l.resize(own, l.each())
		before = own.last()
	}
	kept := holding(e, before)
	l.hold(kept, e.weight())
	l.put(&l.all, kept)
	if own != nil {
		l.put(own, kept)
	}
	if l.changed != nil {
		close(l.changed)
		l.changed = nil
	}
	return e
}

func (l *Log) hidden(device string, fs []model.Finding) []model.Finding {
	out := slices.Clone(fs)
	for i := range out {
		out[i].Sentence = l.hide(device, out[i].Sentence)
	}
	return out
}

// cut cuts what is longer than is kept. Its texts are copies, since a part of a
// message would keep all of it in memory; that of the topic is made by holding.
func (e *Entry) cut() {
	e.Body = fitting(e.Body)
	e.Topic, e.Claimed = printable(value.Clip(e.Topic, maxTopic)), strings.Clone(printable(value.Clip(e.Claimed, maxTopic)))
	e.Reason, e.Note = strings.Clone(value.Clip(e.Reason, maxReason)), strings.Clone(value.Clip(e.Note, maxNote))
	e.Refused, e.Marked = cutFindings(e.Refused), cutFindings(e.Marked)
}

// printable writes control characters as escapes: what strangers claim is shown on
// terminals too.
func printable(s string) string {
	if !strings.ContainsFunc(s, unicode.IsControl) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if unicode.IsControl(r) {
			fmt.Fprintf(&b, "\\x%02x", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func cutFindings(all []model.Finding) []model.Finding {
	if len(all) == 0 {
		return nil
	}
	out := make([]model.Finding, 0, min(len(all), maxFindings+1))
	for i, f := range all {
		if i == maxFindings {
			return append(out, model.Finding{Sentence: fmt.Sprintf("and %d more like these", len(all)-i)})
		}
		out = append(out, model.Finding{Pointer: strings.Clone(value.Clip(f.Pointer, maxPointer)),
			Sentence: strings.Clone(value.Clip(f.Sentence, maxSentence))})
	}
	return out
}

// weight is how many bytes the texts of an entry take up.
func (e *Entry) weight() int {
	n := len(e.Body) + len(e.Topic) + len(e.Claimed) + len(e.Reason) + len(e.Note)
	for _, fs := range [][]model.Finding{e.Refused, e.Marked} {
		for _, f := range fs {
			n += len(f.Pointer) + len(f.Sentence) + 64
		}
	}
	return n
}

// Filter narrows what Recent returns.
type Filter struct {
	Among   map[string]bool // only of these devices, unless it is nil
	Device  string
	Refused bool   // only entries with something refused
	After   uint64 // only entries with a greater Seq
	Before  uint64 // only entries with a smaller Seq, unless it is 0
	From    time.Time
	To      time.Time           // not included
	Text    string              // only entries in which this stands, in letters of either size
	Match   func(e *Entry) bool // nil for every entry
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
		if e.seq <= f.After || f.Limit > 0 && len(out) == f.Limit {
			break
		}
		if x := e.entry(); f.Passes(&x) {
			out = append(out, x)
		}
	}
	return out
}

// Count returns how many entries of a device are held.
func (l *Log) Count(device string) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.of(device))
}

// of returns the entries of a device in both rings.
func (l *Log) of(device string) map[*held]bool {
	out := map[*held]bool{}
	if r := l.devices[device]; r != nil {
		for _, e := range r.items {
			out[e] = true
		}
	}
	for _, e := range l.all.items {
		if e.device == device {
			out[e] = true
		}
	}
	return out
}

// Forget drops every entry of a device.
func (l *Log) Forget(device string) error {
	l.forget(device)
	var err error
	if l.keep != nil {
		l.ask(func() { err = l.keeper.Forget(device) })
	}
	return err
}

func (l *Log) forget(device string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for e := range l.of(device) {
		l.empty(e)
	}
	delete(l.devices, device)
	kept := make([]*held, 0, len(l.all.items))
	for i := len(l.all.items) - 1; i >= 0; i-- {
		if e := l.all.newest(i); e.device != device {
			kept = append(kept, e)
		}
	}
	l.all.items, l.all.next = kept, 0
}

// Counts returns how many entries were recorded since the start and how many had something refused.
func (l *Log) Counts() (all, refused uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.seq - uint64(l.o.Start.UnixMilli())*1000, l.refused
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

// fitting cuts what a device sent to the bytes that are kept of it.
func fitting(s string) string {
	if len(s) > maxBody {
		s = s[:maxBody]
		for !utf8.ValidString(s) && len(s) > maxBody-4 {
			s = s[:len(s)-1]
		}
		s += "…"
	}
	return s
}
