// Package server wires everything together: configuration, start and stop.
package server

import (
	"cmp"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are known where the system has no database

	"github.com/spf13/pflag"

	"ullage/api"
	"ullage/app"
	"ullage/core/value"
	"ullage/core/yamldoc"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/settings"
	"ullage/pki"
	"ullage/store"
	"ullage/transport/door"
)

// Values are everything that can be configured. The tag option is the key in the
// config file; the flag has hyphens for its underscores, the environment
// variable ULLAGE_ before it in capitals. A secret is never shown, and has no
// flag.
type Values struct {
	Data            string `option:"data" help:"data folder; one process at a time"`
	Listen          string `option:"listen" help:"address of the console and the API without encryption, on loopback; off if empty"`
	ListenTLS       string `option:"listen_tls" help:"address of the console and the API over TLS, such as 0.0.0.0:8462 for other machines; off if empty"`
	TLSCert         string `option:"tls_cert" help:"file of the certificate for listen_tls, with those between it and its authority, in PEM; one that the service makes for itself if empty"`
	TLSKey          string `option:"tls_key" help:"file of its key in PEM; both are read again when they change"`
	MQTT            string `option:"mqtt" help:"address for devices that speak MQTT"`
	DeviceHTTP      string `option:"device_http" help:"address for devices that speak HTTP"`
	MQTTTLS         string `option:"mqtt_tls" help:"address for devices that speak MQTT over TLS, such as 0.0.0.0:8883 for other machines; off if empty"`
	DeviceHTTPTLS   string `option:"device_http_tls" help:"address for devices that speak HTTP over TLS, such as 0.0.0.0:8443; off if empty"`
	TimeOnly        string `option:"time_only" help:"address that tells devices the time and nothing else, signed and without encryption, such as 0.0.0.0:8864; off if empty"`
	DeviceTLSCert   string `option:"device_tls_cert" help:"file of the certificate for devices, with those between it and its authority, in PEM; one of the service's own authority if empty"`
	DeviceTLSKey    string `option:"device_tls_key" help:"file of its key in PEM; both are read again when they change"`
	Pprof           string `option:"pprof" help:"address of profiles for net/http/pprof, on loopback only; off if empty"`
	PlainAnywhere   bool   `option:"plain_anywhere" help:"let the unencrypted listeners leave the loopback interface"`
	Names           string `option:"names" help:"names by which browsers and devices reach the service, with commas; loopback names and addresses need not be named"`
	TrustedProxies  string `option:"trusted_proxies" help:"addresses or networks of proxies whose X-Forwarded-For and -Proto are believed, with commas; nobody's if empty"`
	FirstPerson     string `option:"first_person" help:"name of the first sign-in of an empty data folder"`
	FirstPassword   string `option:"first_password" help:"its password; made up and printed once if empty" secret:"true"`
	OIDCIssuer      string `option:"oidc_issuer" help:"address of an OpenID Connect provider that vouches for people; nobody does if empty"`
	OIDCClient      string `option:"oidc_client" help:"what the provider calls this service"`
	OIDCSecret      string `option:"oidc_secret" help:"its secret there, if it has one" secret:"true"`
	OIDCLabel       string `option:"oidc_label" help:"what the button says behind Sign in with"`
	OIDCName        string `option:"oidc_name" help:"claim that holds what somebody is called"`
	OIDCClaim       string `option:"oidc_claim" help:"claim whose values decide what somebody may do"`
	OIDCGrants      string `option:"oidc_grants" help:"which exact values give which role or team, with commas, like crew=operator, guests=team casks"`
	Zone            string `option:"zone" help:"time zone of sites that say none, for schedules, as in Pacific/Chatham"`
	MessageLimit    int    `option:"message_limit" help:"largest message of a device, in bytes"`
	DeviceRate      int    `option:"device_rate" help:"messages a second of one device; 0 for no limit"`
	DeviceConnects  int    `option:"device_connects" help:"MQTT connections a minute of one device; 0 for no limit"`
	AddressFailures int    `option:"address_failures" help:"failed device sign-ins a minute of one address before answers slow down"`
	DeviceRevisions int    `option:"device_revisions" help:"revisions of its settings that a device gets in an hour, more are merged into the next; 0 for no limit"`
	Drift           string `option:"drift" help:"what is done where a device is not as it has confirmed: tell, or send-again for its settings to be sent once more"`
	DriftTimes      int    `option:"drift_times" help:"with send-again: how often at most in a day for one device"`
	ApprovalAbove   int    `option:"approval_above" help:"from how many devices on a change of layers waits until a second person approves it; 0 for never"`
	WavesAbove      int    `option:"waves_above" help:"from how many devices on a change of layers goes out in waves unless whoever makes it says otherwise; 0 for never"`
	StoreLimit      int    `option:"store_limit" help:"largest size of the data folder's files together, in MB, of which records and journal may take a quarter; 0 for no limit but the disk's"`
	JournalLimit    int    `option:"journal_limit" help:"how many entries the journal keeps at most; 0 for no limit"`
	KeepReadings    string `option:"keep_readings" help:"how long readings are kept of which the model says nothing, like 365d; always if empty"`
	KeepRollups     string `option:"keep_rollups" help:"how long roll-ups are kept of which the model says nothing, like 3650d; always if empty"`
	TrafficLimit    int    `option:"traffic_limit" help:"how much of the traffic is kept on the disk, packed, in MB; none but the latest in memory if 0"`
	KeepTraffic     string `option:"keep_traffic" help:"how long traffic is kept at most, like 7d"`
	LogLevel        string `option:"log_level" help:"debug, info, warn or error"`
	LogFormat       string `option:"log_format" help:"text or json"`
}

