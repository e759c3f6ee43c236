// Package board reads boards from their files and checks them, and makes the boards that
// exist by themselves: of a device, a model, a site and the whole fleet, out of the models.
package board

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"ullage/core/expr"
	"ullage/core/value"
	"ullage/core/yamldoc"
)

// MaxSource is the largest file of a board that is read, in bytes.
const MaxSource = 256 << 10

// Columns is how many columns the grid of a board has, and Most how many instruments it
// may hold.
const (
	Columns = 12
	Most    = 60
	mostRow = 400
)

// Board is a page of instruments.
type Board struct {
	Name    string `yaml:"board" json:"board" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"Name" example:"fennimore-hall"`
	Title   string `yaml:"title,omitempty" json:"title,omitempty" maxLength:"120" doc:"What stands over it; its name if left out" example:"Fennimore, fermentation hall"`
	Devices string `yaml:"devices,omitempty" json:"devices,omitempty" maxLength:"4000" doc:"Selector of the devices that its instruments are about; all where it is left out" example:"label.site == \"Fennimore\""`
	// Parameters are what whoever looks at it chooses at the top.
	Parameters  []string     `yaml:"parameters,omitempty" json:"parameters,omitempty" maxItems:"8" nullable:"false" doc:"What is chosen at the top: device, model, or a label by its key" example:"[\"site\"]"`
	Span        string       `yaml:"span,omitempty" json:"span,omitempty" maxLength:"80" doc:"The span of time it opens with; 24h if left out" example:"24h"`
	Teams       []string     `yaml:"teams,omitempty,flow" json:"teams,omitempty" maxItems:"20" nullable:"false" doc:"Whose people may open it, beside engineers for all devices; everybody if left out" example:"[\"night-duty\"]"`
	Instruments []Instrument `yaml:"instruments" json:"instruments" maxItems:"60" nullable:"false"`
	// Made is filled in by the service: the board is made out of the models.
	Made bool `yaml:"-" json:"made,omitempty" readOnly:"true" doc:"It is made out of the models by the service, and follows them"`
}

// Instrument is one part of a board.
type Instrument struct {
	Kind  string `yaml:"instrument" json:"instrument" enum:"trace,dial,figure,bars,histogram,roster,alarms,tally,strip,vessels,map,plan,note,control" doc:"What it is"`
	Title string `yaml:"title,omitempty" json:"title,omitempty" maxLength:"120" doc:"What stands over it; said of what it shows if left out"`
	// Place is where it stands on the grid.
	Place     []int    `yaml:"place,flow" json:"place" minItems:"4" maxItems:"4" nullable:"false" doc:"Column from 0 to 11, row from 0, width and height, in cells" example:"[0,0,6,4]"`
	Metrics   []string `yaml:"metrics,omitempty,flow" json:"metrics,omitempty" maxItems:"8" nullable:"false" doc:"What it shows" example:"[\"must_temp\"]"`
	Devices   string   `yaml:"devices,omitempty" json:"devices,omitempty" maxLength:"4000" doc:"Selector of its devices, of those of the board"`
	Aggregate string   `yaml:"aggregate,omitempty" json:"aggregate,omitempty" enum:"mean,weighted_mean,min,max,sum,count,last" doc:"How readings become one value; mean if left out"`
	GroupBy   string   `yaml:"group_by,omitempty" json:"group_by,omitempty" maxLength:"80" doc:"A label, or model: one line or bar for each of its values in the place of each device" example:"site"`
	Span      string   `yaml:"span,omitempty" json:"span,omitempty" maxLength:"80" doc:"A span of its own"`
	Compare   string   `yaml:"compare,omitempty" json:"compare,omitempty" maxLength:"20" doc:"Of a trace: how long before the same is drawn beside it, dashed" example:"24h"`
	Forecast  string   `yaml:"forecast,omitempty" json:"forecast,omitempty" maxLength:"20" doc:"Of a trace of one metric and one device: how far ahead it is forecast" example:"6h"`
	Count     string   `yaml:"count,omitempty" json:"count,omitempty" maxLength:"4000" doc:"Of a tally: health, link, model, version, a label as label.KEY, or a condition" example:"health"`
	Columns   []string `yaml:"columns,omitempty,flow" json:"columns,omitempty" maxItems:"20" nullable:"false" doc:"Of a roster: metrics, health, link, model, headspace, seen, or labels as label.KEY" example:"[\"health\",\"must_temp\"]"`
	Site      string   `yaml:"site,omitempty" json:"site,omitempty" maxLength:"100" doc:"Of a plan: whose picture it is; that of the board's parameter site if left out"`
	// At is where devices stand on a plan, in percent of its width and height.
	At      map[string][]float64 `yaml:"at,omitempty,flow" json:"at,omitempty" doc:"Of a plan: where devices stand on it, and values as DEVICE/METRIC, in percent from the left and from the top" example:"{\"tank-fennimore-07\":[30,40],\"tank-fennimore-07/must_temp\":[30,50]}"`
	Text    string               `yaml:"text,omitempty" json:"text,omitempty" maxLength:"8000" doc:"Of a note: Markdown"`
	Setting string               `yaml:"setting,omitempty" json:"setting,omitempty" maxLength:"200" doc:"Of a control: the setting that is set on the devices"`
	Command string               `yaml:"command,omitempty" json:"command,omitempty" maxLength:"200" doc:"Of a control: the command that the devices are given"`
	States  string               `yaml:"states,omitempty" json:"states,omitempty" enum:"link,alarm" doc:"Of a strip: when devices were on line, or had an alarm, in the place of a metric"`
	Step    string               `yaml:"step,omitempty" json:"step,omitempty" maxLength:"20" doc:"Of bars: a bar for each such step of the span, of all devices together, in the place of each device" example:"1d"`
	Linear  bool                 `yaml:"linear,omitempty" json:"linear,omitempty" doc:"Of a dial: a bar in the place of an arc"`
}

