package store_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ullage/core/geo"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/store"
)

// change is a use case that stores a device with a label and tells a fact of it.
func change(id, label string, at time.Time) func(*commit.Tx) error {
	return func(tx *commit.Tx) error {
		tx.Put(devices.Device{ID: id, Labels: map[string]string{"row": label}})
		tx.Hold(commit.Validity{Kind: commit.Label, Subject: id, Key: "row", From: at, Value: label})
		tx.Tell(fact.New(at, fact.Labelled{Set: map[string]string{"row": label}}).Of(id))
		return nil
	}
}

// An INSERT is written once and used again: whatever a row leaves out, or the one before it
// had, each comes back as it was put.
func TestRowsComeBackAsTheyWerePut(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	w := commit.NewWriter(s.Records, nil)
	ctx := context.Background()
	full := devices.Device{Model: "tank-probe", Name: "Tank 7", Hub: "hub-fennimore", Version: "1.2.0", Status: devices.Active,
		Position: &geo.Position{Latitude: 47.6, Longitude: 8.26}, Labels: map[string]string{"row": "a"},
		JoinedAt: zero, Attributes: map[string]value.Value{"hw_rev": value.OfText("B"), "cells": value.OfNumber(2), "sealed": value.OfBool(true)}}
	want := map[string]devices.Device{}
	for round, n := range []int{1, 1, 4, 4, 16, 16, 21, 1} {
		var all []devices.Device
		for i := range n {
			d := devices.Device{Status: devices.Expected}
			if (i+round)%2 == 0 {
				d = full
			}
			d.ID = fmt.Sprintf("tank-%d-%d", round, i)
			all = append(all, d)
			want[d.ID] = d
		}
		if err := w.Do(commit.From(ctx, map[bool]string{true: "192.0.2.7"}[round%2 == 0]), func(tx *commit.Tx) error {
			for _, d := range all {
				tx.Put(d)
				tx.Tell(fact.New(zero, fact.Labelled{Set: d.Labels}).Of(d.ID).By("engineer"))
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	w.Close()
	for range 2 { // as they are, and after a start
		got, err := s.Devices(ctx)
		if err != nil || len(got) != len(want) {
			t.Fatalf("%d devices came back, %v; want %d", len(got), err, len(want))
		}
		for _, d := range got {
			x := want[d.ID]
			if d.Model != x.Model || d.Name != x.Name || d.Hub != x.Hub || d.Version != x.Version || d.Status != x.Status ||
				!d.JoinedAt.Equal(x.JoinedAt) || !maps.Equal(d.Labels, x.Labels) || !maps.Equal(d.Attributes, x.Attributes) ||
				(d.Position == nil) != (x.Position == nil) || d.Position != nil && *d.Position != *x.Position {
				t.Errorf("%+v came back as %+v", x, d)
			}
		}
		for page, before := 0, int64(0); page < 10; page++ {
			facts, err := s.Facts(ctx, fact.Filter{Before: before, Limit: 10})
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range facts {
				var round int
				if _, err := fmt.Sscanf(f.Device, "tank-%d-", &round); err != nil || (f.From != "") != (round%2 == 0) {
					t.Errorf("the fact of %s came from %q, %v", f.Device, f.From, err)
				}
				before = f.Number
			}
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		s = open(t, dir, store.Options{})
	}
}

func TestFactsAreNumberedInOrder(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Options{})
	w := commit.NewWriter(s.Records, nil)
	ctx := context.Background()
	for i := range 25 {
		if err := w.Do(ctx, change(fmt.Sprintf("d%d", i%2), fmt.Sprint(i), zero.Add(time.Duration(i)*time.Second))); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Do(ctx, func(tx *commit.Tx) error {
		tx.Tell(fact.New(zero, fact.SignIn{Name: "mara", With: "console"}).By("mara"))
		return errors.New("no")
	}); err == nil {
		t.Error("a use case that fails is committed")
	}
	var got []int64
	for before := int64(0); ; {
		page, err := s.Facts(ctx, fact.Filter{Before: before, Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		if len(page) == 0 {
			break
		}
		for _, f := range page {
			got = append(got, f.Number)
		}
		before = page[len(page)-1].Number
	}
	if len(got) != 25 || got[0] != 25 || got[24] != 1 {
		t.Errorf("pages give %v", got)
	}
	if only, err := s.Facts(ctx, fact.Filter{Kind: fact.DeviceLabelled, Device: "d0"}); err != nil || len(only) != 13 ||
		only[12].Sentence() != "set label row=0" {
		t.Errorf("the filter gives %+v, %v", only, err)
	}
	w.Close()
	s.Close()
	// Numbers go on after a restart, also where facts were thrown away.
	s = open(t, dir, store.Options{})
	defer s.Close()
	if n, err := s.ForgetFacts(ctx, fact.DeviceLabelled, zero.Add(time.Hour)); n != 25 || err != nil {
		t.Errorf("%d facts were thrown away, %v", n, err)
	}
	var gone *fact.Gone
	if _, err := s.FactsAfter(ctx, 3, 10, nil); !errors.As(err, &gone) || gone.First != 25 {
		t.Errorf("a reader whose number is too old gets %v", err)
	}
	w = commit.NewWriter(s.Records, nil)
	defer w.Close()
	if err := w.Do(ctx, change("d0", "again", zero.Add(2*time.Hour))); err != nil {
		t.Fatal(err)
	}
	if fs, err := s.FactsAfter(ctx, 25, 10, nil); err != nil || len(fs) != 1 || fs[0].Number != 26 {
		t.Errorf("behind 25 there is %+v, %v", fs, err)
	}
}

// TestAsOf changes labels at random times, also with a clock that is set back
// and within one millisecond, and asks at random times what was so.
func TestAsOf(t *testing.T) {
	for seed := range uint64(times(5, 1)) {
		s := open(t, t.TempDir(), store.Options{})
		w := commit.NewWriter(s.Records, nil)
		r := rand.New(rand.NewPCG(seed, 1))
		ctx := context.Background()
		type was struct {
			from  time.Time
			label string
		}
		want := map[string][]was{}
		now := zero
		for range 300 {
			now = now.Add(time.Duration(r.IntN(3)) * time.Second)
			if r.IntN(40) == 0 {
				if now = now.Add(-time.Duration(r.IntN(20)) * time.Second); now.Before(zero) {
					now = zero
				}
			}
			id, label := fmt.Sprintf("d%d", r.IntN(3)), fmt.Sprint(r.IntN(5))
			if r.IntN(6) == 0 {
				label = ""
			}
			if err := w.Do(ctx, func(tx *commit.Tx) error {
				tx.Hold(commit.Validity{Kind: commit.Label, Subject: id, Key: "row", From: now, Value: label})
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			from := now
			if n := len(want[id]); n > 0 && !from.After(want[id][n-1].from) {
				from = want[id][n-1].from.Add(time.Millisecond) // what comes later stands later
			}
			want[id] = append(want[id], was{from, label})
		}
		if all, err := s.AsOf(ctx, "", zero.Add(-time.Second)); err != nil || len(all) != 0 {
			t.Errorf("seed %d: before everything there was %+v, %v", seed, all, err)
		}
		for range 200 {
			when := zero.Add(time.Duration(r.IntN(400_000)) * time.Millisecond)
			all, err := s.AsOf(ctx, "", when)
			if err != nil {
				t.Fatal(err)
			}
			got := map[string]string{}
			for _, v := range all {
				got[v.Subject] = v.Value
			}
			for id, list := range want {
				label := ""
				for _, x := range list {
					if !x.from.After(when) {
						label = x.label
					}
				}
				if got[id] != label {
					t.Fatalf("seed %d: %s was %q at %s, and the store says %q", seed, id, label, when, got[id])
				}
			}
		}
		// What is over is thrown away, and what still counted then stays.
		half := zero.Add(150 * time.Second)
		before, err := s.AsOf(ctx, "", half)
		if err != nil {
			t.Fatal(err)
		}
		if n, err := s.ForgetValidity(ctx, half); err != nil || n == 0 {
			t.Errorf("seed %d: %d rows went, %v", seed, n, err)
		}
		if after, err := s.AsOf(ctx, "", half); err != nil || !slices.Equal(before, after) {
			t.Errorf("seed %d: as of then it was %v and is %v, %v", seed, before, after, err)
		}
		w.Close()
		s.Close()
	}
}

// TestFullDiskOfRecords fills the file of records. A use case is stored whole
// or not at all: of each device there are the row, the fact and the validity, or
// nothing.
func TestFullDiskOfRecords(t *testing.T) {
	dir := t.TempDir()
	room, cases := int64(544<<10), 5000
	if testing.Short() {
		room, cases = 416<<10, 1000
	}
	s := open(t, dir, store.Options{MaxRecordBytes: room})
	w := commit.NewWriter(s.Records, nil)
	ctx := context.Background()
	type end struct {
		id  string
		err error
	}
	ends := make(chan end, cases)
	for i := range cases {
		id := fmt.Sprintf("d%d", i)
		w.Go(change(id, "a long label that takes some room in the file, so that it is full soon",
			zero), func(err error) {
			ends <- end{id, err}
		})
	}
	stored := map[string]bool{}
	full := 0
	for range cases {
		x := <-ends
		switch {
		case x.err == nil:
			stored[x.id] = true
		case fault.Is(x.err, fault.Full):
			full++
		default:
			t.Fatalf("%s: %v", x.id, x.err)
		}
	}
	if full == 0 || len(stored) == 0 {
		t.Fatalf("%d were stored and %d refused; the test wants both", len(stored), full)
	}
	w.Close()
	s.Close()
	s = open(t, dir, store.Options{})
	defer s.Close()
	ds, err := s.Devices(ctx)
	if err != nil {
		t.Fatal(err)
	}
	fs, err := s.FactsAfter(ctx, 0, 10_000, nil)
	if err != nil {
		t.Fatal(err)
	}
	vs, err := s.AsOf(ctx, "", zero)
	if err != nil {
		t.Fatal(err)
	}
	if len(ds) != len(stored) || len(fs) != len(stored) || len(vs) != len(stored) {
		t.Errorf("%d use cases were stored: %d devices, %d facts, %d rows of validity", len(stored), len(ds), len(fs),
			len(vs))
	}
	for i, f := range fs {
		if f.Number != int64(i+1) || !stored[f.Device] {
			t.Fatalf("fact %d is %+v", i+1, f)
		}
	}
}
