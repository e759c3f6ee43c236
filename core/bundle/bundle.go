// Package bundle writes what is flashed onto a device, or laid beside its firmware:
// where the service is, whom to trust, by what the device is let in, its topics, and
// samples that work as they are.
package bundle

import (
	"archive/zip"
	"bytes"
	"cmp"
	"embed"
	"encoding/json"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"text/template"
	"time"

	"ullage/core/model"
	"ullage/core/value"
)

// Bundle is what goes into it. Addresses are host:port; an empty one is off.
type Bundle struct {
	Device  string
	Model   *model.Model
	MQTT    string // over TLS
	HTTP    string // over TLS
	Time    string // plain, that tells the time alone
	CA      []byte // that the service's certificate is signed by, in PEM
	Token   string // either this
	Chain   []byte // or a certificate with those above it, in PEM
	Key     []byte // in PEM; nil where the device has it already
	At      time.Time
	Expires time.Time // of the certificate
	Brief   bool      // without samples
}

// File is one file of a bundle.
type File struct {
	Name string
	Data []byte
	// Secret files are for nobody else, and Program ones are run.
	Secret, Program bool
}

//go:embed files
var files embed.FS

var templates = template.Must(template.New("").Funcs(template.FuncMap{"py": pyString, "sh": shString, "json": jsonString}).
	ParseFS(files, "files/readme.txt", "files/send.*"))

// page is what the templates are filled from.
type page struct {
	*Bundle
	Topics             map[string]string
	Readings           string
	MQTTHost, MQTTPort string
	HTTPHost, HTTPPort string
	Certificate        bool
	Own                bool // it has its key in a place of its own
	TokenName          string
	Interval           string
	Commands           []string
}

//go:embed files/config.h
var headerText string

// headerParts are the header's text, cut before the names that stand in it.
var headerParts = strings.Split(headerText, "${")

// header writes ullage_config.h: the text in the place of whose names stands what is so of a
// device. Ten thousand of them are written at once.
func (k *maker) header(p *page) []byte {
	is := func(name string) string {
		switch name {
		case "ID":
			return p.Device
		case "KIND":
			return p.Model.Name + " " + p.Model.Version
		case "DEVICE":
			return cString(p.Device)
		case "MODEL":
			return cString(p.Model.Name)
		case "MQTT_HOST":
			return cString(p.MQTTHost)
		case "MQTT_PORT":
			return cmp.Or(p.MQTTPort, "0")
		case "HTTP_URL":
			if p.HTTP == "" {
				return `""`
			}
			return cString("https://" + p.HTTP + "/device/v1")
		case "INTERVAL":
			if p.Model.Interval == 0 {
				return "60"
			}
			return strconv.FormatFloat(p.Model.Interval.Seconds(), 'f', 0, 64)
		case "EXAMPLE":
			return cString(p.Readings)
		case "CA":
			return k.lines(p.Bundle)
		case "CREDENTIAL":
			switch {
			case p.Own:
				return "#define ULLAGE_CERTIFICATE" + cLines(string(p.Chain))
			case p.Certificate:
				return "#define ULLAGE_CERTIFICATE" + cLines(string(p.Chain)) + "\n#define ULLAGE_KEY" + cLines(string(p.Key))
			}
			return "#define ULLAGE_TOKEN " + cString(p.Token)
		}
		return cString(p.Topics[strings.ToLower(name)])
	}
	parts := make([]string, 0, 2*len(headerParts))
	for i, part := range headerParts {
		name, rest, named := strings.Cut(part, "}")
		if i == 0 || !named {
			parts = append(parts, part)
			continue
		}
		parts = append(parts, is(name), rest)
	}
	size := 0
	for _, part := range parts {
		size += len(part)
	}
	out := make([]byte, 0, size)
	for _, part := range parts {
		out = append(out, part...)
	}
	return out
}

