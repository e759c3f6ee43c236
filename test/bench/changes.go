package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/client"
	"ullage/examples/cellars"
	"ullage/test/service"
)

const (
	manySessions = 1000
	allDevices   = 10_000
	rounds       = 5
	quietFor     = 2500 * time.Millisecond
)

// spread returns the median, the least and the greatest.
func spread(all []float64) (mid, low, high float64) {
	slices.Sort(all)
	return all[len(all)/2], all[0], all[len(all)-1]
}

// changeFigures measures what many changes at once do to readings: 32 devices
// send 25 readings a second each throughout, and the 99th percentile of their
// acknowledgements while something happens is compared with that of the same load
// undisturbed, in turns.
func changeFigures(dir string) ([]figure, error) {
	s, err := serve(filepath.Join(dir, "changes"))
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	ctx := context.Background()
	probe, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	if err != nil {
		return nil, err
	}
	// The same probe, expected every second, so that it falls silent soon.
	for old, to := range map[string]string{`"ullage:name": "tank-probe"`: `"ullage:name": "tank-pulse"`,
		`"ullage:interval": "60s"`: `"ullage:interval": "1s"`} {
		if !bytes.Contains(probe, []byte(old)) {
			return nil, fmt.Errorf("the model has no %s", old)
		}
		probe = bytes.Replace(probe, []byte(old), []byte(to), 1)
	}
	if _, err := s.Client.PublishModel(ctx, probe, nil); err != nil {
		return nil, err
	}
	dark := "rule: cellar_dark\nmodels: [tank-pulse]\neach: label.site\nraise: share(device.link in (\"overdue\", \"silent\")) > 50 '%'\npriority: urgent\nmessage: \"{label.site} does not report\"\n"
	rule := filepath.Join(dir, "cellar_dark.yaml")
	if err := os.WriteFile(rule, []byte(dark), 0o600); err != nil {
		return nil, err
	}
	if _, errs, code := s.CLI("", "rule", "load", rule); code != 0 {
		return nil, fmt.Errorf("the rule: %s", errs)
	}

	fmt.Printf("onboarding %d devices …\n", allDevices)
	tokens := make([]string, manySessions)
	var wg sync.WaitGroup
	next, failed := make(chan int), make(chan error, 64)
	for range 64 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for i := range next {
				d := client.NewDevice{ID: fmt.Sprintf("tank-kilnside-%d", i), Model: "tank-probe",
					Labels: map[string]string{"site": "Kilnside"}}
				if i < manySessions {
					d = client.NewDevice{ID: pulseID(i), Model: "tank-pulse",
						Labels: map[string]string{"site": "Saltmarsh"}}
				}
				o, err := s.Client.CreateDevice(ctx, d)
				if err != nil {
					select {
					case failed <- err:
					default:
					}
					continue
				}
				if i < manySessions {
					tokens[i] = o.Token
				}
			}
		}()
	}
	for i := range allDevices {
		next <- i
	}
	close(next)
	wg.Wait()
	select {
	case err := <-failed:
		return nil, err
	default:
	}

	fmt.Printf("connecting %d sessions …\n", manySessions)
	sessions := make([]net.Conn, manySessions)
	for i := range sessions {
		if sessions[i], err = greet(s.MQTT, pulseID(i), tokens[i]); err != nil {
			return nil, err
		}
		defer sessions[i].Close()
	}
	load, err := steadyLoad(s)
	if err != nil {
		return nil, err
	}
	defer load.stop()
	time.Sleep(2 * time.Second)

	n := 0
	disturbances := []struct {
		name, target string
		prepare      func() error
		do           func() (time.Duration, error)
		proof        func() error
	}{
		{fmt.Sprintf("%d about messages from %d sessions", 10*manySessions, manySessions), "under 2 s", nil, func() (time.Duration, error) {
			n++
			return each(sessions, time.Second, func(i int, c net.Conn) error {
				var bodies []string
				for k := range 10 {
					bodies = append(bodies, fmt.Sprintf(`{"serial":"S-%d-%d-%d"}`, n, i, k))
				}
				return publishAll(c, "ullage/"+pulseID(i)+"/about", bodies)
			})
		}, nil},
		{fmt.Sprintf("%d overrides by one call", allDevices), "under 2 s", nil, func() (time.Duration, error) {
			n++
			begun := time.Now()
			j, err := s.Client.ChangeManySettings(ctx,
				client.SettingsOfMany{Where: `label.site in ("Kilnside", "Saltmarsh")`,
					Set: map[string]any{"max_temp": 20 + n%20}})
			for err == nil && j.EndedAt == nil {
				time.Sleep(20 * time.Millisecond)
				j, err = s.Client.SettingsJob(ctx, j.ID)
			}
			if err == nil && (j.Devices != allDevices || j.Failed > 0) {
				err = fmt.Errorf("the settings of %d devices were changed, %d failed", j.Devices, j.Failed)
			}
			return time.Since(begun), err
		}, nil},
		{fmt.Sprintf("a layer that changes %d devices", allDevices), "under 2 s", nil, func() (time.Duration, error) {
			n++
			begun := time.Now()
			_, err := s.Client.ChangeLayers(ctx, client.LayerChange{Layer: &client.Layer{Name: "base", Set: map[string]any{"stir_at": float64(11 + n%20)}}, AtOnce: true})
			for err == nil {
				var now client.Service
				if now, err = s.Client.Service(ctx); err == nil && now.Deriving == 0 {
					break
				}
				time.Sleep(20 * time.Millisecond)
			}
			return time.Since(begun), err
		}, func() error {
			st, err := s.Client.LayerStatus(ctx, "base")
			if err == nil && st.Scope < allDevices {
				err = fmt.Errorf("the layer chooses %d of %d devices", st.Scope, allDevices)
			}
			return err
		}},
		{fmt.Sprintf("a site of %d devices falls silent", manySessions), "", func() error {
			// They report once; 1.5 s later they are overdue, 3 s later silent.
			_, err := each(sessions, 0, func(i int, c net.Conn) error {
				return publishAll(c, "ullage/"+pulseID(i)+"/readings", []string{`{"must_temp":21.5}`})
			})
			time.Sleep(time.Second)
			return err
		}, func() (time.Duration, error) {
			// It was a second ago that they reported. Asking whether they are silent
			// would be load of its own, so that is done behind the measurement.
			time.Sleep(3 * time.Second)
			return 3 * time.Second, nil
		}, func() error {
			ds, err := s.Client.DevicesLike(ctx,
				client.DeviceFilter{Where: `label.site == "Saltmarsh" and device.link == "silent"`, Brief: true})
			if err == nil && len(ds) != manySessions {
				err = fmt.Errorf("%d of %d devices are silent", len(ds), manySessions)
			}
			return err
		}},
	}
	var out []figure
	for _, d := range disturbances {
		var ratios []float64
		var took, calm, disturbed []time.Duration
		for i := range rounds {
			fmt.Printf("%s, turn %d …\n", d.name, i+1)
			load.cut()
			time.Sleep(quietFor)
			calm = append(calm, load.cut())
			if d.prepare != nil {
				if err := d.prepare(); err != nil {
					return nil, err
				}
				load.cut()
			}
			t, err := d.do()
			if err != nil {
				return nil, fmt.Errorf("%s: %w", d.name, err)
			}
			if t < quietFor {
				time.Sleep(quietFor - t) // what follows from it belongs to it
			}
			took, disturbed = append(took, t), append(disturbed, load.cut())
			if d.proof != nil {
				if err := d.proof(); err != nil {
					return nil, fmt.Errorf("%s: %w", d.name, err)
				}
			}
			ratios = append(ratios, float64(disturbed[i])/float64(calm[i]))
			time.Sleep(time.Second)
		}
		mid, low, high := spread(ratios)
		f := figure{d.name, median(took).Round(10 * time.Millisecond).String(), d.target, ""}
		if d.target == "" {
			f.got = ""
		}
		out = append(out, f, figure{"  readings' acknowledgement p99 meanwhile",
			median(disturbed).Round(10 * time.Microsecond).String(), "1.5 × undisturbed",
			fmt.Sprintf("%.2f × %s (%.2f–%.2f)", mid, median(calm).Round(10*time.Microsecond), low, high)})
	}
	if err := load.stop(); err != nil {
		return nil, err
	}
	more, err := layerFigures(ctx, s)
	return append(out, more...), err
}

