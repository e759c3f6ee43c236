package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/client"
	"ullage/test/service"
)

// sessionFigures measures what a connected device costs: live heap and stacks of
// the service with so many MQTT sessions, less that of the same service with the
// same devices before they connect. Each has subscribed as firmware does, has
// taken its settings, and has sent one reading; the ceiling is none, since any
// server keeps at least its connection's own state.
func sessionFigures(dir string, count int) ([]figure, error) {
	data := filepath.Join(dir, "sessions")
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	profile := free.Addr().String()
	free.Close()
	s, err := serve(data)
	if err != nil {
		return nil, err
	}
	fmt.Printf("onboarding %d devices …\n", count)
	tokens := make([]string, count)
	id := func(i int) string { return fmt.Sprintf("tank-saltmarsh-%05d", i) }
	if err := spreadOver(count, 16, func(i int) error {
		o, err := s.Client.CreateDevice(context.Background(), client.NewDevice{ID: id(i), Model: "tank-probe"})
		tokens[i] = o.Token
		return err
	}); err != nil {
		return nil, err
	}
	// What onboarding took is no part of it: a service that has just started on the
	// same devices is what is compared with.
	if err := s.Stop(); err != nil {
		return nil, err
	}
	if s, err = service.Start(data, "--pprof", profile, "--device-rate", "0", "--device-connects", "0", "--log-level",
		"warn"); err != nil {
		return nil, err
	}
	defer s.Stop()
	before, err := live(profile)
	if err != nil {
		return nil, err
	}
	fmt.Printf("connecting them …\n")
	conns := make([]net.Conn, count)
	defer func() {
		for _, c := range conns {
			if c != nil {
				c.Close()
			}
		}
	}()
	if err := spreadOver(count, 16, func(i int) (err error) {
		if conns[i], err = greet(s.MQTT, id(i), tokens[i]); err != nil {
			return err
		}
		return hear(conns[i], id(i))
	}); err != nil {
		return nil, err
	}
	time.Sleep(5 * time.Second)
	after, err := live(profile)
	if err != nil {
		return nil, err
	}
	for _, c := range conns {
		c.Close()
	}
	bare, err := bareSockets(count)
	if err != nil {
		return nil, err
	}
	each := (after - before) / float64(count)
	out := []figure{{what: fmt.Sprintf("ceiling: memory of a socket that a goroutine reads, %d of them", count), got: fmt.Sprintf("%.1f kB", bare/1000)},
		{what: fmt.Sprintf("memory of a connected MQTT client, %d of them", count), got: fmt.Sprintf("%.1f kB", each/1000), target: "30 kB", ratio: fmt.Sprintf("%.1f ×", each/bare)}}
	more, err := restartFigures(s, tokens[:restarted], id)
	return append(out, more...), err
}

// bareSockets is what a connection costs a server of the standard library that does
// nothing but to read it.
func bareSockets(count int) (float64, error) {
	at, profile, end, err := bareServer("plain")
	if err != nil {
		return 0, err
	}
	defer end()
	before, err := live(profile)
	if err != nil {
		return 0, err
	}
	conns := make([]net.Conn, 0, count)
	defer func() {
		for _, c := range conns {
			c.Close()
		}
	}()
	for range count {
		c, err := net.Dial("tcp", at)
		if err != nil {
			return 0, err
		}
		conns = append(conns, c)
	}
	time.Sleep(time.Second)
	after, err := live(profile)
	return (after - before) / float64(count), err
}

// restarted is how many devices come back at once behind a restart.
const restarted = 5000