// config is config.json, for firmware that reads it.
type config struct {
	Device string    `json:"device"`
	Model  string    `json:"model"`
	MQTT   *endpoint `json:"mqtt,omitempty"`
	HTTP   string    `json:"http,omitempty"`
	Time   string    `json:"time,omitempty"` // for devices without a clock
	CA     string    `json:"ca"`
	Token  string    `json:"token,omitempty"`
	Cert   string    `json:"certificate,omitempty"`
	Key    string    `json:"key,omitempty"`
	// Expires is when the certificate ends; only in what a device gets that joins.
	Expires string            `json:"expires,omitempty"`
	Topics  map[string]string `json:"topics"`
	Every   string            `json:"every"`
}

type endpoint struct {
	Host   string `json:"host"`
	Port   int    `json:"port"`
	Client string `json:"client_id"`
	User   string `json:"user"`
}

// maker makes the bundles of devices of one service: what they have in common is worked out
// once.
type maker struct {
	readings map[*model.Model][]byte
	ca       []byte
	caLines  string
}

// example is what a device of a model may send.
func (k *maker) example(b *Bundle) []byte {
	if text, ok := k.readings[b.Model]; ok {
		return text
	}
	if k.readings == nil {
		k.readings = map[*model.Model][]byte{}
	}
	text := b.Model.Examples(b.Device, b.At).Readings
	k.readings[b.Model] = text
	return text
}

// lines is the authority of b as a string of C.
func (k *maker) lines(b *Bundle) string {
	if k.caLines == "" || !bytes.Equal(k.ca, b.CA) {
		k.ca, k.caLines = b.CA, cLines(string(b.CA))
	}
	return k.caLines
}

// Files returns the files of b, in the order of their names.
func Files(b Bundle) ([]File, error) { return new(maker).files(b) }

