package server

import (
	"context"
	"os"
	"runtime/debug"
	rt "runtime/metrics"
	"time"
)

// The bounds of what the heap may grow by between two collections.
const (
	// share of what lives, in percent: most of that is what the fleet is like and
	// stays, so letting it double would cost more memory than it saves time.
	share = 48
	// between is how long a collection should be away from the next, in seconds,
	// and most what that may cost. A wave of changes allocates more in two seconds
	// than the quiet fleet in a minute, and readings should not have to share the
	// cores with the collector just then.
	between = 5
	most    = 128 << 20
	least   = 8 << 20
)

// growth returns by how many percent of what lives the heap may grow until the
// next collection, at a rate of bytes allocated in a second.
func growth(live, rate uint64) int {
	live = max(live, 1<<20)
	room := max(live*share/100, least, min(rate*between, most))
	return int((room*100 + live/2) / live)
}

// large reports whether a heap has been clearly larger than it gets at rest. To give back the
// room that it had costs a collection, for which a few busy moments are no reason.
func large(live, peak uint64) bool {
	live = max(live, 1<<20)
	room := live * uint64(growth(live, 0)) / 100
	return peak > live+room+room/4
}

// tendHeap keeps the collector's target at growth until ctx ends, unless the
// environment sets one. See docs/performance.md for what it costs and gives.
func tendHeap(ctx context.Context) {
	if os.Getenv("GOGC") != "" {
		return
	}
	const every = 400 * time.Millisecond
	samples := []rt.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/gc/heap/allocs:bytes"},
		{Name: "/memory/classes/heap/objects:bytes"}}
	rt.Read(samples)
	allocated, rate := samples[1].Value.Uint64(), uint64(0)
	set := growth(samples[0].Value.Uint64(), 0)
	debug.SetGCPercent(set)
	tick := time.NewTicker(every)
	defer tick.Stop()
	wave, peak := false, uint64(0)
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		rt.Read(samples)
		now := samples[1].Value.Uint64()
		// Up at once, down over seconds, so that the end of a wave is part of it.
		rate = max((now-allocated)*uint64(time.Second/every), rate-rate/8)
		allocated = now
		live := samples[0].Value.Uint64()
		// Each setting stops the world for some microseconds.
		if p := growth(live, rate); p > set+set/8 || p < set-set/8 {
			set = p
			debug.SetGCPercent(p)
		}
		switch calm := growth(live, 0); {
		case set > calm+calm/2:
			wave, peak = true, max(peak, samples[2].Value.Uint64())
		case wave && set <= calm+calm/8:
			if large(live, peak) {
				debug.FreeOSMemory()
			}
			wave, peak = false, 0
		}
	}
}
