// Package rule reads alarm rules from their files, checks them, and makes them
// ready for the devices of one model.
package rule

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"ullage/core/expr"
	"ullage/core/value"
	"ullage/core/yamldoc"
)

// MaxSource is the largest rule file that is read, in bytes.
const MaxSource = 64 << 10

// Priority is how soon somebody must act.
type Priority string

// The priorities, the most pressing first.
const (
	Urgent Priority = "urgent"
	High   Priority = "high"
	Medium Priority = "medium"
	Low    Priority = "low"
)

// Priorities lists them in order.
var Priorities = []Priority{Urgent, High, Medium, Low}

// Rank returns 1 for urgent to 4 for low, and 5 for anything else.
func (p Priority) Rank() int {
	for i, x := range Priorities {
		if x == p {
			return i + 1
		}
	}
	return len(Priorities) + 1
}

// Rule says when an alarm is raised and when it returns. The YAML keys are the
// JSON names; conditions are written in the language of package expr.
type Rule struct {
	Name          string         `yaml:"rule" json:"rule" pattern:"^[a-z][a-z0-9_]{0,62}$" doc:"Name of the rule" example:"must_too_warm"`
	Models        []string       `yaml:"models" json:"models" minItems:"1" doc:"Models whose devices it watches" example:"[\"tank-probe\"]"`
	Devices       string         `yaml:"devices,omitempty" json:"devices,omitempty" doc:"Selector that narrows the devices further" example:"label.stage == \"fermenting\""`
	Each          string         `yaml:"each,omitempty" json:"each,omitempty" doc:"Label by which the devices are grouped; the rule is then about each group" example:"label.site"`
	Raise         string         `yaml:"raise" json:"raise" doc:"The condition that raises the alarm" example:"must_temp > set.max_temp"`
	Clear         string         `yaml:"clear,omitempty" json:"clear,omitempty" doc:"The condition that lets the alarm return; without it, the opposite of raise, deadband taken into account" example:"must_temp < set.max_temp - 1.5"`
	OnDelay       value.Duration `yaml:"on_delay,omitempty" json:"on_delay,omitempty" doc:"How long the condition must hold before the alarm is raised (ISA-18.2)" example:"10min"`
	Deadband      float64        `yaml:"deadband,omitempty" json:"deadband,omitempty" minimum:"0" doc:"How far back inside the limit the value must come before the alarm returns, in the unit of the left side of the first comparison" example:"1.5"`
	OffDelay      value.Duration `yaml:"off_delay,omitempty" json:"off_delay,omitempty" doc:"How long the value must stay back before the alarm returns (ISA-18.2)" example:"5min"`
	Priority      Priority       `yaml:"priority" json:"priority" enum:"urgent,high,medium,low" doc:"How soon somebody must act"`
	Message       string         `yaml:"message" json:"message" doc:"What the alarm says; expressions in braces are filled in, with their units" example:"{label.tank}: must at {must_temp}, limit {set.max_temp}"`
	Cause         string         `yaml:"cause,omitempty" json:"cause,omitempty" doc:"What most likely lies behind it"`
	Disabled      bool           `yaml:"disabled,omitempty" json:"disabled,omitempty" doc:"A disabled rule raises nothing; its open alarms return"`
	Response      string         `yaml:"response,omitempty" json:"response,omitempty" doc:"What to do about it"`
	RespondWithin value.Duration `yaml:"respond_within,omitempty" json:"respond_within,omitempty" doc:"By when somebody has to have acknowledged" example:"30min"`
	Latch         bool           `yaml:"latch,omitempty" json:"latch,omitempty" doc:"The alarm stays after its condition has gone, until somebody resets it (ISA-18.2)"`
	Suppress      string         `yaml:"suppress,omitempty" json:"suppress,omitempty" doc:"While this is true its alarms are suppressed by design (ISA-18.2): they call nobody" example:"label.stage == \"empty\""`
	Suppresses    []string       `yaml:"suppresses,omitempty" json:"suppresses,omitempty" maxItems:"50" doc:"Rules whose alarms on members of the group are suppressed while this one is raised; for rules with each" example:"[\"probe_silent\"]"`
	Rises         []Rise         `yaml:"rises,omitempty" json:"rises,omitempty" maxItems:"4" doc:"When the priority of an open alarm goes up by itself"`
	Responses     []Response     `yaml:"responses,omitempty" json:"responses,omitempty" maxItems:"10" doc:"What Ullage does by itself while it is raised"`
	// What follows is the service's to say.
	Author string `yaml:"-" json:"author,omitempty" readOnly:"true" doc:"Who made it, if they are engineer for some devices only"`
	Access string `yaml:"-" json:"access,omitempty" readOnly:"true" doc:"What its author reaches, which is and-ed to devices and follows when that changes"`
}