// defaults are the values of which nothing else is said.
func defaults() Values {
	return Values{Data: "ullage-data", Listen: "127.0.0.1:8460", ListenTLS: "127.0.0.1:8462", MQTT: "127.0.0.1:1883", DeviceHTTP: "127.0.0.1:8461", MQTTTLS: "127.0.0.1:8883", DeviceHTTPTLS: "127.0.0.1:8443",
		FirstPerson: "engineer", OIDCName: "preferred_username", OIDCClaim: "groups", Zone: "UTC", MessageLimit: ingest.MaxMessage, DeviceRate: 50, DeviceConnects: 20, DeviceRevisions: 20, Drift: driftTell, DriftTimes: 3, WavesAbove: 100, AddressFailures: 30,
		JournalLimit: 1_000_000, TrafficLimit: 256, KeepTraffic: "7d", LogLevel: "info", LogFormat: "text"}
}

// Option is one of the Values.
type Option struct {
	Key     string
	Default any // string, int or bool
	Help    string
	Secret  bool
	field   int
}

// Options lists every option.
var Options = func() []Option {
	v := reflect.ValueOf(defaults())
	out := make([]Option, v.NumField())
	for i := range out {
		f := v.Type().Field(i)
		out[i] = Option{Key: f.Tag.Get("option"), Default: v.Field(i).Interface(), Help: f.Tag.Get("help"),
			Secret: f.Tag.Get("secret") == "true", field: i}
	}
	return out
}()

// Flag returns the option's flag without its dashes.
func (o Option) Flag() string { return strings.ReplaceAll(o.Key, "_", "-") }

// Env returns the option's environment variable.
func (o Option) Env() string { return "ULLAGE_" + strings.ToUpper(o.Key) }

// Config is what is in force, and where each value came from.
type Config struct {
	Values
	listeners []Listener        // of the file
	from      map[string]string // by key
}

// AddFlags adds a flag for every option, and --config.
func AddFlags(f *pflag.FlagSet) {
	f.String("config", "", "config file in YAML (default ullage.yaml, if there is one)")
	for _, o := range Options {
		if o.Secret {
			continue // a secret on a command line can be read by every process
		}
		help := o.Help + " [" + o.Env() + "]"
		switch d := o.Default.(type) {
		case string:
			f.String(o.Flag(), d, help)
		case int:
			f.Int(o.Flag(), d, help)
		case bool:
			f.Bool(o.Flag(), d, help)
		}
	}
}

