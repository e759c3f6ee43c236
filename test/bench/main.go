// Command bench measures what Ullage promises about speed and prints each
// figure with its target, and its ratio to a ceiling measured in the same run
// where there is one. It passes no judgement: machines differ, ratios less so.
package main

import (
	"bytes"
	"context"
	"database/sql"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	_ "modernc.org/sqlite"

	"ullage/client"
	"ullage/examples/cellars"
	"ullage/test/service"
)

const (
	connections = 64
	measureFor  = 4 * time.Second
)

type figure struct{ what, got, target, ratio string }

func main() {
	only := flag.String("only", "",
		"measure only this part: ingest, lockstep, sessions, converge, changes, store, expressions, alarms, models, people, onboarding, attacks, boards, screen, fleet or tenthousand")
	ceiling := flag.String("echo", "", "be the ceiling of lockstep, on this file; the benchmark starts itself so")
	strike := flag.String("attack", "", "be the attackers of attacks, one of them at an address; the benchmark starts itself so")
	bare := flag.String("bare", "", "be a bare server, over tls or plain; the benchmark starts itself so")
	flag.Parse()
	if *bare != "" {
		if err := bareTLS(*bare == "plain"); err != nil {
			fmt.Fprintln(os.Stderr, "bare:", err)
			os.Exit(1)
		}
		return
	}
	if *strike != "" {
		if err := attackers(*strike); err != nil {
			fmt.Fprintln(os.Stderr, "attack:", err)
			os.Exit(1)
		}
		return
	}
	if *ceiling != "" {
		if err := echo(*ceiling); err != nil {
			fmt.Fprintln(os.Stderr, "echo:", err)
			os.Exit(1)
		}
		return
	}
	statistics, err := run(*only)
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
	fmt.Printf("\n%-68s %-22s %-18s %s\n", "figure", "got", "target", "ratio to ceiling")
	for _, f := range statistics {
		fmt.Printf("%-68s %-22s %-18s %s\n", f.what, f.got, f.target, f.ratio)
	}
}

