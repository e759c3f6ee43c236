package board

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ullage/core/model"
	"ullage/core/value"
)

// A made board is worked out from models each time it is asked for, so that it follows
// them. Nothing is written down of it before somebody makes it theirs.

// row puts instruments beside each other, from the left, and begins another row where
// there is no room.
type row struct {
	b            *Board
	x, y, height int
}

func (r *row) put(w, h int, in Instrument) {
	if r.x+w > Columns {
		r.next()
	}
	in.Place = []int{r.x, r.y, w, h}
	r.b.Instruments = append(r.b.Instruments, in)
	r.x, r.height = r.x+w, max(r.height, h)
}

func (r *row) next() {
	if r.x == 0 {
		return
	}
	r.x, r.y, r.height = 0, r.y+r.height, 0
}

// metrics returns the metrics of a model that can be drawn as numbers, those first that
// have a usual range, and those that are states.
func metrics(m *model.Model) (numbers, states []*model.Property) {
	for _, p := range m.With(model.Telemetry) {
		switch p.Kind {
		case value.Number:
			numbers = append(numbers, p)
		case value.Bool, value.Text:
			states = append(states, p)
		}
	}
	slices.SortStableFunc(numbers, func(a, b *model.Property) int { return cmp.Compare(weight(a), weight(b)) })
	return numbers, states
}

func weight(p *model.Property) int {
	if p.Usual != nil {
		return 0
	}
	return 1
}

// ForDevice makes the board of one device.
func ForDevice(id string, m *model.Model) *Board {
	b := &Board{Name: "device", Title: id, Devices: fmt.Sprintf("device.id == %q", id), Span: "24h", Made: true, Instruments: []Instrument{}}
	numbers, states := metrics(m)
	r := &row{b: b}
	for _, p := range numbers[:min(len(numbers), 4)] {
		r.put(Columns/max(min(len(numbers), 4), 2), 3, Instrument{Kind: "dial", Metrics: []string{p.Name}, Linear: true})
	}
	r.next()
	traces := numbers[:min(len(numbers), 16)]
	for _, p := range traces {
		r.put(6, 5, Instrument{Kind: "trace", Metrics: []string{p.Name}})
	}
	r.put(6, 5-2*(1-len(traces)%2), Instrument{Kind: "alarms"}) // beside the last trace, if there is room
	if len(traces)%2 == 1 {
		r.next()
	}
	for _, p := range states[:min(len(states), 6)] {
		r.put(6, 2, Instrument{Kind: "strip", Metrics: []string{p.Name}})
	}
	r.put(6, 2, Instrument{Kind: "strip", States: OfLink})
	r.put(6, 2, Instrument{Kind: "strip", States: OfAlarm})
	r.next()
	for _, p := range m.With(model.Setting) {
		if p.Stored() && len(b.Instruments) < Most-8 {
			r.put(3, 3, Instrument{Kind: "control", Setting: p.Name})
		}
	}
	for _, a := range m.Actions {
		if len(b.Instruments) < Most-2 {
			r.put(3, 3, Instrument{Kind: "control", Command: a.Name})
		}
	}
	return b
}

// ForModel makes the board of all devices of a model.
func ForModel(m *model.Model) *Board {
	b := &Board{Name: "model", Title: cmp.Or(m.Title, m.Name), Devices: fmt.Sprintf("device.model == %q", m.Name), Parameters: []string{"site"},
		Span: "24h", Made: true, Instruments: []Instrument{}}
	numbers, states := metrics(m)
	r := &row{b: b}
	r.put(4, 3, Instrument{Kind: "tally", Count: "health"})
	r.put(4, 3, Instrument{Kind: "tally", Count: "version"})
	r.put(4, 3, Instrument{Kind: "alarms"})
	for i, p := range numbers[:min(len(numbers), 12)] {
		r.put(8, 5, Instrument{Kind: "trace", Metrics: []string{p.Name}})
		if i < 6 {
			r.put(4, 5, Instrument{Kind: "histogram", Metrics: []string{p.Name}})
		}
		r.next()
	}
	for _, p := range states[:min(len(states), 4)] {
		r.put(12, 4, Instrument{Kind: "strip", Metrics: []string{p.Name}})
	}
	columns := []string{"health", "label.site"}
	for _, p := range numbers[:min(len(numbers), 5)] {
		columns = append(columns, p.Name)
	}
	r.next()
	r.put(12, 6, Instrument{Kind: "roster", Columns: append(columns, "seen")})
	return b
}