// Rise lets the priority of an open alarm go up by itself: after it was
// unacknowledged for a time, or when the value is far beyond the limit.
type Rise struct {
	To     Priority       `yaml:"to" json:"to" enum:"urgent,high,medium,low" doc:"The priority that it gets"`
	After  value.Duration `yaml:"after,omitempty" json:"after,omitempty" doc:"How long nobody has acknowledged it" example:"30min"`
	Beyond float64        `yaml:"beyond,omitempty" json:"beyond,omitempty" minimum:"0" doc:"How far the value is beyond the limit, in the unit of the left side of the comparison" example:"2"`
}

// Parse reads one rule from YAML and checks what can be checked without a
// model.
func Parse(src []byte) (*Rule, error) {
	r, err := Read(src)
	if err != nil {
		return nil, err
	}
	if err := r.Check(); err != nil {
		return nil, err
	}
	return r, nil
}

// Read reads one rule from YAML and checks nothing but its form. Keys that do
// not exist are refused with their line.
func Read(src []byte) (*Rule, error) {
	r := &Rule{}
	if err := yamldoc.Decode(src, r, "a rule", MaxSource); err != nil {
		return nil, err
	}
	r.plain()
	return r, nil
}

var eachLabel = regexp.MustCompile(`^label\.[a-z][a-z0-9_]*$`)

var ruleName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// Check checks r alone: everything but names, types and units, which depend on
// the model. The error is of type Errors.
func (r *Rule) Check() error {
	wrong := r.form()
	for _, part := range r.conditions() {
		if part.src == "" {
			continue
		}
		if _, found := expr.Parse(part.src); len(found.Errors()) > 0 {
			wrong = append(wrong, &Error{Rule: r.Name, Key: part.key, Findings: found.Errors()})
		}
	}
	for _, x := range r.Responses {
		if _, found := expr.Parse(x.Devices); x.Devices != "" && len(found.Errors()) > 0 {
			wrong = append(wrong, &Error{Rule: r.Name, Key: "responses", Piece: x.Devices, Findings: found.Errors()})
		}
	}
	pieces, bad := r.pieces()
	if bad != nil {
		wrong = append(wrong, bad)
	}
	for _, p := range pieces {
		if _, found := expr.Parse(p.text); p.expr && len(found.Errors()) > 0 {
			wrong = append(wrong, &Error{Rule: r.Name, Key: "message", Piece: p.text, Findings: found.Errors()})
		}
	}
	return wrong.orNil()
}

