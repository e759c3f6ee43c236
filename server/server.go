package server

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	stdlog "log"
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gin-gonic/gin"

	"ullage/api"
	"ullage/app"
	"ullage/console"
	"ullage/core/person"
	"ullage/fleet/fault"
	"ullage/pki"
	"ullage/transport/conns"
	"ullage/transport/door"
	field "ullage/transport/web"
)

// Version is the version of this build; the linker sets it.
var Version = "0.1.0-dev"

// Started is what Run tells when the service is ready.
type Started struct {
	Console    string // URL without encryption; empty if it is off
	ConsoleTLS string // URL over TLS; empty if it is off
	// Fingerprint is the SHA-256 of the certificate of ConsoleTLS.
	Fingerprint string
	MQTT        string
	DeviceHTTP  string
	// MQTTTLS and DeviceHTTPTLS are the addresses for devices over TLS; empty if off.
	MQTTTLS, DeviceHTTPTLS string
	// TimeOnly is the address that tells the time alone; empty if it is off.
	TimeOnly string
	// More are the listeners for devices of the config file, at the addresses they got.
	More []Listener
	// Authority is the SHA-256 of the root certificate that devices trust, and
	// Passphrase that of its key, set once when it was made.
	Authority, Passphrase string
	// FirstPerson and FirstPassword are set once, when the data folder is new
	// and the password was made up.
	FirstPerson, FirstPassword string
}

// listener is one address that the service listens on. Rows of the table are
// bound before anything starts, and closed in their order at the stop.
type listener struct {
	key     string // of its option
	address string // empty for off
	secure  bool   // it speaks TLS, or what it says is signed
	take    conns.Listening
	serve   func(net.Listener) error
	stop    func(context.Context)
	on      net.Listener
}

// reached is where devices elsewhere find a listener: at the name that was said, or
// where it listens.
func reached(at, name string) string {
	_, port, err := net.SplitHostPort(at)
	if err != nil || name == "" {
		return at
	}
	return net.JoinHostPort(name, port)
}

// writeWait is how long a client may take nothing of an answer.
const writeWait = 30 * time.Second

// How many connections are taken a second. A fleet that comes back is let in within
// some seconds; a browser opens half a dozen.
const (
	devicePace = 1000
	peoplePace = 100
)

