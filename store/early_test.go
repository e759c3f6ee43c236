package store

import (
	"context"
	"fmt"
	"testing"

	"ullage/fleet/alarms"
	"ullage/fleet/commit"
)

// What a start reads before it is asked for is what is stored: it is given once, and not at all
// where something was committed meanwhile.
func TestReadEarly(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	const n = 300
	begin := func() *Store {
		s, err := Begin(dir, Options{})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	put := func(s *Store, id string) {
		w := commit.NewWriter(s.Records, nil)
		defer w.Close()
		if err := w.Do(ctx, func(tx *commit.Tx) error { tx.Put(alarms.Detections{Subject: id}); return nil }); err != nil {
			t.Fatal(err)
		}
	}
	count := func(s *Store, want int, why string) {
		t.Helper()
		all, err := s.Records.Detections(ctx)
		if err != nil || len(all) != want {
			t.Errorf("%s: %d records, %v; want %d", why, len(all), err, want)
		}
	}
	s := begin()
	for i := range n {
		put(s, fmt.Sprint("tank-", i))
	}
	s.Close()

	s = begin()
	s.Records.early.done.Wait()
	if err := s.Records.db.write.Exec("DELETE FROM detection_states").Error; err != nil { // behind its back
		t.Fatal(err)
	}
	count(s, n, "the first who asks has what was read early")
	count(s, 0, "the second has what is there")
	s.Close()

	s = begin()
	put(s, "tank-new")
	count(s, 1, "after a commit")
	s.Close()

	s = begin()
	over, cancel := context.WithCancel(ctx)
	cancel()
	if all, err := s.Records.Detections(over); err == nil && len(all) != 1 {
		t.Errorf("asked by somebody who is gone: %d records and no error", len(all))
	}
	count(s, 1, "the next who asks")
	s.Close() // nothing of it is left
}
