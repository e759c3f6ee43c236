package store

import "time"

// together is how far apart the commits of readings are at least while nobody
// waits for one. A thousand devices that report on their own come one a
// millisecond; each would have a flush of the disk for itself.
const together = 10 * time.Millisecond

// gathering says when the writer commits: at once where that is long ago, where
// somebody sends nothing more before it is answered, and else when others have
// had the time to come. Telemetry.mu is held for all of it.
type gathering struct {
	begun  time.Time // of the last commit
	urgent bool      // somebody in the queue waits
	// lately are those in the last two commits. A device among them that is there
	// again has sent right behind its answer, or without waiting for it: it sends
	// as much as it is answered.
	lately [2]map[string]struct{}
	alarm  *time.Timer // wakes the writer
}

func newGathering(wake func()) gathering {
	g := gathering{lately: [2]map[string]struct{}{{}, {}}, alarm: time.AfterFunc(time.Hour, wake)}
	g.alarm.Stop()
	return g
}

// add takes note of somebody new in the queue, and reports whether the writer is
// to be woken now. The first one sets the alarm for later.
func (g *gathering) add(device string, patient, first bool) bool {
	if g.urgent {
		return false // it has been woken, or is at work
	}
	if g.urgent = !patient || g.again(device); g.urgent {
		return true
	}
	if !first {
		return false
	}
	wait := g.wait()
	if wait > 0 {
		g.alarm.Reset(wait)
	}
	return wait <= 0
}

func (g *gathering) again(device string) bool {
	for _, some := range g.lately {
		if _, ok := some[device]; ok {
			return true
		}
	}
	return false
}

// wait is how long the writer lets others come.
func (g *gathering) wait() time.Duration {
	if g.urgent {
		return 0
	}
	return together - time.Since(g.begun)
}

// taken begins with the next commit. What is left in the queue has waited.
func (g *gathering) taken(devices func(yield func(string) bool), left bool) {
	g.begun, g.urgent = time.Now(), left
	g.lately[0], g.lately[1] = g.lately[1], g.lately[0]
	clear(g.lately[0])
	for d := range devices {
		g.lately[0][d] = struct{}{}
	}
}