func run(only string) ([]figure, error) {
	dir, err := os.MkdirTemp("", "ullage-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	var out []figure
	for _, part := range []struct {
		name    string
		measure func() ([]figure, error)
	}{
		{"ingest", func() ([]figure, error) { return ingestFigures(dir, 1) }},
		{"ingest", func() ([]figure, error) { return ingestFigures(dir, 16) }},
		{"lockstep", func() ([]figure, error) { return echoFigures(dir) }},
		{"sessions", func() ([]figure, error) { return sessionFigures(dir, 10_000) }},
		{"converge", func() ([]figure, error) { return convergeFigures(dir) }},
		{"changes", func() ([]figure, error) { return changeFigures(dir) }},
		{"store", func() ([]figure, error) { return storeFigures(dir) }},
		{"expressions", func() ([]figure, error) { return expressionFigures(dir) }},
		{"alarms", func() ([]figure, error) { return alarmFigures(dir) }},
		{"models", func() ([]figure, error) { return modelFigures(dir) }},
		{"people", func() ([]figure, error) { return peopleFigures(dir) }},
		{"onboarding", func() ([]figure, error) { return onboardingFigures(dir) }},
		{"attacks", func() ([]figure, error) { return attackFigures(dir) }},
		{"boards", func() ([]figure, error) { return boardFigures(dir) }},
		{"hundred", func() ([]figure, error) { return hundredFigures(dir) }},
		{"map", func() ([]figure, error) { return mapFigures(dir) }},
		{"screen", func() ([]figure, error) { return screenFigures(dir) }},
		{"fleet", func() ([]figure, error) { return fleetFigures(dir, 1000) }},
		{"tenthousand", func() ([]figure, error) { return fleetFigures(dir, 10_000) }},
	} {
		if only != "" && only != part.name {
			continue
		}
		f, err := part.measure()
		if err != nil {
			return nil, err
		}
		out = append(out, f...)
	}
	return out, nil
}

// ingestFigures compares durable QoS 1 over MQTT with a bare group-commit loop
// on the same driver, with the same number of writers, each with the same
// number of single readings under way.
func ingestFigures(dir string, window int) ([]figure, error) {
	fmt.Printf("bare group commit, %d writers, %d under way each …\n", connections, window)
	bare, bareP50, err := bareLoop(filepath.Join(dir, fmt.Sprintf("bare-%d.db", window)), window)
	if err != nil {
		return nil, err
	}
	fmt.Printf("MQTT QoS 1, %d connections, %d under way each …\n", connections, window)
	mqtt, p50, p99, err := mqttLoop(filepath.Join(dir, fmt.Sprintf("mqtt-%d", window)), window)
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("durable QoS 1 single readings, %d connections × %d under way", connections, window)
	return []figure{
		{fmt.Sprintf("ceiling: bare group commit, %d writers × %d under way", connections, window), fmt.Sprintf("%.0f/s", bare), "", ""},
		{name, fmt.Sprintf("%.0f/s", mqtt), "half the ceiling", fmt.Sprintf("%.2f", mqtt/bare)},
		{"  acknowledgement p50", p50.Round(10 * time.Microsecond).String(), "", fmt.Sprintf("%.1f × bare p50", float64(p50)/float64(bareP50))},
		{"  acknowledgement p99", p99.Round(10 * time.Microsecond).String(), "", ""},
	}, nil
}

// bareLoop commits single readings of many writers together, and does nothing
// else: one INSERT a reading, one COMMIT for all that wait.
func bareLoop(path string, window int) (rate float64, p50 time.Duration, err error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate")
	if err != nil {
		return 0, 0, err
	}
	defer db.Close()
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	if err != nil {
		return 0, 0, err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx,
		`CREATE TABLE readings (series INTEGER NOT NULL, at INTEGER NOT NULL, value, quality INTEGER NOT NULL, device_at INTEGER, receipt INTEGER, PRIMARY KEY (series, at)) WITHOUT ROWID`); err != nil {
		return 0, 0, err
	}
	insert, err := conn.PrepareContext(ctx, `INSERT INTO readings VALUES (?, ?, ?, 0, NULL, NULL)`)
	if err != nil {
		return 0, 0, err
	}
	type write struct {
		series, at int64
		done       chan struct{}
	}
	queue := make(chan write, connections*window)
	var stop atomic.Bool
	var count atomic.Int64
	lat := &latencies{}
	var wg sync.WaitGroup
	for w := range connections * window {
		wg.Add(1)
		go func() {
			defer wg.Done()
			done := make(chan struct{}, 1)
			for at := int64(0); !stop.Load(); at++ {
				begun := time.Now()
				queue <- write{int64(w), at, done}
				<-done
				lat.add(time.Since(begun))
				count.Add(1)
			}
		}()
	}
	go func() { wg.Wait(); close(queue) }()
	timer := time.AfterFunc(measureFor, func() { stop.Store(true) })
	defer timer.Stop()
	begun := time.Now()
	var batch []write
	for first := range queue {
		batch = append(batch[:0], first)
	more:
		for {
			select {
			case w, ok := <-queue:
				if !ok {
					break more
				}
				batch = append(batch, w)
			default:
				break more
			}
		}
		if _, err := conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
			return 0, 0, err
		}
		for _, w := range batch {
			if _, err := insert.ExecContext(ctx, w.series, w.at, 21.5); err != nil {
				return 0, 0, err
			}
		}
		if _, err := conn.ExecContext(ctx, "COMMIT"); err != nil {
			return 0, 0, err
		}
		for _, w := range batch {
			w.done <- struct{}{}
		}
	}
	p50, _ = lat.quantiles()
	return float64(count.Load()) / time.Since(begun).Seconds(), p50, nil
}

type latencies struct {
	mu  sync.Mutex
	all []time.Duration
}

func (l *latencies) add(d time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all = append(l.all, d)
}

func (l *latencies) quantiles() (p50, p99 time.Duration) {
	slices.Sort(l.all)
	if len(l.all) == 0 {
		return 0, 0
	}
	return l.all[len(l.all)/2], l.all[len(l.all)*99/100]
}

