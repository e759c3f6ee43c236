package fact

import "sync"

// News holds the latest facts for those that follow them while the service
// runs. Whoever must not miss one reads the Log by number instead.
type News struct {
	mu      sync.Mutex
	latest  []Fact // a ring
	count   uint64 // of all that were added
	changed chan struct{}
	waiting bool
}

// kept is how many facts News holds.
const kept = 4096

// NewNews returns a News without facts.
func NewNews() *News { return &News{latest: make([]Fact, 0, 64), changed: make(chan struct{})} }

// Add tells of facts that are on disk.
func (n *News) Add(fs ...Fact) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, f := range fs {
		f.Content = nil // it is in the Log
		if len(n.latest) < kept {
			n.latest = append(n.latest, f)
		} else {
			n.latest[n.count%kept] = f
		}
		n.count++
	}
	if n.waiting {
		close(n.changed)
		n.changed, n.waiting = make(chan struct{}), false
	}
}

// Changed returns a channel that is closed with the next fact.
func (n *News) Changed() <-chan struct{} {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.waiting = true
	return n.changed
}

// Count returns how many facts were added; it is where After goes on.
func (n *News) Count() uint64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.count
}

// After returns the facts that were added after the first count of them, and the
// count to ask with next time. Whole is false where some of them are not held
// any more.
func (n *News) After(count uint64) (fs []Fact, next uint64, whole bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	first := n.count - min(n.count, uint64(len(n.latest)))
	whole = count >= first
	for i := max(count, first); i < n.count; i++ {
		fs = append(fs, n.latest[i%kept])
	}
	return fs, n.count, whole
}