// Load reads defaults, then the file, then the environment, then the flags
// that were given; later ones win.
func Load(flags *pflag.FlagSet, env func(string) (string, bool)) (*Config, error) {
	c := &Config{Values: defaults(), from: map[string]string{}}
	path, chosen := "ullage.yaml", false
	if v, ok := env("ULLAGE_CONFIG"); ok && v != "" {
		path, chosen = v, true
	}
	if flags != nil && flags.Changed("config") {
		path, _ = flags.GetString("config")
		chosen = true
	}
	file, err := readFile(path)
	if err != nil && (chosen || !errors.Is(err, fs.ErrNotExist)) {
		return nil, err
	}
	if rows, ok := file[listenersKey]; ok {
		if c.listeners, err = readListeners(rows, path); err != nil {
			return nil, err
		}
		c.from[listenersKey] = "file " + path
	}
	for _, o := range Options {
		c.from[o.Key] = "default"
		if v, ok := file[o.Key]; ok {
			if err := c.set(o, fmt.Sprint(v), o.Key+" in "+path, "file "+path); err != nil {
				return nil, err
			}
		}
		if v, ok := env(o.Env()); ok {
			if err := c.set(o, v, o.Env(), "environment "+o.Env()); err != nil {
				return nil, err
			}
		}
		if flags != nil && !o.Secret && flags.Changed(o.Flag()) {
			if err := c.set(o, flags.Lookup(o.Flag()).Value.String(), "--"+o.Flag(), "flag --"+o.Flag()); err != nil {
				return nil, err
			}
		}
	}
	return c, nil
}

func (c *Config) field(o Option) reflect.Value {
	return reflect.ValueOf(&c.Values).Elem().Field(o.field)
}

// set reads one value; where is what a mistake in it is told of.
func (c *Config) set(o Option, s, where, from string) error {
	v, err := o.parse(s, where)
	if err != nil {
		return err
	}
	c.field(o).Set(reflect.ValueOf(v))
	c.from[o.Key] = from
	return nil
}

// maxConfig is the largest config file that is read, in bytes.
const maxConfig = 1 << 20

func readFile(path string) (map[string]any, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the config file cannot be read: %w", err)
	}
	var raw map[string]any
	if err := yamldoc.Decode(b, &raw, "a config file", maxConfig); err != nil && !errors.Is(err, yamldoc.ErrEmpty) {
		return nil, fault.New(fault.Invalid, "the config file %s cannot be read: %s", path, err)
	}
	known := []string{listenersKey}
	for _, o := range Options {
		known = append(known, o.Key)
	}
	for k := range raw {
		if !slices.Contains(known, k) {
			err := fault.New(fault.Invalid, "the config file %s has a key %q that does not exist", path, value.Clip(k, 60)).On("config")
			if near := value.Nearest(k, known); near != "" {
				err = err.Then("did you mean %s?", near)
			}
			return nil, err
		}
	}
	return raw, nil
}

func (o Option) parse(s, where string) (any, error) {
	switch o.Default.(type) {
	case int:
		n, err := strconv.Atoi(s)
		if err != nil || n < 0 {
			return nil, fault.New(fault.Invalid, "%s is %q, and must be a whole number from 0", where, s)
		}
		return n, nil
	case bool:
		b, err := strconv.ParseBool(s)
		if err != nil {
			return nil, fault.New(fault.Invalid, "%s is %q, and must be true or false", where, s)
		}
		return b, nil
	}
	return s, nil
}

// Shown is one option as `ullage config show` prints it.
type Shown struct {
	Key   string `json:"key"`
	Value any    `json:"value"`
	From  string `json:"from"`
	Help  string `json:"help"`
}