// layerFigures times what is asked about layers of the whole fleet, over the API.
func layerFigures(ctx context.Context, s *service.Service) ([]figure, error) {
	var out []figure
	for _, x := range []struct {
		name, target string
		ask          func() error
	}{
		{fmt.Sprintf("preview of a layer over %d devices", allDevices), "under 1 s", func() error {
			p, err := s.Client.PreviewLayers(ctx, client.LayerChange{Layer: &client.Layer{Name: "base", Set: map[string]any{"stir_at": 34.5}}})
			if err == nil && p.Devices < allDevices {
				err = fmt.Errorf("the preview is of %d devices", p.Devices)
			}
			return err
		}},
		{"why a setting has its value", "under 5 ms", func() error {
			_, err := s.Client.ExplainSetting(ctx, pulseID(1), "stir_at")
			return err
		}},
		{fmt.Sprintf("how far %d devices are with a layer", allDevices), "under 1 s", func() error {
			_, err := s.Client.LayerStatus(ctx, "base")
			return err
		}},
	} {
		var took []time.Duration
		for range 7 {
			begun := time.Now()
			if err := x.ask(); err != nil {
				return nil, fmt.Errorf("%s: %w", x.name, err)
			}
			took = append(took, time.Since(begun))
		}
		out = append(out, figure{x.name, median(took).Round(10 * time.Microsecond).String(), x.target, ""})
	}
	return out, nil
}

