package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
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
	return []figure{{what: fmt.Sprintf("memory of a connected MQTT client, %d of them", count),
		got: fmt.Sprintf("%.1f kB", (after-before)/float64(count)/1000), target: "30 kB"}}, nil
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
