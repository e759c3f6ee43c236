// Package attack does to a running service what strangers, hostile devices and
// foreign files do, in bounded programs that end by themselves. Beside each an
// innocent device reports: what it is owed is what the attacks are judged by.
package attack

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ullage/client"
	"ullage/test/service"
)

// Target is a service under attack, with devices of an attacker's.
type Target struct {
	*service.Service
	devices atomic.Int64
}

// Enemy onboards another device whose owner means ill: what one attack used up of
// its limits is not the next one's.
func (t *Target) Enemy(model string) (id, token string) {
	id = fmt.Sprintf("tank-kilnside-%02d", t.devices.Add(1))
	o, err := t.Client.CreateDevice(context.Background(), client.NewDevice{ID: id, Model: model})
	if err != nil {
		panic(err) // nothing can be attacked without
	}
	return id, o.Token
}

// Attack is one program. Run does it so many times as hard as in its shortest
// form, and returns what did not hold, in one sentence each.
type Attack struct {
	Name string
	Run  func(ctx context.Context, t *Target, hard int) []string
}

// All lists the attacks.
var All = []Attack{
	{"half-open strangers", func(ctx context.Context, t *Target, hard int) []string {
		HalfOpen(ctx, t.MQTT, 300*hard, 2*time.Second)
		return nil
	}},
	{"a connection that says half a word", halfWords},
	{"unfinished bodies", unfinished},
	{"wrong passwords at once", func(ctx context.Context, t *Target, hard int) []string {
		return WrongPasswords(ctx, t.Service.Console, t.Service.Familiar, 100*hard)
	}},
	{"wrong tokens", wrongTokens},
	{"a large CONNECT of nobody", largeConnect},
	{"packets that are none", nonsense},
	{"hostile readings", hostileReadings},
	{"metrics without end", metricsWithoutEnd},
	{"one id, many connections", takeover},
	{"filters and sessions without end", sessionsWithoutEnd},
	{"files that claim more than they hold", hostileFiles},
	{"deep and long JSON", deepJSON},
	{"strange names of the host, and other sites", strangeHosts},
	{"paths and queries", strangePaths},
}

func dial(at string) (net.Conn, error) { return net.DialTimeout("tcp", at, 5*time.Second) }

// each runs f for so many, some at a time.
func each(n, workers int, f func(i int)) {
	var wg sync.WaitGroup
	var next atomic.Int64
	for range workers {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				f(i)
			}
		})
	}
	wg.Wait()
}

// HalfOpen opens so many connections that never say who they are, and holds them
// as long as they are let, or for a time.
func HalfOpen(ctx context.Context, at string, n int, hold time.Duration) {
	conns := make([]net.Conn, n)
	each(n, 64, func(i int) {
		c, err := dial(at)
		if err != nil {
			return
		}
		conns[i] = c
		if i%2 == 0 {
			c.Write([]byte{0x10, 0xff}) // a CONNECT begins, and does not go on
		}
	})
	select {
	case <-ctx.Done():
	case <-time.After(hold):
	}
	for _, c := range conns {
		if c != nil {
			c.Close()
		}
	}
}

func halfWords(_ context.Context, t *Target, hard int) []string {
	each(50*hard, 16, func(i int) {
		for _, at := range []string{t.MQTT, t.HTTP, strings.TrimPrefix(t.Console, "http://")} {
			if c, err := dial(at); err == nil {
				io.WriteString(c, []string{"GET / HT", "\x10\x80\x80\x80\x80\x80", "\x16\x03\x01\x02\x00\x01", "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"}[i%4])
				c.Close()
			}
		}
	})
	return nil
}

// unfinished sends the heads of requests whose bodies never come.
func unfinished(ctx context.Context, t *Target, hard int) []string {
	_, token := t.Enemy("tank-probe")
	var conns []net.Conn
	var mu sync.Mutex
	each(60*hard, 32, func(i int) {
		at := t.HTTP
		head := "POST /device/v1/readings HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer " + token + "\r\nContent-Length: 200000\r\n\r\n{"
		if i%2 == 0 {
			at = strings.TrimPrefix(t.Console, "http://")
			head = "POST /api/v1/sign-in HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 100000\r\n\r\n{\"name\":"
		}
		if c, err := dial(at); err == nil {
			io.WriteString(c, head)
			mu.Lock()
			conns = append(conns, c)
			mu.Unlock()
		}
	})
	select {
	case <-ctx.Done():
	case <-time.After(time.Second):
	}
	// The door is open for others meanwhile.
	var bad []string
	if _, err := t.Client.Service(ctx); err != nil {
		bad = append(bad, "the API does not answer beside unfinished bodies: "+err.Error())
	}
	for _, c := range conns {
		c.Close()
	}
	return bad
}

