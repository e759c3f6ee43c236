package device_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log"
	"os/signal"
	"syscall"
	"time"

	"ullage/device"
)

// A probe that reports once a minute, obeys its settings and can zero its level.
// What it cannot send is kept in a file until it can.
func Example() {
	every := make(chan time.Duration, 1)
	d, err := device.New(device.Options{
		Server: "mqtt://127.0.0.1:1883",
		ID:     "tank-fennimore-07",
		Token:  "4f1c22ab.the-secret-of-its-bundle",
		Spool:  "/var/lib/probe/spool",
		About:  func() map[string]any { return map[string]any{"serial": "TH-000007", "firmware": "2.4.0"} },
		Obey: func(_ context.Context, in device.Intended) device.Applied {
			out := device.Applied{Settings: in.Settings, Refused: map[string]string{}}
			seconds, _ := in.Settings["report_every"].(float64)
			if seconds < 5 {
				out.Settings["report_every"], out.Refused["report_every"] = 5, "below 5 s"
				seconds = 5
			}
			every <- time.Duration(seconds) * time.Second
			return out
		},
		Commands: map[string]device.Action{
			"zero_level": func(_ context.Context, input json.RawMessage) (any, error) {
				var in struct {
					ReferenceCm float64 `json:"reference_cm"`
				}
				if err := json.Unmarshal(input, &in); err != nil {
					return nil, fmt.Errorf("reference_cm is missing")
				}
				return map[string]any{"offset_cm": in.ReferenceCm - 31.5}, nil
			},
		},
	})
	if err != nil {
		log.Fatal(err)
	}
	defer d.Close()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	go func() {
		period := time.Minute
		for ctx.Err() == nil {
			if err := d.Send(time.Time{}, map[string]any{"must_temp": 21.4, "ullage": 31.5}); err != nil {
				log.Print(err)
			}
			select {
			case period = <-every:
			case <-time.After(period):
			}
		}
	}()
	d.Run(ctx)
}

// Readings wait while nobody is connected, and go out together.
func ExampleDevice_Send() {
	d, err := device.New(device.Options{Server: "http://127.0.0.1:8461", ID: "press-kilnside-1",
		Token: "4f1c22ab.secret"})
	if err != nil {
		log.Fatal(err)
	}
	at := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	for i := range 3 {
		if err := d.Send(at.Add(time.Duration(i)*time.Second), map[string]any{"load": 1200 + i}); err != nil {
			log.Fatal(err)
		}
	}
	n, _ := d.Waiting()
	fmt.Println(n, "messages wait")
	fmt.Println(d.Send(time.Time{}, map[string]any{"at": 1}))
	// Output:
	// 3 messages wait
	// no metric can be called "at"; it is a word of the message itself
}
