// Package handbook writes the page that authors of firmware work from: what a
// device of some model sends, is sent and has to answer, with lines to paste.
package handbook

import (
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	html "html/template"
	"strconv"
	"strings"
	text "text/template"
	"time"

	"ullage/core/model"
	"ullage/core/unit"
	"ullage/core/value"
)

// Doors are where the devices of a service are heard.
type Doors struct {
	Device string // the id in the lines to paste
	HTTP   string // base address, such as http://127.0.0.1:8081
	Host   string // of the MQTT listener
	Port   string
}

// Row is one value of the model in a table of the page.
type Row struct {
	Name, Title, Type, Unit, Range, Usual, Default, Note string
}

// Call is one thing to send or to listen to: what it is, where, and how.
type Call struct {
	Title, Says string
	Topic       string
	Payload     string
	Lines       []string // each works when it is pasted in a shell
}

// Page is what there is to say to the author of the firmware.
type Page struct {
	Name, Title, Version, Description, Interval, Device     string
	Additional                                              bool
	Telemetry, Derived, Attributes, Settings, KeptByService []Row
	Readings, Pack, About, Intended, Applied, TimeAndRefuse []Call
	Commands, Replies, Events                               []Call
}

// Of gathers the page of a model.
func Of(m *model.Model, d Doors, at time.Time) Page {
	if d.Device == "" {
		d.Device = m.Name + "-1"
	}
	p := Page{Name: m.Name, Title: m.Title, Version: m.Version, Description: m.Description,
		Interval: value.Duration(m.Interval).String(), Device: d.Device, Additional: m.Additional}
	for i := range m.Properties {
		q := &m.Properties[i]
		r := row(q)
		switch {
		case q.Derived != "":
			r.Note = "computed as " + q.Derived
			p.Derived = append(p.Derived, r)
		case q.Role == model.Telemetry:
			p.Telemetry = append(p.Telemetry, r)
		case q.Role == model.Attribute:
			p.Attributes = append(p.Attributes, r)
		case q.KeptByService:
			p.KeptByService = append(p.KeptByService, r)
		default:
			p.Settings = append(p.Settings, r)
		}
	}
	x := m.Examples(d.Device, at)
	p.Readings = []Call{
		d.up("readings", "A reading",
			"One object of values by name; its time is that of its arrival. Send what changed, or everything.", x.Readings, ""),
		d.up("readings", "A reading with its time",
			"Firmware that keeps readings while the link is down sends their times. A list of such objects is one message.", x.Timed, ""),
		d.up("readings", "The same as SenML", "RFC 8428; units of the same kind are converted to those of the model.",
			x.Pack, "application/senml+json"),
	}
	if x.About != nil {
		with := strings.TrimSuffix(string(x.About), "}") + `,"model_version":"` + m.Version + `"}`
		p.About = []Call{d.up("about", "Attributes",
			"Send them once after connecting, and model_version with them: the version of this page that the firmware was written for.", json.RawMessage(with), "")}
	}
	if x.Intended != nil {
		p.Intended = []Call{d.down("intended", "Intended settings",
			"Always the whole document. Compare the revision for being another, not for being greater.", x.Intended)}
		p.Applied = []Call{d.up("applied", "Applied settings",
			"Answer every revision with the values in force; what cannot be done goes under refused, as text by name.", x.Applied, "")}
	}
	for _, a := range m.Actions {
		says := strings.TrimSuffix(strings.Join([]string{a.Title, a.Description}, ". "), ". ")
		p.Commands = append(p.Commands, d.command(a.Name,
			fmt.Sprintf("%s. Input: %s. Output: %s.", orWords(says, "A command"), Fields(a.Input),
				Fields(a.Output)), x.Commands[a.Name]))
	}
	if len(m.Actions) > 0 {
		p.Replies = []Call{
			d.up("reply", "The reply",
				"Every command is replied to once, with its id, which the lines take from COMMAND: with what came of it, or with why it could not be done. Drop an id that was seen before; it is the same command again.", x.Reply, ""),
			d.up("reply", "The reply when it could not be done", "A text for the person who gave the command.",
				json.RawMessage(`{"id":"`+model.ExampleID+`","error":"the lid is open"}`), ""),
		}
	}
	for _, e := range m.Events {
		p.Events = append(p.Events, d.up("event/"+e.Name, e.Name,
			fmt.Sprintf("%s. Data: %s.", orWords(e.Description, orWords(e.Title, "An event")),
				Fields(e.Data)), x.Events[e.Name], ""))
	}
	p.TimeAndRefuse = []Call{
		d.down("problem", "What was refused, and why",
			"A problem document (RFC 9457) for every message that was not kept whole. Over HTTP it is the response.", nil),
		d.down("time", "The time", "For devices without a clock of their own.", nil),
	}
	return p
}

func orWords(s, other string) string {
	if s = strings.TrimSuffix(strings.TrimSpace(s), "."); s == "" {
		return other
	}
	return s
}

// Fields says what an object wants, member by member.
func Fields(s *model.Schema) string {
	if s == nil {
		return "none"
	}
	if len(s.Fields) == 0 {
		return s.Words()
	}
	var out []string
	for _, f := range s.Fields {
		out = append(out, f.Name+", "+f.Schema.Words())
	}
	return strings.Join(out, "; ")
}

