package mqtt

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// TestHands: work that waits holds up no other, what it returns comes back to
// who asked, and no more hands stay than are allowed.
func TestHands(t *testing.T) {
	h := newHands()
	defer h.close()
	const stuck = 3 * maxIdle
	release := make(chan struct{})
	var begun, over sync.WaitGroup
	begun.Add(stuck)
	for range stuck {
		over.Go(func() {
			if !h.do(func() bool { begun.Done(); <-release; return true }, make(chan bool, 1)) {
				t.Error("true came back as false")
			}
		})
	}
	begun.Wait()
	done := make(chan bool, 1)
	if h.do(func() bool { return false }, done) {
		t.Error("false came back as true, while others wait")
	}
	close(release)
	over.Wait()
	for range 200 { // the last ones are on their way out
		if h.idle.Load() <= maxIdle {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if n := h.idle.Load(); n > maxIdle || n < 1 {
		t.Errorf("%d hands are idle, want 1 to %d", n, maxIdle)
	}
	// Those that are left do what comes, in the order of each who asks.
	var n atomic.Int64
	var askers sync.WaitGroup
	for range 8 {
		askers.Go(func() {
			mine := make(chan bool, 1)
			last := int64(-1)
			for i := range int64(500) {
				h.do(func() bool { n.Add(1); last++; return true }, mine)
				if last != i {
					t.Errorf("the work was done %d times, want %d", last+1, i+1)
					return
				}
			}
		})
	}
	askers.Wait()
	if n.Load() != 8*500 {
		t.Errorf("work was done %d times, want %d", n.Load(), 8*500)
	}
}
