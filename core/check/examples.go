package check

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/core/yamldoc"
)

// Examples are payloads with what is expected of them, in a file beside the
// model: tank-probe.examples.yaml beside tank-probe.tm.json.
type Examples struct {
	// Model is the file, or the name, of the model; empty for that beside this file.
	Model    string    `yaml:"model" json:"model,omitempty"`
	Examples []Example `yaml:"examples" json:"examples"`
}

// Example is one payload and what comes of it.
type Example struct {
	Name string `yaml:"name" json:"name"`
	// Topic is readings, about, applied, command/NAME or event/NAME; readings where empty.
	Topic string `yaml:"topic" json:"topic,omitempty"`
	// Payload is an object or a list, or the text of a message as it is.
	Payload any `yaml:"payload" json:"payload"`
	// Settings are those in force, by name, for what is computed from them.
	Settings map[string]any `yaml:"settings" json:"settings,omitempty"`
	Labels   map[string]any `yaml:"labels" json:"labels,omitempty"`
	// Gives are the values that are kept, by name: all of them.
	Gives map[string]any `yaml:"gives" json:"gives,omitempty"`
	// Marked are the names that are kept and marked as beyond their range.
	Marked []string `yaml:"marked" json:"marked,omitempty"`
	// Refused are the places that are refused, by JSON pointer, with some words
	// of the reason; "" is the message as a whole.
	Refused map[string]string `yaml:"refused" json:"refused,omitempty"`
}

// Result is what came of one example.
type Result struct {
	Name   string   `json:"name"`
	Passed bool     `json:"passed"`
	Line   int      `json:"line"`
	Wrong  []string `json:"wrong,omitempty" doc:"What came out another way than expected"`
}

// exampleAt is the moment at which examples arrive.
var exampleAt = time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)

// ReadExamples reads a file of examples. Keys that do not exist are refused.
func ReadExamples(src []byte) (x *Examples, err error) {
	x = &Examples{}
	if err := yamldoc.Decode(src, x, "a file of examples", model.MaxSource); err != nil {
		return nil, err
	}
	for i := range x.Examples {
		if x.Examples[i].Name == "" {
			x.Examples[i].Name = fmt.Sprintf("example %d", i+1)
		}
	}
	if len(x.Examples) == 0 {
		return nil, errors.New("there is no example in this file; write examples: and a list of payloads under it")
	}
	return x, nil
}

// Run tries every example on a model.
func (x *Examples) Run(m *model.Model) []Result {
	derivation, _ := Derive(m)
	out := make([]Result, len(x.Examples))
	for i, e := range x.Examples {
		wrong := e.run(m, derivation)
		out[i] = Result{Name: e.Name, Passed: len(wrong) == 0, Wrong: wrong}
	}
	return out
}

// body is the message that an example sends.
func (e *Example) body() ([]byte, error) {
	if s, ok := e.Payload.(string); ok {
		return []byte(s), nil
	}
	return json.Marshal(e.Payload)
}

func (e *Example) run(m *model.Model, derivation *Derivation) []string {
	body, err := e.body()
	if err != nil {
		return []string{"the payload cannot be written as JSON: " + err.Error()}
	}
	got := map[string]value.Value{}
	var refused []model.Finding
	var marked []string
	topic, name, _ := strings.Cut(e.Topic, "/")
	switch topic {
	case "", "readings":
		var c model.Checked
		if m.IsPack(body) {
			c, err = m.Pack(body, "example", exampleAt)
		} else {
			c, err = m.Readings(body, exampleAt)
		}
		all := c.Readings
		if derivation != nil {
			all = append(all, derivation.Compute(c.Readings, func(string, time.Time) (value.Reading, bool) {
				return value.Reading{}, false
			}, e.facts(m))...)
		}
		for _, r := range all {
			got[r.Metric] = r.Value
			if r.Quality&value.BeyondRange != 0 && !slices.Contains(marked, r.Metric) {
				marked = append(marked, r.Metric)
			}
		}
		refused = c.Refused
	case "about":
		got, refused, err = m.About(body)
	case "applied":
		var doc struct {
			Applied map[string]any `json:"applied"`
		}
		if err = json.Unmarshal(body, &doc); err == nil {
			got, refused = m.Fields(doc.Applied, model.Setting)
			for i := range refused {
				refused[i].Pointer = "/applied" + refused[i].Pointer
			}
		}
	case "command":
		_, refused, err = m.Input(name, body)
	case "event":
		_, refused, err = m.CheckEvent(name, body)
	default:
		return []string{fmt.Sprintf("%q is no topic of an example; there are readings, about, applied, command/NAME and event/NAME", e.Topic)}
	}
	if err != nil {
		refused = append(refused, model.Finding{Sentence: err.Error()})
		var p *model.Problem
		if errors.As(err, &p) {
			refused[len(refused)-1].Pointer = p.Pointer
		}
	}
	return e.compare(got, marked, refused)
}