// Show lists what is in force. Secrets are left out.
func (c *Config) Show() []Shown {
	out := make([]Shown, len(Options), len(Options)+1)
	for i, o := range Options {
		out[i] = Shown{o.Key, c.field(o).Interface(), c.from[o.Key], o.Help}
		if o.Secret {
			out[i].Value = "(not shown)"
		}
	}
	if len(c.listeners) > 0 {
		var rows []string
		for _, l := range c.devices() {
			if l.Address != "" {
				rows = append(rows, l.String())
			}
		}
		out = append(out, Shown{listenersKey, strings.Join(rows, "; "), c.from[listenersKey], "listeners for devices; the config file may list more, and what each takes"})
	}
	return out
}

func (c *Config) zone() (*time.Location, error) {
	zone, err := time.LoadLocation(c.Zone)
	if err != nil {
		return nil, fault.New(fault.Invalid, "zone is %q, which is no time zone that is known", c.Zone).
			Then("write a name of the IANA database, such as UTC or Pacific/Chatham")
	}
	return zone, nil
}

// What is done about drift.
const (
	driftTell  = "tell"
	driftAgain = "send-again"
)

func (c *Config) drift() (settings.Drift, error) {
	switch c.Drift {
	case driftTell, driftAgain:
		return settings.Drift{SendAgain: c.Drift == driftAgain, Most: c.DriftTimes}, nil
	}
	return settings.Drift{}, fault.New(fault.Invalid, "drift is %q, which is nothing that can be done about it", c.Drift).Then("write %s or %s", driftTell, driftAgain)
}

// keep reads how long something is kept; 0 for always.
func keep(key, span string) (time.Duration, error) {
	if span == "" {
		return 0, nil
	}
	d, err := value.ParseDuration(span)
	if err != nil || d.Std() < 24*time.Hour {
		return 0, fault.New(fault.Invalid, "%s is %q, which is not how long something is kept", key, span).
			Then("write it like 90d or 365d, one day at least")
	}
	return d.Std(), nil
}

func (c *Config) limits() door.Limits {
	l := door.DefaultLimits()
	l.Message, l.Rate = c.MessageLimit, float64(c.DeviceRate)
	l.Connects, l.Failures = c.DeviceConnects, c.AddressFailures
	return l
}

// Logger returns the logger that the configuration asks for.
func (c *Config) Logger(w io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.LogLevel)); err != nil {
		return nil, fault.New(fault.Invalid, "log_level is %q; it is debug, info, warn or error", c.LogLevel)
	}
	o := &slog.HandlerOptions{Level: level}
	switch c.LogFormat {
	case "text":
		return slog.New(slog.NewTextHandler(w, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, o)), nil
	}
	return nil, fault.New(fault.Invalid, "log_format is %q; it is text or json", c.LogFormat)
}

// certificate opens that of listen_tls: the user's files, or its own in the data
// folder; nil where the listener is off.
func (c *Config) certificate(log *slog.Logger, now func() time.Time) (*pki.Files, error) {
	if c.ListenTLS == "" {
		return nil, nil
	}
	if (c.TLSCert == "") != (c.TLSKey == "") {
		return nil, fault.New(fault.Invalid, "a certificate and its key belong together, and only one of tls_cert and tls_key is said").
			Then("say both, or neither for a certificate that the service makes for itself")
	}
	if now == nil {
		now = time.Now
	}
	cert, key := c.TLSCert, c.TLSKey
	if cert == "" {
		names := words(c.Names)
		if host, _, err := net.SplitHostPort(c.ListenTLS); err == nil {
			if ip := net.ParseIP(host); ip == nil || !ip.IsUnspecified() {
				names = append(names, host)
			}
		}
		var err error
		if cert, key, err = pki.Own(filepath.Join(c.Data, "tls"), slices.DeleteFunc(names, func(n string) bool { return n == "" }), now()); err != nil {
			return nil, fmt.Errorf("the service could not make a certificate for itself: %w", err)
		}
	}
	return pki.Open(cert, key, log, now)
}