func (k *maker) files(b Bundle) ([]File, error) {
	p := page{Bundle: &b, Certificate: len(b.Chain) > 0, Own: len(b.Chain) > 0 && len(b.Key) == 0}
	p.MQTTHost, p.MQTTPort = split(b.MQTT)
	p.HTTPHost, p.HTTPPort = split(b.HTTP)
	c := configOf(&b)
	c.CA = "ca.crt"
	p.Topics = c.Topics
	p.Readings, p.Interval = string(k.example(&b)), c.Every
	for _, a := range b.Model.Actions {
		p.Commands = append(p.Commands, a.Name)
	}
	out := []File{{Name: "ca.crt", Data: b.CA}}
	if p.Certificate {
		out = append(out, File{Name: "device.crt", Data: b.Chain})
		c.Cert, c.Key = "device.crt", "device.key"
		if len(b.Key) > 0 {
			out = append(out, File{Name: "device.key", Data: b.Key, Secret: true})
		}
	} else {
		out = append(out, File{Name: "token", Data: []byte(b.Token + "\n"), Secret: true})
		c.Token = "token"
	}
	text, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return nil, err
	}
	out = append(out, File{Name: "config.json", Data: append(text, '\n')})
	texts := []struct {
		name, from string
		program    bool
	}{{"README.txt", "readme.txt", false}, {"send.sh", "send.sh", true}, {"send.py", "send.py", true},
		{"send.c", "send.c", false}, {"send.go", "send.go.txt", false}}
	out = append(out, File{Name: "ullage_config.h", Data: k.header(&p), Secret: true})
	if b.Brief {
		texts = nil
	}
	for _, f := range texts {
		var buf bytes.Buffer
		if err := templates.ExecuteTemplate(&buf, f.from, p); err != nil {
			return nil, fmt.Errorf("%s: %w", f.name, err)
		}
		out = append(out, File{Name: f.name, Data: buf.Bytes(), Program: f.program})
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// configOf says where the service is, and what the device is called there.
func configOf(b *Bundle) config {
	c := config{Device: b.Device, Model: b.Model.Name, Topics: topics(b), Every: value.Duration(b.Model.Interval).String()}
	if b.MQTT != "" {
		host, port := split(b.MQTT)
		c.MQTT = &endpoint{Host: host, Client: b.Device, User: b.Device}
		c.MQTT.Port, _ = strconv.Atoi(port)
	}
	if b.HTTP != "" {
		c.HTTP = "https://" + b.HTTP + "/device/v1"
	}
	if b.Time != "" {
		c.Time = "http://" + b.Time + "/time"
	}
	return c
}

// Joined is what a device gets that has joined by itself, in JSON: as in config.json, with
// the credential and the certificates themselves in the place of the names of files.
func Joined(b Bundle) ([]byte, error) {
	c := configOf(&b)
	c.CA, c.Token, c.Cert = string(b.CA), b.Token, string(b.Chain)
	if !b.Expires.IsZero() {
		c.Expires = b.Expires.UTC().Format(time.RFC3339)
	}
	return json.Marshal(c)
}

// split takes an address apart into host and port.
func split(address string) (host, port string) {
	i := strings.LastIndexByte(address, ':')
	if i < 0 {
		return address, ""
	}
	return strings.Trim(address[:i], "[]"), address[i+1:]
}

// topics are those of the device, by what they are for.
func topics(b *Bundle) map[string]string {
	out := map[string]string{}
	for _, name := range []string{"readings", "about", "intended", "applied", "reply", "problem"} {
		out[name] = "ullage/" + b.Device + "/" + name
	}
	if len(b.Model.Actions) > 0 {
		out["commands"] = "ullage/" + b.Device + "/command/+"
	}
	return out
}

// Zip packs files into one, in a folder of a name, or without one.
func Zip(folder string, fs []File, at time.Time) ([]byte, error) {
	var b bytes.Buffer
	err := zipped(&b, folder, fs, at, zip.Deflate)
	return b.Bytes(), err
}

func zipped(w io.Writer, folder string, fs []File, at time.Time, method uint16) error {
	z := zip.NewWriter(w)
	for _, f := range fs {
		if err := pack(z, folder, f, at, method); err != nil {
			return err
		}
	}
	return z.Close()
}

func pack(z *zip.Writer, folder string, f File, at time.Time, method uint16) error {
	h := &zip.FileHeader{Name: path.Join(folder, f.Name), Method: method, Modified: at}
	h.SetMode(0o644)
	switch {
	case f.Secret:
		h.SetMode(0o600)
	case f.Program:
		h.SetMode(0o755)
	}
	w, err := z.CreateHeader(h)
	if err == nil {
		_, err = w.Write(f.Data)
	}
	return err
}

// cString writes s as a string of C.
func cString(s string) string {
	var b strings.Builder
	b.Grow(len(s) + len(s)/8 + 4)
	quoteC(&b, s)
	return b.String()
}

func quoteC(b *strings.Builder, s string) {
	b.WriteByte('"')
	for i := range len(s) {
		c := s[i]
		switch {
		case c == '"' || c == '\\' || c == '?': // ?? would begin a trigraph
			b.WriteByte('\\')
			b.WriteByte(c)
		case c == '\n':
			b.WriteString(`\n`)
		case c < ' ' || c > '~':
			fmt.Fprintf(b, `\%03o`, c)
		default:
			b.WriteByte(c)
		}
	}
	b.WriteByte('"')
}

// cLines writes a text of some lines as a string of C, a line each.
func cLines(s string) string {
	if s == "" {
		return ` ""`
	}
	var b strings.Builder
	b.Grow(len(s) + len(s)/4 + 16)
	for line := range strings.Lines(s) {
		b.WriteString(" \\\n  ")
		quoteC(&b, line)
	}
	return b.String()
}

func pyString(s string) string { return jsonString(s) }

// jsonString writes s as a string of JSON, which is one of Python and Go too.
func jsonString(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		return `""`
	}
	return string(b)
}

// shString writes s as one word of a POSIX shell.
func shString(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