func serve(dir string, flags ...string) (*service.Service, error) {
	s, err := service.Start(dir, append([]string{"--device-rate", "0", "--device-connects", "0", "--log-level", "warn"}, flags...)...)
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"tank-probe", "cellar-air", "jacket-valve", "cask-bung", "press-scale",
		"cellar-hub"} {
		b, err := cellars.Files.ReadFile("models/" + name + ".tm.json")
		if err != nil {
			return nil, err
		}
		if _, err := s.Client.PublishModel(context.Background(), b, nil); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// mqttLoop sends single readings over MQTT 3.1.1 and counts acknowledgements.
func mqttLoop(dir string, window int) (rate float64, p50, p99 time.Duration, err error) {
	s, err := serve(dir)
	if err != nil {
		return 0, 0, 0, err
	}
	defer s.Stop()
	conns := make([]net.Conn, connections)
	ids := make([]string, connections)
	for i := range conns {
		ids[i] = fmt.Sprintf("tank-fennimore-%d", i+100)
		o, err := s.Client.CreateDevice(context.Background(), client.NewDevice{ID: ids[i], Model: "tank-probe"})
		if err != nil {
			return 0, 0, 0, err
		}
		if conns[i], err = greet(s.MQTT, ids[i], o.Token); err != nil {
			return 0, 0, 0, err
		}
		defer conns[i].Close()
	}
	lat := &latencies{}
	var count atomic.Int64
	var wg sync.WaitGroup
	failed := make(chan error, connections)
	begun := time.Now()
	end := begun.Add(measureFor)
	for i, conn := range conns {
		wg.Add(1)
		go func() {
			defer wg.Done()
			n, err := pump(conn, ids[i], window, end, lat)
			count.Add(n)
			if err != nil {
				failed <- err
			}
		}()
	}
	wg.Wait()
	took := time.Since(begun)
	select {
	case err := <-failed:
		return 0, 0, 0, err
	default:
	}
	// What was acknowledged is counted again from the store.
	v, err := s.Client.Service(context.Background())
	if err != nil || *v.Readings != uint64(count.Load()) {
		return 0, 0, 0, fmt.Errorf("%d readings were acknowledged and %d are stored, %v", count.Load(), v.Readings, err)
	}
	p50, p99 = lat.quantiles()
	return float64(count.Load()) / took.Seconds(), p50, p99, nil
}

// greet connects as a device.
func greet(address, id, token string) (net.Conn, error) {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connect}, ProtocolVersion: 4}
	pk.Connect = packets.ConnectParams{ProtocolName: []byte("MQTT"), Clean: true, ClientIdentifier: id,
		UsernameFlag: true, Username: []byte(id), PasswordFlag: true, Password: []byte(token)}
	var buf bytes.Buffer
	if err := pk.ConnectEncode(&buf); err != nil {
		return nil, err
	}
	if _, err := conn.Write(buf.Bytes()); err != nil {
		return nil, err
	}
	var ack [4]byte
	if _, err := io.ReadFull(conn, ack[:]); err != nil || ack[3] != 0 {
		return nil, fmt.Errorf("%s was not let in: %v %v", id, ack, err)
	}
	return conn, nil
}

// pump keeps window messages under way until the end and waits for the rest.
func pump(conn net.Conn, id string, window int, end time.Time, lat *latencies) (int64, error) {
	sent := make(chan time.Time, window)
	result := make(chan error, 1)
	var acked int64
	go func() {
		var ack [4]byte
		for begun := range sent {
			if _, err := io.ReadFull(conn, ack[:]); err != nil || ack[0] != 0x40 {
				result <- fmt.Errorf("%s: %v %w", id, ack, err)
				return
			}
			lat.add(time.Since(begun))
			acked++
			<-slots(conn, window)
		}
		result <- nil
	}()
	free := slots(conn, window)
	topic := "ullage/" + id + "/readings"
	var buf bytes.Buffer
	at := time.Now().Add(-10 * 24 * time.Hour)
	for n := uint16(1); time.Now().Before(end); n++ {
		free <- struct{}{}
		if n == 0 {
			n = 1
		}
		at = at.Add(10 * time.Millisecond)
		pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1}, ProtocolVersion: 4,
			TopicName: topic, PacketID: n, Payload: fmt.Appendf(nil, `{"at":"%s","must_temp":21.5}`,
				at.UTC().Format("2006-01-02T15:04:05.000Z"))}
		buf.Reset()
		if err := pk.PublishEncode(&buf); err != nil {
			return 0, err
		}
		sent <- time.Now()
		if _, err := conn.Write(buf.Bytes()); err != nil {
			return 0, err
		}
	}
	close(sent)
	err := <-result
	return acked, err
}

var windows sync.Map

// slots is the window of one connection.
func slots(conn net.Conn, window int) chan struct{} {
	c, _ := windows.LoadOrStore(conn, make(chan struct{}, window))
	return c.(chan struct{})
}

func median(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}