// The states of devices that a strip shows beside those of metrics.
const (
	OfLink  = "link"
	OfAlarm = "alarm"
)

// The steps of time that bars may have.
const (
	minStep = time.Minute
	maxStep = 31 * 24 * time.Hour
)

// Kinds are the kinds of instruments, with what each needs.
var Kinds = []string{"trace", "dial", "figure", "bars", "histogram", "roster", "alarms", "tally", "strip", "vessels", "map", "plan", "note", "control"}

// measures are the kinds that show metrics.
var measures = []string{"trace", "dial", "figure", "bars", "histogram", "strip"}

var (
	boardName  = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	teamName   = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,62}$`)
	metricName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]{0,199}$`)
	labelKey   = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	spanNames  = []string{"today", "yesterday", "week", "last-week", "month", "last-month"}
)

// OfDevices are what a column may show beside metrics and labels.
var OfDevices = []string{"health", "link", "model", "headspace", "seen"}

// MetricColumns are the columns of a roster that are metrics.
func (x *Instrument) MetricColumns() []string {
	var out []string
	for _, c := range x.Columns {
		if !slices.Contains(OfDevices, c) && !strings.HasPrefix(c, "label.") {
			out = append(out, c)
		}
	}
	return out
}

// Error is one thing wrong with a board.
type Error struct {
	Key      string // pointer into the file, as in /instruments/2/metrics; empty for the whole
	Sentence string
}

// Error returns the sentence.
func (e *Error) Error() string { return e.Sentence }

// Parse reads a board from YAML and checks what can be checked without models.
func Parse(src []byte) (*Board, error) {
	b := &Board{}
	if err := yamldoc.Decode(src, b, "a board", MaxSource); err != nil {
		return nil, err
	}
	return b, b.Check()
}

// YAML writes b as its file.
func (b *Board) YAML() []byte { return yamldoc.Encode(b) }

// Placed is the device of a place on a plan, and the metric where it is a value that stands there.
func Placed(key string) (device, metric string) {
	device, metric, _ = strings.Cut(key, "/")
	return device, metric
}

