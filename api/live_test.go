package api_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
	"ullage/api"
	"ullage/client"
	"ullage/test/rig"
)

// mirror is what a reader of the live stream has, kept by the rules of the
// stream alone.
type mirror struct {
	mu      sync.Mutex // of devices
	devices map[string]any
	part    bool // more of a whole is to come
	cursor  string
	events  map[string]int
	bytes   atomic.Int64
	stop    func()
	done    chan struct{}
	steps   chan struct{} // after each event
}

// follow opens the stream and keeps m by it until stop.
func (b *bench) follow(t *testing.T, m *mirror, query string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), "GET", b.server.URL+"/api/v1/live?"+query, nil)
	b.Must(err)
	req.Header.Set("Authorization", "Bearer "+b.token)
	if m.cursor != "" {
		req.Header.Set("Last-Event-ID", m.cursor)
	}
	resp, err := http.DefaultClient.Do(req)
	b.Must(err)
	if resp.StatusCode != 200 {
		t.Fatalf("the stream answers %s", resp.Status)
	}
	m.events = map[string]int{}
	m.done, m.steps = make(chan struct{}), make(chan struct{}, 10_000)
	go func() {
		defer close(m.done)
		lines := bufio.NewReaderSize(resp.Body, 1<<20)
		id, name := "", ""
		for {
			line, err := lines.ReadString('\n')
			if err != nil {
				return
			}
			m.bytes.Add(int64(len(line)))
			key, v, _ := strings.Cut(strings.TrimRight(line, "\n"), ": ")
			switch key {
			case "id":
				id = v
			case "event":
				name = v
			case "data":
				m.take(name, v)
				if name == "whole" || name == "changes" {
					m.cursor = id
				}
				m.steps <- struct{}{}
			}
		}
	}()
	m.stop = func() { resp.Body.Close(); <-m.done }
}

// names are the devices that it has, by id, also while it is kept.
func (m *mirror) names() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Sorted(maps.Keys(m.devices))
}

// heard is how often an event has come since the stream was opened.
func (m *mirror) heard(name string) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.events[name]
}

func (m *mirror) take(name, data string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.events[name]++
	var x struct {
		Devices, Patches []map[string]any
		Gone             []string
		More             bool
	}
	if name != "whole" && name != "changes" || json.Unmarshal([]byte(data), &x) != nil {
		return
	}
	if name == "whole" && !m.part {
		m.devices = map[string]any{}
	}
	m.part = x.More
	for _, d := range x.Devices {
		m.devices[d["id"].(string)] = d
	}
	for _, p := range x.Patches {
		id := p["id"].(string)
		m.devices[id] = api.Merge(m.devices[id], p)
	}
	for _, id := range x.Gone {
		delete(m.devices, id)
	}
}

// quiet waits until nothing but a pulse has come for a while.
func (m *mirror) quiet() {
	for {
		select {
		case <-m.steps:
		case <-time.After(time.Second):
			return
		}
	}
}

// listed is the fleet as the list gives it, by id.
func (b *bench) listed(where string) map[string]any {
	_, body := b.call("GET", "/api/v1/devices?where="+url.QueryEscape(where), "", b.bearer()...)
	var out []map[string]any
	b.Must(json.Unmarshal([]byte(body), &out))
	all := map[string]any{}
	for _, d := range out {
		all[d["id"].(string)] = d
	}
	return all
}

// TestLiveIsTheList: whatever happens, also while a stream was cut, a reader that
// takes differences in has what the list says, of all devices or of those a
// condition is true for.
func TestLiveIsTheList(t *testing.T) {
	t.Parallel()
	for _, where := range []string{"", `label.row == "1" and must_temp > 20`} {
		t.Run(where, func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			rng := rand.New(rand.NewPCG(7, 11))
			var ids []string
			for i := range 12 {
				ids = append(ids, fmt.Sprintf("tank-fennimore-%02d", i+1))
				b.Onboard(ids[i], "tank-probe", map[string]string{"row": "1"})
			}
			m := &mirror{}
			query := "where=" + url.QueryEscape(where)
			resumed, rounds := 0, rig.Times(4, 2)
			for round := range rounds {
				b.follow(t, m, query)
				for range 60 {
					id := ids[rng.IntN(len(ids))]
					switch rng.IntN(6) {
					case 0:
						_, err := b.client.Label(t.Context(), id, map[string]string{"row": fmt.Sprint(1 + rng.IntN(2)),
							"stage": []string{"", "fermenting"}[rng.IntN(2)]})
						b.Must(err)
					case 1:
						b.Keep(id, fmt.Sprintf(`{"ullage":%d}`, rng.IntN(100)))
					default:
						b.Keep(id, fmt.Sprintf(`{"must_temp":%d}`, 10+rng.IntN(20)))
					}
					if rng.IntN(20) == 0 {
						b.Pass(time.Minute)
					}
				}
				b.Settle()
				m.quiet()
				if round%2 == 1 {
					m.stop()
					// Meanwhile a label goes, and a value comes.
					_, err := b.client.Label(t.Context(), ids[0], map[string]string{"stage": ""})
					b.Must(err)
					b.Keep(ids[1], `{"must_temp":29}`)
					b.Settle()
					b.follow(t, m, query)
					m.quiet()
				}
				m.stop()
				if round%2 == 1 && m.events["whole"] == 0 {
					resumed++
				}
				want := b.listed(where)
				if len(want) == 0 || !reflect.DeepEqual(m.devices, want) {
					t.Fatalf("round %d: the stream came to %d devices, the list has %d: %s", round, len(m.devices),
						len(want), unlike(m.devices, want))
				}
			}
			if where == "" && resumed != rounds/2 {
				t.Errorf("%d of %d streams went on behind their cursor, without the whole fleet", resumed, rounds/2)
			}
		})
	}
}

