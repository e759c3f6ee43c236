package attack

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/examples/cellars"
	"ullage/test/service"
)

var hard = flag.Int("hard", 0, "how hard the attacks are: 0 for none, 1 in make test, 20 in make attack")

// open is a model that takes metrics it does not name.
const open = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",
"title":"Open probe","version":{"model":"1.0.0"},"ullage:name":"open-probe","ullage:interval":"1min","ullage:additional":true,
"properties":{"must_temp":{"title":"Must temperature","type":"number","unit":"Cel","readOnly":true,"ullage:role":"telemetry"}}}`

// TestAttacks does to a service what All lists. After each the innocent device has
// lost nothing, nobody got in, and the service is as it was.
func TestAttacks(t *testing.T) {
	if *hard == 0 {
		t.Skip("run by make test and make attack")
	}
	s, err := service.Start(t.TempDir(), "--log-level", "info")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	ctx := context.Background()
	probe, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range [][]byte{probe, []byte(open)} {
		if _, err := s.Client.PublishModel(ctx, m, nil); err != nil {
			t.Fatal(err)
		}
	}
	onboard := func(id, model string) string {
		t.Helper()
		o, err := s.Client.CreateDevice(ctx, client.NewDevice{ID: id, Model: model})
		if err != nil {
			t.Fatal(err)
		}
		return o.Token
	}
	target := &Target{Service: s}
	const innocent = "tank-fennimore-07"
	token := onboard(innocent, "tank-probe")
	sent := 0
	for _, a := range All {
		t.Run(a.Name, func(t *testing.T) {
			before := target.memory()
			dev, err := Report(s.MQTT, innocent, token, 20*time.Millisecond)
			if err != nil {
				t.Fatal(err)
			}
			time.Sleep(300 * time.Millisecond)
			calm, _ := dev.Lap()
			for _, says := range a.Run(ctx, target, *hard) {
				t.Error(says)
			}
			loud, n := dev.Lap()
			time.Sleep(200 * time.Millisecond)
			got, err := dev.Stop()
			sent += got
			if err != nil {
				t.Errorf("the innocent device was not served: %v", err)
			}
			if loud > 5*time.Second {
				t.Errorf("an acknowledgement of the innocent device took %s", loud)
			}
			if _, err := s.Client.Service(ctx); err != nil {
				t.Fatalf("the service does not answer any more: %v\n%s", err, tail(s.Log()))
			}
			grown := target.memory() - before
			if grown > 400<<20 {
				t.Errorf("the service has grown by %d MB", grown>>20)
			}
			t.Logf("innocent p99 %s, under attack %s (%d readings); the service has grown by %d MB", calm.Round(100*time.Microsecond),
				loud.Round(100*time.Microsecond), n, grown>>20)
		})
	}
	var stored bytes.Buffer
	if err := s.Client.Export(ctx, client.Query{Devices: []string{innocent}, Metrics: []string{"must_temp"}, Span: "1d"}, "csv", false, &stored); err != nil {
		t.Fatal(err)
	}
	// Readings of one millisecond are put apart, so that each is there.
	if n := strings.Count(stored.String(), "\n") - 1; n != sent {
		t.Errorf("of %d acknowledged readings of the innocent device %d are stored", sent, n)
	}
	for _, word := range []string{"panic:", "goroutine ", token, service.Password, "\x1b["} {
		if strings.Contains(s.Log(), word) {
			t.Errorf("the log holds %q:\n%s", word, tail(s.Log()))
		}
	}
	if err := s.Stop(); err != nil {
		t.Errorf("the service does not stop as it should: %v", err)
	}
	out, errs, code := s.CLI("", "store", "check", "--data", s.Data)
	if code != 0 {
		t.Errorf("the store is not sound: %s%s", out, errs)
	}
}

func tail(s string) string {
	if len(s) > 3000 {
		return fmt.Sprintf("… %s", s[len(s)-3000:])
	}
	return s
}
