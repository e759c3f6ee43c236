// Command bench measures what Ullage promises about speed and prints each
// figure with its target, and its ratio to a ceiling measured in the same run
// where there is one. It passes no judgement: machines differ, ratios less so.
package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	_ "modernc.org/sqlite"

	"ullage/client"
	"ullage/examples/cellars"
	"ullage/sim"
	"ullage/test/browser"
	"ullage/test/service"
)

const (
	connections = 64
	measureFor  = 4 * time.Second
	manyDevices = 1000
)

type figure struct{ what, got, target, ratio string }

func main() {
	only := flag.String("only", "", "measure only this part: ingest, store, expressions, models or fleet")
	flag.Parse()
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
		{"store", func() ([]figure, error) { return storeFigures(dir) }},
		{"expressions", func() ([]figure, error) { return expressionFigures(dir) }},
		{"models", func() ([]figure, error) { return modelFigures(dir) }},
		{"fleet", func() ([]figure, error) { return fleetFigures(dir) }},
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
	if _, err := conn.ExecContext(ctx, `CREATE TABLE readings (series INTEGER NOT NULL, at INTEGER NOT NULL, value, quality INTEGER NOT NULL, device_at INTEGER, receipt INTEGER, PRIMARY KEY (series, at)) WITHOUT ROWID`); err != nil {
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

func serve(dir string) (*service.Service, error) {
	s, err := service.Start(dir, "--device-rate", "0", "--device-connects", "0", "--log-level", "warn")
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"tank-probe", "cellar-air", "jacket-valve", "cask-bung", "press-scale", "cellar-hub"} {
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
	if err != nil || v.Readings != uint64(count.Load()) {
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
	pk.Connect = packets.ConnectParams{ProtocolName: []byte("MQTT"), Clean: true, ClientIdentifier: id, UsernameFlag: true, Username: []byte(id), PasswordFlag: true, Password: []byte(token)}
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
		pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1}, ProtocolVersion: 4, TopicName: topic, PacketID: n,
			Payload: fmt.Appendf(nil, `{"at":"%s","must_temp":21.5}`, at.UTC().Format("2006-01-02T15:04:05.000Z"))}
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

// fleetFigures measures with a thousand devices, each connected and reporting.
func fleetFigures(dir string) ([]figure, error) {
	data := filepath.Join(dir, "fleet")
	s, err := serve(data)
	if err != nil {
		return nil, err
	}
	rules, err := filepath.Glob(filepath.Join(service.Root(), "examples", "cellars", "rules", "*.yaml"))
	if err != nil {
		return nil, err
	}
	if _, errs, code := s.CLI("", append([]string{"rule", "load"}, rules...)...); code != 0 {
		return nil, fmt.Errorf("the rules: %s", errs)
	}
	fmt.Printf("onboarding %d devices …\n", manyDevices)
	var creds sim.Credentials
	if err := sim.Onboard(context.Background(), s.Client, sim.Fleet(manyDevices), &creds, func() {}); err != nil {
		return nil, err
	}
	path := filepath.Join(dir, "credentials.json")
	if err := sim.WriteCredentials(path, creds); err != nil {
		return nil, err
	}
	if err := s.Stop(); err != nil {
		return nil, err
	}
	fmt.Println("starting with them …")
	begun := time.Now()
	if s, err = service.Start(data, "--device-rate", "0", "--device-connects", "0"); err != nil {
		return nil, err
	}
	started := time.Since(begun)
	defer s.Stop()

	fmt.Println("connecting them …")
	creds.MQTT, creds.HTTP = s.MQTT, s.HTTP
	if err := sim.WriteCredentials(path, creds); err != nil {
		return nil, err
	}
	live := exec.Command(service.Binary(), "sim", "--credentials", path, "--count", fmt.Sprint(manyDevices), "--history", "10min", "--for", "90s")
	if err := live.Start(); err != nil {
		return nil, err
	}
	defer func() { live.Process.Signal(os.Interrupt); live.Wait() }()
	connected := 0
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if v, err := s.Client.Service(context.Background()); err == nil {
			if connected = v.Connected; connected >= manyDevices-9 {
				break
			}
		}
	}
	time.Sleep(15 * time.Second) // everybody has reported live
	v, err := s.Client.Service(context.Background())
	if err != nil {
		return nil, err
	}
	memory, err := resident(s.PID)
	if err != nil {
		return nil, err
	}
	fmt.Println("opening the fleet page …")
	loads, err := pageLoads(s)
	if err != nil {
		return nil, err
	}
	bytes, err := answerSize(s)
	if err != nil {
		return nil, err
	}
	return []figure{
		{fmt.Sprintf("service start with %d devices, until it answers", manyDevices), started.Round(time.Millisecond).String(), "under 1 s", ""},
		{fmt.Sprintf("resident memory with %d devices, %d over MQTT, %.0f readings/s", manyDevices, connected, v.PerSecond), fmt.Sprintf("%d MB", memory>>20), "under 200 MB", ""},
		{fmt.Sprintf("fleet page with %d devices, until interactive, median of %d", manyDevices, len(loads)), loads[len(loads)/2].Round(time.Millisecond).String(), "under 1 s", ""},
		{"  of all devices as JSON", fmt.Sprintf("%d kB", bytes>>10), "", ""},
	}, nil
}

func median(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}

// resident reads how much memory a process holds (Linux).
func resident(pid int) (int64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		var kb int64
		if _, err := fmt.Sscanf(line, "VmRSS: %d kB", &kb); err == nil {
			return kb << 10, nil
		}
	}
	return 0, fmt.Errorf("the memory of process %d is not told", pid)
}

func answerSize(s *service.Service) (int, error) {
	req, err := http.NewRequest("GET", s.Console+"/api/v1/devices", nil)
	if err != nil {
		return 0, err
	}
	req.Header.Set("Authorization", "Bearer "+s.Token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	var all []json.RawMessage
	b, err := io.ReadAll(resp.Body)
	if err == nil {
		err = json.Unmarshal(b, &all)
	}
	if err == nil && len(all) != manyDevices {
		err = fmt.Errorf("%d devices came", len(all))
	}
	return len(b), err
}

// pageLoads measures from the navigation until every vessel is drawn and the
// page answers to input again.
func pageLoads(s *service.Service) ([]time.Duration, error) {
	b, err := browser.Start()
	if err != nil {
		return nil, err
	}
	defer b.Close()
	p, err := b.Open(s.Console, 1280, 800)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if err := p.SignIn("engineer", service.Password); err != nil {
		return nil, err
	}
	var out []time.Duration
	for range 7 {
		if err := p.Go(s.Console + "/"); err != nil {
			return nil, err
		}
		ms, err := browser.Eval[float64](p, fmt.Sprintf(`new Promise((done) => {
			const look = () => document.querySelectorAll('section[aria-label=Vessels] li').length >= %d
				? setTimeout(() => done(performance.now()), 0) : setTimeout(look, 5);
			look();
		})`, manyDevices))
		if err != nil {
			return nil, err
		}
		out = append(out, time.Duration(ms*float64(time.Millisecond)))
	}
	slices.Sort(out)
	return out, nil
}