// facts looks up what an example says of settings and labels.
func (e *Example) facts(m *model.Model) func(expr.Name) value.Value {
	return func(n expr.Name) value.Value {
		var x any
		switch n.Scope {
		case "set", "intended":
			if x = e.Settings[n.Key]; x == nil {
				if p, ok := m.Property(n.Key); ok {
					return p.Default
				}
			}
		case "label":
			x = fmt.Sprint(e.Labels[n.Key])
			if e.Labels[n.Key] == nil {
				x = ""
			}
		}
		v, _ := value.FromAny(x)
		return v
	}
}

// compare says what came out another way than the example expects.
func (e *Example) compare(got map[string]value.Value, marked []string, refused []model.Finding) []string {
	var wrong []string
	for _, name := range sortedNames(e.Gives) {
		want, err := value.FromAny(e.Gives[name])
		v, ok := got[name]
		switch {
		case err != nil:
			wrong = append(wrong, fmt.Sprintf("gives: %s is %s", name, err))
		case !ok:
			wrong = append(wrong, fmt.Sprintf("%s was not kept; expected %s", name, want))
		case v != want:
			wrong = append(wrong, fmt.Sprintf("%s is %s; expected %s", name, v, want))
		}
	}
	for _, name := range sortedNames(got) {
		if _, expected := e.Gives[name]; !expected && e.Gives != nil {
			wrong = append(wrong, fmt.Sprintf("%s is %s and is not among what is given", name, got[name]))
		}
	}
	for _, pointer := range sortedNames(e.Refused) {
		found := false
		var instead []string
		for _, r := range refused {
			if r.Pointer == pointer {
				found = found || strings.Contains(r.Sentence, e.Refused[pointer])
				instead = append(instead, r.Sentence)
			}
		}
		where := pointer
		if where == "" {
			where = "the message"
		}
		if len(instead) == 0 {
			wrong = append(wrong, where+" was not refused")
		} else if !found {
			wrong = append(wrong, fmt.Sprintf("%s is refused with %q, which does not say %q", where,
				strings.Join(instead, "; "), e.Refused[pointer]))
		}
	}
	for _, r := range refused {
		if _, expected := e.Refused[r.Pointer]; !expected {
			wrong = append(wrong, fmt.Sprintf("%s: %s", or(r.Pointer, "the message is refused"), r.Sentence))
		}
	}
	for _, name := range e.Marked {
		if !slices.Contains(marked, name) {
			wrong = append(wrong, name+" was not marked as beyond its range")
		}
	}
	for _, name := range marked {
		if e.Marked != nil && !slices.Contains(e.Marked, name) {
			wrong = append(wrong, name+" was marked as beyond its range")
		}
	}
	return wrong
}

func sortedNames[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Lines tells in which line each example of a file begins.
func Lines(src []byte) []int {
	doc := parseYAML(src)
	var out []int
	if list, ok := doc.find("/examples").(*ast.SequenceNode); ok {
		for i := range list.Values {
			out = append(out, doc.place(fmt.Sprintf("/examples/%d", i)).line)
		}
	}
	return out
}

// examples runs the examples of a folder against its models.
func (c *folder) examples(f File) {
	doc := parseYAML(f.Data)
	x, err := ReadExamples(f.Data)
	if err != nil {
		sentence, at := takePlace(err.Error(), place{1, 1})
		c.add(f.Path, at, "error", "file", "", "%s", sentence)
		return
	}
	m := c.modelOf(f.Path, x.Model)
	if m == nil {
		if !c.broken[nameOf(f.Path, x.Model)] {
			c.add(f.Path, doc.place("/model"), "error", "reference", "",
				"there is no model %s in this folder for these examples", nameOf(f.Path, x.Model))
		}
		return
	}
	for i, r := range x.Run(m) {
		c.report.Examples++
		if !r.Passed {
			c.add(f.Path, doc.place(fmt.Sprintf("/examples/%d", i)), "error", "example", "", "%s: %s", r.Name,
				strings.Join(r.Wrong, "; "))
		}
	}
}

// nameOf is the model that examples are of, by the name of their file where
// they do not say.
func nameOf(file, said string) string {
	name := path.Base(file)
	if said != "" {
		name = path.Base(said)
	}
	for _, end := range []string{".examples.yaml", ".examples.yml", ".tm.json", ".tm.yaml", ".tm.yml"} {
		name = strings.TrimSuffix(name, end)
	}
	return name
}

func (c *folder) modelOf(file, said string) *model.Model {
	name := nameOf(file, said)
	if m := c.models[name]; m != nil {
		return m
	}
	for n, at := range c.modelAt {
		if nameOf(at, "") == name {
			return c.models[n]
		}
	}
	return nil
}
