package devices

import (
	"sync"
	"time"
)

// Gate counts failed attempts to get in, by network address. It never counts
// by the claimed device, or a stranger could lock a device out; and it never
// refuses a right token, so that one broken device does not take down its
// neighbours behind the same address. Tokens have 256 random bits: the gate
// keeps noise down, it is not what makes guessing hopeless.
type Gate struct {
	limit int
	now   func() time.Time

	mu       sync.Mutex
	failures map[string]*failures
}

type failures struct {
	since time.Time
	count int
}

// NewGate returns a Gate that lets through limit failures a minute from one
// address before it slows down.
func NewGate(limit int, now func() time.Time) *Gate {
	return &Gate{limit: limit, now: now, failures: map[string]*failures{}}
}

// Failed records a failure from an address. It returns how long to wait before
// answering, and whether the failure is one too many to be told in the traffic.
func (g *Gate) Failed(address string) (wait time.Duration, quiet bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	if len(g.failures) > 10_000 {
		for a, f := range g.failures {
			if now.Sub(f.since) > time.Minute {
				delete(g.failures, a)
			}
		}
	}
	f := g.failures[address]
	if f == nil || now.Sub(f.since) > time.Minute {
		f = &failures{since: now}
		g.failures[address] = f
	}
	f.count++
	if f.count > g.limit {
		return 2 * time.Second, true
	}
	return 0, false
}
