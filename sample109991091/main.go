// Speaks for tank-fennimore-01 with the package ullage/device, which keeps readings while
// the link is down. Build it within the module of Ullage: go run send.go
package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"log"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"time"

	"ullage/device"
)

const reading = "{\"must_temp\":22,\"density\":1045,\"ullage\":37.5,\"co2_flow\":12.5,\"battery\":3.4,\"rssi\":-68}"

func main() {
	ca, err := os.ReadFile("ca.crt")
	if err != nil {
		log.Fatal(err)
	}
	config := &tls.Config{RootCAs: x509.NewCertPool()}
	config.RootCAs.AppendCertsFromPEM(ca)
	token, err := os.ReadFile("token")
	if err != nil {
		log.Fatal(err)
	}
	d, err := device.New(device.Options{
		Server: "mqtts://127.0.0.1:36305", ID: "tank-fennimore-01", TLS: config,
		Token: strings.TrimSpace(string(token)),
		Obey: func(_ context.Context, in device.Intended) device.Applied {
			log.Printf("settings %d: %v", in.Revision, in.Settings)
			return device.Applied{Settings: in.Settings} // once they are in force
		},
		Log: slog.Default(),
	})
	if err != nil {
		log.Fatal(err)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	go func() {
		for {
			var values map[string]any
			if json.Unmarshal([]byte(reading), &values) == nil {
				if err := d.Send(time.Now(), values); err != nil {
					log.Print(err)
				}
			}
			select {
			case <-time.After(60 * time.Second):
			case <-ctx.Done():
				return
			}
		}
	}()
	d.Run(ctx)
}
