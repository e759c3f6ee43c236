package server_test

import (
	"bytes"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/pflag"

	"ullage/fleet/fault"
	"ullage/server"
)

func load(t *testing.T, file string, env map[string]string, args ...string) (*server.Config, error) {
	t.Helper()
	f := pflag.NewFlagSet("x", pflag.ContinueOnError)
	server.AddFlags(f)
	if file != "" {
		path := filepath.Join(t.TempDir(), "ullage.yaml")
		if err := os.WriteFile(path, []byte(file), 0o600); err != nil {
			t.Fatal(err)
		}
		args = append(args, "--config", path)
	}
	if err := f.Parse(args); err != nil {
		return nil, err
	}
	return server.Load(f, func(k string) (string, bool) { v, ok := env[k]; return v, ok })
}

func TestWhereValuesComeFrom(t *testing.T) {
	c, err := load(t, "listen: 127.0.0.1:1\nmqtt: 127.0.0.1:2\ndevice_rate: 7\nfirst_password: secret-from-file\n",
		map[string]string{"ULLAGE_MQTT": "127.0.0.1:3",
			"ULLAGE_DEVICE_HTTP": "127.0.0.1:4"}, "--device-http", "127.0.0.1:5")
	if err != nil {
		t.Fatal(err)
	}
	want := map[string][2]any{
		"listen": {"127.0.0.1:1", "file"}, "mqtt": {"127.0.0.1:3", "environment ULLAGE_MQTT"},
		"device_http": {"127.0.0.1:5", "flag --device-http"}, "data": {"ullage-data", "default"}, "device_rate": {7, "file"},
		"first_password": {"(not shown)", "file"},
	}
	shown := 0
	for _, s := range c.Show() {
		if w, ok := want[s.Key]; ok {
			shown++
			if s.Value != w[0] || !strings.HasPrefix(s.From, w[1].(string)) {
				t.Errorf("%s is %v from %s; want %v from %v", s.Key, s.Value, s.From, w[0], w[1])
			}
		}
		if s.Help == "" {
			t.Errorf("%s is not explained", s.Key)
		}
	}
	if shown != len(want) || len(c.Show()) != len(server.Options) {
		t.Errorf("%d of %d options are shown", len(c.Show()), len(server.Options))
	}
}

func TestListenersOfTheFile(t *testing.T) {
	c, err := load(t, "listeners:\n  - {name: mqtt_tls, takes: [certificate]}\n  - {name: cellars, protocol: http, address: 127.0.0.1:8444, tls: true}\n", nil, "--device-http", "")
	if err != nil {
		t.Fatal(err)
	}
	rows := c.Show()
	last := rows[len(rows)-1]
	want := "mqtt: mqtt at 127.0.0.1:1883, takes token; mqtt_tls: mqtt over TLS at 127.0.0.1:8883, takes certificate; " +
		"device_http_tls: http over TLS at 127.0.0.1:8443, takes token or certificate; cellars: http over TLS at 127.0.0.1:8444, takes token or certificate"
	if last.Key != "listeners" || last.Value != want || !strings.HasPrefix(last.From, "file ") {
		t.Errorf("listeners are shown as %v from %s", last.Value, last.From)
	}
}

