package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ullage/client"
	"ullage/test/service"
)

// TestKilledUnderChanges kills the service with SIGKILL at random moments while
// people label devices and override settings. A reader outside, which only keeps
// its number, must hear every fact once and in order; and what was so at any
// moment must be what was acknowledged then.
func TestKilledUnderChanges(t *testing.T) {
	dir := t.TempDir()
	// As many revisions as there are changes: a limit merges those beyond it into the next.
	const unlimited = "--device-revisions=0"
	s, err := service.Start(dir, unlimited)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { s.Kill() }() // also of a test that fails
	cellars(t, s)
	const devices, rounds = 6, 12
	id := func(n int) string { return fmt.Sprintf("tank-fennimore-%02d", n+1) }
	for n := range devices {
		onboard(t, s, id(n), "tank-probe")
	}
	var now atomic.Pointer[client.Client]
	now.Store(s.Client)

	var heard []client.JournalEntry
	var wrong, failed atomic.Pointer[string]
	ctx, enough := context.WithCancel(t.Context())
	defer enough()
	read := make(chan struct{})
	go func() {
		defer close(read)
		number := int64(0)
		for ctx.Err() == nil {
			es, err := now.Load().JournalAfter(ctx, number, 1+rand.IntN(50), "1s")
			if err != nil {
				w := err.Error()
				failed.Store(&w)
				time.Sleep(5 * time.Millisecond)
				continue
			}
			for _, e := range es {
				if e.Number != number+1 && wrong.Load() == nil {
					w := fmt.Sprintf("after %d came %d", number, e.Number)
					wrong.Store(&w)
				}
				number = e.Number
				heard = append(heard, e)
			}
		}
	}()

	// change is what one writer did: it held from acknowledged until the next began.
	type change struct {
		device              int
		value               string // of the label stage; max_temp where it begins with a digit
		begun, acknowledged time.Time
	}
	var mu sync.Mutex
	changes := map[string][]change{} // by device and what was changed, in order
	n := 0
	for range rounds {
		stop := make(chan struct{})
		var wg sync.WaitGroup
		for w := range 2 * devices {
			wg.Add(1)
			go func() {
				defer wg.Done()
				d := w / 2
				for {
					select {
					case <-stop:
						return
					case <-time.After(time.Duration(2+rand.IntN(10)) * time.Millisecond):
					}
					mu.Lock()
					n++
					limit := 15 + n%30
					c := change{device: d, value: fmt.Sprint("stage ", n), begun: time.Now()}
					mu.Unlock()
					var err error
					if w%2 == 0 {
						_, err = now.Load().Label(ctx, id(d), map[string]string{"stage": c.value})
					} else {
						c.value = fmt.Sprint(limit)
						_, err = now.Load().ChangeSettings(ctx, id(d),
							client.SettingsChange{Set: map[string]any{"max_temp": limit}})
					}
					if err == nil {
						c.acknowledged = time.Now()
					}
					mu.Lock()
					key := fmt.Sprint(d, " ", w%2)
					changes[key] = append(changes[key], c)
					mu.Unlock()
				}
			}()
		}
		time.Sleep(time.Duration(40+rand.IntN(250)) * time.Millisecond)
		s.Kill()
		close(stop)
		wg.Wait()
		if s, err = service.Start(dir, unlimited); err != nil {
			t.Fatal(err)
		}
		now.Store(s.Client)
	}
	// The reader gets to the end, then everything is compared.
	last, err := s.Client.Journal(t.Context(), client.JournalFilter{LogFilter: client.LogFilter{Limit: 1}})
	if err != nil || len(last.Items) != 1 {
		t.Fatal(last, err)
	}
	end, err := s.Client.JournalAfter(t.Context(), last.Items[0].Number-1, 10, "")
	if err != nil || len(end) != 1 {
		t.Fatalf("behind the last but one come %d, %v", len(end), err)
	}
	time.Sleep(1500 * time.Millisecond)
	enough()
	<-read
	if w := wrong.Load(); w != nil {
		t.Fatalf("the reader heard facts out of order or twice: %s", *w)
	}
	if len(heard) == 0 || heard[len(heard)-1].Number < last.Items[0].Number {
		t.Fatalf("the reader has heard %d facts and not the last, %d; it failed last with %s", len(heard),
			last.Items[0].Number, *failed.Load())
	}
	told := map[string]int{}
	for _, e := range heard {
		if _, stage, ok := strings.Cut(string(e.Content), `"stage `); ok {
			stage, _, _ = strings.Cut(stage, `"`)
			told["stage "+stage]++
		}
	}
	asked, acknowledged := 0, 0
	for _, list := range changes {
		for i, c := range list {
			label := strings.HasPrefix(c.value, "stage")
			if label && told[c.value] > 1 || label && !c.acknowledged.IsZero() && told[c.value] != 1 {
				t.Fatalf("%s of %s was told %d times; it was acknowledged at %v", c.value, id(c.device), told[c.value],
					c.acknowledged)
			}
			if c.acknowledged.IsZero() || i+1 == len(list) {
				continue
			}
			acknowledged++
			if rand.IntN(4) > 0 {
				continue
			}
			// It held until the next one began, whether that one came through or not.
			// The clock of what was so has milliseconds.
			held := list[i+1].begun.Sub(c.acknowledged) - time.Millisecond
			if held <= 0 {
				continue
			}
			then := c.acknowledged.Add(time.Duration(rand.Int64N(int64(held))))
			was, err := s.Client.AsOf(t.Context(), then, id(c.device))
			if err != nil || len(was.Devices) != 1 {
				t.Fatalf("as of %v: %v, %v", then, was, err)
			}
			got := was.Devices[0].Labels["stage"]
			if !label {
				got = fmt.Sprint(was.Devices[0].Settings["max_temp"].Value)
			}
			if got != c.value {
				t.Fatalf("as of %v %s had %q; %q was acknowledged at %v and the next began at %v", then, id(c.device),
					got, c.value, c.acknowledged, list[i+1].begun)
			}
			asked++
		}
	}
	if acknowledged < 20*rounds || asked < acknowledged/8 {
		t.Errorf("%d changes were acknowledged and %d asked about; that tests little", acknowledged, asked)
	}
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
	t.Logf("%d kills, %d facts heard once each, %d changes acknowledged, %d past moments asked about", rounds,
		len(heard), acknowledged, asked)
}