// WrongPasswords tries so many wrong passwords at once, at the console of a service.
// The right one gets in meanwhile, of somebody who has been there before, at the
// address that the wrong ones come from; and all is over soon.
func WrongPasswords(ctx context.Context, console, familiar string, n int) (bad []string) {
	known := client.New(console, "")
	known.Familiar(familiar)
	var tried atomic.Int64
	begun := time.Now()
	var in atomic.Int64
	var wg sync.WaitGroup
	wg.Go(func() {
		each(n, n, func(i int) {
			body := fmt.Sprintf(`{"person":"engineer","password":"wrong-%d"}`, i)
			req, err := http.NewRequestWithContext(ctx, http.MethodPost, console+"/api/v1/sign-in", strings.NewReader(body))
			if err != nil {
				return
			}
			req.Header.Set("Content-Type", "application/json")
			if resp, err := http.DefaultClient.Do(req); err == nil {
				io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
				switch resp.StatusCode {
				case http.StatusUnauthorized, http.StatusTooManyRequests:
					tried.Add(1)
				case http.StatusOK:
					in.Add(1)
				}
			}
		})
	})
	time.Sleep(20 * time.Millisecond)
	if _, err := known.SignIn(ctx, "engineer", service.Password); err != nil {
		bad = append(bad, "the right password did not get in: "+err.Error())
	}
	if took := time.Since(begun); took > 20*time.Second {
		bad = append(bad, fmt.Sprintf("the right password took %s", took.Round(time.Second)))
	}
	wg.Wait()
	if tried.Load() == 0 {
		bad = append(bad, "no password was tried at all")
	}
	if n := in.Load(); n > 0 {
		bad = append(bad, fmt.Sprintf("%d wrong passwords got in", n))
	}
	return bad
}

// greet is a CONNECT of MQTT 3.1.1.
func greet(id, password string) []byte {
	field := func(s string) []byte { return append(binary.BigEndian.AppendUint16(nil, uint16(len(s))), s...) }
	body := append(field("MQTT"), 4, 0xc2, 0, 60)
	body = append(append(append(body, field(id)...), field(id)...), field(password)...)
	return packet(0x10, body)
}

// packet is an MQTT packet of a kind.
func packet(kind byte, body []byte) []byte {
	out := []byte{kind}
	for n := len(body); ; {
		b := byte(n % 128)
		if n /= 128; n > 0 {
			b |= 0x80
		}
		if out = append(out, b); n == 0 {
			break
		}
	}
	return append(out, body...)
}

// signedOn connects a device over MQTT 3.1.1, or returns nil.
func signedOn(at, id, token string) net.Conn {
	c, err := dial(at)
	if err != nil {
		return nil
	}
	c.SetDeadline(time.Now().Add(20 * time.Second))
	c.Write(greet(id, token))
	ack := make([]byte, 4)
	if _, err := io.ReadFull(c, ack); err != nil || ack[3] != 0 {
		c.Close()
		return nil
	}
	return c
}

func wrongTokens(_ context.Context, t *Target, hard int) (bad []string) {
	enemy, _ := t.Enemy("tank-probe")
	var in atomic.Int64
	each(200*hard, 32, func(i int) {
		id := fmt.Sprintf("guess-%d", i)
		if i%3 == 0 {
			id = enemy
		}
		if c := signedOn(t.MQTT, id, fmt.Sprintf("wrong.%d", i)); c != nil {
			in.Add(1)
			c.Close()
		}
	})
	if n := in.Load(); n > 0 {
		bad = append(bad, fmt.Sprintf("%d wrong tokens got in", n))
	}
	return bad
}

// largeConnect announces packets far larger than a CONNECT may be, and sends them.
func largeConnect(_ context.Context, t *Target, hard int) []string {
	each(100*hard, 32, func(i int) {
		c, err := dial(t.MQTT)
		if err != nil {
			return
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(3 * time.Second))
		c.Write(packet(0x10, bytes.Repeat([]byte{byte(i)}, 257<<10)))
	})
	return nil
}