func row(p *model.Property) Row {
	r := Row{Name: strings.Join(p.Path, "."), Title: p.Title, Type: p.Kind.String(), Unit: unit.Display(p.Unit)}
	if p.Integer {
		r.Type = "integer"
	}
	if !p.Stored() && p.Schema != nil {
		r.Type = p.Schema.Type
	}
	if p.Description != "" {
		r.Title = strings.TrimSpace(p.Title + ". " + p.Description)
		r.Title = strings.TrimPrefix(r.Title, ". ")
	}
	switch {
	case len(p.Enum) > 0:
		r.Range = strings.Join(p.Enum, ", ")
	case p.Min != nil && p.Max != nil:
		r.Range = number(*p.Min) + " … " + number(*p.Max)
	case p.Min != nil:
		r.Range = "from " + number(*p.Min)
	case p.Max != nil:
		r.Range = "to " + number(*p.Max)
	}
	if p.Usual != nil {
		r.Usual = number(p.Usual.Low) + " … " + number(p.Usual.High)
	}
	if p.Default.Known() {
		r.Default = p.Default.String()
	}
	if p.Accept != nil {
		r.Note = "refused outside " + number(p.Accept.Low) + " … " + number(p.Accept.High)
	}
	if p.Optional {
		r.Note = strings.TrimPrefix(r.Note+"; not on every device", "; ")
	}
	return r
}

func number(f float64) string {
	return strings.Replace(strconv.FormatFloat(f, 'f', -1, 64), "-", "−", 1)
}

func (d Doors) topic(name string) string { return "ullage/" + d.Device + "/" + name }

func (d Doors) login() string {
	return fmt.Sprintf("-h %s -p %s -V 5 -i %s -u %s -P \"$TOKEN\"", d.Host, d.Port, d.Device, d.Device)
}

// up is a message that the device sends.
func (d Doors) up(name, title, says string, body json.RawMessage, contentType string) Call {
	c := Call{Title: title, Says: says, Topic: d.topic(name), Payload: string(body)}
	// The id of a command is another each time, so the shell puts it in.
	quoted := strings.ReplaceAll(quote(string(body)), model.ExampleID, `'"$COMMAND"'`)
	if d.HTTP != "" {
		kind := contentType
		if kind == "" {
			kind = "application/json"
		}
		c.Lines = append(c.Lines,
			fmt.Sprintf("curl -sS -H \"Authorization: Bearer $TOKEN\" -H 'Content-Type: %s' -d %s %s/device/v1/%s",
				kind, quoted, d.HTTP, path(name)))
	}
	if d.Host != "" {
		property := ""
		if contentType != "" {
			property = " -D publish content-type " + contentType
		}
		c.Lines = append(c.Lines, fmt.Sprintf("mosquitto_pub %s -q 1 -t %s%s -m %s", d.login(), c.Topic, property,
			quoted))
	}
	return c
}

// path is where a message goes over HTTP: what comes one by one there is plural.
func path(name string) string {
	if event, ok := strings.CutPrefix(name, "event/"); ok {
		return "events/" + event
	}
	if name == "reply" {
		return "replies"
	}
	return name
}

// command is a command that the device is told to do.
func (d Doors) command(name, says string, input json.RawMessage) Call {
	c := d.down("command/"+name, name, says,
		json.RawMessage(fmt.Sprintf(`{"id":"%s","input":%s,"expires":"2026-03-01T10:01:00.000Z"}`, model.ExampleID,
			input)))
	if d.HTTP != "" {
		c.Lines[0] = fmt.Sprintf("curl -sS -H \"Authorization: Bearer $TOKEN\" '%s/device/v1/commands?wait=30s'",
			d.HTTP)
	}
	return c
}

// down is a message that the device is sent.
func (d Doors) down(name, title, says string, body json.RawMessage) Call {
	c := Call{Title: title, Says: says, Topic: d.topic(name), Payload: string(body)}
	if d.HTTP != "" && name != "problem" {
		c.Lines = append(c.Lines, fmt.Sprintf("curl -sS -H \"Authorization: Bearer $TOKEN\" %s/device/v1/%s", d.HTTP,
			name))
	}
	if d.Host != "" {
		c.Lines = append(c.Lines, fmt.Sprintf("mosquitto_sub %s -q 1 -t %s", d.login(), c.Topic))
	}
	return c
}

// quote makes a text one word of a POSIX shell.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

//go:embed page.md.tmpl page.html.tmpl
var templates embed.FS

var (
	markdown = text.Must(text.New("page.md.tmpl").Funcs(text.FuncMap{"cell": cell}).ParseFS(templates, "page.md.tmpl"))
	document = html.Must(html.ParseFS(templates, "page.html.tmpl"))
)

// cell keeps a text within its cell of a Markdown table.
func cell(s string) string {
	return strings.NewReplacer("|", `\|`, "\n", " ").Replace(s)
}

// Markdown writes the page as Markdown.
func (p Page) Markdown() (string, error) {
	var b bytes.Buffer
	err := markdown.Execute(&b, p)
	return b.String(), err
}

// HTML writes the page as one HTML file that needs no other.
func (p Page) HTML() (string, error) {
	var b bytes.Buffer
	err := document.Execute(&b, p)
	return b.String(), err
}