func TestBadConfig(t *testing.T) {
	for _, c := range []struct {
		name, file string
		env        map[string]string
		args       []string
		says       string
	}{
		{"unknown key", "colour: red\n", nil, nil, `"colour" that does not exist`},
		{"a key that is nearly one", "lisen: x\n", nil, nil, "did you mean listen?"},
		{"aliases", "names: &a x\nlisten: *a\n", nil, nil, "anchors and aliases"},
		{"not YAML", "a: [", nil, nil, "line 1, column 4: sequence end token"},
		{"not a number", "device_rate: fast\n", nil, nil, "whole number"},
		{"negative", "", map[string]string{"ULLAGE_DEVICE_RATE": "-1"}, nil, "ULLAGE_DEVICE_RATE"},
		{"listeners that are no list", "listeners: 3\n", nil, nil, "write each row like"},
		{"a listener with a field that is none", "listeners: [{name: a, port: 3}]\n", nil, nil, "there is no key \"port\" here"},
		{"a listener without a name", "listeners: [{protocol: mqtt}]\n", nil, nil, "row 1 has the name \"\""},
		{"two of one name", "listeners: [{name: a, protocol: mqtt, address: x}, {name: a}]\n", nil, nil, "two rows have the name a"},
		{"a listener of another protocol", "listeners: [{name: a, protocol: ftp}]\n", nil, nil, "say mqtt or http"},
		{"a listener nowhere", "listeners: [{name: a, protocol: http}]\n", nil, nil, "a has no address"},
		{"one that an option places", "listeners: [{name: mqtt_tls, address: 127.0.0.1:1}]\n", nil, nil, "an option of its own"},
		{"one with the name of an option", "listeners: [{name: zone, protocol: mqtt, address: 127.0.0.1:1}]\n", nil, nil, "name of an option"},
		{"a certificate without TLS", "listeners: [{name: mqtt, takes: [certificate]}]\n", nil, nil, "over TLS a certificate"},
		{"what no device shows", "listeners: [{name: device_http_tls, takes: [key]}]\n", nil, nil, "takes \"key\""},
		{"too many", "listeners: [" + strings.Repeat("{name: a},", 40) + "]\n", nil, nil, "32 are the most"},
		{"not a boolean", "plain_anywhere: maybe\n", nil, nil, "true or false"},
		{"no such file", "", nil, []string{"--config", "/nowhere/ullage.yaml"}, "cannot be read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if _, err := load(t, c.file, c.env, c.args...); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("the error is %v, want %q", err, c.says)
			}
		})
	}
	f := pflag.NewFlagSet("x", pflag.ContinueOnError)
	server.AddFlags(f)
	if f.Lookup("first-password") != nil {
		t.Error("a password can be given on the command line, where every process reads it")
	}
}

func TestLogger(t *testing.T) {
	for _, c := range []struct{ level, format, says string }{{"debug", "json", `"msg":"hello"`},
		{"info", "text", "msg=hello"}} {
		cfg, err := load(t, "", map[string]string{"ULLAGE_LOG_LEVEL": c.level, "ULLAGE_LOG_FORMAT": c.format})
		if err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		log, err := cfg.Logger(&out)
		if err != nil {
			t.Fatal(err)
		}
		log.Info("hello")
		if !strings.Contains(out.String(), c.says) {
			t.Errorf("%s logs %q", c.format, out.String())
		}
	}
	for k, v := range map[string]string{"ULLAGE_LOG_LEVEL": "loud", "ULLAGE_LOG_FORMAT": "xml"} {
		cfg, err := load(t, "", map[string]string{k: v})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := cfg.Logger(&bytes.Buffer{}); err == nil {
			t.Errorf("%s=%s was taken", k, v)
		}
	}
}

func TestListenersThatCannotBe(t *testing.T) {
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer busy.Close()
	free := []string{"--listen", "127.0.0.1:0", "--mqtt", "127.0.0.1:0", "--device-http", "127.0.0.1:0"}
	for _, c := range []struct {
		name string
		args []string
		code fault.Code
		says string
	}{
		{"busy", []string{"--mqtt", busy.Addr().String()}, fault.Conflict, "taken by another program; stop that one, or choose another with --mqtt"},
		{"everywhere", []string{"--device-http", "0.0.0.0:0"}, fault.Invalid, "--plain-anywhere"},
		{"all interfaces", []string{"--listen", ":0"}, fault.Invalid, "not encrypted"},
		{"no address", []string{"--listen", "8460"}, fault.Invalid, "no address"},
	} {
		t.Run(c.name, func(t *testing.T) {
			cfg, err := load(t, "", nil, append(append(free, "--data", t.TempDir()), c.args...)...)
			if err != nil {
				t.Fatal(err)
			}
			err = server.Run(t.Context(), cfg, slog.New(slog.DiscardHandler), func(server.Started) {
				t.Error("it started")
			})
			if !fault.Is(err, c.code) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("the error is %v", err)
			}
		})
	}
}
