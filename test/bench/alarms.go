package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ullage/client"
	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/test/service"
)

// alarmFigures measure replay, and how long an alarm takes from a device to a page.
func alarmFigures(dir string) ([]figure, error) {
	out, err := replayFigures()
	if err != nil {
		return nil, err
	}
	more, err := raisedFigures(filepath.Join(dir, "alarms"))
	return append(out, more...), err
}

// replayReadings is how many readings of one device a replay goes through.
const replayReadings = 1_000_000

// replayFigures compare a replay with the same conditions written by hand, over the same
// decoded readings.
func replayFigures() ([]figure, error) {
	fmt.Println("replaying rules …")
	m, err := tankProbe()
	if err != nil {
		return nil, err
	}
	m.Interval = everyTen
	col := replay.Column{Metric: "must_temp", At: make([]int64, replayReadings), Values: make([]value.Value, replayReadings)}
	random := rand.New(rand.NewPCG(1, 2))
	begin := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	v := 30.0
	for i := range col.At {
		v = min(max(v+random.NormFloat64()*0.1, 25), 35)
		col.At[i], col.Values[i] = begin.UnixMilli()+int64(i)*10_000, value.OfNumber(v)
	}
	end := value.FromMillis(col.At[replayReadings-1] + 1)
	r, err := rule.Parse([]byte("rule: hot\nmodels: [tank-probe]\nraise: must_temp > 32\non_delay: 30s\noff_delay: 1min\ndeadband: 0.5\npriority: high\nmessage: hot\n"))
	if err != nil {
		return nil, err
	}
	plan := expr.NewPlan(check.Schema(m))
	c, err := r.For(plan)
	if err != nil {
		return nil, err
	}
	raised := 0
	replayed := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			run := replay.New(replay.Options{Plan: plan, Rules: []*rule.Compiled{c}, Main: "hot", Activated: begin, Zone: time.UTC, Judge: begin, From: begin})
			run.Feed([]replay.Column{col}, nil, end)
			raised = run.End(end).Alarms
		}
	})
	found := 0
	hand := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			found = handWritten(&col)
		}
	})
	if found != raised || raised == 0 {
		return nil, fmt.Errorf("the replay raises %d alarms, and what was written by hand %d", raised, found)
	}
	perSecond := replayReadings / (float64(replayed.NsPerOp()) / 1e9)
	return []figure{
		{fmt.Sprintf("replay of a limit with delays and a deadband, %d alarms", raised), fmt.Sprintf("%.1f M readings/s", perSecond/1e6), "1 M", fmt.Sprintf("%.2f of the same by hand (0.2 wanted)", float64(hand.NsPerOp())/float64(replayed.NsPerOp()))},
	}, nil
}

// handWritten is the rule as somebody would write it in Go, with what the language promises:
// a reading holds for three intervals, and delays count time in which it is known.
func handWritten(c *replay.Column) (alarms int) {
	const limit, back, on, off, hold = 32.0, 31.5, 30_000, 60_000, 30_000
	up, running := false, false
	var since, known int64
	for i, at := range c.At {
		v := c.Values[i]
		if v.Kind != value.Number {
			continue
		}
		delay := int64(on)
		towards := v.Num > limit
		if up {
			delay, towards = off, v.Num <= back
		}
		if running && known < at { // unknown in between
			since += at - known
		}
		if running && min(at, known)-since >= delay {
			if up = !up; up {
				alarms++
			}
			running = false
			delay, towards = on, v.Num > limit
			if up {
				delay, towards = off, v.Num <= back
			}
		}
		known = at + hold
		if !towards {
			running = false
			continue
		}
		if !running {
			running, since = true, at
		}
		if at-since >= delay {
			if up = !up; up {
				alarms++
			}
			running = false
		}
	}
	return alarms
}

const (
	raisedDevices = 1000
	raisedRate    = 2000 // readings a second beside it
	raisedAlarms  = 200
)

