package traffic

import (
	"strings"
	"time"

	"ullage/core/model"
	"ullage/core/value"
)

// held is an entry in the rings that hold it. There are tens of thousands of them, and
// most say little more than when what came from whom.
type held struct {
	seq         uint64
	at          time.Time
	device      string
	topic, body string
	size, kept  int32
	rings       int32
	weight      int32
	way         *way
	rare        *rare
	// The ones before and after it among those that hold something; nil once emptied. They stand
	// here and in no container/list, which takes 40 bytes more for each.
	older, newer *held
}

// way is how an entry came or went. The entries of a device that follow each other share it.
type way struct {
	direction              Direction
	transport, remote, tls string
}

// rare is what few entries say.
type rare struct {
	claimed, by, reason, ref, note string
	refused, marked                []model.Finding
}

// holding returns what is held of an entry. It shares what it can with the one before it of the
// same device, which may be nil.
func holding(e Entry, before *held) *held {
	h := &held{}
	if before != nil {
		h.way = before.way
	}
	if before != nil && before.topic == e.Topic {
		e.Topic = before.topic
	} else {
		e.Topic = strings.Clone(e.Topic)
	}
	h.set(e)
	return h
}

func (h *held) set(e Entry) {
	h.seq, h.at, h.device, h.topic, h.body = e.Seq, e.At, e.Device, e.Topic, e.Body
	h.size, h.kept = int32(e.Size), int32(e.Kept)
	if w := (way{e.Direction, e.Transport, e.Remote, e.TLS}); h.way == nil || *h.way != w {
		another := w // it alone takes memory: most come as the one before
		h.way = &another
	}
	h.rare = nil
	if e.Refusal() || len(e.Marked) > 0 || e.Claimed+e.By+e.Ref+e.Note != "" {
		h.rare = &rare{e.Claimed, e.By, e.Reason, e.Ref, e.Note, e.Refused, e.Marked}
	}
}

func (h *held) entry() Entry {
	e := Entry{Seq: h.seq, At: h.at, Device: h.device, Direction: h.way.direction, Transport: h.way.transport,
		Remote: h.way.remote, TLS: h.way.tls, Topic: h.topic, Body: h.body, Size: int(h.size), Kept: int(h.kept)}
	if r := h.rare; r != nil {
		e.Claimed, e.By, e.Reason, e.Ref, e.Note = r.claimed, r.by, r.reason, r.ref, r.note
		e.Refused, e.Marked = r.refused, r.marked
	}
	return e
}

// hold counts an entry, and empties the oldest ones where there is no room.
func (l *Log) hold(e *held, weight int) {
	e.weight = int32(weight)
	last := l.full.older
	e.older, e.newer = last, &l.full
	last.newer, l.full.older = e, e
	for l.bytes += weight; l.bytes > l.o.Bytes; {
		gone := l.full.newer
		l.empty(gone)
		old := gone.entry()
		refused := old.Refusal()
		old.Body, old.Refused, old.Marked, old.Note = "", nil, nil, "what it held gave way to newer messages"
		if old.Topic, old.Claimed = value.Clip(old.Topic, 40), ""; refused {
			old.Reason = value.Clip(old.Reason, 80)
			if old.Reason == "" {
				old.Reason = "refused in part"
			}
		}
		gone.set(old)
	}
}

// empty takes an entry out of those that hold something.
func (l *Log) empty(e *held) {
	if e.newer != nil {
		e.older.newer, e.newer.older = e.newer, e.older
		e.older, e.newer = nil, nil
		l.bytes -= int(e.weight)
	}
}

// release takes an entry out of a ring.
func (l *Log) release(e *held) {
	if e == nil {
		return
	}
	if e.rings--; e.rings == 0 {
		l.empty(e)
	}
}

func (l *Log) put(r *ring, e *held) {
	e.rings++
	l.release(r.put(e))
}

func (l *Log) resize(r *ring, size int) {
	for _, e := range r.resize(size) {
		l.release(e)
	}
}

type ring struct {
	items []*held
	next  int
	size  int
}

// put puts an entry in, and returns the one that had its place.
func (r *ring) put(e *held) (out *held) {
	if len(r.items) < r.size {
		r.items = append(r.items, e)
		return nil
	}
	out = r.items[r.next]
	r.items[r.next] = e
	r.next = (r.next + 1) % r.size
	return out
}

// resize changes how many items a ring keeps at most, and returns those that it
// does not keep any more.
func (r *ring) resize(size int) (out []*held) {
	if size == r.size {
		return nil
	}
	if n := len(r.items); n > 0 && (n > size || r.next != 0) {
		items := make([]*held, 0, min(n, size))
		for i := n - 1; i >= 0; i-- {
			if e := r.newest(i); i < size {
				items = append(items, e)
			} else {
				out = append(out, e)
			}
		}
		r.items, r.next = items, 0
	}
	r.size = size
	return out
}

// last returns the newest item; nil for none.
func (r *ring) last() *held {
	if len(r.items) == 0 {
		return nil
	}
	return r.newest(0)
}

// newest returns the i-th newest item.
func (r *ring) newest(i int) *held {
	n := len(r.items)
	return r.items[((r.next-1-i)%n+n)%n]
}
