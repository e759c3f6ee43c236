package ingest

import (
	"sync"
	"time"
)

// Meter tells how many readings a second are stored, from samples of the count.
type Meter struct {
	mu      sync.Mutex
	samples []sample
}

type sample struct {
	at    time.Time
	count uint64
}

// Sample notes the count at a time. Samples older than ten seconds are dropped.
func (m *Meter) Sample(at time.Time, count uint64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.samples = append(m.samples, sample{at, count})
	for len(m.samples) > 2 && at.Sub(m.samples[0].at) > 10*time.Second {
		m.samples = m.samples[1:]
	}
}

// PerSecond returns the mean rate over the samples held.
func (m *Meter) PerSecond() float64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.samples) < 2 {
		return 0
	}
	first, last := m.samples[0], m.samples[len(m.samples)-1]
	return float64(last.count-first.count) / last.at.Sub(first.at).Seconds()
}
