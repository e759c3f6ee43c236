package main

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"time"

	"ullage/client"
	"ullage/core/board"
	"ullage/test/browser"
	"ullage/test/service"
)

const (
	// dayOfUpdates is how often a board is told something in a day, of devices that report every
	// ten seconds.
	dayOfUpdates = 24 * 360
	// between is how far apart they come here, so that each is told by itself.
	between = 34 * time.Millisecond
	// warm is how many come before it is measured what a page holds.
	warm = 600
)

// screenFigures measures what a board on a wall holds on to over a day of updates, which come
// one after the other as fast as a page is told.
func screenFigures(dir string) ([]figure, error) {
	s, err := serve(filepath.Join(dir, "screen"))
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	ctx := context.Background()
	const devices = 8
	var conns []net.Conn
	for i := range devices {
		d, err := s.Client.CreateDevice(ctx, client.NewDevice{ID: fmt.Sprintf("tank-fennimore-%02d", i+1), Model: "tank-probe", Labels: map[string]string{"site": "Fennimore"}})
		if err != nil {
			return nil, err
		}
		c, err := greet(s.MQTT, d.ID, d.Token)
		if err != nil {
			return nil, err
		}
		defer c.Close()
		conns = append(conns, c)
	}
	wall := client.Board{Name: "wall", Title: "On the wall", Span: "1h", Instruments: []board.Instrument{}}
	for i, kind := range []string{"trace", "trace", "dial", "figure", "bars", "histogram", "roster", "alarms", "tally", "strip", "vessels", "trace"} {
		x := board.Instrument{Kind: kind, Place: []int{3 * (i % 4), 4 * (i / 4), 3, 4}, Devices: `label.site == "Fennimore"`}
		switch kind {
		case "dial", "figure", "strip":
			x.Metrics, x.Devices = []string{"must_temp"}, `device.id == "tank-fennimore-01"`
		case "trace", "bars", "histogram":
			x.Metrics = []string{"must_temp"}
		case "tally":
			x.Count = "health"
		}
		wall.Instruments = append(wall.Instruments, x)
	}
	if _, err := s.Client.Boards().Put(ctx, wall, ""); err != nil {
		return nil, err
	}
	tell := func(from, to int) error {
		for n := from; n < to; n++ {
			i := n % devices
			if err := publishAll(conns[i], fmt.Sprintf("ullage/tank-fennimore-%02d/readings", i+1),
				[]string{fmt.Sprintf(`{"must_temp":%.1f,"density":%.1f,"battery":3.4}`, 20+float64(n%97)/20, 1050-float64(n%400)/10)}); err != nil {
				return err
			}
			time.Sleep(between)
		}
		return nil
	}
	b, err := browser.Start()
	if err != nil {
		return nil, err
	}
	defer b.Close()
	p, err := b.Open(s.Console, 1920, 1080)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if err := p.SignIn("engineer", service.Password); err != nil {
		return nil, err
	}
	if err := p.Go(s.Console + "/boards/wall"); err != nil {
		return nil, err
	}
	if err := p.Wait(`document.querySelectorAll("[data-instrument]").length >= 12`); err != nil {
		return nil, err
	}
	fmt.Printf("a day of updates on a board: %d in %s …\n", dayOfUpdates, (dayOfUpdates * (between + 2*time.Millisecond)).Round(time.Second))
	if err := tell(0, warm); err != nil {
		return nil, err
	}
	first, err := p.Held()
	if err != nil {
		return nil, err
	}
	if err := tell(warm, warm+dayOfUpdates/2); err != nil {
		return nil, err
	}
	noon, err := p.Held()
	if err != nil {
		return nil, err
	}
	if err := tell(warm+dayOfUpdates/2, warm+dayOfUpdates); err != nil {
		return nil, err
	}
	last, err := p.Held()
	if err != nil {
		return nil, err
	}
	mb := func(x float64) string { return fmt.Sprintf("%.1f MB", x/(1<<20)) }
	return []figure{
		{fmt.Sprintf("board of 12 instruments, what its page holds after %d updates", warm), mb(first.Heap), "", ""},
		{fmt.Sprintf("  after %d more, half a day's", dayOfUpdates/2), mb(noon.Heap), "", ""},
		{fmt.Sprintf("  after %d, a day's; the ratio is to half a day", dayOfUpdates), mb(last.Heap), "flat", fmt.Sprintf("%.2f", last.Heap/noon.Heap)},
		{"  nodes of its document, at first and after the day", fmt.Sprintf("%d, %d", first.Nodes, last.Nodes), "flat", fmt.Sprintf("%.2f", float64(last.Nodes)/float64(first.Nodes))},
		{"  listeners", fmt.Sprintf("%d, %d", first.Listeners, last.Listeners), "flat", fmt.Sprintf("%.2f", float64(last.Listeners)/float64(first.Listeners))},
	}, nil
}
