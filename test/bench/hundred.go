package main

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ullage/client"
	"ullage/sim"
	"ullage/test/browser"
	"ullage/test/service"
)

const (
	manyDevices  = 10_000
	manyRules    = 100
	manyOpen     = 5000
	manyMessages = 1700 // a second, each of six readings
	manyFor      = 20 * time.Second
)

// rulesOf writes rules of many kinds: limits with delays, means, rates, several conditions, limits
// from settings, and some of groups.
func rulesOf(n int, folder string) ([]string, error) {
	var files []string
	for i := range n {
		x := float64(i) / 10
		raise := []string{
			fmt.Sprintf("must_temp > %.1f 'Cel'\nclear: must_temp < %.1f 'Cel'\non_delay: 2min", 40+x, 38+x),
			fmt.Sprintf("mean(must_temp over 10min) > %.1f 'Cel'", 41+x),
			fmt.Sprintf("rate(must_temp over 30min) > %.1f 'K/h'", 20+x),
			fmt.Sprintf("battery < %.2f 'V' and rssi < -%d 'dBm'", 3.0-x/100, 90+i/10),
			fmt.Sprintf("must_temp > set.max_temp + %.1f 'K' and label.stage == \"fermenting\"", 15+x),
			fmt.Sprintf("max(co2_flow over 5min) > %.1f 'L/min' and min(density over 5min) < %.0f 'g/L'", 80+x, 980-x),
			fmt.Sprintf("stddev(ullage over 15min) > %.1f 'cm'", 60+x),
		}[i%7]
		file := filepath.Join(folder, fmt.Sprintf("many_%d.yaml", i))
		text := fmt.Sprintf("rule: many_%d\nmodels: [tank-probe]\npriority: low\nmessage: \"{device.id}: rule %d\"\nraise: %s\n", i, i, raise)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			return nil, err
		}
		files = append(files, file)
	}
	return files, nil
}

// hundredFigures measures a hundred rules on ten thousand devices: what they hold while ten thousand
// readings a second are evaluated, how long a start with that takes, and five thousand open alarms
// in the list.
func hundredFigures(dir string) ([]figure, error) {
	data := filepath.Join(dir, "hundred")
	s, err := serve(data)
	if err != nil {
		return nil, err
	}
	defer func() { s.Stop() }()
	ctx := context.Background()
	fmt.Printf("%d rules on %d devices …\n", manyRules, manyDevices)
	var creds sim.Credentials
	if err := sim.Onboard(ctx, s.Client, sim.Fleet(manyDevices), &creds, func() {}); err != nil {
		return nil, err
	}
	files, err := rulesOf(manyRules, dir)
	if err != nil {
		return nil, err
	}
	begun := time.Now()
	if out, errs, code := s.CLI("", append([]string{"rule", "load", "--yes"}, files...)...); code != 0 {
		return nil, fmt.Errorf("the rules: %s%s", out, errs)
	}
	loaded := time.Since(begun)
	tanks := slices.DeleteFunc(slices.Sorted(maps.Keys(creds.Tokens)), func(id string) bool { return !strings.HasPrefix(id, "tank-") })
	web := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	send := func(i int, body string) error {
		id := tanks[i%len(tanks)]
		q, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+s.HTTP+"/device/v1/readings", strings.NewReader(body))
		if err != nil {
			return err
		}
		q.Header.Set("Authorization", "Bearer "+creds.Tokens[id])
		a, err := web.Do(q)
		if err != nil {
			return err
		}
		defer a.Body.Close()
		io.Copy(io.Discard, a.Body)
		if a.StatusCode != http.StatusOK {
			return fmt.Errorf("%s is answered %s", id, a.Status)
		}
		return nil
	}
	calm := func(i int) string {
		return fmt.Sprintf(`{"must_temp":%.1f,"density":%d,"ullage":%.1f,"co2_flow":%.1f,"battery":3.4,"rssi":-70}`,
			20+float64(i%50)/10, 1040+i%20, 30+float64(i%30)/10, 8+float64(i%40)/10)
	}
	// How long it takes until a reading that comes now is judged: what waits before it.
	behind := func(i int) (time.Duration, error) {
		begun := time.Now()
		if err := send(i, `{"battery":2.995,"rssi":-119}`); err != nil {
			return 0, err
		}
		for time.Since(begun) < time.Minute {
			page, err := s.Client.Alarms(ctx, client.AlarmFilter{LogFilter: client.LogFilter{Device: tanks[i], Limit: 1}})
			if err != nil {
				return 0, err
			}
			if len(page.Items) > 0 {
				return time.Since(begun), nil
			}
			time.Sleep(10 * time.Millisecond)
		}
		return 0, fmt.Errorf("a reading of %s is not judged after a minute", tanks[i])
	}
	watched, err := behind(1)
	if err != nil {
		return nil, err
	}
	sent, failed := load(calm, send)
	if failed != nil {
		return nil, failed
	}
	waited, err := behind(0)
	if err != nil {
		return nil, err
	}
	held, err := resident(s.PID)
	if err != nil {
		return nil, err
	}
	if err := s.Stop(); err != nil {
		return nil, err
	}
	begun = time.Now()
	if s, err = service.Start(data, "--device-rate", "0", "--device-connects", "0", "--log-level", "warn"); err != nil {
		return nil, err
	}
	started := time.Since(begun)
	fmt.Printf("%d open alarms …\n", manyOpen)
	open, err := openAlarms(ctx, s, send)
	if err != nil {
		return nil, err
	}
	shown, err := alarmList(s)
	if err != nil {
		return nil, err
	}
	out := []figure{
		{fmt.Sprintf("%d rules on %d devices: loaded in", manyRules, manyDevices), loaded.Round(time.Millisecond).String(), "", ""},
		{"  all devices watched after", (loaded + watched).Round(time.Millisecond).String(), "", ""},
		{fmt.Sprintf("  readings/s taken over %s", manyFor), fmt.Sprintf("%.0f", float64(6*sent)/manyFor.Seconds()), "10000", ""},
		{"  and evaluated, with what waited at the end", fmt.Sprintf("%.0f", float64(6*sent)/(manyFor+waited).Seconds()), "10000", fmt.Sprintf("%s waited", waited.Round(time.Millisecond))},
		{"  resident memory", fmt.Sprintf("%d MB", held>>20), "under 1536 MB", ""},
		{"  start with that, until it answers", started.Round(time.Millisecond).String(), "under 10 s", ""},
		{fmt.Sprintf("%d alarms open, sent within", manyOpen), open.Round(time.Millisecond).String(), "", ""},
	}
	return append(out, shown...), nil
}

