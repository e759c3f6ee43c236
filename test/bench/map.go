package main

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"ullage/core/geo"
	"ullage/sim"
	"ullage/test/browser"
	"ullage/test/service"
)

const mapDevices = 10_000

// mapFigures measures the map of ten thousand devices, each at a place of its own, while it is
// dragged: with all of them in sight, and close, where they stand apart.
func mapFigures(dir string) ([]figure, error) {
	s, err := serve(filepath.Join(dir, "map"))
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	fmt.Printf("placing %d devices …\n", mapDevices)
	ctx := context.Background()
	fleet := sim.Fleet(mapDevices)
	var creds sim.Credentials
	if err := sim.Onboard(ctx, s.Client, fleet, &creds, func() {}); err != nil {
		return nil, err
	}
	var g errgroup.Group
	g.SetLimit(8)
	for i, id := range slices.Sorted(maps.Keys(creds.Tokens)) {
		g.Go(func() error { // a grid of a hundred by a hundred, some hundred metres apart
			_, err := s.Client.PlaceDevice(ctx, id, &geo.Position{Latitude: 47.5 + float64(i/100)*0.003, Longitude: 8.1 + float64(i%100)*0.004})
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	p, closeAll, err := signedIn(s)
	if err != nil {
		return nil, err
	}
	defer closeAll()
	far, err := mapFrame(s, p)
	if err != nil {
		return nil, err
	}
	zoom, err := browser.Eval[float64](p, closer)
	if err != nil {
		return nil, err
	}
	near, err := frames(p)
	if err != nil {
		return nil, err
	}
	ms := func(v float64) string { return fmt.Sprintf("%.1f ms", v) }
	return []figure{
		{fmt.Sprintf("map of %d devices at %d places, dragged: script of a frame, mean", mapDevices, mapDevices), ms(far.script), "under 8 ms", ""},
		{"  with style and layout", ms(far.all), "", ""},
		{"  close, where they stand apart: script of a frame, mean", ms(near.script), "under 8 ms", ""},
		{"  with style and layout", ms(near.all), "", ""},
		{"  a step closer, until it is drawn", ms(zoom), "", ""},
	}, nil
}

// frame is what a frame takes, in milliseconds.
type frame struct{ script, all float64 }

// frames drags the map, and tells what a frame takes of it as the browser counts it.
func frames(p *browser.Page) (frame, error) {
	before, err := p.Spent()
	if err != nil {
		return frame{}, err
	}
	if _, err := browser.Eval[bool](p, dragged); err != nil {
		return frame{}, err
	}
	after, err := p.Spent()
	script := after.Script - before.Script
	return frame{script * 1000 / draggedFrames, (script + after.Layout - before.Layout + after.Style - before.Style) * 1000 / draggedFrames}, err
}

// mapFrame opens the map and drags it.
func mapFrame(s *service.Service, p *browser.Page) (f frame, err error) {
	if err := p.Go(s.Console + "/?view=map"); err != nil {
		return f, err
	}
	if err := p.Wait(`document.querySelectorAll("[aria-label^='Map of'] a").length > 3`); err != nil {
		return f, err
	}
	time.Sleep(3 * time.Second) // until all have come, and are drawn
	return frames(p)
}

// settled waits until whatever an event asks for has been worked off: the work of the page is
// queued as messages, and ours stand behind them.
const settled = `const settled = () => new Promise((done) => {
	const c = new MessageChannel();
	let left = 3;
	c.port1.onmessage = () => (--left ? c.port2.postMessage(0) : done());
	c.port2.postMessage(0);
});
`

const draggedFrames = 60

// dragged moves the map by hand, a step a frame.
var dragged = fmt.Sprintf(`(async () => {
	const box = document.querySelector("[aria-label^='Map of']");
	const r = box.getBoundingClientRect();
	const at = (type, i) => box.dispatchEvent(new PointerEvent(type, { bubbles: true, pointerId: 1, button: 0, buttons: 1, clientX: r.left + 300 + 6 * i, clientY: r.top + 200 + 3 * i }));
	const frame = () => new Promise((done) => requestAnimationFrame(done));
	box.setPointerCapture = () => {};
	at("pointerdown", 0);
	for (let i = 1; i <= %d; i++) {
		await frame();
		at("pointermove", i);
	}
	await frame();
	at("pointerup", %[1]d);
	return true;
})()`, draggedFrames)

// closer zooms in until each device stands apart, and returns how long the last step took.
const closer = `(async () => {
	` + settled + `
	let took = 0;
	for (let i = 0; i < 4; i++) {
		const begun = performance.now();
		document.querySelector("[aria-label=Closer]").click();
		await settled();
		took = performance.now() - begun;
		await new Promise((done) => setTimeout(done, 200));
	}
	return took;
})()`

// signedIn opens the console in a browser of its own, with somebody signed in; what it returns last
// closes both.
func signedIn(s *service.Service) (*browser.Page, func(), error) {
	b, err := browser.Start()
	if err != nil {
		return nil, nil, err
	}
	p, err := b.Open(s.Console, 1280, 800)
	if err != nil {
		b.Close()
		return nil, nil, err
	}
	end := func() { p.Close(); b.Close() }
	if err := p.SignIn("engineer", service.Password); err != nil {
		end()
		return nil, nil, err
	}
	return p, end, nil
}
