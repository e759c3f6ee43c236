package store_test

import (
	"bufio"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"sync"
	"testing"
	"time"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/ingest"
	"ullage/store"
)

var crashes = flag.Int("crashes", 30, "how often the writing process is killed")

const (
	crashFolder  = "ULLAGE_TEST_CRASH_FOLDER"
	crashDevices = 4
)

// TestMain is the process that is killed, where it is told to be.
func TestMain(m *testing.M) {
	if dir := os.Getenv(crashFolder); dir != "" {
		writeUntilKilled(dir, os.Getenv("ULLAGE_TEST_CRASH_SEED"))
	}
	os.Exit(m.Run())
}

// crashReading is the n-th reading of a device: most in turn, some late, all of
// them different, so that what is lost or mixed up shows.
func crashReading(device, n int) value.Reading {
	at := zero.Add(time.Duration(n) * time.Minute)
	if n%7 == 3 {
		at = zero.Add(-time.Duration(n)*10*time.Minute - time.Second) // months late, in the end
	}
	r := value.Reading{Metric: "x", At: at, Value: value.OfNumber(float64(device*1_000_000+n) / 10)}
	if n%11 == 5 {
		r.Metric, r.Value = "cycle", value.OfText(fmt.Sprint("step ", n))
	}
	return r
}

// writeUntilKilled goes on where the last process ended, and prints each
// device and number when it is acknowledged.
func writeUntilKilled(dir, seed string) {
	s, err := store.Open(dir, store.Options{SealAbove: 500})
	if err != nil {
		fmt.Println("error", err)
		os.Exit(1)
	}
	var n int
	fmt.Sscan(seed, &n)
	rng := rand.New(rand.NewPCG(uint64(n), 5))
	out := make(chan string, 1000)
	go func() {
		for d := range crashDevices {
			go func() {
				for k := n * 1000; ; {
					var batch []value.Reading
					first := k
					for range 1 + rand.IntN(20) {
						batch = append(batch, crashReading(d, k))
						k++
					}
					done := make(chan error, 1)
					if err := s.Append(ingest.Append{Device: fmt.Sprint("d", d), Readings: batch,
						Done: func(err error) {
							done <- err
						}}); err != nil {
						time.Sleep(time.Millisecond)
						k = first
						continue
					}
					if <-done == nil {
						out <- fmt.Sprintf("%d %d %d", d, first, k)
					}
				}
			}()
		}
	}()
	go func() {
		for {
			time.Sleep(time.Duration(rng.IntN(20)) * time.Millisecond)
			s.Seal()
		}
	}()
	for line := range out {
		os.Stdout.WriteString(line + "\n")
	}
}

// TestKilledWhileSealing kills a writing process with SIGKILL at random points,
// opens what it left, and compares with what it had acknowledged.
func TestKilledWhileSealing(t *testing.T) {
	dir := t.TempDir()
	rng := rand.New(rand.NewPCG(31, 32))
	acknowledged := map[[2]int]bool{}
	kills := *crashes
	if testing.Short() {
		kills = min(kills, 8)
	}
	for round := range kills {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), crashFolder+"="+dir, fmt.Sprintf("ULLAGE_TEST_CRASH_SEED=%d", round))
		cmd.Stderr = os.Stderr
		pipe, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		lines, begun := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(lines)
			first := sync.OnceFunc(func() { close(begun) })
			defer first()
			for in := bufio.NewScanner(pipe); in.Scan(); {
				var d, from, to int
				if n, err := fmt.Sscan(in.Text(), &d, &from, &to); n != 3 || err != nil {
					t.Errorf("the writer says %q", in.Text())
					continue
				}
				first()
				for k := from; k < to; k++ {
					acknowledged[[2]int{d, k}] = true
				}
			}
		}()
		select { // a machine with much to do takes its time to start it
		case <-begun:
		case <-time.After(30 * time.Second):
		}
		time.Sleep(time.Duration(rng.IntN(120)) * time.Millisecond)
		cmd.Process.Kill()
		<-lines
		cmd.Wait()
		if t.Failed() {
			return
		}
	}
	s := open(t, dir, store.Options{})
	defer s.Close()
	for _, sealed := range []bool{false, true} {
		if sealed {
			s.Seal()
		}
		found := map[[2]int]bool{}
		for d := range crashDevices {
			for _, metric := range []string{"x", "cycle"} {
				stored := map[int64]series.Point{}
				for _, p := range all(t, s, fmt.Sprint("d", d), metric) {
					stored[p.At.UnixMilli()] = p
				}
				for k := range kills * 1000 * 2 {
					r := crashReading(d, k)
					if p, ok := stored[r.At.UnixMilli()]; r.Metric == metric && ok && p.Value == r.Value {
						found[[2]int{d, k}] = true
						delete(stored, r.At.UnixMilli())
					}
				}
				for at, p := range stored {
					t.Fatalf("d%d %s at %d holds %v, which was never written", d, metric, at, p.Value)
				}
			}
		}
		lost := 0
		for k := range acknowledged {
			if !found[k] {
				lost++
			}
		}
		if lost > 0 {
			t.Fatalf("of %d acknowledged readings %d are lost (%d found)", len(acknowledged), lost, len(found))
		}
		least := kills * 20
		if testing.Short() { // a race detector may be in it, which takes its time to start
			least = kills
		}
		if len(acknowledged) < least {
			t.Fatalf("only %d readings were acknowledged in %d rounds, too few to say anything", len(acknowledged), kills)
		}
	}
	// The roll-ups say what the readings say.
	for d := range crashDevices {
		h := history{}
		id := fmt.Sprint("d", d)
		for _, p := range all(t, s, id, "x") {
			h[p.At.UnixMilli()] = value.Reading{Value: p.Value}
		}
		times := h.times()
		lo, hi := times[0], times[len(times)-1]+1
		for _, width := range series.Levels {
			grid := series.Every(width)
			lo, _ := grid.Cell(lo)
			_, hi := grid.Cell(hi)
			got, err := s.Cells(t.Context(), id, "x", value.FromMillis(lo), value.FromMillis(hi), grid, width)
			if err != nil {
				t.Fatal(err)
			}
			want := h.cells(lo, hi, 3*60_000, grid)
			if len(got) != len(want) {
				t.Fatalf("%s has %d cells of %d ms, want %d", id, len(got), width, len(want))
			}
			for i := range got {
				if g, w := got[i], want[i]; g.At != w.At || g.N != w.N || g.Min != w.Min || g.Max != w.Max ||
					g.First != w.First || g.Last != w.Last || math.Abs(g.Sum-w.Sum) > 1e-6*math.Abs(w.Sum) {
					t.Fatalf("%s, cell %d of %d ms is %+v, want %+v", id, i, width, g, w)
				}
			}
		}
	}
	t.Logf("%d kills, %d readings acknowledged, none lost", kills, len(acknowledged))
}