// Check checks b alone. The error is of type *Error.
func (b *Board) Check() error {
	wrong := func(key, format string, args ...any) error { return &Error{key, fmt.Sprintf(format, args...)} }
	switch {
	case !boardName.MatchString(b.Name):
		return wrong("/board", "a board is named in small letters, digits and hyphens, like fennimore-hall; this one is %q", value.Clip(b.Name, 60))
	case value.Written(b.Title, 120) != "":
		return wrong("/title", "the title of %s %s", b.Name, value.Written(b.Title, 120))
	case len(b.Parameters) > 8:
		return wrong("/parameters", "%s has %d parameters; 8 are the most", b.Name, len(b.Parameters))
	case len(b.Teams) > 20:
		return wrong("/teams", "%s is for %d teams; 20 are the most", b.Name, len(b.Teams))
	case len(b.Instruments) > Most:
		return wrong("/instruments", "%s has %d instruments; %d are the most: make two boards of it", b.Name, len(b.Instruments), Most)
	}
	for i, p := range b.Parameters {
		if !labelKey.MatchString(p) || slices.Index(b.Parameters, p) != i {
			return wrong(fmt.Sprintf("/parameters/%d", i), "%q is no parameter of %s, or is there twice; write device, model, or the key of a label, like site", value.Clip(p, 60), b.Name)
		}
	}
	for i, t := range b.Teams {
		if !teamName.MatchString(t) || slices.Index(b.Teams, t) != i {
			return wrong(fmt.Sprintf("/teams/%d", i), "%q is no name of a team, or is there twice; write it as it is in the list of the teams", value.Clip(t, 60))
		}
	}
	if err := checkSelector(b.Devices); err != nil {
		return wrong("/devices", "devices of %s: %s", b.Name, err)
	}
	if !isSpan(b.Span) {
		return wrong("/span", "%q is no span of time; write one like 24h or 7d, or one of %s", value.Clip(b.Span, 60), strings.Join(spanNames, ", "))
	}
	for i := range b.Instruments {
		if err := b.Instruments[i].check(); err != nil {
			return wrong(fmt.Sprintf("/instruments/%d%s", i, err.Key), "instrument %d of %s: %s", i+1, b.Name, err.Sentence)
		}
		for k := range i {
			if b.Instruments[i].over(&b.Instruments[k]) {
				return wrong(fmt.Sprintf("/instruments/%d/place", i), "instruments %d and %d of %s stand on each other; move one of them", k+1, i+1, b.Name)
			}
		}
	}
	return nil
}

func checkSelector(s string) error {
	if strings.TrimSpace(s) == "" {
		return nil
	}
	if _, found := expr.Parse(s); len(found.Errors()) > 0 {
		return found.Errors()
	}
	return nil
}

// isSpan reports whether s is a span of time: none, a duration, a name, or two times.
func isSpan(s string) bool {
	if s == "" || slices.Contains(spanNames, s) {
		return true
	}
	if from, to, ok := strings.Cut(s, ".."); ok {
		a, errA := time.Parse(time.RFC3339, from)
		b, errB := time.Parse(time.RFC3339, to)
		return errA == nil && errB == nil && a.Before(b)
	}
	d, err := value.ParseDuration(s)
	return err == nil && d.Std() > 0
}

// How long before a trace may be compared with, and how far ahead it may be forecast.
const (
	maxCompare  = 366 * 24 * time.Hour
	minForecast = 5 * time.Minute
	maxForecast = 14 * 24 * time.Hour
)

// lasts reports whether s is a duration between two others.
func lasts(s string, least, most time.Duration) bool {
	d, err := value.ParseDuration(s)
	return err == nil && d.Std() >= least && d.Std() <= most
}

// over reports whether two instruments stand on the same cells.
func (x *Instrument) over(o *Instrument) bool {
	a, b := x.Place, o.Place
	return a[0] < b[0]+b[2] && b[0] < a[0]+a[2] && a[1] < b[1]+b[3] && b[1] < a[1]+a[3]
}

