package server

import (
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"ullage/core/value"
	"ullage/core/yamldoc"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
)

// Listener is a row of the table of listeners for devices: those four that have options,
// and those of the list "listeners" in the config file.
type Listener struct {
	Name     string         `yaml:"name"`
	Protocol string         `yaml:"protocol"` // mqtt or http
	Address  string         `yaml:"address"`  // empty for off
	TLS      bool           `yaml:"tls"`
	Takes    []devices.Kind `yaml:"takes"` // credentials; every kind if empty
}

func (l Listener) String() string {
	takes := "token or certificate"
	if len(l.Takes) > 0 {
		var words []string
		for _, k := range l.Takes {
			words = append(words, string(k))
		}
		takes = strings.Join(words, " or ")
	} else if !l.TLS {
		takes = string(devices.Token)
	}
	over := ""
	if l.TLS {
		over = " over TLS"
	}
	return fmt.Sprintf("%s: %s%s at %s, takes %s", l.Name, l.Protocol, over, l.Address, takes)
}

// maxListeners is how many rows the list in the config file may have.
const maxListeners = 32

// listenersKey is the key of the list in the config file.
const listenersKey = "listeners"

var listenerName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,31}$`)

// own are the rows that have options of their own. Their names are those of the options
// that say where they listen.
func (c *Config) own() []Listener {
	return []Listener{{Name: "mqtt", Protocol: "mqtt", Address: c.MQTT}, {Name: "device_http", Protocol: "http", Address: c.DeviceHTTP},
		{Name: "mqtt_tls", Protocol: "mqtt", Address: c.MQTTTLS, TLS: true}, {Name: "device_http_tls", Protocol: "http", Address: c.DeviceHTTPTLS, TLS: true}}
}

// devices returns the whole table. A row of the file with the name of an option says what
// that one takes.
func (c *Config) devices() []Listener {
	table := c.own()
	for _, l := range c.listeners {
		if i := slices.IndexFunc(table, func(x Listener) bool { return x.Name == l.Name }); i >= 0 {
			table[i].Takes = l.Takes
			continue
		}
		table = append(table, l)
	}
	return table
}

// readListeners reads the list of a config file.
func readListeners(raw any, path string) ([]Listener, error) {
	wrong := func(then, format string, args ...any) error {
		return fault.New(fault.Invalid, "listeners in %s: %s", path, fmt.Sprintf(format, args...)).On("config").Then("%s", then)
	}
	const form = "write each row like {name: cellars, protocol: mqtt, address: 0.0.0.0:8884, tls: true, takes: [certificate]}"
	text, err := yaml.Marshal(raw)
	if err != nil {
		return nil, wrong(form, "cannot be read")
	}
	var rows []Listener
	if err := yaml.UnmarshalWithOptions(text, &rows, yaml.DisallowUnknownField()); err != nil {
		return nil, wrong(form, "%s", yamldoc.Said(err))
	}
	if len(rows) > maxListeners {
		return nil, wrong("leave some out", "there are %d rows; %d are the most", len(rows), maxListeners)
	}
	options := (&Config{}).own()
	for i, l := range rows {
		own := slices.IndexFunc(options, func(x Listener) bool { return x.Name == l.Name })
		taken := slices.ContainsFunc(Options, func(o Option) bool { return o.Key == l.Name })
		switch {
		case !listenerName.MatchString(l.Name):
			return nil, wrong("use small letters, digits and underscores, like cellars_mqtt", "row %d has the name %q", i+1, value.Clip(l.Name, 40))
		case slices.ContainsFunc(rows[:i], func(x Listener) bool { return x.Name == l.Name }):
			return nil, wrong("give each a name of its own", "two rows have the name %s", l.Name)
		case own >= 0 && (l.Protocol != "" || l.Address != "" || l.TLS):
			return nil, wrong("leave the row its name and takes", "%s has an option of its own that says where it listens", l.Name)
		case own < 0 && taken:
			return nil, wrong("give the row another name", "%s is the name of an option", l.Name)
		case own < 0 && l.Protocol != "mqtt" && l.Protocol != "http":
			return nil, wrong("say mqtt or http", "%s has the protocol %q", l.Name, value.Clip(l.Protocol, 40))
		case own < 0 && l.Address == "":
			return nil, wrong(form, "%s has no address", l.Name)
		}
		encrypted := l.TLS || own >= 0 && options[own].TLS
		for _, k := range l.Takes {
			if k != devices.Token && (k != devices.Certificate || !encrypted) {
				return nil, wrong("say token or certificate, or leave takes out for both", "%s takes %q; a listener takes a token, and over TLS a certificate", l.Name, value.Clip(string(k), 40))
			}
		}
	}
	return rows, nil
}

// takes says which credentials each listener takes that does not take all.
func (c *Config) takes() map[string][]devices.Kind {
	out := map[string][]devices.Kind{}
	for _, l := range c.devices() {
		if len(l.Takes) > 0 {
			out[l.Name] = l.Takes
		}
	}
	return out
}

// hosts are the hosts that encrypted listeners for devices are bound to.
func (c *Config) hosts() (out []string) {
	for _, l := range c.devices() {
		host, _, err := net.SplitHostPort(l.Address)
		if ip := net.ParseIP(host); l.TLS && err == nil && host != "" && (ip == nil || !ip.IsUnspecified()) {
			out = append(out, host)
		}
	}
	return out
}

// named refuses listeners for devices elsewhere while nobody has said under which name
// those find the service: it goes into certificates and bundles.
func (c *Config) named() error {
	for _, l := range c.devices() {
		host, _, err := net.SplitHostPort(l.Address)
		if ip := net.ParseIP(host); l.TLS && err == nil && (host == "" || ip != nil && ip.IsUnspecified()) && len(words(c.Names)) == 0 {
			return fault.New(fault.Invalid, "%s takes devices from elsewhere, and names does not say under which name they find the service, which goes into certificates and bundles", l.Name).
				Then("say it, as in --names cellars.example.org")
		}
	}
	return nil
}
