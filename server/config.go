// Package server wires everything together: configuration, start and stop.
package server

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are known where the system has no database

	"github.com/goccy/go-yaml"
	"github.com/knadh/koanf/providers/confmap"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/pflag"

	"ullage/app"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/store"
	"ullage/transport/door"
)

// Option is one thing that can be configured: by a key in the config file, a
// flag (with hyphens) and an environment variable (ULLAGE_ and capitals).
type Option struct {
	Key     string
	Default any // string, int or bool
	Help    string
	Secret  bool // never shown
}

// Options lists every option.
var Options = []Option{
	{Key: "data", Default: "ullage-data", Help: "data folder; one process at a time"},
	{Key: "listen", Default: "127.0.0.1:8460", Help: "address of the console and the API"},
	{Key: "mqtt", Default: "127.0.0.1:1883", Help: "address for devices that speak MQTT"},
	{Key: "device_http", Default: "127.0.0.1:8461", Help: "address for devices that speak HTTP"},
	{Key: "pprof", Default: "", Help: "address of profiles for net/http/pprof, on loopback only; off if empty"},
	{Key: "plain_anywhere", Default: false, Help: "let the unencrypted listeners leave the loopback interface"},
	{Key: "first_person", Default: "engineer", Help: "name of the first sign-in of an empty data folder"},
	{Key: "first_password", Default: "", Help: "its password; made up and printed once if empty", Secret: true},
	{Key: "zone", Default: "UTC", Help: "time zone of the sites, for schedules, as in Pacific/Chatham"},
	{Key: "message_limit", Default: ingest.MaxMessage, Help: "largest message of a device, in bytes"},
	{Key: "device_rate", Default: 50, Help: "messages a second of one device; 0 for no limit"},
	{Key: "device_connects", Default: 20, Help: "MQTT connections a minute of one device; 0 for no limit"},
	{Key: "address_failures", Default: 30, Help: "failed device sign-ins a minute of one address before answers slow down"},
	{Key: "store_limit", Default: 0, Help: "largest size of the telemetry file, in MB; 0 for no limit but the disk's"},
	{Key: "keep_readings", Default: "", Help: "how long readings are kept of which the model says nothing, like 365d; always if empty"},
	{Key: "keep_rollups", Default: "", Help: "how long roll-ups are kept of which the model says nothing, like 3650d; always if empty"},
	{Key: "log_level", Default: "info", Help: "debug, info, warn or error"},
	{Key: "log_format", Default: "text", Help: "text or json"},
}

// Flag returns the option's flag without its dashes.
func (o Option) Flag() string { return strings.ReplaceAll(o.Key, "_", "-") }

// Env returns the option's environment variable.
func (o Option) Env() string { return "ULLAGE_" + strings.ToUpper(o.Key) }

// Config is what is in force, and where each value came from.
type Config struct {
	k    *koanf.Koanf
	from map[string]string
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
	c := &Config{k: koanf.New("."), from: map[string]string{}}
	layer := func(values map[string]any, where func(key string) string) error {
		for k := range values {
			c.from[k] = where(k)
		}
		return c.k.Load(confmap.Provider(values, "."), nil)
	}
	defaults := map[string]any{}
	for _, o := range Options {
		defaults[o.Key] = o.Default
	}
	if err := layer(defaults, func(string) string { return "default" }); err != nil {
		return nil, err
	}
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
	if err := layer(file, func(string) string { return "file " + path }); err != nil {
		return nil, err
	}
	fromEnv, fromFlags := map[string]any{}, map[string]any{}
	for _, o := range Options {
		if v, ok := env(o.Env()); ok {
			if fromEnv[o.Key], err = o.parse(v, o.Env()); err != nil {
				return nil, err
			}
		}
		if flags != nil && !o.Secret && flags.Changed(o.Flag()) {
			if fromFlags[o.Key], err = o.parse(flags.Lookup(o.Flag()).Value.String(), "--"+o.Flag()); err != nil {
				return nil, err
			}
		}
	}
	key := func(k string) Option {
		return Options[slices.IndexFunc(Options, func(o Option) bool { return o.Key == k })]
	}
	if err := layer(fromEnv, func(k string) string { return "environment " + key(k).Env() }); err != nil {
		return nil, err
	}
	return c, layer(fromFlags, func(k string) string { return "flag --" + key(k).Flag() })
}

func readFile(path string) (map[string]any, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the config file cannot be read: %w", err)
	}
	var raw map[string]any
	if err := yaml.Unmarshal(b, &raw); err != nil {
		return nil, fault.New(fault.Invalid, "the config file %s is not YAML: %s", path, yaml.FormatError(err, false, false))
	}
	out := map[string]any{}
	for k, v := range raw {
		i := slices.IndexFunc(Options, func(o Option) bool { return o.Key == k })
		if i < 0 {
			return nil, fault.New(fault.Invalid, "the config file %s has a key %q that does not exist", path, k).On("config")
		}
		if out[k], err = Options[i].parse(fmt.Sprint(v), k+" in "+path); err != nil {
			return nil, err
		}
	}
	return out, nil
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
	out := make([]Shown, len(Options))
	for i, o := range Options {
		out[i] = Shown{o.Key, c.k.Get(o.Key), c.from[o.Key], o.Help}
		if o.Secret {
			out[i].Value = "(not shown)"
		}
	}
	return out
}

func (c *Config) str(key string) string { return c.k.String(key) }
func (c *Config) num(key string) int    { return c.k.Int(key) }

func (c *Config) zone() (*time.Location, error) {
	zone, err := time.LoadLocation(c.str("zone"))
	if err != nil {
		return nil, fault.New(fault.Invalid, "zone is %q, which is no time zone that is known", c.str("zone")).Then("write a name of the IANA database, such as UTC or Pacific/Chatham")
	}
	return zone, nil
}

// keep reads how long something is kept; 0 for always.
func (c *Config) keep(key string) (time.Duration, error) {
	if c.str(key) == "" {
		return 0, nil
	}
	d, err := value.ParseDuration(c.str(key))
	if err != nil || d.Std() < 24*time.Hour {
		return 0, fault.New(fault.Invalid, "%s is %q, which is not how long something is kept", key, c.str(key)).Then("write it like 90d or 365d, one day at least")
	}
	return d.Std(), nil
}

func (c *Config) limits() door.Limits {
	l := door.DefaultLimits()
	l.Message, l.Rate = c.num("message_limit"), float64(c.num("device_rate"))
	l.Connects, l.Failures = c.num("device_connects"), c.num("address_failures")
	return l
}

// Logger returns the logger that the configuration asks for.
func (c *Config) Logger(w io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.str("log_level"))); err != nil {
		return nil, fault.New(fault.Invalid, "log_level is %q; it is debug, info, warn or error", c.str("log_level"))
	}
	o := &slog.HandlerOptions{Level: level}
	switch c.str("log_format") {
	case "text":
		return slog.New(slog.NewTextHandler(w, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, o)), nil
	}
	return nil, fault.New(fault.Invalid, "log_format is %q; it is text or json", c.str("log_format"))
}

// app returns how the parts of the service are put together.
func (c *Config) app(log *slog.Logger) (app.Options, error) {
	o := app.Options{Dir: c.str("data"), Store: store.Options{MaxBytes: int64(c.num("store_limit")) << 20}, Limits: c.limits(), Log: log}
	var err error
	if o.Zone, err = c.zone(); err != nil {
		return o, err
	}
	if o.KeepReadings, err = c.keep("keep_readings"); err != nil {
		return o, err
	}
	o.KeepRollups, err = c.keep("keep_rollups")
	return o, err
}