// ForSite makes the board of a site with devices of some models; plan says that it has a
// picture.
func ForSite(site string, models []*model.Model, plan bool) *Board {
	b := &Board{Name: "site", Title: site, Devices: fmt.Sprintf("label.site == %q", site), Span: "24h", Made: true, Instruments: []Instrument{}}
	r := &row{b: b}
	tall := min(max(4, 1+len(models)*13/10), 10) // each model is a row of vessels
	r.put(8, tall, Instrument{Kind: "vessels", GroupBy: "model"})
	r.put(4, tall, Instrument{Kind: "alarms"})
	if plan {
		r.put(6, 5, Instrument{Kind: "plan", Site: site})
	}
	r.put(3, 3, Instrument{Kind: "tally", Count: "health"})
	r.put(3, 3, Instrument{Kind: "tally", Count: "link"})
	r.next()
	for _, m := range byName(models) {
		numbers, states := metrics(m)
		which := fmt.Sprintf("device.model == %q", m.Name)
		for i, p := range numbers[:min(len(numbers), 2)] {
			if len(b.Instruments) < Most-6 {
				r.put(6, 5, Instrument{Kind: "trace", Metrics: []string{p.Name}, Devices: which, Title: titled(p, m)})
			}
			if i == 0 && len(numbers) == 1 {
				r.put(6, 5, Instrument{Kind: "bars", Metrics: []string{p.Name}, Devices: which, Title: titled(p, m) + " now"})
			}
		}
		if len(states) > 0 && len(b.Instruments) < Most-6 {
			r.put(12, 2, Instrument{Kind: "strip", Metrics: []string{states[0].Name}, Devices: which, Title: titled(states[0], m)})
		}
	}
	r.next()
	r.put(12, 6, Instrument{Kind: "roster", Columns: []string{"health", "model", "headspace", "seen"}})
	return b
}

// ForFleet makes the board of everything.
func ForFleet(models []*model.Model) *Board {
	b := &Board{Name: "fleet", Title: "The whole fleet", Parameters: []string{"site"}, Span: "24h", Made: true, Instruments: []Instrument{}}
	r := &row{b: b}
	r.put(8, 5, Instrument{Kind: "vessels", GroupBy: "site"})
	r.put(4, 5, Instrument{Kind: "alarms"})
	r.put(3, 3, Instrument{Kind: "tally", Count: "health"})
	r.put(3, 3, Instrument{Kind: "tally", Count: "link"})
	r.put(3, 3, Instrument{Kind: "tally", Count: "model"})
	r.put(3, 3, Instrument{Kind: "tally", Count: "version"})
	for _, m := range byName(models) {
		numbers, _ := metrics(m)
		if len(numbers) > 0 && len(b.Instruments) < Most-4 {
			r.put(6, 5, Instrument{Kind: "trace", Metrics: []string{numbers[0].Name}, Devices: fmt.Sprintf("device.model == %q", m.Name), GroupBy: "site",
				Title: titled(numbers[0], m)})
		}
	}
	r.next()
	r.put(12, 6, Instrument{Kind: "roster", Columns: []string{"health", "label.site", "model", "headspace", "seen"}})
	return b
}

func titled(p *model.Property, m *model.Model) string {
	return value.Clip(cmp.Or(p.Title, strings.ReplaceAll(p.Name, "_", " "))+", "+m.Name, 120)
}

func byName(models []*model.Model) []*model.Model {
	return slices.SortedFunc(slices.Values(models), func(a, b *model.Model) int { return strings.Compare(a.Name, b.Name) })
}

// Lack is something of a board that no model has.
type Lack struct {
	Instrument int    `json:"instrument" doc:"Which instrument, from 0"`
	Key        string `json:"-"`
	Sentence   string `json:"sentence" doc:"What no longer fits, and what there is"`
}

// Unfit says what of a board does not fit the models: a metric, setting or command that
// none of them has.
func Unfit(b *Board, models []*model.Model) []Lack {
	out := []Lack{}
	lacks := func(i int, key, kind, name string, role model.Role) {
		near := ""
		for _, m := range byName(models) {
			if n := m.Nearest(name, role); n != "" && near == "" {
				near = fmt.Sprintf("; did you mean %s?", n)
			}
		}
		out = append(out, Lack{i, fmt.Sprintf("/instruments/%d/%s", i, key), fmt.Sprintf("no model has the %s %s%s", kind, value.Clip(name, 60), near)})
	}
	has := func(name string, role model.Role) bool {
		return slices.ContainsFunc(models, func(m *model.Model) bool {
			p, ok := m.Property(name)
			return ok && p.Role == role
		})
	}
	for i, x := range b.Instruments {
		for _, name := range x.Metrics {
			if !has(name, model.Telemetry) {
				lacks(i, "metrics", "metric", name, model.Telemetry)
			}
		}
		if x.Setting != "" && !has(x.Setting, model.Setting) {
			lacks(i, "setting", "setting", x.Setting, model.Setting)
		}
		if x.Command != "" && !slices.ContainsFunc(models, func(m *model.Model) bool { _, ok := m.Action(x.Command); return ok }) {
			out = append(out, Lack{i, fmt.Sprintf("/instruments/%d/command", i), fmt.Sprintf("no model has the command %s", value.Clip(x.Command, 60))})
		}
	}
	return out
}