// Run starts the service and returns when ctx is done and everything accepted
// is stored. It calls ready once.
func Run(ctx context.Context, c *Config, log *slog.Logger, ready func(Started)) (err error) {
	gin.SetMode(gin.ReleaseMode)
	begun := time.Now()
	go tendHeap(ctx)
	o, err := c.app(log)
	if err != nil {
		return err
	}
	trusted, err := conns.Prefixes(words(c.TrustedProxies))
	if err != nil {
		return fault.New(fault.Invalid, "trusted_proxies: %s", err)
	}
	authority, passphrase, forDevices, err := c.forDevices(log, o.Now)
	if err != nil {
		return err
	}
	if err := c.named(); err != nil {
		return err
	}
	o.Takes = c.takes()
	o.Issuer, o.Judge = authority, authority.Judge
	keys := filepath.Join(c.Data, "pki")
	o.Exported = func() time.Time { return pki.Exported(keys) }
	var shown *pki.Files // likewise
	o.Ends = func() []app.Ends {
		root, issuing := authority.Ends()
		out := []app.Ends{{What: "the root certificate of the authority", At: root}, {What: "the issuing certificate of the authority", At: issuing}}
		if c.DeviceTLSCert != "" {
			pair, _ := forDevices(nil)
			out = append(out, app.Ends{What: "the certificate for devices, " + c.DeviceTLSCert, At: pki.EndOf(pair)})
		}
		if shown != nil {
			out = append(out, app.Ends{What: "the certificate of the console", At: shown.Ends()})
		}
		return out
	}
	var ways door.Ways // known once the listeners are
	o.Ways = func() door.Ways { return ways }
	if o.Master, err = pki.Master(keys); err != nil {
		return err
	}
	passwords := &hasher{}
	defer passwords.Close()
	o.Hash = passwords.hash
	a, err := app.New(ctx, o)
	if err != nil {
		return err
	}
	var once sync.Once
	shut := func() {
		once.Do(func() { err = errors.Join(err, a.Close()) })
	}
	defer shut()

	var isReady atomic.Bool
	broker := a.MQTT()
	events := &api.Events{}
	a.Handle(events.Handle)
	streams, endStreams := context.WithCancel(context.Background())
	defer endStreams()
	pool := conns.NewPool(conns.Options{Log: log})
	// What does not end by itself ends here: a head that does not come, a body that
	// does not go on, a connection that says nothing, an answer that nobody takes.
	web := func(h http.Handler) *http.Server {
		return &http.Server{ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
			ConnContext: conns.Context, Handler: h, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	}
	plain := web(conns.Bodies(conns.Forwarded(trusted, a.Web(words(c.Names), authority.Revocations(a.Devices.Revoked).Lists))))
	clock := web(field.NewTime(authority.SignTime, log))
	encrypted := web(plain.Handler)
	encrypted.TLSConfig = a.Door.TLS(forDevices)
	encrypted.ErrorLog = stdlog.New(&handshakes{door: a.Door, log: log}, "", 0)
	// A server each: one that serves both may speak HTTP/2 or not, by which of them
	// comes first.
	operators, secured := web(nil), web(nil)
	for _, s := range []*http.Server{operators, secured} {
		s.BaseContext = func(net.Listener) context.Context { return streams }
	}
	certificate, err := c.certificate(log, o.Now)
	if err != nil {
		return err
	}
	shown = certificate
	if certificate != nil {
		secured.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: certificate.Get}
	}
	signOn, err := c.signOn(log)
	if err != nil {
		return err
	}
	profile := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: profiles()}
	var table []*listener
	for _, l := range c.devices() {
		row := &listener{key: l.Name, address: l.Address, secure: l.TLS, take: conns.Listening{Name: l.Name, Pace: devicePace}}
		switch {
		case l.Protocol == "mqtt":
			row.serve, row.stop = broker.Serve, func(context.Context) { broker.Stop(5 * time.Second) }
			if l.TLS {
				row.serve = func(on net.Listener) error { return broker.ServeTLS(on, a.Door.TLS(forDevices)) }
			}
		case l.TLS:
			row.serve, row.stop = func(on net.Listener) error { return encrypted.ServeTLS(on, "", "") }, func(ctx context.Context) { _ = encrypted.Shutdown(ctx) }
		default:
			row.serve, row.stop = plain.Serve, func(ctx context.Context) { _ = plain.Shutdown(ctx) }
		}
		if l.Protocol == "http" {
			row.take.WriteWait = writeWait
		}
		table = append(table, row)
	}
	table = append(table, []*listener{
		{key: "time_only", address: c.TimeOnly, secure: true, take: conns.Listening{WriteWait: writeWait, Pace: devicePace}, serve: clock.Serve, stop: func(ctx context.Context) { _ = clock.Shutdown(ctx) }},
		{key: "listen", address: c.Listen, take: conns.Listening{WriteWait: writeWait, Pace: peoplePace}, serve: operators.Serve, stop: func(ctx context.Context) { endStreams(); _ = operators.Shutdown(ctx) }},
		{key: "listen_tls", address: c.ListenTLS, secure: true, take: conns.Listening{WriteWait: writeWait, Pace: peoplePace}, serve: func(l net.Listener) error { return secured.ServeTLS(l, "", "") }, stop: func(ctx context.Context) { endStreams(); _ = secured.Shutdown(ctx) }},
		{key: "pprof", address: c.Pprof, serve: profile.Serve, stop: func(ctx context.Context) { _ = profile.Close() }},
	}...)
	defer func() {
		for _, l := range table {
			if l.on != nil {
				l.on.Close()
			}
		}
	}()
	at := map[string]string{}
	for _, l := range table {
		address := l.address
		if address == "" {
			continue // off
		}
		if l.on, err = bind(l.key, address, l.secure || c.PlainAnywhere && l.key != "pprof"); err != nil {
			return err
		}
		at[l.key] = l.on.Addr().String()
		if l.key != "pprof" {
			l.on = pool.Listen(l.on, l.take)
		}
	}
	started := Started{MQTT: at["mqtt"], DeviceHTTP: at["device_http"], MQTTTLS: at["mqtt_tls"], DeviceHTTPTLS: at["device_http_tls"], TimeOnly: at["time_only"],
		Authority: authority.RootFingerprint(), Passphrase: passphrase}
	for _, l := range c.devices()[len(c.own()):] {
		l.Address = at[l.Name]
		started.More = append(started.More, l)
	}
	if on := at["listen"]; on != "" {
		started.Console = "http://" + on
	}
	if on := at["listen_tls"]; on != "" {
		started.ConsoleTLS, started.Fingerprint = "https://"+on, certificate.Fingerprint()
	}
	if a.People.Empty() {
		password, err := a.People.Add(ctx, c.FirstPerson, c.FirstPassword, person.Owner, "")
		if err != nil {
			return err
		}
		if c.FirstPassword == "" {
			started.FirstPerson, started.FirstPassword = c.FirstPerson, password
		}
	}
	public := first(words(c.Names))
	ways = door.Ways{MQTT: reached(started.MQTTTLS, public), Time: reached(started.TimeOnly, public), HTTP: reached(started.DeviceHTTPTLS, public), CA: authority.Root(), CAs: authority.Certificates()}
	var page fs.FS
	if f, ok := console.Files(); ok {
		page = f
	}
	operators.Handler = conns.Bodies(conns.Forwarded(trusted, api.New(api.Options{App: a.API(), Names: words(c.Names), Version: Version, Started: begun.UTC(), Events: events,
		Storage: storage{a.Store}, MQTT: broker.Connected, MQTTAt: started.MQTT, HTTPAt: started.DeviceHTTP,
		MQTTTLSAt: ways.MQTT, HTTPTLSAt: ways.HTTP, TimeAt: ways.Time, Authority: ways.CA, TLSAt: started.ConsoleTLS, SignOn: signOn, Certificate: certificate.Fingerprint, Console: page, Ready: isReady.Load, Metrics: metrics(a, broker, pool)})))
	secured.Handler = operators.Handler
	a.Start(true)
	failed := make(chan error, len(table))
	for _, l := range table {
		if l.on == nil {
			continue
		}
		go func() {
			if err := l.serve(l.on); err != nil && !errors.Is(err, http.ErrServerClosed) &&
				!errors.Is(err, net.ErrClosed) {
				failed <- err
			}
		}()
	}
	isReady.Store(true)
	log.Info("ready", "version", Version, "console", started.Console, "console_tls", started.ConsoleTLS, "mqtt", started.MQTT, "device_http",
		started.DeviceHTTP, "devices", a.Devices.Count(), "start", time.Since(begun).Round(time.Millisecond))
	if ready != nil {
		ready(started)
	}

	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	log.Info("stopping")
	isReady.Store(false)
	bye, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	for _, l := range table {
		if l.on != nil {
			l.on.Close()
			l.stop(bye)
		}
	}
	shut()
	log.Info("stopped", "after", time.Since(begun).Round(time.Second))
	return err
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// profiles serves what runtime/pprof knows, on an address of its own.
func profiles() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("/debug/pprof/", pprof.Index)
	m.HandleFunc("/debug/pprof/profile", pprof.Profile)
	m.HandleFunc("/debug/pprof/symbol", pprof.Symbol)
	m.HandleFunc("/debug/pprof/trace", pprof.Trace)
	return m
}

// bind listens on an address. Plain listeners stay on loopback unless that
// was asked for: everything on them, tokens too, can be read on the way.
func bind(key, address string, anywhere bool) (net.Listener, error) {
	other := "with --" + Option{Key: key}.Flag()
	if !slices.ContainsFunc(Options, func(o Option) bool { return o.Key == key }) {
		other = "in the config file"
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fault.New(fault.Invalid, "%s is %q, which is no address", key, address).
			Then("write it like 127.0.0.1:8460")
	}
	instead := "use 127.0.0.1, or say --plain-anywhere if the network in between is yours"
	if key == "listen" {
		instead = "let other machines come with --listen-tls, which is encrypted, and use 127.0.0.1 here"
	}
	if ip := net.ParseIP(host); !anywhere && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fault.New(fault.Invalid,
			"%s is %s, which other machines can reach, and this listener is not encrypted", key, address).
			Then("%s", instead)
	}
	l, err := net.Listen("tcp", address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fault.New(fault.Conflict, "the address %s is taken by another program", address).
			Then("stop that one, or choose another %s", other)
	case err != nil:
		return nil, fault.New(fault.Invalid, "%s cannot listen on %s: %s", key, address, cause(err)).
			Then("choose another %s", other)
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
