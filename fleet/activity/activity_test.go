package activity_test

import (
	"context"
	"errors"
	"maps"
	"testing"
	"time"

	"ullage/core/model"
	"ullage/fleet/activity"
	"ullage/fleet/traffic"
)

// shelf keeps counts in memory, or refuses to.
type shelf struct {
	full bool
	kept map[string]map[int64]activity.Count
}

func (s *shelf) Add(hs []activity.Hour) error {
	if s.full {
		return errors.New("the disk is full")
	}
	for _, h := range hs {
		if s.kept[h.Device] == nil {
			s.kept[h.Device] = map[int64]activity.Count{}
		}
		n := s.kept[h.Device][h.Hour]
		n.Add(h.Count)
		s.kept[h.Device][h.Hour] = n
	}
	return nil
}

func (s *shelf) Sum(_ context.Context, from, to int64) (map[string]activity.Count, int64, error) {
	out := map[string]activity.Count{}
	for d, hours := range s.kept {
		for h, n := range hours {
			if h >= from && h < to {
				sum := out[d]
				sum.Add(n)
				out[d] = sum
			}
		}
	}
	return out, 0, nil
}

func (s *shelf) Forget(int64) error       { return nil }
func (s *shelf) Drop(device string) error { delete(s.kept, device); return nil }

func TestWhatPassesIsCounted(t *testing.T) {
	now := time.Date(2026, 10, 12, 9, 59, 0, 0, time.UTC)
	s := &shelf{kept: map[string]map[int64]activity.Count{}}
	failed := 0
	c := activity.New(activity.Options{Keeper: s, Failed: func(error) { failed++ }, Now: func() time.Time { return now }})
	const tank = "tank-fennimore-07"
	pass := func(at time.Time, e traffic.Entry) {
		e.At = at
		c.Passed(e)
	}
	pass(now, traffic.Entry{Device: tank, Direction: traffic.Up, Topic: "connect"})
	pass(now, traffic.Entry{Device: tank, Direction: traffic.Up, Topic: "connect", Reason: "wrong token"})
	pass(now, traffic.Entry{Device: tank, Direction: traffic.Up, Topic: "readings", Size: 20})
	pass(now, traffic.Entry{Device: tank, Direction: traffic.Up, Topic: "readings", Size: 30, Refused: []model.Finding{{Pointer: "/co2"}}})
	pass(now, traffic.Entry{Device: tank, Direction: traffic.Down, Topic: "intended", Size: 40})
	pass(now, traffic.Entry{Device: tank, Direction: traffic.Down, Topic: "intended", Size: 40, Reason: "it is gone"})
	pass(now, traffic.Entry{Claimed: "stranger", Direction: traffic.Up, Topic: "connect", Reason: "unknown"})
	pass(now, traffic.Entry{Device: tank, Direction: traffic.Up, Topic: "readings", Size: 9, By: "engineer"})
	c.Late(tank, now, 3)
	s.full = true
	if err := c.Save(); err == nil {
		t.Error("what is not kept is no error")
	}
	s.full = false
	pass(now.Add(2*time.Minute), traffic.Entry{Device: tank, Direction: traffic.Up, Topic: "readings", Size: 7}) // another hour
	sums, _, err := c.Sum(t.Context(), now.Add(-time.Hour), now)
	want := map[string]activity.Count{tank: {Up: 2, Down: 1, UpBytes: 50, DownBytes: 40, Refused: 3, Late: 3, Connects: 1}}
	if err != nil || !maps.Equal(sums, want) {
		t.Errorf("up to ten o'clock there passed %+v, %v; want %+v", sums, err, want)
	}
	c.End()
	if sums, _, _ = c.Sum(t.Context(), now, now.Add(time.Hour)); sums[tank].Up != 3 || failed != 0 {
		t.Errorf("with the next hour there passed %+v, and %d failures were told", sums, failed)
	}
	if err := c.Drop(tank); err != nil || len(s.kept) != 0 {
		t.Errorf("a device that is dropped stays: %+v, %v", s.kept, err)
	}
}
