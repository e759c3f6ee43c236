package store

import (
	"slices"
	"testing"
	"time"
)

// TestGathering: who wakes the writer, and who lets others come.
func TestGathering(t *testing.T) {
	type came struct {
		device  string
		patient bool
		first   bool
		wakes   bool
	}
	for _, c := range []struct {
		name   string
		lately []string // in the commit before
		before []string // and in that before it
		long   bool     // the commit before is long ago
		came   []came
		waits  bool // the writer lets others come then
	}{
		{"the first in a long time", nil, nil, true, []came{{"a", true, true, true}}, false},
		{"a first one right behind a commit", []string{"x"}, nil, false, []came{{"a", true, true, false}}, true},
		{"and more", []string{"x"}, nil, false, []came{{"a", true, true, false}, {"b", true, false, false}}, true},
		{"one that waits for its answer", nil, nil, false, []came{{"a", false, true, true}}, false},
		{"one that waits, behind one that does not", nil, nil, false, []came{{"a", true, true, false}, {"b", false, false, true}}, false},
		{"one that comes right back", []string{"a", "x"}, nil, false, []came{{"a", true, true, true}}, false},
		{"one of the commit before", []string{"x"}, []string{"a"}, false, []came{{"b", true, true, false}, {"a", true, false, true}}, false},
		{"the writer is woken once", []string{"a", "b"}, nil, false, []came{{"a", true, true, true}, {"b", true, false, false}}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			g := newGathering(func() {})
			g.taken(slices.Values(c.before), false)
			g.taken(slices.Values(c.lately), false)
			if g.begun = time.Now().Add(time.Hour); c.long {
				g.begun = time.Time{}
			}
			for _, x := range c.came {
				if got := g.add(x.device, x.patient, x.first); got != x.wakes {
					t.Errorf("%s woke the writer: %v, want %v", x.device, got, x.wakes)
				}
			}
			if waits := g.wait() > 0; waits != c.waits {
				t.Errorf("the writer lets others come: %v, want %v", waits, c.waits)
			}
		})
	}
	g := newGathering(func() {})
	g.taken(slices.Values([]string{"a"}), true)
	if g.wait() > 0 {
		t.Error("what was left in the queue waits once more")
	}
}
