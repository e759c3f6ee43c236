package door

import (
	"fmt"
	"testing"
	"time"
)

func TestGate(t *testing.T) {
	now := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	g := newGate(3, func() time.Time { return now })
	for i := range 5 {
		wait, quiet := g.failed("127.0.0.1")
		if quiet != (i >= 3) || (wait > 0) != quiet {
			t.Errorf("failure %d: wait %s, quiet %v", i+1, wait, quiet)
		}
	}
	if _, quiet := g.failed("127.0.0.2"); quiet {
		t.Error("another address pays for the first")
	}
	now = now.Add(61 * time.Second)
	if _, quiet := g.failed("127.0.0.1"); quiet {
		t.Error("after a minute it is still quiet")
	}
}

func TestGateKeepsABoundedNumberOfAddresses(t *testing.T) {
	now := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	g := newGate(3, func() time.Time { return now })
	for i := range 3 * maxAddresses {
		g.failed(fmt.Sprintf("2001:db8::%x", i))
	}
	if n := len(g.failures); n > maxAddresses+1 {
		t.Errorf("it keeps %d addresses, want %d at most", n, maxAddresses+1)
	}
	if _, quiet := g.failed("2001:db8:1::1"); !quiet {
		t.Error("one more address of the flood is told in the traffic")
	}
	now = now.Add(2 * time.Minute)
	if _, quiet := g.failed("2001:db8:1::1"); quiet {
		t.Error("two minutes later an address is still quiet")
	}
}