func pulseID(i int) string { return fmt.Sprintf("tank-saltmarsh-%d", i) }

// each does something on all connections, beginning at equal distances within a
// time, so that what the load itself needs of the two cores is not all needed in
// one moment.
func each(conns []net.Conn, within time.Duration, do func(int, net.Conn) error) (time.Duration, error) {
	begun := time.Now()
	failed := make(chan error, len(conns))
	for i, c := range conns {
		go func() {
			time.Sleep(time.Duration(i) * within / time.Duration(len(conns)))
			failed <- do(i, c)
		}()
	}
	var err error
	for range conns {
		if e := <-failed; e != nil {
			err = e
		}
	}
	return time.Since(begun), err
}

func publish(buf *bytes.Buffer, topic, body string, id uint16) error {
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1}, ProtocolVersion: 4,
		TopicName: topic, PacketID: id, Payload: []byte(body)}
	return pk.PublishEncode(buf)
}

// publishAll sends messages and waits until all are acknowledged.
func publishAll(c net.Conn, topic string, bodies []string) error {
	var buf bytes.Buffer
	for i, body := range bodies {
		if err := publish(&buf, topic, body, uint16(i+1)); err != nil {
			return err
		}
	}
	if _, err := c.Write(buf.Bytes()); err != nil {
		return err
	}
	acks := make([]byte, 4*len(bodies))
	c.SetReadDeadline(time.Now().Add(30 * time.Second))
	if _, err := io.ReadFull(c, acks); err != nil {
		return err
	}
	for i := 0; i < len(acks); i += 4 {
		if acks[i] != 0x40 {
			return fmt.Errorf("%s was answered % x", topic, acks)
		}
	}
	return nil
}

// steady is devices that send readings at a steady rate, whatever the service
// does, and take the time of each acknowledgement.
type steady struct {
	mu     sync.Mutex
	lat    []time.Duration
	failed error
	ending chan struct{}
	once   sync.Once
	wg     sync.WaitGroup
}

func steadyLoad(s *service.Service) (*steady, error) {
	l := &steady{ending: make(chan struct{})}
	for i := range 32 {
		id := fmt.Sprintf("tank-fennimore-%d", i)
		o, err := s.Client.CreateDevice(context.Background(), client.NewDevice{ID: id, Model: "tank-probe",
			Labels: map[string]string{"site": "Fennimore"}})
		if err != nil {
			return nil, err
		}
		c, err := greet(s.MQTT, id, o.Token)
		if err != nil {
			return nil, err
		}
		l.wg.Add(1)
		go func() {
			defer l.wg.Done()
			defer c.Close()
			if err := l.run(c, "ullage/"+id+"/readings", time.Duration(i)*time.Millisecond); err != nil {
				l.mu.Lock()
				l.failed = err
				l.mu.Unlock()
			}
		}()
	}
	return l, nil
}

func (l *steady) run(c net.Conn, topic string, shift time.Duration) error {
	// A reading counts from when it was due, so that one that had to wait for its
	// turn is not forgotten.
	due := make(chan time.Time, 1<<16)
	heard := make(chan error, 1)
	go func() {
		ack := make([]byte, 4)
		for at := range due {
			if _, err := io.ReadFull(c, ack); err != nil {
				heard <- err
				return
			}
			d := time.Since(at)
			l.mu.Lock()
			l.lat = append(l.lat, d)
			l.mu.Unlock()
		}
		heard <- nil
	}()
	next := time.Now().Add(shift)
	var buf bytes.Buffer
	for n := uint16(1); ; n++ {
		select {
		case <-l.ending:
			close(due)
			return <-heard
		case err := <-heard:
			return err
		case <-time.After(time.Until(next)):
		}
		if n == 0 {
			n = 1
		}
		buf.Reset()
		if err := publish(&buf, topic, fmt.Sprintf(`{"must_temp":%.1f}`, 18+float64(n%80)/10), n); err != nil {
			return err
		}
		due <- next
		if _, err := c.Write(buf.Bytes()); err != nil {
			return err
		}
		next = next.Add(40 * time.Millisecond)
	}
}

// cut returns the 99th percentile since the last cut.
func (l *steady) cut() time.Duration {
	l.mu.Lock()
	all := l.lat
	l.lat = nil
	l.mu.Unlock()
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	return all[len(all)*99/100]
}

func (l *steady) stop() error {
	l.once.Do(func() { close(l.ending) })
	l.wg.Wait()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.failed != nil && !strings.Contains(l.failed.Error(), "closed") {
		return l.failed
	}
	return nil
}
