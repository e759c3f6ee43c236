package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"ullage/client"
	"ullage/fleet/traffic"
)

const (
	// liveEvery is how often a stream looks for changes. Looking costs little:
	// it compares one number a device.
	liveEvery  = 400 * time.Millisecond
	pulseEvery = 2 * time.Second
)

func (s *server) liveRoutes() {
	type filter struct {
		Where  string `query:"where" maxLength:"65536" doc:"Only the traffic of devices for which this condition is true"`
		Only   string `query:"only" enum:"fleet,traffic" default:"fleet" doc:"What to tell: changes of devices, or what passes in the traffic"`
		Device string `query:"device" doc:"Only the traffic of this device"`
	}
	sse.Register(s.api, huma.Operation{OperationID: "live", Method: http.MethodGet, Path: "/api/v1/live", Tags: []string{"Service"},
		Summary: "Changes as they happen, as server-sent events"},
		map[string]any{"devices": client.DevicesChanged{}, "pulse": client.Pulse{}, "traffic": client.TrafficPassed{}},
		func(ctx context.Context, f *filter, send sse.Sender) {
			among, _, err := s.among(Where{f.Where})
			if err != nil { // the lists have said what is wrong with it
				return
			}
			var seq uint64
			if f.Only == "fleet" {
				all, next := s.Present.Since(0)
				seq = max(next, 1)
				if send.Data(client.DevicesChanged{Devices: devicesOf(all)}) != nil {
					return
				}
			}
			if send.Data(client.Pulse{Service: s.service()}) != nil {
				return
			}
			var passed uint64
			if recent := s.Traffic.Recent(traffic.Filter{Device: f.Device, Limit: 1}); len(recent) > 0 {
				passed = recent[0].Seq
			}
			look := time.NewTicker(liveEvery)
			defer look.Stop()
			pulse := time.NewTicker(pulseEvery)
			defer pulse.Stop()
			for {
				select {
				case <-ctx.Done():
					return
				case <-pulse.C:
					// A session that has ended ends its stream too.
					if s.Now().After(by(ctx).ExpiresAt) {
						return
					}
					// Which devices a condition is true for changes with their values.
					if now, _, e := s.among(Where{f.Where}); e == nil {
						among = now
					}
					err = send.Data(client.Pulse{Service: s.service()})
				case <-look.C:
					if f.Only == "traffic" {
						if es := s.Traffic.Recent(traffic.Filter{Among: among, Device: f.Device, After: passed, Limit: 200}); len(es) > 0 {
							passed = es[0].Seq
							err = send.Data(client.TrafficPassed{Entries: es})
						}
						break
					}
					changed, next := s.Present.Since(seq)
					if seq = next; len(changed) > 0 {
						err = send.Data(client.DevicesChanged{Devices: devicesOf(changed)})
					}
				}
				if err != nil {
					return
				}
			}
		})
}
