package server

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gin-gonic/gin"

	"ullage/api"
	"ullage/console"
	"ullage/fleet/alarms"
	"ullage/fleet/commands"
	"ullage/fleet/derived"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/expressions"
	"ullage/fleet/fault"
	"ullage/fleet/folder"
	"ullage/fleet/imports"
	"ullage/fleet/ingest"
	"ullage/fleet/models"
	"ullage/fleet/people"
	"ullage/fleet/present"
	"ullage/fleet/query"
	"ullage/fleet/retention"
	"ullage/fleet/revisions"
	"ullage/fleet/settings"
	"ullage/fleet/traffic"
	"ullage/store"
	"ullage/transport/mqtt"
	"ullage/transport/web"
)

// Version is the version of this build; the linker sets it.
var Version = "0.1.0-dev"

// Started is what Run tells when the service is ready.
type Started struct {
	Console    string // URL
	MQTT       string
	DeviceHTTP string
	// FirstPerson and FirstPassword are set once, when the data folder is new
	// and the password was made up.
	FirstPerson, FirstPassword string
}

const tickEvery = 250 * time.Millisecond

// Run starts the service and returns when ctx is done and everything accepted
// is stored. It calls ready once.
func Run(ctx context.Context, c *Config, log *slog.Logger, ready func(Started)) (err error) {
	gin.SetMode(gin.ReleaseMode)
	begun := time.Now()
	st, err := store.Open(c.str("data"), store.Options{MaxBytes: int64(c.num("store_limit")) << 20})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, st.Close()) }()

	listen := func(key string) (net.Listener, error) { return bind(key, c.str(key), c.k.Bool("plain_anywhere")) }
	var listeners [3]net.Listener
	for i, key := range []string{"listen", "mqtt", "device_http"} {
		if listeners[i], err = listen(key); err != nil {
			for _, l := range listeners[:i] {
				l.Close()
			}
			return err
		}
	}
	defer func() {
		for _, l := range listeners {
			l.Close()
		}
	}()

	now := time.Now
	bus := event.NewBus()
	cat, err := models.Open(st.Records, bus, now)
	if err != nil {
		return err
	}
	reg, err := devices.Open(st.Records, cat, bus, now)
	if err != nil {
		return err
	}
	book, err := settings.Open(st.Records, reg, cat, bus, now)
	if err != nil {
		return err
	}
	board, err := present.Open(reg, cat, book, st.Telemetry, st.Records, now, log)
	if err != nil {
		return err
	}
	zone, err := c.zone()
	if err != nil {
		return err
	}
	board.In(zone)
	engine, err := alarms.Open(st.Records, st.Telemetry, reg, cat, board, bus, now, log)
	if err != nil {
		return err
	}
	folk, err := people.Open(st.Records, now)
	if err != nil {
		return err
	}
	tape := traffic.New(2000, 100)
	keepReadings, err := c.keep("keep_readings")
	if err != nil {
		return err
	}
	keepRollups, err := c.keep("keep_rollups")
	if err != nil {
		return err
	}
	queue, err := commands.Open(st.Records, reg, cat, bus, now)
	if err != nil {
		return err
	}
	workshop := derived.Open(reg, cat, board, st.Telemetry, st.Telemetry, bus, now, log)
	defer workshop.Stop("")
	door := ingest.New(ingest.Deps{Store: st.Telemetry, Devices: reg, Models: cat, Settings: book, Commands: queue, Journal: st.Records,
		Traffic: tape, Bus: bus, Derive: workshop, Now: now})
	gate := devices.NewGate(c.num("address_failures"), now)
	broker := mqtt.NewServer(mqtt.Deps{Devices: reg, Door: door, Settings: book, Commands: queue, Traffic: tape, Gate: gate, Limits: c.limits(), Log: log, Now: now})
	bus.Handle(board.Handle)
	bus.Handle(engine.Handle)
	bus.Handle(queue.Handle)
	bus.Handle(broker.Handle)
	told := &api.Events{}
	bus.Handle(told.Handle)
	bus.Start()

	started := Started{Console: "http://" + listeners[0].Addr().String(), MQTT: listeners[1].Addr().String(), DeviceHTTP: listeners[2].Addr().String()}
	if folk.Empty() {
		password, err := folk.Add(c.str("first_person"), c.str("first_password"), "")
		if err != nil {
			return err
		}
		if c.str("first_password") == "" {
			started.FirstPerson, started.FirstPassword = c.str("first_person"), password
		}
	}

	var isReady atomic.Bool
	meter := &ingest.Meter{}
	var page fs.FS
	if f, ok := console.Files(); ok {
		page = f
	}
	streams, endStreams := context.WithCancel(context.Background())
	defer endStreams()
	desk := expressions.New(cat, reg, board, st.Telemetry, engine.Names, now)
	office := &revisions.Revisions{Models: cat, Devices: reg, Settings: book, Alarms: engine, Matching: desk.Where, Moved: workshop.Forget}
	operators := &http.Server{ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return streams },
		Handler: api.New(api.Deps{Version: Version, Started: begun.UTC(), Models: cat, Devices: reg, Settings: book, Commands: queue, Events: told, Alarms: engine, Present: board,
			Expressions: desk, Revisions: office, Derivations: workshop, Storage: storage{st},
			Importer: &imports.Importer{Devices: reg, Models: cat, Store: st.Telemetry, Derive: workshop, Bus: bus, Now: now}, Queries: query.New(st.Telemetry, reg, cat, board, desk.Where, zone, now), Folder: &folder.Loader{Records: st.Records, Models: cat, Alarms: engine, Devices: reg},
			Door: door, Meter: meter, People: folk, Journal: st.Records, History: st.Telemetry, Traffic: tape, Settle: bus.Settle, MQTT: broker.Connected,
			MQTTAt: started.MQTT, HTTPAt: started.DeviceHTTP, Console: page, Ready: isReady.Load,
			Metrics: metrics(st.Telemetry, door, board, broker, bus), Log: log, Now: now})}
	field := &http.Server{ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		Handler: web.New(web.Deps{Devices: reg, Door: door, Settings: book, Commands: queue, Traffic: tape, Gate: gate, Limits: c.limits(), Log: log, Now: now})}

	failed := make(chan error, 3)
	serve := func(f func(net.Listener) error, l net.Listener) {
		go func() {
			if err := f(l); err != nil && !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
				failed <- err
			}
		}()
	}
	serve(operators.Serve, listeners[0])
	serve(broker.Serve, listeners[1])
	serve(field.Serve, listeners[2])
	ticking, stopTicking := context.WithCancel(context.Background())
	defer stopTicking()
	go tick(ticking, bus, meter, door)
	keeper := &retention.Retention{Store: st.Telemetry, Devices: reg, Models: cat, Readings: keepReadings, Rollups: keepRollups, Log: log, Now: now}
	go keeper.Run(ticking)
	isReady.Store(true)
	log.Info("ready", "version", Version, "console", started.Console, "mqtt", started.MQTT, "device_http", started.DeviceHTTP,
		"devices", len(reg.List()), "start", time.Since(begun).Round(time.Millisecond))
	if ready != nil {
		ready(started)
	}

	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	log.Info("stopping")
	isReady.Store(false)
	listeners[1].Close()
	broker.Stop(5 * time.Second)
	endStreams()
	bye, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	field.Shutdown(bye)
	operators.Shutdown(bye)
	stopTicking()
	bus.Stop()
	engine.Flush()
	log.Info("stopped", "after", time.Since(begun).Round(time.Second))
	return err
}

