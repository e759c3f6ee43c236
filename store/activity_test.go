package store_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"ullage/fleet/activity"
	"ullage/store"
)

// Counts that are added hour by hour, in whatever parts and order, are what they add up to
// over any span; whole days are forgotten, and so is a device.
func TestActivityAddsUp(t *testing.T) {
	dir := t.TempDir()
	a, _, err := store.OpenActivity(dir)
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(7, 5))
	const first = 494_000 // an hour of 2026
	plain := map[string]map[int64]activity.Count{}
	for range 40 {
		var hs []activity.Hour
		for range 30 {
			h := activity.Hour{Device: fmt.Sprintf("tank-%02d", r.IntN(8)), Hour: first + r.Int64N(100),
				Count: activity.Count{Up: r.Uint64N(1000), UpBytes: r.Uint64N(1 << 40), Down: r.Uint64N(2), Late: r.Uint64N(2), Connects: 1}}
			if plain[h.Device] == nil {
				plain[h.Device] = map[int64]activity.Count{}
			}
			n := plain[h.Device][h.Hour]
			n.Add(h.Count)
			plain[h.Device][h.Hour] = n
			hs = append(hs, h)
		}
		if err := a.Add(hs); err != nil {
			t.Fatal(err)
		}
	}
	compare := func(from, to int64) {
		t.Helper()
		want := map[string]activity.Count{}
		least := int64(0)
		for d, hours := range plain {
			for h, n := range hours {
				if least == 0 || h < least {
					least = h
				}
				if h >= from && h < to {
					sum := want[d]
					sum.Add(n)
					want[d] = sum
				}
			}
		}
		got, begins, err := a.Sum(t.Context(), from, to)
		maps.DeleteFunc(got, func(_ string, n activity.Count) bool { return n == activity.Count{} })
		if err != nil || !maps.Equal(got, want) || begins != least {
			t.Errorf("from %d to %d: %d devices, first %d, %v; want %d, %d", from, to, len(got), begins, err, len(want), least)
		}
	}
	for range 50 {
		from := first - 30 + r.Int64N(130)
		compare(from, from+1+r.Int64N(130))
	}
	if err := a.Close(); err != nil {
		t.Fatal(err)
	}
	if a, _, err = store.OpenActivity(dir); err != nil {
		t.Fatal(err)
	}
	compare(0, 1_000_000)
	day := int64(first + 48)
	if err := a.Forget(day); err != nil {
		t.Fatal(err)
	}
	for _, hours := range plain {
		maps.DeleteFunc(hours, func(h int64, _ activity.Count) bool { return h/24 < day/24 })
	}
	if err := a.Drop("tank-03"); err != nil {
		t.Fatal(err)
	}
	delete(plain, "tank-03")
	compare(0, 1_000_000)
	if err := a.Close(); err != nil {
		t.Fatal(err)
	}
	// A file that is something else is put aside.
	if err := os.WriteFile(filepath.Join(dir, "activity.db"), []byte("no database at all, but long enough to look like one"), 0o600); err != nil {
		t.Fatal(err)
	}
	a, aside, err := store.OpenActivity(dir)
	if err != nil || aside == "" {
		t.Fatalf("a damaged file: put aside to %q, %v", aside, err)
	}
	if err := a.Close(); err != nil {
		t.Fatal(err)
	}
}