// form checks everything but the expressions.
func (r *Rule) form() Errors {
	var wrong Errors
	name := cmp.Or(r.Name, "the rule")
	bad := func(is bool, key, format string, args ...any) {
		if is {
			wrong = append(wrong, &Error{Rule: r.Name, Key: key, Sentence: fmt.Sprintf(format, args...)})
		}
	}
	bad(!ruleName.MatchString(r.Name), "rule",
		"a rule is named in small letters, digits and underscores, like must_too_warm; this one is %q", r.Name)
	bad(len(r.Models) == 0, "models", "%s names no models; write models: [tank-probe]", name)
	bad(r.Priority == "", "priority", "%s has no priority; it is urgent, high, medium or low", name)
	bad(r.Priority != "" && r.Priority.Rank() > len(Priorities), "priority", "%s has priority %q; it is urgent, high, medium or low", name, r.Priority)
	bad(r.Message == "", "message", "%s has no message; write what the operator should read", name)
	said := value.Written(r.Message, MaxSource)
	bad(said != "", "message", "the message of %s %s", name, said)
	bad(r.Deadband < 0, "deadband", "%s has a negative deadband; it is a distance", name)
	bad(r.Deadband > 0 && r.Clear != "", "clear",
		"%s has both a deadband and clear; one of them says when the alarm returns", name)
	bad(r.Each != "" && !eachLabel.MatchString(r.Each), "each", "%s, each: %q is no label; write each: label.site",
		name, r.Each)
	bad(len(r.Suppresses) > 0 && r.Each == "", "suppresses", "%s suppresses other alarms, which a rule does that groups devices; write each: label.site", name)
	for _, other := range r.Suppresses {
		bad(other == r.Name, "suppresses", "%s suppresses itself; name other rules", name)
	}
	bad(r.RespondWithin < 0 || r.OnDelay < 0 || r.OffDelay < 0, "on_delay", "%s has a time below zero", name)
	for _, x := range r.Rises {
		bad(x.To.Rank() >= r.Priority.Rank(), "rises", "%s, rises: %q is no higher priority than %q", name, x.To, r.Priority)
		bad((x.After > 0) == (x.Beyond > 0), "rises", "%s, rises: say after, or beyond, and not both", name)
	}
	r.responses(bad)
	bad(r.Raise == "", "raise", "%s has no raise; write the condition, like raise: must_temp > set.max_temp", name)
	return wrong
}

type condition struct{ key, src string }

func (r *Rule) conditions() []condition {
	return []condition{{"devices", r.Devices}, {"raise", r.Raise}, {"clear", r.Clear}, {"suppress", r.Suppress}}
}

// Error is what is wrong with one key of a rule.
type Error struct {
	Rule     string
	Key      string        // of the file: "raise", "message"; "" for the whole
	Sentence string        // "" where Findings say it
	Findings expr.Findings // of the expression in Key
	// Piece is the expression of a message that Findings are about.
	Piece string
}

// Error names the rule and the key.
func (e *Error) Error() string {
	switch {
	case e.Sentence != "":
		return e.Sentence
	case e.Piece != "":
		return fmt.Sprintf("%s, %s: {%s}: %s", e.Rule, e.Key, e.Piece, e.Findings)
	}
	return fmt.Sprintf("%s, %s: %s", e.Rule, e.Key, e.Findings)
}

// Errors are everything that is wrong with a rule.
type Errors []*Error

// Error joins the sentences.
func (e Errors) Error() string {
	parts := make([]string, len(e))
	for i, x := range e {
		parts[i] = x.Error()
	}
	return strings.Join(parts, "; ")
}

func (e Errors) orNil() error {
	if len(e) == 0 {
		return nil
	}
	return e
}

// piece is a part of a message: text, or an expression.
type piece struct {
	text string
	expr bool
}

// pieces cuts a message at its braces.
func (r *Rule) pieces() ([]piece, *Error) {
	var out []piece
	rest := r.Message
	for rest != "" {
		open := strings.IndexByte(rest, '{')
		if open < 0 {
			out = append(out, piece{text: rest})
			break
		}
		close := strings.IndexByte(rest[open:], '}')
		if close < 0 {
			return out, &Error{Rule: r.Name, Key: "message",
				Sentence: fmt.Sprintf("%s, message: the { of %q is not closed", r.Name, rest[open:])}
		}
		if open > 0 {
			out = append(out, piece{text: rest[:open]})
		}
		src := rest[open+1 : open+close]
		out = append(out, piece{src, true})
		rest = rest[open+close+1:]
	}
	return out, nil
}

// Asks returns the rules that r asks about through raised(…).
func (r *Rule) Asks() []string {
	var out []string
	for _, part := range r.conditions() {
		tree, _ := expr.Parse(part.src)
		tree.Calls("raised", func(rule string) {
			if !slices.Contains(out, rule) {
				out = append(out, rule)
			}
		})
	}
	return out
}