func tick(ctx context.Context, bus *event.Bus, meter *ingest.Meter, door *ingest.Door) {
	t := time.NewTicker(tickEvery)
	defer t.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case at := <-t.C:
			bus.Publish(event.Tick{Now: at})
			if n%4 == 0 {
				stored, _, _ := door.Counts()
				meter.Sample(at, stored)
			}
		}
	}
}

// bind listens on an address. Plain listeners stay on loopback unless that
// was asked for: everything on them, tokens too, can be read on the way.
func bind(key, address string, anywhere bool) (net.Listener, error) {
	option := Option{Key: key}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fault.New(fault.Invalid, "%s is %q, which is no address", key, address).Then("write it like 127.0.0.1:8460")
	}
	if ip := net.ParseIP(host); !anywhere && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fault.New(fault.Invalid, "%s is %s, which other machines can reach, and this listener is not encrypted", key, address).
			Then("use 127.0.0.1, or say --plain-anywhere if the network in between is yours")
	}
	l, err := net.Listen("tcp", address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fault.New(fault.Conflict, "the address %s is taken by another program", address).
			Then("stop that one, or choose another with --%s", option.Flag())
	case err != nil:
		return nil, fault.New(fault.Invalid, "%s cannot listen on %s: %s", key, address, cause(err)).Then("choose another with --%s", option.Flag())
	}
	return l, nil
}

func cause(err error) string {
	var op *net.OpError
	if errors.As(err, &op) {
		return fmt.Sprint(op.Err)
	}
	return err.Error()
}