// forDevices returns the authority of the data folder, the passphrase of its root key
// if it was made just now, and what tells the certificate of the listeners for devices.
func (c *Config) forDevices(log *slog.Logger, now func() time.Time) (*pki.Authority, string, func(*tls.ClientHelloInfo) (*tls.Certificate, error), error) {
	if now == nil {
		now = time.Now
	}
	if err := store.MakeFolder(c.Data); err != nil { // the authority is the first that goes into it
		return nil, "", nil, err
	}
	a, passphrase, err := pki.OpenAuthority(filepath.Join(c.Data, "pki"), now)
	if err != nil {
		return nil, "", nil, err
	}
	if (c.DeviceTLSCert == "") != (c.DeviceTLSKey == "") {
		return nil, "", nil, fault.New(fault.Invalid, "a certificate and its key belong together, and only one of device_tls_cert and device_tls_key is said").
			Then("say both, or neither for a certificate of the service's own authority")
	}
	if c.DeviceTLSCert != "" {
		files, err := pki.Open(c.DeviceTLSCert, c.DeviceTLSKey, log, now)
		if err != nil {
			return nil, "", nil, err
		}
		return a, passphrase, files.Get, nil
	}
	names := append(words(c.Names), c.hosts()...)
	return a, passphrase, func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return a.Server(names) }, nil
}

// signOn is who else vouches for people; nil for nobody.
func (c *Config) signOn(log *slog.Logger) (*api.SignOn, error) {
	if c.OIDCIssuer == "" {
		return nil, nil
	}
	if c.OIDCClient == "" || c.OIDCGrants == "" {
		return nil, fault.New(fault.Invalid, "oidc_issuer is said, and oidc_client or oidc_grants is not").
			Then("say all three; grants are like crew=operator, guests=team casks")
	}
	grants, teams, err := api.ParseSignOnGrants(c.OIDCGrants)
	if err != nil {
		return nil, fault.New(fault.Invalid, "oidc_grants: %s", err)
	}
	u, err := url.Parse(c.OIDCIssuer)
	if err != nil || u.Host == "" {
		return nil, fault.New(fault.Invalid, "oidc_issuer is %q, which is no address", c.OIDCIssuer).Then("write it like https://id.example.org")
	}
	return &api.SignOn{Issuer: c.OIDCIssuer, Client: c.OIDCClient, Secret: c.OIDCSecret, Label: cmp.Or(c.OIDCLabel, u.Host),
		NameClaim: c.OIDCName, Claim: c.OIDCClaim, Grants: grants, Teams: teams, Log: log, Now: time.Now}, nil
}

// words takes a list apart that is written with commas.
func words(list string) []string {
	return strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' })
}

// app returns how the parts of the service are put together.
func (c *Config) app(log *slog.Logger) (app.Options, error) {
	all := int64(c.StoreLimit) << 20
	drift, err := c.drift()
	if err != nil {
		return app.Options{}, err
	}
	o := app.Options{Dir: c.Data, Revisions: c.DeviceRevisions, Drift: drift, WavesAbove: c.WavesAbove, ApprovalAbove: c.ApprovalAbove, Store: store.Options{MaxBytes: all - all/4, MaxRecordBytes: all / 4},
		KeepFacts: c.JournalLimit, Limits: c.limits(), Log: log}
	if o.Zone, err = c.zone(); err != nil {
		return o, err
	}
	if c.TrafficLimit > 0 {
		o.KeepTraffic = &store.TrafficOptions{MaxBytes: int64(c.TrafficLimit) << 20}
		if o.KeepTraffic.Keep, err = keep("keep_traffic", c.KeepTraffic); err != nil {
			return o, err
		}
	}
	if o.KeepReadings, err = keep("keep_readings", c.KeepReadings); err != nil {
		return o, err
	}
	o.KeepRollups, err = keep("keep_rollups", c.KeepRollups)
	return o, err
}