// restartFigures measures how long it takes until all of many devices are back when the
// service has started anew, which try again after half a second and then up to twice as
// long, and what one device meets meanwhile that is in already.
func restartFigures(s *service.Service, tokens []string, id func(int) string) ([]figure, error) {
	fmt.Printf("a restart with %d devices …\n", len(tokens))
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	at := free.Addr().String()
	free.Close()
	data := s.Data
	begin := func() (*service.Service, error) {
		return service.Start(data, "--mqtt", at, "--device-rate", "0", "--device-connects", "0", "--log-level", "warn")
	}
	if err := s.Stop(); err != nil {
		return nil, err
	}
	if s, err = begin(); err != nil {
		return nil, err
	}
	var back sync.WaitGroup
	conns := make([]net.Conn, len(tokens))
	if err := spreadOver(len(tokens), 16, func(i int) (err error) {
		if conns[i], err = greet(at, id(i), tokens[i]); err == nil {
			err = hear(conns[i], id(i))
		}
		return err
	}); err != nil {
		return nil, err
	}
	if err := s.Stop(); err != nil {
		return nil, err
	}
	begun := time.Now()
	if s, err = begin(); err != nil {
		return nil, err
	}
	defer s.Stop()
	started := time.Since(begun)
	lat := &latencies{}
	innocent, err := greet(at, id(0), tokens[0])
	if err != nil {
		return nil, err
	}
	defer innocent.Close()
	storm := time.Now()
	for i := 1; i < len(tokens); i++ {
		back.Go(func() {
			wait := 500 * time.Millisecond
			for {
				time.Sleep(wait/2 + time.Duration(rand.Int64N(int64(wait/2))))
				c, err := greet(at, id(i), tokens[i])
				if err == nil {
					if err = hear(c, id(i)); err == nil {
						conns[i] = c
						return
					}
					c.Close()
				}
				wait = min(2*wait, 10*time.Second)
			}
		})
	}
	all := make(chan struct{})
	go func() { back.Wait(); close(all) }()
	measured := make(chan error, 1)
	stop := make(chan struct{})
	go func() { measured <- oneByOne(innocent, id(0), stop, lat) }()
	select {
	case <-all:
	case <-time.After(2 * time.Minute):
		return nil, fmt.Errorf("behind a restart not all devices are back after two minutes")
	}
	took := time.Since(storm)
	close(stop)
	if err := <-measured; err != nil {
		return nil, err
	}
	for _, c := range conns {
		if c != nil {
			c.Close()
		}
	}
	p50, p99 := lat.quantiles()
	return []figure{{what: fmt.Sprintf("a restart with %d devices: until all are back and have their settings", len(tokens)), got: (started + took).Round(100 * time.Millisecond).String(), target: "30 s"},
		{what: "of that, until the service takes the first", got: started.Round(10 * time.Millisecond).String()},
		{what: "PUBACK of an innocent device meanwhile, median and p99", got: fmt.Sprintf("%s, %s", p50.Round(100*time.Microsecond), p99.Round(100*time.Microsecond))}}, nil
}

// oneByOne publishes, each when the one before is acknowledged, until stop.
func oneByOne(c net.Conn, id string, stop <-chan struct{}, lat *latencies) error {
	var buf bytes.Buffer
	var ack [4]byte
	for n := uint16(1); ; n++ {
		select {
		case <-stop:
			return nil
		case <-time.After(10 * time.Millisecond):
		}
		buf.Reset()
		if n == 0 {
			n = 1
		}
		if err := publish(&buf, "ullage/"+id+"/readings", `{"must_temp":21.4}`, n); err != nil {
			return err
		}
		begun := time.Now()
		if _, err := c.Write(buf.Bytes()); err != nil {
			return err
		}
		c.SetReadDeadline(time.Now().Add(30 * time.Second))
		if _, err := io.ReadFull(c, ack[:]); err != nil {
			return fmt.Errorf("the innocent device is not acknowledged: %w", err)
		}
		lat.add(time.Since(begun))
	}
}

// live returns the bytes of live heap and of stacks, after a collection.
func live(profile string) (float64, error) {
	resp, err := http.Get("http://" + profile + "/debug/pprof/heap?gc=1&debug=1")
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		return 0, err
	}
	sum := 0.0
	for _, line := range strings.Split(string(b), "\n") {
		for _, what := range []string{"# HeapAlloc = %f", "# Stack = %f"} {
			var n float64
			if _, err := fmt.Sscanf(line, what, &n); err == nil {
				sum += n
			}
		}
	}
	if sum == 0 {
		return 0, fmt.Errorf("the profile tells no memory")
	}
	return sum, nil
}

// spreadOver does something for each of count, some at a time.
func spreadOver(count, workers int, do func(int) error) error {
	var wg sync.WaitGroup
	failed := make(chan error, workers)
	for w := range workers {
		wg.Go(func() {
			for i := w; i < count; i += workers {
				if err := do(i); err != nil {
					failed <- err
					return
				}
			}
		})
	}
	wg.Wait()
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

// hear subscribes to settings and commands and takes the settings.
func hear(c net.Conn, id string) error {
	sub := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, ProtocolVersion: 4,
		PacketID: 1, Filters: packets.Subscriptions{{Filter: "ullage/" + id + "/intended", Qos: 1},
			{Filter: "ullage/" + id + "/command/+", Qos: 1}}}
	var buf bytes.Buffer
	if err := sub.SubscribeEncode(&buf); err != nil {
		return err
	}
	if err := publish(&buf, "ullage/"+id+"/readings", `{"must_temp":21.4,"ullage":31.5}`, 2); err != nil {
		return err
	}
	if _, err := c.Write(buf.Bytes()); err != nil {
		return err
	}
	// The acknowledgements and the settings come in any order; a settings document
	// is the only packet that is longer than a few bytes.
	c.SetReadDeadline(time.Now().Add(20 * time.Second))
	got, b := 0, make([]byte, 4096)
	for got < 60 {
		n, err := c.Read(b)
		if err != nil {
			return fmt.Errorf("%s heard %d bytes: %w", id, got, err)
		}
		got += n
	}
	c.SetReadDeadline(time.Time{})
	go io.Copy(io.Discard, c)
	return nil
}
