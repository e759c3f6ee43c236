package door

import (
	"maps"
	"sync"
	"sync/atomic"
	"time"
)

// gate counts failed attempts to get in, by network address. It never counts
// by the claimed device, or a stranger could lock a device out; and it never
// refuses a right token, so that one broken device does not take down its
// neighbours behind the same address. Tokens have 256 random bits: the gate
// keeps noise down, it is not what makes guessing hopeless.
type gate struct {
	total atomic.Uint64 // failures since the start
	limit int
	now   func() time.Time

	mu       sync.Mutex
	failures map[string]*failures
	swept    time.Time // when those that are over were thrown away last
}

// maxAddresses is how many addresses are told apart.
const maxAddresses = 10_000

type failures struct {
	since time.Time
	count int
}

// newGate returns a gate that lets through limit failures a minute from one
// address before it slows down.
func newGate(limit int, now func() time.Time) *gate {
	return &gate{limit: limit, now: now, failures: map[string]*failures{}}
}

// failed records a failure from an address. It returns how long to wait before
// answering, and whether the failure is one too many to be told in the traffic.
func (g *gate) failed(address string) (wait time.Duration, quiet bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	f := g.failures[address]
	if f == nil && len(g.failures) >= maxAddresses {
		if now.Sub(g.swept) > time.Second {
			g.swept = now
			maps.DeleteFunc(g.failures, func(_ string, f *failures) bool { return now.Sub(f.since) > time.Minute })
		}
		if len(g.failures) >= maxAddresses {
			// More addresses than are told apart fail within a minute: from now on
			// the rest of them count as one.
			address = ""
			f = g.failures[address]
		}
	}
	if f == nil || now.Sub(f.since) > time.Minute {
		f = &failures{since: now}
		g.failures[address] = f
	}
	f.count++
	g.total.Add(1)
	if g.limit > 0 && f.count > g.limit {
		return 2 * time.Second, true
	}
	return 0, false
}