func (x *Instrument) check() *Error {
	wrong := func(key, format string, args ...any) *Error { return &Error{key, fmt.Sprintf(format, args...)} }
	if !slices.Contains(Kinds, x.Kind) {
		return wrong("/instrument", "%q is no instrument; there are %s", value.Clip(x.Kind, 40), strings.Join(Kinds, ", "))
	}
	if len(x.Place) != 4 {
		return wrong("/place", "a place is column, row, width and height, like [0, 0, 6, 4]")
	}
	if c, r, w, h := x.Place[0], x.Place[1], x.Place[2], x.Place[3]; c < 0 || r < 0 || w < 1 || h < 1 || c+w > Columns || r+h > mostRow || h > 40 {
		return wrong("/place", "the place [%d, %d, %d, %d] is not on the grid, which has %d columns; an instrument is 1 to %d wide and 1 to 40 high", c, r, w, h, Columns, Columns)
	}
	switch {
	case x.States != "" && x.Kind != "strip":
		return wrong("/states", "only a strip shows link or alarm; leave states out of a %s", x.Kind)
	case x.States != "" && x.States != OfLink && x.States != OfAlarm:
		return wrong("/states", "%q is nothing that a strip shows; write link or alarm, or metrics in its place", value.Clip(x.States, 40))
	case x.States != "" && len(x.Metrics) > 0:
		return wrong("/states", "a strip shows a metric or %s; leave one of the two out", x.States)
	case x.Step != "" && x.Kind != "bars":
		return wrong("/step", "only bars have a step; leave it out of a %s", x.Kind)
	case x.Step != "" && !lasts(x.Step, minStep, maxStep):
		return wrong("/step", "%q is no step of time; write from 1min to 31d, like 1h or 1d", value.Clip(x.Step, 20))
	case x.Step != "" && x.GroupBy != "":
		return wrong("/step", "a bar for each step is of all devices together; leave out step or group_by")
	case slices.Contains(measures, x.Kind) && len(x.Metrics) == 0 && x.States == "":
		return wrong("/metrics", "a %s shows metrics; name one, like metrics: [must_temp]", x.Kind)
	case !slices.Contains(measures, x.Kind) && len(x.Metrics) > 0:
		return wrong("/metrics", "a %s shows no metrics; leave them out", x.Kind)
	case len(x.Metrics) > 8:
		return wrong("/metrics", "it shows %d metrics; 8 are the most", len(x.Metrics))
	case x.Kind != "trace" && len(x.Metrics) > 1:
		return wrong("/metrics", "a %s shows one metric; make one for each", x.Kind)
	case x.Kind == "tally" && x.Count == "":
		return wrong("/count", "a tally counts devices by something; write count: health, link, model, version, label.KEY, or a condition")
	case x.Kind == "control" && (x.Setting == "") == (x.Command == ""):
		return wrong("", "a control is of one setting or of one command; name one of them")
	case x.Kind == "note" && strings.TrimSpace(x.Text) == "":
		return wrong("/text", "a note has a text")
	case value.Written(x.Title, 120) != "":
		return wrong("/title", "the title %s", value.Written(x.Title, 120))
	case value.Written(x.Text, 8000) != "":
		return wrong("/text", "the text %s", value.Written(x.Text, 8000))
	case len(x.Columns) > 20:
		return wrong("/columns", "it has %d columns; 20 are the most", len(x.Columns))
	case len(x.At) > 500 || len(x.At) > 0 && x.Kind != "plan":
		return wrong("/at", "only a plan says where devices stand, of 500 at most")
	case !isSpan(x.Span):
		return wrong("/span", "%q is no span of time; write one like 24h, or one of %s", value.Clip(x.Span, 60), strings.Join(spanNames, ", "))
	case (x.Compare != "" || x.Forecast != "") && x.Kind != "trace":
		return wrong("", "only a trace compares and forecasts; leave that out of a %s", x.Kind)
	case x.Compare != "" && !lasts(x.Compare, time.Minute, maxCompare):
		return wrong("/compare", "%q is not how long before; write from 1min to 366d, like 24h or 7d", value.Clip(x.Compare, 20))
	case x.Forecast != "" && !lasts(x.Forecast, minForecast, maxForecast):
		return wrong("/forecast", "%q is not how far ahead; write from 5min to 14d, like 6h", value.Clip(x.Forecast, 20))
	case x.Forecast != "" && len(x.Metrics) > 1:
		return wrong("/forecast", "a forecast is of one metric; make a trace for each")
	}
	for _, id := range slices.Sorted(maps.Keys(x.At)) {
		if p := x.At[id]; len(p) != 2 || !(p[0] >= 0 && p[0] <= 100 && p[1] >= 0 && p[1] <= 100) {
			return wrong("/at", "%s stands nowhere on the plan; write percent from the left and from the top, like [30, 40]", value.Clip(id, 63))
		}
		if _, metric := Placed(id); strings.Contains(id, "/") && !metricName.MatchString(metric) {
			return wrong("/at", "%q is no value on the plan; write a device and a metric, like tank-fennimore-07/must_temp", value.Clip(id, 63))
		}
	}
	if a := x.Aggregate; a != "" && !slices.Contains([]string{"mean", "weighted_mean", "min", "max", "sum", "count", "last"}, a) {
		return wrong("/aggregate", "%q is no aggregate; there are mean, weighted_mean, min, max, sum, count and last", value.Clip(a, 40))
	}
	if g := x.GroupBy; g != "" && !labelKey.MatchString(g) {
		return wrong("/group_by", "%q is nothing to group by; write model, or the key of a label, like site", value.Clip(g, 40))
	}
	if x.GroupBy == "model" && x.Kind != "vessels" && x.Kind != "bars" {
		return wrong("/group_by", "a %s is grouped by a label, like site; bars and vessels also by model", x.Kind)
	}
	if err := checkSelector(x.Devices); err != nil {
		return wrong("/devices", "devices: %s", err)
	}
	if x.Kind == "tally" && !slices.Contains([]string{"health", "link", "model", "version"}, x.Count) && !strings.HasPrefix(x.Count, "label.") {
		if err := checkSelector(x.Count); err != nil {
			return wrong("/count", "count: %s", err)
		}
	}
	return nil
}