// nonsense sends random packets, most of them almost right, with and without
// having signed on.
func nonsense(_ context.Context, t *Target, hard int) []string {
	type enemy struct{ id, token string }
	enemies := make([]enemy, 8)
	for i := range enemies {
		enemies[i].id, enemies[i].token = t.Enemy("tank-probe")
	}
	each(150*hard, 16, func(i int) {
		r := rand.New(rand.NewPCG(uint64(i), 7))
		var c net.Conn
		if i%2 == 0 {
			e := enemies[i/2%len(enemies)]
			c = signedOn(t.MQTT, e.id, e.token)
		} else {
			c, _ = dial(t.MQTT)
		}
		if c == nil {
			return
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(2 * time.Second))
		for range 20 {
			body := make([]byte, r.IntN(60))
			for k := range body {
				body[k] = byte(r.Uint32())
			}
			switch r.IntN(4) {
			case 0: // a topic with a wrong length
				body = append([]byte{0xff, 0xff}, body...)
			case 1: // of a subscription without a packet id
				body = append([]byte{0, 0, 0, 1, '#'}, body...)
			}
			if _, err := c.Write(packet(byte(r.Uint32()), body)); err != nil {
				return
			}
		}
		io.CopyN(io.Discard, c, 1<<12)
	})
	return nil
}