func unlike(got, want map[string]any) string {
	for id, w := range want {
		if !reflect.DeepEqual(got[id], w) {
			g, _ := json.Marshal(got[id])
			x, _ := json.Marshal(w)
			return fmt.Sprintf("%s\n%s", g, x)
		}
	}
	return "some should be gone"
}

// TestLiveTellsLittle: one new value of one of many devices is told in a few
// hundred bytes, at once, and what was done to a record is told as such.
func TestLiveTellsLittle(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for i := range 40 {
		b.Onboard(fmt.Sprintf("tank-fennimore-%02d", i+1), "tank-probe", map[string]string{"row": "1"})
	}
	m := &mirror{}
	b.follow(t, m, "")
	m.quiet()
	before := m.bytes.Load()
	begun := time.Now()
	b.Keep(tank, `{"ullage":33.25}`)
	<-m.steps
	if d := time.Since(begun); d > time.Second {
		t.Errorf("a value took %v", d)
	}
	_, err := b.client.Label(t.Context(), tank, map[string]string{"row": "2"})
	b.Must(err)
	m.quiet()
	m.stop()
	if told := m.bytes.Load() - before; m.events["changes"] == 0 || told > 4000 {
		t.Errorf("one value and one label of 40 devices took %d bytes in %v", told, m.events)
	}
	if m.events["happened"] == 0 {
		t.Errorf("nobody told that a device was labelled: %v", m.events)
	}
}

// TestLiveAfterAnOtherRun: a cursor of which the service knows nothing begins
// anew, whatever it looks like.
func TestLiveAfterAnOtherRun(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", nil)
	for _, cursor := range []string{"1", "18446744073709551615", "9007199254740993"} {
		m := &mirror{cursor: cursor}
		b.follow(t, m, "")
		m.quiet()
		m.stop()
		if m.events["whole"] != 1 || len(m.devices) != 1 {
			t.Errorf("behind %s comes %v", cursor, m.events)
		}
	}
	resp, _ := b.call("GET", "/api/v1/live?after=minus", "", b.bearer()...)
	if resp.StatusCode != 422 && resp.StatusCode != 400 {
		t.Errorf("a cursor that is no number is answered %s", resp.Status)
	}
}

// TestCompressed: whoever takes gzip gets it, the live stream too, event by event.
func TestCompressed(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for i := range 40 {
		b.Onboard(fmt.Sprintf("tank-fennimore-%02d", i+1), "tank-probe", map[string]string{"row": "1"})
	}
	for _, path := range []string{"/api/v1/devices", "/api/v1/live"} {
		req, _ := http.NewRequestWithContext(t.Context(), "GET", b.server.URL+path, nil)
		req.Header.Set("Authorization", "Bearer "+b.token)
		req.Header.Set("Accept-Encoding", "gzip") // said by hand, so that it stays packed
		resp, err := http.DefaultClient.Do(req)
		b.Must(err)
		magic := make([]byte, 2)
		if _, err := resp.Body.Read(magic); err != nil || magic[0] != 0x1f || magic[1] != 0x8b ||
			resp.Header.Get("Content-Encoding") != "gzip" {
			t.Errorf("%s comes as %q, % x, %v", path, resp.Header.Get("Content-Encoding"), magic, err)
		}
		resp.Body.Close()
	}
}

// A condition that is none is refused before the stream begins: one that ends at once
// would only be asked for again.
func TestLiveRefusesWhatIsNoCondition(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard("tank-fennimore-01", "tank-probe", nil)
	for _, query := range []string{"", "only=traffic&"} {
		resp, got := b.as("GET", "/api/v1/live?"+query+"where="+url.QueryEscape("bogus("), "")
		if resp.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(got, "no function bogus") {
			t.Errorf("%q: %d %s", query, resp.StatusCode, got)
		}
	}
	m := &mirror{events: map[string]int{}}
	b.follow(t, m, "where="+url.QueryEscape(`device.model == "tank-probe"`))
	m.stop()
}

// Of several conditions each is answered for by itself: one that is none is told with the reason,
// the stream goes on, also where it was the only one, and the others are told as ever.
func TestConditionsThatAreNone(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard("tank-fennimore-01", "tank-probe", nil)
	for query, want := range map[string]map[int]string{
		"each=must_temp+%3E": {0: "a name or a value is missing"},
		"each=bogus(&each=device.model+%3D%3D+%22tank-probe%22": {0: "no function bogus", 1: ""},
	} {
		req, _ := http.NewRequestWithContext(t.Context(), "GET", b.server.URL+"/api/v1/live?only=matching&"+query, nil)
		req.Header.Set("Authorization", "Bearer "+b.token)
		resp, err := http.DefaultClient.Do(req)
		b.Must(err)
		lines := bufio.NewScanner(resp.Body)
		pulses := 0
		for len(want)+max(0, 1-pulses) > 0 && lines.Scan() {
			data, is := strings.CutPrefix(lines.Text(), "data: ")
			if pulses += strings.Count(lines.Text(), "event: pulse"); !is || !strings.Contains(data, `"of"`) {
				continue
			}
			var m client.Matched
			b.Must(json.Unmarshal([]byte(data), &m))
			says, asked := want[m.Of]
			if !asked || (says == "") != (m.Wrong == "") || !strings.Contains(m.Wrong, says) || (says == "") != (len(m.Devices) == 1) {
				t.Errorf("%s: told %+v", query, m)
			}
			delete(want, m.Of)
		}
		if len(want) > 0 || pulses == 0 {
			t.Errorf("%s: the stream ended with %v untold, after %d pulses: %v", query, want, pulses, lines.Err())
		}
		resp.Body.Close()
	}
}
