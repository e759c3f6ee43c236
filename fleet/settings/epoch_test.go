package settings_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"ullage/fleet/fault"
	"ullage/store"
	"ullage/test/rig"
)

func TestUnknownRevisionsAreRefused(t *testing.T) {
	r := newRig(t)
	_, err := r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 30.0}, nil, "mara")
	r.Must(err)
	for _, revision := range []int64{3, 4, 0, -1, 1 << 40} {
		o := report(r, fmt.Sprintf(`{"revision":%d,"applied":{"max_temp":30,"report_every":10,"stir_at":28,"display_unit":"Cel"}}`, revision))
		if o.Err == nil || o.Err.Code != fault.Conflict || !strings.Contains(o.Err.Error(), "the newest is 2") {
			t.Errorf("a report of revision %d gives %+v", revision, o.Err)
		}
	}
	// What was refused does not count when the number comes.
	_, err = r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 31.0}, nil, "mara")
	r.Must(err)
	if s, _, _ := r.Settings.Of(tank); s.Revision != 3 || s.Confirmed() || s.AppliedRevision != 0 {
		t.Errorf("after revision 3 was made: %+v", s)
	}
	for _, old := range []string{`{"revision":1,"settings":{}}`, `{"applied":{}}`, `{"revision":1}`} {
		if o := report(r, old); o.Err == nil || !strings.Contains(o.Err.Error(), `"applied"`) {
			t.Errorf("%s gives %+v", old, o)
		}
	}
}

// TestRevisionsNeverComeAgain changes settings, takes backups and goes back to
// them at random, the same one several times too. Whatever document a device
// has seen under a number is the only one that ever has it, and a confirmation
// of what the restored service does not know is refused.
func TestRevisionsNeverComeAgain(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	for seed := range uint64(rig.Times(6, 2)) {
		r := newRig(t)
		rng := rand.New(rand.NewPCG(seed, 7))
		seen := map[int64]string{}
		var backups [][]byte
		restores := 0
		look := func() {
			doc, err := r.Settings.Document(tank)
			r.Must(err)
			b, err := json.Marshal(doc.Intended)
			r.Must(err)
			if was, ok := seen[doc.Revision]; ok && was != string(b) {
				t.Fatalf("seed %d: revision %d was %s and is %s", seed, doc.Revision, was, b)
			}
			seen[doc.Revision] = string(b)
			if doc.Revision >= 1<<53 {
				t.Fatalf("revision %d is no exact JSON number", doc.Revision)
			}
		}
		look()
		for range 40 {
			switch n := rng.IntN(10); {
			case n < 6:
				_, err := r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": float64(20 + rng.IntN(20))}, nil,
					"mara")
				r.Must(err)
				look()
			case n < 8 || len(backups) == 0:
				var b bytes.Buffer
				r.Must(r.Store.Backup(t.Context(), &b, r.Clock.Now()))
				backups = append(backups, b.Bytes())
			default:
				newest, err := r.Settings.Document(tank)
				r.Must(err)
				dir := filepath.Join(t.TempDir(), "again")
				_, _, err = store.Restore(t.Context(), bytes.NewReader(backups[rng.IntN(len(backups))]), dir)
				r.Must(err)
				r.Bus.Stop()
				r.Must(r.Store.Close())
				r.Dir = dir
				r.Reopen()
				restores++
				// The device is where it was.
				s, _, err := r.Settings.Of(tank)
				r.Must(err)
				o := report(r, fmt.Sprintf(`{"revision":%d,"applied":{"max_temp":30}}`, newest.Revision))
				if known := s.Made(newest.Revision); known != (o.Err == nil) {
					t.Fatalf("seed %d: revision %d, made: %v, gives %v", seed, newest.Revision, known, o.Err)
				}
				look()
			}
		}
		if restores == 0 {
			t.Errorf("seed %d: nothing was restored", seed)
		}
	}
}
