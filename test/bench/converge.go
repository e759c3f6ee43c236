package main

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"ullage/client"
	"ullage/device"
	"ullage/test/service"
)

// connectedDevices is how many devices converge.
const connectedDevices = 1000

// convergeFigures measures how long it takes until connected devices have what a changed
// layer gives them: derived, sent over MQTT, applied by each, confirmed, and counted. The
// devices are those of package device and share the two cores with the service.
func convergeFigures(dir string) ([]figure, error) {
	s, err := serve(filepath.Join(dir, "converge"), "--device-revisions", "0")
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	var round, obeyed atomic.Int64
	defer running.Wait()
	defer stop()
	if err := layerOf(ctx, s, 0); err != nil {
		return nil, err
	}
	empty, err := resident(s.PID)
	if err != nil {
		return nil, err
	}
	fmt.Printf("onboarding and connecting %d devices …\n", connectedDevices)
	for i := range connectedDevices {
		o, err := s.Client.CreateDevice(ctx, client.NewDevice{ID: fmt.Sprintf("tank-kilnside-%d", i), Model: "tank-probe", Labels: map[string]string{"site": "Kilnside"}})
		if err != nil {
			return nil, err
		}
		d, err := device.New(device.Options{Server: "mqtt://" + s.MQTT, ID: o.ID, Token: o.Token,
			Obey: func(_ context.Context, in device.Intended) device.Applied {
				if in.Settings["stir_at"] == stirAt(int(round.Load())) {
					obeyed.Add(1)
				}
				return device.Applied{Settings: in.Settings}
			}})
		if err != nil {
			return nil, err
		}
		running.Go(func() { d.Run(ctx); d.Close() })
	}
	if err := converged(ctx, s, 2*time.Minute); err != nil {
		return nil, err
	}
	full, err := resident(s.PID)
	if err != nil {
		return nil, err
	}
	each := float64(full-empty) / connectedDevices
	var took []time.Duration
	for n := range 7 {
		obeyed.Store(0)
		round.Store(int64(n + 1))
		begun := time.Now()
		if err := layerOf(ctx, s, n+1); err != nil {
			return nil, err
		}
		if err := converged(ctx, s, time.Minute); err != nil {
			return nil, err
		}
		took = append(took, time.Since(begun))
		if got := obeyed.Load(); got != connectedDevices {
			return nil, fmt.Errorf("it is said that all devices have it, and %d have applied it", got)
		}
		time.Sleep(time.Second)
	}
	return []figure{
		{fmt.Sprintf("%d connected devices have what a layer gives, and have confirmed it", connectedDevices), median(took).Round(time.Millisecond).String(), "under 10 s", ""},
		{"memory of the service for each of them: its session, settings and what is known of it", fmt.Sprintf("%.0f kB", each/1000), "", ""},
	}, nil
}

func stirAt(n int) float64 { return float64(11 + n) }

// layerOf gives all devices a layer, each time with another value.
func layerOf(ctx context.Context, s *service.Service, n int) error {
	_, err := s.Client.ChangeLayers(ctx, client.LayerChange{Layer: &client.Layer{Name: "base", Set: map[string]any{"stir_at": stirAt(n)}}, AtOnce: true})
	return err
}

// converged waits until all devices have confirmed what is intended for them.
func converged(ctx context.Context, s *service.Service, atMost time.Duration) error {
	for end := time.Now().Add(atMost); ; time.Sleep(20 * time.Millisecond) {
		now, err := s.Client.Service(ctx)
		if err != nil {
			return err
		}
		var st client.LayerStatus
		if now.Deriving == 0 {
			if st, err = s.Client.LayerStatus(ctx, "base"); err != nil {
				return err
			}
			if st.Scope == connectedDevices && st.AsIntended == connectedDevices {
				return nil
			}
		}
		if time.Now().After(end) {
			return fmt.Errorf("after %s %d of %d devices are as intended, and %d pending", atMost, st.AsIntended, st.Scope, st.Pending)
		}
	}
}