// Mentions reports whether r speaks of a name.
func (r *Rule) Mentions(name expr.Name) bool {
	sources := []string{r.Devices, r.Raise, r.Clear, r.Suppress}
	if pieces, bad := r.pieces(); bad == nil {
		for _, p := range pieces {
			if p.expr {
				sources = append(sources, p.text)
			}
		}
	}
	found := false
	for _, src := range sources {
		tree, _ := expr.Parse(src)
		tree.Names(func(n expr.Name, _ expr.Span) { found = found || n == name })
	}
	return found
}

// Compiled is a rule made ready for the devices of one model.
type Compiled struct {
	*Rule
	// Raises says that the alarm is to be raised, Clears that it may return.
	Raises, Clears *expr.Program
	// Suppressing is true while its alarms are suppressed by design; nil for never.
	Suppressing *expr.Program
	// Metric is the metric it is mostly about; "" where there is none.
	Metric string
	// Never says that its condition can never be true; nil where it may.
	Never *Error
	// Warnings are what is worth a word although the rule can be used.
	Warnings []*Error

	looks   []int         // slots that it is judged by
	devices *expr.Program // in a Plan of its own; nil for all devices
	access  *expr.Program // what its author reaches, likewise
	message []said
}

type said struct {
	text string
	expr *expr.Program
}

// For checks and compiles r within the Plan of a model's devices; a rule with each within
// a Plan of its own.
func (r *Rule) For(plan *expr.Plan) (*Compiled, error) {
	c := &Compiled{Rule: r}
	wrong := r.form()
	compile := func(p *expr.Plan, key, piece, src string, purpose expr.Purpose) *expr.Program {
		out, found := p.Compile(src, purpose)
		if len(found) == 0 {
			return out
		}
		e := &Error{Rule: r.Name, Key: key, Piece: piece, Findings: found}
		if out == nil {
			e.Findings = found.Errors()
			wrong = append(wrong, e)
		} else {
			c.Warnings = append(c.Warnings, e)
		}
		return out
	}
	condition, message := expr.ForRule, expr.ForMessage
	if r.Each != "" {
		condition, message = expr.ForGroup, expr.ForGroupMessage
		plan.Schema().Each = strings.TrimPrefix(r.Each, "label.")
	}
	if r.Devices != "" {
		c.devices = compile(expr.NewPlan(plan.Schema()), "devices", "", r.Devices, expr.ForTarget)
	}
	if r.Access != "" {
		c.access = compile(expr.NewPlan(plan.Schema()), "access", "", r.Access, expr.ForAccess)
	}
	if r.Raise != "" {
		c.Raises = compile(plan, "raise", "", r.Raise, condition)
		if c.Raises != nil && !c.Raises.Ever() {
			c.Never = &Error{Rule: r.Name, Key: "raise", Sentence: fmt.Sprintf("%s, raise: this can never be true for %s, by what its model allows", r.Name, plan.Schema().Title)}
			c.Warnings = append(c.Warnings, c.Never)
		}
	}
	if r.Clear != "" {
		c.Clears = compile(plan, "clear", "", r.Clear, condition)
	} else if c.Raises != nil && r.Deadband >= 0 {
		var err error
		if c.Clears, err = c.Raises.WithDeadband(r.Deadband); err != nil {
			wrong = append(wrong, &Error{Rule: r.Name, Key: "deadband", Sentence: fmt.Sprintf("%s: %s", r.Name, err)})
		}
	}
	if r.Suppress != "" {
		c.Suppressing = compile(plan, "suppress", "", r.Suppress, condition)
	}
	pieces, bad := r.pieces()
	if bad != nil {
		wrong = append(wrong, bad)
	}
	for _, p := range pieces {
		x := said{text: p.text}
		if p.expr {
			x.expr = compile(plan, "message", p.text, p.text, message)
		}
		c.message = append(c.message, x)
	}
	if len(wrong) > 0 {
		return nil, wrong
	}
	c.looks = append(slices.Clone(c.Raises.Uses()), c.Clears.Uses()...)
	for _, slot := range c.Raises.Uses() {
		if n := plan.Names()[slot].Name; n.Scope == "" && c.Metric == "" {
			c.Metric = n.Key
		}
	}
	return c, nil
}

