package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/fleet/traffic"
)

// passedBy makes messages of some devices, one a second until now.
func passedBy(r *rand.Rand, n int, end time.Time) []traffic.Entry {
	var out []traffic.Entry
	for i := range n {
		e := traffic.Entry{Seq: uint64(1000 + i), At: end.Add(time.Duration(i-n) * time.Second), Device: fmt.Sprintf("tank-%d", r.IntN(300)), Direction: traffic.Up,
			Transport: "mqtt", Topic: "readings", Body: fmt.Sprintf(`{"must_temp":%d,"text":"<Ümlaut> %d"}`, r.IntN(40), r.IntN(1000)), Size: 30, Kept: 1}
		if r.IntN(20) == 0 {
			e.Reason, e.Kept = "it is not JSON", 0
		}
		if r.IntN(50) == 0 {
			e.Device = ""
		}
		out = append(out, e)
	}
	return out
}

func pastOf(t *testing.T, k *Traffic, f traffic.Filter) []traffic.Entry {
	t.Helper()
	var out []traffic.Entry
	reached, err := k.Past(t.Context(), f, func(e traffic.Entry) bool {
		out = append(out, e)
		return f.Limit == 0 || len(out) < f.Limit
	})
	if err != nil || f.Limit == 0 && reached != 0 {
		t.Fatalf("it comes to %d, %v", reached, err)
	}
	return out
}

