package mqtt

import (
	"bufio"
	"bytes"
	"errors"
	"net"
	"os"
	"sync"
	"time"

	"ullage/transport/door"
)

// slot is one message that waits for its commit. Slots are answered in the
// order in which the messages came.
type slot struct {
	id      uint16
	qos     byte
	done    bool
	verdict door.Verdict
}

// todo is what a session has to say. There is a goroutine for it only while
// there is something: ten thousand quiet devices need none.
type todo struct {
	mu    sync.Mutex
	slots []*slot
	poked bool
	over  bool // the session ends
	busy  bool // somebody answers
	room  chan struct{}
}

// wake lets a reader go on that waits for room; the caller holds mu.
func (t *todo) wake() {
	if t.room != nil {
		close(t.room)
		t.room = nil
	}
}

// enqueue makes room for the answer to a message. It waits where too many are
// on their way, and returns false if the session ends meanwhile.
func (x *session) enqueue(sl *slot) bool {
	t := &x.todo
	for {
		t.mu.Lock()
		if t.over {
			t.mu.Unlock()
			return false
		}
		if len(t.slots) < maxPipelined {
			t.slots = append(t.slots, sl)
			t.mu.Unlock()
			return true
		}
		if t.room == nil {
			t.room = make(chan struct{})
		}
		room := t.room
		t.mu.Unlock()
		<-room
	}
}

// ready says what became of a message. It is quick: the store calls it.
func (x *session) ready(sl *slot, v door.Verdict) {
	x.todo.mu.Lock()
	sl.verdict, sl.done = v, true
	x.kick()
	x.todo.mu.Unlock()
}

// poke asks for the newest settings and commands to be sent. Pokes that come
// while one waits are one.
func (x *session) poke() {
	x.todo.mu.Lock()
	x.todo.poked = true
	x.kick()
	x.todo.mu.Unlock()
}

// kick has somebody answer, if there is something to say; the caller holds mu.
func (x *session) kick() {
	t := &x.todo
	if !t.busy && (t.poked || len(t.slots) > 0 && t.slots[0].done || t.over && len(t.slots) == 0) {
		t.busy = true
		x.srv.hands.lend(x.answer)
	}
}

// answer acknowledges messages in the order they came, each after its commit,
// and sends what the service has to say, until there is nothing more.
func (x *session) answer() {
	t := &x.todo
	for {
		t.mu.Lock()
		n := 0
		for n < len(t.slots) && t.slots[n].done {
			n++
		}
		batch := t.slots[:n:n]
		if t.slots = t.slots[n:]; len(t.slots) == 0 {
			t.slots = nil
		}
		poked := t.poked && !t.over
		t.poked = false
		if n == 0 && !poked {
			if t.over && len(t.slots) == 0 { // what was taken before the end is answered for
				t.mu.Unlock()
				x.closing()
				close(x.written)
				return
			}
			t.busy = false
			t.mu.Unlock()
			return
		}
		if n > 0 {
			t.wake()
		}
		t.mu.Unlock()
		for _, sl := range batch {
			if !x.acknowledge(sl) {
				x.end(codeFor(sl.verdict.Problem.Code), sl.verdict.Err.Sentence)
				x.closing()
				close(x.written)
				return
			}
		}
		if poked {
			x.intended()
			x.commands()
		}
		x.flush()
	}
}

const (
	// quietBuffer holds what a device usually sends at once; one that pipelines
	// gets busyBuffer.
	quietBuffer = 256
	busyBuffer  = 4096
	// maxOut is how much is gathered before it is written.
	maxOut = 4096
)

// input reads from a connection, and notes whether more came last than fits into
// the buffer of a quiet device.
type input struct {
	net.Conn
	quit  <-chan struct{} // closed before somebody else moves the deadline, to end the reading
	full  bool
	until time.Time // by when what is being read must be there; zero for no such time
	armed time.Time // the deadline that the connection has; not later than until
}

// expect says by when what is read next must be there, which is never before what was said
// the last time. The connection learns of it once its deadline has passed: to move a deadline
// with each packet costs as much as to judge a reading.
func (i *input) expect(until time.Time) {
	if i.until = until; i.armed.IsZero() {
		i.arm()
	}
}

func (i *input) arm() {
	i.armed = i.until
	i.Conn.SetReadDeadline(i.until)
}

func (i *input) Read(b []byte) (int, error) {
	for {
		n, err := i.Conn.Read(b)
		i.full = n >= quietBuffer
		if n > 0 || !errors.Is(err, os.ErrDeadlineExceeded) || !i.armed.Before(i.until) {
			return n, err
		}
		i.arm()
		select { // asking after our own deadline is set, no end is overlooked
		case <-i.quit:
			return 0, err
		default:
		}
	}
}

var busyReaders = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, busyBuffer) }}

// fit lends a device a larger buffer while it pipelines. It is called between
// two packets.
func (x *session) fit() {
	busy := x.r != x.quiet
	switch {
	case x.r.Buffered() > 0:
	case x.in.full && !busy:
		x.r = busyReaders.Get().(*bufio.Reader)
		x.r.Reset(&x.in)
	case !x.in.full && busy:
		x.r.Reset(nil)
		busyReaders.Put(x.r)
		x.r = x.quiet
	}
}

var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// flushOut writes what is gathered; the caller holds mu. A connection that does
// not take it has ended: what it was not told as acknowledged comes again.
func (x *session) flushOut() {
	if x.out == nil {
		return
	}
	if x.out.Len() > 0 {
		// Moving a deadline costs as much as a tenth of the write.
		if now := time.Now(); now.After(x.writeBy.Add(-writeWait * 9 / 10)) {
			x.writeBy = now.Add(writeWait)
			x.conn.SetWriteDeadline(x.writeBy)
		}
		if _, err := x.conn.Write(x.out.Bytes()); err != nil {
			x.conn.Close() // the reader wakes up, and the session ends
		}
	}
	if x.out.Cap() <= 4*maxOut {
		x.out.Reset()
		buffers.Put(x.out)
	}
	x.out = nil
}