// post sends a message of readings over HTTP and returns its status; 0 for none.
func post(at, token string, body []byte) int {
	req, err := http.NewRequest(http.MethodPost, "http://"+at+"/device/v1/readings", bytes.NewReader(body))
	if err != nil {
		return 0
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := (&http.Client{Timeout: 10 * time.Second}).Do(req)
	if err != nil {
		return 0
	}
	io.Copy(io.Discard, resp.Body)
	resp.Body.Close()
	return resp.StatusCode
}

// hostileReadings are messages that are as large as may be and of which nothing
// can be kept, so that every reason and pointer is as long as may be.
func hostileReadings(_ context.Context, t *Target, hard int) (bad []string) {
	id, token := t.Enemy("tank-probe")
	long := strings.Repeat("\x1b[31m<é>\\u0000", 60)
	var b strings.Builder
	b.WriteString("[")
	for i := range 2000 {
		if i > 0 {
			b.WriteString(",")
		}
		fmt.Fprintf(&b, "{%q:1e999,\"at\":%q,\"must_temp\":\"hot\"}", strconv.Itoa(i)+"_metric", "yesterday")
	}
	b.WriteString("]")
	bodies := [][]byte{[]byte(b.String()), []byte(`{"` + long + `":1}`), []byte(`{"must_temp":1e999,"battery":3.3}`),
		bytes.Repeat([]byte("["), 100_000), []byte(`{"must_temp":` + strings.Repeat("9", 100_000) + `}`),
		append([]byte{0xff, 0xfe, 0}, long...)}
	each(60*hard, 8, func(i int) { post(t.HTTP, token, bodies[i%len(bodies)]) })
	// Not every message of a hostile device is refused: the good part of the third is kept.
	if _, err := t.Client.Device(context.Background(), id); err != nil {
		bad = append(bad, "the hostile device cannot be shown: "+err.Error())
	}
	return bad
}

// metricsWithoutEnd makes up metrics on a model that takes additional ones.
func metricsWithoutEnd(ctx context.Context, t *Target, hard int) (bad []string) {
	id, token := t.Enemy("open-probe")
	each(20*hard, 4, func(i int) {
		var b strings.Builder
		b.WriteString(`{"must_temp":20`)
		for k := range 100 {
			fmt.Fprintf(&b, `,"made_up_%d_%d":%d`, i, k, k)
		}
		b.WriteString("}")
		post(t.HTTP, token, []byte(b.String()))
	})
	d, err := t.Client.Device(ctx, id)
	if err != nil {
		return []string{"the device with additional metrics cannot be shown: " + err.Error()}
	}
	if n := len(d.Latest); n > 250 {
		bad = append(bad, fmt.Sprintf("one device has made %d series", n))
	}
	return bad
}

// takeover connects one id many times at once: the newest stays.
func takeover(_ context.Context, t *Target, hard int) (bad []string) {
	for range hard {
		id, token := t.Enemy("tank-probe")
		conns := make([]net.Conn, 40)
		each(len(conns), len(conns), func(i int) { conns[i] = signedOn(t.MQTT, id, token) })
		time.Sleep(200 * time.Millisecond)
		alive := 0
		for _, c := range conns {
			if c == nil {
				continue
			}
			c.SetDeadline(time.Now().Add(2 * time.Second))
			c.Write([]byte{0xc0, 0})
			if _, err := io.ReadFull(c, make([]byte, 2)); err == nil {
				alive++
			}
		}
		for _, c := range conns {
			if c != nil {
				c.Close()
			}
		}
		if alive != 1 {
			bad = append(bad, fmt.Sprintf("of 40 connections of one id %d are left, want the newest alone", alive))
		}
	}
	return bad
}

// sessionsWithoutEnd asks for kept sessions under many names, with long filters.
func sessionsWithoutEnd(_ context.Context, t *Target, hard int) []string {
	id, token := t.Enemy("tank-probe")
	each(40*hard, 8, func(i int) {
		c := signedOn(t.MQTT, id, token)
		if c == nil {
			return
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(2 * time.Second))
		body := []byte{0, byte(i%250 + 1)}
		for range 50 {
			filter := "ullage/" + id + "/" + strings.Repeat("x", 60_000/50*(1+i%3)/3)
			body = append(append(binary.BigEndian.AppendUint16(body, uint16(len(filter))), filter...), 1)
		}
		c.Write(packet(0x82, body))
		io.CopyN(io.Discard, c, 64)
	})
	return nil
}

// hostileFiles imports files that claim more than they hold.
func hostileFiles(ctx context.Context, t *Target, hard int) (bad []string) {
	parquet := append([]byte("PAR1"), bytes.Repeat([]byte{0x15, 0xfe, 0xff, 0xff, 0xff, 0x0f}, 18)...)
	parquet = append(binary.LittleEndian.AppendUint32(parquet, uint32(len(parquet)-4)), "PAR1"...)
	files := map[string][]byte{
		"parquet": parquet,
		"cbor":    {0x9b, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff},
		"senml":   bytes.Repeat([]byte(`[{"n":`), 50_000),
		"jsonl":   bytes.Repeat([]byte("x"), 4<<20),
		"csv":     append([]byte("device,metric,at,value\n"), bytes.Repeat([]byte(`"`), 4<<20)...),
		"wide":    bytes.Repeat([]byte("a,"), 1<<20),
	}
	for range hard {
		for format, file := range files {
			before := t.memory()
			res, err := t.Client.Import(ctx, bytes.NewReader(file), format, false)
			if err == nil && res.Refused == 0 {
				bad = append(bad, fmt.Sprintf("a broken file as %s is taken without a word: %+v", format, res))
			}
			if grown := t.memory() - before; grown > 300<<20 {
				bad = append(bad, fmt.Sprintf("a file of %d bytes as %s took %d MB", len(file), format, grown>>20))
			}
		}
		before := t.memory()
		out, err := t.Client.LoadFolder(ctx, client.Folder{Files: []client.FolderFile{{Path: "rules/aliases.yaml", Text: aliases() + "rule: aliases\nmodels: *a7\n"}}})
		if err == nil && out.Loaded {
			bad = append(bad, fmt.Sprintf("a rule of aliases is loaded: %+v", out))
		}
		if grown := t.memory() - before; grown > 300<<20 {
			bad = append(bad, fmt.Sprintf("a rule of aliases took %d MB", grown>>20))
		}
	}
	return bad
}

// aliases are a few lines of YAML that stand for ten million entries.
func aliases() string {
	out := "a0: &a0 [x,x,x,x,x,x,x,x,x,x]\n"
	for i := range 7 {
		out += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*a%d,", i), 10))
	}
	return out
}

// deepJSON sends to the API what is deep, long, or of the wrong kind.
func deepJSON(ctx context.Context, t *Target, hard int) (bad []string) {
	bodies := []string{strings.Repeat("[", 1<<20), strings.Repeat(`{"a":`, 200_000), `{"source":"` + strings.Repeat("(", 60_000) + `"}`,
		`{"source":` + strings.Repeat("1", 60_000) + `}`, "\xff\xfe", `{"source":"` + strings.Repeat("must_temp > 1 and ", 5000) + `true"}`}
	for range hard {
		for _, path := range []string{"/models", "/expressions/check", "/rules/x", "/devices", "/folder", "/settings"} {
			for i, body := range bodies {
				method := http.MethodPost
				if path == "/rules/x" {
					method = http.MethodPut
				}
				if status := t.call(ctx, method, path, body); status == 0 || status >= 500 {
					bad = append(bad, fmt.Sprintf("%s %s answers body %d with %d", method, path, i, status))
				}
			}
		}
	}
	return bad
}

// call makes a request of the API as somebody who is signed in.
func (t *Target) call(ctx context.Context, method, path, body string) int {
	req, err := http.NewRequestWithContext(ctx, method, t.Console+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		return -1
	}
	req.Header.Set("Authorization", "Bearer "+t.Token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := (&http.Client{Timeout: 20 * time.Second}).Do(req)
	if err != nil {
		return 0
	}
	io.Copy(io.Discard, resp.Body)
	resp.Body.Close()
	return resp.StatusCode
}

func strangeHosts(ctx context.Context, t *Target, hard int) (bad []string) {
	for _, host := range []string{"evil.example", "127.0.0.1.evil.example", "", "a b", strings.Repeat("x", 4000)} {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, t.Console+"/api/v1/me", nil)
		if err != nil {
			return []string{err.Error()}
		}
		req.Host = host
		req.Header.Set("Authorization", "Bearer "+t.Token)
		if resp, err := http.DefaultClient.Do(req); err == nil {
			resp.Body.Close()
			if resp.StatusCode < 400 && host != "" {
				bad = append(bad, fmt.Sprintf("the host %.40q is answered with %d", host, resp.StatusCode))
			}
		}
	}
	// Another site's page sends the cookie along.
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, t.Console+"/api/v1/sign-out", nil)
	if err != nil {
		return []string{err.Error()}
	}
	req.Header.Set("Origin", "http://evil.example")
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	if resp, err := http.DefaultClient.Do(req); err == nil {
		resp.Body.Close()
		if resp.StatusCode != http.StatusForbidden {
			bad = append(bad, fmt.Sprintf("a request of another site is answered with %d, want 403", resp.StatusCode))
		}
	}
	return bad
}

