package main

import (
	"context"
	"fmt"
	"net/url"
	"os/exec"
	"path/filepath"
	"time"

	"ullage/client"
	"ullage/core/board"
	"ullage/sim"
	"ullage/test/browser"
	"ullage/test/service"
)

// boardDevices is how many devices have a month of history.
const boardDevices = 1000

// boardFigures measures what looks back: boards over a month, the fleet as of a past moment,
// and what was different.
func boardFigures(dir string) ([]figure, error) {
	s, err := serve(filepath.Join(dir, "boards"))
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	if _, errs, code := s.CLI("", "site", "load", filepath.Join(service.Root(), "examples", "cellars", "sites")); code != 0 {
		return nil, fmt.Errorf("the sites: %s", errs)
	}
	fmt.Printf("a month of history of %d devices …\n", boardDevices)
	begun := time.Now()
	var creds sim.Credentials
	if err := sim.Onboard(context.Background(), s.Client, sim.Fleet(boardDevices), &creds, func() {}); err != nil {
		return nil, err
	}
	creds.MQTT, creds.HTTP = s.MQTT, s.HTTP
	path := filepath.Join(dir, "boards.json")
	if err := sim.WriteCredentials(path, creds); err != nil {
		return nil, err
	}
	if out, err := exec.Command(service.Binary(), "sim", "--credentials", path, "--count", fmt.Sprint(boardDevices), "--history", "30d", "--live=false").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("the history: %w: %s", err, out)
	}
	fmt.Printf("  in %s\n", time.Since(begun).Round(time.Second))
	ctx := context.Background()
	now := time.Now()
	asOf, err := timed(20, func(i int) error {
		at := now.Add(-time.Duration(1+i) * 35 * time.Hour)
		x, err := s.Client.AsOf(ctx, at, "", "must_temp", "co2", "ullage", "battery")
		if err == nil && len(x.Devices) < boardDevices*9/10 {
			err = fmt.Errorf("%d devices as of %s", len(x.Devices), at)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	peers := 0
	different, err := timed(10, func(int) error {
		x, err := s.Client.Different(ctx, "tank-fennimore-07", "", "24h")
		peers = len(x.Peers)
		return err
	})
	if err != nil {
		return nil, err
	}
	fmt.Println("opening boards …")
	b, err := browser.Start()
	if err != nil {
		return nil, err
	}
	defer b.Close()
	p, err := b.Open(s.Console, 1280, 2400)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if err := p.SignIn("engineer", service.Password); err != nil {
		return nil, err
	}
	wide := client.Board{Name: "month", Title: "A month", Span: "30d", Instruments: []board.Instrument{}}
	for i := range 24 {
		metric := []string{"must_temp", "density", "ullage", "co2_flow", "battery", "rssi"}[i%6]
		wide.Instruments = append(wide.Instruments, board.Instrument{Kind: "trace", Metrics: []string{metric}, Place: []int{3 * (i % 4), 4 * (i / 4), 3, 4},
			Devices: fmt.Sprintf("device.id == %q", fmt.Sprintf("tank-fennimore-%02d", 1+i/4))})
	}
	if _, err := s.Client.Boards().Put(ctx, wide, ""); err != nil {
		return nil, err
	}
	drawn := `document.querySelectorAll("[data-instrument] canvas").length >= 24 || document.querySelectorAll("main canvas").length >= 24`
	boards, err := timed(7, func(int) error {
		if err := p.Go(s.Console + "/boards/month"); err != nil {
			return err
		}
		return p.Wait(drawn)
	})
	if err != nil {
		return nil, err
	}
	then, err := timed(5, func(i int) error {
		if err := p.Go(s.Console + "/?asof=" + url.QueryEscape(now.Add(-time.Duration(3+i)*50*time.Hour).UTC().Format(time.RFC3339))); err != nil {
			return err
		}
		return p.Wait(`document.querySelectorAll("section[aria-label=Vessels] li").length >= 900`)
	})
	if err != nil {
		return nil, err
	}
	return []figure{
		{fmt.Sprintf("%d devices as of a moment of the last 30 days, with 4 metrics, p50 of %d", boardDevices, len(asOf)), median(asOf).Round(time.Millisecond).String(), "under 1 s", ""},
		{"  as the page of the fleet, until it is drawn", median(then).Round(time.Millisecond).String(), "", ""},
		{fmt.Sprintf("what was different over 24 h: all metrics of a tank, %d peers", peers), median(different).Round(time.Millisecond).String(), "under 500 ms", ""},
		{"board with 24 instruments over 30 days, from the address to the last line", median(boards).Round(time.Millisecond).String(), "under 1 s", ""},
	}, nil
}

// timed calls something some times and returns how long each took, sorted.
func timed(n int, call func(i int) error) ([]time.Duration, error) {
	var out []time.Duration
	for i := range n {
		begun := time.Now()
		if err := call(i); err != nil {
			return nil, err
		}
		out = append(out, time.Since(begun))
	}
	return out, nil
}