// raisedFigures measure how long it takes from a device's publish to the alarm on the
// stream of a page, while others send, and then raise a thousand alarms in a second.
func raisedFigures(dir string) (out []figure, err error) {
	fmt.Println("raising alarms …")
	s, err := service.Start(dir, "--device-rate", "0")
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	root := filepath.Join(service.Root(), "examples", "cellars")
	for _, args := range [][]string{{"model", "publish", filepath.Join(root, "models")}, {"rule", "load", filepath.Join(root, "rules", "co2_high.yaml")}} {
		if _, errs, code := s.CLI("", args...); code != 0 {
			return nil, fmt.Errorf("ullage %s: %s", strings.Join(args, " "), errs)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	tokens := make([]string, raisedDevices)
	for i := range tokens {
		o, err := s.Client.CreateDevice(ctx, client.NewDevice{ID: fmt.Sprintf("air-%04d", i), Model: "cellar-air", Labels: map[string]string{"site": "Kilnside", "row": "press hall"}})
		if err != nil {
			return nil, err
		}
		tokens[i] = o.Token
	}
	web := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 256}}
	send := func(i, co2 int) error {
		q, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+s.HTTP+"/device/v1/readings", strings.NewReader(fmt.Sprintf(`{"co2":%d}`, co2)))
		if err != nil {
			return err
		}
		q.Header.Set("Authorization", "Bearer "+tokens[i])
		a, err := web.Do(q)
		if err != nil {
			return err
		}
		io.Copy(io.Discard, a.Body)
		return a.Body.Close()
	}
	seen, err := streamed(ctx, s)
	if err != nil {
		return nil, err
	}
	// Others go on beside it, at a bounded rate.
	var beside sync.WaitGroup
	quiet, still := context.WithCancel(ctx)
	defer still()
	const senders = 32
	for w := range senders {
		beside.Add(1)
		go func() {
			defer beside.Done()
			tick := time.NewTicker(time.Second * senders / raisedRate)
			defer tick.Stop()
			for i := raisedAlarms + w; ; i += senders {
				select {
				case <-tick.C:
					_ = send(raisedAlarms+i%(raisedDevices-raisedAlarms), 700)
				case <-quiet.Done():
					return
				}
			}
		}()
	}
	time.Sleep(time.Second)
	// What nobody can be faster than: the reading and its alarm are both on the disk before it
	// is told, so two flushes, in the same run and beside the same load.
	flushes, err := newFlushes(dir)
	if err != nil {
		return nil, err
	}
	defer flushes.close()
	var took, ceiling []time.Duration
	for i := range raisedAlarms {
		if i%2 == 0 { // before every other one, so that neither goes first for good
			t, err := flushes.two()
			if err != nil {
				return nil, err
			}
			ceiling = append(ceiling, t)
		}
		begun := time.Now()
		if err := send(i, 1600); err != nil {
			return nil, err
		}
		at, err := seen(fmt.Sprintf("air-%04d", i), 5*time.Second)
		if err != nil {
			return nil, err
		}
		took = append(took, at.Sub(begun))
		if i%2 == 1 {
			t, err := flushes.two()
			if err != nil {
				return nil, err
			}
			ceiling = append(ceiling, t)
		}
	}
	still()
	beside.Wait()
	slices.Sort(took)
	slices.Sort(ceiling)
	least := ceiling[len(ceiling)*99/100]
	out = append(out, figure{fmt.Sprintf("from a device's publish to the alarm on a page's stream, p99, %d readings/s", raisedRate),
		took[len(took)*99/100].Round(100 * time.Microsecond).String(), "100ms", fmt.Sprintf("p50 %s", took[len(took)/2].Round(100*time.Microsecond))},
		figure{"  ceiling: two flushes of 4 KiB each beside it, p99", least.Round(100 * time.Microsecond).String(), "",
			fmt.Sprintf("p50 %s; the alarm takes %.1f × at p99", ceiling[len(ceiling)/2].Round(100*time.Microsecond), float64(took[len(took)*99/100])/float64(least))})
	begun := time.Now()
	var each sync.WaitGroup
	limit := make(chan struct{}, 64)
	for i := raisedAlarms; i < raisedDevices; i++ {
		each.Add(1)
		limit <- struct{}{}
		go func() {
			defer each.Done()
			_ = send(i, 1700)
			<-limit
		}()
	}
	each.Wait()
	sent := time.Since(begun)
	for n := 0; n < raisedDevices; {
		page, err := s.Client.Alarms(ctx, client.AlarmFilter{LogFilter: client.LogFilter{Limit: 5000}, Rule: "co2_high"})
		if err != nil {
			return nil, err
		}
		if n = len(page.Items); time.Since(begun) > 30*time.Second {
			return nil, fmt.Errorf("%d of %d alarms are open after 30 s", n, raisedDevices)
		}
	}
	return append(out, figure{fmt.Sprintf("%d alarms raised at once: all open after", raisedDevices-raisedAlarms), time.Since(begun).Round(time.Millisecond).String(), "", fmt.Sprintf("they were sent in %s", sent.Round(time.Millisecond))}), nil
}

// flushes writes to two files of a folder, as a reading and its alarm are.
type flushes struct{ files [2]*os.File }

func newFlushes(dir string) (*flushes, error) {
	var f flushes
	for i := range f.files {
		var err error
		if f.files[i], err = os.CreateTemp(dir, "flush"); err != nil {
			return nil, err
		}
	}
	return &f, nil
}

// two returns how long it takes until both are on the disk, one after the other.
func (f *flushes) two() (time.Duration, error) {
	begun := time.Now()
	for _, x := range f.files {
		if _, err := x.Write(make([]byte, 4096)); err != nil {
			return 0, err
		}
		if err := x.Sync(); err != nil {
			return 0, err
		}
	}
	return time.Since(begun), nil
}

func (f *flushes) close() {
	for _, x := range f.files {
		x.Close()
		os.Remove(x.Name())
	}
}

// streamed listens to the stream of a page, and returns what waits for the alarm of a device
// on it.
func streamed(ctx context.Context, s *service.Service) (func(device string, atMost time.Duration) (time.Time, error), error) {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Console+"/api/v1/live", nil)
	if err != nil {
		return nil, err
	}
	q.Header.Set("Authorization", "Bearer "+s.Token)
	a, err := http.DefaultClient.Do(q)
	if err != nil {
		return nil, err
	}
	if a.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the stream is answered %s", a.Status)
	}
	type seen struct {
		device string
		at     time.Time
	}
	all := make(chan seen, 10_000)
	go func() {
		lines := bufio.NewScanner(a.Body)
		lines.Buffer(nil, 64<<20)
		for lines.Scan() {
			text, ok := strings.CutPrefix(lines.Text(), "data:")
			if !ok || !strings.Contains(text, "unacknowledged") {
				continue
			}
			now := time.Now()
			type told struct {
				ID     string
				Alarms []struct{ State string }
			}
			var d struct{ Devices, Patches []told }
			if json.Unmarshal([]byte(text), &d) != nil {
				continue
			}
			for _, x := range append(d.Devices, d.Patches...) {
				if len(x.Alarms) > 0 {
					all <- seen{x.ID, now}
				}
			}
		}
	}()
	return func(device string, atMost time.Duration) (time.Time, error) {
		late := time.After(atMost)
		for {
			select {
			case x := <-all:
				if x.device == device {
					return x.at, nil
				}
			case <-late:
				return time.Time{}, fmt.Errorf("the alarm of %s does not come within %s", device, atMost)
			}
		}
	}, nil
}