func strangePaths(ctx context.Context, t *Target, hard int) (bad []string) {
	for _, path := range []string{"/devices/..%2f..%2fetc%2fpasswd", "/devices/" + url.PathEscape("\x1b[2J\x00"), "/devices?limit=-1",
		"/devices?limit=99999999999999999999", "/query?metric=" + strings.Repeat("m", 100_000), "/devices?where=" + url.QueryEscape(strings.Repeat("not ", 50_000)+"true"),
		"/journal?before=-9223372036854775808", "/forecast?device=x&metric=y&ahead=-1s", "/devices/%ff%fe", "/export?metric=*&where=true&format=../..",
		"/sites/" + strings.Repeat("%2e%2e%2f", 2000), "/traffic?after=18446744073709551615", "/documents/..%2f..%2fREADME"} {
		if status := t.call(ctx, http.MethodGet, path, ""); status == 0 || status >= 500 {
			bad = append(bad, fmt.Sprintf("GET %.60s answers %d", path, status))
		}
	}
	return bad
}

// memory is what the service takes up, in bytes.
func (t *Target) memory() int64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", t.PID))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(b))
	if len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(fields[1], 10, 64)
	return pages * int64(os.Getpagesize())
}

// Innocent sends a reading every so often over MQTT, waits for each to be
// acknowledged, and goes on until it is stopped.
type Innocent struct {
	mu   sync.Mutex
	took []time.Duration
	sent int
	err  error
	stop chan struct{}
	done chan struct{}
}

// Report begins to report as a device.
func Report(at, id, token string, every time.Duration) (*Innocent, error) {
	c := signedOn(at, id, token)
	if c == nil {
		return nil, fmt.Errorf("%s did not get in", id)
	}
	n := &Innocent{stop: make(chan struct{}), done: make(chan struct{})}
	go func() {
		defer close(n.done)
		defer c.Close()
		topic := "ullage/" + id + "/readings"
		for i := 0; ; i++ {
			select {
			case <-n.stop:
				return
			case <-time.After(every):
			}
			body := append(binary.BigEndian.AppendUint16(nil, uint16(len(topic))), topic...)
			body = binary.BigEndian.AppendUint16(body, uint16(i%60_000+1))
			body = append(body, fmt.Sprintf(`{"must_temp":%d}`, 20+i%5)...)
			c.SetDeadline(time.Now().Add(20 * time.Second))
			begun := time.Now()
			_, err := c.Write(packet(0x32, body))
			ack := make([]byte, 4)
			if err == nil {
				_, err = io.ReadFull(c, ack)
			}
			if err == nil && ack[0] != 0x40 {
				err = fmt.Errorf("it got %x, which is no acknowledgement", ack)
			}
			n.mu.Lock()
			if err != nil {
				n.err = err
				n.mu.Unlock()
				return
			}
			n.took = append(n.took, time.Since(begun))
			n.sent++
			n.mu.Unlock()
		}
	}()
	return n, nil
}

// Lap returns the 99th percentile of what acknowledgements took since the last
// lap, and how many there were.
func (n *Innocent) Lap() (p99 time.Duration, count int) {
	n.mu.Lock()
	defer n.mu.Unlock()
	took := n.took
	n.took = nil
	if len(took) == 0 {
		return 0, 0
	}
	slices.Sort(took)
	return took[len(took)*99/100], len(took)
}

// Stop ends it, and returns how many readings were acknowledged, or why one was not.
func (n *Innocent) Stop() (int, error) {
	close(n.stop)
	<-n.done
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.sent, n.err
}
