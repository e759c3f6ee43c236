package mqtt

import "sync/atomic"

// hands do what needs a deep stack. A session spends its life waiting for the
// next packet; would it also judge and store it, its stack would stay as deep as
// that once took, and ten thousand such stacks are most of a small machine.
// Work of one session is still done in order: it waits until its own is done.
type hands struct {
	work chan task
	idle atomic.Int32
	quit chan struct{}
}

type task struct {
	do   func() bool
	done chan<- bool
}

// maxIdle is how many hands stay when there is nothing to do.
const maxIdle = 64

func newHands() *hands { return &hands{work: make(chan task), quit: make(chan struct{})} }

// do has f called on another stack and returns what it returns. Nothing waits
// for a free hand: where none is, there is one more.
func (h *hands) do(f func() bool, done chan bool) bool {
	t := task{f, done}
	select {
	case h.work <- t:
	default:
		go h.serve(t)
	}
	return <-done
}

// lend has f called on another stack, and does not wait for its end.
func (h *hands) lend(f func()) {
	t := task{do: func() bool { f(); return true }}
	select {
	case h.work <- t:
	default:
		go h.serve(t)
	}
}

func (h *hands) serve(t task) {
	for {
		if ok := t.do(); t.done != nil {
			t.done <- ok
		}
		if h.idle.Add(1) > maxIdle {
			h.idle.Add(-1)
			return
		}
		select {
		case t = <-h.work:
			h.idle.Add(-1)
		case <-h.quit:
			return
		}
	}
}

// close ends the idle hands.
func (h *hands) close() { close(h.quit) }
