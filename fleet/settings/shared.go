package settings

import (
	"hash/maphash"
	"maps"
	"sync"

	"ullage/core/layering"
	"ullage/core/value"
)

// documents holds each document of settings once: most devices of a model have
// the same, but what is read from the store, derived or reported comes as one
// map for each device. Nothing changes a document that is part of a State.
type documents struct {
	mu   sync.Mutex
	seed maphash.Seed
	of   map[uint64]layering.Settings
}

// mostDocuments is how many are held. Where there are more, devices differ so
// much that there is little to share.
const mostDocuments = 4096

// The documents of which nothing is said are the most frequent.
var (
	nothing  = layering.Settings{}
	nobody   = map[string]Overridden{}
	noReason = map[string]string{}
)

func newDocuments() *documents {
	return &documents{seed: maphash.MakeSeed(), of: map[uint64]layering.Settings{}}
}

// one returns the document equal to x that came first.
func (h *documents) one(x layering.Settings) layering.Settings {
	if len(x) == 0 {
		return nothing
	}
	var sum uint64 // the same in whichever order a map is walked
	for name, v := range x {
		sum += maphash.Comparable(h.seed, struct {
			name string
			v    value.Value
		}{name, v})
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if had, ok := h.of[sum]; ok {
		if maps.Equal(had, x) {
			return had
		}
		return x
	}
	if len(h.of) >= mostDocuments {
		clear(h.of)
	}
	h.of[sum] = x
	return x
}

// share has a state hold what others hold, too.
func (h *documents) share(s *State) {
	s.Override, s.Intended, s.Applied = h.one(s.Override), h.one(s.Intended), h.one(s.Applied)
	if s.Kept != nil { // nil where an earlier version has stored nothing of it
		s.Kept = h.one(s.Kept)
	}
	if len(s.OverriddenBy) == 0 {
		s.OverriddenBy = nobody
	}
	if len(s.Refused) == 0 {
		s.Refused = noReason
	}
}
