package traffic

import (
	"container/list"
	"time"

	"ullage/core/model"
	"ullage/core/value"
)

// held is an entry in the rings that hold it. There are tens of thousands of them, and
// most say little more than when what came from whom.
type held struct {
	seq       uint64
	at        time.Time
	device    string
	direction Direction
	transport string
	remote    string
	tls       string
	topic     string
	body      string
	size      int
	kept      int
	rare      *rare

	rings  int32
	weight int32
	full   *list.Element // among those that hold something; nil once emptied
}

// rare is what few entries say.
type rare struct {
	claimed, by, reason, ref, note string
	refused, marked                []model.Finding
}

func holding(e Entry) *held {
	h := &held{}
	h.set(e)
	return h
}

func (h *held) set(e Entry) {
	h.seq, h.at, h.device, h.direction, h.transport = e.Seq, e.At, e.Device, e.Direction, e.Transport
	h.remote, h.tls, h.topic, h.body, h.size, h.kept = e.Remote, e.TLS, e.Topic, e.Body, e.Size, e.Kept
	h.rare = nil
	if e.Refusal() || len(e.Marked) > 0 || e.Claimed+e.By+e.Ref+e.Note != "" {
		h.rare = &rare{e.Claimed, e.By, e.Reason, e.Ref, e.Note, e.Refused, e.Marked}
	}
}

func (h *held) entry() Entry {
	e := Entry{Seq: h.seq, At: h.at, Device: h.device, Direction: h.direction, Transport: h.transport,
		Remote: h.remote, TLS: h.tls, Topic: h.topic, Body: h.body, Size: h.size, Kept: h.kept}
	if r := h.rare; r != nil {
		e.Claimed, e.By, e.Reason, e.Ref, e.Note = r.claimed, r.by, r.reason, r.ref, r.note
		e.Refused, e.Marked = r.refused, r.marked
	}
	return e
}

// hold counts an entry, and empties the oldest ones where there is no room.
func (l *Log) hold(e *held, weight int) {
	e.weight = int32(weight)
	e.full = l.full.PushBack(e)
	for l.bytes += weight; l.bytes > l.o.Bytes; {
		gone := l.full.Front().Value.(*held)
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
	if e.full != nil {
		l.full.Remove(e.full)
		l.bytes -= int(e.weight)
		e.full = nil
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

// newest returns the i-th newest item.
func (r *ring) newest(i int) *held {
	n := len(r.items)
	return r.items[((r.next-1-i)%n+n)%n]
}