// load sends messages at a steady pace, and returns how many were acknowledged.
func load(body func(int) string, send func(int, string) error) (int64, error) {
	const senders = 24
	var sent atomic.Int64
	var failed atomic.Pointer[error]
	var all sync.WaitGroup
	end := time.Now().Add(manyFor)
	for w := range senders {
		all.Go(func() {
			// By the clock and not by a ticker: what a slow flush of the disk has held up is sent
			// after it, as devices do.
			due := time.Now()
			for i := w; time.Now().Before(end); i += senders {
				time.Sleep(time.Until(due))
				due = due.Add(time.Second * senders / manyMessages)
				if err := send(i, body(i)); err != nil {
					failed.Store(&err)
					return
				}
				sent.Add(1)
			}
		})
	}
	all.Wait()
	if err := failed.Load(); err != nil {
		return 0, *err
	}
	return sent.Load(), nil
}

// openAlarms raises an alarm on each of many devices.
func openAlarms(ctx context.Context, s *service.Service, send func(int, string) error) (time.Duration, error) {
	begun := time.Now()
	var all sync.WaitGroup
	limit := make(chan struct{}, 32)
	for i := range manyOpen {
		all.Add(1)
		limit <- struct{}{}
		go func() {
			defer all.Done()
			_ = send(i, `{"battery":2.995,"rssi":-119}`)
			<-limit
		}()
	}
	all.Wait()
	sent := time.Since(begun)
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(time.Second) {
		page, err := s.Client.Alarms(ctx, client.AlarmFilter{Rule: ""})
		if err != nil {
			return 0, err
		}
		if len(page.Items) >= manyOpen {
			return sent, nil
		}
	}
	return 0, fmt.Errorf("not %d alarms are open after a minute", manyOpen)
}

// alarmList opens the list of alarms, scrolls it, and acknowledges one.
func alarmList(s *service.Service) ([]figure, error) {
	p, closeAll, err := signedIn(s)
	if err != nil {
		return nil, err
	}
	defer closeAll()
	begun := time.Now()
	if err := p.Go(s.Console + "/alarms"); err != nil {
		return nil, err
	}
	const rows = `document.querySelectorAll("main [id^='alarm-']").length > 10`
	if err := p.Wait(rows); err != nil {
		return nil, err
	}
	opened := time.Since(begun)
	time.Sleep(2 * time.Second)
	before, err := p.Spent()
	if err != nil {
		return nil, err
	}
	const steps = 60
	if _, err := browser.Eval[bool](p, fmt.Sprintf(`(async () => {
		for (let i = 1; i <= %d; i++) {
			window.scrollTo(0, i * 400);
			await new Promise((done) => requestAnimationFrame(done));
		}
		return document.querySelectorAll("main [id^='alarm-']").length > 5;
	})()`, steps)); err != nil {
		return nil, err
	}
	after, err := p.Spent()
	if err != nil {
		return nil, err
	}
	took, err := browser.Eval[float64](p, `(async () => {
		window.scrollTo(0, 0);
		await new Promise((done) => setTimeout(done, 500));
		const row = document.querySelector("main [id^='alarm-']");
		const button = [...row.querySelectorAll("button")].find((b) => b.textContent.trim() === "Acknowledge");
		if (!button) throw new Error("the first alarm has no button to acknowledge it: " + row.textContent);
		const id = row.id;
		const begun = performance.now();
		button.click();
		for (;;) {
			await new Promise((done) => requestAnimationFrame(done));
			const now = document.getElementById(id);
			if (!now || ![...now.querySelectorAll("button")].some((b) => b.textContent.trim() === "Acknowledge")) return performance.now() - begun;
			if (performance.now() - begun > 20000) return -1;
		}
	})()`)
	if err != nil {
		return nil, err
	}
	if took < 0 {
		return nil, fmt.Errorf("the alarm was not acknowledged within 20 s")
	}
	return []figure{
		{fmt.Sprintf("  list of %d open alarms, from the address to its rows", manyOpen), opened.Round(time.Millisecond).String(), "", ""},
		{"  scrolled: script of a frame, mean", fmt.Sprintf("%.1f ms", (after.Script-before.Script)*1000/steps), "", ""},
		{"  acknowledged, from the press until the row says so", fmt.Sprintf("%.0f ms", took), "", ""},
	}, nil
}