// What is found is what looking at every message finds.
func TestTrafficAgainstLookingAtAll(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	r := rand.New(rand.NewPCG(1, 2))
	k, _, err := OpenTraffic(t.TempDir(), TrafficOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer k.Close()
	all := passedBy(r, 3000, time.Now())
	for rest := all; len(rest) > 0; {
		n := min(len(rest), 1+r.IntN(700))
		if err := k.Keep(rest[:n]); err != nil {
			t.Fatal(err)
		}
		rest = rest[n:]
	}
	for i := range 200 {
		var f traffic.Filter
		pick := func(do func()) {
			if r.IntN(3) == 0 {
				do()
			}
		}
		pick(func() { f.Device = fmt.Sprintf("tank-%d", r.IntN(310)) })
		pick(func() { f.Refused = true })
		pick(func() { f.Before = uint64(1000 + r.IntN(3100)) })
		pick(func() { f.From = all[r.IntN(len(all))].At })
		pick(func() { f.To = all[r.IntN(len(all))].At })
		pick(func() { f.Text = fmt.Sprintf("ÜMLAUT> %d", r.IntN(100)) })
		pick(func() { f.Among = map[string]bool{"tank-1": true, "tank-2": true} })
		pick(func() { f.Match = func(e *traffic.Entry) bool { return strings.Contains(e.Body, `"must_temp":7`) } })
		pick(func() { f.Limit = 1 + r.IntN(20) })
		var want []string
		for _, e := range slices.Backward(all) {
			if f.Passes(&e) && (f.Limit == 0 || len(want) < f.Limit) {
				want = append(want, e.Body)
			}
		}
		var got []string
		for _, e := range pastOf(t, k, f) {
			got = append(got, e.Body)
		}
		if !slices.Equal(got, want) {
			t.Fatalf("%d: %+v finds %d messages, want %d", i, f, len(got), len(want))
		}
	}
	// Page by page it is the same.
	f, pages := traffic.Filter{Device: "tank-7", Limit: 3}, []traffic.Entry{}
	for {
		n := 0
		reached, err := k.Past(t.Context(), f, func(e traffic.Entry) bool { pages = append(pages, e); n++; return n < f.Limit })
		if err != nil {
			t.Fatal(err)
		}
		if f.Before = reached; reached == 0 {
			break
		}
	}
	if whole := pastOf(t, k, traffic.Filter{Device: "tank-7"}); len(pages) != len(whole) || len(whole) == 0 {
		t.Errorf("in pages there are %d, at once %d", len(pages), len(whole))
	}
}

func TestTrafficIsBounded(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	dir := t.TempDir()
	k, _, err := OpenTraffic(dir, TrafficOptions{MaxBytes: 64 << 10, Keep: time.Hour})
	if err != nil {
		t.Fatal(err)
	}
	all := passedBy(r, 20_000, time.Now())
	if err := k.Keep(all); err != nil {
		t.Fatal(err)
	}
	got := pastOf(t, k, traffic.Filter{})
	if n := len(got); n < 500 || n > 19_000 || got[0].Seq != all[len(all)-1].Seq || k.held > 64<<10 {
		t.Errorf("%d messages are kept in %d bytes, the newest %d", n, k.held, got[0].Seq)
	}
	if err := k.Close(); err != nil {
		t.Fatal(err)
	}
	held := k.held
	if k, _, err = OpenTraffic(dir, TrafficOptions{MaxBytes: 64 << 10, Keep: time.Hour}); err != nil || k.held != held {
		t.Fatalf("opened again %d bytes are held, want %d, %v", k.held, held, err)
	}
	defer k.Close()
	if err := k.trim(time.Now().Add(2 * time.Hour)); err != nil {
		t.Fatal(err)
	}
	if left := pastOf(t, k, traffic.Filter{}); len(left) != 0 {
		t.Errorf("two hours later %d messages are kept, want none", len(left))
	}
}

func TestTrafficForgets(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	k, _, err := OpenTraffic(t.TempDir(), TrafficOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer k.Close()
	all := passedBy(r, 3000, time.Now())
	if err := k.Keep(all); err != nil {
		t.Fatal(err)
	}
	if err := k.Forget("tank-9"); err != nil {
		t.Fatal(err)
	}
	want := 0
	for _, e := range all {
		if e.Device != "tank-9" {
			want++
		}
	}
	if got := pastOf(t, k, traffic.Filter{}); len(got) != want || want == len(all) {
		t.Errorf("%d messages are left, want %d of %d", len(got), want, len(all))
	}
	var sum int64
	if err := k.db.read.Model(&trafficRow{}).Select("SUM(LENGTH(block))").Scan(&sum).Error; err != nil || sum != k.held {
		t.Errorf("held are %d bytes, counted %d, %v", sum, k.held, err)
	}
}

// What cannot be read costs itself alone: a block, or the file, and never the start.
func TestTrafficDamaged(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	dir := t.TempDir()
	k, _, err := OpenTraffic(dir, TrafficOptions{})
	if err != nil {
		t.Fatal(err)
	}
	if err := k.Keep(passedBy(r, 1500, time.Now())); err != nil {
		t.Fatal(err)
	}
	if err := k.db.write.Exec("UPDATE blocks SET block = x'00112233' WHERE first = (SELECT MIN(first) FROM blocks)").Error; err != nil {
		t.Fatal(err)
	}
	if n := len(pastOf(t, k, traffic.Filter{})); n != 1500-messagesOf {
		t.Errorf("with a block that cannot be read %d messages are found, want %d", n, 1500-messagesOf)
	}
	if err := k.Close(); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "traffic.db")
	if err := os.WriteFile(path, []byte(strings.Repeat("no database", 1000)), 0o600); err != nil {
		t.Fatal(err)
	}
	os.Remove(path + "-wal")
	k, aside, err := OpenTraffic(dir, TrafficOptions{})
	if err != nil || aside == "" {
		t.Fatalf("put aside is %q, %v", aside, err)
	}
	defer k.Close()
	if n := len(pastOf(t, k, traffic.Filter{})); n != 0 {
		t.Errorf("a new file holds %d messages", n)
	}
}

func TestTrafficSearchEnds(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	k, _, err := OpenTraffic(t.TempDir(), TrafficOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer k.Close()
	if err := k.Keep(passedBy(r, 5000, time.Now())); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	seen := 0
	reached, err := k.Past(ctx, traffic.Filter{}, func(traffic.Entry) bool {
		if seen++; seen == 100 {
			cancel()
		}
		return true
	})
	if err != nil || reached == 0 || seen >= 5000 {
		t.Fatalf("it comes to %d behind %d messages, %v", reached, seen, err)
	}
	rest := pastOf(t, k, traffic.Filter{Before: reached})
	if seen+len(rest) != 5000 {
		t.Errorf("%d and then %d messages are seen, want 5000", seen, len(rest))
	}
}

func BenchmarkTrafficKeep(b *testing.B) {
	k, _, err := OpenTraffic(b.TempDir(), TrafficOptions{})
	if err != nil {
		b.Fatal(err)
	}
	defer k.Close()
	es := passedBy(rand.New(rand.NewPCG(1, 1)), messagesOf, time.Now())
	for b.Loop() {
		for i := range es {
			es[i].Seq += messagesOf
		}
		if err := k.Keep(es); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*messagesOf), "ns/message")
}