// Looks reports whether the rule is judged by any of some slots of its Plan.
func (c *Compiled) Looks(slots []int) bool {
	return slices.ContainsFunc(slots, func(s int) bool { return slices.Contains(c.looks, s) })
}

// Selects returns the Programs that pick the devices, which all have to be true: its
// selector, and what its author reaches.
func (c *Compiled) Selects() []*expr.Program {
	var out []*expr.Program
	for _, p := range []*expr.Program{c.devices, c.access} {
		if p != nil {
			out = append(out, p)
		}
	}
	return out
}

// Say fills in the message for the device of s.
func (c *Compiled) Say(s *expr.State) string {
	var b strings.Builder
	for _, x := range c.message {
		if x.expr == nil {
			b.WriteString(x.text)
			continue
		}
		b.WriteString(x.expr.Say(s))
	}
	return b.String()
}

// Delays returns the on-delay and the off-delay.
func (r *Rule) Delays() (on, off time.Duration) { return r.OnDelay.Std(), r.OffDelay.Std() }

// Names reports whether r is for devices of that model.
func (r *Rule) Names(model string) bool { return slices.Contains(r.Models, model) }

// Same reports whether two rules say the same.
func (r *Rule) Same(o *Rule) bool { return reflect.DeepEqual(r, o) }

// Differences says what differs between two rules, each as "deadband: 0 → 120".
func Differences(was, is *Rule) []string {
	var out []string
	a, b := reflect.ValueOf(was).Elem(), reflect.ValueOf(is).Elem()
	say := func(v reflect.Value) string {
		if v.IsZero() {
			return "none"
		}
		return value.Clip(fmt.Sprint(v.Interface()), 300)
	}
	for i := range a.NumField() {
		key, _, _ := strings.Cut(a.Type().Field(i).Tag.Get("json"), ",")
		if !reflect.DeepEqual(a.Field(i).Interface(), b.Field(i).Interface()) {
			out = append(out, key+": "+say(a.Field(i))+" → "+say(b.Field(i)))
		}
	}
	return out
}

// YAML writes r as a rule file.
func (r *Rule) YAML() []byte { return yamldoc.Encode(r) }

// Loose reads a rule that Read refuses as far as it can be read, key by key, so
// that all of its mistakes can be told at once. The errors are those of its form,
// each with its key; a rule that was read so is never put in force.
func Loose(src []byte) (r *Rule, wrong Errors, err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("the file is not YAML that can be read")
		}
	}()
	var keys yaml.MapSlice
	if err := yamldoc.Decode(src, &keys, "a rule", MaxSource); err != nil {
		return nil, nil, err
	}
	known := Keys()
	r = &Rule{}
	for _, item := range keys {
		key := fmt.Sprint(item.Key)
		if !slices.Contains(known, key) {
			says := "the keys are " + strings.Join(known, ", ")
			if near := value.Nearest(key, known); near != "" {
				says = fmt.Sprintf("did you mean %s?", near)
			}
			wrong = append(wrong, &Error{Key: key, Sentence: fmt.Sprintf("a rule has no %q; %s", value.Clip(key, 60), says)})
			continue
		}
		alone, err := yaml.Marshal(yaml.MapSlice{item})
		if err == nil {
			err = yaml.UnmarshalWithOptions(alone, r, yaml.DisallowUnknownField())
		}
		if err != nil {
			wrong = append(wrong, &Error{Key: key, Sentence: key + ": " + yamldoc.Said(err)})
		}
	}
	r.plain()
	for _, x := range wrong {
		x.Rule = r.Name
	}
	return r, wrong, nil
}

// Keys are the keys of a rule's file.
func Keys() []string { return yamldoc.KeysOf(Rule{}) }
